"""The private database: whose it is, and who gets in."""

from __future__ import annotations

import contextlib
import os
import shutil
import subprocess
import unittest
from dataclasses import replace
from pathlib import Path
from typing import Any
from unittest import mock

import pymysql

from maestoso.cli import database
from maestoso.cli.keys import make_secrets
from maestoso.real_lab import certificate
from maestoso.server.config.options import CERTIFICATE, REPLICA_USER, Options, Secrets, database_socket
from tests import prepared
from tests.e2e.application import until
from tests.ports import free_ports


class Case(unittest.TestCase):
    """A database in memory."""

    def setUp(self) -> None:
        place = prepared.scratch()
        self.options: Options = place.__enter__()
        self.addCleanup(place.__exit__, None, None, None)
        self.secrets: Secrets = make_secrets(self.options)
        self.log = self.options.var / "setup.log"

    def up(self) -> subprocess.Popen[bytes]:
        """Start the server and wait for it."""
        with self.log.open("ab") as log:
            server = subprocess.Popen(database.server_command(self.options), stdout=log, stderr=log)
        self.addCleanup(server.wait)
        self.addCleanup(server.terminate)

        def ready() -> bool:
            if server.poll() is not None:
                raise AssertionError(self.log.read_text())
            return database.answers(self.options, self.secrets)

        until(ready, "the database")
        return server

    def assert_closed(self, server: subprocess.Popen[bytes]) -> None:
        """Nobody but its owner gets in, and it is not the system's root."""
        accounts = database.accounts(self.options, self.secrets)
        self.assertEqual({host for _, host, _ in accounts}, {"localhost"})
        self.assertEqual([name for name, _, bare in accounts if bare], [])
        self.assertEqual({name for name, _, _ in accounts}, {"root", "mariadb.sys", self.options.db_user})
        self.assertNotEqual(Path(f"/proc/{server.pid}").stat().st_uid, 0)
        listening = (
            Path(f"/proc/{server.pid}/net/tcp").read_text() + Path(f"/proc/{server.pid}/net/tcp6").read_text()
        )
        inodes = set()
        for fd in os.listdir(f"/proc/{server.pid}/fd"):
            with contextlib.suppress(
                FileNotFoundError
            ):  # closed meanwhile, as a port that is listened on is not
                inodes.add(os.readlink(f"/proc/{server.pid}/fd/{fd}"))
        ports = [line for line in listening.splitlines()[1:] if f"socket:[{line.split()[9]}]" in inodes]
        self.assertEqual(ports, [])
        place = database.home(self.options.var)
        for path in (place, place / "data", place / "files", place / "init.sql"):
            self.assertEqual(path.resolve().stat().st_mode & 0o077, 0, path)
        self.assertEqual(database_socket(self.options.var).parent.stat().st_mode & 0o077, 0)


class Followed(Case):
    """With a port for standbys."""

    def connect(self, user: str, password: str, **more: Any) -> str:
        """Over the network; what the server says the line is encrypted with, or the end of what refused it."""
        given = {"host": "localhost", "port": self.options.replication_port, "connect_timeout": 10, **more}
        try:
            with pymysql.connect(user=user, password=password, **given) as line, line.cursor() as cursor:
                cursor.execute("SHOW STATUS LIKE 'Ssl_version'")
                return str(cursor.fetchone()[1])
        except (pymysql.MySQLError, OSError) as error:
            return f"{type(error).__name__}: {error}"

    def test_only_the_account_of_standbys_gets_in_by_tls_with_this_certificate_and_may_do_nothing_else(
        self,
    ) -> None:
        self.options = replace(self.options, replication_port=free_ports(self.options, sites=0).web_port)
        database.initialise(self.options, self.secrets, self.log)
        self.up()
        password = self.secrets.replica_password
        trusted: dict[str, Any] = {"ssl_ca": str(self.options.var / CERTIFICATE), "ssl_verify_identity": True}
        self.assertRegex(self.connect(REPLICA_USER, password, **trusted), r"^TLSv1\.[23]$")
        self.assertIn("denied", self.connect(REPLICA_USER, "wrong", **trusted))
        self.assertIn("Error", self.connect(REPLICA_USER, password, ssl_disabled=True))
        other = self.options.var / "other.pem"
        certificate.write(other, "other", "localhost")
        self.assertIn(
            "certificate", self.connect(REPLICA_USER, password, ssl_ca=str(other), ssl_verify_identity=True)
        )
        for user, known in (
            (self.options.db_user, self.secrets.db_password),
            ("root", self.secrets.db_root_password),
        ):
            self.assertIn("denied", self.connect(user, known, **trusted), user)
        line = pymysql.connect(
            host="localhost", port=self.options.replication_port, user=REPLICA_USER, password=password, **trusted
        )  # fmt: skip
        with line, line.cursor() as cursor, self.assertRaises(pymysql.MySQLError):
            cursor.execute(f"SELECT 1 FROM {self.options.db_name}.anything")
        with database.administrator(self.options, self.secrets) as there, there.cursor() as cursor:
            cursor.execute(
                "SELECT @@log_bin, @@gtid_strict_mode, @@require_secure_transport, @@binlog_format"
            )
            self.assertEqual(cursor.fetchone(), (1, 1, 1, "ROW"))


class NewAndOld(Case):
    """What a fresh start makes, and what it makes of an older installation."""

    def test_a_new_one_lets_nobody_in_but_the_application_and_one_administrator(self) -> None:
        database.initialise(self.options, self.secrets, self.log)
        server = self.up()
        self.assert_closed(server)
        with self.assertRaises(pymysql.MySQLError):
            pymysql.connect(
                unix_socket=str(database_socket(self.options.var)), user="root", ssl_disabled=True
            )
        with database.administrator(self.options, self.secrets) as line, line.cursor() as cursor:
            cursor.execute("SELECT @@secure_file_priv, @@local_infile, @@skip_networking")
            folder, infile, deaf = cursor.fetchone()
        self.assertEqual(Path(folder), (database.home(self.options.var) / "files").resolve())
        self.assertEqual((infile, deaf), (0, 1))

    def test_it_leaves_alone_what_another_server_of_the_machine_has_in_a_common_folder(self) -> None:
        # A server removes what it takes for left-overs of its own where it keeps what is temporary.
        common = self.options.var / "common"
        theirs = common / "#sql-temptable-6922-93-37.MAI"
        common.mkdir()
        theirs.touch()
        for path in (common, theirs):
            database._give(path, database._owner())
        self.enterContext(mock.patch.dict(os.environ, TMPDIR=str(common)))
        database.initialise(self.options, self.secrets, self.log)
        self.assertTrue(theirs.exists(), "gone as it was made")
        self.up()
        self.assertTrue(theirs.exists(), "gone as it started")

    def test_an_old_one_is_closed_at_its_next_start_and_keeps_its_data(self) -> None:
        old = self.options.var / "db"
        old.mkdir()
        owner = database._owner()
        database._give(old, owner)
        command = [
            database.program("mariadb-install-db"), "--no-defaults", f"--datadir={old}", f"--tmpdir={old}",
            "--skip-test-db",
            "--auth-root-authentication-method=normal", "--skip-name-resolve", *database._as(owner),
        ]  # fmt: skip
        subprocess.run(command, check=True, capture_output=True)
        statements = (
            "FLUSH PRIVILEGES;\nCREATE DATABASE maestoso;\nCREATE TABLE maestoso.kept (x INT) ENGINE=InnoDB;\n"
            "INSERT INTO maestoso.kept VALUES (7);\nCREATE USER maestoso@'127.0.0.1';\nCREATE USER ''@'%';\n"
        )
        boot = [
            database.program("mariadbd"),
            "--no-defaults",
            f"--datadir={old}",
            f"--tmpdir={old}",
            "--bootstrap",
            *database._as(owner),
        ]
        subprocess.run(boot, input=statements, text=True, check=True, capture_output=True)
        (self.options.var / "db.ready").touch()
        (self.options.var / "db-init.sql").touch()
        database.initialise(self.options, self.secrets, self.log)
        self.assert_closed(self.up())
        line = database._connect(self.options, self.options.db_user, self.secrets.db_password)
        with line, line.cursor() as cursor:
            cursor.execute("SELECT x FROM maestoso.kept")
            self.assertEqual(cursor.fetchall(), ((7,),))
        self.assertFalse(old.exists() or (self.options.var / "db-init.sql").exists())

    def test_a_second_start_makes_nothing_anew(self) -> None:
        database.initialise(self.options, self.secrets, self.log)
        mark = database.home(self.options.var) / "data" / "mine"
        mark.touch()
        database.initialise(self.options, self.secrets, self.log)
        self.assertTrue(mark.exists())

    def test_one_that_was_not_finished_is_begun_anew(self) -> None:
        database.initialise(self.options, self.secrets, self.log)
        place = database.home(self.options.var)
        (place / "ready").unlink()
        (place / "data" / "half").touch()
        database.initialise(self.options, self.secrets, self.log)
        self.assertFalse((place / "data" / "half").exists())

    @unittest.skipUnless(os.geteuid() == 0, "only root can be somebody else")
    def test_where_its_user_may_not_enter_it_lives_elsewhere_and_is_removed_with_the_rest(self) -> None:
        homes = self.options.var.parent / f"{self.options.var.name}-homes"
        self.addCleanup(shutil.rmtree, homes, ignore_errors=True)
        self.options.var.chmod(0o700)
        before, database.SYSTEM_HOMES = database.SYSTEM_HOMES, homes
        self.addCleanup(setattr, database, "SYSTEM_HOMES", before)
        database.initialise(self.options, self.secrets, self.log)
        self.assertTrue(database.home(self.options.var).is_symlink())
        server = self.up()
        self.assert_closed(server)
        server.terminate()
        server.wait()
        database.remove(self.options.var)
        self.assertEqual(list(homes.iterdir()), [])
        self.options.var.mkdir()


if __name__ == "__main__":
    unittest.main()
