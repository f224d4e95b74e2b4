"""Everything that runs, under one supervisor."""

from __future__ import annotations

import contextlib
import errno
import os
import shlex
import signal
import socket
import ssl
import subprocess
import sys
import time
from collections.abc import Callable, Iterable, Iterator, Mapping
from dataclasses import dataclass, field, fields
from http import HTTPStatus
from http.client import HTTPConnection, HTTPException, HTTPSConnection
from pathlib import Path
from typing import Any
from urllib.parse import urlsplit
from xmlrpc.client import Fault, ServerProxy

from supervisor.xmlrpc import SupervisorTransport

from maestoso.cli import database
from maestoso.cli.stages import StageFailed, last_lines, seconds
from maestoso.practice.name_server import PracticeNames
from maestoso.practice.name_server import program as name_server
from maestoso.practice.scenario_files import site_codes
from maestoso.server.config import exposure
from maestoso.server.config.options import SETTINGS, Options, Secrets, variable, within_reach
from maestoso.server.config.standby import read_standby

CIPHERS = "ECDHE+AESGCM:ECDHE+CHACHA20"
"""Of TLS 1.2; TLS 1.3 has its own. Nothing older is spoken."""
LONGEST_STOP_S = 25.0
LONGEST_TERM_S = 10.0
MOST_DEATHS = 5
"""How often a process may die while it comes up before the start is given up: a database may be late, say."""
BELONGS = "MAESTOSO_SUPERVISED"
"""In the environment of everything that a supervisor of ours started: the directory of its installation."""


PORTS = ("web", "practice", "plain")
"""Processes that have a port of their own."""
OF_A_STANDBY = ("mariadb", "web", "plain")
"""What a standby needs to follow, and to be looked at."""
SAID_EVERY_S = 20.0
LOOK_EVERY_S = 1.0
ANSWER_WITHIN_S = 10.0
THERE = (HTTPStatus.OK, HTTPStatus.SERVICE_UNAVAILABLE)
"""What a practice site answers whose process is there: the second one was switched off in the lab."""


def practice_names(options: Options) -> PracticeNames:
    """The name server of an installation's demo."""
    return PracticeNames(home=options.var / "names", port=options.names_port, scenario=options.scenario)


class Processes:
    """The processes of one installation. ``practice`` adds the practice sites of the scenario."""

    def __init__(self, options: Options, secrets: Secrets, *, practice: bool) -> None:
        self.options = options
        self.secrets = secrets
        self.sites = site_codes(options.scenario) if practice else ()
        names = practice_names(options)
        self.names = names if practice and names.zones and name_server() else None
        self.config = options.var / "run" / "supervisord.conf"
        self.pid_file = options.var / "run" / "supervisord.pid"
        self.logs = options.var / "log"

    # --- what there is ---

    def ports(self) -> dict[str, int]:
        """The ports that are needed, by what they are for."""
        sites = {f"site_port (+{i}, {code})": self.site_port(code) for i, code in enumerate(self.sites)}
        here = exposure.processes_here(self.options)
        own = {f"{name}_port": getattr(self.options, f"{name}_port") for name in PORTS if name in here}
        if self.names is not None:
            own["names_port"] = self.names.port
        return {**{name: port for name, port in own.items() if port}, **sites}

    def site_port(self, code: str) -> int:
        """The port of a practice site."""
        return self.options.site_port + self.sites.index(code)

    def environment(self) -> dict[str, str]:
        """The environment of every process: the options, spelt out."""
        given = {variable(f.name): str(getattr(self.options, f.name)) for f in fields(self.options)}
        return {
            **os.environ,
            **given,
            # A settings file that is being edited stops nothing that runs, and nothing that is started again.
            SETTINGS: "",
            "DJANGO_SETTINGS_MODULE": "maestoso.server.config.settings",
            "PYTHONUNBUFFERED": "1",
            # A process that gives itself another title keeps its environment, by which it is known as ours.
            "SPT_NOENV": "1",
            "MAESTOSO_ENGINE_NAME": f"engine of {self.secrets.instance}",
            "MAESTOSO_KEEPER_NAME": f"keeper of {self.secrets.instance}",
            "MAESTOSO_WORKER_NAME": f"worker of {self.secrets.instance}",
        }

    def taken_ports(self) -> list[str]:
        """A sentence for every port that another program holds."""
        said = []
        for name, port in self.ports().items():
            host = self.options.listen if name in ("web_port", "plain_port") else "127.0.0.1"
            setting = variable(name.split(" ", maxsplit=1)[0])
            with socket.socket(socket.AF_INET6 if ":" in host else socket.AF_INET) as probe:
                probe.setsockopt(socket.SOL_SOCKET, socket.SO_REUSEADDR, 1)
                try:
                    probe.bind((host, port))
                except PermissionError:
                    said.append(
                        f"Port {port} is for the system's own services, and you may not open it. "
                        f"Set {setting} to one above 1023, or install Maestoso as a service."
                    )
                except OSError as error:
                    said.append(
                        f"{host} is no address of this machine. Set {variable('listen')} to one that is."
                        if error.errno == errno.EADDRNOTAVAIL
                        else f"Port {port} is taken by another program. "
                        f"Stop that program, or set {setting} to a free port."
                    )
        return said

    def running(self) -> int | None:
        """The supervisor's process number while it runs, also where its file could not be written."""
        with contextlib.suppress(OSError, ValueError):
            pid = int(self.pid_file.read_text())
            # The number may have been given to another process since.
            if self._is_supervisor(pid):
                return pid
        return next((pid for pid in _processes() if self._is_supervisor(pid)), None)

    def as_services(self) -> bool:
        """Whether services run this installation: it answers, and no supervisor is there."""
        if self.running() is not None:
            return False
        if self.options.db_host:  # that database answers whoever runs
            return answers(f"{exposure.own_address(self.options)}/healthz")
        return database.answers(self.options, self.secrets)

    def _is_supervisor(self, pid: int) -> bool:
        words = _read(pid, "cmdline").split(b"\0")
        return any(b"supervisor" in word for word in words[:4]) and str(self.config).encode() in words

    def orphans(self) -> list[int]:
        """Processes that a supervisor of this installation started and left behind when it ended."""
        mark = f"{BELONGS}={self.options.var}".encode()
        return [pid for pid in _processes() if mark in _read(pid, "environ").split(b"\0")]

    # --- starting and stopping ---

    def start_supervisor(self, *, everything: bool) -> None:
        """Start the supervisor with database and practice sites; with ``everything`` the rest too."""
        for folder in (self.logs, self.config.parent, self.options.var / "sites"):
            folder.mkdir(parents=True, exist_ok=True)
            folder.chmod(0o700)
        if self.names is not None:
            self.names.prepare()
        self.config.touch(mode=0o600)
        self.config.write_text(self._configuration(everything), encoding="utf-8")
        with (self.logs / "supervisord.out").open("ab") as out:
            subprocess.Popen(
                [sys.executable, "-m", "maestoso.cli.supervisor", "-n", "-c", str(self.config)],
                stdout=out, stderr=out, stdin=subprocess.DEVNULL,
                env={**self.environment(), BELONGS: str(self.options.var)},
                # Ctrl+C goes to the launcher alone, which then stops the rest in order.
                start_new_session=True,
                # Whatever any of them writes is for its owner only.
                umask=0o077,
            )  # fmt: skip

    def wait_for_records(self, *, supervised: bool = True) -> None:
        """Wait until database and practice sites are there; not ``supervised``, somebody else starts them."""
        sites = () if self._is_standby() else self.sites
        self._wait_for([self._database(), *map(self._site, sites)], supervised=supervised)

    @contextlib.contextmanager
    def only_records(self) -> Iterator[None]:
        """With the database alone, for a while."""
        database.initialise(self.options, self.secrets, self.logs / "setup.log")
        self.start_supervisor(everything=False)
        try:
            self.wait_for_records()
            yield
        finally:
            self.stop()

    def start_application(self) -> None:
        """Start engine, keeper and web server, and wait for them."""
        self._start(*(one.name for one in self.programs() if not one.records and not one.late))
        self.wait_until_up()

    def wait_until_up(self) -> None:
        """Wait until all of it is there and pages are served."""
        web = [self._web()] if self.serves_pages() else []
        self._wait_for([self._database(), *map(self._site, self.sites), *web])
        # Nobody waits for the practice sites that belong to no scenario.
        self._start(*(one.name for one in self.programs() if one.late))

    def _start(self, *names: str) -> None:
        for name in names:
            with self._supervisor() as supervisor, contextlib.suppress(Fault):  # it runs already
                supervisor.startProcess(name, False)

    def _database(self) -> Awaited:
        return Awaited("mariadb", "the database", lambda: database.answers(self.options, self.secrets))

    def _site(self, code: str) -> Awaited:
        url = f"http://127.0.0.1:{self.site_port(code)}/v1/capabilities"
        token = {"Authorization": f"Bearer {self.secrets.site_token}"}
        return Awaited(f"site-{code}", f"the practice site {code}", lambda: answers(url, token, THERE))

    def _web(self) -> Awaited:
        return Awaited(
            "web", "the web server", lambda: answers(f"{exposure.own_address(self.options)}/api/v1/session")
        )

    @contextlib.contextmanager
    def _supervisor(self) -> Iterator[Any]:
        """The supervisor's own interface, on its socket."""
        transport = SupervisorTransport(None, None, f"unix://{self._control_socket()}")
        with ServerProxy("http://127.0.0.1", transport=transport) as proxy:
            yield proxy.supervisor

    def _control_socket(self) -> Path:
        return within_reach(self.options.var, self.config.parent / "control.sock")

    def _wait_for(self, awaited: list[Awaited], *, supervised: bool = True) -> None:
        """Wait until all are there, however slow the machine is.

        Raises StageFailed with the end of its own log for one that keeps dying, or that is not there in time.
        """
        began = said_at = looked_at = time.monotonic()
        deaths: dict[str, _Deaths] = {}
        left = list(awaited)
        while left:
            # One after the other, as they come up: asking all of them all the time would slow them down.
            while left and left[0].ready():
                del left[0]
            now = time.monotonic()
            look = supervised and now - looked_at > LOOK_EVERY_S
            looked_at = now if look else looked_at
            for name, started in self._started() if look else ():
                times = deaths.setdefault(name, _Deaths(started))
                if times.seen(started) >= MOST_DEATHS:
                    raise StageFailed(
                        f"The process {name} died {MOST_DEATHS} times while it came up.{self._end_of(name)}"
                    )
            if left and now - began > self.options.start_within_s:
                one = left[0]
                raise StageFailed(
                    f"Waited {seconds(now - began)} for {one.what}, which did not come up. On a slow machine,"
                    f" set {variable('start_within_s')} to more seconds.{self._end_of(one.program)}"
                )
            if left and now - said_at > SAID_EVERY_S:
                said_at = now
                print(
                    f"  … waiting for {', '.join(one.what for one in left)}, {seconds(now - began)}",
                    flush=True,
                )
            if left:
                time.sleep(0.1)

    def _started(self) -> list[tuple[str, int]]:
        """When each process that the supervisor looks after was started last."""
        if self.running() is None:
            raise StageFailed(f"The supervisor ended.{self._end_of('supervisord')}")
        return [(row["name"], row["start"]) for row in self.states() if row["start"]]

    def states(self) -> list[dict[str, Any]]:
        """What the supervisor knows of each process: ``name``, ``statename``, ``start``, ``pid``.

        Nothing while it cannot be asked.
        """
        try:
            with self._supervisor() as supervisor:
                return list(supervisor.getAllProcessInfo())
        except (OSError, Fault, HTTPException):
            return []

    def _end_of(self, name: str) -> str:
        log = self.logs / ("supervisord.out" if name == "supervisord" else f"{name}.log")
        return f" The end of {log}:\n{last_lines(log)}"

    @property
    def address(self) -> str:
        """Where people find the application."""
        return exposure.origin(self.options) or exposure.own_address(self.options)

    def stop(self) -> bool:
        """Stop what the supervisor started, or an earlier one left behind. False when there was nothing."""
        pid = self.running()
        if pid is not None:
            with contextlib.suppress(ProcessLookupError):
                os.kill(pid, signal.SIGTERM)
            until = time.monotonic() + LONGEST_STOP_S
            while self.running() is not None:
                if time.monotonic() > until:
                    raise StageFailed(f"The supervisor (process {pid}) does not stop. See {self.logs}.")
                with contextlib.suppress(ChildProcessError):
                    os.waitpid(pid, os.WNOHANG)
                time.sleep(0.05)
        return bool(self.end_orphans()) or pid is not None

    def end_orphans(self) -> int:
        """End what a supervisor that is gone has left behind; returns how many there were."""
        if self.running() is not None:
            return 0
        found = self.orphans()
        _signal(found, signal.SIGTERM)
        until = time.monotonic() + LONGEST_TERM_S
        while (left := self.orphans()) and time.monotonic() < until:
            time.sleep(0.05)
        _signal(left, signal.SIGKILL)
        return len(found)

    # --- the supervisor's configuration ---

    def programs(self) -> list[Program]:
        """Everything that runs, in the order in which it is started; of a standby, :data:`OF_A_STANDBY`."""
        here = exposure.processes_here(self.options)
        return [
            one
            for one in self._programs()
            if (one.name in here or one.name.startswith(("site-", "names")))
            and (one.name in OF_A_STANDBY or not self._is_standby())
        ]

    def serves_pages(self) -> bool:
        """Whether the web server is one of them."""
        return "web" in exposure.processes_here(self.options)

    def _is_standby(self) -> bool:
        return read_standby(self.options.var) is not None

    def _programs(self) -> list[Program]:
        python, options = sys.executable, self.options
        # Only practice sites know their token, and only their owner can read the environment of a process.
        token = {"MAESTOSO_SITE_TOKEN": self.secrets.site_token}
        server = () if options.db_host else (database.server_command(options),)
        plain = [self._served("plain", options.plain_port)] if options.plain_port else []
        # What they work at is begun anew in any case (``server.jobs``); to end by themselves takes seconds.
        workers = Program("workers", [python, "-m", "django", "run_workers"], 4, late=True, ends_by="KILL")
        return [
            *(Program("mariadb", command, 1, records=True) for command in server),
            *(
                Program(
                    f"site-{code}",
                    [
                        python, "-m", "maestoso.practice", "--scenario", str(options.scenario),
                        "--site", code, "--port", str(self.site_port(code)),
                        "--state", str(options.var / "sites" / f"{code}.sqlite"), *self._peers(code),
                    ],
                    2,
                    records=True,
                    environment=token,
                )
                for code in self.sites
            ),
            # Practice sites that belong to no scenario.
            Program(
                "practice",
                [
                    python, "-m", "maestoso.practice", "--port", str(options.practice_port),
                    "--state", str(options.var / "sites"),
                ],
                2,
                late=True,
                environment=token,
            ),
            *([Program("names", self.names.command, 3)] if self.names is not None else []),
            Program("engine", [python, "-m", "django", "run_engine"], 3),
            Program("keeper", [python, "-m", "django", "run_keeper"], 3),
            Program("web", self._served("asgi", options.web_port, tls=bool(options.certificate)), 4),
            *(Program("plain", command, 4) for command in plain),
            *([workers] if options.workers else []),
        ]  # fmt: skip

    def _served(self, module: str, port: int, *, tls: bool = False) -> list[str]:
        """The command line of a web server for an application of ours."""
        command = [
            sys.executable, "-m", "uvicorn", f"maestoso.server.config.{module}:application",
            "--lifespan", "off",
            "--host", self.options.listen, "--port", str(port),
            # Its own trust in proxies is any program on this machine; the application has a setting.
            "--no-proxy-headers", "--no-server-header", "--timeout-graceful-shutdown", "2", "--no-access-log",
            "--log-level", "warning",
        ]  # fmt: skip
        if tls:
            command += [
                "--ssl-certfile", self.options.certificate, "--ssl-keyfile", self.options.certificate_key,
                "--ssl-ciphers", CIPHERS,
            ]  # fmt: skip
        return command

    def _configuration(self, everything: bool) -> str:
        socket_file = self._control_socket()
        return "\n".join(
            [
                "[supervisord]",
                f"logfile={_plain(self.logs / 'supervisord.log')}",
                f"pidfile={_plain(self.pid_file)}",
                "nodaemon=true",
                "umask=077",  # its own default would be another
                "[unix_http_server]",
                f"file={_plain(socket_file)}",
                "chmod=0600",
                "[rpcinterface:supervisor]",
                "supervisor.rpcinterface_factory=supervisor.rpcinterface:make_main_rpcinterface",
                "[supervisorctl]",
                f"serverurl=unix://{_plain(socket_file)}",
                *(
                    self._supervised(one, one.records or (everything and not one.late))
                    for one in self.programs()
                ),
            ]
        )

    def _peers(self, code: str) -> list[str]:
        others = [other for other in self.sites if other != code]
        return [f"--peer={other}=http://127.0.0.1:{self.site_port(other)}" for other in others]

    def _supervised(self, one: Program, at_once: bool) -> str:
        """Higher priorities start later and stop earlier. A process that dies is started again."""
        environment = ",".join(f'{key}="{_plain(value)}"' for key, value in one.environment.items())
        return "\n".join(
            [
                f"[program:{one.name}]",
                f"command={_plain(shlex.join(one.command))}",
                f"priority={one.priority}",
                f"autostart={'true' if at_once else 'false'}",
                "autorestart=true",
                "startretries=1000",
                "startsecs=0",
                f"stopsignal={one.ends_by}",
                "stopwaitsecs=10",
                "stopasgroup=true",
                "killasgroup=true",
                "redirect_stderr=true",
                *([f"environment={environment}"] if environment else []),
                f"stdout_logfile={_plain(self.logs / f'{one.name}.log')}",
                "stdout_logfile_maxbytes=5MB",
                "stdout_logfile_backups=2",
            ]
        )


@dataclass(frozen=True, slots=True)
class Program:
    """A process: its name, its command line, its place in the order, and what its environment has besides the
    options. Without those that keep ``records`` no tables can be made; nobody waits for those that are
    ``late``; ``ends_by`` is the signal that stops it."""

    name: str
    command: list[str]
    priority: int
    records: bool = False
    late: bool = False
    ends_by: str = "TERM"
    environment: Mapping[str, str] = field(default_factory=dict)


@dataclass(frozen=True, slots=True)
class Awaited:
    """A process that is waited for: its name to the supervisor and to people, and whether it is there."""

    program: str
    what: str
    ready: Callable[[], bool]


class _Deaths:
    """How often a process was started again since it was first seen."""

    def __init__(self, started: int) -> None:
        self.started, self.count = started, 0

    def seen(self, started: int) -> int:
        """It was started last at ``started``; returns how often it died."""
        if started != self.started:
            self.started, self.count = started, self.count + 1
        return self.count


def _processes() -> Iterator[int]:
    """Every process of this machine but the one that asks."""
    for entry in Path("/proc").iterdir():
        if entry.name.isdigit() and int(entry.name) != os.getpid():
            yield int(entry.name)


def _read(pid: int, name: str) -> bytes:
    """A file of a process; empty where it is gone or belongs to somebody else."""
    try:
        return Path(f"/proc/{pid}/{name}").read_bytes()
    except OSError:
        return b""


def _signal(pids: Iterable[int], number: signal.Signals) -> None:
    for pid in pids:
        with contextlib.suppress(ProcessLookupError):
            os.kill(pid, number)


def _plain(value: object) -> str:
    """The supervisor expands percent signs; a path with one must come out as it went in."""
    return str(value).replace("%", "%%")


def answers(
    url: str, headers: dict[str, str] | None = None, fine: tuple[int, ...] = (HTTPStatus.OK,)
) -> bool:
    """Whether something answers at ``url``, with one of the statuses that are ``fine``."""
    asked = urlsplit(url)
    # Not urllib's opener, which reads all certificates of the system first, ten times a second. Our own web
    # server is asked by an address of this machine, which its certificate need not be for.
    host, port = asked.hostname or "", asked.port
    line: HTTPConnection
    if asked.scheme == "https":
        trusting = ssl._create_unverified_context()
        line = HTTPSConnection(host, port, timeout=ANSWER_WITHIN_S, context=trusting)
    else:
        line = HTTPConnection(host, port, timeout=ANSWER_WITHIN_S)
    try:
        line.request("GET", asked.path or "/", headers=headers or {})
        return line.getresponse().status in fine
    except (OSError, HTTPException):
        return False
    finally:
        line.close()
