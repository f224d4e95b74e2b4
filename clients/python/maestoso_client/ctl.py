"""``./maestoso ctl``: what a script, or somebody at a terminal, does with Maestoso over its API."""

from __future__ import annotations

import argparse
import json
import os
import sys
import time
import uuid
from collections.abc import Callable, Iterable, Sequence
from functools import partial
from pathlib import Path
from typing import Any

from maestoso_client import Client, NotReached, Refused

REFUSED, USAGE, NEEDS_SOMEBODY, NOT_REACHED, OTHERWISE = 1, 2, 3, 4, 5
"""Exit codes besides 0. OTHERWISE: a run ended, and not well."""
KINDS = ("test", "planned", "disaster", "re-protect")
WELL = ("passed", "committed", "protected")
LOOK_EVERY_S = 1.0
WAIT_S = 20
AWAY_S = 60.0
"""How long ``watch`` and ``follow`` go on asking where nobody answers; it may be starting again."""
EPILOG = """
The address stands in MAESTOSO_ADDRESS, the token (My account, Tokens) in MAESTOSO_TOKEN or in the file
that MAESTOSO_TOKEN_FILE names; it is in no argument, where others of this machine would see it.
MAESTOSO_CA names a PEM file of an authority that is trusted as well.

Exit codes: 0 done, 1 refused, 2 not understood, 3 the run needs somebody, 4 not reached, 5 the run ended,
and not well.
"""
Rows = Iterable[Sequence[str]]


def main(arguments: Sequence[str] | None = None) -> int:
    """Do one thing; returns its exit code."""
    given = _parser().parse_args(arguments)
    if given.what == "completion":
        print(_completion())
        return 0
    try:
        return int(given.do(_client(), given) or 0)
    except Refused as error:
        print(error, file=sys.stderr)
        return REFUSED
    except NotReached as error:
        print(error, file=sys.stderr)
        return NOT_REACHED
    except (ValueError, OSError) as error:
        print(error, file=sys.stderr)
        return USAGE
    except KeyboardInterrupt:
        return 128 + 2


def _client() -> Client:
    address, file = os.environ.get("MAESTOSO_ADDRESS", ""), os.environ.get("MAESTOSO_TOKEN_FILE", "")
    token = Path(file).read_text(encoding="utf-8").strip() if file else os.environ.get("MAESTOSO_TOKEN", "")
    if not address or not token:
        lacking = "MAESTOSO_ADDRESS" if not address else "MAESTOSO_TOKEN or MAESTOSO_TOKEN_FILE"
        raise ValueError(f"{lacking} is not set. See ./maestoso ctl --help.")
    return Client(address, token, ca=os.environ.get("MAESTOSO_CA", ""))


# --- what can be typed ---


def _parser() -> argparse.ArgumentParser:
    parser = argparse.ArgumentParser(
        prog="./maestoso ctl", epilog=EPILOG,
        description="What a script, or somebody at a terminal, does with Maestoso over its API.",
        formatter_class=argparse.RawDescriptionHelpFormatter,
    )  # fmt: skip
    parser.add_argument("--json", action="store_true", help="print what the API says, as JSON")
    commands = parser.add_subparsers(dest="what", required=True, metavar="WHAT")

    def add(
        name: str, do: Callable[[Client, argparse.Namespace], int | None] | None, said: str
    ) -> argparse.ArgumentParser:
        made = commands.add_parser(name, help=said, description=said)
        made.set_defaults(do=do)
        return made

    add("plans", _plans, "all plans, and how they stand")
    plan = add("plan", _plan, "what a run of a plan would do, and what is in its way")
    plan.add_argument("code")
    plan.add_argument("--kind", choices=KINDS, default="test")
    add("runs", _runs, "the newest runs").add_argument("--plan", default="", metavar="CODE")
    start = add("start", _start, "start a run; prints its number")
    start.add_argument("code", help="of the plan")
    start.add_argument("--kind", choices=("test", "planned", "disaster", "re-protect"), default="test")
    start.add_argument(
        "--confirm", default="", metavar="CODE", help="the code again, for what moves production"
    )
    start.add_argument("--pace", type=int, default=1, help="of practice sites: times real speed")
    start.add_argument("--sync-first", action="store_true", help="copy the latest changes first")
    start.add_argument("--unattended", action="store_true", help="a test that nobody is asked in")
    start.add_argument("--reason", default="", help="why in spite of warnings")
    start.add_argument("--watch", action="store_true", help="and watch it")
    watch = add("watch", _watch, "follow a run until it ends, or needs somebody")
    watch.add_argument("run", type=int)
    watch.add_argument("--to-the-end", action="store_true", help="also while it waits for somebody")
    follow = add("follow", _follow, "everything that happens, until Ctrl+C")
    follow.add_argument(
        "--after", default="", metavar="CURSOR", help="go on behind this one; from now on without"
    )
    answer = add("answer", _answer, "answer a hold, or that copies may still run")
    answer.add_argument("run", type=int)
    answer.add_argument("--step", default="", help="which, where several wait")
    answer.add_argument("--text", default="", help="what you saw")
    verdict = add("verdict", _verdict, "judge a test")
    verdict.add_argument("run", type=int)
    verdict.add_argument("verdict", choices=("passed", "failed", "inconclusive"))
    verdict.add_argument("--text", default="", help="what you saw")
    for name, said in (
        ("commit", "make a failover final"), ("roll-back", "take a failover back"),
        ("hold", "start nothing more of a run"), ("resume", "go on with a run that is held"),
        ("abort", "end a run, and take back what it did"),
    ):  # fmt: skip
        made = add(name, _tell, said)
        made.add_argument("run", type=int)
        made.add_argument("--text", default="", help="why")
    for name, said in (("retry", "try a failed step again"), ("skip", "go on without a failed step")):
        made = add(name, _tell_step, said)
        made.add_argument("run", type=int)
        made.add_argument("--step", default="", help="which, where several failed")
        made.add_argument("--text", default="", help="why")
    evidence = add("evidence", _evidence, "the sealed log of a run, to a file")
    evidence.add_argument("run", type=int)
    evidence.add_argument("file")
    declare = add("declare", _declare, "say that a site is down: people are told, nothing is started")
    declare.add_argument("--site", default="", metavar="CODE")
    declare.add_argument("--plan", default="", metavar="CODE")
    declare.add_argument(
        "--since", default="", metavar="MOMENT", help="such as 2026-11-30T12:03:00Z; now if not given"
    )
    declare.add_argument("reason", help="what was seen, and by what")
    add("completion", None, 'for bash: eval "$(./maestoso ctl completion)"')
    return parser


def _completion() -> str:
    """Words for bash: first what can be done, then its options."""
    parser = _parser()
    actions = next(one for one in parser._actions if isinstance(one, argparse._SubParsersAction))
    cases = "\n".join(
        f"    {name}) words='{' '.join(option for one in sub._actions for option in one.option_strings)}' ;;"
        for name, sub in actions.choices.items()
    )
    names = " ".join(actions.choices)
    return f"""_maestoso() {{
  local words='' what="${{COMP_WORDS[2]}}"
  [ "${{COMP_WORDS[1]}}" = ctl ] || return
  if [ "$COMP_CWORD" -eq 2 ]; then words='{names} --json'; else case "$what" in
{cases}
  esac; fi
  COMPREPLY=($(compgen -W "$words" -- "${{COMP_WORDS[COMP_CWORD]}}"))
}}
complete -F _maestoso ./maestoso maestoso"""


# --- doing it ---


def _plans(client: Client, given: argparse.Namespace) -> None:
    said = client.plans()
    rows = [
        (one["code"], f"{one['source']} to {one['target']}", *_standing(one), one["name"])
        for one in said["plans"]
    ]
    _show(given, said, [("PLAN", "WAY", "TEST", "DISASTER", "BACK IN", "NAME"), *rows])


def _standing(plan: Any) -> tuple[str, str, str]:
    """Whether it could be tested and recovered now, and in what time it would be back."""
    standing = plan["standing"]
    if not standing:
        return "not known yet", "", ""
    blocked = {one["kind"]: bool(one["blocking"]) for one in standing["kinds"]}
    forecast = standing["forecast"]
    may = ["cannot" if blocked.get(kind) else "can" for kind in ("test", "disaster")]
    return may[0], may[1], f"{forecast['p50_s'] / 60:.0f} min" if forecast else ""


def _plan(client: Client, given: argparse.Namespace) -> int:
    """What a run would do, and what is in its way: then it is refused."""
    said = client.preflight(given.code, {"kind": given.kind})
    findings = said["assessment"]["findings"]
    told = [("would", sentence) for sentence in said["consequences"]]
    told += [
        (one["severity"], f"{one['sentence']} {one['mend']}") for one in findings if one["severity"] != "none"
    ]
    _show(given, said, told)
    return REFUSED if said["blocking"] else 0


def _runs(client: Client, given: argparse.Namespace) -> None:
    said = client.runs(plan=given.plan)
    rows = [(str(one["id"]), one["plan"], one["kind"], one["outcome"] or "under way", one["started_at"][:16])
            for one in said["runs"]]  # fmt: skip
    _show(given, said, [("RUN", "PLAN", "KIND", "OUTCOME", "STARTED"), *rows])


def _start(client: Client, given: argparse.Namespace) -> int | None:
    sync_first = given.sync_first or given.kind == "planned"
    options = {
        "kind": given.kind,
        "pace": given.pace,
        "sync_first": sync_first,
        "unattended": given.unattended,
    }
    body = {"plan": given.code, "options": options, "confirm": given.confirm, "reason": given.reason}
    # One key: a start whose answer was lost is not made twice.
    key = str(uuid.uuid4())
    made = _again_if_lost(lambda: client.start_run(body, idempotency_key=key))
    if given.watch:
        print(f"Run {made['id']}.", file=sys.stderr if given.json else sys.stdout)
        given.run, given.to_the_end = made["id"], given.unattended
        return _watch(client, given)
    _show(given, made, [(str(made["id"]),)])
    return None


def _again_if_lost(do: Callable[[], Any]) -> Any:
    try:
        return do()
    except NotReached:
        time.sleep(LOOK_EVERY_S)
        return do()


def _watch(client: Client, given: argparse.Namespace) -> int:
    seen = 0

    def look() -> tuple[Any, Any]:
        return client.run_events(given.run, after=str(seen)), client.run(given.run)["status"]

    while True:
        events, status = _patiently(look)
        for event in events:
            seen = max(seen, event["seq"])
            _show(given, event, [(f"{event['run_s'] / 60:6.1f} min", event["sentence"])], flush=True)
        if status["outcome"]:
            return 0 if status["outcome"] in WELL or status["decision"] == "roll-back" else OTHERWISE
        if (status["needs"] or status["put_aside"]) and not given.to_the_end:
            for need in status["needs"]:
                print(f"It needs somebody: {need['title']} ({need['step']}). {need['text']}", file=sys.stderr)
            if status["put_aside"]:
                print(f"The engine put it aside: {status['put_aside']}", file=sys.stderr)
            return NEEDS_SOMEBODY
        time.sleep(LOOK_EVERY_S)


def _follow(client: Client, given: argparse.Namespace) -> None:
    """One line for each event. The cursor is said where somebody may need it: at the start and at the end."""
    cursor = given.after or client.events()["cursor"]
    print(f"Following from {cursor}.", file=sys.stderr)
    try:
        while True:
            said = _patiently(partial(client.events, after=cursor, wait_s=str(WAIT_S)))
            for event in said["events"]:
                about = (
                    event["data"].get("title") or event["data"].get("did") or event["data"].get("plan", "")
                )
                _show(
                    given, event, [(event["time"][:19], event["type"], event["subject"], about)], flush=True
                )
            cursor = said["cursor"]
            if not said["events"]:
                time.sleep(LOOK_EVERY_S)
    finally:
        print(f"Go on with --after {cursor}.", file=sys.stderr)


def _patiently(ask: Callable[[], Any]) -> Any:
    """What is answered; asked again for a while where nobody does. Raises NotReached."""
    until = time.monotonic() + AWAY_S
    while True:
        try:
            return ask()
        except NotReached:
            if time.monotonic() > until:
                raise
            time.sleep(LOOK_EVERY_S)


def _asked(client: Client, given: argparse.Namespace, *kinds: str) -> str:
    """The step that is meant: the one that is named, or the only one that waits."""
    if given.step:
        return str(given.step)
    steps = [need["step"] for need in client.run(given.run)["status"]["needs"] if need["kind"] in kinds]
    if len(steps) != 1:
        several = (
            f"These wait: {', '.join(steps)}. Name one with --step."
            if steps
            else "Nothing of that kind waits."
        )
        raise ValueError(several)
    return str(steps[0])


def _say(client: Client, given: argparse.Namespace, **told: str) -> None:
    said = client.tell_run(given.run, told, idempotency_key=str(uuid.uuid4()))
    _show(given, said, [(said["lead"],)])


def _answer(client: Client, given: argparse.Namespace) -> None:
    _say(client, given, kind="answer", step=_asked(client, given, "hold", "acknowledge"), text=given.text)


def _verdict(client: Client, given: argparse.Namespace) -> None:
    _say(client, given, kind="verdict", verdict=given.verdict, text=given.text)


def _tell(client: Client, given: argparse.Namespace) -> None:
    _say(client, given, kind=given.what, text=given.text)


def _tell_step(client: Client, given: argparse.Namespace) -> None:
    _say(client, given, kind=given.what, step=_asked(client, given, "failure"), text=given.text)


def _evidence(client: Client, given: argparse.Namespace) -> None:
    content = client.evidence_file(given.run)
    Path(given.file).write_bytes(content if isinstance(content, bytes) else json.dumps(content).encode())
    print(f"{given.file}: the sealed log of run {given.run}. ./maestoso verify {given.file} checks it.")


def _declare(client: Client, given: argparse.Namespace) -> None:
    sent = {"site": given.site, "plan": given.plan, "reason": given.reason, "since": given.since or None}
    said = client.declare_outage(sent)
    _show(given, said, [(f"{said['site_name']} is said to be down. People are told; nothing was started.",),
                        (f"{client.address}{said['to']}",)])  # fmt: skip


def _show(given: argparse.Namespace, said: Any, rows: Rows, *, flush: bool = False) -> None:
    """As JSON, a line for each thing; or as columns for people."""
    if given.json:
        print(json.dumps(said), flush=flush)
        return
    listed = [tuple(map(str, row)) for row in rows]
    wide = [
        max((len(row[at]) for row in listed if at < len(row) - 1), default=0)
        for at in range(max(map(len, listed)))
    ]
    for row in listed:
        cells = [text.ljust(wide[at]) for at, text in enumerate(row[:-1])]
        print("  ".join([*cells, row[-1]]), flush=flush)


if __name__ == "__main__":
    sys.exit(main())
