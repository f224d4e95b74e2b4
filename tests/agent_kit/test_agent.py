"""The agent of the kit: once and only once, in order, over a restart, and not without end."""

from __future__ import annotations

import ast
import shutil
import ssl
import subprocess
import sys
import tempfile
import threading
import unittest
from collections.abc import Iterator
from pathlib import Path
from typing import Any
from unittest import mock

import httpx
import uvicorn

from maestoso.agent_kit.agent import Agent
from maestoso.agent_kit.conformance.client import wait_until
from maestoso.agent_kit.folders import Folders
from maestoso.agent_kit.platform import Failure, Operation, Platform, method_of
from maestoso.agent_kit.protocol import VERBS, unread, with_defaults
from maestoso.agent_kit.server import application
from maestoso.agent_kit.skeleton import skeleton
from maestoso.agent_kit.store import Store
from maestoso.agent_kit.tokens import Tokens
from maestoso.agent_kit.web import Refused
from maestoso.sites import trust
from tests.agent_kit.papers import Papers
from tests.agent_kit.sites import TOKEN, environment
from tests.ports import free_port


class Slow(Platform):
    """A platform whose operations wait until the test lets them go."""

    def __init__(self) -> None:
        self.go = threading.Event()
        self.begun: list[str] = []
        self.secrets: list[str] = []
        self.care_every_s = 0.01
        self.cared = 0
        self.careless = False

    def running(self) -> tuple[int, int]:
        return 0, 0

    def remains(self, mark: str) -> list[str]:
        return []

    def care(self) -> None:
        self.cared += 1
        if self.careless:
            raise RuntimeError("it is tried again")

    def make_sandbox(self, op: Operation) -> None:
        self.begun.append(f"{op.subject}{' again' if op.again else ''}")
        op.progress(3, 10, 1.0)
        while not self.go.is_set():
            op.wait(0.01)
        op.note(f"sandbox:{op.subject}", 1)
        op.effect(made=op.subject)

    def remove_sandbox(self, op: Operation) -> None:
        self.begun.append(f"not {op.subject}")

    def power_off(self, op: Operation) -> None:
        self.begun.append("off")

    def await_heartbeat(self, op: Operation) -> None:
        if op.until(lambda: "off" in self.begun, op.args["timeout_s"], 0.01):
            raise Failure("powered-off")

    def run_script(self, op: Operation) -> dict[str, Any]:
        self.begun.append(f"{op.subject}{' again' if op.again else ''}")
        self.secrets += op.secrets.values()
        op.wait(60)
        return {"exit_code": 0}

    def set_size(self, op: Operation) -> None:
        raise ZeroDivisionError("a fault of the platform")


def asked(verb: str, subject: str, **args: Any) -> dict[str, Any]:
    """The body of a request."""
    return {"verb": verb, "subject": subject, "run": "r", "fence": 1, "args": args}


SCRIPT = {
    "script": "x", "interpreter": "sh", "text": "", "sha256": "", "where": "site", "timeout_s": 60.0,
    "secrets": {"password": "open sesame"},
}  # fmt: skip


class AnAgent(unittest.TestCase):
    """Operations and what becomes of them."""

    def setUp(self) -> None:
        folder = tempfile.TemporaryDirectory()
        self.addCleanup(folder.cleanup)
        self.file = Path(folder.name) / "agent.sqlite"
        self.start()

    def start(self, **rest: Any) -> None:
        """As after a start of the process."""
        self.platform = Slow()
        self.agent = Agent(self.platform, Store(self.file), **rest)
        self.agent.start()
        self.addCleanup(self.agent.stop)

    def settled(self, key: str) -> dict[str, Any]:
        """How an operation ended."""
        state: dict[str, Any] = wait_until(
            lambda: self.agent.operation(key) if self.agent.operation(key)["status"] != "running" else None
        )
        return state

    def test_about_one_thing_in_order_and_what_waits_holds_nothing_up(self) -> None:
        self.agent.put("1", asked("make-sandbox", "x", mark="m"))
        self.agent.put("2", asked("remove-sandbox", "x"))
        self.agent.put("3", asked("await-heartbeat", "vm", timeout_s=60))
        self.agent.put("4", asked("power-off", "vm"))
        self.assertEqual(self.settled("3")["code"], "powered-off")
        self.assertEqual(self.settled("4")["status"], "done")
        self.assertNotIn("not x", self.platform.begun)
        self.platform.go.set()
        self.assertEqual(self.settled("2")["status"], "done")
        self.assertEqual([said for said in self.platform.begun if "x" in said], ["x", "not x"])

    def test_what_was_under_way_is_taken_up_again_after_a_restart(self) -> None:
        self.agent.put("1", asked("make-sandbox", "x", mark="m"))
        wait_until(lambda: self.platform.begun)
        self.agent.stop()
        self.start()
        self.platform.go.set()
        self.assertEqual(self.settled("1")["status"], "done")
        self.assertEqual(self.platform.begun, ["x again"])
        self.assertEqual(len(self.agent.store.journal(0)), 1)
        self.assertEqual(self.agent.store.notes("sandbox:"), {"x": 1})

    def test_secrets_are_never_written_down_so_what_had_some_is_not_taken_up(self) -> None:
        self.agent.put("1", asked("run-script", "x", **SCRIPT))
        wait_until(lambda: self.platform.secrets)
        self.agent.stop()
        written = b"".join(file.read_bytes() for file in self.file.parent.iterdir())
        self.assertNotIn(b"sesame", written)
        self.start()
        self.assertEqual(self.settled("1")["code"], "interrupted")
        self.assertEqual(self.platform.secrets, [])

    def test_but_for_verbs_of_which_the_platform_keeps_what_came_along(self) -> None:
        self.agent.put("1", asked("run-script", "x", **SCRIPT))
        wait_until(lambda: self.platform.secrets)
        self.agent.stop()
        with mock.patch.object(Slow, "goes_on_without_secrets", frozenset({"run-script"})):
            self.start()
        wait_until(lambda: "x again" in self.platform.begun)
        self.assertEqual(self.agent.operation("1")["status"], "running")

    def test_a_fault_of_the_platform_is_a_failure_with_a_reason(self) -> None:
        with self.assertLogs("site-agent", "ERROR"):
            self.agent.put("1", asked("set-size", "x", cores=1, memory_mib=1))
            state = self.settled("1")
        self.assertEqual(state["code"], "agent-fault")
        self.assertIn("ZeroDivisionError: a fault of the platform", state["reason"])
        self.assertEqual(self.agent.store.journal(0), [])

    def test_with_too_much_under_way_it_is_busy_and_takes_nothing_in(self) -> None:
        self.agent.stop()
        self.start(most_waiting=2)
        for key in "12":
            self.agent.put(key, asked("make-sandbox", key, mark="m"))
        with self.assertRaises(Refused) as caught:
            self.agent.put("3", asked("make-sandbox", "3", mark="m"))
        self.assertEqual((caught.exception.status, caught.exception.retry_after_s), (503, 5.0))
        with self.assertRaises(Refused):
            self.agent.operation("3")
        self.assertEqual(self.agent.put("1", asked("make-sandbox", "1", mark="m"))["status"], "running")
        self.platform.go.set()
        for key in "12":
            self.settled(key)
        self.assertEqual(self.agent.put("3", asked("make-sandbox", "3", mark="m"))["key"], "3")

    def test_what_goes_on_by_itself_is_tried_again_after_a_fault(self) -> None:
        self.platform.careless = True
        with self.assertLogs("site-agent", "ERROR"):
            self.assertTrue(wait_until(lambda: self.platform.cared > 5))

    def test_how_far_it_is_stands_in_the_pulse_until_it_has_ended(self) -> None:
        self.platform.inventory = dict  # type: ignore[method-assign]
        self.agent.put("1", asked("make-sandbox", "x", mark="m"))
        told = {"key": "1", "done_bytes": 3, "total_bytes": 10, "rate_bps": 1.0}
        self.assertTrue(wait_until(lambda: self.agent.pulse()["under_way"] == [told]))
        self.assertEqual(unread("SitePulse", self.agent.pulse()), "")
        self.platform.go.set()
        self.settled("1")
        self.assertTrue(wait_until(lambda: self.agent.pulse()["under_way"] == []))

    def test_only_verbs_with_a_method_are_offered(self) -> None:
        self.assertIn("make-sandbox", self.platform.verbs())
        self.assertNotIn("promote", self.platform.verbs())
        with self.assertRaises(Refused) as caught:
            self.agent.put("1", asked("promote", "g", group="g", point=None, mark="m"))
        self.assertEqual(caught.exception.code, "unknown-verb")

    def test_a_file_put_back_from_a_copy_is_another_epoch_and_a_restart_is_not(self) -> None:
        before = self.agent.store.epoch
        self.agent.stop()
        self.assertEqual(Store(self.file).epoch, before)
        kept = self.file.with_name("backup")
        shutil.copy(self.file, kept)
        self.file.unlink()
        shutil.copy(kept, self.file)
        self.assertNotEqual(Store(self.file).epoch, before)


class TheDocument(unittest.TestCase):
    """What the kit reads out of the schemas."""

    def test_what_may_be_left_out_is_filled_in_also_inside(self) -> None:
        told = with_defaults("AttachNics", {"nics": [{"nic": "n", "network": "x", "mac": "m"}], "more": 1})
        nic = {"nic": "n", "network": "x", "mac": "m", "connected": True, "reserve": []}
        self.assertEqual(told, {"nics": [nic], "more": 1})
        told["nics"][0]["reserve"].append("y")
        self.assertEqual(with_defaults("Adapter", {})["reserve"], [])

    def test_what_cannot_be_read_is_named(self) -> None:
        self.assertEqual(unread("Fence", {"cut": True, "more": 1}), "")
        self.assertIn("nics[0]", unread("AttachNics", {"nics": [{}]}))
        self.assertIn("'mark' is a required property", unread("OfMark", {}))


class TheSkeleton(unittest.TestCase):
    """What ``new`` writes, and the example that fills it in."""

    def test_it_is_python_and_has_every_verb(self) -> None:
        tree = ast.parse(skeleton("mine.py"))
        site = next(node for node in tree.body if isinstance(node, ast.ClassDef))
        written = {node.name for node in site.body if isinstance(node, ast.FunctionDef)}
        by_the_kit = {name for name in vars(Platform) if not name.startswith("_")}
        wanted = {method_of(verb) for verb, one in VERBS.items() if not one.get("for_labs")}
        self.assertLessEqual(wanted - by_the_kit, written)
        self.assertLessEqual(written - by_the_kit, set(vars(Folders)), "the example fills all of it in")
        self.assertLessEqual(wanted, set(dir(Folders)))
        self.assertNotIn("kill_machine", {*written, *dir(Folders)}, "nobody kills by mistake")

    def test_the_kit_works_where_there_is_no_maestoso(self) -> None:
        with tempfile.TemporaryDirectory() as folder:
            kit = Path(sys.modules[Platform.__module__].__file__ or "").parent
            shutil.copytree(kit, Path(folder) / "agent_kit", ignore=shutil.ignore_patterns("__pycache__"))
            env = environment(PYTHONPATH=folder)

            def typed(*words: str) -> subprocess.CompletedProcess[str]:
                command = [sys.executable, "-m", "agent_kit", *words]
                return subprocess.run(
                    command, env=env, cwd=folder, capture_output=True, text=True, check=False
                )

            self.assertEqual(typed("new", "mine.py").returncode, 0)
            again = typed("new", "mine.py")
            self.assertEqual(again.returncode, 1)
            self.assertIn("mine.py is there already", again.stderr)
            asked_for = subprocess.run(
                [sys.executable, "mine.py", "--help"],
                env=env, cwd=folder, capture_output=True, text=True, check=False,
            )  # fmt: skip
            self.assertEqual(asked_for.returncode, 0, asked_for.stderr)
            self.assertIn("from agent_kit import", (Path(folder) / "mine.py").read_text())


class Tls(unittest.TestCase):
    """It speaks TLS, and wants a certificate of those who ask where that is set."""

    def setUp(self) -> None:
        folder = tempfile.TemporaryDirectory()
        self.addCleanup(folder.cleanup)
        self.folder = Path(folder.name)
        self.papers = Papers(self.folder)
        self.papers.sign("agent")
        self.papers.sign("maestoso")

    def served(self, **rest: Any) -> Iterator[int]:
        """Serve with these settings of uvicorn, as ``serve`` would."""
        (self.folder / "token").write_text(f"{TOKEN}\n")
        app = application(Slow(), Store(self.folder / "agent.sqlite"), Tokens(self.folder / "token"))
        agent, port = self.folder / "agent.pem", free_port()
        config = uvicorn.Config(
            app, host="127.0.0.1", port=port, log_level="critical", ssl_certfile=agent, ssl_keyfile=agent,
            timeout_graceful_shutdown=1, **rest,
        )  # fmt: skip
        server = uvicorn.Server(config)
        thread = threading.Thread(target=server.run)
        thread.start()
        wait_until(lambda: server.started)
        yield port
        server.should_exit = True
        thread.join()

    def test_with_a_private_authority_and_in_both_directions(self) -> None:
        authority = self.folder / "authority.pem"
        known = ssl.create_default_context(cafile=str(authority))
        both = ssl.create_default_context(cafile=str(authority))
        both.load_cert_chain(self.folder / "maestoso.pem")
        headers = {"Authorization": f"Bearer {TOKEN}"}
        wants = {"ssl_ca_certs": str(authority), "ssl_cert_reqs": ssl.CERT_REQUIRED}
        for settings, context, answered in (
            ({}, known, True), ({}, ssl.create_default_context(), False), (wants, known, False),
            (wants, both, True),
        ):  # fmt: skip
            for port in self.served(**settings):
                with self.subTest(mutual=bool(settings), answered=answered):
                    try:
                        url = f"https://127.0.0.1:{port}/v1/capabilities"
                        status = httpx.get(url, headers=headers, verify=context, trust_env=False).status_code
                    except httpx.TransportError:
                        status = 0
                    self.assertEqual(status == 200, answered)


class TokensAndCodes(unittest.TestCase):
    """Who is let in."""

    def setUp(self) -> None:
        folder = tempfile.TemporaryDirectory()
        self.addCleanup(folder.cleanup)
        self.folder = Path(folder.name)
        self.file = self.folder / "tokens"
        self.tokens = Tokens(self.file)

    def test_a_code_is_good_once_and_not_for_long(self) -> None:
        self.assertEqual(self.tokens.known(), ())
        code = self.tokens.open_code()
        token = self.tokens.enrol(f" {code.lower().replace('-', ' ')}")
        self.assertEqual(self.tokens.known(), (token,))
        self.assertEqual(self.file.stat().st_mode & 0o777, 0o600)
        with self.assertRaisesRegex(Refused, "no one-time code that is still good"):
            self.tokens.enrol(code)
        late = self.tokens.open_code()
        later = mock.patch("maestoso.agent_kit.tokens.time.monotonic", return_value=1e12)
        with later, self.assertRaisesRegex(Refused, "still good"):
            self.tokens.enrol(late)

    def test_after_five_wrong_codes_the_right_one_is_good_no_more(self) -> None:
        code = self.tokens.open_code()
        for wrong in ("", "AAAA", "not a code!", code[:-1], f"{code}AAAAAAAA"):
            with self.assertRaisesRegex(Refused, "not the one-time code"):
                self.tokens.enrol(wrong)
        with self.assertRaisesRegex(Refused, "still good"):
            self.tokens.enrol(code)
        self.assertEqual(self.tokens.known(), ())

    def test_with_tls_a_code_tells_by_which_agent_it_was_given(self) -> None:
        papers = Papers(self.folder)
        for name in ("agent", "another"):
            papers.sign(name)
        code = trust.code_bytes(Tokens(self.file, self.folder / "agent.pem").open_code())
        shown = {name: trust.read((self.folder / f"{name}.pem").read_text()) for name in ("agent", "another")}
        self.assertTrue(trust.belongs_to(code, shown["agent"]))
        self.assertFalse(trust.belongs_to(code, shown["another"]))
        self.assertFalse(trust.belongs_to(trust.code_bytes(self.tokens.open_code()), shown["agent"]))

    def test_the_old_token_is_good_until_the_new_one_was_used(self) -> None:
        self.file.write_text("old\n")
        lost = self.tokens.another()
        new = self.tokens.another()
        self.assertEqual(self.tokens.known(), ("old", new), "one that never came to anybody is not kept")
        self.assertNotEqual(lost, new)
        self.tokens.used("old")
        self.assertEqual(self.tokens.known(), ("old", new))
        self.tokens.used(new)
        self.assertEqual(self.tokens.known(), (new,))

    def test_what_people_write_into_the_file_counts_at_once(self) -> None:
        self.file.write_text("one\n\n two \n")
        self.assertEqual(self.tokens.known(), ("one", "two"))
        self.file.write_text("three\n")
        self.assertEqual(self.tokens.known(), ("three",))


if __name__ == "__main__":
    unittest.main()
