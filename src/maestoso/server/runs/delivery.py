"""The sites of runs as the engine speaks to them: where the records say that they are, with secrets."""

from __future__ import annotations

import time
from collections.abc import Awaitable, Callable, Sequence
from contextlib import suppress
from dataclasses import replace
from typing import TypeVar

from asgiref.sync import sync_to_async

from maestoso.core.model.names import NAME_SERVERS
from maestoso.core.ports import Feed, LogUnavailable, SiteClient, SiteUnreachable
from maestoso.core.runs.operations import Operation, OperationState
from maestoso.names.client import NameServers
from maestoso.server.estate.agents import speak_to
from maestoso.server.estate.models import Site
from maestoso.server.names.services import read_soon
from maestoso.server.outbox.secrets import has_secrets, with_secrets
from maestoso.server.reign import lease
from maestoso.server.reign import services as reign
from maestoso.server.runs.log import reachable
from maestoso.sites.client import HttpSite

T = TypeVar("T")
LOOK_AGAIN_S = 5.0
"""Its agent may be moved, and its token changed, while runs go on."""


class RecordedSite:
    """The client of a site by its code; its address and token are those that stand in the records now."""

    def __init__(self, code: str) -> None:
        self._code = code
        self._agent: HttpSite | None = None
        self._as_of = ("", "", "")
        self._look_at = 0.0

    async def put_operation(self, operation: Operation, fence: int) -> OperationState:
        """Send it with its secrets."""
        await _lease_is_held()
        full = await _with_its_secrets(operation)
        return await self._ask(lambda agent: agent.put_operation(full, fence))

    async def operation(self, key: str) -> OperationState | None:
        """As the client."""
        return await self._ask(lambda agent: agent.operation(key))

    async def answering(self, workloads: Sequence[str], mark: str = "") -> frozenset[tuple[str, str]]:
        """As the client."""
        return await self._ask(lambda agent: agent.answering(workloads, mark))

    async def changes(self, after: int, wait_s: float) -> Feed:
        """As the client."""
        return await self._ask(lambda agent: agent.changes(after, wait_s))

    async def _ask(self, question: Callable[[HttpSite], Awaitable[T]]) -> T:
        if self._agent is None or time.monotonic() >= self._look_at:
            await self._read_record()
        if self._agent is None:
            raise SiteUnreachable("Where its agent is cannot be read now.")
        try:
            return await question(self._agent)
        except SiteUnreachable:
            # Perhaps it is somewhere else by now.
            self._look_at = 0.0
            raise

    async def _read_record(self) -> None:
        try:
            as_of = await sync_to_async(reachable(_where))(self._code)
        except LogUnavailable:
            return
        self._look_at = time.monotonic() + LOOK_AGAIN_S
        if as_of is None:
            self._agent = None
        elif as_of != self._as_of:
            # The one before is not closed: somebody may still be listening at it.
            self._agent, self._as_of = speak_to(*as_of), as_of


class RecordedNames(NameServers):
    """The servers of all zones, with the keys that stand in the records now."""

    async def put_operation(self, operation: Operation, fence: int) -> OperationState:
        """Begin it with its keys."""
        await _lease_is_held()
        return await super().put_operation(await _with_its_secrets(operation), fence)

    async def _carry_out(self, operation: Operation) -> OperationState:
        ended = await super()._carry_out(operation)
        # What pages say of these names is from before. Where that cannot be said they are read in their turn.
        with suppress(LogUnavailable):
            await sync_to_async(reachable(read_soon))({one["zone"] for one in operation.args["names"]})
        return ended


def client_of(code: str) -> SiteClient:
    """Whom a step asks."""
    return RecordedNames() if code == NAME_SERVERS else RecordedSite(code)


async def _lease_is_held() -> None:
    """Raises SiteBusy while nothing may be asked for."""
    if lease.is_sure():
        return
    try:
        await sync_to_async(reachable(lease.check))()
    except LogUnavailable as error:
        raise SiteUnreachable(f"Whether the lease is held cannot be read now: {error}") from error


async def _with_its_secrets(operation: Operation) -> Operation:
    if not has_secrets(operation):
        return operation
    try:
        args = await sync_to_async(reachable(with_secrets))(operation)
    except LogUnavailable as error:
        # As if the site were away: it is sent again under its key once the secrets can be read.
        raise SiteUnreachable(f"The secrets for it cannot be read now: {error}") from error
    return replace(operation, args=args)


def _where(code: str) -> tuple[str, str, str] | None:
    reign.number()  # it is remembered, and wanted where the database may not be asked
    where = ("agent_url", "agent_token", "agent_certificate")
    return Site.objects.filter(code=code).values_list(*where).first()
