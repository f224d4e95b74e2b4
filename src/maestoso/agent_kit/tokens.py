"""Who is let in: tokens in a file, and the one-time code for which the first is given.

The file holds one token a line and is read anew when it changed, so that people may edit it. Codes are made
and read as of ``maestoso.sites.trust``: 10 random bytes and, with TLS, 10 bytes of the SHA-256 of the
certificate.
"""

from __future__ import annotations

import base64
import hashlib
import hmac
import os
import secrets
import ssl
import threading
import time
from pathlib import Path

from .web import Refused

CODE_BYTES = 10
CODE_S = 3600.0
MOST_TRIES = 5


class Tokens:
    """The file. ``certificate`` (PEM) is what the agent shows, if it speaks TLS."""

    def __init__(self, file: Path, certificate: Path | None = None) -> None:
        self._file = file
        self._certificate = certificate
        self._turn = threading.Lock()
        self._read: tuple[str, ...] = ()
        self._as_of: tuple[int, int] | None = None
        self._code = b""
        self._until = 0.0
        self._tries = 0

    def known(self) -> tuple[str, ...]:
        """All tokens that are let in, the newest last; none before the agent is enrolled."""
        try:
            about = self._file.stat()
        except FileNotFoundError:
            return ()
        as_of = (about.st_mtime_ns, about.st_size)
        if as_of != self._as_of:
            lines = self._file.read_text("utf-8").splitlines()
            self._read, self._as_of = tuple(line.strip() for line in lines if line.strip()), as_of
        return self._read

    def used(self, token: str) -> None:
        """A token was used; once it is the newest, those before it are good no more."""
        with self._turn:
            known = self.known()
            if len(known) > 1 and hmac.compare_digest(token, known[-1]):
                self._write(known[-1:])

    def another(self) -> str:
        """A new token beside those that are known."""
        with self._turn:
            token = secrets.token_hex(32)
            # Of tokens that were asked for and never used, only the last is kept.
            self._write((*self.known()[:1], token))
        return token

    def open_code(self) -> str:
        """A one-time code, for people to type; the one before it is good no more."""
        with self._turn:
            self._code = secrets.token_bytes(CODE_BYTES) + self._fingerprint()
            self._until, self._tries = time.monotonic() + CODE_S, 0
            plain = base64.b32encode(self._code).decode()
        return "-".join(plain[at : at + 4] for at in range(0, len(plain), 4))

    def enrol(self, typed: str, *, other_site: str = "") -> str:
        """The first token, for the code. Raises Refused.

        With ``other_site``, the agent was taken for that of another site; the code stays good then.
        """
        with self._turn:
            if not self._code or time.monotonic() > self._until:
                raise Refused(409, "no-code", "There is no one-time code that is still good.")
            self._tries += 1
            try:
                given = base64.b32decode("".join(sign for sign in typed.upper() if sign not in "- "))
            except ValueError:
                given = b""
            if not hmac.compare_digest(given, self._code):
                if self._tries >= MOST_TRIES:
                    self._code = b""
                raise Refused(409, "wrong-code", "That is not the one-time code that was printed.")
            if other_site:
                raise Refused(409, "other-site", f"This is not the agent of the site {other_site}.")
            self._code = b""
            token = secrets.token_hex(32)
            self._write((token,))
        return token

    def _fingerprint(self) -> bytes:
        if self._certificate is None:
            return b""
        der = ssl.PEM_cert_to_DER_cert(_first(self._certificate.read_text("ascii")))
        return hashlib.sha256(der).digest()[:CODE_BYTES]

    def _write(self, tokens: tuple[str, ...]) -> None:
        fresh = self._file.with_name(f".{self._file.name}.{os.getpid()}")
        fresh.touch(mode=0o600)
        fresh.write_text("".join(f"{token}\n" for token in tokens), encoding="utf-8")
        fresh.replace(self._file)


def _first(pem: str) -> str:
    """The first certificate of a text that may hold a chain and a key."""
    begin, end = "-----BEGIN CERTIFICATE-----", "-----END CERTIFICATE-----"
    if begin not in pem:
        raise ValueError("There is no certificate in the file.")
    return begin + pem.split(begin, 1)[1].split(end, 1)[0] + end
