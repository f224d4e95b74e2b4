"""Plan files: YAML in and out, with the line and column of whatever does not fit."""

from __future__ import annotations

from collections.abc import Iterator
from difflib import get_close_matches
from typing import Any

import yaml

from maestoso.core.errors import BadValue
from maestoso.core.estate.row import Row
from maestoso.core.model.plan import Plan
from maestoso.core.planning.plan_file import from_file, to_file
from maestoso.server.common.yaml_text import refuse_what_grows
from maestoso.server.estate.models import Site
from maestoso.server.estate.snapshot import estate
from maestoso.server.plans.shapes import FileProblem

LARGEST_FILE = 1_000_000
WIDTH = 110
_FIELDS = {
    "source": "from",
    "target": "to",
    "rto_s": "rto",
    "rpo_s": "rpo",
    "drill_every_days": "drill_every",
}
Mark = tuple[int, int]
"""Line and column, from 1."""


class _Dumper(yaml.SafeDumper):
    """Indents lists, so that a dash stands below its key's first letter but one, as people write it."""

    def increase_indent(self, flow: bool = False, indentless: bool = False) -> None:
        super().increase_indent(flow, False)


def write(plan: Plan) -> str:
    """The plan as YAML."""
    return yaml.dump(to_file(plan), Dumper=_Dumper, sort_keys=False, allow_unicode=True, width=WIDTH)


def read(text: str) -> tuple[Plan | None, tuple[FileProblem, ...]]:
    """The plan of a YAML text, or why there is none; and everything in it that the estate does not know."""
    if len(text) > LARGEST_FILE:
        return None, (
            _problem((1, 1), f"The file has {len(text)} characters.", f"Give at most {LARGEST_FILE}."),
        )
    marks: dict[str, Mark] = {}
    try:
        refuse_what_grows(text)
        node = yaml.compose(text, Loader=yaml.SafeLoader)
        if node is not None:
            marks = dict(_marks(node, ""))
        data = yaml.safe_load(text)
    except yaml.MarkedYAMLError as error:
        at = error.problem_mark or error.context_mark
        where = (at.line + 1, at.column + 1) if at else (1, 1)
        return None, (_problem(where, f"This is no YAML: {error.problem or error.context}.", "Mend it."),)
    except (yaml.YAMLError, ValueError):
        return None, (_problem((1, 1), "This is no YAML: it holds odd characters.", "Mend it."),)
    except BadValue as error:
        return None, (_problem((int(error.field), 1), error.sentence, error.remedy),)
    try:
        plan = from_file(data)
    except BadValue as error:
        path = error.field.removeprefix("plan.")
        return None, (_problem(_find(marks, _FIELDS.get(path, path)), error.sentence, error.remedy),)
    return plan, tuple(_unknown(plan, marks))


def _marks(node: yaml.Node, path: str) -> Iterator[tuple[str, Mark]]:
    yield path, (node.start_mark.line + 1, node.start_mark.column + 1)
    if isinstance(node, yaml.MappingNode):
        for key, value in node.value:
            below = f"{path}.{key.value}".lstrip(".")
            yield from _marks(value, below)
            yield below, (key.start_mark.line + 1, key.start_mark.column + 1)
    elif isinstance(node, yaml.SequenceNode):
        for index, item in enumerate(node.value):
            yield from _marks(item, f"{path}[{index}]")


def _find(marks: dict[str, Mark], path: str) -> Mark:
    """The place of a path, or of the nearest thing around it."""
    while path and path not in marks:
        path = path[: max(path.rfind("."), path.rfind("["), 0)]
    return marks.get(path, (1, 1))


def _unknown(plan: Plan, marks: dict[str, Mark]) -> Iterator[FileProblem]:
    """Sites and workloads that the estate does not have, and dependencies outside of the plan."""
    codes = list(Site.objects.values_list("code", flat=True))
    for key, code in (("from", plan.source), ("to", plan.target)):
        if code not in codes:
            known = f"Known: {', '.join(codes)}." if codes else "Register it first."
            yield _problem(_find(marks, key), f"There is no site {code!r}.", known)
    rows: dict[str, Row] = estate().rows
    inside = set(plan.workloads())
    for index, wave in enumerate(plan.waves):
        for number, member in enumerate(wave.members):
            path = f"waves[{index}].members[{number}]"
            place = _find(marks, f"{path}.workload")
            if member.workload not in rows:
                yield _problem(
                    place, f"There is no workload {member.workload!r}.", _near(member.workload, rows)
                )
            for at, other in enumerate(member.depends_on):
                if other not in inside:
                    here = _find(marks, f"{path}.depends_on[{at}]")
                    yield _problem(here, f"{other!r} is not in this plan.", _near(other, inside))


def _near(name: str, known: Any) -> str:
    near = get_close_matches(name, list(known), 1, 0.6)
    return f"Did you mean {near[0]}?" if near else "Look for it on the page Estate."


def _problem(at: Mark, sentence: str, remedy: str) -> FileProblem:
    return FileProblem(line=at[0], column=at[1], sentence=sentence, remedy=remedy)
