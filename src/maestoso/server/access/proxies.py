"""From where a request comes: a proxy's word counts only where a setting names the proxy."""

from __future__ import annotations

from collections.abc import Awaitable, Callable, Sequence
from ipaddress import IPv4Network, IPv6Network, ip_address

from asgiref.sync import iscoroutinefunction, markcoroutinefunction
from django.http import HttpRequest, HttpResponseBase
from django.utils.decorators import sync_and_async_middleware

from maestoso.server.config.exposure import networks
from maestoso.server.config.settings import BY_TLS, OPTIONS

Networks = tuple[IPv4Network | IPv6Network, ...]
SAID_BY_PROXIES = (
    "HTTP_X_FORWARDED_FOR", "HTTP_X_FORWARDED_PROTO", "HTTP_X_FORWARDED_HOST", "HTTP_X_FORWARDED_PORT",
    "HTTP_X_REAL_IP", "HTTP_FORWARDED",
)  # fmt: skip


def client_address(peer: str, forwarded_for: str, trusted: Networks) -> str:
    """Who asks: the peer, or where that is a trusted proxy, the last address of the chain that is none.

    What does not look like an address is taken for the word of whoever stands before it.
    """
    found = peer
    for said in reversed(forwarded_for.split(",")):
        if not _among(found, trusted):
            break
        try:
            found = str(ip_address(said.strip()))
        except ValueError:
            break
    return found


def _among(address: str, trusted: Sequence[IPv4Network | IPv6Network]) -> bool:
    try:
        return any(ip_address(address) in network for network in trusted)
    except ValueError:
        return False


TRUSTED = networks(OPTIONS.trusted_proxies)


def note_address(request: HttpRequest, trusted: Networks | None = None) -> None:
    """Put the client's address where Django has it, and whether it came by TLS to a trusted proxy.

    What anybody else said about it is forgotten.
    """
    trusted = TRUSTED if trusted is None else trusted
    peer = str(request.META.get("REMOTE_ADDR") or "")
    said = str(request.META.get("HTTP_X_FORWARDED_PROTO", "")).split(",")[-1].strip().lower()
    if said == "https" and _among(peer, trusted):
        request.META[BY_TLS] = "yes"
    request.META["REMOTE_ADDR"] = client_address(peer, request.META.get("HTTP_X_FORWARDED_FOR", ""), trusted)
    for name in SAID_BY_PROXIES:
        request.META.pop(name, None)


@sync_and_async_middleware
def ClientAddress(
    get_response: Callable[[HttpRequest], HttpResponseBase | Awaitable[HttpResponseBase]],
) -> Callable[[HttpRequest], HttpResponseBase | Awaitable[HttpResponseBase]]:
    """The first of all: throttles and the audit trail see the address that it found."""

    def middleware(request: HttpRequest) -> HttpResponseBase | Awaitable[HttpResponseBase]:
        note_address(request)
        return get_response(request)

    return markcoroutinefunction(middleware) if iscoroutinefunction(get_response) else middleware
