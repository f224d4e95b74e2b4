"""Everything that runs, under one supervisor."""

from __future__ import annotations

import contextlib
import itertools
import os
import shlex
import signal
import socket
import subprocess
import sys
import time
import urllib.error
import urllib.request
from collections.abc import Callable
from dataclasses import fields, replace
from http import HTTPStatus
from pathlib import Path

from maestoso.cli import database
from maestoso.cli.stages import StageFailed
from maestoso.practice.scenario import Scenario
from maestoso.server.config.options import Options, Secrets, variable

LONGEST_START_S = 60.0
LONGEST_STOP_S = 25.0


THERE = (HTTPStatus.OK, HTTPStatus.SERVICE_UNAVAILABLE)
"""What a practice site answers whose process is there: the second one was switched off in the lab."""


class Processes:
    """The processes of one installation. ``practice`` adds the practice sites of the scenario."""

    def __init__(self, options: Options, secrets: Secrets, *, practice: bool, scratch: bool = False) -> None:
        self.options = options
        self.secrets = secrets
        self.scratch = scratch
        self.sites = Scenario(options.scenario).site_codes() if practice else ()
        self.config = options.var / "run" / "supervisord.conf"
        self.pid_file = options.var / "run" / "supervisord.pid"
        self.logs = options.var / "log"

    # --- what there is ---

    def ports(self) -> dict[str, int]:
        """The ports that are needed, by what they are for."""
        sites = {f"site_port (+{i}, {code})": self.site_port(code) for i, code in enumerate(self.sites)}
        own = {name: getattr(self.options, name) for name in ("web_port", "db_port", "practice_port")}
        return {**own, **sites}

    def site_port(self, code: str) -> int:
        """The port of a practice site."""
        return self.options.site_port + self.sites.index(code)

    def environment(self) -> dict[str, str]:
        """The environment of every process: the options, spelt out."""
        given = {variable(f.name): str(getattr(self.options, f.name)) for f in fields(self.options)}
        return {
            **os.environ,
            **given,
            "DJANGO_SETTINGS_MODULE": "maestoso.server.config.settings",
            "PYTHONUNBUFFERED": "1",
            "MAESTOSO_SITE_TOKEN": self.secrets.site_token,
            "MAESTOSO_ENGINE_NAME": f"engine of {self.secrets.instance}",
        }

    def taken_ports(self) -> list[str]:
        """A sentence for every port that another program holds."""
        said = []
        for name, port in self.ports().items():
            with socket.socket() as probe:
                probe.setsockopt(socket.SOL_SOCKET, socket.SO_REUSEADDR, 1)
                try:
                    probe.bind(("127.0.0.1", port))
                except OSError:
                    setting = variable(name.split(" ", maxsplit=1)[0])
                    said.append(
                        f"Port {port} is taken by another program. "
                        f"Stop that program, or set {setting} to a free port."
                    )
        return said

    def running(self) -> int | None:
        """The supervisor's process number while it runs."""
        try:
            pid = int(self.pid_file.read_text())
            os.kill(pid, 0)
            command = Path(f"/proc/{pid}/cmdline").read_bytes()
        except (OSError, ValueError):
            return None
        # The number may have been given to another process since.
        return pid if str(self.config).encode() in command else None

    # --- starting and stopping ---

    def start_supervisor(self) -> None:
        """Start the supervisor with database and practice sites; the rest when its turn comes."""
        self.logs.mkdir(parents=True, exist_ok=True)
        self.config.parent.mkdir(parents=True, exist_ok=True)
        self.config.touch(mode=0o600)
        self.config.write_text(self._configuration(), encoding="utf-8")
        with (self.logs / "supervisord.out").open("ab") as out:
            subprocess.Popen(
                [str(Path(sys.executable).parent / "supervisord"), "-n", "-c", str(self.config)],
                stdout=out, stderr=out, stdin=subprocess.DEVNULL, env=self.environment(),
                # Ctrl+C goes to the launcher alone, which then stops the rest in order.
                start_new_session=True,
            )  # fmt: skip
        self.wait_for("The database", lambda: database.answers(self.options, self.secrets), "mariadb")
        for code in self.sites:
            url = f"http://127.0.0.1:{self.site_port(code)}/v1/capabilities"
            token = {"Authorization": f"Bearer {self.secrets.site_token}"}
            self.wait_for(
                f"Practice site {code}", lambda u=url, t=token: answers(u, t, THERE), f"site-{code}"
            )

    def control(self, *arguments: str) -> str:
        """Tell the supervisor something; returns what it said."""
        done = subprocess.run(
            [str(Path(sys.executable).parent / "supervisorctl"), "-c", str(self.config), *arguments],
            capture_output=True, text=True, check=False,
        )  # fmt: skip
        return done.stdout + done.stderr

    def wait_for(self, what: str, ready: Callable[[], bool], log: str) -> None:
        """Wait until ``ready``. Raises StageFailed naming the log."""
        until = time.monotonic() + LONGEST_START_S
        while not ready():
            if time.monotonic() > until:
                raise StageFailed(f"{what} did not come up. See {self.logs / f'{log}.log'}.")
            time.sleep(0.05)

    def start_application(self) -> None:
        """Start engine and web server and wait until pages are served."""
        self.control("start", "engine", "web")
        self.wait_for("The web server", lambda: answers(f"{self.address}/api/v1/session"), "web")

    @property
    def address(self) -> str:
        """Where the application is."""
        return f"http://127.0.0.1:{self.options.web_port}"

    def stop(self) -> bool:
        """Stop everything that the supervisor started. False when nothing was running."""
        pid = self.running()
        if pid is None:
            return False
        with contextlib.suppress(ProcessLookupError):
            os.kill(pid, signal.SIGTERM)
        until = time.monotonic() + LONGEST_STOP_S
        while self.running() is not None:
            if time.monotonic() > until:
                raise StageFailed(f"The supervisor (process {pid}) does not stop. See {self.logs}.")
            with contextlib.suppress(ChildProcessError):
                os.waitpid(pid, os.WNOHANG)
            time.sleep(0.05)
        return True

    # --- the supervisor's configuration ---

    def _configuration(self) -> str:
        socket_file = database.short_path(self.options.var, "control.sock")
        python = sys.executable
        programs = [
            self._program("mariadb", database.server_command(self.options, scratch=self.scratch), 1, True),
            *(
                self._program(
                    f"site-{code}",
                    [
                        python, "-m", "maestoso.practice", "--scenario", str(self.options.scenario),
                        "--site", code, "--port", str(self.site_port(code)),
                        "--state", str(self.options.var / "sites" / f"{code}.sqlite"), *self._peers(code),
                    ],
                    2,
                    True,
                )
                for code in self.sites
            ),
            self._program("practice", self._practice_command(), 2, not self.scratch),
            self._program("engine", [python, "-m", "django", "run_engine"], 3),
            self._program(
                "web",
                [
                    python, "-m", "uvicorn", "maestoso.server.config.asgi:application", "--lifespan", "off",
                    "--host", "127.0.0.1", "--port", str(self.options.web_port),
                    "--timeout-graceful-shutdown", "2", "--no-access-log", "--log-level", "warning",
                ],
                4,
            ),
        ]  # fmt: skip
        return "\n".join(
            [
                "[supervisord]",
                f"logfile={_plain(self.logs / 'supervisord.log')}",
                f"pidfile={_plain(self.pid_file)}",
                "nodaemon=true",
                "[unix_http_server]",
                f"file={_plain(socket_file)}",
                "chmod=0600",
                "[rpcinterface:supervisor]",
                "supervisor.rpcinterface_factory=supervisor.rpcinterface:make_main_rpcinterface",
                "[supervisorctl]",
                f"serverurl=unix://{_plain(socket_file)}",
                *programs,
            ]
        )

    def _practice_command(self) -> list[str]:
        """Practice sites that belong to no scenario."""
        return [
            sys.executable, "-m", "maestoso.practice", "--port", str(self.options.practice_port),
            "--state", str(self.options.var / "sites"),
        ]  # fmt: skip

    def _peers(self, code: str) -> list[str]:
        others = [other for other in self.sites if other != code]
        return [f"--peer={other}=http://127.0.0.1:{self.site_port(other)}" for other in others]

    def _program(self, name: str, command: list[str], priority: int, at_once: bool = False) -> str:
        """Higher priorities start later and stop earlier. A process that dies is started again."""
        return "\n".join(
            [
                f"[program:{name}]",
                f"command={_plain(shlex.join(command))}",
                f"priority={priority}",
                f"autostart={'true' if at_once else 'false'}",
                "autorestart=true",
                "startretries=1000",
                "startsecs=0",
                "stopsignal=TERM",
                "stopwaitsecs=10",
                "stopasgroup=true",
                "killasgroup=true",
                "redirect_stderr=true",
                f"stdout_logfile={_plain(self.logs / f'{name}.log')}",
                "stdout_logfile_maxbytes=5MB",
                "stdout_logfile_backups=2",
            ]
        )


FIRST_PORT, BLOCKS, BLOCK = 20_000, 750, 16
"""Below the ports that Linux gives to connections (32768 and above): one chosen there may be taken by the
next connection of anybody before it is listened on."""
# Each call gets a block of its own: what is chosen early and started late meets nothing of this process.
_blocks = itertools.count(os.getpid())


def free_ports(options: Options, sites: int) -> Options:
    """The options with ports that are free now, for tests. Raises OSError where no block is free."""
    for _ in range(BLOCKS):
        base = FIRST_PORT + next(_blocks) % BLOCKS * BLOCK
        held: list[socket.socket] = []
        try:
            for port in range(base, base + 3 + sites):
                held.append(_bound(port))
        except OSError:
            continue
        finally:
            for one in held:
                one.close()
        return replace(options, web_port=base, db_port=base + 1, practice_port=base + 2, site_port=base + 3)
    raise OSError("no ports are free for a test")


def _bound(port: int) -> socket.socket:
    taken = socket.socket()
    try:
        taken.bind(("127.0.0.1", port))
    except (OSError, OverflowError):
        taken.close()
        raise OSError(f"port {port} is taken") from None
    return taken


def _plain(value: object) -> str:
    """The supervisor expands percent signs; a path with one must come out as it went in."""
    return str(value).replace("%", "%%")


def answers(
    url: str, headers: dict[str, str] | None = None, fine: tuple[int, ...] = (HTTPStatus.OK,)
) -> bool:
    """Whether something answers at ``url``, with one of the statuses that are ``fine``."""
    opener = urllib.request.build_opener(urllib.request.ProxyHandler({}))
    try:
        with opener.open(urllib.request.Request(url, headers=headers or {}), timeout=2) as reply:
            return reply.status in fine
    except urllib.error.HTTPError as error:
        return error.code in fine
    except (urllib.error.URLError, OSError):
        return False
