"""Words in sentences."""

from __future__ import annotations

import unittest

from maestoso.core.wording import plain


class Plain(unittest.TestCase):
    def test_markdown_is_one_line_without_its_marks(self) -> None:
        for markdown, said in (
            ("Call them and **wait on the line** until they have\n\n1. paid,\n2. seen it clear.\n",
             "Call them and wait on the line until they have paid, seen it clear."),
            ("# Look\n\n> at `db-01`\n- and web_01 * 2", "Look at db-01 and web_01 * 2"),
            ("In 1999. It was so.", "In 1999. It was so."),
        ):  # fmt: skip
            self.assertEqual(plain(markdown), said)
