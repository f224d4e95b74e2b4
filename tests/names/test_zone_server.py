"""Names at real name servers: changed, seen everywhere, put back, and what goes wrong on bad days."""

from __future__ import annotations

import asyncio
import unittest
import unittest.mock
from collections.abc import Sequence
from dataclasses import replace
from typing import Any

from maestoso.core.codec import to_data
from maestoso.core.model.names import KnownName, NameChange
from maestoso.core.runs.operations import Operation, OperationState
from maestoso.names import client as names_client
from maestoso.names.client import NameServers
from maestoso.names.zone_server import (
    NotAsItWas,
    ServerRefused,
    ServerSilent,
    ZoneServers,
    ask,
    change,
    try_key,
)
from tests.names.knot import BOOKING, MOVED, ZONE, WithServers
from tests.ports import free_port


def operation(
    *changes: NameChange,
    zones: Sequence[ZoneServers],
    verb: str = "publish-names",
    key: str = "1",
    within_s: float = 60,
) -> Operation:
    """What a step asks for."""
    args = {
        "names": [to_data(one) for one in changes], "within_s": within_s, "zones": [to_data(one) for one in zones],
    }  # fmt: skip
    return Operation(key=key, run="7", verb=verb, subject="The front", args=args)


async def done(operation: Operation, servers: NameServers | None = None) -> OperationState:
    """What became of it, as the feed says."""
    asked = servers or NameServers()
    cursor = (await asked.changes(-1, 0.0)).cursor
    await asked.put_operation(operation, 1)
    while True:
        feed = await asked.changes(cursor, 5.0)
        cursor = feed.cursor
        for state in feed.states:
            if state.key == operation.key:
                return state


class AtTheServer(WithServers):
    def says(self, name: str = BOOKING, server: str = "", kind: Any = "A") -> KnownName:
        """What a server says now."""
        return asyncio.run(ask(server or self.primary.address, ZONE, name, kind))

    def test_what_is_there_is_read(self) -> None:
        self.assertEqual(self.says(), KnownName(name=BOOKING, type="A", values=("10.20.6.11",), ttl_s=120))
        self.assertEqual(self.says("tickets.tidewell.example", kind="CNAME").values, (BOOKING,))
        self.assertEqual(self.says("tickets.tidewell.example").values, ())
        self.assertEqual(self.says("nobody.tidewell.example").values, ())
        with self.assertRaisesRegex(ServerRefused, "does not answer for other.example"):
            asyncio.run(ask(self.primary.address, "other.example", "a.other.example", "A"))

    def test_a_change_is_made_only_from_what_was_there(self) -> None:
        new = NameChange(
            zone=ZONE,
            name="new.tidewell.example",
            type="SRV",
            ttl_s=5,
            after=(f"10 5 443 {BOOKING}",),
            before=(),
        )
        asyncio.run(change(self.servers, [MOVED, new]))
        self.assertEqual(self.says(), KnownName(name=BOOKING, type="A", values=("172.18.6.11",), ttl_s=60))
        self.assertEqual(self.says("new.tidewell.example", kind="SRV").values, (f"10 5 443 {BOOKING}",))
        for one in (MOVED, new):
            with self.assertRaises(NotAsItWas):
                asyncio.run(change(self.servers, [one]))
        self.assertEqual(self.says().values, ("172.18.6.11",))

    def test_a_key_that_is_not_right_changes_nothing_and_is_named(self) -> None:
        asyncio.run(try_key(self.servers))
        for wrong, said in (
            (replace(self.servers, key_name="nobody"), "does not know the key|not the one"),
            (
                replace(self.servers, secret="AAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAA="),
                "secret of the key is not",
            ),
            (
                replace(self.servers, zone="other.example"),
                "does not have that zone",
            ),
        ):
            with self.assertRaisesRegex(ServerRefused, said):
                asyncio.run(try_key(wrong))
            state = asyncio.run(done(operation(replace(MOVED, zone=wrong.zone), zones=[wrong], within_s=3)))
            self.assertEqual((state.status, state.code), ("failed", "refused"), state)
        self.assertEqual(self.says().values, ("10.20.6.11",))

    def test_there_and_back_seen_by_every_server(self) -> None:
        second = self.second(refresh_s=2)
        zones = [replace(self.servers, others=(second.address,))]
        gone = asyncio.run(done(operation(MOVED, zones=zones)))
        self.assertEqual(gone.status, "done", gone.reason)
        self.assertEqual(self.says(server=second.address).values, ("172.18.6.11",))
        # An engine that died meanwhile asks once more, and another one has never heard of it.
        again = asyncio.run(done(operation(MOVED, zones=zones)))
        self.assertEqual((again.status, again.result), ("done", gone.result))
        back = asyncio.run(done(operation(MOVED, zones=zones, verb="put-names-back")))
        self.assertEqual(back.status, "done", back.reason)
        self.assertEqual(self.says(), KnownName(name=BOOKING, type="A", values=("10.20.6.11",), ttl_s=120))
        self.assertEqual(self.says(server=second.address).values, ("10.20.6.11",))

    def test_what_could_not_be_read_before_is_put_back_as_it_was_found(self) -> None:
        gone = asyncio.run(done(operation(replace(MOVED, before=None, before_ttl_s=0), zones=[self.servers])))
        self.assertEqual(gone.result["names"][0]["before"], ["10.20.6.11"])
        unknown = asyncio.run(
            done(operation(replace(MOVED, before=None), zones=[self.servers], verb="put-names-back"))
        )
        self.assertEqual((unknown.status, unknown.code), ("failed", "not-known"))


class BadDays(WithServers):
    def test_a_record_that_somebody_else_changed_is_left_alone(self) -> None:
        asyncio.run(change(self.servers, [replace(MOVED, after=("192.0.2.77",))]))
        for verb in ("publish-names", "put-names-back"):
            state = asyncio.run(done(operation(MOVED, zones=[self.servers], verb=verb)))
            self.assertEqual((state.status, state.code), ("failed", "changed-meanwhile"))
            self.assertIn(f"{BOOKING} leads to 192.0.2.77 now", state.reason)
        self.assertEqual(asyncio.run(ask(self.primary.address, ZONE, BOOKING, "A")).values, ("192.0.2.77",))

    def test_a_second_server_that_does_not_follow_is_named(self) -> None:
        second = self.second(refresh_s=86400)
        zones = [replace(self.servers, others=(second.address,))]
        state = asyncio.run(done(operation(MOVED, zones=zones, within_s=3)))
        self.assertEqual((state.status, state.code), ("failed", "server-behind"))
        self.assertIn(f"but {second.address} still says what was there before of {BOOKING}", state.reason)

    def test_a_server_that_is_gone_is_waited_for_until_the_limit(self) -> None:
        self.primary.close()
        state = asyncio.run(done(operation(MOVED, zones=[self.servers], within_s=2)))
        self.assertEqual((state.status, state.code), ("failed", "no-answer"))
        self.assertIn(self.primary.address, state.reason)

        async def comes_back() -> OperationState:
            asked = asyncio.create_task(done(operation(MOVED, zones=[self.servers], within_s=300)))
            await asyncio.sleep(0)
            await asyncio.to_thread(self.primary.again)
            return await asked

        self.assertEqual(asyncio.run(comes_back()).status, "done")

    def test_no_servers_of_a_zone_are_a_failure_with_a_mend(self) -> None:
        state = asyncio.run(done(operation(MOVED, zones=[])))
        self.assertEqual((state.status, state.code), ("failed", "no-such-zone"))
        self.assertIn("Settings, Names", state.reason)

    def test_a_host_that_has_no_address_is_silent(self) -> None:
        for host in ("ns.invalid", "a..b", "x" * 70):
            nowhere = replace(self.servers, primary=f"{host}:{free_port()}")
            with self.assertRaises(ServerSilent, msg=host):
                asyncio.run(change(nowhere, [MOVED]))


class Remembered(unittest.TestCase):
    """As a site does: a key is done at most once by a process, and its end is in the feed."""

    def test_the_feed_has_what_ended_and_forgets_the_oldest(self) -> None:
        async def many() -> None:
            servers = NameServers()
            with unittest.mock.patch.object(names_client, "MOST_REMEMBERED", 2):
                for key in ("a", "b", "c"):
                    await done(operation(key=key, zones=[]), servers)
            self.assertIsNone(await servers.operation("a"))
            known = await servers.operation("c")
            assert known is not None
            self.assertEqual(known.status, "done")
            feed = await servers.changes(1, 0.0)
            self.assertEqual(([one.key for one in feed.states], feed.cursor), (["b", "c"], 3))
            self.assertEqual((await servers.put_operation(operation(key="c", zones=[]), 1)).status, "done")
            self.assertEqual((await servers.changes(-1, 0.0)).states, ())

        asyncio.run(many())


if __name__ == "__main__":
    unittest.main()
