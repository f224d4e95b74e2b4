"""Whether what was said between Maestoso and a site is what the site protocol has types for."""

from __future__ import annotations

import unittest

from maestoso.core.codec import from_data, to_data
from maestoso.practice.world import World
from maestoso.sites.verbs import REFUSALS, VERBS


def speaks_as_agreed(case: unittest.TestCase, *worlds: World) -> None:
    """Of all that these sites were asked: no argument without a type, no result that lacks something."""
    for world in worlds:
        for op in world.ops.values():
            verb, asked = VERBS[op.submission.verb], op.submission
            with case.subTest(verb=asked.verb, subject=asked.subject):
                from_data(verb.args, to_data(asked.args), "args")
                if op.status == "done":
                    from_data(verb.result, to_data(op.result), "result", tolerant=True)
                elif op.status == "failed" and op.fault is None:
                    case.assertIn(op.code, verb.refusals)
                    case.assertIn(op.code, REFUSALS)
