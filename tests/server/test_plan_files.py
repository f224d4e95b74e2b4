"""Plan files, new plans, suggestions and older versions over the API."""

from __future__ import annotations

from typing import Any

import yaml

from tests.server.tidewell import Tidewell


class PlanFiles(Tidewell):
    """YAML in and out, with line and column of what does not fit."""

    def read(self, text: str) -> dict[str, Any]:
        reply = self.browser.send("POST", "/plan-files", {"text": text})
        self.assertEqual(reply.status_code, 200, reply.content[:300])
        found: dict[str, Any] = reply.json()
        return found

    def file(self, code: str = "BOOK") -> str:
        text: str = self.browser.get(f"/api/v1/plans/{code}/file").content.decode()
        return text

    def test_export_and_import_give_the_same_plan(self) -> None:
        for code in ("HARB", "BOOK", "FLEET", "ALL", "REPT"):
            with self.subTest(code):
                plan = self.browser.get(f"/api/v1/plans/{code}").json()["plan"]
                read = self.read(self.file(code))
                self.assertEqual((read["plan"], read["problems"]), (plan, []))
                again = self.browser.send("POST", f"/plans/{code}/file", {"plan": read["plan"]}).json()[
                    "text"
                ]
                self.assertEqual(again, self.file(code))

    def test_a_file_reads_as_people_write_it(self) -> None:
        data = yaml.safe_load(self.file())
        self.assertEqual((data["maestoso"], data["rto"], data["from"]), ("plan/1", "PT30M", "QUA"))
        self.assertEqual(data["waves"][0]["members"], ["dir-01", "dir-02", "name-01"])

    def place(self, text: str) -> tuple[int, int, str]:
        problem = self.read(text)["problems"][0]
        return problem["line"], problem["column"], f"{problem['sentence']} {problem['remedy']}"

    def test_what_does_not_fit_is_said_with_its_place(self) -> None:
        good = self.file()
        lines = good.splitlines()
        at = next(n for n, text in enumerate(lines, 1) if "delay:" in text)
        self.assertEqual(self.place(good.replace("delay: PT1M", "delay: soon", 1))[0], at)
        self.assertEqual(self.place(good.replace("rto:", "rot:", 1))[:2], (6, 1))
        self.assertIn("Did you mean rto?", self.place(good.replace("rto:", "rot:", 1))[2])
        line, column, said = self.place(good.replace("- dir-02", "- dir-20", 1))
        self.assertEqual(lines[line - 1][column - 1 :], "dir-02")
        self.assertIn("There is no workload 'dir-20'. Did you mean dir-02?", said)
        self.assertIn("There is no site 'NOWHERE'", self.place(good.replace("to: HIL", "to: NOWHERE"))[2])
        wrong = good.replace("depends_on:\n          - api-01", "depends_on:\n          - api-09")
        self.assertIn("'api-09' is not in this plan. Did you mean api-0", self.place(wrong)[2])

    def test_files_that_are_no_plans(self) -> None:
        for text, words in (
            ("", "holds no plan"), ("- a\n", "holds no plan"), ("a: [1\n", "no YAML"), ("a: \x00", "no YAML"),
            ("a: &x [1]\nb: *x\n", "Aliases are not read"), ("[" * 900_000, "nested more than 30 deep"), ("x" * 1_000_001, "at most"),
            ("maestoso: plan/1\n", "code is missing"), ("!!python/object:os.x {}", "no YAML"),
        ):  # fmt: skip
            with self.subTest(text[:20]):
                read = self.read(text)
                self.assertIsNone(read["plan"])
                problem = read["problems"][0]
                self.assertIn(words, f"{problem['sentence']} {problem['remedy']}")
                self.assertGreaterEqual(problem["line"], 1)

    def test_the_findings_of_a_file_are_those_of_its_plan(self) -> None:
        text = self.file().replace("- dir-01\n", "- mail-01\n", 1)
        codes = {finding["code"] for finding in self.read(text)["findings"]}
        self.assertIn("member-without-group", codes)

    def test_the_schema_is_published(self) -> None:
        schema = self.browser.get("/api/v1/plan-files/schema").json()
        self.assertEqual(schema["properties"]["maestoso"], {"const": "plan/1"})


class NewPlans(Tidewell):
    """Plans that are made, and what is refused."""

    def plan(self, **changes: Any) -> dict[str, Any]:
        made = {"code": "SIGN", "name": "Signs only", "source": "QUA", "target": "HIL", "rto_s": 900,
                "rpo_s": 300, "waves": [{"name": "All", "members": [{"workload": "signs-01"}]}]}  # fmt: skip
        return {"plan": {**made, **changes}}

    def test_a_plan_is_made_once(self) -> None:
        made = self.browser.send("POST", "/plans", self.plan())
        self.assertEqual((made.status_code, made.json()["version"]), (201, 1))
        detail = self.browser.get("/api/v1/plans/SIGN").json()
        self.assertEqual((detail["version"], detail["versions"][0]["author"]), (1, "ann"))
        self.assertIn(
            "SIGN", [plan["code"] for plan in self.browser.get("/api/v1/readiness").json()["plans"]]
        )
        self.problem(self.browser.send("POST", "/plans", self.plan()), 409, "refused")

    def test_what_cannot_be_is_refused(self) -> None:
        twice = [{"name": "All", "members": [{"workload": "signs-01"}, {"workload": "signs-01"}]}]
        for changes, status, code in (
            ({"code": "sign"}, 400, "bad-value"), ({"code": "S" * 20}, 400, "bad-value"),
            ({"target": "QUA"}, 400, "bad-value"), ({"target": "XXX"}, 400, "bad-value"),
            ({"waves": twice}, 409, "member-twice"), ({"rto_s": -1}, 409, "out-of-range"),
        ):  # fmt: skip
            with self.subTest(changes):
                self.problem(self.browser.send("POST", "/plans", self.plan(**changes)), status, code)

    def test_a_plan_is_retired_unless_it_runs(self) -> None:
        self.browser.send("POST", "/plans", self.plan())
        self.assertEqual(self.browser.send("DELETE", "/plans/SIGN").status_code, 204)
        self.problem(self.browser.get("/api/v1/plans/SIGN"), 404, "not-found")
        key = {"Idempotency-Key": "retire-while-running"}
        run = self.browser.send("POST", "/runs", {"plan": "HARB", "options": {"pace": 1}}, **key)
        self.assertEqual(run.status_code, 201, run.content[:300])
        refused = self.browser.send("DELETE", "/plans/HARB")
        self.assertIn("is under way", self.problem(refused, 409, "in-use")["detail"])

    def test_waves_are_suggested_with_reasons(self) -> None:
        names = ["web-01", "api-01", "db-book-01", "db-book-02", "name-01", "dir-01"]
        made = self.browser.send("POST", "/plan-suggestions", {"workloads": names}).json()
        self.assertEqual(made["waves"], ["Core", "Data", "App", "Web"])
        wave = {piece["workload"]: piece["wave"] for piece in made["pieces"] if piece["kind"] == "wave"}
        self.assertEqual([wave[name] for name in names], [3, 2, 1, 1, 0, 0])
        self.assertTrue(all(piece["reason"] for piece in made["pieces"]))
        self.problem(self.browser.send("POST", "/plan-suggestions", {"workloads": ["x"]}), 404, "not-found")

    def test_what_a_plan_lacks_is_suggested(self) -> None:
        plan = self.browser.get("/api/v1/plans/HARB").json()["plan"]
        pieces = self.browser.send("POST", "/plan-suggestions", {"plan": plan}).json()["pieces"]
        self.assertIn(("wave", "dir-01", 1), [(p["kind"], p["workload"], p["wave"]) for p in pieces])

    def test_an_older_version_says_what_changed_since(self) -> None:
        old = self.browser.get("/api/v1/plans/FLEET/versions/1").json()
        self.assertEqual(old["changes"], ["track-02 waits 30 s longer"])
        self.problem(self.browser.get("/api/v1/plans/FLEET/versions/9"), 404, "not-found")
