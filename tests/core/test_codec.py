"""Values to data and back."""

from __future__ import annotations

import json
import unittest
from datetime import UTC, datetime

from maestoso.core.codec import from_data, object_schema, to_data
from maestoso.core.errors import BadValue
from maestoso.core.model.crosswalk import Crosswalk
from maestoso.core.model.estate import Inventory
from maestoso.core.model.plan import Member, Plan
from maestoso.core.model.protection import RecoveryPoint
from maestoso.core.planning.inputs import RunInputs
from tests import worlds


class RoundTrip(unittest.TestCase):
    """What is written is read again as it was."""

    def test_every_kind_of_value_survives_json(self) -> None:
        values = [worlds.plan(), worlds.crosswalk(), worlds.target(), worlds.POINT, worlds.inputs()]
        kinds = [Plan, Crosswalk, Inventory, RecoveryPoint, RunInputs]
        for kind, value in zip(kinds, values, strict=True):
            with self.subTest(kind.__name__):
                self.assertEqual(from_data(kind, json.loads(json.dumps(to_data(value)))), value)


class Refusals(unittest.TestCase):
    """Bad data is named by field and value."""

    def refused(self, data: object, kind: type = Member) -> BadValue:
        with self.assertRaises(BadValue) as caught:
            from_data(kind, data)
        return caught.exception

    def test_a_misspelt_field_is_named_with_the_known_ones(self) -> None:
        error = self.refused({"workload": "db", "dealy_s": 3})
        self.assertEqual(error.field, "Member.dealy_s")
        self.assertIn("delay_s", error.remedy)

    def test_a_missing_field_is_named(self) -> None:
        self.assertEqual(self.refused({}).field, "Member.workload")

    def test_the_path_leads_to_the_value(self) -> None:
        data = to_data(worlds.plan())
        data["waves"][1]["members"][0]["delay_s"] = "soon"
        error = self.refused(data, Plan)
        self.assertEqual(error.field, "Plan.waves[1].members[0].delay_s")
        self.assertIn("'soon'", error.sentence)
        self.assertIn("whole number", error.sentence)

    def test_true_is_not_a_number_and_one_is_not_true(self) -> None:
        self.assertEqual(self.refused({"workload": "db", "delay_s": True}).field, "Member.delay_s")
        self.assertEqual(self.refused({"workload": "db", "power_on": 1}).field, "Member.power_on")

    def test_a_word_that_is_no_choice_names_the_choices(self) -> None:
        self.assertIn("go-on", self.refused({"workload": "db", "on_failure": "panic"}).sentence)

    def test_text_in_place_of_an_object_or_list_is_refused(self) -> None:
        self.refused("db")
        self.refused({"workload": "db", "depends_on": "app"})

    def test_a_naive_time_is_refused_at_the_door(self) -> None:
        data = {**to_data(worlds.POINT), "at": "2026-11-12T03:14:00"}
        self.assertIn("offset", self.refused(data, RecoveryPoint).sentence)

    def test_a_number_that_is_not_finite_is_refused(self) -> None:
        data = {**to_data(worlds.POINT), "anomaly": float("nan")}
        self.assertEqual(self.refused(data, RecoveryPoint).field, "RecoveryPoint.anomaly")

    def test_half_a_character_is_refused_wherever_it_stands(self) -> None:
        for data in ({"workload": "\ud800"}, {"\ud800": 1}, {"workload": "db", "depends_on": ["a\udfff"]}):
            said = self.refused(data)
            f"{said.sentence} {said.remedy} {said.field}".encode()  # or the refusal could not be sent

    def test_a_bad_prefix_is_refused_with_an_example(self) -> None:
        data = to_data(worlds.crosswalk())
        data["address_rules"][0]["prefix"] = "10.1.0.0/99"
        self.assertIn("10.20.4.0/24", self.refused(data, Crosswalk).sentence)

    def test_a_long_value_is_shortened_in_the_sentence(self) -> None:
        self.assertLess(len(self.refused({"workload": "db", "delay_s": "x" * 5000}).sentence), 200)


class Schema(unittest.TestCase):
    """The schema says what the codec does."""

    def test_what_is_sent_requires_only_fields_without_default(self) -> None:
        schema = object_schema(Member, lambda cls: {"$ref": cls.__name__}, complete=False)
        self.assertEqual(schema["required"], ["workload"])
        self.assertFalse(schema["additionalProperties"])

    def test_what_is_answered_has_every_field(self) -> None:
        schema = object_schema(Plan, lambda cls: {"$ref": cls.__name__}, complete=True)
        self.assertIn("waves", schema["required"])
        self.assertEqual(schema["properties"]["waves"], {"type": "array", "items": {"$ref": "Wave"}})

    def test_times_and_optional_values_are_told(self) -> None:
        schema = object_schema(RunInputs, lambda cls: {"$ref": cls.__name__}, complete=True)
        cleanup = schema["properties"]["cleanup_at"]
        self.assertEqual(cleanup, {"anyOf": [{"type": "string", "format": "date-time"}, {"type": "null"}]})

    def test_a_moment_keeps_its_offset(self) -> None:
        self.assertEqual(to_data(datetime(2026, 1, 2, tzinfo=UTC)), "2026-01-02T00:00:00+00:00")


if __name__ == "__main__":
    unittest.main()
