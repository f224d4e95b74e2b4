"""Maestoso reached over a network, from another machine: a network namespace stands for that one."""

from __future__ import annotations

import json
import os
import subprocess
import sys
import unittest
from dataclasses import replace

from maestoso.agents.libvirt.networks import ip
from maestoso.real_lab import certificate
from maestoso.server.config.options import ROOT
from tests.e2e.application import Application
from tests.guests.lab import needs_real_machines

HERE, THERE, NAME = "10.153.7.1", "10.153.7.2", "maestoso.example"
ASKING = """\
import json, ssl, sys
import httpx
told = json.loads(sys.argv[1])
found = {}
for name, (address, host) in told["ask"].items():
    verify = ssl.create_default_context(cafile=told["certificate"])
    try:
        with httpx.Client(verify=verify, trust_env=False, timeout=20) as line:
            reply = line.get(address, headers={"Host": host}, extensions={"sni_hostname": host.split(":")[0]})
        found[name] = [reply.status_code, reply.headers.get("location", ""), reply.headers.get("strict-transport-security", "")]
    except httpx.HTTPError as error:
        found[name] = [0, type(error).__name__, ""]
print(json.dumps(found))
"""


@needs_real_machines
class FromAnotherMachine(unittest.TestCase):
    """By its name, with its certificate checked."""

    def setUp(self) -> None:
        self.space = f"maestoso-far-{os.getpid()}"
        ip("netns", "add", self.space)
        self.addCleanup(ip, "netns", "delete", self.space)
        near, far = f"mt-n{os.getpid() % 9999}", f"mt-f{os.getpid() % 9999}"
        ip("link", "add", near, "type", "veth", "peer", "name", far, "netns", self.space)
        ip("address", "add", f"{HERE}/24", "dev", near)
        ip("link", "set", near, "up")
        ip("-n", self.space, "address", "add", f"{THERE}/24", "dev", far)
        ip("-n", self.space, "link", "set", far, "up")
        self.app = Application()
        self.addCleanup(self.app.close)
        own, file = self.app.options, self.app.folder / "web.pem"
        certificate.write(file, "a test", NAME)
        self.app.options = replace(
            own, public_address=f"https://{NAME}:{own.web_port}", listen=HERE, certificate=str(file),
            certificate_key=str(file), plain_port=own.web_port + 8,
        )  # fmt: skip
        self.app.start()

    def test_the_application_answers_by_tls_the_plain_port_redirects_and_nothing_else_listens(self) -> None:
        options, public = self.app.options, self.app.address
        tls, host = f"https://{HERE}:{options.web_port}", f"{NAME}:{options.web_port}"
        told = {
            "certificate": options.certificate,
            "ask": {
                "page": (f"{tls}/", host),
                "other name": (f"{tls}/", f"elsewhere.example:{options.web_port}"),
                "plain": (f"http://{HERE}:{options.plain_port}/runs", host),
                "in clear": (f"http://{HERE}:{options.web_port}/", host),
                "practice site": (f"http://{HERE}:{options.site_port}/v1/clock", host),
            },
        }
        done = subprocess.run(
            ["ip", "netns", "exec", self.space, sys.executable, "-c", ASKING, json.dumps(told)],
            cwd=ROOT, capture_output=True, text=True, check=False,
        )  # fmt: skip
        self.assertEqual(done.returncode, 0, done.stderr)
        found = json.loads(done.stdout)
        self.assertEqual(found["page"][0], 200)
        self.assertTrue(found["page"][2].startswith("max-age="))
        # Its certificate is for one name, and is held against the one that was asked for.
        self.assertEqual(found["other name"][:2], [0, "ConnectError"])
        self.assertEqual(found["plain"][:2], [308, f"{public}/runs"])
        self.assertEqual(found["in clear"][0], 0)
        self.assertEqual(found["practice site"][:2], [0, "ConnectError"])


if __name__ == "__main__":
    unittest.main()
