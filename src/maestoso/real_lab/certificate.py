"""A certificate that signs itself, for an agent of the lab."""

from __future__ import annotations

import ipaddress
from datetime import timedelta
from pathlib import Path

from cryptography import x509
from cryptography.hazmat.primitives import hashes, serialization
from cryptography.hazmat.primitives.asymmetric import ec
from cryptography.x509.oid import NameOID

from maestoso.engine.clock import SystemClock

GOOD_FOR = timedelta(days=365)


def write(file: Path, name: str, *found_at: str, good_for: timedelta = GOOD_FOR) -> None:
    """Certificate and key (PEM) in one file that only its owner can read, for addresses and host names."""
    key = ec.generate_private_key(ec.SECP256R1())
    subject, now = x509.Name([x509.NameAttribute(NameOID.COMMON_NAME, name)]), SystemClock().now()
    made = (
        x509.CertificateBuilder()
        .subject_name(subject)
        .issuer_name(subject)
        .public_key(key.public_key())
        .serial_number(x509.random_serial_number())
        .not_valid_before(now - timedelta(hours=1))
        .not_valid_after(now + good_for)
        .add_extension(x509.SubjectAlternativeName([_general(one) for one in found_at]), critical=False)
        .add_extension(x509.BasicConstraints(ca=True, path_length=0), critical=True)
        .sign(key, hashes.SHA256())
    )
    file.touch(0o600)
    file.write_bytes(
        made.public_bytes(serialization.Encoding.PEM)
        + key.private_bytes(
            serialization.Encoding.PEM, serialization.PrivateFormat.PKCS8, serialization.NoEncryption()
        )
    )


def _general(found_at: str) -> x509.GeneralName:
    try:
        return x509.IPAddress(ipaddress.ip_address(found_at))
    except ValueError:
        return x509.DNSName(found_at)


def names_of(file: Path) -> list[str]:
    """Host names and addresses that a certificate (PEM) is for."""
    found = x509.load_pem_x509_certificate(file.read_bytes())
    said = found.extensions.get_extension_for_class(x509.SubjectAlternativeName).value
    return [*said.get_values_for_type(x509.DNSName), *map(str, said.get_values_for_type(x509.IPAddress))]


def public_part(file: Path) -> str:
    """The certificate (PEM) without its key."""
    found = x509.load_pem_x509_certificate(file.read_bytes())
    return found.public_bytes(serialization.Encoding.PEM).decode()
