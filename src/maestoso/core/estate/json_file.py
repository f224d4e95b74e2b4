"""A whole estate as JSON: sites with their pools and networks, links, workloads. Reads back unchanged."""

from __future__ import annotations

import json
from collections.abc import Iterable
from typing import Any, TypeVar

from maestoso.core.codec import from_data, to_data
from maestoso.core.errors import BadValue
from maestoso.core.estate.staged import SiteRow, Staged, WorkloadRow, outcome
from maestoso.core.files import MOST_ROWS, BadFile, Complaint, text_of
from maestoso.core.model.estate import Link, Workload

FORMAT = "estate/1"
PARTS = ("maestoso", "sites", "links", "workloads")
T = TypeVar("T")


def read_json(raw: bytes, site: str = "") -> Staged:
    """Read an estate file, or a bare list of workloads that are at ``site``. Raises BadFile."""
    try:
        data = json.loads(text_of(raw))
    except json.JSONDecodeError as error:
        raise BadFile(
            f"The file is not JSON: line {error.lineno}, column {error.colno}: {error.msg}.",
            "Correct it there and try again.",
        ) from error
    except RecursionError as error:
        raise BadFile("The file is nested too deep.", "An estate file has few levels.") from error
    if isinstance(data, list):
        data = {"workloads": data}
    if not isinstance(data, dict):
        raise BadFile("The file holds no estate.", "Give an object with sites, links or workloads.")
    unknown = [key for key in data if key not in PARTS]
    if unknown:
        raise BadFile(f"The part {unknown[0][:60]!r} is not known.", f"Parts are: {', '.join(PARTS)}.")
    if data.get("maestoso", FORMAT) != FORMAT:
        raise BadFile(f"The file is of the format {data['maestoso']!r}.", f"This reads {FORMAT}.")
    for part in PARTS[1:]:
        if not isinstance(data.get(part, []), list) or len(data.get(part, [])) > MOST_ROWS:
            raise BadFile(f"{part} is no list, or too long.", f"Give a list of at most {MOST_ROWS}.")
    complaints: list[Complaint] = []
    sites = _read(SiteRow, data.get("sites", []), "sites", complaints)
    links = _read(Link, data.get("links", []), "links", complaints)
    workloads = []
    for row, item in enumerate(data.get("workloads", []), start=1):
        try:
            at = item.get("site", site) if isinstance(item, dict) else site
            if not at or not isinstance(at, str):
                raise BadValue("No site is given.", "Fill in the site.", field="site")
            rest = {k: v for k, v in item.items() if k != "site"} if isinstance(item, dict) else item
            workloads.append(WorkloadRow(row=row, site=at, workload=from_data(Workload, rest, "workload")))
        except BadValue as error:
            complaints.append(_complaint(row, error))
    count = sum(len(data.get(part, [])) for part in PARTS[1:])
    return outcome(count, workloads, complaints, tuple(sites), tuple(links))


def _read(kind: type[T], items: list[Any], part: str, complaints: list[Complaint]) -> list[T]:
    found = []
    for row, item in enumerate(items, start=1):
        try:
            found.append(from_data(kind, item, part))
        except BadValue as error:
            complaints.append(_complaint(row, error))
    return found


def _complaint(row: int, error: BadValue) -> Complaint:
    return Complaint(row=row, column=error.field, sentence=f"{error.sentence} {error.remedy}".strip())


def write_json(
    sites: Iterable[SiteRow], links: Iterable[Link], workloads: Iterable[tuple[str, Workload]]
) -> str:
    """The estate file, in a stable order, so that version control shows small differences."""
    data = {
        "maestoso": FORMAT,
        "sites": [to_data(site) for site in sites],
        "links": [to_data(link) for link in links],
        "workloads": [{"site": site, **to_data(workload)} for site, workload in workloads],
    }
    return json.dumps(data, indent=1, ensure_ascii=False) + "\n"
