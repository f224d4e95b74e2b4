"""Evidence files: what is touched is found and named, by us and by a stranger's tools."""

from __future__ import annotations

import json
import subprocess
import sys
import tempfile
import unittest
from dataclasses import replace
from datetime import timedelta
from pathlib import Path

from hypothesis import given, settings
from hypothesis import strategies as st
from joserfc.jwk import OKPKey

from maestoso.core.errors import BadValue
from maestoso.core.evidence.chain import written
from maestoso.core.evidence.check_by_hand import SCRIPT
from maestoso.core.evidence.evidence_file import evidence_file, verify
from maestoso.core.evidence.seal import seal_of, signed
from maestoso.core.runs.events import Event
from tests.player import finished_test

KEY = OKPKey.generate_key("Ed25519")
OTHER = OKPKey.generate_key("Ed25519")
LOG = finished_test().log


def a_file(log: list[Event] | None = None, sealed: list[Event] | None = None, key: OKPKey = KEY) -> str:
    """The evidence of ``log`` under a seal of ``sealed``."""
    seal = signed(seal_of("abc-1", 1, sealed or LOG), key)
    return evidence_file(seal, key.as_dict(private=False), [written(event) for event in log or LOG])


def trusted(*keys: OKPKey) -> dict[str, dict[str, object]]:
    """Public keys by thumbprint."""
    return {key.thumbprint(): key.as_dict(private=False) for key in keys}


class Verifying(unittest.TestCase):
    """Everything that can be done to a file is found."""

    def test_an_untouched_file_holds_and_says_whose_it_is(self) -> None:
        found = verify(a_file(), trusted(KEY, OTHER))
        self.assertTrue(found.holds, found.sentence)
        self.assertEqual((found.key, found.trusted), (KEY.thumbprint(), True))
        self.assertEqual(found.seal and found.seal.outcome, "passed")
        self.assertIsNone(verify(a_file()).trusted)

    def test_an_emergency_start_is_sealed_as_one(self) -> None:
        self.assertEqual(seal_of("abc-1", 1, LOG).emergency, "")
        why = "The ferry terminal burns and nobody answers the phone."
        started = replace(LOG[0], data={**LOG[0].data, "emergency": why})
        found = verify(a_file([started, *LOG[1:]], sealed=[started, *LOG[1:]]))
        self.assertEqual((found.holds, found.seal and found.seal.emergency), (True, why))

    @given(at=st.integers(0, len(LOG) - 1))
    @settings(max_examples=25)
    def test_a_touched_event_is_named_although_all_links_were_made_anew(self, at: int) -> None:
        touched = [*LOG[:at], replace(LOG[at], by="somebody else"), *LOG[at + 1 :]]
        found = verify(a_file(touched, sealed=LOG))
        self.assertEqual((found.holds, found.event), (False, at + 1))

    def test_a_missing_event_and_an_added_one_are_named(self) -> None:
        found = verify(a_file([*LOG[:4], *LOG[5:]]))
        self.assertEqual((found.holds, found.event), (False, 5))
        self.assertIn("Event 5 is missing", found.sentence)
        self.assertIn("are missing at the end", verify(a_file(LOG[:-2])).sentence)
        self.assertIn("was added", verify(a_file([*LOG, replace(LOG[-1], seq=len(LOG) + 1)])).sentence)

    def test_the_seal_of_another_run_and_of_another_key_are_found(self) -> None:
        ours, theirs = a_file().split("\n"), a_file(key=OTHER).split("\n")
        head, other = json.loads(ours[0]), json.loads(theirs[0])
        swapped = json.dumps({**head, "seal": other["seal"]})
        self.assertIn("another", verify("\n".join([swapped, *ours[1:]])).sentence)
        self.assertFalse(verify(a_file(key=OTHER), trusted(KEY)).holds)
        token = head["seal"][:-8] + ("AAAAAAAA" if not head["seal"].endswith("AAAAAAAA") else "BBBBBBBB")
        self.assertFalse(verify("\n".join([json.dumps({**head, "seal": token}), *ours[1:]])).holds)
        mixed = ".".join([head["seal"].rsplit(".", 1)[0], other["seal"].rsplit(".", 1)[1]])
        self.assertFalse(verify("\n".join([json.dumps({**head, "seal": mixed}), *ours[1:]])).holds)

    def test_a_clock_that_was_set_back_is_said(self) -> None:
        late = [*LOG[:5], replace(LOG[5], at=LOG[0].at - timedelta(hours=1)), *LOG[6:]]
        found = verify(a_file(late, sealed=late))
        self.assertEqual((found.holds, found.event), (False, 6))
        self.assertIn("a clock was set back", found.sentence)

    def test_what_is_no_evidence_is_refused(self) -> None:
        for text in ("", "{}", "[]", "null", "PK\x03\x04", '{"format": "other/1", "seal": "", "key": {}}'):
            with self.assertRaises(BadValue, msg=text):
                verify(text)
        self.assertFalse(
            verify(json.dumps({"format": "maestoso-evidence/1", "seal": "x.y", "key": {}})).holds
        )


class ByHand(unittest.TestCase):
    """A stranger has Python and OpenSSL, and nothing of ours."""

    def check(self, text: str) -> subprocess.CompletedProcess[str]:
        with tempfile.TemporaryDirectory() as folder:
            Path(folder, "check.py").write_text(SCRIPT, encoding="utf-8")
            Path(folder, "run.jsonl").write_text(text, encoding="utf-8")
            command = [sys.executable, "-I", "-S", "check.py", "run.jsonl", KEY.thumbprint()]
            return subprocess.run(command, cwd=folder, capture_output=True, text=True, check=False)

    def test_the_printed_steps_accept_what_holds_and_refuse_what_does_not(self) -> None:
        good = self.check(a_file())
        self.assertEqual(good.returncode, 0, good.stderr)
        self.assertIn("holds", good.stdout)
        touched = [*LOG[:6], replace(LOG[6], run_s=LOG[6].run_s + 1), *LOG[7:]]
        for text in (a_file(touched, sealed=LOG), a_file(LOG[:-1], sealed=LOG), a_file(key=OTHER)):
            self.assertNotEqual(self.check(text).returncode, 0)
        self.assertIn("event 7", self.check(a_file(touched, sealed=LOG)).stdout)


if __name__ == "__main__":
    unittest.main()
