"""What the API says of the organisation."""

from __future__ import annotations

from dataclasses import dataclass


@dataclass(frozen=True, slots=True, kw_only=True)
class Settings:
    """Of the whole organisation: in whose name documents speak, and where its clocks are.

    New sites and drills begin with ``time_zone``. ``words`` stand on the first page of reports; ``logo`` says
    whether there is one. ``keep_days`` 0: runs are kept for ever.
    """

    organisation: str
    time_zone: str = "UTC"
    words: str = ""
    keep_days: int = 0
    logo: bool = False


@dataclass(frozen=True, slots=True, kw_only=True)
class SettingsView:
    """The settings and their revision, which a change names in If-Match."""

    settings: Settings
    revision: int
