"""Whether the lock files hold everything that is needed, for every Python that the launcher accepts."""

from __future__ import annotations

import re
import unittest
from importlib.metadata import PackageNotFoundError, distribution
from pathlib import Path

from packaging.markers import default_environment
from packaging.requirements import Requirement
from packaging.utils import canonicalize_name

from maestoso.cli.stages import ROOT

PYTHONS = ("3.11.0", "3.11.2", "3.11.15", "3.12.14", "3.13.15")
APPLICATION, TESTS = ROOT / "requirements.lock", ROOT / "requirements-test.lock"
ONLY_FOR_TESTS = (
    "networkx",
    "simpy",
    "mypy",
    "hypothesis",
    "playwright",
    "ruff",
    "import-linter",
)


def pins(*locks: Path) -> list[Requirement]:
    """Every pin of some lock files."""
    lines = [line for lock in locks for line in lock.read_text(encoding="utf-8").splitlines()]
    return [Requirement(line.removesuffix("\\").strip()) for line in lines if re.match(r"[A-Za-z0-9]", line)]


def environment(version: str) -> dict[str, str]:
    """What markers see on Debian with this Python."""
    short = ".".join(version.split(".")[:2])
    return {**default_environment(), "python_full_version": version, "python_version": short, "extra": ""}


def lacking(version: str, locked: list[Requirement], roots: list[Requirement]) -> list[str]:
    """What an installer that takes nothing but the pins would miss, with who asks for it."""
    env = environment(version)
    pinned = {canonicalize_name(p.name): p for p in locked if p.marker is None or p.marker.evaluate(env)}
    missed = []
    seen: set[tuple[str, str]] = set()
    waiting = [(root, "pyproject.toml") for root in roots]
    while waiting:
        wanted, by = waiting.pop()
        if wanted.marker is not None and not wanted.marker.evaluate(env):
            continue
        name = canonicalize_name(wanted.name)
        pin = pinned.get(name)
        version_of = next(iter(pin.specifier)).version if pin else ""
        if pin is None or not wanted.specifier.contains(version_of, prereleases=True):
            missed.append(f"{by} needs {wanted}")
            continue
        for extra in ("", *wanted.extras):
            if (name, extra) in seen:
                continue
            seen.add((name, extra))
            try:
                needs = distribution(name).requires or []
            except PackageNotFoundError:
                continue  # only other Pythons have it; it is a leaf as far as this one can know
            for text in needs:
                need = Requirement(text)
                if need.marker is None or any(
                    need.marker.evaluate({**env, "extra": one}) for one in {"", extra}
                ):
                    need.marker = None
                    waiting.append((need, name))
    return missed


def asked_for(extra: str = "") -> list[Requirement]:
    """What pyproject.toml asks for."""
    import tomllib

    project = tomllib.loads((ROOT / "pyproject.toml").read_text(encoding="utf-8"))["project"]
    more = project["optional-dependencies"][extra] if extra else []
    return [Requirement(text) for text in [*project["dependencies"], *more]]


class Complete(unittest.TestCase):
    """A lock is complete when every requirement of every pin is pinned too, and the pin is good for it."""

    def test_the_application_can_be_installed_on_every_python(self) -> None:
        for version in PYTHONS:
            with self.subTest(version):
                self.assertEqual(lacking(version, pins(APPLICATION), asked_for()), [])

    def test_tests_can_be_installed_on_every_python(self) -> None:
        for version in PYTHONS:
            with self.subTest(version):
                self.assertEqual(lacking(version, pins(APPLICATION, TESTS), asked_for("dev")), [])

    def test_what_is_missing_is_noticed(self) -> None:
        """Debian 12 has Python 3.11.2, where the Redis client asks for a package that 3.11.3 made unnecessary."""
        poorer = [pin for pin in pins(APPLICATION, TESTS) if pin.name != "async-timeout"]
        self.assertTrue(any("async-timeout" in line for line in lacking("3.11.2", poorer, asked_for("dev"))))
        self.assertEqual(lacking("3.11.15", poorer, asked_for("dev")), [])

    def test_every_pin_has_hashes_and_is_exact(self) -> None:
        for lock in (APPLICATION, TESTS):
            text = lock.read_text(encoding="utf-8")
            for pin in pins(lock):
                with self.subTest(pin.name):
                    self.assertRegex(str(pin.specifier), r"^==[^*]+$")
            blocks = re.findall(r"^[A-Za-z0-9].*?(?=^[A-Za-z0-9]|\Z)", text, re.M | re.S)
            self.assertEqual([block for block in blocks if "--hash=sha256:" not in block], [])

    def test_the_application_asks_for_nothing_that_only_tests_use(self) -> None:
        names = {canonicalize_name(pin.name) for pin in pins(APPLICATION)}
        self.assertEqual(names & set(ONLY_FOR_TESTS), set())

    def test_nothing_is_pinned_twice_for_one_python(self) -> None:
        for version in PYTHONS:
            env = environment(version)
            names = [p.name for p in pins(APPLICATION, TESTS) if p.marker is None or p.marker.evaluate(env)]
            self.assertEqual(sorted(set(names)), sorted(names), version)


if __name__ == "__main__":
    unittest.main()
