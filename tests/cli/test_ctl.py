"""The command line over the API, against a small program in the place of Maestoso; and the client that it uses."""

from __future__ import annotations

import http.server
import importlib.util
import json
import os
import subprocess
import sys
import tempfile
import threading
import unittest
from collections.abc import Callable
from pathlib import Path
from typing import Any
from unittest import mock

from maestoso.server.config.options import ROOT
from maestoso_client import Client, NotReached, Refused, ctl, operations
from tests.ports import free_port

NEED = {"kind": "hold", "step": "hold:x", "title": "Till office confirms", "text": "Call them."}
STATUS: dict[str, Any] = {"outcome": "", "decision": "", "needs": [], "put_aside": "", "lead": "It goes on."}


class Stand:
    """Answers as it is told; keeps what it was asked."""

    def __init__(self) -> None:
        self.answers: dict[str, Callable[[], tuple[int, Any]]] = {}
        self.asked: list[tuple[str, str, dict[str, str], Any]] = []
        stand = self

        class Answer(http.server.BaseHTTPRequestHandler):
            def answer(self) -> None:
                length = int(self.headers.get("Content-Length") or 0)
                body = json.loads(self.rfile.read(length)) if length else None
                stand.asked.append((self.command, self.path, dict(self.headers.items()), body))
                place = self.path.partition("?")[0].removeprefix("/api/v1")
                status, said = stand.answers.get(f"{self.command} {place}", lambda: (404, "nothing here"))()
                content = said if isinstance(said, bytes) else json.dumps(said).encode()
                self.send_response(status)
                self.send_header(
                    "Content-Type", "application/jsonl" if isinstance(said, bytes) else "application/json"
                )
                if status == 302:
                    self.send_header("Location", "http://127.0.0.1:1/")
                self.send_header("Content-Length", str(len(content)))
                self.end_headers()
                self.wfile.write(content)

            do_GET = do_POST = do_DELETE = answer

            def log_message(self, *args: Any) -> None:
                pass

        self.server = http.server.ThreadingHTTPServer(("127.0.0.1", free_port()), Answer)
        self.address = f"http://127.0.0.1:{self.server.server_address[1]}"
        threading.Thread(target=self.server.serve_forever, daemon=True).start()

    def close(self) -> None:
        """Stop it."""
        self.server.shutdown()
        self.server.server_close()


class Commands(unittest.TestCase):
    def setUp(self) -> None:
        self.stand = Stand()
        self.addCleanup(self.stand.close)
        self.enterContext(mock.patch.object(ctl, "LOOK_EVERY_S", 0.01))
        self.said = ""

    def run_it(self, *words: str, **environment: str) -> int:
        """What a command exits with; what it prints is kept."""
        known = {"MAESTOSO_ADDRESS": self.stand.address, "MAESTOSO_TOKEN": "a-token", **environment}
        with tempfile.TemporaryFile("w+") as out, mock.patch.dict(os.environ, known):
            with mock.patch.object(sys, "stdout", out), mock.patch.object(sys, "stderr", out):
                try:
                    code = ctl.main(words)
                except SystemExit as ended:
                    code = int(ended.code or 0)
            out.seek(0)
            self.said = out.read()
        return code

    def test_plans_stand_in_columns_or_as_the_api_says_them(self) -> None:
        standing = {
            "kinds": [{"kind": "test", "blocking": []}, {"kind": "disaster", "blocking": ["x"]}],
            "forecast": {"p50_s": 900},
        }
        plan = {"code": "BOOK", "name": "Booking", "source": "QUA", "target": "HIL", "standing": standing}
        self.stand.answers["GET /plans"] = lambda: (
            200,
            {"plans": [plan, {**plan, "code": "NEW", "standing": None}]},
        )
        self.assertEqual(self.run_it("plans"), 0)
        self.assertRegex(self.said, r"BOOK +QUA to HIL +can +cannot +15 min +Booking")
        self.assertRegex(self.said, r"NEW .*not known yet")
        self.assertEqual(self.run_it("--json", "plans"), 0)
        self.assertEqual(json.loads(self.said)["plans"][0], plan)
        self.assertEqual(self.stand.asked[-1][2]["Authorization"], "Bearer a-token")

    def test_a_run_is_started_watched_answered_and_judged(self) -> None:
        events = [
            {"seq": 1, "run_s": 0.0, "sentence": "ann started the test."},
            {"seq": 2, "run_s": 90.0, "sentence": "Power on, done."},
        ]
        status = dict(STATUS, needs=[NEED])
        self.stand.answers |= {
            "POST /runs": lambda: (201, {"id": 7}),
            "GET /runs/7/events": lambda: (200, events if "after=0" in self.stand.asked[-1][1] else []),
            "GET /runs/7": lambda: (200, {"status": status, "steps": []}),
            "POST /runs/7/controls": lambda: (200, status),
        }
        self.assertEqual(self.run_it("start", "BOOK", "--pace", "20", "--watch"), ctl.NEEDS_SOMEBODY)
        sent = next(one for one in self.stand.asked if one[:2] == ("POST", "/api/v1/runs"))
        self.assertEqual(
            (sent[3]["plan"], sent[3]["options"]["kind"], sent[3]["options"]["pace"]), ("BOOK", "test", 20)
        )
        self.assertTrue(sent[2]["Idempotency-Key"])
        self.assertIn("1.5 min  Power on, done.", self.said)
        self.assertIn("It needs somebody: Till office confirms (hold:x). Call them.", self.said)
        self.assertEqual(self.run_it("answer", "7", "--text", "The card cleared."), 0)
        self.assertEqual(
            self.stand.asked[-1][3], {"kind": "answer", "step": "hold:x", "text": "The card cleared."}
        )
        self.assertEqual(self.run_it("retry", "7"), ctl.USAGE)
        self.assertIn("Nothing of that kind waits.", self.said)
        status["needs"] = [NEED, {**NEED, "step": "hold:y"}]
        self.assertEqual(self.run_it("answer", "7"), ctl.USAGE)
        self.assertIn("These wait: hold:x, hold:y. Name one with --step.", self.said)
        self.assertEqual(self.run_it("verdict", "7", "passed"), 0)
        self.assertEqual(self.stand.asked[-1][3], {"kind": "verdict", "verdict": "passed", "text": ""})
        for outcome, decision, code in (("passed", "", 0), ("failed", "", ctl.OTHERWISE), ("aborted", "", ctl.OTHERWISE),
                                        ("rolled back", "roll-back", 0)):  # fmt: skip
            status |= {"outcome": outcome, "decision": decision, "needs": []}
            self.assertEqual(self.run_it("watch", "7"), code, outcome)

    def test_a_plan_says_what_would_happen_and_refuses_where_something_is_in_the_way(self) -> None:
        finding = {"severity": "blocks", "sentence": "A site is away.", "mend": "Bring it back."}
        said = {
            "consequences": ["Production keeps running."],
            "blocking": [finding],
            "assessment": {"findings": [finding]},
        }
        self.stand.answers["POST /plans/BOOK/preflight"] = lambda: (200, said)
        self.assertEqual(self.run_it("plan", "BOOK"), ctl.REFUSED)
        self.assertIn("would   Production keeps running.\nblocks  A site is away. Bring it back.", self.said)

    def test_what_goes_wrong_has_a_sentence_and_a_code(self) -> None:
        problem = {
            "code": "in-the-way",
            "detail": "Run 3 is under way.",
            "remedy": "Wait for it.",
            "field": "",
        }
        self.stand.answers["GET /plans"] = lambda: (409, problem)
        self.assertEqual(
            (self.run_it("plans"), self.said), (ctl.REFUSED, "Run 3 is under way. Wait for it.\n")
        )
        for status, said in ((502, "a proxy"), (302, ""), (200, b"<html>")):
            self.stand.answers["GET /plans"] = lambda status=status, said=said: (status, said)  # type: ignore[misc]
            self.assertEqual(self.run_it("plans"), ctl.NOT_REACHED, said)
        self.assertEqual(self.run_it("plans", MAESTOSO_ADDRESS="http://127.0.0.1:1"), ctl.NOT_REACHED)
        self.assertIn("http://127.0.0.1:1 was not reached", self.said)
        for known, said in (({"MAESTOSO_ADDRESS": ""}, "MAESTOSO_ADDRESS is not set"), ({"MAESTOSO_TOKEN": ""}, "MAESTOSO_TOKEN or"),
                            ({"MAESTOSO_ADDRESS": "maestoso.example"}, "is no address"), ({"MAESTOSO_TOKEN_FILE": "/nowhere"}, "/nowhere")):  # fmt: skip
            self.assertEqual(self.run_it("plans", **known), ctl.USAGE)
            self.assertIn(said, self.said)
        self.assertEqual(self.run_it("fly"), ctl.USAGE)

    def test_a_watch_outlives_a_moment_without_an_answer_and_not_more(self) -> None:
        times = iter([(503, "busy"), (200, {"status": dict(STATUS, outcome="passed")})])
        self.stand.answers |= {"GET /runs/7/events": lambda: (200, []), "GET /runs/7": lambda: next(times)}
        self.assertEqual(self.run_it("watch", "7"), 0)
        self.stand.answers["GET /runs/7"] = lambda: (503, "busy")
        with mock.patch.object(ctl, "AWAY_S", 0.0):
            self.assertEqual(self.run_it("watch", "7"), ctl.NOT_REACHED)

    def test_everything_is_followed_until_nothing_can_be_known_of_it(self) -> None:
        lost = {
            "id": "1-5", "time": "2026-11-03T12:00:00+00:00", "type": "maestoso.site-lost", "subject": "QUA",
            "data": {"title": "Quayside does not answer"},
        }  # fmt: skip
        answers = iter([
            (200, {"cursor": "1-4", "events": []}),
            (503, "busy"),
            (200, {"cursor": "1-5", "events": [lost]}),
            (410, {"code": "events-gone", "detail": "It is not kept.", "remedy": "Follow with after=1-9."}),
        ])  # fmt: skip
        self.stand.answers["GET /events"] = lambda: next(answers)
        self.assertEqual(self.run_it("follow"), ctl.REFUSED)
        self.assertIn("Following from 1-4.", self.said)
        self.assertIn("2026-11-03T12:00:00  maestoso.site-lost  QUA  Quayside does not answer", self.said)
        self.assertIn("Go on with --after 1-5.", self.said)
        self.assertIn("Follow with after=1-9.", self.said)
        asked = [one[1] for one in self.stand.asked]
        self.assertEqual(asked[-1], "/api/v1/events?after=1-5&wait_s=20")

    def test_evidence_is_written_as_it_is_and_an_outage_declared(self) -> None:
        self.stand.answers["GET /runs/7/evidence.jsonl"] = lambda: (200, b'{"seq": 1}\n{"seq": 2}\n')
        with tempfile.TemporaryDirectory() as folder:
            file = Path(folder) / "run-7.jsonl"
            self.assertEqual(self.run_it("evidence", "7", str(file)), 0, self.said)
            self.assertEqual(file.read_bytes(), b'{"seq": 1}\n{"seq": 2}\n')
        said = {"site_name": "Quayside", "to": "/plans/ALL/start?kind=disaster"}
        self.stand.answers["POST /declare"] = lambda: (201, said)
        self.assertEqual(self.run_it("declare", "--site", "QUA", "No answer."), 0)
        self.assertIn(f"{self.stand.address}/plans/ALL/start?kind=disaster", self.said)
        self.assertEqual(self.stand.asked[-1][3]["since"], None)


class TheClient(unittest.TestCase):
    def test_it_is_what_the_contract_makes(self) -> None:
        spec = importlib.util.spec_from_file_location("make_python", ROOT / "clients" / "make_python.py")
        assert spec is not None and spec.loader is not None
        maker = importlib.util.module_from_spec(spec)
        spec.loader.exec_module(maker)
        self.assertEqual(
            Path(operations.__file__).read_text(), maker.made(), "python clients/make_python.py writes it"
        )

    def test_names_of_things_are_kept_whole_in_paths(self) -> None:
        stand = Stand()
        self.addCleanup(stand.close)
        stand.answers["GET /workloads/a%2Fb%20c"] = lambda: (200, {"name": "a/b c"})
        client = Client(stand.address, "t")
        self.assertEqual(client.workload("a/b c"), {"name": "a/b c"})
        with self.assertRaises(NotReached):
            client.plans()
        stand.answers["GET /plans"] = lambda: (403, {"code": "not-allowed", "detail": "No.", "field": "x"})
        with self.assertRaises(Refused) as refused:
            client.plans()
        self.assertEqual(
            (refused.exception.status, refused.exception.code, refused.exception.field),
            (403, "not-allowed", "x"),
        )

    def test_it_runs_by_the_launcher_without_any_set_up(self) -> None:
        done = subprocess.run(
            [str(ROOT / "maestoso"), "ctl", "completion"], capture_output=True, text=True, check=True
        )
        words = (
            f"{done.stdout}\nCOMP_WORDS=(maestoso ctl st); COMP_CWORD=2; _maestoso; echo ${{COMPREPLY[@]}}"
        )
        completed = subprocess.run(["bash", "-c", words], capture_output=True, text=True, check=True)
        self.assertEqual(completed.stdout.split(), ["start"])


if __name__ == "__main__":
    unittest.main()
