"""The file of settings: each fault is named, with what would be right."""

from __future__ import annotations

import tempfile
import unittest
from pathlib import Path

from maestoso.agents.libvirt.settings import Settings, SettingsFault, read

GOOD = """
site = "QUA"
folder = "/var/lib/maestoso-agent"
[networks.app]
bridge = "br-app"
prefixes = ["192.0.2.0/24"]
gateways = ["192.0.2.1"]
[storage.fast]
folder = "/srv/fast"
[sites.HIL]
address = "https://agent.hil.example:8700"
secret_file = "SECRET"
[front_doors]
interface = "eno1"
addresses = ["203.0.113.0/28"]
[front_doors.own.web]
address = "203.0.113.10"
ports = ["tcp/443"]
machine = "web-01"
"""


class Reading(unittest.TestCase):
    """A file that is right, and what is said of others."""

    def setUp(self) -> None:
        folder = tempfile.TemporaryDirectory()
        self.addCleanup(folder.cleanup)
        self.file = Path(folder.name) / "agent.toml"
        self.secret = Path(folder.name) / "secret"
        self.secret.write_text("0123456789abcdef" * 4)

    def settings(self, text: str) -> Settings:
        """Read a text."""
        self.file.write_text(text.replace("SECRET", str(self.secret)))
        return read(self.file)

    def test_all_of_it_is_read(self) -> None:
        found = self.settings(GOOD)
        self.assertEqual((found.site, found.uri, found.port), ("QUA", "qemu:///system", 8700))
        self.assertEqual(found.networks["app"].gateways, ("192.0.2.1",))
        self.assertIsNone(found.networks["app"].dhcp_hosts)
        told = 'dhcp = true\ndhcp_hosts = "/srv/hosts"\n[storage.fast]'
        given = self.settings(GOOD.replace("[storage.fast]", told)).networks["app"]
        self.assertEqual((given.dhcp, given.dhcp_hosts), (True, Path("/srv/hosts")))
        self.assertEqual(found.sites["HIL"].secret, "0123456789abcdef" * 4)
        assert found.front_doors is not None
        own = found.front_doors.own["web"]
        self.assertEqual(
            (found.front_doors.interface, own["machine"], own["sources"]), ("eno1", "web-01", [])
        )
        self.assertIsNone(self.settings(GOOD.split("[front_doors]")[0]).front_doors)
        self.assertEqual((found.lab, self.settings("lab = true" + GOOD).lab), (False, True))

    def test_faults_are_named(self) -> None:
        self.secret.write_text("short")
        for wrong, right, said in (
            ('site = "QUA"', 'site = "qua"', "site is 'qua'"),
            ('site = "QUA"\n', "", "site is missing"),
            ('folder = "/var/lib/maestoso-agent"', "folder = 7", "folder is missing"),
            ('bridge = "br-app"', "", "networks.app.bridge is missing"),
            ("192.0.2.0/24", "192.0.2.0/33", "networks.app.prefixes"),
            ("192.0.2.1", "one", "networks.app.gateways"),
            (
                "[storage.fast]",
                'dhcp_hosts = "/srv/hosts"\n[storage.fast]',
                "dhcp_hosts is of no use without dhcp",
            ),
            ("[networks.app]", "ports = 1\n[networks.app]", "ports is no setting"),
            ("[networks.app]", "port = 99999\n[networks.app]", "port is 99999"),
            ("[storage.fast]", "[storage]", "storage is no table of tables"),
            ("site =", "site ==", "is not TOML"),
            ("site =", "lab = 1\nsite =", "lab is 1. Give true"),
            ('interface = "eno1"', "", "front_doors.interface is missing"),
            ('addresses = ["203.0.113.0/28"]', "", "203.0.113.10 is in none of front_doors.addresses"),
            ("203.0.113.0/28", "203.0.113.0/99", "front_doors.addresses"),
            ("203.0.113.10", "203.0.113.99", "front_doors.own.web.address"),
            ("tcp/443", "tcp/70000", "is no port"),
            ("tcp/443", "443", "'443' is no port. Write it as tcp/443."),
            ('machine = "web-01"', "", "front_doors.own.web.machine is missing"),
            ('machine = "web-01"', 'machine = "web-01"\nsources = ["here"]', "front_doors.own.web.sources"),
            ("", "", "sites.HIL.secret_file"),
        ):
            with self.subTest(said), self.assertRaises(SettingsFault) as caught:
                self.settings(GOOD.replace(wrong, right, 1))
            self.assertIn(said, str(caught.exception))
        self.file.unlink()
        with self.assertRaisesRegex(SettingsFault, "cannot be read"):
            read(self.file)


if __name__ == "__main__":
    unittest.main()
