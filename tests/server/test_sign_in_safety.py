"""What somebody could try at the door: fixed sessions, guessing names, fields that are not theirs, redirects."""

from __future__ import annotations

from typing import Any
from unittest import mock

from django.contrib.auth.hashers import MD5PasswordHasher
from django.contrib.auth.models import User

from maestoso.server.access.models import IdentityProvider, OutsideIdentity, RoleGrant
from tests.server.people import make_person
from tests.server.tidewell import PASSWORD, Browser, Tidewell


class AtTheDoor(Tidewell):
    def test_a_session_that_somebody_else_knows_is_not_signed_in(self) -> None:
        victim = Browser()
        victim.token = victim.get("/api/v1/session").json()["csrf"]
        # Signing in through a provider and with a passkey begin a session before anybody is known.
        victim.send("POST", "/session/passkey/options")
        known = victim.cookies["maestoso_session"].value
        self.assertEqual(victim.sign_in().status_code, 200)
        self.assertNotEqual(victim.cookies["maestoso_session"].value, known)
        attacker = Browser()
        attacker.cookies["maestoso_session"] = known
        self.assertEqual(attacker.get("/api/v1/session").json()["name"], "")

    def test_a_name_that_nobody_has_is_answered_like_a_wrong_password(self) -> None:
        make_person("invited", None, ["viewer"])
        outside = make_person("outside", None, ["viewer"])
        IdentityProvider.objects.create(pk=1, name="House", issuer="https://x.example", client_id="m")
        OutsideIdentity.objects.create(user=outside)
        make_person("gone", PASSWORD, ["viewer"])
        User.objects.filter(username="gone").update(is_active=False)
        said, work = set(), {}
        for name in ("ann", "nobody-at-all", "invited", "outside", "gone"):
            with mock.patch.object(
                MD5PasswordHasher, "encode", autospec=True, side_effect=MD5PasswordHasher.encode
            ) as hashed:
                reply = Browser().sign_in(name, "not her password")
            said.add((reply.status_code, reply.content))
            work[name] = hashed.call_count
        self.assertEqual(len(said), 1, said)
        # The same work is done for all, so that time tells nothing either.
        self.assertEqual(set(work.values()), {1}, work)

    def test_nobody_gives_themselves_what_the_form_does_not_ask_for(self) -> None:
        make_person("vera", PASSWORD, ["viewer"])
        vera = Browser()
        vera.sign_in("vera")
        own = {"full_name": "Vera", "mail": ""}
        more: tuple[dict[str, Any], ...] = (
            {"roles": ["administrator"]}, {"is_superuser": True}, {"is_staff": True}, {"name": "ann"},
            {"scopes": {}}, {"password": "another-good-passphrase"},
        )  # fmt: skip
        for extra in more:
            with self.subTest(extra):
                self.problem(vera.send("PUT", "/account", {**own, **extra}), 400, "bad-value")
        self.assertEqual(
            list(RoleGrant.objects.filter(user__username="vera").values_list("role", flat=True)), ["viewer"]
        )
        asked = {"name": "t", "roles": ["administrator"], "days": 1}
        self.problem(vera.send("POST", "/account/tokens", asked), 400, "bad-value")

    def test_no_address_leads_to_another_house(self) -> None:
        for path in (
            "//elsewhere.example/",
            "//elsewhere.example",
            "/\\elsewhere.example",
            "/sign-in/provider?next=//elsewhere.example",
        ):
            with self.subTest(path):
                reply = Browser().get(path)
                self.assertNotIn(reply.status_code, range(300, 400), reply.headers.get("Location"))
