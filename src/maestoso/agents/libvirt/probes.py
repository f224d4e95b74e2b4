"""Asking a machine as a client would: TCP, HTTP, TLS, DNS. An answer that is not right is told from none."""

from __future__ import annotations

import http.client
import socket
import ssl
from collections.abc import Mapping
from contextlib import suppress
from datetime import UTC, datetime
from typing import Any

import dns.exception
import dns.message
import dns.query
import dns.rdatatype
from cryptography import x509

from maestoso.agent_kit.platform import Failure

ONE_TRY_S = 5.0
UDP_S = 1.0


def ask(address: str, told: Mapping[str, Any]) -> None:
    """One try. Raises Failure (``no-answer``, ``wrong-answer``, ``certificate-ends``)."""
    protocol, port = told["protocol"], told["port"]
    try:
        if protocol in ("http", "https"):
            _http(address, port, told, tls=protocol == "https")
        elif protocol == "tls":
            _tls(address, port, told.get("days", 14))
        elif protocol in ("dns", "udp") and told.get("name"):
            _dns(address, port, told["name"])
        elif protocol == "dns":
            _dns(address, port, ".")
        elif protocol == "udp":
            _udp(address, port)
        else:
            socket.create_connection((address, port), ONE_TRY_S).close()
    except (OSError, http.client.HTTPException, dns.exception.DNSException) as error:
        raise Failure("no-answer", f"{address} port {port} does not answer ({protocol}): {error}.") from error


def _http(address: str, port: int, told: Mapping[str, Any], *, tls: bool) -> None:
    anybody = ssl._create_unverified_context()
    connection = (
        http.client.HTTPSConnection(address, port, timeout=ONE_TRY_S, context=anybody)
        if tls else http.client.HTTPConnection(address, port, timeout=ONE_TRY_S)
    )  # fmt: skip
    try:
        connection.request("GET", told.get("path", "/"))
        answer = connection.getresponse()
        text = answer.read(1_000_000).decode(errors="replace")
    finally:
        connection.close()
    if "status" in told and answer.status != told["status"]:
        raise Failure("wrong-answer", f"The status is {answer.status}, and not {told['status']}.")
    if told.get("text") and told["text"] not in text:
        raise Failure("wrong-answer", f"The answer does not hold {told['text']!r}.")


def _tls(address: str, port: int, days: int) -> None:
    context = ssl._create_unverified_context()  # whether it may be trusted is for its clients to say
    with socket.create_connection((address, port), ONE_TRY_S) as plain, context.wrap_socket(plain) as secure:
        found = secure.getpeercert(binary_form=True)
    ends = x509.load_der_x509_certificate(found or b"").not_valid_after_utc
    left = (ends - datetime.now(UTC)).days
    if left < days:
        raise Failure("certificate-ends", f"The certificate ends in {left} days, on {ends:%Y-%m-%d}.")


def _udp(address: str, port: int) -> None:
    """What it speaks is not known, so it need not answer: it is there unless its host says that it is not."""
    with socket.socket(socket.AF_INET6 if ":" in address else socket.AF_INET, socket.SOCK_DGRAM) as line:
        line.settimeout(UDP_S)
        line.connect((address, port))
        line.send(b"\0")
        with suppress(TimeoutError):
            line.recv(1)


def _dns(address: str, port: int, name: str) -> None:
    kind = dns.rdatatype.NS if name == "." else dns.rdatatype.A
    answer = dns.query.udp(dns.message.make_query(name, kind), address, timeout=ONE_TRY_S, port=port)
    if name != "." and not answer.answer:
        raise Failure("wrong-answer", f"{name} is not known there.")
