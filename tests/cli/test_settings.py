"""Where settings come from, and what is refused of how an installation shows itself."""

from __future__ import annotations

import tempfile
import unittest
from dataclasses import replace
from datetime import timedelta
from pathlib import Path
from typing import Any

from maestoso.engine.clock import SystemClock
from maestoso.real_lab import certificate
from maestoso.server.config import exposure
from maestoso.server.config.options import SETTINGS, Options, database_hosts, read_options

HOST = "maestoso.example"


class Case(unittest.TestCase):
    """A folder of its own."""

    def setUp(self) -> None:
        folder = tempfile.TemporaryDirectory()
        self.addCleanup(folder.cleanup)
        self.folder = Path(folder.name)

    def file(self, text: str) -> Path:
        """A settings file."""
        (self.folder / "maestoso.toml").write_text(text, encoding="utf-8")
        return self.folder / "maestoso.toml"

    def read(self, text: str, **more: str) -> Options:
        """What is read from such a file, with these variables besides."""
        return read_options({SETTINGS: str(self.file(text)), **more})


class OneFile(Case):
    """TOML, with variables before it."""

    def test_every_kind_of_setting_is_read_and_a_variable_goes_before_the_file(self) -> None:
        text = 'web_port = 8443\npublic_address = "https://maestoso.example"\ndebug = true\nvar = "data"\n'
        found = self.read(text, MAESTOSO_WEB_PORT="9443")
        self.assertEqual(
            (found.web_port, found.public_address, found.debug), (9443, "https://maestoso.example", True)
        )
        self.assertEqual(found.var, self.folder / "data", "a path is seen from the file that names it")
        self.assertEqual(found.site_port, Options().site_port)

    def test_without_a_file_all_is_as_by_default(self) -> None:
        self.assertEqual(read_options({SETTINGS: ""}), Options())

    def test_what_is_wrong_is_named_with_the_file_and_the_setting(self) -> None:
        for text, said in (
            ("web_prot = 1\n", "there is no setting 'web_prot'. Is web_port meant?"),
            ("nonsense = 1\n", "there is no setting 'nonsense'. docs/settings.md lists them."),
            ('web_port = "8443"\n', "web_port is '8443'; it must be a whole number."),
            ("web_port = -1\n", "web_port is -1; it must be a whole number."),
            ("web_port = true\n", "web_port is True; it must be a whole number."),
            ("debug = 1\n", "debug is 1; it must be true or false."),
            ("listen = 1\n", "listen is 1; it must be a text in quotes."),
            ("[web]\nport = 1\n", "there is no setting 'web'"),
            ("web_port = \n", "is not TOML"),
        ):
            with self.subTest(text), self.assertRaises(ValueError) as caught:
                self.read(text)
            self.assertIn(said, str(caught.exception))
            self.assertIn("maestoso.toml", str(caught.exception))

    def test_a_file_that_is_named_and_is_not_there_is_not_passed_over(self) -> None:
        with self.assertRaises(ValueError) as caught:
            read_options({SETTINGS: str(self.folder / "none.toml")})
        self.assertIn("cannot be read", str(caught.exception))


class Shown(Case):
    """What would carry passwords in clear is refused; what only runs out is said."""

    def certified(self, *names: str, good_for: timedelta = timedelta(days=90)) -> dict[str, Any]:
        """The two settings of a certificate for these names."""
        file = self.folder / "both.pem"
        certificate.write(file, "test", *names, good_for=good_for)
        return {"certificate": str(file), "certificate_key": str(file)}

    def faults(self, **given: Any) -> list[tuple[str, bool]]:
        """Which settings are wrong, and whether that stops a start."""
        found = exposure.faults(replace(Options(), **given), SystemClock().now())
        for fault in found:
            self.assertTrue(fault.sentence.endswith(".") and fault.remedy.endswith("."), fault)
        return [(fault.setting, fault.stop) for fault in found]

    def test_on_this_machine_alone_nothing_is_wanted(self) -> None:
        self.assertEqual(self.faults(), [])
        self.assertEqual(self.faults(public_address="http://localhost:8470"), [])

    def test_the_network_gets_tls_or_a_proxy_that_has_it_and_a_name(self) -> None:
        public, here = f"https://{HOST}", {"listen": "0.0.0.0"}
        self.assertEqual(self.faults(**here), [("listen", True), ("public_address", True)])
        self.assertEqual(
            self.faults(**here, public_address=public), [("public_address", True), ("listen", True)]
        )
        self.assertEqual(self.faults(**here, public_address=public, trusted_proxies="192.0.2.1"), [])
        self.assertEqual(self.faults(**here, public_address=public, **self.certified(HOST)), [])
        self.assertEqual(self.faults(**here, **self.certified(HOST)), [("public_address", True)])
        self.assertEqual(self.faults(public_address=f"http://{HOST}"), [("public_address", True)])

    def test_what_is_wrong_with_mail_is_said_and_stops_no_start(self) -> None:
        good = {"mail_server": "mail.example:587", "mail_from": "maestoso@tidewell.example"}
        self.assertEqual(self.faults(**good), [])
        for wrong, setting in (
            ({"mail_server": "mail.example"}, "mail_server"), ({"mail_server": "mail.example:0"}, "mail_server"), ({"mail_from": ""}, "mail_from"),
            ({"mail_security": "ssl"}, "mail_security"), ({"mail_security": "none", "mail_user": "m"}, "mail_security"),
            ({"mail_password_file": "/nowhere"}, "mail_password_file"),
        ):  # fmt: skip
            self.assertEqual(self.faults(**(good | wrong)), [(setting, False)], wrong)

    def test_addresses_that_are_none(self) -> None:
        for address in (
            "maestoso.example",
            "ftp://a.example",
            "https://",
            "https://a.example:x",
            "https://a.example/under",
        ):
            with self.subTest(address):
                self.assertEqual(self.faults(public_address=address)[0], ("public_address", True))
        self.assertEqual(self.faults(listen="everywhere"), [("listen", True)])
        self.assertEqual(self.faults(trusted_proxies="proxy.example"), [("trusted_proxies", True)])
        self.assertEqual(self.faults(plain_port=80), [("plain_port", True)])
        self.assertEqual(self.faults(log_format="xml"), [("log_format", True)])

    def test_a_certificate_that_does_not_fit_stops_and_one_that_ends_is_said(self) -> None:
        public = {"public_address": f"https://{HOST}"}
        self.assertEqual(self.faults(**public, **self.certified("*.example")), [])
        self.assertEqual(self.faults(**public, **self.certified("other.example")), [("certificate", False)])
        self.assertEqual(self.faults(**public, **self.certified("*.a.example")), [("certificate", False)])
        soon = self.certified(HOST, good_for=timedelta(days=5))
        self.assertEqual(self.faults(**public, **soon), [("certificate", False)])
        over = self.certified(HOST, good_for=timedelta(minutes=-1))
        self.assertEqual(self.faults(**public, **over), [("certificate", False)])
        alone = {"certificate": over["certificate"]}
        self.assertEqual(self.faults(**public, **alone), [("certificate_key", True)])
        gone = {"certificate": "/nowhere.pem", "certificate_key": "/nowhere.pem"}
        self.assertEqual(self.faults(**public, **gone), [("certificate", True)])
        (self.folder / "empty.pem").touch()
        empty = {
            "certificate": str(self.folder / "empty.pem"),
            "certificate_key": str(self.folder / "empty.pem"),
        }
        self.assertEqual(self.faults(**public, **empty), [("certificate", True)])

    def test_the_key_of_another_certificate_is_found_out(self) -> None:
        one = self.certified(HOST)
        certificate.write(self.folder / "other.pem", "other", HOST)
        found = self.faults(certificate=one["certificate"], certificate_key=str(self.folder / "other.pem"))
        self.assertEqual(found, [("certificate", True)])

    def test_a_database_elsewhere_is_spoken_to_with_tls(self) -> None:
        self.assertEqual(self.faults(db_host="127.0.0.1"), [])
        self.assertEqual(self.faults(db_host="192.0.2.7"), [("db_ca", True)])
        self.assertEqual(self.faults(db_host="192.0.2.7", db_ca="/nowhere.pem"), [("db_ca", True)])

    def test_several_hosts_of_one_database(self) -> None:
        for text, found in (
            ("", []),
            ("db.example", [("db.example", 3306)]),
            ("one.example, two.example:3307", [("one.example", 3306), ("two.example", 3307)]),
            ("2001:db8::7", [("2001:db8::7", 3306)]),
            ("[2001:db8::7]:3307,", [("2001:db8::7", 3307)]),
        ):
            with self.subTest(text):
                self.assertEqual(database_hosts(replace(Options(), db_host=text)), found)
        # One that is elsewhere is enough to want TLS.
        self.assertEqual(self.faults(db_host="127.0.0.1, 192.0.2.7"), [("db_ca", True)])
        self.assertEqual(self.faults(db_host="127.0.0.1:x"), [("db_host", True)])

    def test_what_runs_here_and_the_broker_are_named_rightly(self) -> None:
        self.assertEqual(exposure.processes_here(Options()), exposure.PROCESSES)
        self.assertEqual(
            exposure.processes_here(replace(Options(), processes="engine, workers")), ("engine", "workers")
        )
        self.assertEqual(self.faults(processes="engine, wokers"), [("processes", True)])
        self.assertEqual(self.faults(broker="redis://queue.example:6379/0"), [])
        self.assertEqual(self.faults(broker="queue.example"), [("broker", True)])
        # Without one it works, late.
        self.assertEqual(self.faults(processes="workers", db_host="127.0.0.1"), [("broker", False)])

    def test_where_programs_of_this_machine_find_the_web_server(self) -> None:
        for listen, address in (
            ("127.0.0.1", "http://127.0.0.1:8470"), ("0.0.0.0", "http://127.0.0.1:8470"), ("::", "http://[::1]:8470"),
            ("192.0.2.9", "http://192.0.2.9:8470"),
        ):  # fmt: skip
            self.assertEqual(exposure.own_address(replace(Options(), listen=listen)), address)
        named = replace(Options(), public_address="https://Maestoso.example:8443")
        self.assertIn("maestoso.example", exposure.hosts(named))
        # It is asked there by programs of this machine, whatever its name.
        self.assertIn("192.0.2.9", exposure.hosts(replace(named, listen="192.0.2.9")))
        self.assertNotIn("0.0.0.0", exposure.hosts(replace(named, listen="0.0.0.0")))


if __name__ == "__main__":
    unittest.main()
