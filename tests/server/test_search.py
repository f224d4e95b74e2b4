"""Finding anything by some words."""

from __future__ import annotations

from tests.server.tidewell import Tidewell


class Search(Tidewell):
    """Everything that the records know, each with its page."""

    history = True

    def found(self, text: str) -> set[tuple[str, str, str]]:
        """Kind, title and page of what is found."""
        hits = self.browser.get("/api/v1/search", {"find": text}).json()["hits"]
        return {(hit["kind"], hit["title"], hit["to"]) for hit in hits}

    def test_each_kind_is_found_by_what_people_know_of_it(self) -> None:
        for text, wanted in (
            ("booking end", ("plan", "Booking end to end", "/plans/BOOK")),
            ("BOOK", ("plan", "Booking end to end", "/plans/BOOK")),
            ("run 4", ("run", "Run 4: Fleet and signs", "/runs/4")),
            ("track-02", ("workload", "track-02", "/plans/FLEET?select=track-02")),
            ("track-02", ("workload", "track-02", "/estate?open=track-02")),
            ("hilltop", ("site", "Hilltop", "/estate/sites")),
            ("fleet group", ("group", "Fleet", "/protection/fleet")),
            ("203.0.113.10", ("site", "booking-front", "/estate/sites")),
            ("door web-01", ("site", "booking-front", "/estate/sites")),
        ):
            with self.subTest(text):
                self.assertIn(wanted, self.found(text))

    def test_a_workload_is_found_by_its_address(self) -> None:
        workload = self.browser.get("/api/v1/workloads/track-01").json()["workload"]
        address = workload["nics"][0]["addresses"][0].split("/")[0]
        self.assertIn(("workload", "track-01", "/estate?open=track-01"), self.found(address))

    def test_findings_are_found_each_sentence_once(self) -> None:
        board = self.browser.get("/api/v1/readiness").json()
        sentence = board["plans"][0]["findings"][0]["sentence"]
        titles = [
            hit["title"] for hit in self.browser.get("/api/v1/search", {"find": sentence}).json()["hits"]
        ]
        self.assertEqual(titles.count(sentence), 1)

    def test_all_words_must_be_there_and_none_finds_nothing(self) -> None:
        self.assertEqual(self.found("booking nowhere-at-all"), set())
        self.assertEqual(self.found("   "), set())

    def test_odd_words_do_no_harm(self) -> None:
        for text in ("run 99999999999999999999", "%", "\\", "'; --", "ß" * 500, "٣"):
            with self.subTest(text):
                self.assertEqual(self.browser.get("/api/v1/search", {"find": text}).status_code, 200)

    def test_nobody_finds_anything_without_signing_in(self) -> None:
        self.browser.logout()
        self.problem(self.browser.get("/api/v1/search", {"find": "BOOK"}), 403, "not-signed-in")
