"""The ground rules, each as a test of its own. The docstring of a test is what is said of it."""

from __future__ import annotations

import threading
import time
import uuid
from datetime import UTC, datetime
from typing import Any

from ..protocol import VERBS
from .client import Client, NotTested, Wrong


def check(right: bool, otherwise: str) -> None:
    """Raise Wrong with a sentence unless it is right."""
    if not right:
        raise Wrong(otherwise)


def mark() -> str:
    """A name that nothing else has."""
    return f"conformance-{uuid.uuid4().hex[:8]}"


def capabilities(site: Client, group: str) -> None:
    """It says which protocol it speaks and what it can."""
    said = site.get("/capabilities", "Capabilities")
    check(
        said["protocol"].split(".")[0] == "1",
        f"It speaks protocol {said['protocol']}; this is a test of 1.x.",
    )
    strange = sorted(set(said["verbs"]) - set(VERBS))
    check(not strange, f"It says that it has verbs which are not in the protocol: {', '.join(strange)}.")
    check(bool(said["site"]), "It does not say which site it is.")


def verbs(site: Client, group: str) -> None:
    """It has every verb."""
    lacks = sorted({name for name, verb in VERBS.items() if not verb.get("for_labs")} - set(site.verbs()))
    if lacks:
        raise NotTested(f"It does not have {', '.join(lacks)}. Plans that need them say so.")


def tokens(site: Client, group: str) -> None:
    """Nobody is let in without the token, or with another one."""
    for token in ("", "another", f"{site.token}x"):
        for method, path in (("GET", "/pulse"), ("GET", "/inventory"), ("PUT", "/operations/x")):
            with site.line(token) as line:
                answer = line.request(method, path, json={} if method == "PUT" else None)
            check(
                answer.status_code == 401,
                f"{method} {path} with a wrong token: {answer.status_code}, not 401.",
            )


def clock(site: Client, group: str) -> None:
    """Its clock has an offset and goes right."""
    for path, shape in (("/clock", "SiteClock"), ("/pulse", "SitePulse")):
        now = datetime.fromisoformat(site.get(path, shape)["now"])
        check(now.tzinfo is not None, f"{path} says a time without an offset.")
        off = abs((now - datetime.now(UTC)).total_seconds())
        check(off < 60, f"The clock of {path} is {off:.0f} s off from the clock here.")


def inventory(site: Client, group: str) -> None:
    """The inventory can be read, and every name in it is there once."""
    said = site.get("/inventory", "Inventory")
    check(bool(said.get("host_pools")), "The inventory has no host pool, so nothing could land here.")
    for kind in ("host_pools", "storage_pools", "networks", "workloads"):
        names = [one["name"] for one in said.get(kind, [])]
        twice = sorted({name for name in names if names.count(name) > 1})
        check(not twice, f"Among the {kind} these names are there more than once: {', '.join(twice)}.")


def pulse(site: Client, group: str) -> None:
    """The pulse says how the copying stands, and changes with what it is about only."""
    said = site.get("/pulse", "SitePulse")
    known = {state["group"]: state for state in said["groups"]}
    check(group in known, f"The group {group} is not in the pulse.")
    check(
        bool(known[group]["digest"]), f"{group} has no digest; repeat the one that came with its definition."
    )
    check(
        known[group]["source"] in [link["source"] for link in said["links"]],
        "The link of the group is missing.",
    )
    again = site.get("/pulse", "SitePulse")
    for name in ("inventory", "landings", "epoch"):
        check(again.get(name) == said.get(name), f"{name} changed, though nothing happened.")
    epochs = {
        said.get("epoch"), site.get("/capabilities", "Capabilities").get("epoch"),
        site.get("/operations", "Changes", after=-1, wait=0).get("epoch"),
    }  # fmt: skip
    check(len(epochs) == 1, f"The epoch is not the same wherever it is said: {epochs}.")


def points(site: Client, group: str) -> None:
    """Points come oldest first and are of their group; another group is not known."""
    said = site.get("/points", "Points", group=group)["points"]
    check(bool(said), f"There is no point of {group} yet. Wait for the first copy, or name another group.")
    moments = [datetime.fromisoformat(point["at"]) for point in said]
    check(moments == sorted(moments), "The points are not in the order of their moments.")
    check({point["group"] for point in said} == {group}, "A point is of another group.")
    refusal = site.refused("GET", "/points", params={"group": mark()})
    check(refusal.status == 404, f"Points of a group that is not there: {refusal.status}, not 404.")


def measures(site: Client, group: str) -> None:
    """Lags and change rates can be read."""
    check(site.get("/lags", "Lags")["every_s"] > 0, "every_s of the lags must be above 0.")
    site.get("/change-rates", "ChangeRates")


def answering(site: Client, group: str) -> None:
    """It says which services answer, and knows nobody who is not there."""
    has = site.get("/inventory", "Inventory").get("workloads", [])
    body = {"workloads": [*(one["name"] for one in has), "nobody-of-that-name"]}
    said = site.http.post("/answering", json=body).json()["services"]
    offers = {one["name"]: {service["name"] for service in one.get("offers", [])} for one in has}
    for name, services in said.items():
        strange = sorted(set(services) - offers.get(name, set()))
        check(not strange, f"{name} is said to answer on {', '.join(strange)}, which it does not offer.")
    other = mark()
    told = site.http.post("/answering", json={**body, "mark": other}).json()
    check(told.get("mark") == other, "Asked for the copies of a test, it does not repeat the mark.")
    check(
        not any(told["services"].values()),
        "Services are said to answer on copies of a test that is not there.",
    )


def bad_requests(site: Client, group: str) -> None:
    """What cannot be read is refused by name, and nothing is done."""
    name = mark()
    good = site.ask("make-sandbox", name, mark=name)
    before = len(site.get("/journal", "Journal", after=0)["entries"])
    for content in (b"{not json", b"[]", b"7", b"[" * 50_000):
        refusal = site.refused("PUT", good.path, content=content)
        check(refusal.status == 400, f"PUT with the body {content[:20]!r}: {refusal.status}, not 400.")
    wrong: list[dict[str, Any]] = [
        {"fence": "one"}, {"args": {}}, {"args": {"mark": 7}}, {"args": []}, {"verb": 7},
    ]  # fmt: skip
    for changes in wrong:
        refusal = good.refused(**changes)
        check(refusal.status == 400, f"PUT with {changes}: {refusal.status}, not 400.")
    refusal = good.refused(verb="format-everything")
    check(refusal.code == "unknown-verb", f"A verb that is not there: {refusal.code}, not unknown-verb.")
    refusal = site.refused("GET", good.path)
    check(
        (refusal.status, refusal.code) == (404, "not-found"),
        "A key that was refused is known; it must not be.",
    )
    after = len(site.get("/journal", "Journal", after=0)["entries"])
    check(before == after, "Something refused had an effect.")


def newer(site: Client, group: str) -> None:
    """What a newer Maestoso says more is not minded."""
    name = mark()
    site.done("make-sandbox", name, mark=name, colour="blue")
    more = site.ask("remove-sandbox", name)
    more.body["importance"] = 3
    check(more.settled()["status"] == "done", "An operation with a field that is not known was not done.")


def keys(site: Client, group: str) -> None:
    """A key is done once, however often and by how many it is asked for, and whatever is in it."""
    name = mark()
    asked = site.ask("make-sandbox", name, key=f"conformance/{name}:1/Ä b?c#d%2F", mark=name)
    first = asked.settled()
    check(first["status"] == "done", f"make-sandbox failed: {first.get('reason')}")
    check(asked.put() == first, "A key that is known was answered otherwise than before.")
    check(site.get(asked.path, "OperationState") == first, "GET of a key answers otherwise than PUT did.")
    check(
        len(site.effects(asked.key)) == 1,
        f"{len(site.effects(asked.key))} effects of a key that was asked twice.",
    )
    away = site.ask("remove-sandbox", name)
    threads = [threading.Thread(target=away.put) for _ in range(8)]
    for thread in threads:
        thread.start()
    for thread in threads:
        thread.join()
    check(away.settled()["status"] == "done", "remove-sandbox failed.")
    check(
        len(site.effects(away.key)) == 1, "A key that was asked for eight times at once had not one effect."
    )


def fences(site: Client, group: str) -> None:
    """What comes late, under a lower fence, is refused and does nothing, for keys that are known, too."""
    run, name = mark(), mark()
    old = site.ask("leak-check", run, run=run, fence=4, mark=run)
    old.settled()
    site.ask("leak-check", run, run=run, fence=5, mark=run).settled()
    for late in (old, site.ask("make-sandbox", name, run=run, fence=4, mark=name)):
        refusal = late.refused()
        check(refusal.code == "fence-too-low", f"A lower fence: {refusal.code}, not fence-too-low.")
    check(site.get("/remains", "Remains", mark=name)["remains"] == [], "What was refused was done.")
    check(
        site.ask("leak-check", run, run=run, fence=5, mark=run).settled()["status"] == "done",
        "The same fence failed.",
    )


def reigns(site: Client, group: str) -> None:
    """Once another has taken over from whoever asked, the one before is refused, whatever it asks for."""
    who, run, name = mark(), mark(), mark()
    for reign in (0, 1):
        site.ask("leak-check", run, run=run, mark=run).under(who, reign).settled()
    late = site.ask("make-sandbox", name, run=mark(), mark=name).under(who, 0)
    refusal = late.refused()
    check(refusal.code == "reign-past", f"A lower reign: {refusal.code}, not reign-past.")
    check(site.get("/remains", "Remains", mark=name)["remains"] == [], "What was refused was done.")
    other = site.ask("leak-check", run, run=run, mark=run).under(mark(), 0).settled()
    check(other["status"] == "done", "The reign of one installation was held against another.")


def leases(site: Client, group: str) -> None:
    """A lease goes to one, and to another only when it is over and with records that lack nothing."""
    who = f"/leases/{mark()}"
    asked = {"reign": 1, "renewals": 7, "for_s": 600.0, "holder": "one"}
    wanted = {**asked, "reign": 2, "holder": "two", "if_over": True}

    def refused(body: dict[str, Any], code: str, what: str) -> None:
        said = site.refused("PUT", who, json=body).code
        check(said == code, f"{what}: {said}, not {code}.")

    refused(wanted, "no-lease", "A lease that nobody had")
    given = site.put(who, asked, "LeaseGiven")
    check(given["renewals"] == 7 and given["left_s"] > 500, f"A lease of 600 s is said to be {given}.")
    refused(wanted, "lease-held", "A lease that is not over")
    site.put(who, {**asked, "for_s": 1e-6}, "LeaseGiven")
    refused({**wanted, "renewals": 5}, "records-behind", "Records that lack two renewals")
    site.put(who, {**wanted, "renewals": 6}, "LeaseGiven")
    refused({**wanted, "reign": 3, "holder": "three"}, "lease-held", "A lease that was promised")
    site.put(who, {**asked, "reign": 2}, "LeaseGiven")
    refused(asked, "reign-past", "A reign that is past")
    refused({**asked, "for_s": 0}, "bad-value", "A lease of no seconds")


def away(site: Client, group: str) -> None:
    """Taking away what is not there is done, and no effect."""
    for verb in ("remove-sandbox", "power-off", "unregister", "discard-clone"):
        asked = site.ask(verb, mark())
        check(asked.settled()["status"] == "done", f"{verb} of what is not there failed.")
        check(not site.effects(asked.key), f"{verb} of what is not there is in the journal.")


def feed(site: Client, group: str) -> None:
    """The feed says what changed behind a cursor, stays open while there is nothing, and wakes with news."""
    cursor = site.get("/operations", "Changes", after=-1, wait=0)["cursor"]
    began = time.monotonic()
    idle = site.get("/operations", "Changes", after=cursor, wait=2)
    check(idle["operations"] == [], "The feed says that something changed, though nothing did.")
    check(time.monotonic() - began > 1.5, "The feed did not stay open while there was nothing to tell.")
    heard: list[Any] = []
    listener = threading.Thread(target=lambda: heard.append(_next(site, cursor)))
    listener.start()
    name = mark()
    asked = site.ask("leak-check", name, mark=name)
    asked.settled()
    listener.join(60)
    check(bool(heard) and heard[0] < 20, "The feed did not wake up when something changed.")
    told = site.get("/operations", "Changes", after=cursor, wait=0)
    mine = [one for one in told["operations"] if one["key"] == asked.key]
    check(
        len(mine) == 1 and mine[0]["status"] == "done",
        "An operation is in the feed more than once, or not as it is.",
    )
    for query in ({"after": "x"}, {"after": 0, "wait": "long"}):
        check(
            site.refused("GET", "/operations", params=query).status == 400,
            f"The feed with {query} is not refused.",
        )


def _next(site: Client, cursor: int) -> float:
    began = time.monotonic()
    with site.line(site.token) as line:
        line.get("/operations", params={"after": cursor, "wait": 30}, timeout=60)
    return time.monotonic() - began


def landings(site: Client, group: str) -> None:
    """Landings are held, shown and given back; what cannot be is refused one by one."""
    has, name = site.get("/inventory", "Inventory"), mark()
    network = next((one for one in has["networks"] if one.get("role", "production") == "production"), None)
    check(network is not None, "There is no network for production in the inventory.")
    nic = {
        "nic": "nic0", "network": network["name"] if network else "", "isolated": False,
        "mac": "02:00:5e:00:53:01",
        "dhcp": False, "before": [], "addresses": ["192.0.2.17/24"],
    }  # fmt: skip
    landing = {
        "workload": name, "side": "live", "host_pool": has["host_pools"][0]["name"], "cores": 1,
        "memory_mib": 512, "disks": [], "nics": [nic], "name": name,
    }  # fmt: skip
    elsewhere = {**landing, "workload": f"{name}-x", "host_pool": "no-such-pool", "nics": []}
    before = site.get("/pulse", "SitePulse")["landings"]
    said = site.done("hold-landings", "landings", landings=[landing, elsewhere])
    check(
        list(said["refused"]) == [f"{name}-x"],
        f"Refused were {list(said['refused'])}, and not the impossible one.",
    )
    check(site.get("/pulse", "SitePulse")["landings"] != before, "landings of the pulse did not change.")
    held = {one["workload"] for one in site.get("/landings", "HeldLandings")["landings"]}
    check(name in held and f"{name}-x" not in held, "Held is not what was said to be held.")
    same = {**landing, "workload": f"{name}-y", "name": f"{name}-y"}
    said = site.done("hold-landings", "landings", landings=[same])
    check(f"{name}-y" in said["refused"], "One address is held for two workloads.")
    site.done("release-landings", "landings", workloads=[name, f"{name}-y"])
    held = {one["workload"] for one in site.get("/landings", "HeldLandings")["landings"]}
    check(name not in held, "A landing that was given back is still held.")


def pins(site: Client, group: str) -> None:
    """A point gets a label and loses it."""
    point = site.get("/points", "Points", group=group)["points"][-1]["id"]
    for label in ("conformance", ""):
        site.done("pin-point", group, point=point, label=label)
        held = site.get("/points", "Points", group=group)["points"]
        said = next((one.get("label", "") for one in held if one["id"] == point), None)
        check(said == label, f"The label of the point is {said!r}, not {label!r}.")
    site.fails("pin-point", group, "point-gone", point=mark(), label="x")


def pausing(site: Client, group: str) -> None:
    """Copying is paused with a reason, and goes on."""
    for because in ("conformance test", ""):
        site.done("pause-copying", group, because=because)
        states = site.get("/pulse", "SitePulse")["groups"]
        said = next(state.get("paused_because", "") for state in states if state["group"] == group)
        check(said == because, f"paused_because is {said!r}, not {because!r}.")


RULES = (
    (capabilities, "Addresses"), (verbs, "site-verbs.md"), (tokens, "Ground rules"), (clock, "Addresses"),
    (inventory, "Addresses"), (pulse, "Addresses"), (points, "Addresses"), (measures, "Addresses"),
    (answering, "Addresses"), (bad_requests, "What may be left out, 2"), (newer, "What may be left out, 1"),
    (keys, "Operations, 1"), (fences, "Operations, 2"), (reigns, "Operations, 8"), (leases, "Leases"),
    (away, "Operations, 5"), (feed, "Addresses"), (landings, "site-verbs.md, hold-landings"),
    (pins, "site-verbs.md, pin-point"), (pausing, "site-verbs.md, pause-copying"),
)  # fmt: skip
"""Every rule, and where it is written."""
