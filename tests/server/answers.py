"""A web server that answers everything alike."""

from __future__ import annotations

import http.server
import threading
import unittest


def answering(case: unittest.TestCase, status: int, body: bytes = b"", after_s: float = 0.0) -> str:
    """The address of one that lives as long as the test, and answers after so long."""

    class Answer(http.server.BaseHTTPRequestHandler):
        def do_GET(self) -> None:
            threading.Event().wait(after_s)
            self.send_response(status)
            self.end_headers()
            self.wfile.write(body)

        def log_message(self, format: str, *args: object) -> None:
            pass

    server = http.server.ThreadingHTTPServer(("127.0.0.1", 0), Answer)
    case.addCleanup(server.server_close)
    case.addCleanup(server.shutdown)
    threading.Thread(target=server.serve_forever, daemon=True).start()
    return f"http://127.0.0.1:{server.server_port}/"
