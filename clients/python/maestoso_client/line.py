"""Requests and answers over HTTP, with the standard library alone."""

from __future__ import annotations

import json
import ssl
import urllib.error
import urllib.request
from collections.abc import Mapping
from typing import Any
from urllib.parse import quote, urlencode

ANSWER_S = 60.0


class Refused(Exception):
    """The application answered that it will not: ``status`` and ``code`` say which refusal, ``detail`` what
    is wrong, ``remedy`` what to do, ``field`` where."""

    def __init__(self, status: int, said: Mapping[str, Any]) -> None:
        self.status = status
        self.code = str(said.get("code", ""))
        self.detail = str(said.get("detail", "") or f"It answered {status}.")
        self.remedy = str(said.get("remedy", ""))
        self.field = str(said.get("field", ""))
        super().__init__(f"{self.detail} {self.remedy}".strip())


class NotReached(Exception):
    """Nothing is known of what it did: nobody answered, or not as the application does."""


class _NoRedirects(urllib.request.HTTPRedirectHandler):
    """A token goes where it was sent, and nowhere else."""

    def redirect_request(self, *args: Any) -> None:
        """None: the redirect is the answer."""
        return


class Line:
    """Speaks to one installation."""

    def __init__(self, address: str, token: str, *, ca: str = "", answer_s: float = ANSWER_S) -> None:
        if not address.startswith(("https://", "http://")):
            raise ValueError(f"{address!r} is no address. Write it as https://maestoso.example.")
        self.address = address.rstrip("/")
        self.answer_s = answer_s
        self._token = token
        trusting = ssl.create_default_context(cafile=ca or None)
        self._opener = urllib.request.build_opener(
            _NoRedirects, urllib.request.HTTPSHandler(context=trusting), urllib.request.ProxyHandler({})
        )

    @staticmethod
    def part(text: object) -> str:
        """Something as a part of a path."""
        return quote(str(text), safe="")

    def ask(
        self,
        method: str,
        path: str,
        *,
        query: Mapping[str, str] | None = None,
        headers: Mapping[str, str] | None = None,
        body: Any = None,
        raw: bool = False,
    ) -> Any:
        """JSON as Python has it; with ``raw``, anything else as bytes; None where there is no content.

        Raises Refused or NotReached.
        """
        asked = {name: value for name, value in (query or {}).items() if value != ""}
        url = f"{self.address}/api/v1{path}" + (f"?{urlencode(asked)}" if asked else "")
        binary = isinstance(body, bytes)
        data = body if binary or body is None else json.dumps(body).encode()
        told = {"Authorization": f"Bearer {self._token}", "Accept": "*/*"}
        if data is not None:
            told["Content-Type"] = "application/octet-stream" if binary else "application/json"
        told |= {name: value for name, value in (headers or {}).items() if value != ""}
        request = urllib.request.Request(url, data=data, headers=told, method=method)
        try:
            with self._opener.open(request, timeout=self.answer_s) as answer:
                kind, content = answer.headers.get("Content-Type", "").split(";")[0], answer.read()
                if kind.endswith("json"):
                    return json.loads(content)
                if content and not raw:
                    raise ValueError(f"it answered {kind or 'something'}, and not as Maestoso does")
                return content or None
        except urllib.error.HTTPError as error:
            raise _refusal(error, url) from error
        except (OSError, ValueError) as error:
            why = getattr(error, "reason", "") or error
            raise NotReached(f"{self.address} was not reached: {why}.") from error


def _refusal(error: urllib.error.HTTPError, url: str) -> Exception:
    try:
        said = json.loads(error.read())
    except (OSError, ValueError):
        said = None
    if isinstance(said, dict) and "code" in said:
        return Refused(error.code, said)
    return NotReached(f"{url} answered {error.code}, and not as Maestoso does.")
