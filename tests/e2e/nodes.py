"""Nodes of a database and engines that die by chance in the middle of a run: ``./maestoso soak --cluster 10``, as root.

Three nodes of a Galera cluster, two machines that begin with different ones of them. A node dies, and an engine; the
run ends all the same, every promise holds in the sites' journals, nothing was done twice, and the node comes back.
"""

from __future__ import annotations

from tests.e2e.application import until
from tests.e2e.cluster import Cluster
from tests.e2e.long_machines import Machines
from tests.e2e.seeds import ByChance, run_seeds

ENDS_S = 900.0


class OneSeed(Machines):
    """Not found by the runner of tests: its method is named otherwise."""

    seed = 1

    def runTest(self) -> None:
        """One run, one node and one engine that die."""
        tried = ByChance(self.seed)
        cluster = Cluster(self.password)
        self.addCleanup(cluster.close)
        orders = [tried.chance.sample(cluster.hosts, 3) for _ in range(2)]
        first = self.machine("web, keeper, engine", orders[0])
        first.start("demo")
        second = self.twin(first, "engine, workers", orders[1])
        second.start("start")
        api = first.api()
        run = tried.start(api)
        tried.go_on(api)
        lost = tried.chance.randrange(3)
        cluster.kill(lost)
        tried.chance.choice((first, second)).kill("engine")
        outcome = until(lambda: tried.answer(api), f"run {run} to end", ENDS_S)
        cluster.start(lost)
        tried.check(self, first)
        print(f"{tried}, node {lost} and an engine killed, ended: {outcome}", flush=True)


if __name__ == "__main__":
    raise SystemExit(run_seeds(OneSeed, "maestoso soak --cluster", __doc__))
