"""The whole test, and what is said of it."""

from __future__ import annotations

import sys
from collections.abc import Callable
from dataclasses import dataclass
from functools import partial
from typing import TextIO

import httpx

from .client import Client, NotTested, Wrong
from .crashes import PLACES, Process, killed_at, remembers
from .rules import RULES
from .stories import a_test, state_of, there_and_back


@dataclass(frozen=True, slots=True, kw_only=True)
class Result:
    """How one part went: ``ok``, ``failed`` or ``untested``."""

    title: str
    how: str
    detail: str = ""
    where: str = ""


class Conformance:
    """Runs the parts and says what each gave."""

    def __init__(self, out: TextIO = sys.stdout) -> None:
        self.out = out
        self.results: list[Result] = []

    def part(self, title: str, where: str, test: Callable[[], object]) -> bool:
        """Run one; whether it was as it is written."""
        try:
            test()
        except Wrong as error:
            result = Result(title=title, how="failed", detail=str(error), where=where)
        except NotTested as error:
            result = Result(title=title, how="untested", detail=str(error), where=where)
        except (httpx.HTTPError, ValueError, KeyError, TypeError) as error:
            detail = f"{type(error).__name__}: {error}"
            result = Result(title=title, how="failed", detail=detail, where=where)
        else:
            result = Result(title=title, how="ok")
        self.results.append(result)
        print(f"{result.how:8}  {title}", file=self.out)
        if result.detail:
            print(f"          {result.detail}\n          See {where}.", file=self.out)
        self.out.flush()
        return result.how == "ok"

    def said(self) -> int:
        """Say how it went in all; the exit status."""
        counts = {
            how: sum(1 for one in self.results if one.how == how) for how in ("ok", "failed", "untested")
        }
        said = f"{counts['ok']} as written, {counts['failed']} not, {counts['untested']} not tested."
        print(said, file=self.out)
        return 1 if counts["failed"] else 0


def run(
    site: Client, group: str, *, source: Client | None = None, members: tuple[str, ...] = (),
    start: str = "", out: TextIO = sys.stdout,
) -> int:  # fmt: skip
    """Test the agent of a site that holds copies of a group; returns the exit status.

    ``source`` is the agent of the site that they come from; without it, nothing that moves production is
    tested. ``members`` are the workloads of the group; without them all workloads of the source are taken.
    ``start`` starts the agent, which the test may then kill.
    """
    made = Conformance(out)
    process = Process(start, site) if start else None
    try:
        if process is not None and not made.part("It comes up", "agent-kit.md", process.start):
            return made.said()
        for rule, where in RULES:
            made.part(_first(rule), f"site-protocol.md, {where}", partial(rule, site, group))
        _stories(made, site, source, group, members)
        if process is None:
            made.part("SIGKILL in the middle", "agent-kit.md", _not_started)
        else:
            _crashes(made, process)
    finally:
        if process is not None:
            process.close()
    return made.said()


def _crashes(made: Conformance, process: Process) -> None:
    for place in PLACES:
        title = f"Killed at {place}, nothing is lost and nothing done twice"
        made.part(title, "site-protocol.md, Operations, 1", partial(killed_at, process, place))
    title = "After SIGKILL it knows what it answered"
    made.part(title, "site-protocol.md, Operations, 4", partial(remembers, process))


def _stories(
    made: Conformance, site: Client, source: Client | None, group: str, members: tuple[str, ...]
) -> None:
    where = "site-protocol.md, Operations"
    if source is None:
        made.part("A test, and production there and back", where, _no_source)
        return
    like = source.get("/inventory", "Inventory")
    names = members or tuple(one["name"] for one in like["workloads"])
    made.part(_first(a_test), where, lambda: a_test(site, group, like, names))
    codes = (state_of(site, group)["source"], site.get("/capabilities", "Capabilities")["site"])
    for title, deed in there_and_back(site, source, group, names, *codes):
        if not made.part(title, where, deed):
            break


def _first(test: Callable[..., object]) -> str:
    return (test.__doc__ or "").split("\n")[0].rstrip(".")


def _no_source() -> None:
    raise NotTested(
        "Name the agent of the site that the copies come from, with --source URL. It is closed down."
    )


def _not_started() -> None:
    raise NotTested("Say how the agent is started, with --start COMMAND; it is killed then.")
