"""The servers of all zones, as the engine speaks to a site: operations under keys, and a feed of their ends.

What a process remembers ends with it, and the same operation may come again under its key. That does no harm:
records that are as they shall be are left as they are, and others are changed only from what they were.
"""

from __future__ import annotations

import asyncio
import contextlib
import logging
import time
from collections.abc import Iterable, Mapping, Sequence
from dataclasses import replace
from typing import Any

from maestoso.core.codec import from_data, to_data
from maestoso.core.model.names import NameChange
from maestoso.core.ports import Feed
from maestoso.core.runs.operations import Operation, OperationState
from maestoso.names.zone_server import (
    NotAsItWas,
    ServerRefused,
    ServerSilent,
    ZoneServers,
    ask,
    by_zone,
    change,
    turned_back,
)

AGAIN_S = 1.0
"""Between two looks at a server that does not answer, or does not say it yet."""
USUAL_LIMIT_S = 120.0
MOST_REMEMBERED = 1000
log = logging.getLogger("maestoso.names")


class _Failed(Exception):
    def __init__(self, code: str, reason: str) -> None:
        super().__init__(reason)
        self.code = code


class NameServers:
    """A SiteClient for ``publish-names`` and ``put-names-back``.

    Their arguments: ``names`` (NameChange as data), ``within_s`` by the clock on the wall, and ``zones``: the
    servers, as data. Real servers know no pace.
    """

    def __init__(self) -> None:
        self._states: dict[str, OperationState] = {}
        self._ends: list[OperationState] = []
        self._tasks: dict[str, asyncio.Task[None]] = {}
        self._something = asyncio.Event()
        self._forgotten = 0

    async def put_operation(self, operation: Operation, fence: int) -> OperationState:
        """Begin it, unless it was begun under its key."""
        key = operation.key
        if key not in self._states:
            self._states[key] = OperationState(key=key, status="running")
            self._tasks[key] = asyncio.create_task(self._do(operation))
        return self._states[key]

    async def operation(self, key: str) -> OperationState | None:
        """What became of one; None where this process was never asked for it."""
        return self._states.get(key)

    async def changes(self, after: int, wait_s: float) -> Feed:
        """Ends behind a cursor, waited for; -1 asks for the cursor alone."""
        cursor = self._forgotten + len(self._ends)
        if after >= cursor and wait_s:
            self._something.clear()
            with contextlib.suppress(TimeoutError):
                await asyncio.wait_for(self._something.wait(), wait_s)
        cursor = self._forgotten + len(self._ends)
        states = self._ends[max(after - self._forgotten, 0) :] if after >= 0 else []
        return Feed(states=tuple(states), cursor=cursor)

    async def answering(self, workloads: Sequence[str], mark: str = "") -> frozenset[tuple[str, str]]:
        """Services are probed at sites."""
        return frozenset()

    async def _do(self, operation: Operation) -> None:
        began = time.monotonic()
        ended = await self._carry_out(operation)
        self._end(replace(ended, took_s=(time.monotonic() - began) * operation.pace))

    async def _carry_out(self, operation: Operation) -> OperationState:
        """What came of it; only then its end is said."""
        key = operation.key
        try:
            return OperationState(key=key, status="done", result=await _done(operation))
        except _Failed as error:
            return OperationState(key=key, status="failed", code=error.code, reason=str(error))
        except Exception as error:
            log.exception("Names of %s", operation.subject)
            said = f"{type(error).__name__}: {error}"
            return OperationState(key=key, status="failed", code="agent-fault", reason=said)

    def _end(self, ended: OperationState) -> None:
        self._tasks.pop(ended.key, None)
        self._states[ended.key] = ended
        self._ends.append(ended)
        if len(self._ends) > MOST_REMEMBERED:
            self._states.pop(self._ends.pop(0).key, None)
            self._forgotten += 1
        self._something.set()


async def _done(operation: Operation) -> Mapping[str, Any]:
    args = operation.args
    zones = {one.zone: one for one in from_data(tuple[ZoneServers, ...], args.get("zones", ()), "zones")}
    wanted = list(from_data(tuple[NameChange, ...], args["names"], "names"))
    until = time.monotonic() + float(args.get("within_s") or USUAL_LIMIT_S)
    back = operation.verb == "put-names-back"
    unknown = sorted({one.name for one in wanted if one.before is None}) if back else []
    made: list[NameChange] = []
    for zone, changes in by_zone(turned_back(wanted) if back else wanted).items():
        if zone not in zones:
            said = f"The servers of {zone} are not known here any more. Add them under Settings, Names."
            raise _Failed("no-such-zone", said)
        made += await _change_zone(zones[zone], changes, until)
    for zone, changes in by_zone(made).items():
        await _all_say(zones[zone], changes, until)
    if unknown:
        said = f"What {', '.join(unknown)} led to before is not known. Put it back by hand, then go on."
        raise _Failed("not-known", said)
    return {"names": [to_data(one) for one in made]}


async def _change_zone(servers: ZoneServers, changes: Sequence[NameChange], until: float) -> list[NameChange]:
    """The changes with what was there before them. What is so already is left alone."""
    while True:
        try:
            full, todo = [], []
            for one in changes:
                now = await ask(servers.primary, servers.zone, one.name, one.type)
                if one.before is None:
                    one = replace(one, before=now.values, before_ttl_s=now.ttl_s)
                full.append(one)
                if now.values == one.after:
                    continue
                if now.values != one.before:
                    raise _Failed("changed-meanwhile", _changed(one, now.values))
                todo.append(one)
            if todo:
                await change(servers, todo)
            return full
        except ServerRefused as refused:
            raise _Failed("refused", str(refused)) from refused
        except NotAsItWas:
            why = f"Somebody else is changing {servers.zone} at this moment."
        except ServerSilent as silent:
            why = str(silent)
        if time.monotonic() + AGAIN_S > until:
            raise _Failed("no-answer", why)
        await asyncio.sleep(AGAIN_S)


def _changed(one: NameChange, found: Iterable[str]) -> str:
    now, then = ", ".join(found) or "nothing", ", ".join(one.before or ()) or "nothing"
    return (
        f"{one.name} leads to {now} now, and should lead to {then}: somebody else changed it meanwhile. "
        "Nothing was changed here. Put it right at its server and try again, or go on without it."
    )


async def _all_say(servers: ZoneServers, changes: Sequence[NameChange], until: float) -> None:
    """Wait until every server says the new records."""
    for server in servers.all:
        while True:
            try:
                said = [await ask(server, servers.zone, one.name, one.type) for one in changes]
                behind = [one.name for one, now in zip(changes, said, strict=True) if now.values != one.after]
                if not behind:
                    break
                why = f"{server} still says what was there before of {', '.join(behind)}."
            except ServerRefused as refused:
                why = str(refused)
            except ServerSilent as silent:
                why = str(silent)
            if time.monotonic() + AGAIN_S > until:
                raise _Failed("server-behind", f"It is changed at {servers.primary}, but {why}")
            await asyncio.sleep(AGAIN_S)
