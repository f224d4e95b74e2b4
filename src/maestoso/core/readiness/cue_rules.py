"""Rules about cues: what they run, whom they ask, what they are aimed at."""

from __future__ import annotations

from collections import Counter
from collections.abc import Iterator, Sequence

from maestoso.core.model.cue import Cue
from maestoso.core.model.finding import Finding, blocks, warns
from maestoso.core.model.plan import MAX_DELAY_S, MAX_NAME, MAX_TEXT, Member
from maestoso.core.people.roles import ROLE, unknown_roles
from maestoso.core.readiness.context import Context

Bounds = tuple[str, int, int, int]


def cue_twice(ctx: Context) -> Iterator[Finding]:
    """Cues are told apart by their ids."""
    for name, times in Counter(cue.id for _, _, cue in ctx.authored.placed_cues()).items():
        if times > 1:
            yield blocks(
                "cue-twice", name, f"{times} cues have the id {name}.", "Give each an id of its own."
            )


def cue_malformed(ctx: Context) -> Iterator[Finding]:
    """A cue is of one kind, and its texts and times are such that a person could mean them."""
    for _, _, cue in ctx.authored.placed_cues():
        subject = cue.title or cue.id
        if len(cue.parts()) != 1:
            said = f"is {' and '.join(cue.parts())} at once" if cue.parts() else "is of no kind"
            yield blocks("cue-malformed", subject, f"The cue {subject} {said}.", "Make it a cue of one kind.")
            continue
        for what, text, least, most in _texts(cue):
            if not least <= len(text.strip()) <= most:
                sentence = f"The {what} of the cue {subject} has {len(text)} characters."
                yield blocks("cue-malformed", subject, sentence, f"Give {least} to {most}.")
        for what, value, least, most in _numbers(cue):
            if not least <= value <= most:
                sentence = f"The {what} of the cue {subject} is {value}."
                yield blocks("cue-malformed", subject, sentence, f"Give {least} to {most}.")
        if (
            cue.probe is not None
            and sum(map(bool, (cue.probe.workload, cue.probe.address, cue.probe.door))) > 1
        ):
            sentence = f"The cue {subject} is aimed at more than one thing."
            yield blocks("cue-malformed", subject, sentence, "Name a workload, an address, or a front door.")
        for role in unknown_roles(cue.hold.who, ctx.roles) if cue.hold is not None else ():
            sentence = f"The cue {subject} asks whoever is {role[:40]}, which is no role."
            yield blocks("cue-malformed", subject, sentence, f"Use one of: {', '.join(sorted(ctx.roles))}.")
        if not cue.kinds:
            yield blocks("cue-malformed", subject, f"The cue {subject} is for no kind of run.", "Choose one.")


def _texts(cue: Cue) -> list[tuple[str, str, int, int]]:
    found = [("id", cue.id, 1, MAX_NAME), ("title", cue.title, 1, MAX_NAME)]
    if cue.hold is not None:
        found.append(("instruction", cue.hold.instruction, 1, MAX_TEXT))
        found.append(("advice for what is not right", cue.hold.not_right, 0, MAX_TEXT))
    if cue.notify is not None:
        found.append(("text", cue.notify.text, 1, MAX_TEXT))
    if cue.probe is not None:
        found += [("address", cue.probe.address, 0, 253), ("path", cue.probe.path, 1, 2000)]
        found += [("wanted text", cue.probe.text, 0, 500)]
        if cue.probe.protocol == "dns":
            found.append(("name to ask for", cue.probe.name, 1, 253))
    return found


def _numbers(cue: Cue) -> list[Bounds]:
    if cue.hold is not None:
        most = 3 if not cue.hold.who or _roles_in(cue.hold.who) else min(3, len(set(cue.hold.who)))
        return [
            ("time limit", cue.hold.limit_s, 0, 7 * 86400),
            ("number of answers", cue.hold.answers, 1, most),
        ]
    if cue.script is not None:
        codes: list[Bounds] = [("exit code", code, 0, 255) for code in cue.script.ok_codes]
        return [
            ("time limit", cue.script.limit_s, 1, MAX_DELAY_S),
            ("number of good exit codes", len(cue.script.ok_codes), 1, 20),
            *codes,
        ]
    if cue.probe is not None:
        return [
            ("time limit", cue.probe.limit_s, 1, MAX_DELAY_S),
            ("port", cue.probe.port, 1, 65535),
            ("status", cue.probe.status, 100, 599),
            ("days left", cue.probe.days, 0, 3660),
        ]
    if cue.names is not None:
        return [("time limit", cue.names.limit_s, 1, MAX_DELAY_S)]
    return [("length", cue.pause.seconds, 1, MAX_DELAY_S)] if cue.pause is not None else []


def _roles_in(who: Sequence[str]) -> bool:
    return any(one.startswith(ROLE) for one in who)


def aim_of(cue: Cue, member: Member | None) -> str | None:
    """The workload that a cue needs: empty where it needs one and names none, None where it needs none."""
    here = member.workload if member else ""
    if cue.script is not None and cue.script.where == "guest":
        return cue.script.workload or here
    if cue.probe is not None and not cue.probe.address and not cue.probe.door:
        return cue.probe.workload or here
    return None


def cue_aims_outside(ctx: Context) -> Iterator[Finding]:
    """A cue inside a guest, or aimed at a workload, needs that workload in the plan, up by then."""
    powered = {member.workload: wave for wave, member in ctx.plan.members() if member.power_on}
    moved = {
        name for _, _, cue in ctx.plan.placed_cues() if cue.doors is not None for name in cue.doors.doors
    }
    for wave, member, cue in ctx.plan.placed_cues():
        if len(cue.parts()) != 1:
            continue
        door = cue.probe.door if cue.probe is not None else ""
        if door and door not in moved:
            said = (
                f"The cue {cue.title} asks through {door[:80]}, a front door that no cue of the plan moves."
            )
            yield blocks(
                "cue-aims-outside", cue.id, said, "Choose a front door that a cue of the plan opens."
            )
        aim = aim_of(cue, member)
        if aim is None or (member is not None and not member.power_on):
            continue
        if not aim:
            said, mend = f"The cue {cue.title} names no workload.", "Choose the one that it is aimed at."
        elif aim not in powered:
            said = f"The cue {cue.title} is aimed at {aim}, which this plan does not bring up."
            mend = f"Bring {aim} up in this plan, or aim it at another workload."
        elif _is_early(cue, member, wave, aim, powered[aim]):
            said = f"The cue {cue.title} is aimed at {aim} and comes before {aim} has power."
            mend = f"Put it behind {aim}."
        else:
            continue
        yield blocks("cue-aims-outside", cue.id, said, mend)


def _is_early(cue: Cue, member: Member | None, wave: int | None, aim: str, up_in: int) -> bool:
    if wave is None:
        return cue.at == "before"
    if member is not None and member.workload == aim:
        return cue.at == "before"
    return up_in > wave or (member is None and cue.at == "before" and up_in == wave)


def script_missing(ctx: Context) -> Iterator[Finding]:
    """A script cue needs its script, in the text that somebody looked at."""
    for _, _, cue in ctx.plan.placed_cues():
        call = cue.script
        if call is None:
            continue
        known = ctx.scripts.get(call.script)
        if known is None:
            yield blocks(
                "script-missing",
                cue.id,
                f"The cue {cue.title} runs {call.script}, which is not in the script library.",
                "Add the script on the page Scripts, or choose another.",
            )
        elif known.sha256 != call.sha256:
            yield blocks(
                "script-changed",
                cue.id,
                f"{call.script} was changed since this plan took it in: its text is not the one looked at.",
                "Look at the new text, then use it in the plan.",
            )


def secret_missing(ctx: Context) -> Iterator[Finding]:
    """Secrets are named in a plan and kept elsewhere."""
    for _, _, cue in ctx.plan.placed_cues():
        for name in sorted(set((cue.script.secrets if cue.script else {}).values()) - ctx.secrets):
            yield blocks(
                "secret-missing",
                cue.id,
                f"The cue {cue.title} uses the secret {name}, which is not stored.",
                "Store it on the page Scripts.",
            )


def probe_address_moves(ctx: Context) -> Iterator[Finding]:
    """A check aimed at an address of before asks a machine that is not there after."""
    for _, _, cue in ctx.plan.placed_cues():
        if cue.probe is None or not cue.probe.address:
            continue
        name = workload_at(ctx, cue.probe.address)
        landed = {
            str(address.ip)
            for judged in ctx.landed.values()
            for one in judged.landings
            if one.workload == name
            for nic in one.nics
            for address in nic.addresses
        }
        if name and cue.probe.address not in landed:
            yield warns(
                "probe-address-moves",
                cue.id,
                f"The cue {cue.title} asks {cue.probe.address}; that is {name} now, which gets another "
                "address when it lands.",
                f"Aim it at {name}: then it follows.",
            )


def workload_at(ctx: Context, address: str) -> str:
    """The member that has an address at the source; empty where none has."""
    for _, _, workload in ctx.known_members:
        if any(str(held.ip) == address for nic in workload.nics for held in nic.addresses):
            return workload.name
    return ""
