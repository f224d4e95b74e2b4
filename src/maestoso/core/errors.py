"""Errors of the domain: a stable code, a sentence, a remedy.

Every caller may show ``sentence`` and ``remedy`` to a person; ``code`` never changes once published.
"""

from __future__ import annotations

from typing import Any


class DomainError(Exception):
    """Something that a person asked for cannot be done, and why. ``more`` goes into the reply as it is."""

    code = "domain-error"
    status = 422

    def __init__(self, sentence: str, remedy: str = "", *, field: str = "", code: str | None = None) -> None:
        super().__init__(sentence)
        self.sentence = sentence
        self.remedy = remedy
        self.field = field
        self.more: dict[str, Any] = {}
        if code is not None:
            self.code = code


class BadValue(DomainError):
    """A value does not have the shape or range it needs. Remedy: give one that does."""

    code = "bad-value"
    status = 400


class NotFound(DomainError):
    """The thing that was named does not exist. Remedy: name one that does."""

    code = "not-found"
    status = 404


class Gone(DomainError):
    """What was named was there once and was removed on purpose. Remedy: none."""

    code = "gone"
    status = 410


class Refused(DomainError):
    """The request is well formed, but the state of things forbids it. Remedy: change the state first."""

    code = "refused"
    status = 409


class Stale(DomainError):
    """Somebody saved in between. Remedy: look at what changed, then save on top of it."""

    code = "stale"
    status = 412


class CycleFound(DomainError):
    """Steps or members wait for each other in a circle. Remedy: remove one of the named dependencies."""

    code = "dependency-cycle"

    def __init__(self, cycle: tuple[str, ...]) -> None:
        self.cycle = cycle
        super().__init__(
            f"{' waits for '.join((*cycle, cycle[0]))}: none of them could ever start.",
            "Remove one of these dependencies.",
        )


class LogCorrupt(DomainError):
    """A run log breaks its own rules. Remedy: none by hand; restore the log from a backup."""

    code = "log-corrupt"
    status = 500
