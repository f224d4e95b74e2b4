"""Whether what was taken away, put in or written over by hand is noticed, whoever has the database."""

from __future__ import annotations

import base64
import io
import tempfile
import threading
import unittest
from dataclasses import replace
from datetime import timedelta
from pathlib import Path
from typing import Any
from unittest import mock

from django.core.management import call_command
from django.core.management.base import CommandError
from django.db import connection, connections, transaction
from django.test import TransactionTestCase

from maestoso.core.evidence.chain import ROOT, link, link_text
from maestoso.core.ports import Append
from maestoso.core.runs.events import Draft
from maestoso.core.runs.state import fold
from maestoso.engine.clock import SystemClock
from maestoso.server.audit import anchor
from maestoso.server.audit.models import AuditEntry, AuditHead, AuditSeal
from maestoso.server.audit.record import SEALED, written
from maestoso.server.audit.trail import SIGNED_EVERY, first_touched, keep_head, sign_head
from maestoso.server.common import seal_keys
from maestoso.server.common.snapshot import one_moment
from maestoso.server.config.settings import OPTIONS
from maestoso.server.evidence.integrity import register_troubles, run_troubles
from maestoso.server.evidence.models import Addition, RunRegister, Seal, Stone
from maestoso.server.evidence.register import begin_counting, next_number
from maestoso.server.evidence.services import remove_expired, seal_what_is_not
from maestoso.server.organisation.models import Organisation
from maestoso.server.runs.events import run_name
from maestoso.server.runs.log import DatabaseRunLog
from maestoso.server.runs.models import Run, RunEvent, RunStep
from maestoso.server.runs.projection import check_projection
from tests.server.test_evidence import WithHistory
from tests.server.test_run_log import make_run
from tests.server.tidewell import own_keys

CLOCK = SystemClock()


class Records(WithHistory):
    """The demo with its history, sealed by keys of its own."""

    def check(self) -> tuple[bool, str]:
        """Whether the command finds everything in order, and what it says."""
        out = io.StringIO()
        try:
            call_command("check_integrity", stdout=out)
        except CommandError:
            return False, out.getvalue()
        return True, out.getvalue()

    def assert_noticed(self, *sentences: str) -> None:
        holds, said = self.check()
        self.assertFalse(holds, said)
        for sentence in sentences:
            self.assertIn(sentence, said)

    def newest(self) -> Run:
        return Run.objects.order_by("-pk")[0]

    def test_what_nobody_touched_is_as_it_was_written(self) -> None:
        self.browser.send("POST", f"/runs/{self.passed}/notes", {"text": "Seen by the owner."})
        sign_head(CLOCK)
        holds, said = self.check()
        self.assertTrue(holds, said)
        self.assertIn("register of runs: as it was written\naudit trail: as it was written", said)

    def delete(self, pk: int) -> None:
        for model in (RunStep, RunEvent, Seal, Addition):
            model.objects.filter(run_id=pk).delete()
        Run.objects.filter(pk=pk).delete()

    def test_a_whole_run_that_was_deleted(self) -> None:
        for pk in (self.passed, self.newest().pk):
            with self.subTest(pk), transaction.atomic():
                self.delete(pk)
                self.assert_noticed(f"Run {pk} was taken away")
                transaction.set_rollback(True)

    def test_a_deleted_run_and_a_count_that_was_set_back(self) -> None:
        self.delete(self.newest().pk)
        RunRegister.objects.update(count=RunRegister.objects.get().count - 1)
        self.assert_noticed("The register of runs is not what was signed.")
        RunRegister.objects.all().delete()
        self.assert_noticed("There is no register of runs")
        next_number()
        self.assert_noticed("The register of runs was begun anew")

    def test_a_run_that_was_put_in(self) -> None:
        run = self.newest()
        Run.objects.create(
            id=run.pk + 1, plan_code="X", plan_name="X", plan_version=1, kind="test", source="A", target="B",
            started_by="x", started_at=run.started_at, rto_objective_s=1, chain_head=ROOT,
        )  # fmt: skip
        self.assert_noticed(f"Run {run.pk + 1} was put in")

    def test_a_start_that_is_refused_takes_no_number(self) -> None:
        before = RunRegister.objects.get().count
        body = {"plan": "BOOK", "options": {"pace": 20, "points": {"booking": "no-such-point"}}}
        self.browser.send("POST", "/runs", body, **{"Idempotency-Key": "refused"})
        self.assertEqual(RunRegister.objects.get().count, before)
        body = {"plan": "REPT", "options": {"pace": 20}}
        started = self.browser.send("POST", "/runs", body, **{"Idempotency-Key": "started"}).json()
        self.assertEqual(started["id"], before + 1)
        self.assertTrue(self.check()[0])

    def test_a_key_that_cannot_be_read_keeps_no_run_from_starting(self) -> None:
        before = RunRegister.objects.get().count
        with mock.patch.object(seal_keys, "current_key", side_effect=PermissionError("no")):
            self.assertEqual(next_number(), before + 1)
        self.assertEqual(next_number(), before + 2)
        troubles = list(register_troubles())  # that two runs are missing which this test never made
        self.assertFalse(
            [one for one in troubles if "not what was signed" in one], "the next one signs for both"
        )

    def test_a_run_that_was_marked_as_let_go_by_hand(self) -> None:
        RunEvent.objects.filter(run_id=self.failed).delete()
        RunStep.objects.filter(run_id=self.failed).delete()
        Run.objects.filter(pk=self.failed).update(removed_at=CLOCK.now())
        self.assert_noticed("It is marked as deleted, and nothing that was signed says so.")

    def test_a_run_that_was_let_go_has_a_stone_and_a_forged_one_is_none(self) -> None:
        Organisation.objects.update(keep_days=1)
        remove_expired(CLOCK)
        self.assertTrue(Run.objects.get(pk=self.passed).removed_at)
        holds, said = self.check()
        self.assertTrue(holds, said)
        Stone.objects.filter(run_id=self.passed).update(
            token=Stone.objects.exclude(run_id=self.passed)[0].token
        )
        self.assert_noticed("nothing that was signed says so")

    def test_a_forged_note_and_a_file_with_another_content(self) -> None:
        self.browser.send("POST", f"/runs/{self.passed}/notes", {"text": "All was well."})
        self.put("POST", f"/runs/{self.passed}/files?name=x.txt", b"as it was")
        self.assertTrue(self.check()[0])
        note, file = Addition.objects.order_by("number")
        Addition.objects.filter(pk=note.pk).update(text="Nothing was well.")
        self.assert_noticed("Note 1 is not what somebody added.")
        Addition.objects.filter(pk=note.pk).update(text="All was well.")
        Addition.objects.filter(pk=file.pk).update(body=b"as it is now")
        self.assert_noticed("File 2 has another content")

    def test_a_log_that_was_written_anew_with_its_chain_and_sealed_anew(self) -> None:
        """Who can make the application seal again still cannot take back what the trail says."""
        rows = list(RunEvent.objects.filter(run_id=self.failed).order_by("seq"))
        rows[-1].data = {**rows[-1].data, "outcome": "passed"}
        head = rows[-2].chain
        from maestoso.server.runs.events import to_event

        rows[-1].chain = link(head, to_event(rows[-1]))
        rows[-1].save()
        Run.objects.filter(pk=self.failed).update(chain_head=rows[-1].chain, outcome="passed")
        self.assert_noticed("seal")
        Seal.objects.filter(run_id=self.failed).delete()
        seal_what_is_not(CLOCK)
        self.assertTrue(Seal.objects.filter(run_id=self.failed).exists())
        self.assert_noticed("Its seal and the audit trail do not name each other")

    def test_an_entry_of_the_trail_that_was_changed(self) -> None:
        AuditEntry.objects.filter(number=2).update(by="somebody")
        self.assert_noticed("The audit trail is not what was written, from entry 2 on.")

    def test_a_trail_that_was_written_anew_from_somewhere_on(self) -> None:
        """All hashes fit again, but heads that were signed before do not."""
        sign_head(CLOCK)
        before = ROOT
        for entry in AuditEntry.objects.order_by("number"):
            entry.did = entry.did.replace(SEALED, "Sealed run")
            entry.chain = before = link_text(before, written(entry))
            entry.save()
        AuditHead.objects.update(chain=before)
        self.assert_noticed("was signed, and is not there as it was", "do not name each other")

    def test_heads_are_signed_now_and_then_and_when_the_trail_grew(self) -> None:
        sign_head(CLOCK)
        sign_head(CLOCK)
        self.assertEqual(AuditSeal.objects.count(), 1)
        later = mock.Mock(now=lambda: CLOCK.now() + SIGNED_EVERY + timedelta(seconds=1))
        sign_head(later)
        self.assertEqual(AuditSeal.objects.count(), 1)
        self.browser.send("PUT", "/run-views", {"name": "a", "query": ""})
        sign_head(CLOCK)
        self.assertEqual(AuditSeal.objects.count(), 1)
        sign_head(later)
        self.assertEqual(AuditSeal.objects.count(), 2)
        AuditSeal.objects.filter(index=1).delete()
        self.assert_noticed("The signed head 1 of the audit trail was taken away.")

    def test_a_trail_whose_end_was_cut_off_with_all_heads_that_name_it(self) -> None:
        file = Path(self.enterContext(tempfile.TemporaryDirectory())) / "heads"
        self.enterContext(mock.patch.object(anchor, "OPTIONS", replace(OPTIONS, audit_anchor=str(file))))
        self.assertEqual(self.kept()["problem"], "")
        self.browser.send("PUT", "/run-views", {"name": "a", "query": ""})
        keep_head(CLOCK)
        keep_head(CLOCK)
        self.assertEqual(len(file.read_text().split()), 1)
        self.assertEqual((self.kept()["entries"], self.kept()["problem"]), (AuditEntry.objects.count(), ""))
        # Lines that anybody added say nothing.
        body = base64.urlsafe_b64encode(b'{"entries": 9999, "head": "ff"}').decode().rstrip("=")
        file.write_text(f"not a token\na.b.c\n{'A' * 9000}\nx.{body}.y\n" + file.read_text())
        self.assertIsNone(first_touched())
        last = AuditEntry.objects.order_by("-number")[:2]
        cut, before = last[0], last[1]
        cut.delete()
        AuditHead.objects.update(number=before.number, chain=before.chain)
        AuditSeal.objects.all().delete()
        self.assertEqual(first_touched(), cut.number)
        self.assert_noticed(f"The audit trail is not what was written, from entry {cut.number} on.")

    def test_a_file_that_cannot_be_written_is_said(self) -> None:
        folder = self.enterContext(tempfile.TemporaryDirectory())
        self.enterContext(mock.patch.object(anchor, "OPTIONS", replace(OPTIONS, audit_anchor=folder)))
        with self.assertLogs("maestoso.audit"):
            keep_head(CLOCK)
        self.assertIn("could not be written", self.kept()["problem"])

    def kept(self) -> Any:
        """How the file stands that heads are kept in."""
        return self.browser.get("/api/v1/audit").json()["anchored"]

    def test_the_seal_carries_the_head_of_the_trail(self) -> None:
        from maestoso.server.evidence.sealing import read_seal

        said = read_seal(Seal.objects.get(run_id=self.passed))
        entry = AuditEntry.objects.get(number=said.audit_entries)
        self.assertEqual((entry.chain, entry.sent["head"]), (said.audit_head, said.head))


class OlderReleases(TransactionTestCase):
    """What was there before runs were counted."""

    def setUp(self) -> None:
        own_keys(self.addCleanup)

    def test_gaps_and_runs_that_were_let_go_are_taken_as_they_are_once(self) -> None:
        from tests.server import test_run_log

        with mock.patch.object(test_run_log, "next_number", iter([2, 5]).__next__):
            make_run()
            gone = make_run()
        Run.objects.filter(pk=gone.pk).update(removed_at=CLOCK.now(), outcome="passed")
        begin_counting(CLOCK.now())
        register = RunRegister.objects.get()
        self.assertEqual((register.count, register.missing), (5, [1, 3, 4]))
        self.assertTrue(Stone.objects.filter(run_id=5).exists())
        self.assertEqual(list(register_troubles()), [])
        begin_counting(CLOCK.now())
        self.assertEqual(RunRegister.objects.get().token, register.token)


class WhileRunsGoOn(TransactionTestCase):
    """The check raises no false alarm."""

    def setUp(self) -> None:
        own_keys(self.addCleanup)

    def test_what_is_written_between_two_looks_is_no_trouble(self) -> None:
        run = make_run()
        log = DatabaseRunLog()
        name = run_name(run.pk)

        def go_on() -> None:
            try:
                lease = log.claim(name, "one", 15)
                assert lease is not None
                state = fold(log.read(name))
                event = state.event(Draft(kind="run.held", data={"reason": "x"}), CLOCK.now())
                self.assertEqual(log.append([Append(lease=lease, events=[event])]), ["written"])
            finally:
                connections.close_all()

        def trouble(inside: Any) -> list[str]:
            with inside:
                seen = Run.objects.get(pk=run.pk)
                thread = threading.Thread(target=go_on)
                thread.start()
                thread.join()
                return [*check_projection(seen), *run_troubles(seen)]

        self.assertEqual(trouble(one_moment()), [])
        self.assertFalse(connection.in_atomic_block)
        self.assertNotEqual(trouble(transaction.atomic()), [], "without a snapshot it would be one")


if __name__ == "__main__":
    unittest.main()
