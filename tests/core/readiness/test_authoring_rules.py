"""Findings about cues, parts, tags and the proof; and the mends that take them away."""

from __future__ import annotations

import re
import unittest
from dataclasses import replace
from datetime import timedelta
from ipaddress import ip_interface
from pathlib import Path

from maestoso.core.codec import to_data
from maestoso.core.estate.row import row_of
from maestoso.core.model.cue import Cue, Hold, Notify, Pause, Probe, ScriptCall
from maestoso.core.model.estate import Nic, Service
from maestoso.core.model.finding import Finding
from maestoso.core.model.plan import Member, Part, Plan, Wave
from maestoso.core.planning.inputs import ScriptText
from maestoso.core.planning.parts import expand_parts
from maestoso.core.readiness.assess import UNPLANNABLE, Options, assess, findings_of
from maestoso.core.readiness.context import Context, LastTest
from maestoso.core.readiness.mends import MENDS, fixed
from tests import worlds
from tests.core.planning.test_bring_up import CALL, SCRIPT, with_member
from tests.worlds import context

ROWS = {name: row_of(to_data(one), "A", "shop") for name, one in worlds.WORKLOADS.items()}
EMPTY = Cue(id="x", title="Nothing")
PAUSE = Cue(id="x", title="Rest", pause=Pause(seconds=0))


def cue(**changes: object) -> Plan:
    """The small plan with one cue behind its last wave."""
    made = replace(Cue(id="x", title="Cue", at="after"), **changes)  # type: ignore[arg-type]
    return worlds.with_cues(worlds.plan(), 2, made)


def proved(**changes: object) -> LastTest:
    """A test of yesterday of the plan as it is."""
    inputs = replace(worlds.inputs(), **changes)  # type: ignore[arg-type]
    return LastTest(ended_at=worlds.NOW - timedelta(days=1), version=1, verdict="passed", inputs=inputs)


def with_part(code: str, found: Plan | None) -> Context:
    """The small plan with one part."""
    laid = expand_parts(worlds.plan(parts=(Part(plan=code),)), lambda _: found)
    return context(plan=laid.plan, laid=laid)


def ruled(rule: str, *names: str) -> Plan:
    """A plan whose only wave has a tag rule."""
    members = tuple(Member(workload=name) for name in names)
    return worlds.plan(waves=(Wave(name="Data", tag_rule=rule, members=members),))


CORE = replace(worlds.plan((Member(workload="db"),)), code="CORE", name="Core")
AT_NOTHING = Probe(workload="ghost")
SELF = worlds.plan(parts=(Part(plan="SHOP"),))


class EachFinding(unittest.TestCase):
    """Code, severity, sentence; where a mend exists, it takes the finding away."""

    def expect(self, code: str, severity: str, ctx: Context, words: str) -> None:
        with self.subTest(code=code, words=words):
            found = [finding for finding in findings_of(ctx) if finding.code == code]
            self.assertTrue(found, f"{code} is not among {[f.code for f in findings_of(ctx)]}")
            self.assertEqual(found[0].severity, severity)
            self.assertIn(words, found[0].sentence)
            self.assertTrue(found[0].sentence.endswith(".") and found[0].mend.endswith("."))
            self.assertEqual(bool(found[0].fix), code in MENDS)

    def test_findings_about_cues(self) -> None:
        moved = replace(CALL, sha256="0" * 64)
        http = Probe(workload="web", status=99)
        for code, severity, ctx, words in (
            (
                "cue-malformed",
                "blocks",
                context(plan=worlds.with_cues(worlds.plan(), 0, EMPTY)),
                "is of no kind",
            ),
            (
                "cue-malformed",
                "blocks",
                context(plan=cue(pause=Pause(seconds=1), notify=Notify(text="x"))),
                "pause and",
            ),
            (
                "cue-malformed",
                "blocks",
                context(plan=worlds.with_cues(worlds.plan(), 0, PAUSE)),
                "length of the cue Rest is 0",
            ),
            ("cue-malformed", "blocks", context(plan=cue(hold=Hold(instruction=" "))), "instruction"),
            (
                "cue-malformed",
                "blocks",
                context(plan=cue(hold=Hold(instruction="Look.", who=("role:emperor",)))),
                "asks whoever is emperor, which is no role",
            ),
            ("cue-malformed", "blocks", context(plan=cue(probe=http)), "status of the cue Cue is 99"),
            (
                "cue-malformed",
                "blocks",
                context(plan=cue(kinds=(), pause=Pause(seconds=1))),
                "no kind of run",
            ),
            ("cue-malformed", "blocks", context(plan=cue(script=replace(CALL, ok_codes=()))), "exit codes"),
            (
                "cue-aims-outside",
                "blocks",
                context(plan=cue(probe=AT_NOTHING)),
                "ghost, which this plan does not",
            ),
            ("cue-aims-outside", "blocks", context(plan=cue(probe=Probe())), "names no workload"),
            (
                "cue-aims-outside",
                "blocks",
                context(plan=cue(at="before", probe=Probe(workload="web"))),
                "before web has power",
            ),
            (
                "cue-aims-outside",
                "blocks",
                context(
                    plan=worlds.with_cues(
                        worlds.plan(), 0, Cue(id="x", title="X", probe=Probe(workload="web"))
                    )
                ),
                "before web",
            ),
            (
                "cue-aims-outside",
                "blocks",
                context(plan=worlds.plan(cues=(Cue(id="x", title="X", probe=Probe(workload="db")),))),
                "before db",
            ),
            ("script-missing", "blocks", context(plan=cue(script=CALL)), "not in the script library"),
            (
                "script-changed",
                "blocks",
                context(plan=cue(script=moved), scripts={"hello": SCRIPT}),
                "not the one looked at",
            ),
            (
                "probe-address-moves",
                "warns",
                context(plan=cue(probe=Probe(address="10.1.0.14"))),
                "that is web now",
            ),
        ):
            if code == "cue-malformed":
                found = [f for f in findings_of(ctx) if f.code == code]
                self.assertTrue(found and any(words in f.sentence for f in found), words)
            else:
                self.expect(code, severity, ctx, words)
        stored = context(plan=cue(script=replace(CALL, secrets={"T": "token"})), scripts={"hello": SCRIPT})
        self.expect("secret-missing", "blocks", stored, "uses the secret token")
        kept = replace(stored, secrets=frozenset({"token"}))
        self.assertNotIn("secret-missing", [f.code for f in findings_of(kept)])

    def test_a_probe_of_an_address_that_stays_is_no_finding(self) -> None:
        ctx = context(plan=cue(probe=Probe(address="10.2.0.14")))
        self.assertNotIn("probe-address-moves", [f.code for f in findings_of(ctx)])

    def test_findings_about_parts_and_tags(self) -> None:
        other = replace(CORE, source="B", target="A")
        laid = expand_parts(SELF, lambda _: SELF)
        twice = replace(CORE, waves=(CORE.waves[0], replace(CORE.waves[0], members=())))
        tagged = context(plan=ruled("name:w* OR name:d*", "db"), rows=ROWS)
        for code, severity, ctx, words in (
            ("part-missing", "blocks", with_part("GONE", None), "the plan GONE, which does not exist"),
            ("part-other-way", "blocks", with_part("CORE", other), "does not go from A to B"),
            ("part-circle", "blocks", context(plan=laid.plan, laid=laid), "SHOP contains SHOP"),
            ("arrives-twice", "note", with_part("CORE", twice), "db arrives with Core and again with Shop"),
            ("workload-in-two-plans", "note", context(others={"db": ("Core",)}), "db is also in Core"),
            ("tag-brings", "warns", tagged, "web matches name:w* OR name:d* of wave 1"),
            (
                "tag-no-longer",
                "note",
                context(plan=ruled("name:w*", "db"), rows=ROWS),
                "does not match its rule",
            ),
            (
                "tag-rule-unreadable",
                "blocks",
                context(plan=ruled("(name:w", "db"), rows=ROWS),
                "cannot be read",
            ),
        ):
            self.expect(code, severity, ctx, words)

    def test_a_proof_is_stale_when_what_was_tested_is_not_what_there_is(self) -> None:
        estate = {**worlds.WORKLOADS, "db": replace(worlds.WORKLOADS["db"], cores=8)}
        walk = worlds.crosswalk()
        rule = replace(walk.address_rules[0], test=worlds.translate_to("10.2.0.0/24", "10.2.0.254"))
        script = replace(SCRIPT, sha256="1" * 64)
        ran = ScriptText(name="hello", interpreter="sh", text="echo", sha256="2" * 64)
        self.expect(
            "estate-changed-since-test", "warns", context(workloads=estate, last_test=proved()), "db (cores)"
        )
        self.expect(
            "landing-changed-since-test",
            "warns",
            context(crosswalk=replace(walk, address_rules=(rule,)), last_test=proved()),
            "db (adapters)",
        )
        called = cue(script=replace(CALL, sha256="1" * 64))
        self.expect(
            "script-changed-since-test",
            "warns",
            context(plan=called, scripts={"hello": script}, last_test=proved(scripts=(ran,))),
            "hello",
        )
        self.assertEqual(findings_of(context(last_test=proved())), ())

    def test_more_than_three_changes_are_counted(self) -> None:
        estate = {name: replace(one, cores=8) for name, one in worlds.WORKLOADS.items()}
        said = [f.sentence for f in findings_of(context(workloads=estate, last_test=proved()))]
        self.assertIn("Changed since the last test: db (cores), queue (cores), app (cores) and 1 more.", said)

    def test_a_timeout_below_what_boots_take(self) -> None:
        judged = assess(
            context(plan=with_member("db", ready_timeout_s=60)), Options(points={}), "t1", {}, samples=10
        )
        found = next(f for f in judged.findings if f.code == "ready-timeout-short")
        self.assertIn("db is given 60 s", found.sentence)
        self.assertEqual(found.fix, "Give it longer")
        better = fixed(context(plan=with_member("db", ready_timeout_s=60)), found)
        assert better is not None
        again = assess(context(plan=better), Options(points={}), "t1", {}, samples=10)
        self.assertNotIn("ready-timeout-short", [f.code for f in again.findings])

    def test_what_cannot_be_compiled_is_not_compiled(self) -> None:
        for plan in (cue(script=CALL), worlds.with_cues(worlds.plan(), 0, EMPTY), cue(probe=AT_NOTHING)):
            judged = assess(context(plan=plan), Options(points={}), "t1", {}, samples=10)
            self.assertIsNone(judged.graph)
            self.assertTrue(UNPLANNABLE & {finding.code for finding in judged.findings})


class Mends(unittest.TestCase):
    """One press changes the plan so that the finding is gone."""

    def mended(self, ctx: Context, code: str) -> Plan:
        found = next(finding for finding in findings_of(ctx) if finding.code == code)
        better = fixed(ctx, found)
        assert better is not None, found
        after = findings_of(replace(ctx, plan=better, laid=None))
        self.assertNotIn((code, found.subject), {(f.code, f.subject) for f in after})
        return better

    def test_each_mend_takes_its_finding_away(self) -> None:
        late = Nic(
            name="nic0",
            network="a-net",
            mac="02:00:00:00:00:0b",
            dns=("10.1.0.14",),
            addresses=(ip_interface("10.1.0.11/24"),),
        )
        lonely = replace(worlds.GROUP, members=("db", "queue", "app"))
        needs_web = {**worlds.WORKLOADS, "db": replace(worlds.WORKLOADS["db"], uses=("web-service",))}
        mute = {**worlds.WORKLOADS, "db": replace(worlds.WORKLOADS["db"], guest_agent=False)}
        mute_bare = {**mute, "db": replace(mute["db"], offers=())}
        names = replace(worlds.WORKLOADS["web"], offers=(Service(name="names", protocol="udp", port=53),))
        dns = {**worlds.WORKLOADS, "db": replace(worlds.WORKLOADS["db"], nics=(late,)), "web": names}
        by_beat = with_member("db", ready="heartbeat")
        moved = replace(CALL, sha256="0" * 64)
        rule = replace(
            worlds.crosswalk().address_rules[0],
            test=replace(worlds.translate_to("10.2.0.0/24"), dns=("10.2.0.14",)),
        )
        cases: list[tuple[str, Context]] = [
            ("member-twice", context(plan=worlds.plan((Member(workload="db"),) * 2))),
            ("workload-unknown", context(plan=worlds.plan((Member(workload="db", depends_on=("ghost",)), Member(workload="ghost"))))),
            ("member-without-group", context(groups=(lonely,))),
            ("delay-out-of-range", context(plan=with_member("db", delay_s=-5))),
            ("timeout-out-of-range", context(plan=with_member("db", ready_timeout_s=0))),
            ("dependency-cycle", context(plan=worlds.plan((Member(workload="db", depends_on=("app",)), Member(workload="app", depends_on=("db",)))))),
            ("dependency-outside", context(plan=with_member("app", depends_on=("ghost",)))),
            ("waits-for-later-wave", context(plan=with_member("db", depends_on=("web",)))),
            ("service-comes-later", context(workloads=needs_web)),
            ("dns-comes-later", context(workloads=dns, crosswalk=worlds.crosswalk(address_rules=(rule,)))),
            ("heartbeat-without-agent", context(workloads=mute, plan=by_beat)),
            ("heartbeat-without-agent", context(workloads=mute_bare, plan=by_beat)),
            ("script-missing", context(plan=cue(script=CALL))),
            ("script-changed", context(plan=cue(script=moved), scripts={"hello": SCRIPT})),
            ("cue-aims-outside", context(plan=cue(probe=AT_NOTHING))),
            ("probe-address-moves", context(plan=cue(probe=Probe(address="10.1.0.14")))),
            ("tag-brings", context(plan=ruled("name:w*", "db"), rows=ROWS)),
            ("tag-no-longer", context(plan=ruled("name:w*", "db", "web"), rows=ROWS)),
        ]  # fmt: skip
        for code, ctx in cases:
            with self.subTest(code):
                self.mended(ctx, code)

    def test_a_part_that_cannot_be_is_taken_out(self) -> None:
        for ctx in (with_part("GONE", None), with_part("CORE", replace(CORE, source="B", target="A"))):
            found = next(f for f in findings_of(ctx) if f.code.startswith("part-"))
            better = fixed(ctx, found)
            assert better is not None
            self.assertEqual(better.parts, ())

    def test_a_part_that_is_there_twice_is_kept_once(self) -> None:
        twice = (Part(plan="CORE"), Part(plan="CORE", opens="at-once"))
        laid = expand_parts(worlds.plan((Member(workload="web"),), parts=twice), lambda _: CORE)
        ctx = context(plan=laid.plan, laid=laid)
        found = next(f for f in findings_of(ctx) if f.code == "part-twice")
        better = fixed(ctx, found)
        assert better is not None
        self.assertEqual(better.parts, twice[:1])

    def test_a_provider_comes_to_the_wave_of_its_user_who_waits_for_it(self) -> None:
        estate = {**worlds.WORKLOADS, "db": replace(worlds.WORKLOADS["db"], uses=("web-service",))}
        better = self.mended(context(workloads=estate), "service-comes-later")
        where = {member.workload: (wave, member) for wave, member in better.members()}
        self.assertEqual((where["web"][0], where["db"][1].depends_on), (0, ("web",)))

    def test_what_is_wrong_inside_a_part_is_not_mended_from_outside(self) -> None:
        bad = replace(CORE, waves=(replace(CORE.waves[0], members=(Member(workload="db", delay_s=-1),)),))
        laid = expand_parts(worlds.plan((Member(workload="web"),), parts=(Part(plan="CORE"),)), lambda _: bad)
        found = next(
            f for f in findings_of(context(plan=laid.plan, laid=laid)) if f.code == "delay-out-of-range"
        )
        self.assertEqual(found.fix, "")

    def test_an_unknown_code_has_no_mend(self) -> None:
        finding = Finding(code="lag-over-rpo", severity="warns", subject="x", sentence="x.", mend="y.")
        self.assertIsNone(fixed(context(), finding))


class SizeAtTheTarget(unittest.TestCase):
    """A member may be smaller or larger at the target."""

    def test_the_landing_and_the_room_are_of_that_size(self) -> None:
        ctx = context(plan=with_member("db", cores=16, memory_mib=8192))
        landing = next(one for one in ctx.landed["test"].landings if one.workload == "db")
        self.assertEqual((landing.cores, landing.memory_mib), (16, 8192))

    def test_a_size_that_cannot_be_is_refused(self) -> None:
        found = [f for f in findings_of(context(plan=with_member("db", cores=0))) if f.code == "out-of-range"]
        self.assertIn("number of cores of db is 0", found[0].sentence)


CALL_HERE = ScriptCall(script="hello", sha256=SCRIPT.sha256, where="guest")


class Aims(unittest.TestCase):
    """A cue at a member is aimed at that member unless it says otherwise."""

    def test_after_a_member_it_may_ask_that_member(self) -> None:
        for at, wrong in (("after", False), ("before", True)):
            made = replace(Cue(id="x", title="X", script=CALL_HERE), at=at)
            ctx = context(plan=with_member("db", cues=(made,)), scripts={"hello": SCRIPT})
            self.assertEqual("cue-aims-outside" in [f.code for f in findings_of(ctx)], wrong)


class Documented(unittest.TestCase):
    """Every code of these rules stands in the documentation, with what one press does."""

    def test_every_code_is_documented(self) -> None:
        here = Path(__file__).resolve().parents[3]
        said = (here / "docs" / "plans.md").read_text(encoding="utf-8")
        known = set(re.findall(r"`([a-z-]+)`", said))
        rules = here / "src" / "maestoso" / "core" / "readiness"
        text = "".join(file.read_text(encoding="utf-8") for file in sorted(rules.glob("*_rules.py")))
        codes = set(re.findall(r'(?:blocks|warns|note)\(\s*"([a-z-]+)"', text))
        self.assertGreater(len(codes), 35)
        self.assertEqual(codes - known, set())
        self.assertEqual(set(MENDS) - known, set())
        for code, (words, _) in MENDS.items():
            self.assertRegex(said, rf"`{code}` \| [^|]+ \| {words} \|")
