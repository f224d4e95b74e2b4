"""The secrets of an installation: made once, readable by their owner only."""

from __future__ import annotations

import json
import os
import secrets
from dataclasses import asdict

from maestoso.server.config.options import Options, Secrets, read_secrets

# Words that can be read aloud and typed; the password hash is slow and sign-in is rate-limited.
WORDS = (
    *("anchor", "amber", "basin", "beacon", "breeze", "bridge", "buoy", "cable", "canal", "chart", "cliff"),
    *("coast", "compass", "copper", "coral", "current", "deck", "delta", "dock", "drift", "ferry", "fjord"),
    *("foghorn", "galley", "gull", "harbour", "heron", "horizon", "island", "jetty", "keel", "kelp"),
    *("lagoon", "lantern", "ledger", "mast", "meadow", "mooring", "paddle", "pebble", "pier", "pilot"),
    *("plank", "quay", "rope", "rudder", "sail", "sand", "shoal", "signal", "slipway", "sound", "spar"),
    *("tide", "timber", "wharf"),
)


def make_secrets(options: Options) -> Secrets:
    """Read the secrets, or make them at the first start."""
    var = options.var
    file = var / "secrets.json"
    if file.is_file():
        found = read_secrets(options)
        return found if found.replica_password else _with_replica_password(options)
    from cryptography.fernet import Fernet  # only the first start pays for loading it

    var.mkdir(parents=True, exist_ok=True)
    # Where root starts it, the database is another user, who must get through.
    var.chmod(0o711 if os.geteuid() == 0 else 0o700)
    made = Secrets(
        django_key=secrets.token_urlsafe(48),
        db_password=secrets.token_hex(24),
        db_root_password=secrets.token_hex(24),
        field_key=Fernet.generate_key().decode(),
        site_token=secrets.token_urlsafe(32),
        instance=secrets.token_hex(3),
        replica_password=secrets.token_hex(24),
        admin_password="-".join(
            [*(secrets.choice(WORDS) for _ in range(4)), str(secrets.randbelow(90) + 10)]
        ),
    )
    file.touch(mode=0o600)
    file.write_text(json.dumps(asdict(made), indent=1), encoding="utf-8")
    return read_secrets(options)


def _with_replica_password(options: Options) -> Secrets:
    """Secrets of a release that had no standby."""
    file = options.var / "secrets.json"
    kept = {**json.loads(file.read_text(encoding="utf-8")), "replica_password": secrets.token_hex(24)}
    fresh = file.with_suffix(".new")
    fresh.touch(mode=0o600)
    fresh.write_text(json.dumps(kept, indent=1), encoding="utf-8")
    fresh.replace(file)
    return read_secrets(options)
