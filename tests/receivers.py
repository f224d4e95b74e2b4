"""Real receivers for tests of messages: a mail server, and a program that is called over HTTP."""

from __future__ import annotations

import http.server
import ssl
import threading
from collections.abc import Callable, Mapping
from email import message_from_bytes
from email.message import Message
from email.policy import default
from pathlib import Path
from typing import Any

from aiosmtpd.controller import Controller
from aiosmtpd.smtp import AuthResult, LoginPassword

from tests.ports import free_port


class MailServer:
    """A server for mail on loopback; with ``login``, only for who knows it; with ``pem``, by STARTTLS only.

    It does not know ``refused`` addresses.
    """

    def __init__(self, login: tuple[str, str] | None = None, pem: Path | None = None) -> None:
        self.letters: list[Message] = []
        self.refused: set[str] = set()
        self.port = free_port()

        def authenticate(*asked: Any) -> AuthResult:
            given: LoginPassword = asked[-1]
            known = login is not None and (given.login.decode(), given.password.decode()) == login
            return AuthResult(success=known)

        self._controller = Controller(
            self, hostname="127.0.0.1", port=self.port, authenticator=authenticate, auth_required=login is not None,
            auth_require_tls=False, tls_context=_context(pem) if pem else None, require_starttls=pem is not None,
        )  # fmt: skip
        self._controller.start()

    @property
    def address(self) -> str:
        """As the setting names it."""
        return f"127.0.0.1:{self.port}"

    async def handle_RCPT(self, server: Any, session: Any, envelope: Any, address: str, options: Any) -> str:
        """Whether somebody of this address is known."""
        if address in self.refused:
            return "550 nobody of that name"
        envelope.rcpt_tos.append(address)
        return "250 OK"

    async def handle_DATA(self, server: Any, session: Any, envelope: Any) -> str:
        """A letter came."""
        self.letters.append(message_from_bytes(envelope.content, policy=default))  # type: ignore[arg-type]
        return "250 OK"

    def close(self) -> None:
        """Stop it."""
        self._controller.stop(no_assert=True)


def _context(pem: Path) -> ssl.SSLContext:
    """With a certificate and its key."""
    context = ssl.SSLContext(ssl.PROTOCOL_TLS_SERVER)
    context.load_cert_chain(pem)
    return context


class Program:
    """A program that takes webhooks; it answers with ``status``, after ``wait`` is set where there is one.

    Where there is ``status_of``, that says the status, from the body.
    """

    def __init__(self) -> None:
        self.status = 204
        self.status_of: Callable[[bytes], int] | None = None
        self.headers: dict[str, str] = {}
        self.wait: threading.Event | None = None
        self.got: list[tuple[Mapping[str, str], bytes]] = []
        program = self

        class Answer(http.server.BaseHTTPRequestHandler):
            def do_POST(self) -> None:
                body = self.rfile.read(int(self.headers["Content-Length"]))
                program.got.append((dict(self.headers.items()), body))
                if program.wait is not None:
                    program.wait.wait(60)
                self.send_response(program.status_of(body) if program.status_of else program.status)
                for name, value in program.headers.items():
                    self.send_header(name, value)
                self.end_headers()

            def log_message(self, *args: Any) -> None:
                pass

        self._server = http.server.ThreadingHTTPServer(("127.0.0.1", free_port()), Answer)
        self.url = f"http://127.0.0.1:{self._server.server_address[1]}/hook?room=7"
        threading.Thread(target=self._server.serve_forever, daemon=True).start()

    def close(self) -> None:
        """Stop it."""
        if self.wait is not None:
            self.wait.set()
        self._server.shutdown()
        self._server.server_close()
