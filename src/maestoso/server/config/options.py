"""Every setting of Maestoso, typed, with its default, in one place.

They come from environment variables; secrets come from one file that only its owner may read.
"""

from __future__ import annotations

import hashlib
import json
import os
import tempfile
from dataclasses import dataclass, fields
from pathlib import Path

ROOT = Path(__file__).resolve().parents[4]


@dataclass(frozen=True, slots=True, kw_only=True)
class Options:
    """The field ``web_port`` is the variable MAESTOSO_WEB_PORT, and so on.

    ``var`` holds everything that is not source. ``site_port`` is the port of the first practice site of the
    scenario, the others follow; ``practice_port`` is where practice sites are made that belong to none.
    ``pace`` is what practice runs are offered. ``agent_hosts`` names, separated by commas, hosts and
    networks that site agents may be on; ``agent_certificate`` is a PEM file with certificate and key that
    they are shown. ``db_host`` is empty for the private database, which has no port.
    ``db_durable`` off trades what a power cut must not lose for speed: for tests only.
    ``trusted_proxies`` names, separated by commas, addresses and networks whose word on where a request comes
    from counts. ``audit_anchor`` is a file that signed heads of the audit trail are appended to.
    ``start_within_s`` is how long a start waits for processes to come up. ``debug`` shows errors to
    developers only.
    """

    var: Path = ROOT / "var"
    web_port: int = 8470
    site_port: int = 8472
    practice_port: int = 8469
    scenario: Path = ROOT / "demo" / "tidewell"
    pace: int = 20
    organisation: str = ""
    start_within_s: int = 900
    db_host: str = ""
    db_port: int = 3306
    db_name: str = "maestoso"
    db_user: str = "maestoso"
    db_durable: bool = True
    signin_per_minute: int = 10
    session_idle_minutes: int = 480
    session_hours: int = 72
    trusted_proxies: str = ""
    agent_hosts: str = "127.0.0.1,localhost,::1"
    agent_certificate: str = ""
    audit_anchor: str = ""
    debug: bool = False


@dataclass(frozen=True, slots=True, kw_only=True)
class Secrets:
    """What must not be known: made once at the first start, kept in ``var/secrets.json`` (mode 0600).

    ``instance`` is no secret but belongs to the same installation: it makes operation keys its own.
    """

    django_key: str
    db_password: str
    db_root_password: str
    field_key: str
    site_token: str
    instance: str
    admin_password: str = ""


LONGEST_SOCKET = 100  # sun_path holds 108 bytes


def database_socket(var: Path) -> Path:
    """Where the private database listens; only its owner gets into the directory."""
    return within_reach(var, (var / "mariadb").resolve() / "db.sock")


def bells(var: Path) -> Path:
    """The directory in which processes hear that something was changed (:mod:`maestoso.engine.bell`)."""
    return within_reach(var, (var / "run" / "bells").resolve() / f"{2**22}-{2**48}.bell").parent


def within_reach(var: Path, socket: Path) -> Path:
    """A socket path, or where it is too long for one, a path in a directory that this user alone has.

    Raises PermissionError where somebody else was there first.
    """
    if len(str(socket)) <= LONGEST_SOCKET:
        return socket
    mark = hashlib.sha256(str(var).encode()).hexdigest()[:10]
    folder = Path(tempfile.gettempdir()) / f"maestoso-{os.getuid()}-{mark}"
    folder.mkdir(mode=0o700, exist_ok=True)
    if folder.stat(follow_symlinks=False).st_uid != os.getuid():
        raise PermissionError(
            f"{folder} belongs to somebody else. Remove it, or set MAESTOSO_VAR to a shorter path."
        )
    return folder / socket.name


def variable(field: str) -> str:
    """The environment variable of an option."""
    return f"MAESTOSO_{field.upper()}"


def read_options(environment: dict[str, str] | None = None) -> Options:
    """Options from the environment. Raises ValueError with a sentence where one cannot be read."""
    given = dict(os.environ if environment is None else environment)
    values: dict[str, object] = {}
    for field in fields(Options):
        text = given.get(variable(field.name))
        if text is None:
            continue
        if field.type in ("int", int):
            if not text.isdigit():
                raise ValueError(f"{variable(field.name)} is {text!r}; it must be a whole number.")
            values[field.name] = int(text)
        elif field.type in ("bool", bool):
            values[field.name] = text.lower() in ("1", "true", "yes")
        elif field.type in ("Path", Path):
            values[field.name] = Path(text).resolve()
        else:
            values[field.name] = text
    return Options(**values)  # type: ignore[arg-type]


def read_secrets(var: Path) -> Secrets:
    """The secrets of this installation. Raises FileNotFoundError before the first start."""
    return Secrets(**json.loads((var / "secrets.json").read_text(encoding="utf-8")))
