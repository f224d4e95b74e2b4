"""What the network gets to see of this installation: where it listens, its name, its certificate.

Maestoso can switch a data centre off. So whatever would carry passwords in clear is refused before anything
listens.
"""

from __future__ import annotations

import socket
import ssl
from collections.abc import Iterator
from dataclasses import dataclass
from datetime import datetime
from ipaddress import IPv4Network, IPv6Network, ip_address, ip_network
from pathlib import Path
from typing import TYPE_CHECKING
from urllib.parse import SplitResult, urlsplit

from maestoso.server.config.options import Options, database_hosts, variable

if TYPE_CHECKING:
    from cryptography import x509

LOOPBACK = ("127.0.0.1", "localhost", "::1")
ANY = ("0.0.0.0", "::", "")
HOSTS_HERE = ("127.0.0.1", "localhost", "[::1]")
BUCKET_LIKE = "Write it like https://store.example/backups or https://store.example/backups/maestoso."
SOON_DAYS = 21
"""A certificate that ends within so many days is one to be renewed."""


@dataclass(frozen=True, slots=True)
class Fault:
    """What is wrong with a setting, and what would be right; some do not ``stop`` a start."""

    setting: str
    sentence: str
    remedy: str
    stop: bool = True

    def __str__(self) -> str:
        return f"{self.setting} ({variable(self.setting)}): {self.sentence} {self.remedy}"


def is_https(options: Options) -> bool:
    """Whether people reach the application by TLS only."""
    return options.public_address.startswith("https://") or bool(options.certificate)


def origin(options: Options) -> str:
    """Scheme, host and port that people type, without a slash at the end; empty where none is set."""
    return options.public_address.rstrip("/")


def hosts(options: Options) -> list[str]:
    """The names that requests may be for: the public one, and this machine for its own programs."""
    named = [urlsplit(options.public_address).hostname or "", "" if options.listen in ANY else options.listen]
    return [*HOSTS_HERE, *(f"[{name}]" if ":" in name else name for name in named if name)]


def own_address(options: Options) -> str:
    """Where a program of this machine reaches the web server."""
    host = options.listen
    if host in ("0.0.0.0", ""):
        host = "127.0.0.1"
    elif host == "::":
        host = "::1"
    scheme = "https" if options.certificate else "http"
    return f"{scheme}://{f'[{host}]' if ':' in host else host}:{options.web_port}"


def faults(options: Options, now: datetime) -> list[Fault]:
    """What is wrong with how this installation shows itself, the line to its database included."""
    return [
        *_public(options),
        *_listening(options),
        *_proxies(options),
        *_certificate(options, now),
        *_database(options),
        *_processes(options),
        *_log(options),
        *_backups(options),
        *_mail(options),
    ]


def _public(options: Options) -> Iterator[Fault]:
    if not options.public_address:
        return
    asked = urlsplit(options.public_address)
    like = "Write it like https://maestoso.example or https://maestoso.example:8443."
    if asked.scheme not in ("http", "https") or not asked.hostname or _port(asked) is None:
        yield Fault("public_address", f"{options.public_address!r} is no web address.", like)
    elif asked.path.strip("/") or asked.query or asked.fragment or asked.username:
        yield Fault("public_address", f"{options.public_address!r} is more than scheme, host and port.", like)
    elif asked.scheme == "http" and asked.hostname not in LOOPBACK:
        yield Fault("public_address", "It is http: passwords would travel in clear.", like)
    elif asked.scheme == "https" and not (options.certificate or options.trusted_proxies):
        yield Fault(
            "public_address",
            "It is https, but nothing speaks TLS.",
            "Set certificate and certificate_key, or name the proxy that does in trusted_proxies.",
        )


def _port(asked: SplitResult) -> int | None:
    try:
        return asked.port or 443
    except ValueError:
        return None


def _listening(options: Options) -> Iterator[Fault]:
    if options.listen in LOOPBACK:
        return
    try:
        ip_address(options.listen)
    except ValueError:
        yield Fault(
            "listen",
            f"{options.listen!r} is no address.",
            "Write 0.0.0.0 for all of IPv4, or one of this machine.",
        )
        return
    if not (options.certificate or options.trusted_proxies):
        yield Fault(
            "listen",
            f"On {options.listen} passwords would travel in clear.",
            "Set certificate and certificate_key, or name the proxy that speaks TLS in trusted_proxies.",
        )
    if not options.public_address:
        yield Fault(
            "public_address",
            f"It is empty, and requests to {options.listen} need a name that is right.",
            "Write the address that people type, like https://maestoso.example.",
        )


def _proxies(options: Options) -> Iterator[Fault]:
    try:
        networks(options.trusted_proxies)
    except ValueError as error:
        yield Fault(
            "trusted_proxies", f"{error}.", "Write addresses and networks like 192.0.2.10, 10.0.0.0/24."
        )


def networks(setting: str) -> tuple[IPv4Network | IPv6Network, ...]:
    """Addresses and networks separated by commas. Raises ValueError for what is neither."""
    return tuple(ip_network(part.strip()) for part in setting.split(",") if part.strip())


def _certificate(options: Options, now: datetime) -> Iterator[Fault]:
    if bool(options.certificate) != bool(options.certificate_key):
        lacking = "certificate_key" if options.certificate else "certificate"
        yield Fault(lacking, "It is empty, while the other one of the two is set.", "Set both, or neither.")
    if options.plain_port and not options.public_address.startswith("https://"):
        yield Fault(
            "plain_port", "It sends people to the public address, which is not https.", "Set public_address."
        )
    if not (options.certificate and options.certificate_key):
        return
    for name in ("certificate", "certificate_key"):
        try:
            Path(getattr(options, name)).read_bytes()
        except OSError as error:
            yield Fault(
                name, f"{getattr(options, name)} cannot be read: {error.strerror}.", "Name a PEM file."
            )
            return
    from cryptography import x509  # most starts have no certificate, and pay nothing for loading it

    try:
        context = ssl.SSLContext(ssl.PROTOCOL_TLS_SERVER)
        context.load_cert_chain(options.certificate, options.certificate_key, password=_no_password)
        found = x509.load_pem_x509_certificate(Path(options.certificate).read_bytes())
    except (ssl.SSLError, ValueError) as error:
        yield Fault(
            "certificate",
            f"It and its key cannot be used together ({error}).",
            "The first file holds it and those above it, the second its key without a passphrase.",
        )
        return
    yield from _found(options, found, now)


def _no_password() -> str:
    raise ValueError("the key has a passphrase")


def _found(options: Options, found: x509.Certificate, now: datetime) -> Iterator[Fault]:
    name = urlsplit(options.public_address).hostname
    if name and not _is_for(found, name):
        yield Fault(
            "certificate", f"It is not for {name}.", "Have one made for the public address.", stop=False
        )
    left = found.not_valid_after_utc - now
    if left.total_seconds() < 0:
        yield Fault(
            "certificate", f"It ended on {found.not_valid_after_utc:%d %B %Y}.", "Renew it.", stop=False
        )
    elif left.days < SOON_DAYS:
        yield Fault("certificate", f"It ends in {left.days} days.", "Renew it.", stop=False)


def _is_for(found: x509.Certificate, name: str) -> bool:
    """By the names it carries (RFC 6125): a star stands for one label."""
    from cryptography import x509

    try:
        said = found.extensions.get_extension_for_class(x509.SubjectAlternativeName).value
    except x509.ExtensionNotFound:
        return False
    with_star = f"*.{name.partition('.')[2]}"
    names = {one.lower() for one in said.get_values_for_type(x509.DNSName)}
    addresses = {str(one) for one in said.get_values_for_type(x509.IPAddress)}
    return bool({name, with_star} & names) or name in addresses


def _database(options: Options) -> Iterator[Fault]:
    if not options.db_host:
        return
    try:
        hosts = database_hosts(options)
    except ValueError:
        yield Fault(
            "db_host", f"{options.db_host!r} has a port that is no number.", "Write host:port, host:port."
        )
        return
    far = [name for name, _ in hosts if not _is_here(name)]
    if far and not options.db_ca:
        yield Fault(
            "db_ca",
            f"It is empty: records and passwords would travel to {far[0]} in clear.",
            "Name the PEM file of the authority that its certificate is from.",
        )
    for name in ("db_ca", "db_password_file"):
        file = getattr(options, name)
        if file and not Path(file).is_file():
            yield Fault(name, f"There is no file {file}.", "Name one that is there.")


MAIL_SECURITY = ("starttls", "tls", "none")


def _mail(options: Options) -> Iterator[Fault]:
    """How messages leave by mail; what is wrong with that stops no start."""
    server = options.mail_server
    if server:
        host, _, port = server.rpartition(":")
        if not host or not port.isdigit() or not 0 < int(port) < 65536:
            yield Fault(
                "mail_server", f"{server!r} is no host with a port.", "Write mail.example:587.", stop=False
            )
        elif options.mail_security == "none" and options.mail_user and not _is_here(host):
            yield Fault(
                "mail_security", "The password would travel in clear.", "Write starttls or tls.", stop=False
            )
        if "@" not in options.mail_from:
            yield Fault("mail_from", "It is no mail address.", "Write whom messages are from.", stop=False)
    if options.mail_security not in MAIL_SECURITY:
        yield Fault(
            "mail_security",
            f"{options.mail_security!r} is none.",
            f"Write {' or '.join(MAIL_SECURITY)}.",
            stop=False,
        )
    file = options.mail_password_file
    if file and not Path(file).is_file():
        yield Fault("mail_password_file", f"There is no file {file}.", "Name one that is there.", stop=False)


PROCESSES = ("mariadb", "engine", "keeper", "workers", "web", "plain", "practice")


def processes_here(options: Options) -> tuple[str, ...]:
    """What of all that there is runs on this machine."""
    return tuple(filter(None, (word.strip() for word in options.processes.split(",")))) or PROCESSES


def _processes(options: Options) -> Iterator[Fault]:
    for name in processes_here(options):
        if name not in PROCESSES:
            yield Fault(
                "processes", f"There is no process {name!r}.", f"Write some of {', '.join(PROCESSES)}."
            )
    if options.broker and urlsplit(options.broker).scheme not in ("redis", "rediss", "amqp", "amqps"):
        yield Fault(
            "broker", f"{options.broker!r} is no broker.", "Write redis://host:6379/0 or amqp://host."
        )
    if options.processes and options.db_host and not options.broker:
        yield Fault(
            "broker",
            "It is empty, so that workers of other machines find jobs half a minute late.",
            "Name a broker that all machines reach.",
            stop=False,
        )


def _is_here(host: str) -> bool:
    try:
        return all(ip_address(found[4][0]).is_loopback for found in socket.getaddrinfo(host, None))
    except OSError:
        return False


def _log(options: Options) -> Iterator[Fault]:
    if options.log_format not in ("lines", "json"):
        yield Fault("log_format", f"It is {options.log_format!r}.", "Write lines or json.")
    if options.traces and not (
        urlsplit(options.traces).scheme in ("http", "https") and urlsplit(options.traces).hostname
    ):
        yield Fault(
            "traces",
            f"{options.traces!r} is no web address.",
            "Write it like http://collector.example:4318.",
        )


def bucket_parts(address: str) -> tuple[str, bool, str, str]:
    """From the address of a bucket: host with port, whether by TLS, bucket, folder with a slash or empty.

    Raises ValueError with a sentence for what is none.
    """
    asked = urlsplit(address)
    bucket, _, folder = asked.path.strip("/").partition("/")
    if asked.username or asked.password:
        raise ValueError("It has a name or password in it, which everybody who sees the settings would know.")
    if asked.scheme not in ("http", "https") or not asked.hostname or not bucket or asked.query:
        raise ValueError(f"{address!r} is no address of a bucket.")
    return asked.netloc, asked.scheme == "https", bucket, f"{folder}/" if folder else ""


def _bucket(options: Options) -> Iterator[Fault]:
    if not options.backup_bucket:
        return
    if not options.backup_folder:
        said = "Backups are made in backup_folder first, and none is named."
        yield Fault("backup_bucket", said, "Name one with room for backup_keep of them.", stop=False)
    try:
        host, by_tls, _, _ = bucket_parts(options.backup_bucket)
        if not by_tls and urlsplit(f"//{host}").hostname not in LOOPBACK:
            said = "It is http: whoever stands in between could take backups away."
            yield Fault("backup_bucket", said, BUCKET_LIKE, stop=False)
    except ValueError as error:
        yield Fault("backup_bucket", str(error), BUCKET_LIKE, stop=False)
    if not options.backup_bucket_key:
        said = "It is empty, and the store lets nobody in without a key."
        yield Fault("backup_bucket_key", said, "Write the name of the access key.", stop=False)
    for name in ("backup_bucket_secret_file", "backup_bucket_ca"):
        file = getattr(options, name)
        if (file or name != "backup_bucket_ca") and not Path(file or "/nowhere").is_file():
            yield Fault(
                name, f"There is no file {file!r}.", "Name one that this account can read.", stop=False
            )


def _backups(options: Options) -> Iterator[Fault]:
    yield from _bucket(options)
    if not options.backup_folder:
        return
    if not Path(options.backup_folder).is_dir():
        said = f"There is no folder {options.backup_folder}."
        yield Fault("backup_folder", said, "Make it, best on another machine.", stop=False)
    if not options.backup_recipient.startswith("age1"):
        yield Fault(
            "backup_recipient",
            "It is no public key, and backups hold every secret.",
            "./maestoso backup --make-key FILE makes a pair: keep the file elsewhere, its public half here.",
            stop=False,
        )
    if not options.backup_every_hours:
        yield Fault("backup_every_hours", "It is 0.", "Write a whole number of hours, 1 or more.")
