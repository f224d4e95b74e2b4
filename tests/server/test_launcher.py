"""When the launcher takes what it started for being up."""

from __future__ import annotations

import http.server
import threading
import unittest

from maestoso.cli.processes import THERE, answers


class Up(unittest.TestCase):
    """By what is answered."""

    def serve(self, status: int) -> str:
        """The address of a server that answers everything with ``status``."""

        class Answer(http.server.BaseHTTPRequestHandler):
            def do_GET(self) -> None:
                self.send_response(status)
                self.end_headers()

            def log_message(self, format: str, *args: object) -> None:
                pass

        server = http.server.ThreadingHTTPServer(("127.0.0.1", 0), Answer)
        self.addCleanup(server.server_close)
        self.addCleanup(server.shutdown)
        threading.Thread(target=server.serve_forever, daemon=True).start()
        return f"http://127.0.0.1:{server.server_port}/"

    def test_what_answers_well_is_up(self) -> None:
        self.assertTrue(answers(self.serve(200)))

    def test_a_practice_site_that_was_switched_off_is_there_and_a_web_server_in_trouble_is_not_up(
        self,
    ) -> None:
        address = self.serve(503)
        self.assertTrue(answers(address, {}, THERE))
        self.assertFalse(answers(address))

    def test_who_refuses_or_is_not_there_is_not_up(self) -> None:
        self.assertFalse(answers(self.serve(403), {}, THERE))
        self.assertFalse(answers("http://127.0.0.1:9/", {}, THERE))


if __name__ == "__main__":
    unittest.main()
