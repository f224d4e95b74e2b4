"""``./maestoso real-lab``: two sites of real machines on this one, known to a Maestoso that runs, and away
again."""

from __future__ import annotations

import ssl
import time
import uuid
from collections.abc import Callable
from contextlib import suppress
from pathlib import Path
from typing import Any

import httpx

from maestoso.core.errors import DomainError
from maestoso.real_lab import ledger, ready
from maestoso.real_lab.sites import RealLab

LINE = 0
PATIENCE_S = 300.0


class LabFault(DomainError):
    """The lab cannot be made or taken away; the sentence says why."""

    code = "real-lab"


class NotThere(LabFault):
    """Maestoso knows nothing of that name."""


class Maestoso:
    """The API of a running Maestoso, with a token or with a name and a password."""

    def __init__(self, address: str, *, token: str = "", password: str = "") -> None:
        self.http = httpx.Client(base_url=f"{address}/api/v1", trust_env=False, timeout=60)
        self._headers = {"Authorization": f"Bearer {token}"} if token else {}
        if not token:
            self._headers = {"X-CSRFToken": self.get("/session")["csrf"]}
            told = self.send("POST", "/session", {"name": "administrator", "password": password})
            self._headers = {"X-CSRFToken": told["csrf"]}

    def get(self, path: str) -> Any:
        """Read. Raises LabFault."""
        return self._said("GET", path, None)

    def send(self, method: str, path: str, body: Any = None) -> Any:
        """Change. Raises LabFault."""
        return self._said(method, path, body)

    def _said(self, method: str, path: str, body: Any) -> Any:
        try:
            answer = self.http.request(method, path, json=body, headers=self._headers)
        except httpx.HTTPError as error:
            raise LabFault(
                f"Maestoso does not answer at {self.http.base_url}: {error}.",
                "Start it first, with ./maestoso demo or ./maestoso start.",
            ) from error
        if answer.is_error:
            told = answer.json() if "json" in answer.headers.get("content-type", "") else {}
            said = told.get("detail", f"It answers {answer.status_code} to {method} {path}.")
            kind = NotThere if answer.status_code == 404 else LabFault
            raise kind(said, told.get("remedy", "See its log."))
        return answer.json() if answer.content else None


def lab(folder: Path) -> RealLab:
    """The lab of this installation. Raises LabFault where no real machine can run here."""
    why = ready.why_not()
    if why:
        raise LabFault(why, "Run ./maestoso real-lab as root; it installs what is missing.")
    return RealLab(folder, ready.FOLDER, "lab", line=LINE, door=ledger.DOOR)


def network(made: RealLab) -> str:
    """Where the agents are, for MAESTOSO_AGENT_HOSTS."""
    return f"{made.line}.0.0/24"


def up(made: RealLab, maestoso: Maestoso, say: Callable[[str], None]) -> None:
    """Make what is not there yet: networks, guests, agents; register it, protect it, plan it."""
    say("Kernel of the guests")
    ready.prepare(made.kit)
    first = not (made.folder / "secret").is_file()
    say("Networks of both sites")
    made.make_networks()
    made.write_settings()
    for guest in ledger.GUESTS if first else ():
        say(f"Disks of {guest.name}")
        made.make_guest(made.sites[0].code, guest)
    for site in made.sites:
        if not made.agent_runs(site.code):
            say(f"Site agent of {ledger.NAMES[site.code]}")
            made.start_agent(site.code)
    if first:  # later it is for Maestoso to say who may have power
        agent = _Agent(made, made.sites[0].code)
        for name in agent.off():
            say(f"Power for {name}")
            agent.power_on(name)
        say("Waiting until all have their addresses")
        agent.wait_for_addresses()
    _register(made, maestoso, say)


def _register(made: RealLab, maestoso: Maestoso, say: Callable[[str], None]) -> None:
    say("Telling Maestoso: sites, link, crosswalks, groups, plan")
    known = {site["code"] for site in maestoso.get("/sites")["sites"]}
    for body in ledger.sites(made):
        if body["code"] in known:
            at = {name: body[name] for name in ("agent_url", "token", "certificate")}
            maestoso.send("PUT", f"/sites/{body['code']}/agent", at)
            maestoso.send("POST", f"/sites/{body['code']}/drift", {})
        else:
            maestoso.send("POST", "/sites", body)
    maestoso.send("PUT", "/links", ledger.link(made))
    for walk in ledger.crosswalks(made):
        # One that nobody made is there all the same, and empty.
        if not maestoso.get(f"/crosswalks/{walk['source']}/{walk['target']}")["revision"]:
            maestoso.send("POST", "/crosswalks", walk)
    for group in ledger.groups(made):
        if not _there(maestoso, f"/groups/{group['code']}"):
            maestoso.send("POST", "/groups", {"group": group, "key": ""})
    if not _there(maestoso, f"/plans/{ledger.PLAN}"):
        maestoso.send("POST", "/plans", {"plan": ledger.plan(made)})


def _there(maestoso: Maestoso, path: str) -> bool:
    try:
        maestoso.get(path)
    except NotThere:
        return False
    return True


def away(made: RealLab, maestoso: Maestoso | None, say: Callable[[str], None]) -> None:
    """Take all of it away. Without a Maestoso that runs, what it knows stays with it."""
    if maestoso is not None:
        say("Telling Maestoso that it is gone")
        _gone(maestoso, f"/plans/{ledger.PLAN}")
        for code in ledger.GROUPS:
            _gone(maestoso, f"/groups/{code}")
        for body in ledger.crosswalks(made):
            _gone(maestoso, f"/crosswalks/{body['source']}/{body['target']}")
        link = ledger.link(made)
        _gone(maestoso, f"/links/{link['one']}/{link['other']}")
        for guest in ledger.GUESTS:
            _gone(maestoso, f"/workloads/{guest.name}")
        for site in made.sites:
            try:
                _gone(maestoso, f"/sites/{site.code}")
            except LabFault as fault:
                say(f"{fault.sentence} {fault.remedy}")  # what it proves outlives the lab
    say("Agents, machines, networks, disks")
    made.remove()


def lose(made: RealLab, code: str) -> list[str]:
    """SIGKILL to all machines and the agent of a site, as when its power is gone."""
    if code not in [site.code for site in made.sites]:
        raise LabFault(f"The lab has no site {code!r}.", f"There are {' and '.join(ledger.NAMES)}.")
    made.kill_agent(code)
    return made.kill_machines(code)


def _gone(maestoso: Maestoso, path: str) -> None:
    """Take something away that may be gone already."""
    with suppress(NotThere):
        maestoso.send("DELETE", path)


class _Agent:
    """What is asked of an agent before Maestoso knows it."""

    def __init__(self, made: RealLab, code: str) -> None:
        trust = ssl.create_default_context(cadata=made.certificate(code))
        headers = {"Authorization": f"Bearer {made.token(code)}"}
        self.http = httpx.Client(
            base_url=f"{made.url(code)}/v1", verify=trust, headers=headers, trust_env=False
        )

    def off(self) -> list[str]:
        """Machines of the site that have no power."""
        found: list[str] = self.http.get("/pulse").raise_for_status().json()["off"]
        return found

    def wait_for_addresses(self) -> None:
        """Until every machine has said by its guest agent which it has. Raises LabFault."""
        end = time.monotonic() + PATIENCE_S
        while time.monotonic() < end:
            machines = self.http.get("/inventory").raise_for_status().json()["workloads"]
            silent = [one["name"] for one in machines for nic in one["nics"] if not nic.get("addresses")]
            if not silent:
                return
            time.sleep(0.5)
        raise LabFault(
            f"{', '.join(silent)} did not come up within {PATIENCE_S:.0f} s.", "See its site's log."
        )

    def power_on(self, name: str) -> None:
        """Power for a machine of the site, waited for. Raises LabFault."""
        path, end = f"/operations/real-lab%3A{uuid.uuid4().hex}", time.monotonic() + PATIENCE_S
        body = {
            "verb": "power-on", "subject": name, "run": "real-lab", "fence": 1,
            "args": {"unless_on": True}, "pace": 1.0,
        }  # fmt: skip
        told = self.http.put(path, json=body).raise_for_status().json()
        while told["status"] not in ("done", "failed") and time.monotonic() < end:
            time.sleep(0.2)
            told = self.http.get(path).raise_for_status().json()
        if told["status"] != "done":
            raise LabFault(
                f"{name} got no power: {told.get('reason', 'it takes too long')}", "See its site's log."
            )
