"""The keys that seal evidence: files of their own, made once, put out of use without losing what they sealed."""

from __future__ import annotations

import json
import tempfile
import threading
from pathlib import Path
from unittest import mock

from django.test import SimpleTestCase

from maestoso.core.evidence.seal import SealBroken, opened, signed
from maestoso.server.common import seal_keys


class Keys(SimpleTestCase):
    """In a folder of the test's own."""

    def setUp(self) -> None:
        folder = tempfile.TemporaryDirectory()
        self.addCleanup(folder.cleanup)
        self.folder = Path(folder.name) / "keys"
        patch = mock.patch("maestoso.server.common.seal_keys.FOLDER", self.folder)
        patch.start()
        self.addCleanup(patch.stop)

    def test_the_first_key_is_made_once_and_nobody_else_may_read_it(self) -> None:
        one, two = seal_keys.current_key().thumbprint(), seal_keys.current_key().thumbprint()
        self.assertEqual(one, two)
        self.assertEqual(self.folder.stat().st_mode & 0o777, 0o700)
        for file in self.folder.iterdir():
            self.assertEqual(file.stat().st_mode & 0o777, 0o600, file)

    def test_two_processes_that_start_at_once_use_the_same_key(self) -> None:
        gate, found = threading.Barrier(8), []

        def start() -> None:
            gate.wait()
            found.append(seal_keys.current_key().thumbprint())

        threads = [threading.Thread(target=start) for _ in range(8)]
        for thread in threads:
            thread.start()
        for thread in threads:
            thread.join()
        self.assertEqual(len(set(found)), 1)
        self.assertEqual(list(seal_keys.public_keys()), found[:1])

    def test_what_an_old_key_sealed_can_be_checked_and_it_seals_no_more(self) -> None:
        old = seal_keys.current_key()
        token = signed({"format": "x"}, old)
        new = seal_keys.rotate()
        self.assertEqual(seal_keys.current_key().thumbprint(), new)
        self.assertEqual(opened(token, seal_keys.public_keys()[old.thumbprint()]), {"format": "x"})
        kept = json.loads((self.folder / f"{old.thumbprint()}.json").read_text(encoding="utf-8"))
        self.assertLessEqual({"kty", "crv", "x"}, set(kept))
        self.assertNotIn("d", kept)

    def test_another_key_does_not_open_it_and_a_public_half_never_holds_the_private_one(self) -> None:
        token = signed({"format": "x"}, seal_keys.current_key())
        seal_keys.rotate()
        current = seal_keys.public_keys()[seal_keys.current_key().thumbprint()]
        with self.assertRaises(SealBroken):
            opened(token, current)
        self.assertTrue(all("d" not in key for key in seal_keys.public_keys().values()))
