"""The estate over the API: searching, changing, drift, files, and bad input."""

from __future__ import annotations

import json
from dataclasses import replace
from typing import Any
from unittest import mock

from django.core.cache import cache

from maestoso.core.codec import to_data
from maestoso.core.estate.csv_file import COLUMNS
from maestoso.server.estate import agents
from maestoso.server.estate.agents import ask
from maestoso.server.estate.models import EstateMark, Site, WorkloadRow
from maestoso.server.jobs.models import Job
from maestoso.server.jobs.work import Stopped, Work, perform
from tests.core.estate.test_files import envelope, ova
from tests.server.tidewell import Tidewell


class EstateCase(Tidewell):
    """With shortcuts."""

    def get(self, path: str, status: int = 200) -> Any:
        """The body of a reply."""
        reply = self.browser.get(f"/api/v1{path}")
        self.assertEqual(reply.status_code, status, reply.content[:400])
        return reply.json()

    def names(self, text: str) -> list[str]:
        """What a filter finds."""
        reply = self.browser.get("/api/v1/workloads", {"filter": text})
        self.assertEqual(reply.status_code, 200, reply.content)
        return [row["name"] for row in reply.json()["rows"]]

    def bring(self, name: str, raw: bytes, **options: str) -> Any:
        """Begin an import."""
        query = "&".join(f"{key}={value}" for key, value in {"name": name, **options}.items())
        reply = self.browser.generic(
            "POST",
            f"/api/v1/imports?{query}",
            raw,
            content_type="application/octet-stream",
            headers={"X-CSRFToken": self.browser.token},
        )
        self.assertEqual(reply.status_code, 201, reply.content)
        return reply.json()

    def confirm(self, job: Any) -> Any:
        """Say yes to one."""
        reply = self.browser.send("POST", f"/imports/{job['id']}", {})
        self.assertEqual(reply.status_code, 200, reply.content)
        return reply.json()


class Searching(EstateCase):
    """The table."""

    def test_a_filter_finds_and_a_page_says_how_many_there_are(self) -> None:
        self.assertEqual(self.names("tier=web app=booking"), ["web-01", "web-02"])
        found = self.get("/workloads?filter=site:QUA&limit=2&offset=1&sort=-size")
        self.assertEqual((found["matched"], len(found["rows"])), (35, 2))
        sizes = [row["size_gib"] for row in found["rows"]]
        self.assertEqual(sizes, sorted(sizes, reverse=True))

    def test_a_filter_that_cannot_be_read_is_pointed_at(self) -> None:
        reply = self.browser.get("/api/v1/workloads", {"filter": "tier=web sit:QUA"})
        body = self.problem(reply, 400, "bad-filter")
        self.assertEqual((body["at"], body["length"], body["suggestion"]), (9, 7, "tier=web site:QUA"))

    def test_odd_numbers_and_sorts_are_refused(self) -> None:
        for query in ("limit=0", "limit=9999", "offset=-1", "limit=ten", "sort=colour"):
            with self.subTest(query):
                self.problem(self.browser.get(f"/api/v1/workloads?{query}"), 400, "bad-value")

    def test_filters_are_kept_by_person(self) -> None:
        saved = {"name": "bare", "text": "-protected"}
        self.assertEqual(self.browser.send("POST", "/filters", saved).status_code, 201)
        self.assertEqual(self.get("/filters"), [saved])
        self.problem(self.browser.send("POST", "/filters", {"name": "x", "text": "("}), 400, "bad-filter")
        self.assertEqual(self.browser.send("DELETE", "/filters/bare").status_code, 204)
        self.assertEqual(self.get("/filters"), [])

    def test_the_detail_says_needs_landing_and_history(self) -> None:
        detail = self.get("/workloads/pay-relay-01")
        needs = {one["service"]: (one["workload"], one["protected_by"]) for one in detail["needs"]}
        self.assertEqual(needs["mail"], ("mail-01", ""))
        self.assertEqual(detail["lands"]["nics"][0]["live"], "172.18.4.31/24 on hil-app")
        self.assertIn("BOOK", detail["plans"])
        mail = self.get("/workloads/mail-01")
        self.assertIn("pay-relay-01", [one["workload"] for one in mail["needed_by"]])
        self.problem(self.browser.get("/api/v1/workloads/nobody"), 404, "not-found")

    def test_the_map_of_uses_names_providers(self) -> None:
        uses = self.get("/uses")["uses"]
        self.assertIn({"user": "api-01", "service": "mail", "provider": "mail-01"}, uses)


class Changing(EstateCase):
    """Making, changing, retiring."""

    def workload(self, name: str = "fresh-01", **changes: Any) -> dict[str, Any]:
        """A workload like rig-01."""
        like = self.get("/workloads/rig-01")["workload"]
        nic = {**like["nics"][0], "mac": "02:aa:bb:cc:dd:01", "addresses": ["10.20.12.99/24"]}
        return {**like, "name": name, "nics": [nic], **changes}

    def test_a_workload_is_made_changed_and_retired(self) -> None:
        made = self.browser.send("POST", "/workloads", {"site": "QUA", "workload": self.workload()})
        self.assertEqual(made.status_code, 201, made.content)
        self.assertEqual(self.names("fresh"), ["fresh-01"])
        changed = self.browser.send(
            "PUT", "/workloads/fresh-01", {"workload": self.workload(cores=6)}, **{"If-Match": '"1"'}
        )
        self.assertEqual((changed.json()["workload"]["cores"], changed.json()["revision"]), (6, 2))
        stale = self.browser.send(
            "PUT", "/workloads/fresh-01", {"workload": self.workload(cores=7)}, **{"If-Match": '"1"'}
        )
        self.problem(stale, 412, "stale")
        self.assertEqual(self.browser.send("DELETE", "/workloads/fresh-01").status_code, 204)
        self.assertEqual(self.names("fresh"), [])

    def test_what_is_in_use_is_not_retired_and_says_by_what(self) -> None:
        body = self.problem(self.browser.send("DELETE", "/workloads/api-01"), 409, "in-use")
        self.assertIn("group booking-app protects it", body["detail"])
        self.assertIn("plan BOOK brings it up", body["detail"])
        for path, word in (
            ("/sites/QUA", "35 workloads"),
            ("/sites/QUA/networks/qua-app", "api-01 is on it"),
            ("/sites/HIL/storage-pools/hil-a", "the crosswalk QUA to HIL"),
            ("/sites/HIL/host-pools/hil-hosts", "the crosswalk QUA to HIL"),
            ("/links/HIL/QUA", "group harbour"),
        ):
            with self.subTest(path):
                self.assertIn(word, self.problem(self.browser.send("DELETE", path), 409, "in-use")["detail"])

    def test_bad_workloads_name_the_field(self) -> None:
        taken = self.get("/workloads/rig-02")["workload"]["nics"]
        for changes, field in (
            ({"cores": 0}, "body.workload.cores"),
            ({"disks": [{"name": "d", "size_gib": 1, "storage_pool": "nope"}]}, "body.workload.disks"),
            ({"nics": taken}, "body.workload.nics"),
            ({"name": "two words"}, "body.workload.name"),
            ({"cores": "many"}, "body.workload.cores"),
        ):
            with self.subTest(field):
                sent = {"site": "QUA", "workload": self.workload(**changes)}
                body = self.problem(self.browser.send("POST", "/workloads", sent), 400, "bad-value")
                self.assertEqual(body["field"], field)
        self.problem(
            self.browser.send("POST", "/workloads", {"site": "QUA", "workload": self.workload("rig-02")}),
            409,
            "refused",
        )

    def test_tags_of_many_change_at_once_or_not_at_all(self) -> None:
        sent = {"filter": "name:rig-*", "add": {"tier": "old"}, "remove": ["app"]}
        reply = self.browser.send("POST", "/workload-tags", sent)
        self.assertEqual(reply.json(), {"changed": 3})
        self.assertEqual(self.names("tier=old -tag:app"), ["rig-01", "rig-02", "rig-03"])
        gone = {"names": ["rig-01", "nobody"], "add": {"tier": "x"}}
        self.problem(self.browser.send("POST", "/workload-tags", gone), 404, "not-found")
        self.assertEqual(self.names("tier=x"), [])

    def test_networks_pools_and_links_are_made_and_changed(self) -> None:
        network = {"name": "nor-data", "vlan": 302, "prefixes": ["192.168.42.0/24"], "routes_to": ["nor-app"]}
        reply = self.browser.send("PUT", "/sites/NOR/networks/nor-data", network)
        self.assertEqual([n["name"] for n in reply.json()["networks"]], ["nor-app", "nor-data"])
        bad = self.browser.send("PUT", "/sites/NOR/networks/nor-data", {**network, "vlan": 9999})
        self.assertEqual(self.problem(bad, 400, "bad-value")["field"], "body.networks")
        # The practice site became what the records say, so nothing differs.
        self.assertEqual(self.get("/sites/NOR/drift")["differences"], [])
        self.assertEqual(self.browser.send("DELETE", "/sites/NOR/networks/nor-data").status_code, 204)
        link = {"one": "HIL", "other": "QUA", "bandwidth_bps": 5_000_000_000, "latency_ms": 3.0}
        self.assertEqual(self.browser.send("PUT", "/links", link).status_code, 200)
        self.assertEqual(len(self.get("/sites")["links"]), 3)
        self.problem(self.browser.send("PUT", "/links", {**link, "bandwidth_bps": 0}), 400, "bad-value")

    def test_an_agent_elsewhere_is_never_spoken_to(self) -> None:
        site = {"code": "FAR", "name": "Far", "agent_url": "http://far.example:80"}
        body = self.problem(self.browser.send("POST", "/sites", site), 400, "bad-value")
        self.assertIn("MAESTOSO_AGENT_HOSTS", body["remedy"])
        for url in ("", "file:///etc/passwd", "http://127.0.0.1@far.example", "http://[", "ftp://localhost"):
            with self.subTest(url):
                bad = self.browser.send("POST", "/sites", {**site, "agent_url": url})
                self.assertEqual(self.problem(bad, 400, "bad-value")["field"], "agent_url")
        dead = {**site, "agent_url": "http://127.0.0.1:9"}
        odd = self.browser.send("POST", "/sites", {**dead, "token": "clé"})
        self.assertEqual(self.problem(odd, 400, "bad-value")["field"], "body.token")
        self.problem(self.browser.send("POST", "/sites", dead), 409, "site-unreachable")
        self.assertFalse(Site.objects.filter(code="FAR").exists())

    def test_everything_needs_a_session(self) -> None:
        self.browser.logout()
        for path in ("/workloads", "/sites", "/groups", "/uses", "/filters", "/export?as=csv", "/imports/1"):
            with self.subTest(path):
                self.problem(self.browser.get(f"/api/v1{path}"), 403, "not-signed-in")


class Drift(EstateCase):
    """What an agent says otherwise."""

    def setUp(self) -> None:
        super().setUp()
        self.site = Site.objects.get(code="NOR")
        self.before = ask(self.site, lambda agent: agent.inventory())
        self.addCleanup(self.practise, self.before)

    def practise(self, inventory: Any) -> None:
        """Let the practice site have other things."""
        ask(self.site, lambda agent: agent.practise("inventory", to_data(inventory)))

    def test_differences_are_shown_field_by_field_and_taken_over_in_part(self) -> None:
        watch, relay = self.before.workloads
        fresh = replace(relay, name="fresh-01", nics=())
        self.practise(replace(self.before, workloads=(replace(watch, cores=16), fresh)))
        found = {one["id"]: one for one in self.get("/sites/NOR/drift")["differences"]}
        self.assertEqual(
            {key: one["change"] for key, one in found.items()},
            {"workload/watch-01": "changed", "workload/fresh-01": "new", "workload/relay-01": "gone"},
        )
        self.assertEqual(
            found["workload/watch-01"]["fields"], [{"field": "cores", "known": "2", "said": "16"}]
        )
        (nor,) = [site for site in self.get("/sites")["sites"] if site["code"] == "NOR"]
        self.assertEqual(nor["drifted"], 3)
        part = {"ids": ["workload/watch-01"]}
        self.assertEqual(self.browser.send("POST", "/sites/NOR/drift", part).json(), {"changed": 1})
        self.assertEqual(self.names("site:NOR cores=16"), ["watch-01"])
        self.problem(self.browser.send("POST", "/sites/NOR/drift", part), 404, "not-found")
        self.assertEqual(self.browser.send("POST", "/sites/NOR/drift", {}).json(), {"changed": 2})
        self.assertEqual(self.names("site:NOR"), ["fresh-01", "watch-01"])
        self.assertEqual(self.get("/sites/NOR/drift")["differences"], [])

    def test_an_odd_machine_is_a_finding_and_neither_refuses_all_nor_takes_what_is_known_away(self) -> None:
        watch, relay = self.before.workloads
        said = {**to_data(self.before), "workloads": [
            {**to_data(watch), "cores": "many"}, to_data(replace(relay, cores=16)), {"nics": 7}, "a machine",
            to_data(replace(relay, name="lost-01", nics=(replace(relay.nics[0], gateways=("north",)),))),
            to_data(replace(relay, name="db-book-01")), to_data(replace(relay, name="twice")),
            to_data(replace(relay, name="twice")), to_data(replace(relay, name="new-01", os_family="another")),
        ]}  # fmt: skip
        line = agents.client(self.site)
        with mock.patch.object(line, "_call", self.answering(line, said)):
            cache.clear()
            self.assertEqual(self.browser.send("POST", "/sites/NOR/drift", {}).json(), {"changed": 2})
            self.assertEqual(self.names("site:NOR"), ["new-01", "relay-01", "watch-01"])
            self.assertEqual(self.names("site:NOR cores=16"), ["relay-01"])
            (nor,) = [site for site in self.get("/sites")["sites"] if site["code"] == "NOR"]
            odd = {one["name"]: one["why"] for one in nor["odd"]}
            self.assertEqual(set(odd), {"watch-01", "number 3", "number 4", "lost-01", "db-book-01", "twice"})
            self.assertIn("workload.cores is 'many', which is not a whole number", odd["watch-01"])
            self.assertIn("'north' is no address", odd["lost-01"])
            self.assertIn("known at another site already", odd["db-book-01"])
            plan = next(plan for plan in self.get("/readiness")["plans"] if plan["target"] == "NOR")
            found = next(one for one in plan["findings"] if one["code"] == "machine-not-taken-over")
            self.assertIn("So it is with 5 things more.", found["sentence"])
        cache.clear()

    def answering(self, line: Any, inventory: Any) -> Any:
        """The line to an agent, which says another inventory."""
        call = line._call

        async def answer(method: str, path: str, **rest: Any) -> Any:
            told = await call(method, path, **rest)
            return (
                inventory
                if path == "/inventory"
                else {**told, "inventory": "x"}
                if path == "/pulse"
                else told
            )

        return answer

    def test_drift_is_on_the_board_and_a_finding_of_plans_that_touch_the_site(self) -> None:
        self.practise(replace(self.before, networks=()))
        cache.clear()
        board = self.get("/readiness")
        plan = next(plan for plan in board["plans"] if plan["target"] == "NOR")
        self.assertIn("inventory-drift", [finding["code"] for finding in plan["findings"]])
        action = next(a for a in board["actions"] if a["title"] == "NOR is not what the records say")
        self.assertEqual((action["label"], action["to"]), ("Look at it", "/estate/sites"))
        cache.clear()

    def test_a_site_that_lost_what_is_in_use_is_refused_in_words(self) -> None:
        hil = Site.objects.get(code="HIL")
        before = ask(hil, lambda agent: agent.inventory())
        try:
            gone = to_data(replace(before, workloads=()))
            ask(hil, lambda agent: agent.practise("inventory", gone))
            body = self.problem(self.browser.send("POST", "/sites/HIL/drift", {}), 409, "in-use")
            self.assertIn("group reporting", body["detail"])
        finally:
            ask(hil, lambda agent: agent.practise("inventory", to_data(before)))
        self.assertEqual(self.names("site:HIL"), ["reports-01", "ware-01"])


class Files(EstateCase):
    """Bringing in and taking out."""

    def test_what_is_exported_changes_nothing_when_it_comes_back(self) -> None:
        for kind in ("csv", "json"):
            with self.subTest(kind):
                reply = self.browser.get(f"/api/v1/export?as={kind}")
                raw = reply.content
                job = self.bring(f"estate.{kind}", raw)
                self.assertEqual((job["new"], job["changed"], job["bad"]), (0, 0, 0), job["complaints"])
                self.assertEqual(job["same"], 39)
                before = EstateMark.objects.get().mark
                self.assertEqual(self.confirm(job)["state"], "done")
                self.assertEqual(WorkloadRow.objects.filter(revision__gt=1).count(), 0)
                self.assertNotEqual(EstateMark.objects.get().mark, before)

    def test_good_rows_come_in_and_bad_ones_are_named_after_a_look(self) -> None:
        text = (
            "site,name,cores,memory_mib,disks,nics,tags\n"
            "QUA,new-01,2,2048,disk0:20@qua-bulk,nic0@qua-works mac=02:00:00:aa:00:01 dhcp,app=new\n"
            "QUA,new-02,2,2048,disk0:20@nowhere,,\n"
            "ZZZ,new-03,2,2048,,,\n"
            "QUA,rig-01,9,8192,disk0:100@qua-bulk,,app=works\n"
            "HIL,rig-02,4,8192,,,\n"
        )
        job = self.bring("more.csv", text.encode())
        self.assertEqual((job["state"], job["new"], job["changed"], job["bad"]), ("ready", 1, 1, 3))
        self.assertEqual(
            [(one["row"], one["column"]) for one in job["complaints"]],
            [(3, "disks"), (4, "site"), (6, "site")],
        )
        self.assertEqual(self.names("app=new"), [])
        self.assertEqual(self.confirm(job)["state"], "done")
        self.assertEqual(self.names("app=new"), ["new-01"])
        self.assertEqual(self.names("cores=9"), ["rig-01"])
        again = self.bring("more.csv", text.encode())
        self.assertEqual((again["new"], again["changed"], again["same"]), (0, 0, 2))
        self.problem(self.browser.send("POST", f"/imports/{job['id']}", {}), 409, "refused")

    def test_an_import_that_is_cancelled_writes_nothing(self) -> None:
        job = self.bring("one.csv", b"site,name,cores,memory_mib\nQUA,lone-01,1,1024\n")
        self.assertEqual(self.browser.send("DELETE", f"/imports/{job['id']}").json()["state"], "cancelled")
        self.problem(self.browser.send("POST", f"/imports/{job['id']}", {}), 409, "refused")
        self.assertEqual(self.names("lone"), [])

    def test_a_cancel_while_it_writes_takes_everything_back(self) -> None:
        job = self.bring("one.csv", b"site,name,cores,memory_mib\nQUA,lone-01,1,1024\n")

        def cancelled(at: Work) -> None:
            """As if somebody pressed cancel when everything was written and nothing committed."""
            self.assertEqual(self.names("lone"), ["lone-01"])
            raise Stopped

        with mock.patch.object(Work, "_check", cancelled):
            self.confirm(job)
        self.assertEqual(self.names("lone"), [])
        Job.objects.filter(state="working").update(cancel=True, until=None, state="waiting")
        perform(Job.objects.latest("id").pk, "another worker", renewing=False)
        self.assertEqual(self.get(f"/imports/{job['id']}")["state"], "cancelled")
        self.assertEqual(self.names("lone"), [])

    def test_an_estate_file_brings_networks_that_its_workloads_are_on(self) -> None:
        site = next(s for s in self.get("/sites")["sites"] if s["code"] == "NOR")
        row = {key: site[key] for key in ("code", "name", "kind", "time_zone", "storage_pools", "host_pools")}
        row["networks"] = [*site["networks"], {"name": "nor-lab", "vlan": 9, "prefixes": ["10.9.0.0/24"]}]
        nic = {"name": "nic0", "network": "nor-lab", "mac": "02:00:00:aa:00:09", "addresses": ["10.9.0.9/24"]}
        workload = {
            "site": "NOR",
            "name": "lab-01",
            "cores": 1,
            "memory_mib": 512,
            "disks": [],
            "nics": [nic],
        }
        estate = {"maestoso": "estate/1", "sites": [row], "workloads": [workload]}
        job = self.bring("lab.json", json.dumps(estate).encode())
        self.assertEqual((job["sites"], job["new"], job["bad"]), (["NOR"], 1, 0), job["complaints"])
        self.assertEqual(self.confirm(job)["state"], "done")
        self.assertEqual(self.names("network:nor-lab"), ["lab-01"])

    def test_an_ovf_comes_in_at_the_chosen_site_and_pool(self) -> None:
        raw = envelope({"name": "ovf-01"}, {"name": "ovf-02", "cores": "none"})
        job = self.bring("two.ovf", raw, site="QUA", storage_pool="qua-bulk", network="qua-works")
        self.assertEqual((job["new"], job["bad"]), (1, 1), job)
        self.assertEqual(job["complaints"][0]["column"], "cores")
        self.assertEqual(self.confirm(job)["state"], "done")
        detail = self.get("/workloads/ovf-01")
        self.assertEqual(detail["workload"]["disks"][0]["storage_pool"], "qua-bulk")
        self.assertEqual(detail["workload"]["nics"][0]["network"], "qua-works")
        again = self.bring("two.ova", ova(("two.ovf", raw)), site="QUA", storage_pool="qua-bulk")
        self.assertEqual(again["complaints"][0]["column"], "nics", again)

    def test_files_that_cannot_be_read_fail_in_words(self) -> None:
        for name, raw, said in (
            ("a.csv", b"\xff\xfe", "UTF-16"),
            ("a.json", b"[" * 100_000, "nested"),
            ("a.ovf", b"<!DOCTYPE x><Envelope/>", "Choose site"),
            ("a.ova", b"rubbish", "Choose site"),
            ("", b"", "'name' is missing"),
        ):
            with self.subTest(name):
                job = self.bring(name, raw)
                self.assertEqual(job["state"], "failed")
                self.assertIn(said, job["problem"])
        bomb = self.bring("a.ovf", b"<!DOCTYPE x><Envelope/>", site="QUA", storage_pool="qua-bulk")
        self.assertIn("document type", bomb["problem"])

    def test_the_header_of_an_export_has_all_columns(self) -> None:
        reply = self.browser.get("/api/v1/export?as=csv&filter=name:web-01")
        lines = reply.content.decode().splitlines()
        self.assertEqual((lines[0].split(","), len(lines)), (list(COLUMNS), 2))
        self.problem(self.browser.get("/api/v1/export?as=xml"), 400, "bad-value")


class Unknown(EstateCase):
    """Addresses with nothing behind them."""

    def test_they_say_so(self) -> None:
        for method, path in (("GET", "/imports/99"), ("DELETE", "/sites/NOPE"), ("DELETE", "/links/A/B")):
            with self.subTest(path):
                self.problem(self.browser.send(method, path), 404, "not-found")
