"""Primaries that die by chance in the middle of a run, and standbys that take over: ``./maestoso soak --standby 20``.

Whatever moment it is, the run ends at the standby, every promise holds in the sites' journals, and nothing was done
twice. Every other standby takes over by itself, with the lease of a witness; the rest when it is told to.
"""

from __future__ import annotations

from tests.e2e.application import until
from tests.e2e.seeds import ByChance, run_seeds
from tests.e2e.test_standby import TwoMachines

ENDS_S = 600.0
PLACES = ("before-commit", "after-commit", "before-send", "on-answer")
"""Where an engine dies (:mod:`maestoso.engine.conductor`)."""


class OneSeed(TwoMachines):
    """Not found by the runner of tests: its methods are named otherwise."""

    seed = 1
    lease_s = 12
    crash_points = True

    def runTest(self) -> None:
        """One run, one death, one takeover."""
        tried = ByChance(self.seed)
        standby = self.follower()
        by_itself = self.seed % 2 == 1
        if by_itself:
            chosen = self.api.send("PUT", "/standbys/witness", {"site": "NOR"})
            self.assertEqual((chosen["witness"], chosen["withheld"]), ("NOR", ""))
        run = tried.start(self.api)
        tried.go_on(self.api)
        if place := tried.chance.choice((None, *PLACES)):
            # Its engine dies there, and all the rest with it.
            self.points.write_text(f"{place}\n")
            until(lambda: tried.answer(self.api) or not self.points.read_text(), f"the engine to die {place}")
        seq = self.status(self.api, run)["seq"]
        self.burn()
        if by_itself:
            self.wait_until_it_conducts(standby)
        else:
            self.take_over(standby)
        api = standby.api()
        outcome = until(lambda: tried.answer(api), f"run {run} to end", ENDS_S)
        tried.check(self, standby)
        died = f"killed at event {seq}" + (f", {place}" if place else "")
        whose = "with the lease of the witness" if by_itself else "by hand"
        print(f"{tried}, {died}, taken over {whose}, ended: {outcome}", flush=True)


if __name__ == "__main__":
    raise SystemExit(run_seeds(OneSeed, "maestoso soak --standby", __doc__))
