"""Whole stories: a test beside production, and production there and back again.

What is made carries a mark and is taken away again, also where something goes wrong in the middle.
"""

from __future__ import annotations

import hashlib
from collections.abc import Callable, Iterator, Mapping
from contextlib import contextmanager, suppress
from ipaddress import ip_address, ip_network
from typing import Any

from .client import Client, NotTested, Wrong, named, wait_until
from .rules import check, mark

READY_S = 300.0


class Ground:
    """What a site says it has, and where copies of a group come down there."""

    def __init__(self, site: Client, group: str, like: Mapping[str, Any]) -> None:
        """``like`` is the inventory that the machines are in, for what they are."""
        self.site = site
        self.group = group
        has = site.get("/inventory", "Inventory")
        self.pool = max(has["host_pools"], key=lambda one: one["memory_mib"] - one.get("used_memory_mib", 0))[
            "name"
        ]
        production = [one["name"] for one in has["networks"] if one.get("role", "production") == "production"]
        if not production:
            raise NotTested("The site has no network for production.")
        self.production = production[0]
        network = named(has["networks"], production[0])
        self.like = like
        self.prefix = ip_network(next(iter(network.get("prefixes", [])), "192.0.2.0/24"))
        self.taken = {*network.get("gateways", []), *_addresses(has), *_addresses(like)}
        self.given: dict[str, str] = {}

    def spec(self, name: str) -> Mapping[str, Any]:
        """What a workload is."""
        return named(self.like["workloads"], name)

    def address(self, name: str) -> str:
        """An address of the site's network for a workload, which no machine has."""
        if name not in self.given:
            last = int(self.prefix.network_address) + self.prefix.num_addresses - 2
            free = (str(ip_address(at)) for at in range(last, int(self.prefix.network_address), -1))
            self.given[name] = next(at for at in free if at not in self.taken)
            self.taken.add(self.given[name])
        return f"{self.given[name]}/{self.prefix.prefixlen}"

    def land(self, copy: str, name: str, network: str, **register: Any) -> None:
        """Register a copy, and give it size, adapters and addresses."""
        spec, site = self.spec(name), self.site
        site.done("register", copy, host_pool=self.pool, folder="", **register)
        site.done("set-size", copy, cores=spec["cores"], memory_mib=spec["memory_mib"])
        nics = [{"nic": nic["name"], "network": network, "mac": nic["mac"]} for nic in spec["nics"]]
        site.done("attach-nics", copy, nics=nics)
        if spec.get("guest_agent", True) and nics:
            told = {
                "nic": nics[0]["nic"],
                "addresses": [self.address(name)],
                "gateways": [],
                "dns": [],
                "suffix": "",
            }
            site.done("set-addresses", copy, nics=[{**told, "dhcp": False}])

    def up(self, copy: str, name: str) -> None:
        """Give it power and wait until it is there and its services answer."""
        spec, site = self.spec(name), self.site
        site.done("power-on", copy)
        site.fails("power-on", copy, "powered-on")
        site.done("power-on", copy, unless_on=True)
        if spec.get("guest_agent", True):
            site.done("await-heartbeat", copy, timeout_s=READY_S)
        for service in spec.get("offers", []):
            what = {"service": service["name"], "protocol": service["protocol"], "port": service["port"]}
            site.done("probe-service", copy, **what, timeout_s=READY_S)


def _addresses(inventory: Mapping[str, Any]) -> set[str]:
    """Of all machines of an inventory, without the lengths of their prefixes."""
    return {
        at.split("/")[0]
        for machine in inventory.get("workloads", [])
        for nic in machine["nics"]
        for at in nic.get("addresses", [])
    }


def state_of(site: Client, group: str) -> dict[str, Any]:
    """How a site says that the copying of a group stands."""
    state = next((one for one in site.get("/pulse", "SitePulse")["groups"] if one["group"] == group), None)
    if state is None:
        raise NotTested(f"{site.name} holds no copies of the group {group}.")
    return dict(state)


def a_test(site: Client, group: str, like: Mapping[str, Any], members: tuple[str, ...]) -> None:
    """A test beside production: made, proved isolated, up, and gone without a trace."""
    run, ground, name = mark(), Ground(site, group, like), members[0]
    box, copy, second = f"{run}-net", f"{name}-{run}", f"{name}-{run}-2"
    with _cleaned(site, run, (copy, second), box):
        site.done("make-sandbox", box, run=run, mark=run, like=ground.production)
        site.fails("make-sandbox", box, "network-exists", run=run, mark=run, like=ground.production)
        said = site.done("prove-isolation", "networks", run=run, mark=run, networks=[box])
        check(box in said["networks"], f"prove-isolation does not say that it followed {box}.")
        point = site.done("sync", group, run=run, group=group)["point"]
        ids = [one["id"] for one in site.get("/points", "Points", group=group)["points"]]
        check(point in ids, f"sync made the point {point}, which is not among the points.")
        what = {"workload": name, "group": group, "point": point, "mark": run}
        site.done("clone-point", copy, run=run, **what)
        site.fails("clone-point", copy, "copy-exists", run=run, **what)
        site.fails("clone-point", f"{copy}-x", "point-gone", run=run, **{**what, "point": mark()})
        site.fails("clone-point", f"{copy}-x", "no-such-replica", run=run, **{**what, "workload": mark()})
        site.fails("register", copy, "no-such-pool", run=run, host_pool=mark(), folder="")
        ground.land(copy, name, box)
        site.fails("discard-clone", copy, "registered", run=run)
        site.fails("remove-sandbox", box, "network-in-use", run=run)
        site.fails("set-size", copy, "no-room", run=run, cores=1, memory_mib=2**40)
        site.fails("attach-nics", copy, "no-such-network", run=run,
                   nics=[{"nic": "nic0", "network": mark(), "mac": "02:00:5e:00:53:02"}])  # fmt: skip
        site.done("prove-isolation", "copies", run=run, mark=run, networks=[])
        _leads_out(site, ground, run, second, what)
        ground.up(copy, name)
        _looked_at(site, ground, run, copy, name, box)
        _scripts(site, run, copy)
        _names(site, run, box)
        _doors(site, run, copy)
        site.fails("unregister", copy, "powered-on", run=run)
        site.fails("leak-check", run, "remains", run=run, mark=run)
        check(
            bool(site.get("/remains", "Remains", mark=run)["remains"]), "Nothing is said to remain of a test."
        )
        for verb in ("power-off", "unregister", "discard-clone"):
            site.done(verb, copy, run=run)
        site.fails("await-heartbeat", copy, "no-such-copy", run=run, timeout_s=1)
        site.done("remove-sandbox", box, run=run)
        site.done("leak-check", run, run=run, mark=run)


def _leads_out(site: Client, ground: Ground, run: str, copy: str, what: dict[str, Any]) -> None:
    """A copy with an adapter in production is found, without its ever having had power."""
    site.done("clone-point", copy, run=run, **what)
    site.done("register", copy, run=run, host_pool=ground.pool, folder="")
    nics = [{"nic": "nic0", "network": ground.production, "mac": "02:00:5e:00:53:03"}]
    site.done("attach-nics", copy, run=run, nics=nics)
    site.fails("prove-isolation", "copies", "not-isolated", run=run, mark=run, networks=[])
    site.done("unregister", copy, run=run)
    site.done("discard-clone", copy, run=run)


def _looked_at(site: Client, ground: Ground, run: str, copy: str, name: str, box: str) -> None:
    spec = ground.spec(name)
    adapters = site.done("read-adapters", "copies", run=run, mark=run)["adapters"].get(name, [])
    macs = {nic["mac"]: nic["network"] for nic in adapters}
    wanted = {nic["mac"]: box for nic in spec["nics"]}
    check(macs == wanted, f"read-adapters says {macs} of {name}; it was given {wanted}.")
    if spec.get("guest_agent", True) and adapters:
        has = adapters[0].get("addresses", [])
        check(
            ground.address(name) in has, f"The first adapter of {name} has {has}, and not what it was given."
        )
    offers = {service["name"] for service in spec.get("offers", [])}
    answer = site.http.post("/answering", json={"workloads": [name], "mark": run}).json()
    said = set(answer["services"].get(name, []))
    check(said == offers, f"On the copy answer {sorted(said)}, not {sorted(offers)}.")
    answer = site.http.post("/answering", json={"workloads": [name]}).json()
    check(not answer["services"].get(name), f"A copy of a test answers for {name} itself.")
    copies = site.get("/pulse", "SitePulse").get("copies")
    check(copies is None or copies >= 1, "A copy of a test has power, and the pulse counts none.")


def _scripts(site: Client, run: str, copy: str) -> None:
    text = 'echo "$GREETING"; exit 3\n'
    what = {
        "script": "hello", "interpreter": "sh", "text": text, "where": "site", "mark": run, "timeout_s": 60,
        "sha256": hashlib.sha256(text.encode()).hexdigest(), "parameters": {"GREETING": "hello"},
        "secrets": {},
        "ok_codes": [3],
    }  # fmt: skip
    said = site.done("run-script", "a script", run=run, **what)
    practised = "practised" in said.get("output", "")
    check(
        practised or said["exit_code"] == 3,
        f"A script that ends with 3 is said to end with {said['exit_code']}.",
    )
    check(practised or "hello" in said.get("output", ""), "What a script said is not in the output.")
    site.fails("run-script", "a script", "script-altered", run=run, **{**what, "text": f"{text}#"})


def _names(site: Client, run: str, box: str) -> None:
    """Copies find each other by names, where the agent can have them do so."""
    if "name-copies" in site.verbs():
        names = [{"name": "shop.conformance.example", "type": "A", "values": ["192.0.2.7"]}]
        site.done("name-copies", box, run=run, mark=run, names=names)
        site.fails("name-copies", box, "no-such-network", run=run, mark=mark(), names=names)


def _doors(site: Client, run: str, copy: str) -> None:
    """A front door of a test opens beside all others, and is gone with it."""
    if not {"publish-address", "withdraw-address"} <= set(site.verbs()):
        return
    has = site.get("/inventory", "Inventory")
    own = has.get("front_doors", [])
    ranges = [ip_network(text) for text in has.get("door_addresses", [])] or [ip_network("192.0.2.0/28")]
    taken = {door["address"] for door in own}
    at = next(str(address) for network in ranges for address in network.hosts() if str(address) not in taken)
    for held in own[:1]:
        at_home = {"networks": [], "doors": [held["address"]]}
        site.fails("prove-isolation", "copies", "not-isolated", run=run, mark=run, **at_home)
    door = {"name": f"door-{run}", "address": at, "ports": ["tcp/80"], "machine": copy, "sources": []}
    twin = {**door, "name": f"twin-{run}"}
    site.fails("publish-address", "d", "address-taken", run=run, mark=run, doors=[door, twin])
    site.fails("publish-address", "d", "no-such-copy", run=run, mark=run, doors=[{**door, "machine": run}])
    wrong: tuple[dict[str, Any], ...] = ({"address": "nowhere"}, {"ports": ["443"]}, {"ports": []})
    for change in wrong:
        site.fails("publish-address", "d", "bad-value", run=run, mark=run, doors=[{**door, **change}])
    site.done("publish-address", "d", run=run, mark=run, doors=[door])
    site.fails("publish-address", "d", "address-taken", run=run, mark=run, doors=[twin])
    said = site.done("read-adapters", "copies", run=run, mark=run).get("doors", [])
    check([one["name"] for one in said] == [door["name"]], f"read-adapters says {said} of front doors.")
    now = site.get("/inventory", "Inventory").get("front_doors", [])
    check(now == own, "A front door of a test stands in the inventory.")
    site.done("withdraw-address", "d", run=run, mark=mark(), doors=[door["name"]])
    said = site.done("read-adapters", "copies", run=run, mark=run).get("doors", [])
    check(bool(said), "One run closed a front door that another one opened.")
    for _ in range(2):
        site.done("withdraw-address", "d", run=run, mark=run, doors=[door["name"]])
    said = site.done("read-adapters", "copies", run=run, mark=run).get("doors", [])
    check(not said, "A front door that was withdrawn is still said to be open.")


@contextmanager
def _cleaned(site: Client, run: str, copies: tuple[str, ...], box: str) -> Iterator[None]:
    """Whatever happens, nothing of it is left behind."""
    try:
        yield
    except Wrong:
        with suppress(Wrong):
            for copy in copies:
                for verb in ("power-off", "unregister", "discard-clone"):
                    site.ask(verb, copy, run=run).settled()
            site.ask("remove-sandbox", box, run=run).settled()
        raise


# --- production ---


class Way:
    """Production of one group goes from ``here`` to ``there``."""

    def __init__(self, here: Client, there: Client, group: str, members: tuple[str, ...]) -> None:
        self.here = here
        self.there = there
        self.group = group
        self.members = members
        self.run = mark()
        self.like = here.get("/inventory", "Inventory")
        self.ground = Ground(there, group, self.like)

    def closed_down(self) -> dict[str, float]:
        """Shut down and fenced: what the disks of each hold."""
        contents = {}
        for name in self.members:
            self.here.fails("fence", name, "still-running", run=self.run, cut=False)
            self.here.done("shut-down", name, run=self.run, limit_s=READY_S, force=True)
            said = self.here.done("fence", name, run=self.run, cut=False)
            check(said["was_running"] is False, f"{name} was shut down, and is said to have been running.")
            check(said.get("contents") is not None, f"fence does not say what the disks of {name} hold.")
            contents[name] = said["contents"]
            self.here.fails("power-on", name, "fenced", run=self.run)
            again = self.here.done("fence", name, run=self.run, cut=False)
            check(again.get("checksum") == said.get("checksum"), f"{name} was fenced, and its disks changed.")
        return contents

    def handed_over(self, contents: Mapping[str, float]) -> None:
        """Copied a last time, promoted, landed and up."""
        there, group, run = self.there, self.group, self.run
        point = there.done("sync", group, run=run, group=group, contents=dict(contents))["point"]
        what = {"group": group, "mark": run, "workloads": list(self.members)}
        ahead = {name: moment + 3600.0 for name, moment in contents.items()}
        there.fails("promote", group, "not-equal", run=run, point=point, contents=ahead, equal=True, **what)
        there.fails(
            "register", self.members[0], "not-promoted", run=run, host_pool=self.ground.pool, folder="",
            group=group, workload=self.members[0], mark=run,
        )  # fmt: skip
        there.fails("promote", group, "point-gone", run=run, point=mark(), contents={}, equal=False, **what)
        said = there.done("promote", group, run=run, point=point, contents=dict(contents), equal=True, **what)
        check(said["point"] == point and not said.get("behind"), f"promote says {said} of the point {point}.")
        for name in self.members:
            register = {"group": group, "workload": name, "mark": run}
            self.ground.land(name, name, self.ground.production, **register)
        for name in self.members:
            self.ground.up(name, name)
        state = state_of(there, group)
        check(bool(state.get("promoted")), "A group that was promoted is not said to be, in the pulse.")

    def rolled_back(self) -> None:
        """The target gives everything back, and the source goes on."""
        there, group, run = self.there, self.group, self.run
        there.fails("demote", group, "registered", run=run, group=group, mark=run)
        for name in self.members:
            there.done("power-off", name, run=run)
            there.done("unregister", name, run=run)
        there.done("demote", group, run=run, group=group, mark=run)
        there.done("leak-check", run, run=run, mark=run)
        for name in self.members:
            self.here.done("lift-fence", name, run=run)
            self.here.done("power-on", name, run=run, unless_on=True)
        _copying_goes_on(there, group)

    def committed(self) -> None:
        """The target takes them as its own, the source gives them up."""
        there, here, group, run = self.there, self.here, self.group, self.run
        specs = [dict(self.ground.spec(name)) for name in self.members]
        there.done("adopt", "run", run=run, workloads=specs, mark=run)
        here.done("give-up", "run", run=run, workloads=list(self.members), mark=run)
        there.done("let-points-go", group, run=run, group=group)
        for site, at_home in ((there, True), (here, False)):
            names = [one["name"] for one in site.get("/inventory", "Inventory").get("workloads", [])]
            for name in self.members:
                check(
                    (name in names) is at_home,
                    f"{name} is{' not' if at_home else ''} in the inventory of {site.name}.",
                )
        there.done("leak-check", run, run=run, mark=run)

    def turned_round(self, definition: Mapping[str, Any]) -> None:
        """Copied back to where it came from, only what differs."""
        there, here, group, run = self.there, self.here, self.group, self.run
        for name in self.members:
            said = here.done("fence", name, run=run, cut=False)
            check(said["was_running"] is False, f"{name} was given up, and is said to run at {here.name}.")
        said = there.done("changes-since", group, run=run, group=group)
        digest = mark()
        reverse = {**definition, "source": definition["target"], "target": definition["source"]}
        specs = [dict(self.ground.spec(name)) for name in self.members]
        told = here.done(
            "reverse-copying", group, run=run, group=reverse, digest=digest, workloads=specs, link=None,
            changed_bytes=said["changed_bytes"], since=said["since"],
        )  # fmt: skip
        check(told["digest"] == digest, "reverse-copying does not repeat the digest.")
        there.done("unprotect", group, run=run)
        known = [one["group"] for one in there.get("/pulse", "SitePulse")["groups"]]
        check(group not in known, f"{there.name} still says that it holds copies of {group}.")
        check(state_of(here, group)["digest"] == digest, "The pulse does not repeat the digest.")


def there_and_back(site: Client, source: Client, group: str, members: tuple[str, ...], source_code: str,
                   target_code: str) -> Iterator[tuple[str, Callable[[], None]]]:  # fmt: skip
    """Deeds, each with what is said of it; one after the other, and not without those before it."""
    definition = {
        "code": group, "name": group, "source": source_code, "target": target_code, "members": list(members),
        "policy": {"interval_s": 3600, "rpo_s": 7200},
    }  # fmt: skip
    rolled, out = Way(source, site, group, members), Way(source, site, group, members)

    def there_and_rolled_back() -> None:
        rolled.handed_over(rolled.closed_down())
        rolled.rolled_back()

    def there() -> None:
        out.handed_over(out.closed_down())
        out.committed()

    def home() -> None:
        back = Way(site, source, group, members)
        back.handed_over(back.closed_down())
        back.committed()
        back.turned_round({**definition, "source": target_code, "target": source_code})

    yield "Production moves, and is rolled back", there_and_rolled_back
    yield "Production moves, and is committed", there
    yield "It is copied back: only what differs", lambda: out.turned_round(definition)
    yield "It comes home, and is protected as in the beginning", home


def _copying_goes_on(site: Client, group: str) -> None:
    """Demoted, a group is copied again."""
    point = site.done("sync", group, group=group)["point"]
    found = wait_until(
        lambda: point in [one["id"] for one in site.get("/points", "Points", group=group)["points"]], 30
    )
    check(bool(found), "Rolled back, no new point is made of the group.")
