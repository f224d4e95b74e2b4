"""The units that ``./maestoso install`` writes: which, in what order, with what rights."""

from __future__ import annotations

import contextlib
import io
import shutil
import subprocess
import sys
import tempfile
import tomllib
import unittest
from dataclasses import fields, replace
from pathlib import Path

from maestoso.cli import services
from maestoso.cli.keys import make_secrets
from maestoso.cli.processes import Processes
from maestoso.server.config.options import USUAL_FILE, Options

MOST_EXPOSED = 1.5
"""Of ten, as systemd judges it: 0 is what can do nothing at all."""


class Units(unittest.TestCase):
    """For several installations."""

    def setUp(self) -> None:
        folder = tempfile.TemporaryDirectory()
        self.addCleanup(folder.cleanup)
        self.folder = Path(folder.name)
        self.options = replace(Options(), var=self.folder / "var")

    def units(self, **given: object) -> dict[str, str]:
        """Of an installation with these settings."""
        return services.units(replace(self.options, **given), sys.executable, USUAL_FILE)  # type: ignore[arg-type]

    def test_there_is_one_for_every_process(self) -> None:
        for given in ({}, {"plain_port": 80}, {"db_host": "192.0.2.7"}):
            options = replace(self.options, **given)  # type: ignore[arg-type]
            processes = Processes(options, make_secrets(options), practice=False)
            self.assertEqual(set(services.names(options)), {one.name for one in processes.programs()})
            for name in services.names(options):
                text = self.units(**given)[services.service(name)]
                self.assertIn(f"-m maestoso.cli run {name}\n", text)
                self.assertIn(services.service(name), self.units(**given)[services.TARGET])

    def test_tables_come_after_the_database_and_before_everybody_else(self) -> None:
        units = self.units()
        self.assertIn("After=maestoso-mariadb.service network-online.target\nRequires=maestoso-mariadb.service",
                      units[services.TABLES])  # fmt: skip
        self.assertIn(f"Requires={services.TABLES}", units["maestoso-engine.service"])
        self.assertNotIn("Requires=", units["maestoso-mariadb.service"])
        self.assertNotIn("maestoso-mariadb.service", "".join(self.units(db_host="192.0.2.7").values()))

    def test_only_a_port_below_1024_gives_a_right(self) -> None:
        self.assertIn("CapabilityBoundingSet=\n", self.units(web_port=8443)["maestoso-web.service"])
        units = self.units(web_port=443)
        self.assertIn("AmbientCapabilities=CAP_NET_BIND_SERVICE\n", units["maestoso-web.service"])
        self.assertNotIn("CAP_NET_BIND_SERVICE", units["maestoso-engine.service"])
        self.assertIn("RestrictAddressFamilies=AF_UNIX\n", units["maestoso-mariadb.service"])

    def test_each_may_write_where_it_must(self) -> None:
        text = self.units(backup_folder="/mnt/backups", audit_anchor="/mnt/anchor/heads")[
            "maestoso-keeper.service"
        ]
        self.assertIn(f"ReadWritePaths={self.options.var} /mnt/backups /mnt/anchor\n", text)

    def installed(self) -> Path:
        """What ``--to`` writes, and says."""
        with contextlib.redirect_stdout(io.StringIO()) as said:
            services.install(Options(), USUAL_FILE, self.folder)
        self.assertIn("systemctl enable --now maestoso.target", said.getvalue())
        return self.folder

    def test_files_are_written_below_a_folder_and_settings_that_are_there_are_kept(self) -> None:
        root = self.installed()
        settings = root / "etc/maestoso/maestoso.toml"
        known = {field.name for field in fields(Options)}
        text = settings.read_text()
        self.assertLessEqual(set(tomllib.loads(text)), known)
        everything = tomllib.loads("\n".join(line[2:] if " = " in line and line[:2] == "# " else line
                                             for line in text.splitlines()))  # fmt: skip
        self.assertLessEqual(set(everything), known)
        self.assertGreater(len(everything), 6)
        settings.write_text('var = "/elsewhere"\n')
        self.installed()
        self.assertEqual(settings.read_text(), 'var = "/elsewhere"\n')
        self.assertIn("su maestoso maestoso", (root / "etc/logrotate.d/maestoso").read_text())

    @unittest.skipUnless(shutil.which("systemd-analyze"), "systemd is not installed on this machine")
    def test_systemd_finds_nothing_wrong_with_them_and_little_exposed(self) -> None:
        place = self.installed() / "etc/systemd/system"
        files = [str(file) for file in sorted(place.iterdir())]
        environment = {"SYSTEMD_UNIT_PATH": f"{place}:", "PATH": "/usr/bin:/bin"}
        done = subprocess.run(
            ["systemd-analyze", "verify", "--man=no", *files],
            env=environment,
            capture_output=True,
            text=True,
            check=False,
        )
        self.assertEqual((done.returncode, done.stderr), (0, ""))
        for file in [file for file in files if file.endswith(".service")]:
            judged = subprocess.run(
                ["systemd-analyze", "security", "--offline=yes", f"--threshold={MOST_EXPOSED * 10:.0f}", file],
                env=environment, capture_output=True, text=True, check=False,
            )  # fmt: skip
            self.assertEqual(judged.returncode, 0, judged.stdout[-200:])


if __name__ == "__main__":
    unittest.main()
