"""A small OpenID provider on loopback, which can be made to answer falsely."""

from __future__ import annotations

import base64
import hashlib
import json
import logging
import threading
from collections.abc import Callable, Iterable
from io import BytesIO
from typing import Any
from urllib.parse import parse_qs

import httpx
import oidc_provider_mock
from joserfc import jwt
from joserfc.jwk import KeySet, RSAKey
from werkzeug.serving import make_server

for name in ("werkzeug", "oidc_provider_mock"):
    logging.getLogger(name).setLevel(logging.ERROR)


class Provider:
    """Knows people by their subject; its tokens are signed with ``key``, and ``published`` are its keys.

    ``change`` is what is done to the claims of a token before it is signed; ``verified`` says of each token
    request whether its code verifier fits the challenge that the sign-in began with (RFC 7636).
    """

    def __init__(self, people: dict[str, dict[str, Any]]) -> None:
        self.key = RSAKey.generate_key(2048, {"kid": "one", "use": "sig"})
        self.published = [self.key]
        self.change: Callable[[dict[str, Any]], dict[str, Any]] = dict
        self.challenge = ""
        self.verified: list[bool] = []
        users = [oidc_provider_mock.User(sub=sub, claims=claims) for sub, claims in people.items()]
        self._app = oidc_provider_mock.app(user_claims=users)
        self._app.debug = False
        self._server = make_server("127.0.0.1", 0, self._answer, threaded=True)
        self.issuer = f"http://127.0.0.1:{self._server.server_port}"
        self._thread = threading.Thread(target=self._server.serve_forever, args=(0.05,), daemon=True)
        self._thread.start()

    def close(self) -> None:
        """Stop answering."""
        self._server.shutdown()
        self._server.server_close()
        self._thread.join()

    def claims_of(self, sub: str, **claims: Any) -> None:
        """What the provider says of somebody from now on."""
        httpx.put(f"{self.issuer}/users/{sub}", json=claims).raise_for_status()

    def sign_in(self, address: str, sub: str) -> dict[str, str]:
        """Sign in where Maestoso sent the browser; what the browser is sent back with."""
        asked = {key: values[0] for key, values in parse_qs(httpx.URL(address).query.decode()).items()}
        self.challenge = asked["code_challenge"]
        reply = httpx.post(address, data={"sub": sub})
        back = httpx.URL(reply.headers["location"])
        return {"authorization_code": back.params["code"], "state": back.params["state"]}

    def _answer(self, environ: dict[str, Any], start: Callable[..., Any]) -> Iterable[bytes]:
        path = environ["PATH_INFO"]
        if path == "/jwks":
            keys = KeySet(self.published).as_dict(private=False)
            start("200 OK", [("Content-Type", "application/json")])
            return [json.dumps(keys).encode()]
        if path != "/oauth2/token":
            return self._app(environ, start)
        body = environ["wsgi.input"].read(int(environ["CONTENT_LENGTH"]))
        verifier = parse_qs(body.decode()).get("code_verifier", [""])[0]
        fits = base64.urlsafe_b64encode(hashlib.sha256(verifier.encode()).digest()).rstrip(b"=").decode()
        self.verified.append(fits == self.challenge)
        said: list[Any] = []
        parts = self._app({**environ, "wsgi.input": BytesIO(body)}, lambda *answer: said.append(answer))
        token = json.loads(b"".join(parts))
        if "id_token" in token:
            payload = token["id_token"].split(".")[1]
            claims = json.loads(base64.urlsafe_b64decode(payload + "=" * (-len(payload) % 4)))
            token["id_token"] = jwt.encode(
                {"alg": "RS256", "kid": self.key.kid}, self.change(claims), self.key
            )
        start(said[0][0], [("Content-Type", "application/json")])
        return [json.dumps(token).encode()]
