"""The service of the agent: what it may do there is enough for what it does."""

from __future__ import annotations

import subprocess
import sys
import unittest

from maestoso.server.config.options import ROOT
from tests.guests.lab import needs_real_machines

UNIT = (ROOT / "src" / "maestoso" / "agents" / "libvirt" / "maestoso-agent.service").read_text()
MOUNTS = (
    "ProtectSystem",
    "ProtectHome",
    "PrivateTmp",
    "PrivateMounts",
    "ReadWritePaths",
    "ProtectKernel",
    "ProtectControl",
)
"""What gives a service mounts of its own (systemd.exec): namespaces that it names there are lost with it."""


@needs_real_machines
class Rights(unittest.TestCase):
    """Parts that need the kernel, with the capabilities of the unit and no others."""

    def test_front_doors_names_and_leases_need_no_more(self) -> None:
        (line,) = [one for one in UNIT.splitlines() if one.startswith("CapabilityBoundingSet=")]
        rights = [one.removeprefix("CAP_").lower() for one in line.partition("=")[2].split()]
        parts = ("tests.guests.test_doorway", "tests.guests.test_isolated")
        done = subprocess.run(
            [
                "setpriv", "--bounding-set", ",".join(["-all", *(f"+{one}" for one in rights)]),
                sys.executable, "-m", "unittest", *parts,
            ],
            capture_output=True, text=True, check=False, cwd=ROOT,
        )  # fmt: skip
        self.assertEqual(done.returncode, 0, done.stderr[-4000:])
        self.assertNotIn("skipped", done.stderr)

    def test_it_has_no_mounts_of_its_own(self) -> None:
        self.assertEqual([one for one in UNIT.splitlines() if one.startswith(MOUNTS)], [])


if __name__ == "__main__":
    unittest.main()
