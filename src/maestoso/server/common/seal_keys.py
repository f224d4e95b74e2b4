"""The keys that seal evidence: files beside the database, readable by their owner only.

``var/keys`` holds one file a key, named by its thumbprint (RFC 7638), and ``current``, which names the one
that signs. A key that was put out of use keeps its public half, so that what it sealed can be checked for
ever.
"""

from __future__ import annotations

import json
import os
from pathlib import Path
from typing import Any

from joserfc.jwk import OKPKey

from maestoso.core.evidence.seal import ALGORITHM
from maestoso.server.config.settings import OPTIONS

FOLDER = OPTIONS.var / "keys"


def current_key() -> OKPKey:
    """The key that signs now; made when there is none yet. Raises OSError where its file cannot be read."""
    named = FOLDER / "current"
    if not named.is_file():
        _take_into_use(_made(), first=True)
    return OKPKey.import_key(json.loads((FOLDER / f"{named.read_text().strip()}.json").read_text()))


def public_keys() -> dict[str, dict[str, Any]]:
    """The public half of every key that was ever in use, by thumbprint."""
    current_key()
    found = {}
    for file in sorted(FOLDER.glob("*.json")):
        key = OKPKey.import_key(json.loads(file.read_text()))
        found[key.thumbprint()] = {**key.as_dict(private=False), "alg": ALGORITHM, "use": "sig"}
    return found


def rotate() -> str:
    """Take a new key into use and forget the private half of the old; returns the new thumbprint."""
    old = current_key()
    new = _made()
    _take_into_use(new, first=False)
    _write(FOLDER / f"{old.thumbprint()}.json", json.dumps(old.as_dict(private=False)))
    return new.thumbprint()


def _made() -> OKPKey:
    FOLDER.mkdir(mode=0o700, parents=True, exist_ok=True)
    key = OKPKey.generate_key("Ed25519")
    _write(FOLDER / f"{key.thumbprint()}.json", json.dumps(key.as_dict(private=True)))
    return key


def _take_into_use(key: OKPKey, *, first: bool) -> None:
    """``first``: two processes may make the first key at once; then that of the other one is used."""
    wanted = FOLDER / f"current.{key.thumbprint()}"
    _write(wanted, key.thumbprint())
    if not first:
        wanted.replace(FOLDER / "current")
        return
    try:
        os.link(wanted, FOLDER / "current")
    except FileExistsError:
        (FOLDER / f"{key.thumbprint()}.json").unlink()
    finally:
        wanted.unlink()


def _write(file: Path, text: str) -> None:
    """Whole or not at all, and for nobody else's eyes."""
    fresh = file.with_name(f".{file.name}.new")
    with open(os.open(fresh, os.O_WRONLY | os.O_CREAT | os.O_TRUNC, 0o600), "w") as out:
        out.write(text)
    fresh.replace(file)
