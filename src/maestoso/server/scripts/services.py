"""What can be done with scripts and secrets."""

from __future__ import annotations

import re
from collections.abc import Mapping
from datetime import datetime
from typing import Any

from maestoso.core.errors import BadValue, NotFound, Refused, Stale
from maestoso.core.model.plan import Plan
from maestoso.core.planning.inputs import ScriptText
from maestoso.core.runs.operations import Operation
from maestoso.server.audit.record import recorded
from maestoso.server.common.secret_text import seal, unseal
from maestoso.server.estate import retired
from maestoso.server.outbox.secrets import Filled, secrets_for
from maestoso.server.plans.models import PlanRow
from maestoso.server.scripts.models import Script, Secret
from maestoso.server.scripts.shapes import Library, ScriptSave, ScriptView, SecretView

NAME = re.compile(r"[a-z0-9][a-z0-9-]{0,58}")
INTERPRETER = re.compile(r"[a-z][a-z0-9.-]{0,19}")
LONGEST_TEXT, LONGEST_NOTE, LONGEST_SECRET = 64_000, 400, 4096


def everything() -> Library:
    """Everything, with who uses it."""
    calls, secrets = _uses()
    return Library(
        scripts=tuple(_view(row, calls.get(row.name, {})) for row in Script.objects.all()),
        secrets=tuple(
            SecretView(
                name=row.name,
                author=row.author,
                saved_at=row.saved_at,
                used_by=tuple(sorted(secrets.get(row.name, ()))),
            )
            for row in Secret.objects.all()
        ),
    )


def script_texts() -> Mapping[str, ScriptText]:
    """All scripts by name."""
    return {row.name: row.core() for row in Script.objects.all()}


def secret_names() -> frozenset[str]:
    """The names of what is stored."""
    return frozenset(Secret.objects.values_list("name", flat=True))


@recorded()
def save_script(name: str, sent: ScriptSave, *, author: str, at: datetime) -> ScriptView:
    """Keep a script. Raises BadValue, or Stale where somebody saved in between."""
    _check_name(name, "script")
    if not INTERPRETER.fullmatch(sent.interpreter):
        raise BadValue(
            f"{sent.interpreter[:40]!r} is no interpreter.",
            "Give what the agent is to run it with, such as sh or python3.",
            field="body.interpreter",
        )
    if not sent.text.strip() or len(sent.text) > LONGEST_TEXT:
        raise BadValue(
            f"The text has {len(sent.text)} characters.", f"Give 1 to {LONGEST_TEXT}.", field="body.text"
        )
    if len(sent.note) > LONGEST_NOTE:
        raise BadValue(
            f"The note has {len(sent.note)} characters.", f"Give at most {LONGEST_NOTE}.", field="body.note"
        )
    row = Script.objects.select_for_update().filter(name=name).first()
    if (row.revision if row else 0) != sent.based_on:
        by = f"{row.author} saved revision {row.revision} of {name}" if row else f"{name} was taken away"
        raise Stale(f"{by} in between.", "Load it again; your text is still in the field.")
    row = row or Script(name=name, revision=0)
    row.interpreter, row.text, row.note = sent.interpreter, sent.text, sent.note
    row.author, row.saved_at, row.revision = author, at, row.revision + 1
    row.save()
    return _view(row, _uses()[0].get(name, {}))


@recorded()
def remove_script(name: str, *, by: str, at: datetime) -> None:
    """Take a script away. Raises Refused while a plan runs it."""
    row = Script.objects.filter(name=name).first()
    if row is None:
        raise NotFound(f"There is no script {name[:60]!r}.", "Choose one on the page Scripts.")
    _refuse_used(name, sorted(_uses()[0].get(name, {})))
    body = {"name": name, "interpreter": row.interpreter, "text": row.text, "note": row.note}
    retired.keep("script", name, body, by=by, at=at)
    row.delete()


@retired.way_back("script")
def _bring_back(body: dict[str, Any], by: str, at: datetime) -> str:
    name = body["name"]
    if Script.objects.filter(name=name).exists():
        raise Refused(f"There is a script {name} already.", "Delete that one first.")
    sent = ScriptSave(interpreter=body["interpreter"], text=body["text"], note=body["note"])
    save_script(name, sent, author=by, at=at)
    return "/scripts"


@recorded()
def store_secret(name: str, value: str, *, author: str, at: datetime) -> None:
    """Keep a secret, over the one of that name if there is one."""
    _check_name(name, "secret")
    if not 1 <= len(value) <= LONGEST_SECRET:
        # The message must not repeat it.
        raise BadValue(
            f"The value has {len(value)} characters.", f"Give 1 to {LONGEST_SECRET}.", field="body.value"
        )
    kept = {"sealed": seal(value), "author": author, "saved_at": at}
    Secret.objects.update_or_create(name=name, defaults=kept)


@recorded()
def forget_secret(name: str) -> None:
    """Forget a secret. Raises Refused while a plan uses it."""
    row = Secret.objects.filter(name=name).first()
    if row is None:
        raise NotFound(f"There is no secret {name[:60]!r}.", "Choose one on the page Scripts.")
    _refuse_used(name, sorted(_uses()[1].get(name, ())))
    row.delete()


@secrets_for("run-script")
def _with_secrets(operation: Operation) -> Filled:
    """One that is not stored stays away; the script says what it misses."""
    args, named = operation.args, operation.args.get("secrets")
    if not named:
        return Filled(args)
    rows = {row.name: row for row in Secret.objects.filter(name__in=set(named.values()))}
    filled = {key: unseal(rows[name].sealed) for key, name in named.items() if name in rows}
    return Filled({**args, "secrets": filled}, [f"the secret {name}" for name in sorted(rows)])


def _uses() -> tuple[dict[str, dict[str, str]], dict[str, set[str]]]:
    """By script, the plans that run it with the hash they took in; by secret, the plans that use it."""
    calls: dict[str, dict[str, str]] = {}
    secrets: dict[str, set[str]] = {}
    for row in PlanRow.objects.all():
        plan: Plan = row.version().core()
        for _, _, cue in plan.placed_cues():
            if cue.script is not None:
                calls.setdefault(cue.script.script, {})[row.code] = cue.script.sha256
                for name in cue.script.secrets.values():
                    secrets.setdefault(name, set()).add(row.code)
    return calls, secrets


def _view(row: Script, used: Mapping[str, str]) -> ScriptView:
    text = row.core()
    return ScriptView(
        name=row.name, interpreter=row.interpreter, text=row.text, note=row.note, sha256=text.sha256,
        author=row.author, saved_at=row.saved_at, revision=row.revision, used_by=tuple(sorted(used)),
        stale_in=tuple(sorted(code for code, digest in used.items() if digest != text.sha256)),
    )  # fmt: skip


def _check_name(name: str, what: str) -> None:
    if not NAME.fullmatch(name):
        raise BadValue(
            f"{name[:60]!r} is no name for a {what}.",
            "Use small letters, digits and dashes, such as drain-broker.",
            field="name",
        )


def _refuse_used(name: str, plans: list[str]) -> None:
    if plans:
        raise Refused(
            f"{name} is used by {' and '.join(plans)}.",
            "Remove its cues from these plans first.",
            code="in-use",
        )
