"""The agent for libvirt hosts is held against the conformance test of the kit, with machines that run."""

from __future__ import annotations

import io
import shlex
import unittest

from maestoso.agent_kit.conformance.run import run
from tests.e2e.application import until
from tests.guests.lab import AWAY, HOME, MEMBERS, Sites, definition_of, needs_real_machines


@needs_real_machines
class Conformance(unittest.TestCase):
    """All parts, with every verb."""

    def test_the_agent_does_as_it_is_written(self) -> None:
        sites = Sites(self)
        sites.start_production()
        home, away = sites.agents[HOME], sites.agents[AWAY]
        specs = home.get("/inventory", "Inventory")["workloads"]
        away.done("protect", "shop", group=definition_of(sites), digest="one", workloads=specs, link=None)
        until(lambda: away.get("/points", "Points", group="shop")["points"], "a first point")
        sites.lab.kill_agent(AWAY)
        said = io.StringIO()
        start = shlex.join(sites.start_command(AWAY))
        ended = run(away, "shop", source=home, members=MEMBERS, start=start, out=said)
        self.assertEqual(ended, 0, said.getvalue())
        self.assertIn("0 not, 0 not tested", said.getvalue())


if __name__ == "__main__":
    unittest.main()
