"""Whom a line to an agent trusts: public authorities, one of its own, or one certificate and no other.

One-time codes of enrolment are 10 random bytes and, for an agent with TLS, 10 bytes of the SHA-256 of its
certificate, in base32 (RFC 4648) with dashes: whoever has the code knows that it speaks to that agent.
"""

from __future__ import annotations

import asyncio
import base64
import hashlib
import hmac
import ssl
from dataclasses import dataclass
from functools import lru_cache

import httpx
from cryptography import x509
from cryptography.hazmat.primitives.serialization import Encoding

CODE_BYTES = 10
CONNECT_S = 5.0
MISSING = "certificate required"
"""In the words of TLS."""


@lru_cache(64)
def tls(certificate: str = "", own: str = "") -> ssl.SSLContext:
    """The context of a line. Reading all the authorities takes longer than most questions to a site.

    ``certificate`` (PEM) is trusted and nothing else: an authority, or the agent's own, whatever its name.
    ``own`` is a file (PEM) with the certificate and key that agents are shown. Raises ValueError, OSError.
    """
    if not certificate:
        context = httpx.create_ssl_context(trust_env=False)
    else:
        known = read(certificate)
        context = ssl.create_default_context(cadata=certificate)
        # Python 3.13 refuses those without key identifiers, which small authorities sign.
        context.verify_flags &= ~ssl.VERIFY_X509_STRICT
        if not known.authority:
            context.check_hostname = False
            context.verify_flags |= ssl.VERIFY_X509_PARTIAL_CHAIN
    if own:
        context.load_cert_chain(own)
    return context


@dataclass(frozen=True, slots=True, kw_only=True)
class Certificate:
    """What matters of a certificate: whether it is an authority's, its SHA-256, until when it is good."""

    authority: bool
    fingerprint: bytes
    until: str


def read(pem: str) -> Certificate:
    """The first certificate of a PEM text. Raises ValueError with a sentence for what is none."""
    try:
        known = x509.load_pem_x509_certificate(pem.encode("ascii", "replace"))
    except ValueError as error:
        raise ValueError("That is no certificate in PEM form.") from error
    try:
        authority = known.extensions.get_extension_for_class(x509.BasicConstraints).value.ca
    except x509.ExtensionNotFound:
        authority = False
    der = known.public_bytes(Encoding.DER)
    return Certificate(
        authority=authority, fingerprint=hashlib.sha256(der).digest(),
        until=known.not_valid_after_utc.isoformat(),
    )  # fmt: skip


def shown_by(host: str, port: int) -> str:
    """The certificate (PEM) that is shown there, whoever signed it. Raises OSError."""
    return ssl.get_server_certificate((host, port), timeout=CONNECT_S)


async def complaint(host: str, port: int, context: ssl.SSLContext) -> str:
    """What the other end of a line has against our certificate, or that there is none, in the words of TLS.

    TLS 1.3 says so only after the handshake (RFC 8446, 4.4.2.4), and who is sending meanwhile sees the line
    break instead. So nothing is sent here. Some servers hang up without a word, which nobody else does to who
    has asked for nothing yet. Empty where the line stays, or there is none.
    """
    writer = None
    try:
        async with asyncio.timeout(CONNECT_S):
            reader, writer = await asyncio.open_connection(host, port, ssl=context)
            await reader.read(1)
            return MISSING
    except ssl.SSLError as error:
        return str(error)
    except TimeoutError:
        return ""
    except OSError:
        return MISSING if writer is not None else ""
    finally:
        if writer is not None:
            writer.transport.abort()


def code_bytes(code: str) -> bytes:
    """A one-time code as people type it. Raises ValueError."""
    plain = "".join(sign for sign in code.upper() if sign not in "- ")
    try:
        found = base64.b32decode(plain)
    except ValueError as error:
        raise ValueError("That is no one-time code.") from error
    if len(found) not in (CODE_BYTES, 2 * CODE_BYTES):
        raise ValueError("That is no one-time code: it has too few or too many signs.")
    return found


def belongs_to(code: bytes, certificate: Certificate) -> bool:
    """Whether a code was given out by the agent with this certificate."""
    return hmac.compare_digest(code[CODE_BYTES:], certificate.fingerprint[:CODE_BYTES])
