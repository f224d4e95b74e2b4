"""Guests whose file systems are frozen for a point: whatever goes wrong meanwhile, they write again."""

from __future__ import annotations

import tempfile
import unittest
from pathlib import Path
from typing import Any
from unittest.mock import MagicMock, patch

from maestoso.agents.libvirt.bindings import libvirt
from maestoso.agents.libvirt.source import Source, _Point
from tests.guests.lab import needs_real_machines


def _silent() -> Exception:
    """What libvirt says of a guest that does not answer in time."""
    error = libvirt.libvirtError("silent")
    told = "Guest agent is not responding"
    error.err = (libvirt.VIR_ERR_AGENT_UNRESPONSIVE, 10, told, 2, told, None, None, -1, -1)
    return error


class Guest:
    """A machine as libvirt shows it: its freezing may be slower than it is waited for."""

    def __init__(self, name: str, *, slow: bool = False) -> None:
        self.name = name
        self.slow = slow
        self.frozen = False
        self.deaf = 0
        """How often it does not hear that it shall thaw."""

    def __getattr__(self, name: str) -> Any:
        return MagicMock()

    def isActive(self) -> bool:
        return True

    def state(self) -> tuple[int, int]:
        return (1, 0)

    def fsFreeze(self) -> None:
        self.frozen = True
        if self.slow:
            raise _silent()

    def fsThaw(self) -> None:
        self.deaf -= 1
        if self.deaf >= 0:
            raise _silent()
        self.frozen = False


@needs_real_machines
class Frozen(unittest.TestCase):
    """A point of two machines with order; the hypervisor is a stand-in, as no real one can be made to fail so."""

    def setUp(self) -> None:
        self.guests = {name: Guest(name) for name in ("db", "app")}
        self.folder = Path(self.enterContext(tempfile.TemporaryDirectory()))
        self.hypervisor = MagicMock()
        self.hypervisor.names.return_value = []
        self.hypervisor.find = self.hypervisor.machine = self.guests.get
        self.hypervisor.running.return_value = True
        self.enterContext(patch("maestoso.agents.libvirt.source.time.sleep"))
        self.source = self.started()

    def started(self) -> Any:
        """The sending side of an agent that is started now."""
        made: Any = Source(self.hypervisor, self.folder)
        made.backups = MagicMock()
        made._connect = MagicMock()
        return made

    def point(self) -> str:
        """Make one; how it was made."""
        members = {name: {"disks": [], "since": ""} for name in self.guests}
        found: dict[str, list[Any]] = {name: [] for name in self.guests}
        kind, _ = self.source._stand_still(_Point("p", "shop"), list(members), members, found, True)
        return str(kind)

    def frozen(self) -> list[str]:
        """Who cannot write."""
        return [name for name, guest in self.guests.items() if guest.frozen]

    def test_all_are_frozen_and_write_again(self) -> None:
        self.assertEqual((self.point(), self.frozen()), ("application-consistent", []))

    def test_one_that_freezes_too_late_writes_again(self) -> None:
        self.guests["app"].slow = True
        self.assertEqual((self.point(), self.frozen()), ("crash-consistent", []))

    def test_a_point_that_cannot_be_made_leaves_none_frozen(self) -> None:
        self.source.backups.checkpoint.side_effect = OSError("no space")
        with self.assertRaises(OSError):
            self.point()
        self.assertEqual(self.frozen(), [])

    def test_one_that_does_not_hear_it_is_asked_until_it_does(self) -> None:
        self.guests["db"].deaf = 5
        self.point()
        self.assertEqual(self.frozen(), ["db"])
        self.source.tidy()
        self.source.tidy()
        self.assertEqual(self.frozen(), [])
        self.guests["db"].frozen = True
        self.source.tidy()
        self.assertEqual(self.frozen(), ["db"], "it is not asked any more: somebody else may have frozen it")

    def test_who_is_not_thawed_yet_is_not_forgotten_over_the_point_of_another_group(self) -> None:
        other = Guest("mail")
        other.frozen, other.deaf = True, 4  # it hears it once the point is made
        (self.folder / "frozen.json").write_text('["mail"]')
        self.hypervisor.find = {**self.guests, "mail": other}.get
        self.point()
        self.source.tidy()
        self.assertFalse(other.frozen)

    def test_an_agent_that_was_killed_meanwhile_thaws_when_it_is_started(self) -> None:
        self.source.backups.checkpoint.side_effect = OSError("no space")
        with patch.object(self.source, "_thaw"), self.assertRaises(OSError):
            self.point()
        self.assertEqual(self.frozen(), ["db", "app"])
        self.started()
        self.assertEqual(self.frozen(), [])


if __name__ == "__main__":
    unittest.main()
