"""The HTTP client of the site protocol, version 1."""

from __future__ import annotations

import json
import ssl
from collections.abc import Callable, Sequence
from dataclasses import replace
from types import TracebackType
from typing import Any, Self, TypeVar
from urllib.parse import quote

import httpx

from maestoso.core.codec import from_data, to_data
from maestoso.core.errors import BadValue
from maestoso.core.model.estate import Inventory, OddMachine, Workload
from maestoso.core.model.landing import Landing
from maestoso.core.model.protection import ChangeRate, RecoveryPoint
from maestoso.core.ports import (
    REIGN_PAST,
    Feed,
    SiteBusy,
    SiteRefused,
    SiteUnintelligible,
    SiteUnreachable,
    SiteUntrusted,
)
from maestoso.core.runs.operations import Operation, OperationState
from maestoso.sites.contract import (
    Answering,
    ChangeRates,
    HeldLandings,
    Lags,
    LeaseAsked,
    LeaseGiven,
    Points,
    SitePulse,
    WorkloadChange,
)
from maestoso.sites.trust import MISSING, complaint, tls

CONNECT_S = 2.0
ANSWER_S = 5.0
LARGE_ANSWER_S = 60.0
"""An inventory of ten thousand workloads is some megabytes."""
SOON_S = 5.0
LONGEST_BUSY_S = 300.0
"""However long a site wants to be left alone, it is asked whether it goes by then."""
LONGEST_EPOCH = 64
LONGEST_ODD = 120
LONGEST_TEXT = 20_000
"""Characters of a text in what a site says of an operation; more is cut."""
STRANGER = "What answers there is no site agent that can be understood"
TOKEN = "the token of the site may be wrong, or something stands in between."

TLS_SAYS = (
    ("hostname mismatch", "Its certificate is for another name than the one in its address."),
    ("ip address mismatch", "Its certificate is for another address than this one."),
    ("certificate has expired", "Its certificate has expired."),
    ("not yet valid", "Its certificate is not good yet; see whether a clock is off."),
    ("certificate_verify_failed", "Its certificate is not signed by anybody who is trusted for this site."),
    (
        MISSING,
        "It wants to see a certificate of ours that it trusts; name one in MAESTOSO_AGENT_CERTIFICATE.",
    ),
    ("unknown ca", "It does not trust the certificate that MAESTOSO_AGENT_CERTIFICATE names."),
)
"""What TLS says of certificates in its own words, and what that means."""
NO_TLS = ("wrong_version_number", "record layer failure", "record_layer_failure")

T = TypeVar("T")


class HttpSite:
    """One site agent at ``url``. Raises SiteUnreachable when there is no answer, SiteRefused for a 'no', and
    SiteUnintelligible when something answers that is no agent, or says what cannot be understood.

    ``installation`` and ``reign`` go with every operation (:class:`maestoso.sites.contract.Submission`);
    ``past(said)`` is called where the site says that the reign is past.
    ``trust`` says whose certificate is taken (:func:`maestoso.sites.trust.tls`). ``longest_s`` is how long an
    answer may take where who asks gives up by himself. ``transport`` lets tests speak to an agent without a
    socket.
    """

    def __init__(
        self, url: str, token: str, transport: httpx.AsyncBaseTransport | None = None,
        trust: ssl.SSLContext | None = None, installation: str = "", reign: int = 0,
        past: Callable[[str], None] = lambda said: None, longest_s: float | None = None,
    ) -> None:  # fmt: skip
        self._installation, self._reign, self._past = installation, reign, past
        self._trust = trust or tls()
        self._http = httpx.AsyncClient(
            base_url=url.rstrip("/") + "/v1",
            headers={"Authorization": f"Bearer {token}"} if token else {},
            timeout=httpx.Timeout(longest_s) if longest_s else httpx.Timeout(ANSWER_S, connect=CONNECT_S),
            transport=transport,
            trust_env=False,
            verify=self._trust,
        )

    async def __aenter__(self) -> Self:
        return self

    async def __aexit__(
        self, kind: type[BaseException] | None, error: BaseException | None, trace: TracebackType | None
    ) -> None:
        await self.close()

    async def close(self) -> None:
        """Close its connections."""
        await self._http.aclose()

    async def capabilities(self) -> dict[str, Any]:
        """Protocol version, verbs, whether this is a practice site."""
        answer: dict[str, Any] = await self._call("GET", "/capabilities")
        return answer

    async def distrust(self) -> str:
        """Why an agent hangs up on us that we trust, in a sentence; empty where it does not.

        For when it is introduced: later on, one that is ending looks the same, and to see it takes seconds.
        """
        at = self._http.base_url
        if at.scheme != "https":
            return ""
        return _not_trusted(await complaint(at.host, at.port or 443, self._trust))

    async def enrol(self, code: str, site: str) -> str:
        """Give its one-time code, as that of a site; the token that it has for us from now on."""
        return str(_part(await self._call("POST", "/enrol", json={"code": code, "site": site}), "token"))

    async def new_token(self) -> str:
        """Another token; the old one is good until the new one was used."""
        return str(_part(await self._call("POST", "/token", json={}), "token"))

    async def inventory(self) -> Inventory:
        """What the site has, without the machines that cannot be understood."""
        return (await self.inventory_and_odd())[0]

    async def inventory_and_odd(self) -> tuple[Inventory, tuple[OddMachine, ...]]:
        """What the site has, and the machines of which what it says cannot be understood."""
        patience = httpx.Timeout(LARGE_ANSWER_S, connect=CONNECT_S)
        said = await self._call("GET", "/inventory", timeout=patience)
        machines = said.get("workloads", [])
        if not isinstance(machines, list):
            raise SiteUnintelligible(f"{STRANGER}: its workloads are no list.")
        found, odd = [], []
        for number, one in enumerate(machines):
            try:
                found.append(from_data(Workload, one, "workload", tolerant=True))
            except BadValue as error:
                name = one.get("name") if isinstance(one, dict) else None
                said_name = name if isinstance(name, str) and name else f"number {number + 1}"
                odd.append(OddMachine(name=said_name[:LONGEST_ODD], why=error.sentence))
        return replace(_heard(Inventory, {**said, "workloads": []}), workloads=tuple(found)), tuple(odd)

    async def points(self, group: str) -> tuple[tuple[RecoveryPoint, ...], tuple[ChangeRate, ...]]:
        """Recovery points of a group held at the site, and how fast it changed; each oldest first."""
        answer = await self._call("GET", "/points", params={"group": group})
        told = _heard(Points, answer)
        return told.points, told.changes

    async def pulse(self) -> SitePulse:
        """How the site and the copying to it stand."""
        said = _heard(SitePulse, await self._call("GET", "/pulse"))
        return replace(said, epoch=said.epoch[:LONGEST_EPOCH])

    async def landings(self) -> tuple[Landing, ...]:
        """Landings that the site holds for workloads that may arrive."""
        patience = httpx.Timeout(LARGE_ANSWER_S, connect=CONNECT_S)
        return _heard(HeldLandings, await self._call("GET", "/landings", timeout=patience)).landings

    async def lags(self) -> Lags:
        """How far behind every group was over the last day."""
        return _heard(Lags, await self._call("GET", "/lags"))

    async def change_rates(self) -> tuple[WorkloadChange, ...]:
        """How fast the workloads of the site change."""
        return _heard(ChangeRates, await self._call("GET", "/change-rates")).workloads

    async def journal(self, after: int = 0) -> list[dict[str, Any]]:
        """Effects that the site had behind number ``after``, in order."""
        answer: list[dict[str, Any]] = _part(
            await self._call("GET", "/journal", params={"after": after}), "entries"
        )
        return answer

    async def practise(self, path: str, body: Any = None) -> None:
        """Tell a practice site what to be or how to misbehave (``None``: put all right)."""
        patience = httpx.Timeout(LARGE_ANSWER_S, connect=CONNECT_S)
        method = "DELETE" if body is None else "POST"
        await self._call(method, f"/practice/{path}", json=body, timeout=patience)

    async def practised(self) -> Any:
        """What is made to misbehave at a practice site now."""
        return await self._call("GET", "/practice")

    async def answering(self, workloads: Sequence[str], mark: str = "") -> frozenset[tuple[str, str]]:
        """Workload and service of all that answer there now; with a ``mark``, on the copies that carry it.

        Raises SiteRefused for an agent that probes no copies.
        """
        body = {"workloads": list(workloads), **({"mark": mark} if mark else {})}
        said = _heard(Answering, await self._call("POST", "/answering", json=body))
        if said.mark != mark:
            raise SiteRefused("no-probes", "Its site agent does not probe copies of tests.")
        return frozenset((name, service) for name, found in said.services.items() for service in found)

    async def remains(self, mark: str) -> list[str]:
        """What still carries the mark of a run."""
        answer: list[str] = _part(await self._call("GET", "/remains", params={"mark": mark}), "remains")
        return answer

    async def lease(
        self, reign: int, renewals: int, for_s: float, holder: str, *, if_over: bool = False
    ) -> LeaseGiven:
        """Hold the lease of the installation, or (``if_over``) be promised it where nobody does any more.

        Raises SiteRefused with the codes of docs/site-protocol.md, Leases.
        """
        asked = LeaseAsked(reign=reign, renewals=renewals, for_s=for_s, holder=holder, if_over=if_over)
        path = f"/leases/{quote(self._installation, safe='')}"
        return _heard(LeaseGiven, await self._call("PUT", path, json=to_data(asked)))

    async def put_operation(
        self, operation: Operation, fence: int, answer_s: float = ANSWER_S
    ) -> OperationState:
        """Ask for an operation; the same key is always answered with the same operation."""
        body = {
            "verb": operation.verb,
            "subject": operation.subject,
            "run": operation.run,
            "fence": fence,
            "args": to_data(operation.args),
            "pace": operation.pace,
            "installation": self._installation,
            "reign": self._reign,
        }
        patience = httpx.Timeout(answer_s, connect=CONNECT_S)
        path = f"/operations/{quote(operation.key, safe='')}"
        try:
            answer = await self._call("PUT", path, json=body, timeout=patience)
        except SiteRefused as refused:
            if refused.code == REIGN_PAST:
                self._past(refused.reason)
            raise
        return _state(answer)

    async def operation(self, key: str) -> OperationState | None:
        """What became of a key; None where the site never heard of it."""
        try:
            answer = await self._call("GET", f"/operations/{quote(key, safe='')}")
        except SiteRefused as refused:
            if refused.code == "not-found":
                return None
            raise
        return _state(answer)

    async def changes(self, after: int, wait_s: float) -> Feed:
        """Operations that changed behind cursor ``after`` (-1: none, only tell the cursor).

        The site keeps the call open up to ``wait_s`` seconds when there is nothing to tell.
        """
        answer = await self._call(
            "GET",
            "/operations",
            params={"after": after, "wait": wait_s},
            timeout=httpx.Timeout(ANSWER_S + wait_s, connect=CONNECT_S),
        )
        states, cursor = _part(answer, "operations"), _part(answer, "cursor")
        if not isinstance(states, list) or not isinstance(cursor, int):
            raise SiteUnintelligible(f"{STRANGER}: its feed is no list with a cursor.")
        epoch = str(answer.get("epoch", ""))[:LONGEST_EPOCH]
        return Feed(states=[_state(item) for item in states], cursor=cursor, epoch=epoch)

    async def _call(self, method: str, path: str, **rest: Any) -> Any:
        try:
            answer = await self._http.request(method, path, **rest)
        except httpx.TransportError as error:
            untrusted = _not_trusted(str(error))
            if untrusted:
                raise SiteUntrusted(untrusted) from error
            raise SiteUnreachable(_in_words(error)) from error
        busy_s = _busy_s(answer)
        if busy_s is not None:
            raise SiteBusy(busy_s)
        if answer.status_code >= 500:
            raise SiteUnreachable(f"The site agent answered with status {answer.status_code}.")
        if answer.status_code == 401 and _says(answer, "unauthorised"):
            raise SiteUntrusted("Its site agent does not know this token.")
        if answer.status_code in (401, 403, 407):
            raise SiteUnintelligible(
                f"What answers there lets nobody in (status {answer.status_code}): {TOKEN}"
            )
        content = _clean(answer.content)
        if answer.status_code >= 400:
            if isinstance(content, dict) and isinstance(code := content.get("code"), str):
                raise SiteRefused(code, str(content.get("detail", "The site refused.")))
            raise SiteUnintelligible(f"{STRANGER} (status {answer.status_code}).")
        if not answer.is_success or not isinstance(content, dict):
            raise SiteUnintelligible(f"{STRANGER} (status {answer.status_code}).")
        return content


def _busy_s(answer: httpx.Response) -> float | None:
    """How long a site that is busy wants to be left alone (RFC 9110, 10.2.3; RFC 6585, 4); None for others.

    Without a time, and with a date instead of one, it is asked again soon.
    """
    said = answer.headers.get("Retry-After", "")
    if answer.status_code != 429 and not (answer.status_code == 503 and said):
        return None
    named = float(said) if said.isascii() and said.isdigit() and len(said) < 6 else SOON_S
    return min(max(named, 1.0), LONGEST_BUSY_S)


def _clean(body: bytes) -> Any:
    """JSON that any log can keep: no half characters, no numbers that are none; None where it is no JSON."""
    try:
        content = json.loads(body, parse_constant=lambda name: None)
    except (ValueError, RecursionError):
        return None
    # Half a character can only come from an escape; to look for it is quicker than to go through everything.
    return _whole_text(content) if b"\\ud" in body.lower() else content


def _whole_text(value: Any) -> Any:
    if isinstance(value, str):
        return value.encode("utf-8", "replace").decode()
    if isinstance(value, list):
        return [_whole_text(item) for item in value]
    if isinstance(value, dict):
        return {_whole_text(key): _whole_text(item) for key, item in value.items()}
    return value


def _cut(value: Any) -> Any:
    """What a site says of an operation goes into the log of a run: no text of it has no end."""
    if isinstance(value, str):
        return value if len(value) <= LONGEST_TEXT else f"{value[:LONGEST_TEXT]} … (cut)"
    if isinstance(value, list):
        return [_cut(item) for item in value]
    if isinstance(value, dict):
        return {_cut(key): _cut(item) for key, item in value.items()}
    return value


def _heard(cls: type[T], content: Any) -> T:
    """What a site says, read tolerantly. Raises SiteUnintelligible for what cannot be understood."""
    try:
        return from_data(cls, content, tolerant=True)
    except BadValue as error:
        raise SiteUnintelligible(f"{STRANGER}: {error.sentence}") from error


def _state(content: Any) -> OperationState:
    return _heard(OperationState, _cut(content))


def _part(content: dict[str, Any], name: str) -> Any:
    if name not in content:
        raise SiteUnintelligible(f"{STRANGER}: {name} is missing.")
    return content[name]


def _says(answer: httpx.Response, code: str) -> bool:
    """Whether it is an agent that refuses, and not whatever stands there."""
    content = _clean(answer.content)
    return isinstance(content, dict) and content.get("code") == code


def _not_trusted(said: str) -> str:
    """What TLS found wrong, in a sentence; empty where it was something else."""
    return next((sentence for sign, sentence in TLS_SAYS if sign in said.lower()), "")


def _in_words(error: httpx.TransportError) -> str:
    if any(sign in str(error).lower() for sign in NO_TLS):
        return (
            "What answers does not speak TLS; write http:// in its address, or give its agent a certificate."
        )
    if isinstance(error, httpx.ConnectTimeout | httpx.ConnectError):
        return "No connection to the site agent."
    if isinstance(error, httpx.TimeoutException):
        return "The site agent did not answer in time."
    return "The connection to the site agent broke."
