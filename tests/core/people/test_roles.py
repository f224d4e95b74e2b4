"""Roles and second signatures: rules without any records."""

from __future__ import annotations

import unittest
from datetime import UTC, datetime, timedelta

from maestoso.core.people.approvals import Answer, ApprovalRule, Signer, rule_for, state_of, why_not_answer
from maestoso.core.people.roles import (
    ANSWERS,
    BY_CODE,
    ROLES,
    RUN_LIVE,
    RUN_TESTS,
    SEE,
    WORDS,
    among,
    in_words,
    permissions_of,
    refusal,
    to_control,
    to_start,
    unknown_roles,
)
from maestoso.core.runs.controls import CONTROLS

NOON = datetime(2026, 11, 12, 12, tzinfo=UTC)
ADA, BO, CY = Signer(name="ada", mail="a@x.example"), Signer(name="bo", mail=""), Signer(name="cy", mail="")


class Roles(unittest.TestCase):
    def test_every_role_sees_and_every_permission_is_held_by_somebody(self) -> None:
        for role in ROLES:
            self.assertIn(SEE, role.permissions)
            self.assertLessEqual(role.permissions, set(WORDS))
        self.assertEqual(permissions_of(BY_CODE), set(WORDS))
        self.assertEqual(permissions_of(["emperor"]), frozenset())

    def test_only_who_may_move_production_steers_what_does(self) -> None:
        for kind in ("planned", "disaster", "re-protect"):
            self.assertEqual(to_start(kind), RUN_LIVE)
            for control in set(CONTROLS) - ANSWERS:
                self.assertEqual(to_control(kind, control), RUN_LIVE, control)
        self.assertEqual(to_start("test"), RUN_TESTS)
        self.assertLessEqual(ANSWERS, set(CONTROLS))

    def test_a_refusal_says_what_and_whom_to_ask(self) -> None:
        said, remedy = refusal(RUN_LIVE, ["viewer", "planner"], ["Cy", "Ada", "Bo", "Di"])
        self.assertEqual(
            said, "Your roles (viewer, planner) do not include: start, steer, commit and roll back live runs."
        )
        self.assertEqual(remedy, "Ask Ada, Bo or Cy, who may.")
        said, remedy = refusal(SEE, [], [])
        self.assertEqual(said, "You have no role, so you may not: see the estate, plans, runs and reports.")
        self.assertEqual(remedy, "Ask an administrator.")


class Named(unittest.TestCase):
    def test_people_are_named_by_name_or_by_role(self) -> None:
        for by, roles, wanted, right in (
            ("ada", (), (), True), ("ada", (), ("ada",), True), ("ada", ("operator",), ("bo",), False),
            ("ada", ("operator",), ("bo", "role:operator"), True), ("ada", ("viewer",), ("role:operator",), False),
            ("operator", (), ("role:operator",), False),
        ):  # fmt: skip
            with self.subTest(by=by, roles=roles, wanted=wanted):
                self.assertEqual(among(by, roles, wanted), right)

    def test_they_are_said_in_words_and_roles_that_are_none_are_found(self) -> None:
        self.assertEqual(in_words(("ada", "role:operator")), ("ada", "whoever is operator"))
        self.assertEqual(unknown_roles(("ada", "role:operator", "role:emperor"), BY_CODE), ["emperor"])


class Signatures(unittest.TestCase):
    def test_the_rule_of_the_plan_comes_before_that_of_every_plan(self) -> None:
        every = ApprovalRule(plan="", kind="planned", approvals=1, hours=8)
        none = ApprovalRule(plan="TEST", kind="planned", approvals=0, hours=8)
        two = ApprovalRule(plan="BOOK", kind="planned", approvals=2, hours=1)
        rules = (every, none, two)
        self.assertEqual(rule_for(rules, "BOOK", "planned"), two)
        self.assertEqual(rule_for(rules, "FLEET", "planned"), every)
        self.assertIsNone(rule_for(rules, "TEST", "planned"))
        self.assertIsNone(rule_for(rules, "BOOK", "disaster"))

    def test_how_a_request_stands(self) -> None:
        yes, no = Answer(by=BO, granted=True), Answer(by=CY, granted=False)
        soon, late = NOON + timedelta(hours=1), NOON + timedelta(hours=2)
        for needed, answers, closed, now, state in (
            (1, (), "", soon, "open"), (1, (yes,), "", soon, "granted"), (2, (yes,), "", soon, "open"),
            (1, (yes, no), "", soon, "refused"), (1, (yes,), "", late, "ended"), (1, (), "", late, "ended"),
            (1, (yes,), "used", late, "used"), (1, (no,), "withdrawn", soon, "withdrawn"),
        ):  # fmt: skip
            with self.subTest(needed=needed, answers=answers, closed=closed):
                self.assertEqual(state_of(needed, answers, NOON, 2, closed, now), state)

    def test_a_signature_is_that_of_somebody_else(self) -> None:
        twin = Signer(name="ada2", mail="A@x.example ")
        self.assertIn("yourself", why_not_answer(ADA, (), ADA))
        self.assertIn("same mail", why_not_answer(ADA, (), twin))
        self.assertEqual(why_not_answer(ADA, (), BO), "")
        self.assertIn("answered it already", why_not_answer(ADA, (Answer(by=BO, granted=True),), BO))
        other = Answer(by=Signer(name="bo", mail="b@x.example"), granted=True)
        self.assertIn("same mail", why_not_answer(ADA, (other,), Signer(name="bo2", mail="b@x.example")))
        # Without mails, two accounts are two people.
        self.assertEqual(why_not_answer(ADA, (Answer(by=BO, granted=True),), CY), "")


if __name__ == "__main__":
    unittest.main()
