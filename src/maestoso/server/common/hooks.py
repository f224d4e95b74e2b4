"""Questions that a feature asks of whatever features there are above it, without knowing them."""

from __future__ import annotations

from collections.abc import Callable
from typing import Generic, ParamSpec, TypeVar

P = ParamSpec("P")
R = TypeVar("R")


class Hook(Generic[P, R]):
    """Calls whoever was marked with it, in the order in which their features are installed."""

    def __init__(self) -> None:
        self._calls: list[Callable[P, R]] = []

    def hears(self, call: Callable[P, R]) -> Callable[P, R]:
        """Marks what is called; its module is imported when its app is ready."""
        self._calls.append(call)
        return call

    def __call__(self, *args: P.args, **kwargs: P.kwargs) -> list[R]:
        return [call(*args, **kwargs) for call in self._calls]
