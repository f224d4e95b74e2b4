"""What runs in the lab: four machines of a made-up office, their groups, the crosswalks and the plan."""

from __future__ import annotations

from typing import Any

from maestoso.core.codec import to_data
from maestoso.core.model.protection import Policy
from maestoso.real_lab.sites import LAN, Guest, RealLab

WEB = "httpd -h /www -p 80\n"
GUESTS = (
    Guest(
        name="names-01", last=10, offers=(("office-names", "dns", 53),),
        tags={"application": "Office", "tier": "base"},
        runs="dnsmasq -C /dev/null -u root -x /run/dnsmasq.pid --no-resolv --no-hosts"
        " --host-record=ledger.office.example,192.0.2.1\n" + WEB,
    ),
    Guest(
        name="ledger-db-01", last=11, second_disk=16, offers=(("ledger-db", "http", 80),),
        tags={"application": "Ledger", "tier": "data"}, runs=WEB,
    ),
    Guest(
        name="ledger-app-01", last=12, second_disk=16, offers=(("ledger", "http", 80),),
        uses=("ledger-db", "office-names"), tags={"application": "Ledger", "tier": "service"},
        runs=WEB + "writer 11\n",
    ),
    Guest(
        name="front-01", last=13, offers=(("front", "http", 80),), uses=("ledger",),
        tags={"application": "Ledger", "tier": "front"}, runs=WEB,
    ),
)  # fmt: skip
NAMES = {"ALD": "Alder yard", "BIR": "Birch hall"}
GROUPS = {
    "office-ledger": ("Ledger", ("ledger-db-01", "ledger-app-01")),
    "office-edge": ("Edge", ("names-01", "front-01")),
}
PLAN = "LEDGER"
DOOR = ("office-front", "front-01")
WAVES = (("Names", "names-01"), ("Data", "ledger-db-01"), ("Service", "ledger-app-01"), ("Front", "front-01"))


def sites(lab: RealLab) -> list[dict[str, Any]]:
    """The bodies that make both sites known."""
    return [
        {
            "code": site.code, "name": NAMES[site.code], "agent_url": lab.url(site.code),
            "token": lab.token(site.code), "certificate": lab.certificate(site.code),
        }
        for site in lab.sites
    ]  # fmt: skip


def link(lab: RealLab) -> dict[str, Any]:
    """The line between them."""
    one, other = (site.code for site in lab.sites)
    return {"one": one, "other": other, "bandwidth_bps": 10**9, "latency_ms": 1.0}


def crosswalks(lab: RealLab) -> list[dict[str, Any]]:
    """Both directions: tests keep their addresses, live machines get those of the other site."""
    prefixes = {site.code: f"{site.lan}.0/24" for site in lab.sites}
    one, other = (site.code for site in lab.sites)
    return [
        {
            "source": source, "target": target, "networks": [{"source": LAN, "live": LAN}],
            "host_pools": [{"source": "host", "target": "host"}],
            "storage_pools": [{"source": name, "target": "copies"} for name in ("disks", "copies")],
            "address_rules": [{
                "prefix": prefixes[source],
                "live": {"action": "translate", "to": prefixes[target], "gateway": None},
                "test": {"action": "keep", "to": None, "gateway": None},
            }],
            "front_doors": [{
                "source": lab.door[0], "live": lab.door_address(target), "test": lab.door_address(target, 9),
            }],
        }
        for source, target in ((one, other), (other, one))
    ]  # fmt: skip


def groups(lab: RealLab) -> list[dict[str, Any]]:
    """What is copied together, every few seconds."""
    source, target = (site.code for site in lab.sites)
    policy = to_data(Policy(interval_s=10, rpo_s=60, app_consistent_every_s=600, keep_all_s=600))
    return [
        {
            "code": code, "name": name, "source": source, "target": target, "members": list(members),
            "policy": policy, "tag_rule": "",
        }
        for code, (name, members) in GROUPS.items()
    ]  # fmt: skip


def plan(lab: RealLab) -> dict[str, Any]:
    """Names, data, service, front."""
    source, target = (site.code for site in lab.sites)
    waves = [{"name": name, "members": [{"workload": member}]} for name, member in WAVES]
    return {
        "code": PLAN, "name": "Ledger of the office", "source": source, "target": target, "rto_s": 600,
        "rpo_s": 60, "waves": waves, "cues": door_cues(lab),
    }  # fmt: skip


def door_cues(lab: RealLab) -> list[dict[str, Any]]:
    """The front door opens when all is up, and is asked through from outside."""
    name, _ = lab.door
    return [
        {"id": "door", "title": "The front door opens", "at": "after", "doors": {"doors": [name]}},
        {
            "id": "outside", "title": "Whoever comes from outside is answered", "at": "after",
            "probe": {"protocol": "tcp", "door": name, "port": 80},
        },
    ]  # fmt: skip
