"""A private authority and what it signs, for an hour."""

from __future__ import annotations

import ipaddress
from datetime import timedelta
from pathlib import Path
from typing import Any

from cryptography import x509
from cryptography.hazmat.primitives import hashes, serialization
from cryptography.hazmat.primitives.asymmetric import ec
from cryptography.x509.oid import NameOID

from maestoso.engine.clock import SystemClock


class Papers:
    """Writes ``authority.pem``, and with :meth:`sign` certificates with their keys, into a folder."""

    def __init__(self, folder: Path) -> None:
        self.folder = folder
        self._key = ec.generate_private_key(ec.SECP256R1())
        self._authority = self._certificate("authority", self._key, None, "127.0.0.1", timedelta(hours=1))
        self._write("authority", self._authority)

    def sign(self, name: str, address: str = "127.0.0.1", good_for: timedelta = timedelta(hours=1)) -> Path:
        """A certificate for an address, and its key; the file that holds both."""
        key = ec.generate_private_key(ec.SECP256R1())
        return self._write(name, self._certificate(name, key, self._authority, address, good_for), key)

    def _certificate(
        self, name: str, key: Any, issuer: x509.Certificate | None, address: str, good_for: timedelta
    ) -> x509.Certificate:
        subject, now = x509.Name([x509.NameAttribute(NameOID.COMMON_NAME, name)]), SystemClock().now()
        made = (
            x509.CertificateBuilder()
            .subject_name(subject)
            .issuer_name(issuer.subject if issuer else subject)
            .public_key(key.public_key())
            .serial_number(x509.random_serial_number())
            .not_valid_before(now - timedelta(hours=2))
            .not_valid_after(now + good_for)
            .add_extension(x509.BasicConstraints(ca=issuer is None, path_length=None), critical=True)
            .add_extension(
                x509.SubjectAlternativeName([x509.IPAddress(ipaddress.ip_address(address))]), critical=False
            )
        )
        return made.sign(self._key, hashes.SHA256())

    def _write(self, name: str, certificate: x509.Certificate, key: Any = None) -> Path:
        pem = serialization.Encoding.PEM
        parts = [certificate.public_bytes(pem)]
        if key is not None:
            plain = serialization.PrivateFormat.PKCS8
            parts.append(key.private_bytes(pem, plain, serialization.NoEncryption()))
        file = self.folder / f"{name}.pem"
        file.write_bytes(b"".join(parts))
        return file
