"""Real machines: a disaster run of Maestoso against a bare script: ``python -m bench.guests [rounds]``, as root.

The same two guests come up from the same points at the same site, one after the other, with the same checks
(guest agent, new addresses, a web page of each): in turn by a script that speaks to the hypervisor and nothing
else, and by Maestoso from the press to the last page that answered; then it is rolled back. Asserts nothing.
"""

from __future__ import annotations

import json
import os
import statistics
import subprocess
import sys
import threading
import time
import unittest
import uuid
from datetime import datetime
from pathlib import Path
from typing import Any

PASSWORD = "correct-horse-battery"
ROUNDS = 5
PATIENCE_S = 300.0
LOOKS_S = 2.0


def bare(task: str) -> None:
    """The script, inside of the namespace of the site: what it shall do comes as JSON."""
    import httpx

    from maestoso.agents.libvirt import chains, definition, guests, images
    from maestoso.agents.libvirt.hypervisor import GuestSilent, Hypervisor

    told = json.loads(task)
    hypervisor = Hypervisor(told["uri"])
    began = time.monotonic()
    for one in told["machines"]:
        files = {}
        for disk, lower in one["disks"].items():
            files[disk] = Path(told["folder"]) / f"{one['name']}-{disk}.qcow2"
            images.create(files[disk], below=chains.Image(Path(lower)))
        chained = {disk: chains.layers(file) for disk, file in files.items()}
        found = definition.copy_of(one["xml"], one["name"], chained, {})
        hypervisor.define(definition.with_nics(found, [(one["mac"], "br0", "", True)]))
    for one in told["machines"]:
        hypervisor.machine(one["name"]).createWithFlags(0)
        while True:
            try:
                hypervisor.guest(one["name"], "guest-ping", 5)
                break
            except GuestSilent:
                time.sleep(0.2)
        settings = {"addresses": [one["address"]], "gateways": [one["gateway"]], "dns": []}
        guests.set_addresses(hypervisor, one["name"], [(one["mac"], settings)], time.sleep)
        at = f"http://{one['address'].split('/')[0]}/"
        while True:
            try:
                httpx.get(at, timeout=5, trust_env=False)
                break
            except httpx.HTTPError:
                time.sleep(0.5)
    print(time.monotonic() - began)
    for one in told["machines"]:
        hypervisor.cut_power(one["name"])
        hypervisor.undefine(one["name"])


def cpu_s() -> float:
    """CPU seconds of all processes of Maestoso, agents included, and none of QEMU."""
    total, tick = 0, os.sysconf("SC_CLK_TCK")
    for place in Path("/proc").glob("[0-9]*"):
        try:
            command = (place / "cmdline").read_bytes()
            if (b"maestoso" in command or b"mariadbd" in command) and b"qemu-system" not in command:
                words = (place / "stat").read_text().rsplit(")", 1)[1].split()
                total += sum(int(word) for word in words[11:15])
        except (OSError, IndexError):
            continue
    return total / tick


class Bench(unittest.TestCase):
    """Not a test: what sets up and takes away is shared with tests."""

    def runTest(self) -> None:
        """In turn."""
        from tests.e2e.application import Application, until
        from tests.guests.lab import AWAY, GUESTS, HOME, PLAN, Sites, make_known

        from maestoso.agents.libvirt.copies import Copies
        from maestoso.real_lab.command import network

        sites = Sites(self)
        app = Application(fresh=True)
        self.addCleanup(app.close)
        app.start("start", MAESTOSO_ADMIN_PASSWORD=PASSWORD, MAESTOSO_AGENT_HOSTS=network(sites.lab))
        api = app.api()
        sites.start_production()
        make_known(api, sites.lab, key="")
        until(
            lambda: api.get("/groups")["groups"][0]["stage"] == "protected", "the group to be protected", 120
        )
        sites.lab.kill_agent(HOME)
        sites.lab.kill_machines(HOME)
        until(lambda: api.get("/sites")["sites"][0]["lost_because"], "the loss to be seen", 120)

        lab, away = sites.lab, sites.lab.site(AWAY)
        place = Path("/var/tmp", f"maestoso-{lab.name}", "bare")
        (place / "disks").mkdir(parents=True)
        held = Copies(lab.folder / AWAY / "copies").of("shop")
        point = held.point(None)
        machines = [
            {
                "name": guest.name, "xml": point["machines"][guest.name]["xml"],
                "disks": {disk: str(file) for disk, file in held.disks(point, guest.name).items()},
                "mac": f"52:54:00:99:00:{guest.last:02x}", "address": f"{away.address(guest.last)}/24",
                "gateway": away.address(1),
            }
            for guest in GUESTS
        ]  # fmt: skip
        task = json.dumps(
            {"uri": f"qemu:///embed?root={place}", "folder": str(place / "disks"), "machines": machines}
        )

        def by_script() -> float:
            command = [
                "nsenter",
                f"--net=/run/netns/{lab.space(away)}",
                sys.executable,
                "-m",
                "bench.guests",
                task,
            ]
            done = subprocess.run(command, capture_output=True, text=True, check=True)
            return float(done.stdout.split()[-1])

        def by_maestoso() -> tuple[float, float]:
            options = {"kind": "disaster", "acknowledged": True, "go_on": True}
            body = {"plan": PLAN, "confirm": PLAN, "options": options}
            busy, began, pressed = cpu_s(), time.monotonic(), time.time()
            run = api.send("POST", "/runs", body, **{"Idempotency-Key": str(uuid.uuid4())})["id"]
            status = _asked_for(api, run, "decision")
            share = (cpu_s() - busy) / ((time.monotonic() - began) * (os.cpu_count() or 1))
            # What it does after that (front doors, what became of the adapters) the script does not do.
            answered = max(
                step["finish_s"] for step in api.get(f"/runs/{run}")["steps"]
                if step["verb"] == "probe-service" and step["status"] == "done"
            )  # fmt: skip
            started = datetime.fromisoformat(api.get(f"/runs/{run}/events")[0]["at"]).timestamp()
            step = next(need["step"] for need in status["needs"] if need["kind"] == "decision")
            answer = {"kind": "roll-back", "step": step, "text": "measured", "verdict": ""}
            api.send("POST", f"/runs/{run}/controls", answer)
            _asked_for(api, run, "")
            return started - pressed + answered, share

        rounds = int(sys.argv[1]) if len(sys.argv) > 1 else ROUNDS
        scripts, runs, shares = [], [], []
        for number in range(rounds):
            scripts.append(by_script())
            took, share = by_maestoso()
            runs.append(took)
            shares.append(share)
            print(
                f"round {number + 1}: script {scripts[-1]:.1f} s, Maestoso {took:.1f} s"
                f" ({took / scripts[-1]:.2f} times), its own processes {share:.0%} of the CPU", flush=True,
            )  # fmt: skip
        ratios = [run / script for run, script in zip(runs, scripts, strict=True)]
        print(
            f"median: script {statistics.median(scripts):.1f} s, Maestoso {statistics.median(runs):.1f} s,"
            f" {statistics.median(ratios):.2f} times (goal 1.05); {statistics.median(shares):.0%} of the CPU (goal 10 %)"
        )


def _asked_for(api: Any, run: int, kind: str) -> Any:
    """How a run stands once a person is asked that, or once it has ended; everything else is acknowledged.

    Asked seldom: a page is told by its stream, so each look more would be work that is the measuring's own.
    """
    end, status = time.monotonic() + PATIENCE_S, None
    while time.monotonic() < end:
        status = api.status(run)
        for need in (status or {"needs": []})["needs"]:
            if need["kind"] in ("acknowledge", "failure"):
                answer = {"kind": "answer" if need["kind"] == "acknowledge" else "skip", "step": need["step"]}
                api.send("POST", f"/runs/{run}/controls", {**answer, "text": "measured", "verdict": ""})
            elif need["kind"] == kind:
                return status
        if status and status["outcome"]:
            return status
        threading.Event().wait(LOOKS_S)
    raise AssertionError(f"run {run} was not done in {PATIENCE_S:g} s; it stands so: {status}")


if __name__ == "__main__":
    if len(sys.argv) > 1 and sys.argv[1].startswith("{"):
        bare(sys.argv[1])
    else:
        unittest.TextTestRunner(verbosity=0).run(Bench())
