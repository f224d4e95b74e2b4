"""The keys of encrypted copies with libvirt's own daemon, as on a host; elsewhere it is embedded."""

from __future__ import annotations

import os
import subprocess
import sys
import unittest
from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path

from maestoso.agents.libvirt import encryption
from maestoso.agents.libvirt.hypervisor import Hypervisor
from maestoso.server.config.options import ROOT
from tests.e2e.application import until
from tests.guests.lab import needs_real_machines

PLACES = (Path("/run/libvirt"), Path("/etc/libvirt"), Path("/var/lib/libvirt"))
SECRETS = Path("/etc/libvirt/secrets")
SOCKET = Path("/run/libvirt/libvirt-sock")
INSIDE = "MAESTOSO_TEST_INSIDE"


@contextmanager
def daemon() -> Iterator[Hypervisor]:
    """Of this mount namespace, as long as this is entered: as after a start of the host."""
    SOCKET.unlink(missing_ok=True)
    said = {"stdout": subprocess.DEVNULL, "stderr": subprocess.DEVNULL}
    command = ["libvirtd", "-f", "/etc/libvirt/libvirtd.conf", "-p", "/run/libvirt/daemon.pid"]
    with subprocess.Popen(command, **said) as process:  # type: ignore[call-overload]
        try:
            until(SOCKET.exists, "the daemon")
            yield Hypervisor("qemu:///system")
        finally:
            process.terminate()


@needs_real_machines
@unittest.skipIf(INSIDE in os.environ, "this is the inside")
class OnAHost(unittest.TestCase):
    """In a mount namespace of its own, where nothing of the host's libvirt is seen or changed."""

    def test_keys_of_copies_go_with_a_start_and_those_of_production_stay(self) -> None:
        made = [place for place in PLACES if not place.exists()]
        for place in made:
            place.mkdir(parents=True)
        try:
            inner = [sys.executable, "-m", "unittest", "tests.guests.test_keys.Inside"]
            command = ["unshare", "--mount", "--propagation", "private", *inner]
            env = {**os.environ, INSIDE: "yes"}
            done = subprocess.run(command, cwd=ROOT, env=env, capture_output=True, text=True, check=False)
        finally:
            for place in made:
                place.rmdir()
        self.assertEqual(done.returncode, 0, done.stderr)
        self.assertIn("Ran 1 test", done.stderr)


@unittest.skipUnless(INSIDE in os.environ, "it mounts over places of libvirt")
class Inside(unittest.TestCase):
    """What the test above runs."""

    def test_keys(self) -> None:
        for place in PLACES:
            subprocess.run(["mount", "-t", "tmpfs", "tmpfs", str(place)], check=True)
        Path("/etc/libvirt/libvirtd.conf").write_text('auth_unix_rw = "none"\n')
        key = encryption.made_from(Path("/srv/copies/shop"), "shop", "a key of some length")
        with daemon() as host:
            host.keep_key(key, lasting=False)
            self.assertEqual((host.kept_keys(), list(SECRETS.glob("*"))), ([key], []))
        with daemon() as host:
            self.assertEqual(host.kept_keys(), [])
            host.keep_key(key, lasting=False)
            host.keep_key(key, lasting=True)  # promoted
        with daemon() as host:
            self.assertEqual(host.kept_keys(), [key])
            host.keep_key(key, lasting=False)  # copied to again
            self.assertEqual((host.kept_keys(), list(SECRETS.glob("*"))), ([key], []))
        with daemon() as host:
            self.assertEqual(host.kept_keys(), [])
            host.keep_key(key, lasting=True)
            host.forget_key(key.folder)
            self.assertEqual((host.kept_keys(), list(SECRETS.glob("*"))), ([], []))


if __name__ == "__main__":
    unittest.main()
