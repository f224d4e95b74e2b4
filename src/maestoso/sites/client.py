"""The HTTP client of the site protocol, version 1."""

from __future__ import annotations

import ssl
from collections.abc import Sequence
from functools import cache
from types import TracebackType
from typing import Any, Self
from urllib.parse import quote

import httpx

from maestoso.core.codec import from_data, to_data
from maestoso.core.model.estate import Inventory
from maestoso.core.model.landing import Landing
from maestoso.core.model.protection import ChangeRate, RecoveryPoint
from maestoso.core.ports import SiteRefused, SiteUnreachable
from maestoso.core.runs.operations import Operation, OperationState
from maestoso.sites.contract import Answering, ChangeRates, HeldLandings, Lags, SitePulse, WorkloadChange

CONNECT_S = 2.0
ANSWER_S = 5.0
LARGE_ANSWER_S = 60.0
"""An inventory of ten thousand workloads is some megabytes."""


@cache
def _tls() -> ssl.SSLContext:
    """Reading all the authorities takes longer than most questions to a site."""
    return httpx.create_ssl_context(trust_env=False)


class HttpSite:
    """One site agent at ``url``. Raises SiteUnreachable when there is no answer, SiteRefused for a 'no'.

    ``transport`` lets tests speak to an agent without a socket.
    """

    def __init__(self, url: str, token: str, transport: httpx.AsyncBaseTransport | None = None) -> None:
        self._http = httpx.AsyncClient(
            base_url=url.rstrip("/") + "/v1",
            headers={"Authorization": f"Bearer {token}"},
            timeout=httpx.Timeout(ANSWER_S, connect=CONNECT_S),
            transport=transport,
            trust_env=False,
            verify=_tls(),
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

    async def inventory(self) -> Inventory:
        """What the site has."""
        patience = httpx.Timeout(LARGE_ANSWER_S, connect=CONNECT_S)
        return from_data(Inventory, await self._call("GET", "/inventory", timeout=patience))

    async def points(self, group: str) -> tuple[tuple[RecoveryPoint, ...], tuple[ChangeRate, ...]]:
        """Recovery points of a group held at the site, and how fast it changed; each oldest first."""
        answer = await self._call("GET", "/points", params={"group": group})
        return (
            tuple(from_data(RecoveryPoint, item) for item in answer["points"]),
            tuple(from_data(ChangeRate, item) for item in answer["changes"]),
        )

    async def pulse(self) -> SitePulse:
        """How the site and the copying to it stand."""
        return from_data(SitePulse, await self._call("GET", "/pulse"))

    async def landings(self) -> tuple[Landing, ...]:
        """Landings that the site holds for workloads that may arrive."""
        patience = httpx.Timeout(LARGE_ANSWER_S, connect=CONNECT_S)
        return from_data(HeldLandings, await self._call("GET", "/landings", timeout=patience)).landings

    async def lags(self) -> Lags:
        """How far behind every group was over the last day."""
        return from_data(Lags, await self._call("GET", "/lags"))

    async def change_rates(self) -> tuple[WorkloadChange, ...]:
        """How fast the workloads of the site change."""
        return from_data(ChangeRates, await self._call("GET", "/change-rates")).workloads

    async def journal(self, after: int = 0) -> list[dict[str, Any]]:
        """Effects that the site had behind number ``after``, in order."""
        answer: list[dict[str, Any]] = (await self._call("GET", "/journal", params={"after": after}))[
            "entries"
        ]
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
        said = from_data(Answering, await self._call("POST", "/answering", json=body))
        if said.mark != mark:
            raise SiteRefused("no-probes", "Its site agent does not probe copies of tests.")
        return frozenset((name, service) for name, found in said.services.items() for service in found)

    async def remains(self, mark: str) -> list[str]:
        """What still carries the mark of a run."""
        answer: list[str] = (await self._call("GET", "/remains", params={"mark": mark}))["remains"]
        return answer

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
        }
        patience = httpx.Timeout(answer_s, connect=CONNECT_S)
        path = f"/operations/{quote(operation.key, safe='')}"
        answer = await self._call("PUT", path, json=body, timeout=patience)
        return from_data(OperationState, answer)

    async def operation(self, key: str) -> OperationState | None:
        """What became of a key; None where the site never heard of it."""
        try:
            answer = await self._call("GET", f"/operations/{quote(key, safe='')}")
        except SiteRefused as refused:
            if refused.code == "not-found":
                return None
            raise
        return from_data(OperationState, answer)

    async def changes(self, after: int, wait_s: float) -> tuple[list[OperationState], int]:
        """Operations that changed behind cursor ``after`` (-1: none, only tell the cursor).

        The site keeps the call open up to ``wait_s`` seconds when there is nothing to tell.
        """
        answer = await self._call(
            "GET",
            "/operations",
            params={"after": after, "wait": wait_s},
            timeout=httpx.Timeout(ANSWER_S + wait_s, connect=CONNECT_S),
        )
        return [from_data(OperationState, item) for item in answer["operations"]], int(answer["cursor"])

    async def _call(self, method: str, path: str, **rest: Any) -> Any:
        try:
            answer = await self._http.request(method, path, **rest)
        except httpx.TransportError as error:
            raise SiteUnreachable(_in_words(error)) from error
        if answer.status_code >= 500:
            raise SiteUnreachable(f"The site agent answered with status {answer.status_code}.")
        try:
            content = answer.json()
        except ValueError as error:
            raise SiteRefused("not-the-protocol", "What answers there does not speak JSON.") from error
        if answer.status_code >= 400:
            raise SiteRefused(
                str(content.get("code", "refused")), str(content.get("detail", "The site refused."))
            )
        return content


def _in_words(error: httpx.TransportError) -> str:
    if isinstance(error, httpx.ConnectTimeout | httpx.ConnectError):
        return "No connection to the site agent."
    if isinstance(error, httpx.TimeoutException):
        return "The site agent did not answer in time."
    return "The connection to the site agent broke."
