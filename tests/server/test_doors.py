"""Who is let in how often, from where, for how long; and what no request may carry."""

from __future__ import annotations

import asyncio
import gzip
import json
import threading
import unittest
from datetime import timedelta
from typing import Any
from unittest import mock

from django.contrib.auth.models import User
from django.contrib.sessions.models import Session
from django.core.cache import cache
from django.http import HttpRequest
from django.test import override_settings

from maestoso.engine.clock import SystemClock
from maestoso.server.access import proxies, sessions, tries, views
from maestoso.server.access.proxies import client_address, networks, note_address
from maestoso.server.access.tries import TooManyAtOnce, Tries
from maestoso.server.audit.models import AuditEntry
from maestoso.server.common.bounded import BoundedBodies
from maestoso.server.common.json_body import LARGEST_JSON
from maestoso.server.config.settings import OPTIONS
from tests.server.tidewell import PASSWORD, Browser, Tidewell

OVERRIDE = "\u202e"


class FromWhere(unittest.TestCase):
    """The word of a proxy counts only where a setting names it."""

    def test_nobody_is_believed_by_default(self) -> None:
        self.assertEqual(proxies.TRUSTED, ())
        request = HttpRequest()
        request.META |= {
            "REMOTE_ADDR": "127.0.0.1",
            "HTTP_X_FORWARDED_FOR": "203.0.113.9",
            "HTTP_FORWARDED": "for=1",
        }
        note_address(request)
        self.assertEqual(request.META["REMOTE_ADDR"], "127.0.0.1")
        self.assertFalse([name for name in request.META if "FORWARDED" in name])

    def test_that_it_came_by_tls_is_believed_of_a_named_proxy_only(self) -> None:
        trusted = networks("10.1.0.0/16")
        for peer, said, secure in (
            ("10.1.2.3", "https", True), ("10.1.2.3", "http, HTTPS", True), ("10.1.2.3", "https, http", False),
            ("10.1.2.3", "", False), ("203.0.113.9", "https", False),
        ):  # fmt: skip
            request = HttpRequest()
            request.META |= {"REMOTE_ADDR": peer, "HTTP_X_FORWARDED_PROTO": said}
            note_address(request, trusted)
            self.assertEqual(request.is_secure(), secure, (peer, said))

    def test_a_named_proxy_is_believed_and_what_came_before_it_is_not(self) -> None:
        trusted = networks("127.0.0.1, 10.1.0.0/16, ::1")
        for peer, chain, who in (
            ("127.0.0.1", "203.0.113.9", "203.0.113.9"),
            ("127.0.0.1", "6.6.6.6, 203.0.113.9", "203.0.113.9"),
            ("127.0.0.1", "203.0.113.9, 10.1.2.3", "203.0.113.9"),
            ("10.1.2.3", "", "10.1.2.3"),
            ("203.0.113.9", "6.6.6.6", "203.0.113.9"),
            ("127.0.0.1", "rubbish", "127.0.0.1"),
            ("127.0.0.1", "6.6.6.6, rubbish, 10.1.2.3", "10.1.2.3"),
            ("::1", "2001:db8::7", "2001:db8::7"),
            ("", "6.6.6.6", ""),
        ):
            with self.subTest(peer=peer, chain=chain):
                self.assertEqual(client_address(peer, chain, trusted), who)

    def test_what_is_no_address_is_no_setting(self) -> None:
        with self.assertRaises(ValueError):
            networks("10.0.0.0/8, nonsense")


class Slower(unittest.TestCase):
    """Wrong passwords make further tries slower, and lock nobody out."""

    def setUp(self) -> None:
        self.now = 0.0
        self.waited: list[float] = []
        self.tries = Tries(lambda: self.now, self.waited.append)

    def test_the_first_few_cost_nothing_then_it_doubles_up_to_an_end(self) -> None:
        for _ in range(12):
            self.tries.wait("ann")
            self.tries.failed("Ann")
        self.assertEqual(self.waited, [0.5, 1.0, 2.0, 4.0, 8.0, 8.0, 8.0])

    def test_it_is_over_after_a_while_or_when_somebody_came_in(self) -> None:
        for who in ("ann", "ben"):
            for _ in range(6):
                self.tries.failed(who)
        self.tries.succeeded("ann")
        self.assertEqual(self.tries.pause_s("ann"), 0.0)
        self.assertEqual(self.tries.pause_s("ben"), 1.0)
        self.now = 901.0
        self.assertEqual(self.tries.pause_s("ben"), 0.0)

    def test_only_a_few_wait_at_once(self) -> None:
        go, inside = threading.Event(), threading.Semaphore(0)

        def rest(_: float) -> None:
            inside.release()
            go.wait(30)

        tries_ = Tries(lambda: 0.0, rest)
        for _ in range(6):
            tries_.failed("ann")
        threads = [threading.Thread(target=tries_.wait, args=("ann",)) for _ in range(tries.MOST_WAITING)]
        for thread in threads:
            thread.start()
        for _ in threads:
            inside.acquire()
        with self.assertRaises(TooManyAtOnce):
            tries_.wait("ann")
        tries_.wait("ben")
        go.set()
        for thread in threads:
            thread.join()

    def test_names_that_nobody_has_do_not_fill_the_memory(self) -> None:
        with mock.patch.object(tries, "MOST_ACCOUNTS", 100):
            for number in range(1000):
                self.tries.failed(f"nobody-{number}")
        self.assertEqual(len(self.tries._failed), 100)


class SigningIn(Tidewell):
    """At the door."""

    def setUp(self) -> None:
        super().setUp()
        self.rested: list[float] = []
        patched = mock.patch.object(views, "TRIES", Tries(rest=self.rested.append))
        patched.start()
        self.addCleanup(patched.stop)

    def test_the_limit_of_an_address_is_not_passed_by_with_a_header(self) -> None:
        stranger = Browser()
        for number in range(12):
            stranger.defaults["HTTP_X_FORWARDED_FOR"] = f"203.0.113.{number}"
            last = stranger.sign_in("ann", "wrong")
        self.problem(last, 429, "too-many-tries")

    def test_an_address_in_the_trail_cannot_be_forged(self) -> None:
        self.browser.send(
            "PUT", "/run-views", {"name": "x", "query": ""}, **{"X-Forwarded-For": "203.0.113.1"}
        )
        self.assertEqual(AuditEntry.objects.first().address, "127.0.0.1")

    def test_tries_for_one_account_get_slower_and_a_browser_that_is_known_does_not(self) -> None:
        known = Browser()
        self.assertEqual(known.sign_in("ann").status_code, 200)
        for _ in range(8):
            cache.clear()  # as if each came from another address
            self.problem(Browser().sign_in("ann", "wrong"), 403, "wrong-sign-in")
        self.assertEqual(self.rested, [0.5, 1.0, 2.0])
        self.assertEqual(known.sign_in("ann").status_code, 200)
        self.assertEqual(self.rested, [0.5, 1.0, 2.0])
        self.assertEqual(Browser().sign_in("ann").status_code, 200)
        self.assertEqual(self.rested, [0.5, 1.0, 2.0, 4.0])

    def test_a_mark_that_was_forged_or_is_of_another_account_is_none(self) -> None:
        known = Browser()
        known.sign_in("ben")
        mark = known.cookies[tries.COOKIE].value
        request = HttpRequest()
        for value, name in ((mark, "ann"), (mark[:-1] + "x", "ben"), ("", "ben"), ("1:2:3", "ben")):
            request.COOKIES = {tries.COOKIE: value}
            self.assertEqual(tries.counted_as(request, name), name)
        request.COOKIES = {tries.COOKIE: mark}
        self.assertNotEqual(tries.counted_as(request, "ben"), "ben")

    def test_signing_in_wants_the_token_against_forged_requests(self) -> None:
        stranger = Browser()
        reply = stranger.send("POST", "/session", {"name": "ann", "password": PASSWORD})
        self.problem(reply, 403, "not-allowed")
        self.assertEqual(stranger.get("/api/v1/session").json()["name"], "")

    def test_what_was_refused_at_the_door_stands_in_the_trail(self) -> None:
        stranger = Browser()
        for _ in range(13):
            stranger.sign_in("ann", "wrong")
        self.browser.send("PUT", "/run-views", {"name": "x", "query": ""}, **{"X-CSRFToken": "wrong"})
        told = list(AuditEntry.objects.order_by("number").values_list("did", "by"))
        self.assertGreaterEqual(told.count(("Signed in (refused: wrong-sign-in)", "")), 5)
        self.assertEqual(told.count(("Signed in (refused: too-many-tries)", "")), 1)
        self.assertEqual(told[-1][0], "Saved a view of the runs (refused: not-allowed)")
        first = next(one for one in AuditEntry.objects.order_by("number") if "wrong-sign-in" in one.did)
        self.assertEqual(first.sent, {"name": "ann", "password": "(not shown)"})


class Lasting(Tidewell):
    """A session ends: by itself, with its password, with its account."""

    def signed_in(self) -> bool:
        return bool(self.browser.get("/api/v1/session").json()["name"])

    def later(self, **more: float) -> Any:
        clock = mock.Mock(now=lambda: SystemClock().now() + timedelta(**more))
        return mock.patch.object(sessions, "CLOCK", clock)

    def test_nobody_there_for_too_long(self) -> None:
        with self.later(minutes=OPTIONS.session_idle_minutes - 1):
            self.assertTrue(self.signed_in())
        with self.later(minutes=OPTIONS.session_idle_minutes + 1):
            self.assertTrue(self.signed_in())  # somebody was there at the time before
        with self.later(minutes=2 * OPTIONS.session_idle_minutes + 2):
            self.assertFalse(self.signed_in())

    def test_a_page_that_asks_by_itself_is_nobody(self) -> None:
        for hours in (2, 4, 6, 7.9):
            with self.later(hours=hours):
                reply = self.browser.get("/api/v1/session", headers={"Maestoso-Idle": str(int(hours * 3600))})
                self.assertTrue(reply.json()["name"])
        with self.later(hours=8.1):
            reply = self.browser.get("/api/v1/session", headers={"Maestoso-Idle": str(int(8.1 * 3600))})
            self.assertFalse(reply.json()["name"])

    def test_rubbish_about_idleness_is_no_trouble(self) -> None:
        for text in ("-5", "1e9", "\u0661", "9" * 50, ""):
            self.assertEqual(
                self.browser.get("/api/v1/session", headers={"Maestoso-Idle": text}).status_code, 200
            )

    def test_too_long_in_any_case(self) -> None:
        for hours in range(0, OPTIONS.session_hours, 4):
            with self.later(hours=hours):
                self.assertTrue(self.signed_in())
        with self.later(hours=OPTIONS.session_hours + 0.1):
            self.assertFalse(self.signed_in())

    def test_another_password_ends_every_session_of_the_account(self) -> None:
        key = self.browser.session.session_key
        self.assertEqual(sessions.ended([key]), set())
        ann = User.objects.get(username="ann")
        ann.set_password("another-long-passphrase")
        ann.save()
        self.assertEqual(sessions.ended([key]), {key})
        self.assertFalse(self.signed_in())

    def test_who_signed_out_or_was_switched_off_is_known_by_the_streams(self) -> None:
        ben = Browser()
        ben.sign_in("ben")
        key, other = self.browser.session.session_key, ben.session.session_key
        User.objects.filter(username="ben").update(is_active=False)
        self.assertEqual(sessions.ended([key, other, "never-was"]), {other, "never-was"})
        self.browser.send("DELETE", "/session")
        self.assertEqual(sessions.ended([key]), {key})
        self.assertFalse(Session.objects.filter(session_key=key).exists())

    def test_a_session_of_a_release_without_limits_is_over(self) -> None:
        self.assertTrue(sessions.over({"_auth_user_id": "1"}, SystemClock().now()))


class Bodies(Tidewell):
    """What a request may hold."""

    def post(self, text: str) -> Any:
        return self.browser.send("PUT", "/run-views", text)

    def test_what_is_too_large_is_said_to_be(self) -> None:
        self.problem(self.post('{"name": "' + "x" * LARGEST_JSON + '"}'), 413, "too-large")

    def test_endless_numbers_nan_and_deep_nests_are_no_json_of_ours(self) -> None:
        self.assertIn(
            "5000 digits", self.problem(self.post('{"name": ' + "1" * 5000 + "}"), 400, "bad-value")["detail"]
        )
        self.problem(self.post('{"name": 1.' + "1" * 5000 + "}"), 400, "bad-value")
        self.problem(self.post('{"name": NaN}'), 400, "not-json")
        self.problem(self.post("[" * 100_000), 400, "not-json")
        self.problem(self.post("\udcff".encode(errors="surrogatepass").decode("latin-1")), 400, "not-json")

    def test_a_key_that_stands_twice_is_refused(self) -> None:
        body = self.problem(self.post('{"name": "a", "query": "", "name": "b"}'), 400, "bad-value")
        self.assertEqual(
            (body["detail"], body["field"]), ("The key 'name' stands twice in one object.", "name")
        )

    def test_nothing_turns_texts_round(self) -> None:
        turned = json.dumps({"name": f"safe{OVERRIDE}txt", "query": ""})
        body = self.problem(self.post(turned), 400, "bad-value")
        self.assertEqual(body["field"], "body.name")
        self.assertIn("U+202E", body["detail"])
        self.problem(self.browser.get("/api/v1/audit", {"find": OVERRIDE}), 400, "bad-value")
        script = {"interpreter": "sh", "text": f"echo {OVERRIDE}", "note": ""}
        self.problem(self.browser.send("PUT", "/scripts/x", script), 400, "bad-value")
        file = f"name,site\nweb{OVERRIDE}-09,QUA\n".encode()
        reply = self.browser.generic(
            "POST", "/api/v1/imports?name=x.csv&site=QUA", file, content_type="application/octet-stream",
            headers={"X-CSRFToken": self.browser.token},
        )  # fmt: skip
        self.assertIn("U+202E", reply.content.decode())

    def test_what_the_api_says_is_kept_by_no_cache(self) -> None:
        for address in ("/api/v1/readiness", "/api/v1/session", "/api/v1/nonsense", "/api/v1/openapi.json"):
            self.assertEqual(self.browser.get(address).headers["Cache-Control"], "no-store", address)


class Compressed(Tidewell):
    """What is long and no secret comes compressed, where that is understood."""

    def get(self, path: str, **headers: str) -> Any:
        return self.browser.get(f"/api/v1{path}", headers={"Accept-Encoding": "gzip", **headers})

    def test_a_long_answer_is_compressed_and_its_tag_is_good_for_a_change(self) -> None:
        plain, packed = self.browser.get("/api/v1/plans/BOOK"), self.get("/plans/BOOK")
        self.assertEqual((packed["Content-Encoding"], packed["Vary"].count("Accept-Encoding")), ("gzip", 1))
        self.assertEqual(json.loads(gzip.decompress(packed.content)), plain.json())
        self.assertLess(len(packed.content), len(plain.content) // 2)
        plan = {**plain.json()["plan"], "notes": "Other notes."}
        saved = self.browser.send("PUT", "/plans/BOOK", {"plan": plan}, **{"If-Match": packed["ETag"]})
        self.assertEqual(saved.status_code, 201, saved.content)
        group = self.get("/groups/harbour")
        body = {"group": {**json.loads(gzip.decompress(group.content))["group"], "name": "Harbour heart"}}
        saved = self.browser.send("PUT", "/groups/harbour", body, **{"If-Match": group["ETag"]})
        self.assertEqual(saved.status_code, 200, saved.content)

    def test_what_gives_a_secret_away_and_what_is_packed_already_is_not(self) -> None:
        for path in ("/session", "/drills/feed"):
            self.assertNotIn("Content-Encoding", self.get(path), path)
        self.assertNotIn("Content-Encoding", self.get("/plans/BOOK/run-book.pdf"))


class BeforeAnythingIsRead(unittest.TestCase):
    """The bound on bodies in front of the application."""

    def ask(self, parts: list[bytes], length: str | None = None) -> tuple[int, int]:
        """The status, and how many bytes the application saw."""
        seen, said = [], []
        left = list(parts)

        async def app(scope: Any, receive: Any, send: Any) -> None:
            while True:
                message = await receive()
                if message["type"] == "http.disconnect":
                    return
                seen.append(message["body"])
                if not message["more_body"]:
                    break
            await send({"type": "http.response.start", "status": 200, "headers": []})

        async def receive() -> Any:
            return {"type": "http.request", "body": left.pop(0), "more_body": bool(left)}

        async def send(message: Any) -> None:
            said.append(message)

        headers = [] if length is None else [(b"content-length", length.encode())]
        asyncio.run(BoundedBodies(app, 10)({"type": "http", "headers": headers}, receive, send))
        return said[0]["status"], sum(map(len, seen))

    def test_what_fits_passes_and_what_does_not_is_refused_before_or_while_it_comes(self) -> None:
        self.assertEqual(self.ask([b"12345", b"12345"], "10"), (200, 10))
        self.assertEqual(self.ask([b"x"], "11"), (413, 0))
        self.assertEqual(self.ask([b"x"], "rubbish"), (413, 0))
        self.assertEqual(self.ask([b"12345", b"12345", b"6"]), (413, 10))


class TheAgentForm(Tidewell):
    """Registering a site tells nobody what else listens on this machine."""

    def test_what_does_not_answer_as_an_agent_is_all_the_same(self) -> None:
        import socket

        listens = socket.create_server(("127.0.0.1", 0))
        self.addCleanup(listens.close)
        shut = socket.create_server(("127.0.0.1", 0))
        port = shut.getsockname()[1]
        shut.close()
        agent = self.sites.urls["HIL"]
        found = set()
        with mock.patch("maestoso.server.estate.trust.time.sleep") as slept:
            for url in (
                f"http://127.0.0.1:{port}", f"http://127.0.0.1:{listens.getsockname()[1]}",
                agent.replace("http:", "https:"),
            ):  # fmt: skip
                body = {
                    "code": "NEW", "name": "New", "kind": "cloud", "time_zone": "UTC", "agent_url": url, "token": "no",
                }  # fmt: skip
                said = self.problem(self.browser.send("POST", "/sites", body), 409, "site-unreachable")
                found.add(said["detail"].replace(url, "URL"))
        self.assertEqual(found, {"No site agent that knows this token answers at URL."})
        # Whatever was quicker than silence waits until it is as slow.
        self.assertEqual(slept.call_count, 3)
        told = self.problem(
            self.browser.send("POST", "/sites", {**body, "agent_url": agent}), 409, "agent-not-trusted"
        )
        self.assertIn("does not know this token", told["detail"], "of an agent it is said")


@override_settings(ALLOWED_HOSTS=["*"])
class Cookies(Tidewell):
    """The mark of a known browser."""

    def test_it_goes_to_the_door_only_and_no_script_reads_it(self) -> None:
        mark = self.browser.cookies[tries.COOKIE]
        self.assertEqual((mark["path"], mark["samesite"], mark["httponly"]), ("/api/v1/session", "Lax", True))


if __name__ == "__main__":
    unittest.main()
