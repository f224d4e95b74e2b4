"""The committed contract is what the server does."""

from __future__ import annotations

import json
from pathlib import Path

from django.test import SimpleTestCase
from drf_spectacular.generators import SchemaGenerator

FILE = Path(__file__).resolve().parents[2] / "docs" / "openapi.json"


class Contract(SimpleTestCase):
    """docs/openapi.json."""

    maxDiff = 2000

    def test_the_committed_contract_is_the_one_the_server_would_make(self) -> None:
        made = json.loads(json.dumps(SchemaGenerator().get_schema(request=None, public=True)))
        self.assertEqual(
            made,
            json.loads(FILE.read_text(encoding="utf-8")),
            "Make it anew: python -m django spectacular --format openapi-json --file docs/openapi.json, "
            "then npm run types in web/.",
        )

    def test_everything_refers_to_what_is_there(self) -> None:
        text = FILE.read_text(encoding="utf-8")
        contract = json.loads(text)
        refs = {part.split('"')[0] for part in text.split("#/components/schemas/")[1:]}
        self.assertLessEqual(refs, set(contract["components"]["schemas"]))
        self.assertEqual(contract["openapi"], "3.1.0")
