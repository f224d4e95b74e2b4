"""Passkeys: added with the password, signing in, and answers that are not good."""

from __future__ import annotations

import hashlib
import json
import secrets
from typing import Any

import cbor2
from cryptography.hazmat.primitives import hashes
from cryptography.hazmat.primitives.asymmetric import ec
from django.core.cache import cache
from webauthn.helpers import bytes_to_base64url

from maestoso.server.access.models import Passkey
from maestoso.server.audit.models import AuditEntry
from tests.server.people import make_person
from tests.server.tidewell import PASSWORD, Browser, Tidewell

PRESENT, VERIFIED, ATTESTED = 0x01, 0x04, 0x40


class Device:
    """An authenticator in software (WebAuthn level 2, sections 6.1 and 7): ES256, without attestation.

    What it says can be bent: ``origin``, ``site``, and ``verified`` whether it asked its owner.
    """

    def __init__(self) -> None:
        self.key = ec.generate_private_key(ec.SECP256R1())
        self.id = secrets.token_bytes(32)
        self.count = 0
        self.origin, self.site, self.verified = "http://testserver", "testserver", True

    def _said(self, kind: str, challenge: str) -> bytes:
        return json.dumps({"type": kind, "challenge": challenge, "origin": self.origin}).encode()

    def _data(self, flags: int, more: bytes = b"") -> bytes:
        self.count += 1
        flags |= PRESENT | (VERIFIED if self.verified else 0)
        return (
            hashlib.sha256(self.site.encode()).digest()
            + bytes([flags])
            + self.count.to_bytes(4, "big")
            + more
        )

    def _answer(self, response: dict[str, bytes]) -> str:
        shown = {name: bytes_to_base64url(value) for name, value in response.items()}
        own = bytes_to_base64url(self.id)
        return json.dumps({"id": own, "rawId": own, "type": "public-key", "response": shown})

    def make(self, options: str) -> str:
        """The answer to options for a new passkey."""
        numbers = self.key.public_key().public_numbers()
        x, y = numbers.x.to_bytes(32, "big"), numbers.y.to_bytes(32, "big")
        key = cbor2.dumps({1: 2, 3: -7, -1: 1, -2: x, -3: y})
        data = self._data(ATTESTED, bytes(16) + len(self.id).to_bytes(2, "big") + self.id + key)
        said = self._said("webauthn.create", json.loads(options)["challenge"])
        made = cbor2.dumps({"fmt": "none", "attStmt": {}, "authData": data})
        return self._answer({"clientDataJSON": said, "attestationObject": made})

    def sign(self, options: str) -> str:
        """The answer to options for signing in."""
        data, said = self._data(0), self._said("webauthn.get", json.loads(options)["challenge"])
        signature = self.key.sign(data + hashlib.sha256(said).digest(), ec.ECDSA(hashes.SHA256()))
        return self._answer({"clientDataJSON": said, "authenticatorData": data, "signature": signature})


class Passkeys(Tidewell):
    def setUp(self) -> None:
        super().setUp()
        self.device = Device()

    def begin(self, password: str = PASSWORD) -> Any:
        return self.browser.send("POST", "/account/passkeys/options", {"password": password})

    def add(self, device: Device | None = None, name: str = "my phone") -> Any:
        begun = self.begin()
        self.assertEqual(begun.status_code, 200, begun.content)
        credential = (device or self.device).make(begun.json()["options"])
        return self.browser.send("POST", "/account/passkeys", {"name": name, "credential": credential})

    def come(self, device: Device | None = None) -> tuple[Browser, Any]:
        """Sign in with the device, elsewhere."""
        cache.clear()
        browser = Browser()
        browser.token = browser.get("/api/v1/session").json()["csrf"]
        options = browser.send("POST", "/session/passkey/options").json()["options"]
        signed = (device or self.device).sign(options)
        return browser, browser.send("POST", "/session/passkey", {"credential": signed})

    def test_it_is_added_with_the_password_and_signs_in(self) -> None:
        self.problem(self.begin("something else"), 403, "wrong-sign-in")
        added = self.add()
        self.assertEqual(added.status_code, 201, added.content)
        self.assertEqual([one["name"] for one in added.json()["passkeys"]], ["my phone"])
        browser, reply = self.come()
        self.assertEqual((reply.status_code, reply.json()["name"]), (200, "ann"), reply.content)
        self.assertEqual(browser.get("/api/v1/plans").status_code, 200)
        newest = AuditEntry.objects.first()
        assert newest is not None
        self.assertEqual((newest.did, newest.sent["credential"]), ("Signed in with a passkey", "(not shown)"))

    def test_an_answer_is_good_once_and_in_the_browser_that_asked(self) -> None:
        self.add()
        browser, other = Browser(), Browser()
        for one in (browser, other):
            one.token = one.get("/api/v1/session").json()["csrf"]
        signed = self.device.sign(browser.send("POST", "/session/passkey/options").json()["options"])
        self.problem(other.send("POST", "/session/passkey", {"credential": signed}), 403, "wrong-passkey")
        reply = browser.send("POST", "/session/passkey", {"credential": signed})
        self.assertEqual(reply.status_code, 200)
        browser.token = reply.json()["csrf"]
        self.problem(browser.send("POST", "/session/passkey", {"credential": signed}), 403, "wrong-passkey")

    def test_answers_that_are_not_good_let_nobody_in(self) -> None:
        self.add()
        for what, bent in (
            ("of a page that imitates ours", {"origin": "https://maestoso.elsewhere.example"}),
            ("for another site", {"site": "elsewhere.example"}),
            ("without asking its owner", {"verified": False}),
        ):
            with self.subTest(what):
                for name, value in bent.items():
                    setattr(self.device, name, value)
                self.problem(self.come()[1], 403, "wrong-passkey")
                fresh = Device()
                for name in bent:
                    setattr(self.device, name, getattr(fresh, name))
        with self.subTest("of a device that nobody added"):
            self.problem(self.come(Device())[1], 403, "wrong-passkey")
        with self.subTest("signed by another key under its name"):
            thief = Device()
            thief.id = self.device.id
            thief.count = 100
            self.problem(self.come(thief)[1], 403, "wrong-passkey")
        with self.subTest("of a copy of the device, which has signed less often"):
            self.assertEqual(self.come()[1].status_code, 200)
            self.device.count = 0
            self.problem(self.come()[1], 403, "wrong-passkey")
        with self.subTest("no answer at all"):
            browser = Browser()
            browser.token = browser.get("/api/v1/session").json()["csrf"]
            browser.send("POST", "/session/passkey/options")
            self.problem(browser.send("POST", "/session/passkey", {"credential": "{}"}), 403, "wrong-passkey")

    def test_what_a_device_makes_is_checked_before_it_counts(self) -> None:
        self.device.origin = "https://elsewhere.example"
        self.problem(self.add(), 403, "wrong-passkey")
        self.assertFalse(Passkey.objects.exists())
        fresh = Device()
        self.assertEqual(self.problem(self.add(fresh, name=" "), 400, "bad-value")["field"], "name")
        self.assertEqual(self.add(fresh).status_code, 201)
        self.problem(self.add(fresh), 403, "wrong-passkey")

    def test_removed_or_disabled_it_lets_nobody_in(self) -> None:
        number = self.add().json()["passkeys"][0]["id"]
        ben = Browser()
        ben.sign_in("ben")
        self.problem(ben.send("DELETE", f"/account/passkeys/{number}"), 404, "not-found")
        ann = {"full_name": "Ann", "mail": "", "active": False, "roles": []}
        self.assertEqual(ben.send("PUT", "/people/ann", ann).status_code, 200)
        self.problem(self.come()[1], 403, "wrong-passkey")
        self.assertEqual(ben.send("PUT", "/people/ann", {**ann, "active": True}).status_code, 200)
        self.assertEqual(self.come()[1].status_code, 200)
        self.assertEqual(ben.send("DELETE", "/people/ann/second-factor").status_code, 200)
        self.problem(self.come()[1], 403, "wrong-passkey")

    def test_a_role_that_wants_two_factors_takes_a_passkey_and_then_no_password_alone(self) -> None:
        make_person("sam", PASSWORD, ["conductor"])
        self.browser.send("PUT", "/roles/conductor", {"second_factor": True})
        sam = Browser()
        self.assertIn("or with a passkey", sam.sign_in("sam").json()["restricted"])
        options = sam.send("POST", "/account/passkeys/options", {"password": PASSWORD}).json()["options"]
        sent = {"name": "key", "credential": self.device.make(options)}
        self.assertEqual(sam.send("POST", "/account/passkeys", sent).status_code, 201)
        self.assertEqual(sam.get("/api/v1/plans").status_code, 200)
        self.problem(Browser().sign_in("sam"), 403, "needs-passkey")
        self.assertEqual(self.come()[1].json()["restricted"], "")
