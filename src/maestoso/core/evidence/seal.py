"""Seals: JSON Web Signatures (RFC 7515) with Ed25519 keys (RFC 8037, RFC 9864)."""

from __future__ import annotations

import base64
import json
from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from datetime import datetime
from typing import Any

from joserfc import jws
from joserfc.errors import JoseError
from joserfc.jwk import OKPKey

from maestoso.core.codec import to_data
from maestoso.core.errors import DomainError
from maestoso.core.evidence.chain import links, written
from maestoso.core.evidence.facts import Facts, facts_of
from maestoso.core.runs.events import Event
from maestoso.core.runs.state import fold

ALGORITHM = "Ed25519"
RUN = "maestoso-run-seal/1"
ADDITION = "maestoso-addition/1"
SHORT = 8
"""Bytes of every link that a seal repeats, so that the first event that was touched can be named even where
somebody reckoned the whole chain anew: by chance two differ in none of them once in 2^64."""


class SealBroken(DomainError):
    """A seal cannot be read, or was not made by the key it names. Remedy: get the file from its source."""

    code = "seal-broken"


@dataclass(frozen=True, slots=True, kw_only=True)
class RunSeal:
    """What is signed of a finished run. ``head`` is the hash behind its last event, ``links`` are the first
    eight bytes of the hash behind each, one after the other, in base64url. ``audit_entries`` and
    ``audit_head`` are the number and the hash of the entry of the audit trail that names this seal; 0 before
    release 0.8. ``emergency``: why it was started without approvals that it needed; empty where it was not.
    """

    format: str
    run: str
    number: int
    plan: str
    plan_name: str
    plan_version: int
    kind: str
    source: str
    target: str
    outcome: str
    started_by: str
    started_at: datetime
    ended_at: datetime
    events: int
    head: str
    links: str
    facts: Facts
    audit_entries: int = 0
    audit_head: str = ""
    emergency: str = ""


def seal_of(run: str, number: int, log: Sequence[Event], audit: tuple[int, str] = (0, "")) -> RunSeal:
    """What a seal says of a finished run; ``audit`` is the number and hash of the audit entry that names it.

    Raises ValueError for a run that goes on.
    """
    state = fold(log)
    if state.outcome is None:
        raise ValueError(f"run {number} has not ended")
    hashes = links(written(event) for event in log)
    plan = state.inputs.plan
    return RunSeal(
        format=RUN,
        run=run,
        number=number,
        plan=plan.code,
        plan_name=plan.name,
        plan_version=state.inputs.plan_version,
        kind=state.inputs.kind,
        source=plan.source,
        target=plan.target,
        outcome=state.outcome,
        started_by=state.started_by,
        started_at=state.started_at,
        ended_at=state.at,
        events=len(log),
        head=hashes[-1],
        links=shortened(hashes),
        facts=facts_of(state, log),
        audit_entries=audit[0],
        audit_head=audit[1],
        emergency=str(log[0].data.get("emergency") or ""),
    )


def shortened(hashes: Sequence[str]) -> str:
    """The beginnings of hashes, as a seal holds them."""
    joined = b"".join(bytes.fromhex(one)[:SHORT] for one in hashes)
    return base64.urlsafe_b64encode(joined).rstrip(b"=").decode()


def lengthened(text: str) -> list[str]:
    """The beginnings of hashes in a seal, as hex digits. Raises SealBroken."""
    try:
        joined = base64.urlsafe_b64decode(text + "=" * (-len(text) % 4))
    except ValueError as error:
        raise SealBroken("The links in the seal cannot be read.") from error
    return [joined[at : at + SHORT].hex() for at in range(0, len(joined), SHORT)]


def signed(payload: Any, key: OKPKey) -> str:
    """A value as a signed token in the compact form of RFC 7515; its header names the key."""
    text = json.dumps(to_data(payload), sort_keys=True, separators=(",", ":"), ensure_ascii=False)
    header = {"alg": ALGORITHM, "kid": key.thumbprint()}
    return jws.serialize_compact(header, text.encode(), key, algorithms=[ALGORITHM])


def key_named_in(token: str) -> str:
    """The thumbprint (RFC 7638) of the key that a token says it was signed with. Raises SealBroken."""
    try:
        return str(jws.extract_compact(token.encode()).headers()["kid"])
    except (JoseError, ValueError, KeyError, TypeError) as error:
        raise SealBroken("The seal is no signed token in the compact form of RFC 7515.") from error


def opened(token: str, key: Mapping[str, Any]) -> dict[str, Any]:
    """What a token says, after its signature was checked. Raises SealBroken."""
    named = key_named_in(token)
    try:
        public = OKPKey.import_key({name: key[name] for name in ("kty", "crv", "x")})
        if public.thumbprint() != named:
            raise SealBroken(f"The seal names the key {named}; this is another.")
        found: Any = json.loads(jws.deserialize_compact(token, public, algorithms=[ALGORITHM]).payload)
    except (JoseError, ValueError, KeyError, TypeError) as error:
        raise SealBroken(
            "The signature does not fit: the seal was changed, or another key made it."
        ) from error
    if not isinstance(found, dict):
        raise SealBroken("The seal holds no object.")
    return found
