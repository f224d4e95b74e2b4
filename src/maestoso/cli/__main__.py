"""``python -m maestoso.cli``: the commands behind ./maestoso."""

from __future__ import annotations

import argparse
import contextlib
import fcntl
import getpass
import hashlib
import os
import signal
import subprocess
import sys
import time
from collections.abc import Iterator
from dataclasses import replace
from pathlib import Path

from maestoso.cli import database, front_end
from maestoso.cli.arguments import parse
from maestoso.cli.keys import make_secrets
from maestoso.cli.processes import OF_A_STANDBY, Processes
from maestoso.cli.replication import refuse_standby
from maestoso.cli.stages import StageFailed, run, stage, together
from maestoso.core.errors import DomainError
from maestoso.engine.clock import SystemClock
from maestoso.server.config import exposure
from maestoso.server.config.options import ROOT, USUAL_FILE, Options, read_options, settings_file, variable
from maestoso.server.config.standby import read_standby

ADMINISTRATOR = "administrator"
ANOTHER_ENDS_WITHIN_S = 30.0


def main() -> int:
    """Carry out one command; returns its exit status."""
    arguments = parse()
    try:
        options = read_options()
    except ValueError as error:
        print(error, file=sys.stderr)
        return 2
    commands = {
        "demo": lambda: serve(_place(options, "demo"), demo=True),
        "start": lambda: serve(_place(options, "live"), demo=False),
        "stop": lambda: stop(options),
        "doctor": lambda: _doctor(options),
        "admin": lambda: _admin(options, arguments.name, demo=arguments.demo),
        "reset": lambda: reset(options, live=arguments.live, sure=arguments.yes),
        "test": lambda: _test(arguments.only, arguments.v, arguments.serial),
        "verify": lambda: _verify(Path(arguments.file), arguments.keys),
        "soak": lambda: _soak(arguments),
        "real-lab": lambda: _real_lab(options, arguments),
        "backup": lambda: _backup(options, arguments),
        "upgrade": lambda: _upgrade(_place(options, "demo" if arguments.demo else "live")),
        "install": lambda: _install(options, arguments),
        "run": lambda: _run(_place(options, "live"), arguments.name),
        "restore": lambda: _restore(options, arguments),
        "standby": lambda: _standby(options, arguments),
        "takeover": lambda: _take_over(_place(options, "demo" if arguments.demo else "live"), arguments.yes),
    }
    try:
        return commands[arguments.command]()
    except DomainError as error:
        print(f"\n{error.sentence} {error.remedy}", file=sys.stderr)
    except (StageFailed, FileNotFoundError, PermissionError) as error:
        print(f"\n{error}", file=sys.stderr)
    return 1


# Each command loads what it needs: a start that loaded all of it would take a second longer.


def _doctor(options: Options) -> int:
    from maestoso.cli.doctor import examine

    return examine(_place(options, "demo"))


def _test(only: list[str], verbose: bool, serial: bool) -> int:
    from maestoso.cli.testing import test

    return test(only, verbose=verbose, serial=serial)


def _soak(given: argparse.Namespace) -> int:
    from maestoso.cli.testing import soak

    return soak(
        given.minutes,
        given.seed,
        once=given.once,
        walks=given.walks,
        schedules=given.schedules,
        guests=given.guests,
        standby=given.standby,
        cluster=given.cluster,
    )


def _verify(file: Path, keys: str | None) -> int:
    from maestoso.cli.verify import verify_file

    return verify_file(file, keys)


def _real_lab(options: Options, given: argparse.Namespace) -> int:
    from maestoso.real_lab import command
    from maestoso.real_lab.ledger import PLAN

    lab = command.lab(ROOT / "var" / "real-lab")
    if given.lose:
        killed = command.lose(lab, given.lose)
        print(f"Killed: the agent of {given.lose} and {', '.join(killed) or 'no machine'}.")
        print("./maestoso real-lab starts the agent again.")
        return 0
    running = _running(options)
    if running is None:
        if given.remove:
            command.away(lab, None, print)
            return 0
        raise StageFailed(
            "Maestoso does not run. Start it in another terminal, allowed to speak to the agents of the lab:"
            f"\n  {variable('agent_hosts')}=127.0.0.1,{command.network(lab)} ./maestoso demo"
        )
    token = os.environ.get("MAESTOSO_TOKEN", "")
    if not token and not running.secrets.admin_password:
        raise StageFailed(
            "Set MAESTOSO_TOKEN to the token of an administrator, made under My account in Maestoso."
        )
    maestoso = command.Maestoso(running.address, token=token, password=running.secrets.admin_password)
    if given.remove:
        command.away(lab, maestoso, print)
        print("Nothing of it is left on this machine.")
        return 0
    command.up(lab, maestoso, print)
    print(f"\nThe lab is up, and {running.address} knows it: the plan {PLAN} is ready to be tested.")
    return 0


def _upgrade(options: Options) -> int:
    from maestoso.cli.upgrade import upgrade

    return upgrade(options, django)


def _install(options: Options, given: argparse.Namespace) -> int:
    from maestoso.cli.services import install

    settings = settings_file(os.environ) or USUAL_FILE
    return install(options, settings, Path(given.to).resolve() if given.to else None)


def _run(options: Options, name: str) -> int:
    """What a service does: become the process of this name, or bring the tables up to date and end."""
    if wrong := [fault for fault in exposure.faults(options, SystemClock().now()) if fault.stop]:
        raise StageFailed("\n".join(map(str, wrong)))
    processes = Processes(options, make_secrets(options), practice=False)
    for folder in (processes.logs, options.var / "run", options.var / "sites"):
        folder.mkdir(parents=True, exist_ok=True)
    if name == "mariadb":
        database.initialise(options, processes.secrets, processes.logs / "setup.log")
    standby = read_standby(options.var)
    if name == "tables":
        processes.wait_for_records(supervised=False)
        if standby is not None:
            from maestoso.cli.standby import begin_to_follow

            print(begin_to_follow(processes, standby))
        else:
            django(processes, "prepare")
        return 0
    if standby is not None and name not in OF_A_STANDBY:
        from maestoso.cli.standby import rest

        rest(processes, django)
        return 0
    found = next((one for one in processes.programs() if one.name == name), None)
    if found is None:
        raise StageFailed(
            f"There is no process {name!r}: {', '.join(one.name for one in processes.programs())}."
        )
    return os.execve(found.command[0], found.command, {**processes.environment(), **found.environment})


def _backup(options: Options, given: argparse.Namespace) -> int:
    from maestoso.cli import backups

    if given.make_key:
        return backups.make_key(Path(given.make_key))
    if given.list or given.fetch:
        return backups.from_bucket(options, given.fetch, given.to)
    return backups.backup(_place(options, "demo" if given.demo else "live"), given.to)


def _restore(options: Options, given: argparse.Namespace) -> int:
    from maestoso.cli import backups

    place = _place(options, "demo" if given.demo else "live")
    if given.tried:
        return backups.try_out(place, Path(given.file), given.key)
    return backups.restore(place, Path(given.file), given.key, _prepare_restored)


def _standby(options: Options, given: argparse.Namespace) -> int:
    from maestoso.cli import backups, standby

    place = _place(options, "demo" if given.demo else "live")
    if not given.file:
        return standby.say(place)
    if not given.of:
        raise StageFailed("Say whose standby it is: --of HOST:PORT, with the primary's replication_port.")
    return backups.restore(
        place, Path(given.file), given.key, _prepare_restored, given.of, move_aside=given.move_aside
    )


def _take_over(options: Options, sure: bool) -> int:
    from maestoso.cli.standby import take_over

    return take_over(options, sure, django)


def _prepare_restored(processes: Processes) -> None:
    with stage("Tables"):
        django(processes, "prepare")
        django(processes, "begin_reign", "--did=Restore from a backup")
    with stage("Seals"):
        django(processes, "check_integrity")


def _running(options: Options) -> Processes | None:
    """The Maestoso that runs on this machine, if any."""
    for name in ("demo", "live"):
        place = _place(options, name)
        if place.var.is_dir():
            processes = Processes(place, make_secrets(place), practice=name == "demo")
            if processes.running() is not None:
                return processes
    return None


def _place(options: Options, name: str) -> Options:
    """Demo and live data have a directory each, unless a setting says where."""
    return options if options.var != Options().var else replace(options, var=ROOT / "var" / name)


def serve(options: Options, *, demo: bool) -> int:
    """Set up, start, say where, and stop it all on Ctrl+C."""
    secrets = make_secrets(options)
    processes = Processes(options, secrets, practice=demo)
    if wrong := [fault for fault in exposure.faults(options, SystemClock().now()) if fault.stop]:
        raise StageFailed("\n".join(["These settings cannot be used:", *(f"  {fault}" for fault in wrong)]))
    if processes.running() is not None:
        print(f"Maestoso is running already: {processes.address}. Stop it with ./maestoso stop.")
        return 0
    if processes.as_services():
        print(f"Maestoso runs as services already: {processes.address}. See systemctl status 'maestoso*'.")
        return 0
    with _only_one(options.var):
        return _serve(processes, demo=demo)


@contextlib.contextmanager
def _only_one(var: Path) -> Iterator[None]:
    """One launcher an installation, until it ends. Raises StageFailed where another one goes on and on.

    A launcher whose processes were stopped from another terminal needs a moment to notice: it is waited for.
    """
    until = time.monotonic() + ANOTHER_ENDS_WITHIN_S
    with (var / "start.lock").open("w") as lock:
        while True:
            try:
                fcntl.flock(lock, fcntl.LOCK_EX | fcntl.LOCK_NB)
                break
            except BlockingIOError:
                if time.monotonic() > until:
                    raise StageFailed(
                        f"Another ./maestoso is starting or stopping what is in {var}. Wait for it."
                    ) from None
                time.sleep(0.05)
        yield


def _serve(processes: Processes, *, demo: bool) -> int:
    left = processes.end_orphans()
    if left:
        print(f"  {left} processes that an earlier start had left behind were ended.")
    taken = processes.taken_ports()
    if taken:
        print("\n".join(taken), file=sys.stderr)
        return 1
    signal.signal(signal.SIGTERM, _as_interrupt)
    if signal.getsignal(signal.SIGHUP) is not signal.SIG_IGN:  # nohup means what it says
        signal.signal(signal.SIGHUP, _as_interrupt)
    try:
        if read_standby(processes.options.var) is not None:
            from maestoso.cli.standby import serve_standby

            if not serve_standby(processes, django):
                return 0
            processes.stop()
        bring_up(processes, demo=demo)
        if not demo and processes.serves_pages():
            _first_administrator(processes)
        if processes.serves_pages():
            print(f"\n  Maestoso is at {processes.address}")
        else:
            running = ", ".join(one.name for one in processes.programs())
            print(f"\n  This machine runs {running}; it serves no pages.")
        if demo:
            print(f"  Sign in as {ADMINISTRATOR} with the password {processes.secrets.admin_password}")
            print("  It also lets in mara, olin, sefa, tiba and wim, who may do less: see Settings, People.")
        print("  Ctrl+C stops everything.\n", flush=True)
        while processes.running() is not None:
            time.sleep(0.5)
        print("Maestoso was stopped.")
    except KeyboardInterrupt:
        print("\n  Stopping ...", flush=True)
    finally:
        with contextlib.suppress(KeyboardInterrupt):
            processes.stop()
    return 0


def _as_interrupt(number: int, frame: object) -> None:
    raise KeyboardInterrupt


def bring_up(processes: Processes, *, demo: bool) -> None:
    """All stages of a start. Where a stamp says that all is there, nothing is made and all start at once."""
    log = processes.logs / "setup.log"
    stamp = stamp_of(processes.options.var, demo=demo)
    wanted = made_from(processes.options)
    prepared = stamp.is_file() and stamp.read_text() == wanted and database.is_made(processes.options)
    if prepared and front_end.is_built():
        with stage(
            "Database, practice sites, engine and web server" if demo else "Database, engine and web server"
        ):
            database.initialise(processes.options, processes.secrets, log)
            processes.start_supervisor(everything=True)
            processes.wait_until_up()
        return
    stamp.unlink(missing_ok=True)
    together(lambda: front_end.build(log), lambda: make_records(processes, demo=demo, log=log))
    stamp.write_text(wanted)
    with stage("Engine and web server" if processes.serves_pages() else "Its processes"):
        processes.start_application()


def make_records(processes: Processes, *, demo: bool, log: Path) -> None:
    """Start database and practice sites, and bring the tables, with ``demo`` its data too, up to date."""
    with stage("Database and practice sites" if demo else "Database"):
        database.initialise(processes.options, processes.secrets, log)
        processes.start_supervisor(everything=False)
        processes.wait_for_records()
    with stage("Tables and demo data" if demo else "Tables"):
        # One process for all of it: starting Python and Django is most of the time this takes.
        django(processes, "prepare", *(["--demo"] if demo else []))


def stamp_of(var: Path, *, demo: bool) -> Path:
    """The file that says what the records were made from."""
    return var / ("prepared-demo.sha256" if demo else "prepared.sha256")


def made_from(options: Options) -> str:
    """A text that changes with what the records are made from: tables, and ports of the practice sites."""
    digest = hashlib.sha256(f"{options.site_port} {options.practice_port}".encode())
    for file in sorted((ROOT / "src" / "maestoso" / "server").glob("*/migrations/*.py")):
        digest.update(str(file.relative_to(ROOT)).encode() + b"\0" + file.read_bytes())
    # Django's own tables come with its release.
    return digest.hexdigest() + hashlib.sha256((ROOT / "requirements.lock").read_bytes()).hexdigest()


def django(processes: Processes, *arguments: str) -> None:
    """Run a management command with its output in the log."""
    command = [sys.executable, "-m", "django", *arguments]
    run(command, processes.logs / "setup.log", env=processes.environment())


def _make_administrator(processes: Processes, name: str, password: str) -> None:
    done = subprocess.run(
        [sys.executable, "-m", "django", "make_administrator", name],
        input=password + "\n", text=True, capture_output=True, env=processes.environment(), check=False,
    )  # fmt: skip
    if done.returncode:
        raise StageFailed(done.stderr.strip().splitlines()[-1].removeprefix("CommandError: "))


def _admin(options: Options, name: str, *, demo: bool) -> int:
    """For a locked-out organisation: whoever has this machine gets in, and the audit trail says so."""
    place = _place(options, "demo" if demo else "live")
    refuse_standby(place, "Accounts are those of its primary.")
    processes = Processes(place, make_secrets(place), practice=demo)
    if not database.answers(place, processes.secrets):
        raise StageFailed("Maestoso does not run there. Start it first: its database is needed.")
    password = getpass.getpass("  New password (12 characters or more): ") if sys.stdin.isatty() else input()
    _make_administrator(processes, name, password)
    print(f"{name} is an administrator with this password. It stands in the audit trail.")
    return 0


def _first_administrator(processes: Processes) -> None:
    """Ask for the first account; without a terminal it comes from the environment."""
    made = processes.options.var / "administrator.made"
    # At a database that other machines use too, somebody may have been let in there.
    if made.is_file() or database.has_people(processes.options, processes.secrets):
        return
    password = os.environ.get("MAESTOSO_ADMIN_PASSWORD", "")
    name = ADMINISTRATOR
    if not password and sys.stdin.isatty():
        print("\n  Nobody can sign in yet. Make the first administrator.")
        name = input(f"  Name [{ADMINISTRATOR}]: ").strip() or ADMINISTRATOR
        password = getpass.getpass("  Password (12 characters or more): ")
    if not password:
        raise StageFailed(
            "Nobody can sign in yet. Start from a terminal, which asks for the first administrator, "
            "or set MAESTOSO_ADMIN_PASSWORD for this one start."
        )
    _make_administrator(processes, name, password)
    made.touch()


def _installed(options: Options) -> list[Path]:
    return list(dict.fromkeys(_place(options, name).var for name in ("demo", "live")))


def stop(options: Options) -> int:
    """Stop demo and live, whichever runs."""
    stopped = False
    for var in _installed(options):
        if (var / "secrets.json").is_file():
            place = replace(options, var=var)
            stopped |= Processes(place, make_secrets(place), practice=False).stop()
    print("Stopped." if stopped else "Nothing was running.")
    return 0


def _confirmed(question: str) -> bool:
    return sys.stdin.isatty() and input(question) == "yes"


def reset(options: Options, *, live: bool, sure: bool) -> int:
    """Remove the data directory after stopping what uses it."""
    place = _place(options, "live" if live else "demo")
    var = place.var
    if not (var / "secrets.json").is_file():
        print(f"There is nothing to remove in {var}.")
        return 0
    if live and not sure and not _confirmed(f"Remove all data in {var}? Type yes: "):
        print("Nothing was removed. Say it with --yes where nobody can be asked.")
        return 1
    Processes(place, make_secrets(place), practice=False).stop()
    database.remove(var)
    print(f"Removed {var}.")
    return 0


if __name__ == "__main__":
    sys.exit(main())
