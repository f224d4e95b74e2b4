"""``./maestoso backup`` and ``./maestoso restore``."""

from __future__ import annotations

import contextlib
import getpass
import os
import shutil
import subprocess
import sys
import tempfile
from collections.abc import Callable, Iterator
from pathlib import Path

from maestoso import __version__
from maestoso.cli import database
from maestoso.cli.keys import make_secrets
from maestoso.cli.processes import Processes
from maestoso.cli.replication import refuse_standby
from maestoso.cli.stages import StageFailed, stage
from maestoso.cli.standby import become_standby, parse_of
from maestoso.engine.clock import SystemClock
from maestoso.server.backups import archive, bucket, records
from maestoso.server.config.options import Options

PASSPHRASE = "MAESTOSO_BACKUP_PASSPHRASE"
Prepare = Callable[[Processes], None]


def make_key(file: Path) -> int:
    """A pair of keys for backups: the private one into a file, the public one is said."""
    try:
        public = archive.make_key(file)
    except FileExistsError:
        raise StageFailed(f"{file} is there already, and may be the only key to some backups.") from None
    print(f"The private key is in {file}: take it away from this machine, you need it to restore.")
    print(f'The public key, for the settings file:\n  backup_recipient = "{public}"')
    return 0


def from_bucket(options: Options, name: str, folder: str) -> int:
    """Say what is in the bucket, the newest first; or bring one file from there."""
    if not options.backup_bucket:
        raise StageFailed("No bucket is named. Set backup_bucket and the settings with it.")
    there = bucket.Bucket(options)
    if name:
        to = Path(folder or ".").resolve()
        if not to.is_dir():
            raise StageFailed(f"There is no folder {to}. Make it, or name another one: --to FOLDER.")
        print(f"{there.fetch(name, to)} is there. Restore it: ./maestoso restore FILE --key KEY")
        return 0
    found = there.files()
    for one in found:
        print(f"{one.name}  {one.size} bytes")
    if not found:
        print(f"Nothing is in {options.backup_bucket}.")
    return 0


def backup(options: Options, folder: str) -> int:
    """Make a backup of what is installed there, running or not."""
    refuse_standby(options, "Make backups of its primary.")
    to = Path(folder or options.backup_folder or ".").resolve()
    if not to.is_dir():
        raise StageFailed(f"There is no folder {to}. Make it, or name another one: --to FOLDER.")
    with _records(options) as processes:
        more = ["--recipient", options.backup_recipient] if options.backup_recipient else []
        return _asked(processes, [str(to), *more], "" if more else _passphrase(new=True))


def try_out(options: Options, file: Path, key: str) -> int:
    """See whether a backup could be restored, beside what is installed."""
    refuse_standby(options, "Try backups where its primary is.")
    with _records(options) as processes:
        given = _opens(file, key)
        return _asked(processes, [str(file), "--try", *(["--key", key] if key else [])], given)


def restore(
    options: Options,
    file: Path,
    key: str,
    prepare: Prepare,
    standby_of: str = "",
    *,
    move_aside: bool = False,
) -> int:
    """Bring everything back where nothing is installed; ``prepare`` brings tables up to this release.

    Or (``standby_of`` HOST:PORT) begin a standby with it, which must be of the same release. ``move_aside``
    keeps what is installed there in a folder beside it.

    Where that does not come to its end, what is there afterwards is what was.
    """
    var = options.var
    installed = (var / "secrets.json").exists()
    if installed and not move_aside:
        raise StageFailed(
            f"There is an installation in {var} already. A backup is restored where there is none: "
            "remove that one (./maestoso reset), or set MAESTOSO_VAR to another folder."
        )
    about = archive.read_about(file)
    if standby_of:
        parse_of(standby_of)
    if standby_of and about.release != __version__:
        raise StageFailed(
            f"{file} was made by release {about.release}, and this is {__version__}. "
            "A standby is of the release of its primary."
        )
    if _numbers(about.release) > _numbers(__version__):
        raise StageFailed(
            f"{file} was made by release {about.release}, and this is {__version__}. Upgrade first."
        )
    given = _opens(file, key)
    aside = _moved_aside(options) if installed else None
    var.mkdir(parents=True, exist_ok=True)
    var.chmod(0o711 if os.geteuid() == 0 else 0o700)
    try:
        under_way = _bring_back(options, file, given, key, prepare, standby_of)
    except BaseException:
        # A service may empty its folder, and not take it away.
        with contextlib.suppress(PermissionError):
            database.remove(var)
        if aside is not None:
            aside.rename(var)
        raise
    if aside is not None:
        print(f"\n  What was installed here is kept in {aside}; remove it when nobody needs it any more.")
    print(f"\n  Everything of {about.made_at} is in {var}. Start it: ./maestoso start")
    if under_way and not standby_of:
        runs = "A run was" if under_way == 1 else f"{under_way} runs were"
        print(
            f"  {runs} under way then, and will go on when it is started. Whoever conducted them before is "
            "refused by the sites from then on. What was done since is asked for again under the same keys."
        )
    return 0


def _moved_aside(options: Options) -> Path:
    """Where what is installed is from now on. Raises StageFailed."""
    if database.answers(options, make_secrets(options)):
        raise StageFailed(f"The installation in {options.var} runs. Stop it first: ./maestoso stop")
    aside = options.var.with_name(f"{options.var.name}.before-{SystemClock().now():%Y%m%dT%H%M%SZ}")
    try:
        options.var.rename(aside)
    except OSError as error:
        raise StageFailed(
            f"{options.var} could not be moved to {aside}: {error.strerror}. Move it yourself, or set "
            "MAESTOSO_VAR to another folder."
        ) from error
    return aside


def _bring_back(
    options: Options, file: Path, passphrase: str, key: str, prepare: Prepare, standby_of: str
) -> int:
    with tempfile.TemporaryDirectory(prefix=archive.ON_ITS_WAY, dir=options.var) as place:
        room = Path(place) / "content"
        room.mkdir(mode=0o700)
        private = Path(key).read_text(encoding="utf-8") if key else ""
        with stage("Opening the backup"):
            archive.unpack(file, room, passphrase=passphrase, key=private)
        shutil.copy(room / records.SECRETS, options.var / records.SECRETS)
        (options.var / records.SECRETS).chmod(0o600)
        if (room / records.KEYS).is_dir():
            shutil.copytree(room / records.KEYS, options.var / records.KEYS)
        secrets = make_secrets(options)
        processes = Processes(options, secrets, practice=False)
        with processes.only_records():
            with stage("Records"):
                records.load(options, secrets, room / records.SQL, options.db_name)
                under_way = records.runs_under_way(options, secrets)
            if standby_of:
                become_standby(options, standby_of, room)
            else:
                prepare(processes)
    (options.var / "administrator.made").touch()
    return under_way


@contextlib.contextmanager
def _records(options: Options) -> Iterator[Processes]:
    """What is installed, with its database: started for this where it does not run."""
    if not (options.var / "secrets.json").is_file():
        raise StageFailed(f"Nothing is installed in {options.var}.")
    processes = Processes(options, make_secrets(options), practice=False)
    if processes.running() is not None or database.answers(options, processes.secrets):
        yield processes
        return
    with processes.only_records():
        yield processes


def _asked(processes: Processes, arguments: list[str], passphrase: str) -> int:
    done = subprocess.run(
        [sys.executable, "-m", "django", "back_up", *arguments], input=passphrase + "\n", text=True,
        capture_output=True, env=processes.environment(), check=False,
    )  # fmt: skip
    if done.returncode:
        said = done.stderr.strip().splitlines()
        raise StageFailed(said[-1].removeprefix("CommandError: ") if said else "It ended without a word.")
    print(done.stdout.strip())
    return 0


def _opens(file: Path, key: str) -> str:
    """The passphrase of a backup; empty for one that is opened by a key. Raises BackupFailed, StageFailed."""
    archive.read_about(file)
    if archive.needs_passphrase(file):
        return _passphrase(new=False)
    if not key:
        raise StageFailed(f"{file} is for a key. Name the file of the private one: --key FILE.")
    if not Path(key).is_file():
        raise StageFailed(f"There is no file {key}.")
    return ""


def _passphrase(*, new: bool) -> str:
    given = os.environ.get(PASSPHRASE)
    if given is not None:
        return given
    if not sys.stdin.isatty():
        raise StageFailed(f"Nobody can be asked for the passphrase here. Set {PASSPHRASE}, or use a key.")
    said = getpass.getpass("  Passphrase of the backup: ")
    if new and getpass.getpass("  Once more: ") != said:
        raise StageFailed("The two are not the same. Nothing was made.")
    return said


def _numbers(release: str) -> tuple[int, ...]:
    return tuple(int(part) for part in release.split(".") if part.isdigit())
