"""What the API of the practice lab sends and takes."""

from __future__ import annotations

from dataclasses import dataclass

from maestoso.practice.lab import About
from maestoso.practice.spec import Broken


@dataclass(frozen=True, slots=True, kw_only=True)
class LabPreset:
    """One way to misbehave; ``about`` is what its subject is."""

    key: str
    title: str
    sentence: str
    about: About


@dataclass(frozen=True, slots=True, kw_only=True)
class LabSite:
    """A site, the keys of what can be broken there and of what, and what is broken now, in words. One that is
    no ``practice`` site has real machines, and its agent kills them when it is asked to."""

    code: str
    name: str
    practice: bool
    presets: tuple[str, ...]
    lost_because: str
    broken: Broken | None
    sentences: tuple[str, ...]
    workloads: tuple[str, ...]
    groups: tuple[str, ...]
    links: tuple[str, ...]
    pools: tuple[str, ...]


@dataclass(frozen=True, slots=True, kw_only=True)
class Lab:
    """All practice sites, and what can be broken."""

    presets: tuple[LabPreset, ...]
    sites: tuple[LabSite, ...]


@dataclass(frozen=True, slots=True, kw_only=True)
class Break:
    """Break something at a site. ``times`` 0: until all is put right; ``factor`` 0: as usual.

    With ``at_verb``, a site goes down only when it is asked for that operation on ``subject``.
    """

    site: str
    preset: str
    subject: str = ""
    times: int = 1
    factor: float = 0.0
    at_verb: str = ""


@dataclass(frozen=True, slots=True, kw_only=True)
class FaultScript:
    """A drill that can be repeated: a name, and what is broken, in order. Written as YAML or JSON."""

    drill: str
    faults: tuple[Break, ...]


@dataclass(frozen=True, slots=True, kw_only=True)
class FaultScriptSent:
    """A fault script as text."""

    text: str
