"""``./maestoso install``: Maestoso as services of systemd, one a process, with as few rights as each needs.

A unit names no port and no certificate: it starts ``python -m maestoso.cli run NAME``, which reads the
settings. So a changed setting needs a restart and nothing else.
"""

from __future__ import annotations

import os
import shutil
import subprocess
import sys
from dataclasses import replace
from pathlib import Path

from maestoso.cli import front_end
from maestoso.cli.accounts import system_user
from maestoso.cli.stages import StageFailed, run, stage
from maestoso.server.config.exposure import processes_here
from maestoso.server.config.options import ROOT, SETTINGS, Options

USER = "maestoso"
UNITS, ROTATE = Path("/etc/systemd/system"), Path("/etc/logrotate.d/maestoso")
DATA = Path("/var/lib/maestoso/live")
TARGET, TABLES, DATABASE = "maestoso.target", "maestoso-tables.service", "mariadb"
FIRST_OPEN_PORT = 1024
HIDDEN = ("/root", "/home")
"""Where services do not look."""

SAMPLE = f"""\
# The settings of Maestoso (docs/settings.md). A change needs: systemctl restart {TARGET}
var = "{DATA}"

# Where people find it, and the certificate for that name. Without a certificate it listens on this machine
# only, for a proxy that is named in trusted_proxies.
# public_address = "https://maestoso.example"
# listen = "0.0.0.0"
# web_port = 443
# plain_port = 80
# certificate = "/etc/maestoso/certificate.pem"
# certificate_key = "/etc/maestoso/key.pem"

# Hosts and networks that site agents may be on.
# agent_hosts = "10.20.0.0/16"

# Whom it tells by mail, and how (docs/messages.md).
# mail_server = "mail.example:587"
# mail_user = "maestoso"
# mail_password_file = "/etc/maestoso/mail-password"
# mail_from = "maestoso@example.example"

# A backup every day: ./maestoso backup --make-key FILE makes the pair of keys.
# backup_folder = "/mnt/backups"
# backup_recipient = "age1..."
# backup_bucket = "https://store.example/backups"
# backup_bucket_key = "maestoso"
# backup_bucket_secret_file = "/etc/maestoso/bucket-secret"
"""

HARDENED = """\
NoNewPrivileges=yes
ProtectSystem=strict
ProtectHome=yes
PrivateTmp=yes
PrivateDevices=yes
PrivateUsers={users}
ProtectClock=yes
ProtectControlGroups=yes
ProtectHostname=yes
ProtectKernelLogs=yes
ProtectKernelModules=yes
ProtectKernelTunables=yes
ProtectProc=invisible
RestrictAddressFamilies={families}
RestrictNamespaces=yes
RestrictRealtime=yes
RestrictSUIDSGID=yes
RemoveIPC=yes
LockPersonality=yes
SystemCallArchitectures=native
SystemCallFilter=@system-service
SystemCallFilter=~@privileged @resources
SystemCallErrorNumber=EPERM
UMask=0077"""


def names(options: Options) -> list[str]:
    """The processes that become services, as :class:`Processes` calls them."""
    lacking = {
        DATABASE: bool(options.db_host), "plain": not options.plain_port, "workers": not options.workers,
    }  # fmt: skip
    return [name for name in processes_here(options) if not lacking.get(name)]


def units(options: Options, python: str, settings: Path) -> dict[str, str]:
    """Name and text of every unit."""
    environment = f"Environment={SETTINGS}={settings}"
    found = {TARGET: _target([service(name) for name in names(options)])}
    own_database = [service(DATABASE)] if DATABASE in names(options) else []
    found[TABLES] = "\n".join(
        [
            "[Unit]",
            "Description=Maestoso: tables of this release",
            f"After={' '.join([*own_database, 'network-online.target'])}",
            *(f"Requires={one}" for one in own_database),
            f"PartOf={TARGET}",
            "",
            "[Service]",
            "Type=oneshot",
            "RemainAfterExit=yes",
            *_common(options, f"{python} -m maestoso.cli run tables", environment),
            "TimeoutStartSec=infinity",
            "",
        ]
    )
    for name in names(options):
        found[service(name)] = _unit(options, name, python, environment)
    return found


def service(name: str) -> str:
    """The unit of a process."""
    return f"maestoso-{name}.service"


def _target(services: list[str]) -> str:
    lines = ["[Unit]", "Description=Maestoso", f"Wants={' '.join(services)}"]
    return "\n".join([*lines, "", "[Install]", "WantedBy=multi-user.target", ""])


def _unit(options: Options, name: str, python: str, environment: str) -> str:
    needs = [] if name == DATABASE else [TABLES]
    port = {"web": options.web_port, "plain": options.plain_port}.get(name, FIRST_OPEN_PORT)
    return "\n".join(
        [
            "[Unit]",
            f"Description=Maestoso: {name}",
            f"After={' '.join([*needs, 'network-online.target'])}",
            "Wants=network-online.target",
            *(f"Requires={one}" for one in needs),
            f"PartOf={TARGET}",
            "StartLimitIntervalSec=0",
            "",
            "[Service]",
            "Type=exec",
            *_common(
                options, f"{python} -m maestoso.cli run {name}", environment,
                low_port=port < FIRST_OPEN_PORT, alone=name == DATABASE,
            ),
            "Restart=always",
            "RestartSec=2",
            "TimeoutStopSec=30",
            *(["Nice=10"] if name == "workers" else []),
            "",
            "[Install]",
            f"WantedBy={TARGET}",
            "",
        ]
    )  # fmt: skip


def _common(
    options: Options, command: str, environment: str, *, low_port: bool = False, alone: bool = False
) -> list[str]:
    writes = [str(options.var), *([options.backup_folder] if options.backup_folder else [])]
    if options.audit_anchor:
        writes.append(str(Path(options.audit_anchor).parent))
    rights = "CAP_NET_BIND_SERVICE" if low_port else ""
    hardened = HARDENED.format(
        # A right over ports below 1024 counts in the machine's own user namespace only.
        users="no" if low_port else "yes",
        families="AF_UNIX" if alone else "AF_UNIX AF_INET AF_INET6",
    )
    return [
        f"User={USER}",
        f"Group={USER}",
        environment,
        "Environment=PYTHONUNBUFFERED=1 PYTHONDONTWRITEBYTECODE=1",
        f"WorkingDirectory={ROOT}",
        f"ExecStart={command}",
        f"ReadWritePaths={' '.join(writes)}",
        f"CapabilityBoundingSet={rights}",
        f"AmbientCapabilities={rights}",
        hardened,
    ]


def rotation(options: Options) -> str:
    """The rule for what is written into files all the same; services write to the journal."""
    said = ("weekly", "rotate 8", "compress", "delaycompress", "missingok", "notifempty", "copytruncate")
    lines = [*said, f"su {USER} {USER}"]
    return "\n".join([f"{options.var}/log/*.log {{", *(f"  {line}" for line in lines), "}", ""])


def install(options: Options, settings: Path, below: Path | None) -> int:
    """Write settings, units and the rest; ``below`` another folder than / nothing of the machine is changed.

    Raises StageFailed where it cannot be installed so.
    """
    root = below or Path("/")
    if below is None and os.geteuid() != 0:
        raise StageFailed("Services are installed by root. To look at the files only: --to FOLDER.")
    if below is None and any(str(ROOT).startswith(f"{place}/") for place in HIDDEN):
        raise StageFailed(
            f"Services may not read {ROOT}. Put Maestoso somewhere else, such as /opt/maestoso."
        )
    written = _settings(root, settings)
    if options.var == Options().var:
        options = replace(options, var=DATA)
    log = ROOT / "var" / "log" / "setup.log"
    if below is None:
        front_end.build(log)
        system_user(USER, "")
        _own(options.var)
        with stage("Compiling"):
            run([sys.executable, "-m", "compileall", "-q", str(ROOT / "src")], log)
    made = {UNITS / name: text for name, text in units(options, sys.executable, settings).items()}
    made[ROTATE] = rotation(options)
    for file, text in made.items():
        place = root / file.relative_to("/")
        place.parent.mkdir(parents=True, exist_ok=True)
        place.write_text(text, encoding="utf-8")
    if below is None and shutil.which("systemctl"):
        subprocess.run(["systemctl", "daemon-reload"], check=False)
    kept = "" if written else ", as they were"
    print(f"  {len(made)} files were written below {root}; settings are in {settings}{kept}.")
    print(f"  Look at the settings, then: systemctl enable --now {TARGET}")
    print(f"  The first administrator: {SETTINGS}={settings} {ROOT}/maestoso admin NAME")
    return 0


def _settings(root: Path, settings: Path) -> bool:
    """A sample, where there is no file; whether one was written."""
    place = root / settings.relative_to("/")
    if place.exists():
        return False
    place.parent.mkdir(parents=True, exist_ok=True)
    place.write_text(SAMPLE, encoding="utf-8")
    return True


def _own(var: Path) -> None:
    """The directory of the data, which its account alone may enter."""
    var.parent.mkdir(parents=True, exist_ok=True)
    var.parent.chmod(0o711)
    var.mkdir(exist_ok=True)
    var.chmod(0o700)
    shutil.chown(var, USER, USER)
