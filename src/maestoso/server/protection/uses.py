"""What groups use."""

from __future__ import annotations

from maestoso.server.estate import usage
from maestoso.server.estate.models import Link, Site
from maestoso.server.estate.snapshot import estate
from maestoso.server.estate.usage import Uses
from maestoso.server.protection.models import GroupRow


@usage.of_workload.hears
def _of_workload(name: str) -> Uses:
    rows = estate().rows
    if name in rows and rows[name].group:
        yield f"group {rows[name].group} protects it"


@usage.of_link.hears
def _of_link(link: Link) -> Uses:
    there = GroupRow.objects.filter(source=link.one, target=link.other)
    for group in there | GroupRow.objects.filter(source=link.other, target=link.one):
        yield f"group {group.code} is copied over it"


@usage.of_site.hears
def _of_site(site: Site) -> Uses:
    for group in GroupRow.objects.filter(source=site) | GroupRow.objects.filter(target=site):
        yield f"group {group.code} is copied from or to it"
