"""Every setting of Maestoso, typed, with its default, in one place.

They come from one file (TOML), and from environment variables, which go before it; secrets come from one file
that only its owner may read.
"""

from __future__ import annotations

import difflib
import hashlib
import json
import os
import tempfile
import tomllib
from collections.abc import Mapping
from dataclasses import Field, dataclass, fields, replace
from pathlib import Path
from typing import Any

ROOT = Path(__file__).resolve().parents[4]
SETTINGS = "MAESTOSO_SETTINGS"
"""The variable that names the settings file; set and empty, there is none."""
USUAL_FILE = Path("/etc/maestoso/maestoso.toml")


@dataclass(frozen=True, slots=True, kw_only=True)
class Options:
    """The field ``web_port`` is ``web_port`` in the settings file, the variable MAESTOSO_WEB_PORT, and so on.

    ``public_address`` is where people find the application, such as ``https://maestoso.example``; ``listen``
    the address of this machine that ``web_port`` is opened on, with TLS where there are ``certificate`` and
    ``certificate_key`` (PEM files). ``plain_port`` is a port that sends whoever asks to the public address; 0
    for none. What of this goes together says :mod:`maestoso.server.config.exposure`.
    ``var`` holds everything that is not source. ``replication_port`` is where standbys follow the private
    database, on ``listen`` and with TLS; 0 for none. ``witness_lease_s`` is how long the lease lasts that a
    witness gives.
    ``site_port`` is the port of the first practice site of the
    scenario, the others follow; ``practice_port`` is where practice sites are made that belong to none, and
    ``names_port`` where the demo has a name server.
    ``pace`` is what practice runs are offered. ``agent_hosts`` names, separated by commas, hosts and
    networks that site agents may be on; ``agent_certificate`` is a PEM file with certificate and key that
    they are shown. ``db_host`` is empty for the private database, which has no port; of another one it names
    the host, or several of them separated by commas, each with a port of its own where it has one;
    ``db_ca`` is the PEM file of its authority, ``db_password_file`` the file that its password is in.
    ``processes`` names, separated by commas, what of all that there is runs on this machine; empty for all.
    ``db_durable`` off trades what a power cut must not lose for speed: for tests only.
    ``trusted_proxies`` names, separated by commas, addresses and networks whose word on where a request comes
    from counts. ``audit_anchor`` is a file that signed heads of the audit trail are appended to.
    ``backup_folder`` is where the keeper puts a backup every ``backup_every_hours``, of which the newest
    ``backup_keep`` stay; ``backup_recipient`` is the public key that they are encrypted for.
    ``backup_bucket`` is where they are copied to besides: the address of a bucket, or of a folder in it, of a
    store that speaks S3, with ``backup_bucket_key`` (the name of the access key), the file that its secret is
    in, the region, and the PEM file of its authority where that is a private one.
    ``mail_server`` is where messages to people are handed over, as ``host:port``, with ``mail_security``
    (``starttls``, ``tls`` or ``none``), ``mail_user`` and the file that the password is in; ``mail_from`` is
    whom they are from. ``message_hosts`` names, separated by commas, hosts and networks that are inside and
    that webhooks may be on all the same; ``message_addresses`` lets messages name addresses of the estate.
    ``broker`` is the address of the broker that tells workers of jobs (``redis://``, ``amqp://``); empty for
    a folder of this machine. ``workers`` is how many jobs are done here at once; 0 for none.
    ``start_within_s`` is how long a start waits for processes to come up. ``log_format`` is ``lines`` for
    people or ``json`` for programs. ``traces`` is the address of a collector of OpenTelemetry (OTLP over
    HTTP, such as ``http://collector.example:4318``); empty for none. ``debug`` shows errors to developers
    only.
    """

    var: Path = ROOT / "var"
    public_address: str = ""
    listen: str = "127.0.0.1"
    web_port: int = 8470
    certificate: str = ""
    certificate_key: str = ""
    plain_port: int = 0
    site_port: int = 8472
    practice_port: int = 8469
    names_port: int = 8468
    scenario: Path = ROOT / "demo" / "tidewell"
    pace: int = 20
    organisation: str = ""
    start_within_s: int = 900
    replication_port: int = 0
    witness_lease_s: int = 60
    db_host: str = ""
    db_port: int = 3306
    db_name: str = "maestoso"
    db_user: str = "maestoso"
    db_password_file: str = ""
    db_ca: str = ""
    db_durable: bool = True
    signin_per_minute: int = 10
    session_idle_minutes: int = 480
    session_hours: int = 72
    trusted_proxies: str = ""
    agent_hosts: str = "127.0.0.1,localhost,::1"
    agent_certificate: str = ""
    audit_anchor: str = ""
    backup_folder: str = ""
    backup_recipient: str = ""
    backup_every_hours: int = 24
    backup_keep: int = 14
    backup_bucket: str = ""
    backup_bucket_key: str = ""
    backup_bucket_secret_file: str = ""
    backup_bucket_region: str = "us-east-1"
    backup_bucket_ca: str = ""
    mail_server: str = ""
    mail_security: str = "starttls"
    mail_user: str = ""
    mail_password_file: str = ""
    mail_from: str = ""
    message_hosts: str = ""
    message_addresses: bool = False
    processes: str = ""
    broker: str = ""
    workers: int = 2
    log_format: str = "lines"
    traces: str = ""
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
    replica_password: str = ""


CHARACTERS = "CHARACTER SET utf8mb4 COLLATE utf8mb4_uca1400_nopad_as_cs"
"""How the database of the records sorts and compares: as written, and spaces at an end count."""
REPLICA_USER = "maestoso_replica"
"""The account of the private database that may follow it, and nothing else."""
CERTIFICATE, STANDBY = "replication-certificate.pem", "standby.json"
"""Beside the secrets: whom a standby trusts; what this installation follows, where it is one."""
LONGEST_SOCKET = 100  # sun_path holds 108 bytes


def database_socket(var: Path) -> Path:
    """Where the private database listens; only its owner gets into the directory."""
    return within_reach(var, (var / "mariadb").resolve() / "db.sock")


def database_hosts(options: Options) -> list[tuple[str, int]]:
    """Host and port of every place where the database is; none for the private one.

    Raises ValueError for a port that is no number.
    """
    found = []
    for word in options.db_host.split(","):
        name, colon, port = word.strip().rpartition(":")
        # An address of IPv6 has colons of its own, and is written in brackets where a port follows.
        if not colon or (":" in name and not name.endswith("]")):
            name, port = word.strip(), str(options.db_port)
        if name:
            found.append((name.strip("[]"), int(port)))
    return found


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


def settings_file(environment: Mapping[str, str]) -> Path | None:
    """What MAESTOSO_SETTINGS names, or the usual file where there is one."""
    named = environment.get(SETTINGS)
    if named is not None:
        return Path(named).resolve() if named else None
    return USUAL_FILE if USUAL_FILE.is_file() else None


def read_options(environment: Mapping[str, str] | None = None) -> Options:
    """Options from the settings file and the environment.

    Raises ValueError with a sentence where one cannot be read, or is none.
    """
    given = os.environ if environment is None else environment
    file = settings_file(given)
    values = _from_file(file) if file else {}
    for field in fields(Options):
        text = given.get(variable(field.name))
        if text is not None:
            values[field.name] = _from_text(field, text)
    return Options(**values)


def _from_text(field: Field[Any], text: str) -> Any:
    if field.type in ("int", int):
        if not text.isdigit():
            raise ValueError(f"{variable(field.name)} is {text!r}; it must be a whole number.")
        return int(text)
    if field.type in ("bool", bool):
        return text.lower() in ("1", "true", "yes")
    return Path(text).resolve() if field.type in ("Path", Path) else text


KINDS = {"int": (int, "a whole number"), "bool": (bool, "true or false")}
A_TEXT = (str, "a text in quotes")


def _from_file(file: Path) -> dict[str, Any]:
    """What a settings file says. Raises ValueError, naming the file and the setting."""
    try:
        said = tomllib.loads(file.read_text(encoding="utf-8"))
    except OSError as error:
        raise ValueError(f"The settings file {file} cannot be read: {error.strerror}.") from None
    except (tomllib.TOMLDecodeError, UnicodeDecodeError) as error:
        raise ValueError(f"The settings file {file} is not TOML: {error}.") from None
    known = {field.name: field for field in fields(Options)}
    values: dict[str, Any] = {}
    for name, value in said.items():
        if name not in known:
            like = difflib.get_close_matches(name, known, n=1)
            meant = f" Is {like[0]} meant?" if like else " docs/settings.md lists them."
            raise ValueError(f"{file}: there is no setting {name!r}.{meant}")
        kind, words = KINDS.get(str(known[name].type), A_TEXT)
        if type(value) is not kind or (isinstance(value, int) and value < 0):
            raise ValueError(f"{file}: {name} is {value!r}; it must be {words}.")
        is_path = known[name].type in ("Path", Path)
        values[name] = (file.parent / str(value)).resolve() if is_path else value
    return values


def read_secrets(options: Options) -> Secrets:
    """The secrets of this installation. Raises FileNotFoundError before the first start."""
    secrets = Secrets(**json.loads((options.var / "secrets.json").read_text(encoding="utf-8")))
    if options.db_password_file:
        password = Path(options.db_password_file).read_text(encoding="utf-8").strip()
        secrets = replace(secrets, db_password=password)
    return secrets
