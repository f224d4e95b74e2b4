"""Definitions of machines: what is read of them, and what a copy is given."""

from __future__ import annotations

import subprocess
import unittest
from pathlib import Path
from xml.etree import ElementTree

from maestoso.agents.libvirt import definition, encryption
from maestoso.agents.libvirt.chains import Image, Layer

KEY = encryption.Key(Path("/copies"), "a passphrase", "c0ffee")
HOOK = Path(definition.__file__).with_name("hook")
SOURCE = """
<domain type='kvm' xmlns:qemu='http://libvirt.org/schemas/domain/qemu/1.0'>
  <name>shop-01</name><uuid>5f0c2c3e-33a1-4a0e-9a60-7d8f0e7d9d01</uuid>
  <metadata>
    <m:workload xmlns:m='urn:maestoso:workload' owner='Shop team' criticality='vital' needs_key='yes'>
      <m:tag name='tier' value='front'/><m:offers name='shop' protocol='https' port='443'/><m:uses service='stock'/>
    </m:workload>
    <other xmlns='urn:other'>stays</other>
  </metadata>
  <memory unit='GiB'>2</memory><currentMemory unit='GiB'>2</currentMemory><vcpu current='1'>4</vcpu>
  <cpu mode='host-model'><topology sockets='1' cores='4' threads='1'/></cpu>
  <seclabel type='dynamic' model='apparmor' relabel='yes'/>
  <devices>
    <disk type='file' device='disk'><driver name='qemu' type='raw' cache='none'/><source file='/srv/a.img'/>
      <backingStore/><target dev='vda' bus='virtio'/></disk>
    <disk type='file' device='disk'><driver name='qemu' type='qcow2'/><source file='/srv/b.qcow2'/>
      <target dev='vdb' bus='virtio'/></disk>
    <disk type='block' device='disk'><source dev='/dev/sdx'/><target dev='vdc' bus='virtio'/></disk>
    <disk type='file' device='cdrom'><source file='/srv/install.iso'/><target dev='sda' bus='sata'/></disk>
    <interface type='bridge'><mac address='52:54:00:AA:00:01'/><source bridge='br-app'/><model type='virtio'/></interface>
    <interface type='network'><mac address='52:54:00:aa:00:02'/><source network='backup'/></interface>
    <serial type='file'><source path='/var/log/shop.log'/></serial>
    <hostdev mode='subsystem' type='pci'/>
    <channel type='unix'><source mode='bind' path='/run/x'/><target type='virtio' name='org.qemu.guest_agent.0'/></channel>
  </devices>
</domain>
"""


def layer(name: str, kind: str = "qcow2", key: encryption.Key | None = None) -> Layer:
    """A file of a chain."""
    return Layer(Image(Path("/copies") / name, kind), key)


class Read(unittest.TestCase):
    """What one says of a workload."""

    def setUp(self) -> None:
        self.found = ElementTree.fromstring(SOURCE)

    def test_disks_that_are_files_and_the_others(self) -> None:
        disks = {disk.name: str(disk.file) for disk in definition.disks(self.found)}
        self.assertEqual(disks, {"vda": "/srv/a.img", "vdb": "/srv/b.qcow2"})
        self.assertEqual(definition.other_disks(self.found), ["vdc"])

    def test_adapters_size_and_guest_agent(self) -> None:
        nics = [(nic.name, nic.mac, nic.bridge) for nic in definition.nics(self.found)]
        self.assertEqual(
            nics, [("nic0", "52:54:00:aa:00:01", "br-app"), ("nic1", "52:54:00:aa:00:02", "backup")]
        )
        self.assertEqual((definition.memory_mib(self.found), definition.cores(self.found)), (2048, 4))
        self.assertTrue(definition.has_agent(self.found))

    def test_a_guest_agent_is_on_its_way_for_a_minute_until_it_is_there(self) -> None:
        self.assertTrue(definition.agent_comes(self.found, 3.0))
        self.assertFalse(definition.agent_comes(self.found, 61.0))
        (channel,) = self.found.iterfind("devices/channel/target")
        channel.set("state", "disconnected")
        self.assertTrue(definition.agent_comes(self.found, 3.0))
        channel.set("state", "connected")
        self.assertFalse(definition.agent_comes(self.found, 3.0))
        self.assertFalse(definition.agent_comes(ElementTree.fromstring("<domain/>"), 3.0))

    def test_what_people_wrote_is_read_and_written_alike(self) -> None:
        said = definition.said_by_people(self.found)
        self.assertEqual(said["offers"], [{"name": "shop", "protocol": "https", "port": 443}])
        self.assertEqual(
            (said["tags"], said["uses"], said["needs_key"]), ({"tier": "front"}, ["stock"], True)
        )
        again = ElementTree.Element("domain")
        ElementTree.SubElement(again, "metadata").append(definition.people_say(said))
        self.assertEqual(definition.said_by_people(again), said)


class Copied(unittest.TestCase):
    """What is of one host only does not come along."""

    def setUp(self) -> None:
        files = {
            "vda": [layer("a.qcow2"), layer("below.raw", "raw")],
            "vdb": [layer("b.qcow2", key=KEY), layer("c.qcow2", key=KEY), layer("below.raw", "raw")],
        }
        self.copy = definition.copy_of(
            SOURCE, "shop-01--m1", files, {"mark": "m1"}, {"tags": {"tier": "front"}}
        )

    def test_name_disks_and_notes_are_its_own(self) -> None:
        self.assertEqual(self.copy.findtext("name"), "shop-01--m1")
        self.assertIsNone(self.copy.find("uuid"))
        disks = {disk.name: str(disk.file) for disk in definition.disks(self.copy)}
        self.assertEqual(disks, {"vda": "/copies/a.qcow2", "vdb": "/copies/b.qcow2"})
        kinds = {driver.get("type") for driver in self.copy.iterfind("devices/disk/driver")}
        self.assertEqual(kinds, {"qcow2"})
        self.assertEqual(definition.other_disks(self.copy), [])
        self.assertIn('"mark": "m1"', self.copy.findtext(f"metadata/{{{definition.KEPT}}}kept", ""))
        self.assertEqual(self.copy.findtext("metadata/{urn:other}other"), "stays")

    def test_of_what_is_encrypted_the_whole_chain_is_said_with_its_secret(self) -> None:
        clear, locked = self.copy.findall("devices/disk")
        self.assertIsNone(clear.find("backingStore"), "libvirt follows it itself")
        said = [
            ("" if one is None else one.get("uuid"), "" if file is None else file.get("file"))
            for one, file in (
                (locked.find(f"{below}source/encryption/secret"), locked.find(f"{below}source"))
                for below in ("", "backingStore/", "backingStore/backingStore/", "backingStore/" * 3)
            )
        ]
        copies = [
            (KEY.uuid, "/copies/b.qcow2"),
            (KEY.uuid, "/copies/c.qcow2"),
            ("", "/copies/below.raw"),
            ("", ""),
        ]
        self.assertEqual(said, copies)
        kinds = [one.get("type") for one in locked.findall(".//backingStore/format")]
        self.assertEqual(kinds, ["qcow2", "raw"])
        end = locked.find("backingStore/" * 2 + "backingStore")
        self.assertEqual(len([] if end is None else end), 0)
        self.assertIsNotNone(end, "nothing lies below it")
        definition.lay(locked, [layer("d.qcow2")])
        self.assertEqual(len(locked.findall(".//source")), 1)
        self.assertIsNone(locked.find(".//secret"))

    def test_nothing_of_the_host_is_left(self) -> None:
        for part in ("seclabel", "devices/interface", "devices/hostdev", "devices/channel/source"):
            self.assertIsNone(self.copy.find(part), part)
        self.assertEqual([one.get("type") for one in self.copy.iterfind("devices/serial")], ["pty"])

    def test_it_is_given_its_size_and_its_adapters(self) -> None:
        sized = definition.with_size(self.copy, 2, 512)
        self.assertEqual((definition.cores(sized), definition.memory_mib(sized)), (2, 512))
        self.assertIsNone(sized.find("cpu/topology"), "it would not fit any more")
        nics = [("52:54:00:00:00:01", "br0", "", True), ("52:54:00:00:00:02", "", "mt01", False)]
        told = definition.with_nics(sized, nics)
        kinds = [
            (one.get("type"), one.find("link").get("state")) for one in told.iterfind("devices/interface")
        ]  # type: ignore[union-attr]
        self.assertEqual(kinds, [("bridge", "up"), ("ethernet", "down")])


class Fenced(unittest.TestCase):
    """The hook that libvirt calls before it gives power."""

    def hook(self, happens: str, **kept: object) -> subprocess.CompletedProcess[str]:
        """Call it with the definition of a machine with these notes."""
        found = ElementTree.tostring(
            definition.with_kept(ElementTree.fromstring(SOURCE), kept), encoding="unicode"
        )
        command = ["sh", str(HOOK), "shop-01", happens, "begin", "-"]
        return subprocess.run(command, input=found, capture_output=True, text=True, check=False)

    def test_a_fenced_machine_gets_no_power(self) -> None:
        refused = self.hook("prepare", own=True, fenced=True)
        self.assertEqual(refused.returncode, 1)
        self.assertIn("Lift its fence", refused.stderr)

    def test_all_others_do_and_what_happens_besides_is_not_minded(self) -> None:
        self.assertEqual(self.hook("prepare", own=True, fenced=False).returncode, 0)
        self.assertEqual(self.hook("prepare", workload={"owner": '"fenced": true'}).returncode, 0)
        self.assertEqual(self.hook("release", fenced=True).returncode, 0)


if __name__ == "__main__":
    unittest.main()
