"""The conformance test: what is as it is written passes, and whatever is not is found."""

from __future__ import annotations

import io
import shlex
import subprocess
import sys
import tempfile
import unittest
from collections.abc import Callable
from functools import partial
from pathlib import Path
from typing import Any, ClassVar

from maestoso.agent_kit.conformance.client import Client
from maestoso.agent_kit.conformance.run import Conformance, run
from maestoso.agent_kit.conformance.stories import a_test, there_and_back
from maestoso.agent_kit.folders import Folders
from maestoso.agent_kit.platform import Operation
from tests.agent_kit.sites import (
    AWAY,
    HOME,
    MEMBERS,
    TOKEN,
    TwoSites,
    environment,
    protected,
    reached,
)
from tests.ports import free_port

DEMO = Path(__file__).resolve().parents[2] / "demo" / "tidewell"


class WhatIsAsItIsWritten(unittest.TestCase):
    """Two agents of this project pass, killed in the middle and all."""

    maxDiff = None

    def passes(self, *arguments: Any, **rest: Any) -> None:
        """Run the whole test; nothing fails, and nothing is left untested."""
        out = io.StringIO()
        status = run(*arguments, **rest, out=out)
        self.assertEqual(status, 0, out.getvalue())
        self.assertIn(" 0 not, 0 not tested.", out.getvalue())

    def test_a_folder_of_files(self) -> None:
        two, port = TwoSites(self), free_port()
        first = subprocess.Popen(two.command(AWAY, port), env=environment())
        self.addCleanup(first.wait)
        self.addCleanup(first.kill)
        site = reached(self, port, "the target")
        protected(site)
        first.kill()
        first.wait()
        source = two.process(HOME, free_port())
        start = shlex.join(["env", f"PYTHONPATH={environment()['PYTHONPATH']}", *two.command(AWAY, port)])
        self.passes(site, "shop", source=source, start=start)

    def test_a_practice_site(self) -> None:
        folder = tempfile.TemporaryDirectory()
        self.addCleanup(folder.cleanup)
        ports = {"QUA": free_port(), "HIL": free_port()}

        def command(code: str, other: str) -> list[str]:
            return [
                "env", f"PYTHONPATH={environment()['PYTHONPATH']}", f"MAESTOSO_SITE_TOKEN={TOKEN}",
                sys.executable, "-m", "maestoso.practice", "--scenario", str(DEMO), "--site", code,
                "--port", str(ports[code]), "--state", f"{folder.name}/{code}.sqlite",
                "--peer", f"{other}=http://127.0.0.1:{ports[other]}",
            ]  # fmt: skip

        qua = subprocess.Popen(command("QUA", "HIL"))
        self.addCleanup(qua.wait)
        self.addCleanup(qua.kill)
        source = reached(self, ports["QUA"], "the source")
        site = reached_later(self, ports["HIL"])
        members = ("time-01", "ca-01")
        start = shlex.join(command("HIL", "QUA"))
        self.passes(site, "trust", source=source, members=members, start=start)


def reached_later(case: unittest.TestCase, port: int) -> Client:
    """A line to an agent that is not started yet."""
    client = Client(f"http://127.0.0.1:{port}", TOKEN, "the target")
    case.addCleanup(client.http.close)
    return client


class Forgets(Folders):
    """Answers a known key by doing it again."""

    def make_sandbox(self, op: Operation) -> None:
        op.note(f"sandbox:{op.subject}", {"mark": "another", "like": ""})
        op.effect(made=op.subject)


class Leaks(Folders):
    """Says that everything is isolated."""

    def prove_isolation(self, op: Operation) -> dict[str, Any]:
        return {"networks": list(op.args["networks"])}


class Silent(Folders):
    """Does not say what the disks of a fenced machine hold."""

    def fence(self, op: Operation) -> dict[str, Any]:
        told = super().fence(op)
        return {"was_running": told["was_running"]}


class Careless(Folders):
    """Gives power to what is fenced."""

    def power_on(self, op: Operation) -> None:
        machine = self._machine(op.subject)
        self._save({**machine, "fenced": False})
        super().power_on(op)


class Untidy(Folders):
    """Leaves the disks of a test behind, and says that nothing is left."""

    def discard_clone(self, op: Operation) -> None:
        machine = self._find(op.subject)
        if machine is not None and machine["registered"]:
            super().discard_clone(op)

    def remains(self, mark: str) -> list[str]:
        return []


class Behind(Folders):
    """Promotes copies that are not equal to their source."""

    def promote(self, op: Operation) -> dict[str, Any]:
        op.args = {**op.args, "equal": False}
        return super().promote(op)


class Unfinished(Folders):
    """Has not every verb."""

    reverse_copying: ClassVar[Any] = None


class WhatIsNot(unittest.TestCase):
    """Each of these agents does one thing that is not as it is written, and is found out."""

    def test_in_a_test_beside_production(self) -> None:
        for kind, sentence in (
            (Leaks, "prove-isolation of copies ended with done; it must fail with not-isolated."),
            (Untidy, "ended with done; it must fail with remains."),
            (Forgets, "ended with done; it must fail with network-exists."),
        ):
            with self.subTest(kind.__name__):
                two = TwoSites(self)
                site, like = two.agent(AWAY, kind), two.platform(HOME).inventory()
                protected(site)
                self.found(sentence, partial(a_test, site, "shop", like, MEMBERS))

    def test_where_production_moves(self) -> None:
        for kind, sentence in (
            (Silent, "fence does not say what the disks of db hold."),
            (Careless, "power-on of db ended with done; it must fail with fenced."),
            (Behind, "promote of shop ended with done; it must fail with not-equal."),
        ):
            with self.subTest(kind.__name__):
                two = TwoSites(self)
                site, source = two.agent(AWAY, kind), two.agent(HOME, kind)
                protected(site)
                _, deed = next(there_and_back(site, source, "shop", MEMBERS, HOME, AWAY))
                self.found(sentence, deed)

    def found(self, sentence: str, test: Callable[[], object]) -> None:
        """That a part of the test fails, and says so."""
        made = Conformance(io.StringIO())
        self.assertFalse(made.part("A part", "site-protocol.md", test))
        self.assertIn(sentence, made.results[0].detail)
        self.assertEqual(made.said(), 1)

    def test_what_cannot_be_tested_is_said_and_is_no_fault(self) -> None:
        site, out = TwoSites(self).agent(AWAY, Unfinished), io.StringIO()
        protected(site)
        status, said = run(site, "shop", out=out), out.getvalue()
        self.assertEqual(status, 0, said)
        self.assertIn("It does not have reverse-copying.", said)
        self.assertIn("with --source URL", said)
        self.assertIn("with --start COMMAND", said)
        self.assertIn("3 not tested.", said)


class OnTheCommandLine(unittest.TestCase):
    """What a person types."""

    def kit(self, *arguments: str, **more: str) -> subprocess.CompletedProcess[str]:
        """Run the kit."""
        command = [sys.executable, "-m", "maestoso.agent_kit", *arguments]
        env = environment(**more)
        env.pop("MAESTOSO_AGENT_TOKEN", None) if "MAESTOSO_AGENT_TOKEN" not in more else None
        return subprocess.run(command, env=env, capture_output=True, text=True, check=False)

    def test_without_a_token_it_says_which_variable_to_set(self) -> None:
        done = self.kit("check", "http://127.0.0.1:1", "--group", "shop")
        self.assertEqual((done.returncode, done.stdout), (2, ""))
        self.assertIn("Set MAESTOSO_AGENT_TOKEN", done.stderr)

    def test_where_nothing_answers_every_part_says_so_and_nothing_breaks(self) -> None:
        port = str(free_port())
        done = self.kit("check", f"http://127.0.0.1:{port}", "--group", "shop", MAESTOSO_AGENT_TOKEN="t")
        self.assertEqual((done.returncode, done.stderr), (1, ""))
        self.assertIn("Connection refused", done.stdout)


if __name__ == "__main__":
    unittest.main()
