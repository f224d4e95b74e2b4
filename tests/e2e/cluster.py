"""A Galera cluster of three MariaDB nodes on loopback, as somebody who administers databases would give one.

Its programs come from Debian's packages: the provider is installed, the scripts that bring a new node its records
are taken out of a package that would start a database of its own.
"""

from __future__ import annotations

import os
import pwd
import shutil
import signal
import subprocess
import tempfile
from contextlib import suppress
from pathlib import Path

import pymysql

from maestoso.cli.database import program
from maestoso.server.config.options import CHARACTERS, ROOT
from tests.e2e.application import until
from tests.ports import free_port

PROVIDER = Path("/usr/lib/galera/libgalera_smm.so")
SCRIPTS = ROOT / "var" / "galera"
PACKAGE = "mariadb-server"
ACCOUNT = "nobody"
"""rsync, as root, would write as somebody else than it should."""


def fetch() -> Path:
    """Have what a cluster takes; returns the folder of the scripts."""
    if not PROVIDER.is_file() or shutil.which("rsync") is None:
        install = ["apt-get", "install", "-y", "--no-install-recommends", "galera-4", "rsync"]
        subprocess.run(install, check=True, stdout=subprocess.DEVNULL)
    scripts = SCRIPTS / "usr" / "bin"
    if not scripts.is_dir():
        SCRIPTS.mkdir(parents=True, exist_ok=True)
        subprocess.run(["apt-get", "download", PACKAGE], cwd=SCRIPTS, check=True, stdout=subprocess.DEVNULL)
        (package,) = SCRIPTS.glob("*.deb")
        subprocess.run(["dpkg-deb", "-x", str(package), str(SCRIPTS)], check=True)
        package.unlink()
    return scripts


class Cluster:
    """Three nodes, each of which can be killed and brought back. Needs root."""

    def __init__(self, password: str) -> None:
        self.password = password
        memory = Path("/dev/shm")
        self.folder = Path(tempfile.mkdtemp(dir=memory if os.access(memory, os.W_OK) else None))
        self.folder.chmod(0o711)
        # Whoever brings a node its records must be able to read the scripts.
        self.scripts = self.folder / "bin"
        shutil.copytree(fetch(), self.scripts, symlinks=True)
        self.ports = [free_port() for _ in range(3)]
        self.talk = [[free_port() for _ in range(3)] for _ in range(3)]
        self.processes: list[subprocess.Popen[bytes] | None] = [None] * 3
        account = pwd.getpwnam(ACCOUNT)
        for number in range(3):
            place = self.folder / str(number)
            (place / "data").mkdir(parents=True)
            for one in (place, place / "data"):
                os.chown(one, account.pw_uid, account.pw_gid)
        made = [program("mariadb-install-db"), "--no-defaults", f"--datadir={self.folder / '0' / 'data'}",
                "--auth-root-authentication-method=normal", "--skip-test-db", "--skip-name-resolve", f"--tmpdir={self.folder / '0'}"]  # fmt: skip
        subprocess.run(made, check=True, capture_output=True, user=ACCOUNT)
        self.start(0, "--wsrep-new-cluster", f"--init-file={self._statements()}")
        for number in (1, 2):
            self.start(number)

    @property
    def hosts(self) -> list[str]:
        """Where each node is."""
        return [f"127.0.0.1:{port}" for port in self.ports]

    def start(self, number: int, *more: str) -> None:
        """Start a node, and wait until it takes part."""
        data, log = self.folder / str(number) / "data", self.folder / str(number) / "log.err"
        group, transfer, records = self.talk[number]
        everybody = ",".join(f"127.0.0.1:{talk[0]}" for talk in self.talk)
        options = (
            f"base_port={group};gmcast.listen_addr=tcp://127.0.0.1:{group};"
            f"ist.recv_addr=127.0.0.1:{transfer};gcache.size=64M"
        )
        command = [
            program("mariadbd"), "--no-defaults", f"--datadir={data}", f"--socket={data.parent / 's'}",
            f"--port={self.ports[number]}", f"--tmpdir={data.parent}", "--bind-address=127.0.0.1", "--skip-name-resolve",
            "--character-set-server=utf8mb4", "--collation-server=utf8mb4_uca1400_nopad_as_cs",
            "--transaction-isolation=READ-COMMITTED", "--max-connections=200", f"--log-error={log}",
            "--innodb-autoinc-lock-mode=2", "--innodb-flush-log-at-trx-commit=2", "--innodb-doublewrite=0",
            "--innodb-log-file-size=32M", "--innodb-buffer-pool-size=64M", "--binlog-format=ROW",
            "--wsrep-on=ON", f"--wsrep-provider={PROVIDER}", "--wsrep-cluster-name=maestoso",
            f"--wsrep-cluster-address=gcomm://{everybody}", f"--wsrep-node-address=127.0.0.1:{group}",
            f"--wsrep-provider-options={options}", "--wsrep-sst-method=rsync",
            f"--wsrep-sst-receive-address=127.0.0.1:{records}", *more,
        ]  # fmt: skip
        path = f"{self.scripts}:{os.environ['PATH']}"
        self.processes[number] = subprocess.Popen(
            command, env={**os.environ, "PATH": path}, user=ACCOUNT, cwd=data,
            stdout=subprocess.DEVNULL, stderr=subprocess.DEVNULL, start_new_session=True,
        )  # fmt: skip
        until(lambda: self.takes_part(number), f"node {number} to take part; see {log}")

    def _statements(self) -> Path:
        file = self.folder / "0" / "init.sql"
        file.write_text(
            f"CREATE DATABASE IF NOT EXISTS maestoso {CHARACTERS};\n"
            f"CREATE USER IF NOT EXISTS maestoso@'127.0.0.1' IDENTIFIED BY '{self.password}';\n"
            "GRANT ALL ON maestoso.* TO maestoso@'127.0.0.1';\n"
        )
        file.chmod(0o644)
        return file

    def takes_part(self, number: int) -> bool:
        """Whether a node answers and is one of the group."""
        try:
            line = pymysql.connect(
                host="127.0.0.1", port=self.ports[number], user="maestoso", password=self.password,
                database="maestoso", ssl_disabled=True, connect_timeout=2,
            )  # fmt: skip
            with line, line.cursor() as cursor:
                cursor.execute("SHOW STATUS LIKE 'wsrep_local_state_comment'")
                return cursor.fetchone() == ("wsrep_local_state_comment", "Synced")
        except pymysql.MySQLError:
            return False

    def kill(self, number: int) -> None:
        """kill -9 of a node, and of whatever it started."""
        process = self.processes[number]
        assert process is not None
        with suppress(ProcessLookupError):
            os.killpg(process.pid, signal.SIGKILL)
        process.wait()

    def close(self) -> None:
        """End all of it, and remove what it kept."""
        for number, process in enumerate(self.processes):
            if process is not None:
                self.kill(number)
        shutil.rmtree(self.folder, ignore_errors=True)
