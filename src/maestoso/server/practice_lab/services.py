"""What can be done in the practice lab."""

from __future__ import annotations

from concurrent.futures import ThreadPoolExecutor
from typing import Any

import yaml
from django.core.cache import cache

from maestoso.core.codec import from_data, to_data
from maestoso.core.errors import BadValue, NotFound, Refused
from maestoso.core.ports import SiteRefused, SiteUnreachable
from maestoso.practice.lab import BY_KEY, PRESETS, Preset
from maestoso.practice.spec import Broken, Fault, Switch, Trouble
from maestoso.server.common.yaml_text import refuse_what_grows
from maestoso.server.estate.agents import ask, needed, pulse
from maestoso.server.estate.models import Link, Site
from maestoso.server.outbox.services import perform
from maestoso.server.practice_lab.shapes import Break, FaultScript, Lab, LabPreset, LabSite
from maestoso.server.protection.models import GroupRow
from maestoso.sites.verbs import VERBS

MOST_TIMES = 1000
MOST_FAULTS = 200
LONGEST_SCRIPT = 100_000
TOLD_WITHIN_S = 15.0
"""Whoever breaks something waits for a busy machine rather than do it twice."""
VERBS_AT = (
    "shut-down",
    "fence",
    "promote",
    "register",
    "power-on",
    "sync",
    "power-off",
    "lift-fence",
    "publish-address",
)


def lab() -> Lab:
    """The practice sites and what is broken there now; and real ones whose machines may be killed."""
    sites = [site for site in Site.objects.all() if _possible(site)]
    with ThreadPoolExecutor(max_workers=8) as pool:
        broken = list(pool.map(_broken, sites))
    return Lab(
        presets=tuple(
            LabPreset(key=one.key, title=one.title, sentence=one.sentence, about=one.about) for one in PRESETS
        ),
        sites=tuple(_view(site, found) for site, found in zip(sites, broken, strict=True)),
    )


def _possible(site: Site) -> tuple[Preset, ...]:
    """What can be broken at a site: of a real one only what its agent has a verb for."""
    verbs = site.verbs or ()
    return tuple(one for one in PRESETS if site.practice or one.verb in verbs)


def _broken(site: Site) -> Broken | None:
    if not site.practice:
        return None
    try:
        return from_data(Broken, ask(site, lambda agent: agent.practised()))
    except (SiteUnreachable, SiteRefused):
        return None


def _view(site: Site, broken: Broken | None) -> LabSite:
    ends = {site.code}
    links = [link for link in Link.objects.select_related("one", "other") if site in (link.one, link.other)]
    far = {end.code for link in links for end in (link.one, link.other)} - ends
    members = set(site.workloads.values_list("name", flat=True))
    incoming = GroupRow.objects.filter(target=site)
    members |= set(incoming.values_list("members__workload__name", flat=True)) - {None}
    unheard = "Its agent does not run, so nothing can be broken there."
    return LabSite(
        code=site.code,
        name=site.name,
        practice=site.practice,
        presets=tuple(one.key for one in _possible(site)),
        lost_because=pulse(site).lost_because or "",
        broken=broken,
        sentences=_in_words(broken) if broken else (unheard,) if site.practice else (),
        workloads=tuple(sorted(members)),
        groups=tuple(incoming.values_list("code", flat=True)),
        links=tuple(sorted(far)),
        pools=tuple(pool.name for pool in site.things().host_pools),
    )


def _in_words(broken: Broken) -> tuple[str, ...]:
    said = ["The whole site is down."] if broken.dark else []
    said += [f"Its clock is {broken.skew_s:.0f} s ahead."] if broken.skew_s else []
    said += ["Its agent is of an older release."] if broken.old_agent else []
    for fault in broken.faults:
        times = "once" if fault.times == 1 else f"{fault.times} times"
        often = "until all is put right" if fault.times is None else times
        said.append(f"{_named(fault)} ({fault.subject}), {often}.")
    said += [f"{_troubled(trouble)} ({trouble.subject})." for trouble in broken.troubles]
    return tuple(said)


def _named(fault: Fault) -> str:
    if fault.effect == "site-down":
        return f"The site goes down when it is asked for {fault.verb}"
    alike = (one for one in PRESETS if one.fault is not None and _same(one.fault, fault))
    return next((one.title for one in alike), f"{fault.verb}: {fault.effect}")


def _same(one: Fault, other: Fault) -> bool:
    return (one.verb, one.effect, one.code) == (other.verb, other.effect, other.code)


def _troubled(trouble: Trouble) -> str:
    alike = (one for one in PRESETS if one.trouble is not None and one.trouble.effect == trouble.effect)
    return next((one.title for one in alike), trouble.effect)


def break_one(wanted: Break, *, by: str) -> Lab:
    """Break one thing now, or when its step comes."""
    _tell(_checked(wanted, "body"), by)
    return lab()


def run_fault_script(text: str, *, by: str) -> Lab:
    """Break everything that a fault script names; nothing of it where one line is wrong."""
    if len(text) > LONGEST_SCRIPT:
        raise BadValue("The fault script is too long.", f"Keep it under {LONGEST_SCRIPT} characters.")
    try:
        refuse_what_grows(text)
        read = yaml.safe_load(text)
    except BadValue as error:
        raise BadValue(f"Line {error.field}: {error.sentence}", error.remedy, field="body.text") from error
    except yaml.YAMLError as error:
        mark = getattr(error, "problem_mark", None)
        where = f" in line {mark.line + 1}" if mark is not None else ""
        raise BadValue(
            f"The fault script is not YAML{where}.", "Correct it there.", field="body.text"
        ) from error
    script = from_data(FaultScript, read, "script")
    if len(script.faults) > MOST_FAULTS:
        raise BadValue(
            f"It has {len(script.faults)} faults.", f"Give at most {MOST_FAULTS}.", field="script.faults"
        )
    told = [_checked(one, f"script.faults[{index}]") for index, one in enumerate(script.faults)]
    for one in told:
        _tell(one, by)
    return lab()


def all_right() -> Lab:
    """Put everything right at every practice site."""
    for site in Site.objects.filter(practice=True):
        try:
            ask(site, lambda agent: agent.practise("faults"), TOLD_WITHIN_S)
        except (SiteUnreachable, SiteRefused):
            continue
    cache.clear()
    return lab()


def _checked(wanted: Break, at: str) -> tuple[Site, str, Any]:
    """The site, the address or the verb, and what it is told, or the subject. Raises BadValue, NotFound or
    Refused, naming the field."""
    site = Site.objects.filter(code=wanted.site).first()
    if site is None:
        raise NotFound(f"There is no site {wanted.site[:40]!r}.", "Name a practice site.", field=f"{at}.site")
    possible = _possible(site)
    if not possible:
        raise Refused(
            f"{site.name} is not a practice site; nothing is broken there on purpose.",
            "Choose a practice site.",
            field=f"{at}.site",
        )
    preset = BY_KEY.get(wanted.preset)
    if preset is None:
        raise BadValue(
            f"preset is {wanted.preset[:40]!r}.", f"Use one of: {', '.join(BY_KEY)}.", field=f"{at}.preset"
        )
    if preset not in possible:
        raise Refused(
            f"{site.name} has real machines; there is no way there to have it so that: {preset.title}.",
            f"There is: {', '.join(one.key for one in possible)}.",
            field=f"{at}.preset",
        )
    if not 0 <= wanted.times <= MOST_TIMES:
        raise BadValue(f"times is {wanted.times}.", f"Give 0 (always) to {MOST_TIMES}.", field=f"{at}.times")
    if wanted.factor and not 1.0 < wanted.factor <= 1000.0:
        raise BadValue(f"factor is {wanted.factor}.", "Give more than 1, at most 1000.", field=f"{at}.factor")
    if wanted.at_verb:
        return site, "faults", to_data(_when(preset, wanted, at))
    _check_subject(site, preset, wanted.subject, at)
    if preset.verb:
        return site, preset.verb, wanted.subject
    told = preset.broken(wanted.subject, wanted.times or None, wanted.factor or None)
    path = {Fault: "faults", Trouble: "troubles", Switch: "switches"}[type(told)]
    return site, path, to_data(told)


def _when(preset: Preset, wanted: Break, at: str) -> Fault:
    if preset.key != "site-down" or wanted.at_verb not in VERBS_AT:
        raise BadValue(
            f"{preset.title} cannot wait for {wanted.at_verb[:40]!r}.",
            f"Only site-down waits for a step: {', '.join(VERBS_AT)}.",
            field=f"{at}.at_verb",
        )
    return Fault(verb=wanted.at_verb, effect="site-down", subject=wanted.subject or "*", times=1)


def _check_subject(site: Site, preset: Preset, subject: str, at: str) -> None:
    view = _view(site, None)
    known = {
        "workload": view.workloads, "group": view.groups, "link": view.links, "pool": view.pools,
    }.get(preset.about)  # fmt: skip
    # Without a name, whichever is next.
    whichever = not subject and preset.about == "workload" and not preset.verb
    if known is not None and subject not in known and not whichever:
        what = f"no {preset.about} {subject[:40]!r}" if subject else f"no {preset.about} named"
        raise BadValue(
            f"There is {what} at {site.name}.",
            f"Choose one of: {', '.join(known[:12])}{' …' if len(known) > 12 else ''}.",
            field=f"{at}.subject",
        )


def _tell(told: tuple[Site, str, Any], by: str) -> None:
    site, path, body = told
    if path in VERBS:
        perform(site, path, body, {}, by=by)
        return
    # A test copy is named after its workload, with the mark of its run behind it.
    with needed(f"{site.name} could not be told"):
        if path == "faults" and body["subject"] not in ("*", "") and body["verb"] in _OF_COPIES:
            body = {**body, "subject": f"{body['subject']}*"}
        ask(site, lambda agent: agent.practise(path, body), TOLD_WITHIN_S)
    cache.clear()


_OF_COPIES = ("power-on", "await-heartbeat", "probe-service", "set-addresses", "clone-point")
