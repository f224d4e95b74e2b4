"""The agent: takes operations in, has the platform do each of them once, and tells those who listen."""

from __future__ import annotations

import logging
import threading
from collections import deque
from collections.abc import Callable, Mapping
from concurrent.futures import ThreadPoolExecutor
from typing import Any

from .crash_points import crash_point
from .platform import Failure, Operation, Platform, Stopped, method_of
from .protocol import PROTOCOL, WAITS, shape_of, unread, with_defaults
from .store import Store
from .web import Refused

AT_ONCE = 16
"""Subjects about which something is done at the same time."""
MOST_WAITING = 1000
"""Unsettled operations beyond which the agent says that it is busy."""
BUSY_S = 5.0
log = logging.getLogger("site-agent")


class Agent:
    """One site. ``start`` takes up what was under way; ``stop`` leaves the rest for the next start."""

    def __init__(self, platform: Platform, store: Store, *, most_waiting: int = MOST_WAITING) -> None:
        self.platform = platform
        self.store = store
        self.most_waiting = most_waiting
        self.news: list[Callable[[], None]] = []
        """Called after every change of an operation, from any thread."""
        platform.store = store
        self._turn = threading.Lock()
        self._stop = threading.Event()
        self._lanes: dict[str, deque[tuple[str, Mapping[str, str], bool]]] = {}
        self._work = ThreadPoolExecutor(AT_ONCE, "work")
        self._waits = ThreadPoolExecutor(most_waiting + 1, "wait")
        self._unsettled: set[str] = set()
        self._under_way: dict[str, dict[str, Any]] = {}

    def start(self) -> None:
        """Take up what was under way when the agent ended; what needs secrets that came along cannot be."""
        self.store.forget_old()
        for kept in self.store.unsettled():
            if kept.secret and kept.verb not in self.platform.goes_on_without_secrets:
                self.store.settle(
                    kept.key, "failed", code="interrupted",
                    reason="The agent was restarted meanwhile, and does not know the secrets that came along"
                    " any more. Ask again.",
                )  # fmt: skip
            else:
                self._begin(kept.key, kept.verb, kept.subject, {}, again=True)
        self._waits.submit(self._care)

    def _care(self) -> None:
        while not self._stop.wait(self.platform.care_every_s):
            try:
                self.platform.care()
            except Exception:
                log.exception("what goes on by itself went wrong; it is tried again")

    def stop(self) -> None:
        """Begin nothing more, wake what waits, and wait for what cannot be interrupted."""
        self._stop.set()
        self._work.shutdown(cancel_futures=True)
        self._waits.shutdown(cancel_futures=True)
        self.store.close()

    # --- operations ---

    def put(self, key: str, asked: Mapping[str, Any]) -> dict[str, Any]:
        """Take an operation in, durable before anything of it is done; a known key is answered from memory.

        Raises Refused: for what cannot be read (400), a reign that is past, a fence that is too low and a
        verb that is not there (409), and with a time to ask again while too much is under way (503).
        """
        fault = unread("Submission", asked)
        if fault:
            raise Refused(400, "bad-value", f"The operation cannot be read. {fault}")
        with self._turn:
            self._check_reign(asked.get("installation", ""), asked.get("reign", 0))
            highest = self.store.raise_fence(asked["run"], asked["fence"])
            if asked["fence"] < highest:
                raise Refused(
                    409, "fence-too-low",
                    f"Run {asked['run']} is conducted under fence {highest}; fence {asked['fence']} is past.",
                )  # fmt: skip
            if self.store.operation(key) is None:
                self._take_in(key, asked)
        crash_point("before-reply", (key, asked["verb"]))
        return self.operation(key)

    def _check_reign(self, installation: str, reign: int) -> None:
        highest = self.store.raise_reign(installation, reign) if installation else reign
        if reign < highest:
            raise Refused(
                409, "reign-past",
                f"Reign {highest} of {installation} conducts here; reign {reign} is past.",
            )  # fmt: skip

    def _take_in(self, key: str, asked: Mapping[str, Any]) -> None:
        verb = asked["verb"]
        if verb not in self.platform.verbs():
            raise Refused(409, "unknown-verb", f"This agent does not have the verb {verb!r}.")
        args = dict(asked.get("args", {}))
        fault = unread(shape_of(verb, "args"), args)
        if fault:
            raise Refused(400, "bad-value", f"The arguments of {verb} cannot be read. {fault}")
        if len(self._unsettled) >= self.most_waiting:
            raise Refused(503, "busy", f"{len(self._unsettled)} operations are under way.", BUSY_S)
        secrets = args.pop("secrets", None) or {}
        crash_point("before-write", (key, verb))
        self.store.take_in(key, asked, args, secret=bool(secrets))
        crash_point("after-write", (key, verb))
        self._begin(key, verb, asked["subject"], secrets, again=False)

    def operation(self, key: str) -> dict[str, Any]:
        """How an operation stands. Raises Refused (404) for a key that was never heard of."""
        kept = self.store.operation(key)
        if kept is None:
            raise Refused(404, "not-found", f"This site never heard of the operation {key!r}.")
        return kept.state()

    def changes(self, after: int) -> dict[str, Any]:
        """The feed behind a cursor."""
        changed, cursor = self.store.changes(after)
        return {"operations": [one.state() for one in changed], "cursor": cursor, "epoch": self.store.epoch}

    # --- doing them ---

    def _begin(self, key: str, verb: str, subject: str, secrets: Mapping[str, str], *, again: bool) -> None:
        """Behind all that was asked about the same subject before; what waits holds nothing up."""
        self._unsettled.add(key)
        if verb in WAITS:
            self._waits.submit(self._carry_out, key, secrets, again)
            return
        lane = self._lanes.get(subject)
        if lane is None:
            self._lanes[subject] = deque([(key, secrets, again)])
            self._work.submit(self._work_off, subject)
        else:
            lane.append((key, secrets, again))

    def _work_off(self, subject: str) -> None:
        while not self._stop.is_set():
            with self._turn:
                lane = self._lanes[subject]
                if not lane:
                    del self._lanes[subject]
                    return
                key, secrets, again = lane.popleft()
            self._carry_out(key, secrets, again)

    def _carry_out(self, key: str, secrets: Mapping[str, str], again: bool) -> None:
        kept = self.store.operation(key)
        if kept is None or self._stop.is_set():
            return
        args = with_defaults(shape_of(kept.verb, "args"), kept.args)
        op = Operation(
            kept, args, self.store, secrets=secrets, again=again, stop=self._stop, under_way=self._under_way
        )
        how: dict[str, Any]
        try:
            crash_point("before-effect", (key, kept.verb))
            result = getattr(self.platform, method_of(kept.verb))(op)
            crash_point("after-effect", (key, kept.verb))
            how = {"status": "done", "result": result or {}, "effect": op.had_effect, "notes": op.noted}
        except Failure as failure:
            how = {"status": "failed", "code": failure.code, "reason": failure.reason}
        except Stopped:
            return
        except Exception as error:
            log.exception("%s of %s went wrong", kept.verb, kept.subject)
            reason = f"The agent could not do it: {type(error).__name__}: {error}. Its log says more."
            how = {"status": "failed", "code": "agent-fault", "reason": reason}
        self.store.settle(key, before_s=op.before_s(), **how)
        crash_point("after-settle", (key, kept.verb))
        self._unsettled.discard(key)
        self._under_way.pop(key, None)
        for tell in list(self.news):
            tell()

    # --- what the site says of itself ---

    def capabilities(self) -> dict[str, Any]:
        """What it speaks and can."""
        return {
            "protocol": PROTOCOL, "agent": self.platform.name, "site": self.platform.site, "practice": False,
            "verbs": self.platform.verbs(), "epoch": self.store.epoch,
        }  # fmt: skip

    def pulse(self) -> dict[str, Any]:
        """How the site and the copying to it stand."""
        running, copies = self.platform.running()
        return {
            "now": self.platform.clock().isoformat(),
            "inventory": self.platform.inventory_mark(),
            "groups": self.platform.groups(), "links": self.platform.links(),
            "landings": self.store.held_mark(), "protocol": PROTOCOL, "running": running, "copies": copies,
            "off": self.platform.off(), "epoch": self.store.epoch,
            "under_way": list(self._under_way.values()),
        }  # fmt: skip
