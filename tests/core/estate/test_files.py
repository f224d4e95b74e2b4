"""Files bring in what is good, say what is not, and hostile ones do no harm."""

from __future__ import annotations

import io
import tarfile
import unittest
from dataclasses import replace
from ipaddress import ip_interface

from hypothesis import given
from hypothesis import strategies as st

from maestoso.core.errors import BadValue
from maestoso.core.estate.csv_file import COLUMNS, read_csv, write_csv
from maestoso.core.estate.json_file import read_json, write_json
from maestoso.core.estate.ovf import read_ovf, unit
from maestoso.core.estate.staged import SiteRow
from maestoso.core.files import BadFile
from maestoso.core.model.estate import Disk, Link, Nic, Service, Workload
from tests import worlds

HEAD = "site,name,cores,memory_mib,disks,nics\r\n"
words = st.text(
    st.characters(blacklist_categories=("Cs", "Cc", "Zs", "Zl", "Zp")), min_size=1, max_size=12
).map(str.strip).filter(bool)  # fmt: skip


@st.composite
def workloads(draw: st.DrawFn) -> Workload:
    """Workloads with every oddity that a cell has to carry."""
    disks = tuple(
        Disk(
            name=f"{draw(words)}{index}", size_gib=draw(st.integers(1, 9999)), storage_pool=draw(words),
            left_out_because=draw(st.none() | words),
        )
        for index in range(draw(st.integers(0, 2)))
    )  # fmt: skip
    nics = tuple(
        Nic(
            name=f"{draw(words)}{index}", network=draw(words), mac=f"02:00:00:00:00:0{index}",
            dhcp=draw(st.booleans()), gateways=("10.1.0.1",), dns=("10.1.0.5", "2001:db8::5"),
            addresses=(ip_interface("10.1.0.9/24"), ip_interface("2001:db8::9/64")),
        )
        for index in range(draw(st.integers(0, 2)))
    )  # fmt: skip
    return Workload(
        name=draw(words), cores=draw(st.integers(1, 64)), memory_mib=draw(st.integers(1, 10**6)),
        disks=disks, nics=nics, tags=draw(st.dictionaries(words, words, max_size=3)), owner=draw(words),
        guest_agent=draw(st.booleans()), needs_key=draw(st.booleans()),
        offers=tuple(Service(name=draw(words), protocol="tcp", port=80) for _ in range(draw(st.integers(0, 2)))),
        uses=tuple(draw(st.lists(words, max_size=3))),
    )  # fmt: skip


class Csv(unittest.TestCase):
    """One row a workload."""

    @given(workloads())
    def test_what_is_written_reads_back_unchanged(self, workload: Workload) -> None:
        raw = "".join(write_csv([("QUA", workload)])).encode()
        staged = read_csv(raw)
        self.assertEqual(staged.complaints, ())
        self.assertEqual([(w.site, w.workload) for w in staged.workloads], [("QUA", workload)])

    def test_no_cell_begins_like_a_formula(self) -> None:
        bad = replace(worlds.workload("=cmd", 9), owner="+1+1", tags={"@x": "-y"})
        (line,) = list(write_csv([("-A", bad)]))[1:]
        for cell in ("'-A", "'=cmd", "'+1+1"):
            self.assertIn(cell, line)

    def test_good_rows_are_kept_and_bad_ones_named_by_row_column_and_reason(self) -> None:
        rows = (
            "QUA,good,2,1024,disk0:10@p,nic0@n mac=02:00:00:00:00:01 10.1.0.1/24\r\n"
            "QUA,many-cores,lots,1024,disk0:10@p,\r\n"
            "QUA,odd-disk,2,1024,ten gigabytes,\r\n"
            "QUA,odd-address,2,1024,disk0:10@p,nic0@n mac=02:00:00:00:00:02 10.1.0.999/24\r\n"
            ",nowhere,2,1024,disk0:10@p,\r\n"
            "QUA,good,2,1024,disk0:10@p,\r\n"
            "QUA,same-mac,2,1024,disk0:10@p,nic0@n mac=02:00:00:00:00:01\r\n"
        )
        staged = read_csv((HEAD + rows).encode())
        self.assertEqual([w.workload.name for w in staged.workloads], ["good"])
        self.assertEqual(
            [(c.row, c.column) for c in staged.complaints],
            [(3, "cores"), (4, "disks"), (5, "nics"), (6, "site"), (7, "name"), (8, "nics")],
        )
        self.assertIn("'lots' is not a whole number", staged.complaints[0].sentence)
        self.assertEqual(staged.rows, 7)

    def test_rows_without_a_site_take_the_one_of_the_file(self) -> None:
        (one,) = read_csv(b"name,cores,memory_mib\na,1,1\n", "HIL").workloads
        self.assertEqual(one.site, "HIL")

    def test_files_that_cannot_be_read_say_why(self) -> None:
        for raw, said in (
            (b"\xff\xfen\x00a\x00", "UTF-16"),
            ("name,cores,memory_mib\nm\u00fcll,1,1".encode("latin-1"), "line 2"),
            (b"PK\x03\x04rest", "packed"),
            (b"name,colour\n", "'colour'"),
            (b"name,name,cores,memory_mib\n", "twice"),
            (b"", "'name' is missing"),
            (b"name,cores\x00,memory_mib\n", "zero bytes"),
        ):
            with self.subTest(said), self.assertRaises(BadFile) as caught:
                read_csv(raw)
            self.assertIn(said, caught.exception.sentence)

    def test_a_huge_cell_is_the_fault_of_its_row_only(self) -> None:
        raw = f"name,cores,memory_mib,owner\na,1,1,{'x' * 200_001}\nb,1,1,me\n".encode()
        staged = read_csv(raw, "A")
        self.assertEqual([w.workload.name for w in staged.workloads], ["b"])
        self.assertEqual(staged.complaints[0].column, "owner")

    @given(st.binary(max_size=300))
    def test_any_bytes_are_read_or_refused_in_words(self, raw: bytes) -> None:
        for data in (raw, ",".join(COLUMNS).encode() + b"\n" + raw):
            for read in (read_csv, read_json):
                try:
                    read(data)
                except BadValue as error:
                    self.assertTrue(error.sentence)


class Json(unittest.TestCase):
    """A whole estate."""

    def test_what_is_written_reads_back_unchanged(self) -> None:
        site = SiteRow(
            code="A", name="Alpha", host_pools=worlds.target().host_pools, networks=worlds.target().networks
        )
        link = Link(one="A", other="B", bandwidth_bps=10**9)
        pairs = [("A", workload) for workload in worlds.WORKLOADS.values()]
        staged = read_json(write_json([site], [link], pairs).encode())
        self.assertEqual(staged.complaints, ())
        self.assertEqual((staged.sites, staged.links), ((site,), (link,)))
        self.assertEqual([(w.site, w.workload) for w in staged.workloads], pairs)

    def test_good_rows_are_kept(self) -> None:
        raw = b'{"workloads": [{"site": "A", "name": "a", "cores": 1, "memory_mib": 1, "disks": [], "nics": []},'
        staged = read_json(raw + b' 7, {"site": "A", "name": "b", "cores": "two"}]}')
        self.assertEqual([w.workload.name for w in staged.workloads], ["a"])
        self.assertEqual([c.row for c in staged.complaints], [2, 3])
        self.assertEqual(staged.complaints[1].column, "workload.cores")

    def test_files_that_cannot_be_read_say_where(self) -> None:
        for raw, said in (
            (b'{"workloads": [\n}', "line 2"),
            (b"[" * 200_000, "nested"),
            (b'"text"', "no estate"),
            (b'{"worklods": []}', "'worklods'"),
            (b'{"maestoso": "estate/9"}', "estate/9"),
            (b'{"sites": 3}', "no list"),
        ):
            with self.subTest(said), self.assertRaises(BadFile) as caught:
                read_json(raw)
            self.assertIn(said, caught.exception.sentence)


OVF = """<?xml version="1.0"?>
<Envelope xmlns="http://schemas.dmtf.org/ovf/envelope/1" xmlns:ovf="http://schemas.dmtf.org/ovf/envelope/1"
  xmlns:rasd="http://schemas.dmtf.org/wbem/wscim/1/cim-schema/2/CIM_ResourceAllocationSettingData">
 <References><File ovf:id="f1" ovf:href="a.img"/></References>
 <DiskSection><Info/><Disk ovf:diskId="d1" ovf:capacity="20" ovf:capacityAllocationUnits="byte * 2^30"/>
  <Disk ovf:diskId="d2" ovf:capacity="1500000000"/></DiskSection>
 <NetworkSection><Info/><Network ovf:name="blue"/></NetworkSection>
 <VirtualSystemCollection ovf:id="both"><Info/>{systems}</VirtualSystemCollection>
</Envelope>"""
SYSTEM = """<VirtualSystem ovf:id="{name}"><Info/><Name>{name}</Name>
 <OperatingSystemSection ovf:id="{os}"><Info/><Description>{os}</Description></OperatingSystemSection>
 <VirtualHardwareSection><Info/>
  <Item><rasd:ResourceType>3</rasd:ResourceType><rasd:VirtualQuantity>{cores}</rasd:VirtualQuantity></Item>
  <Item><rasd:AllocationUnits>byte * 2^20</rasd:AllocationUnits><rasd:ResourceType>4</rasd:ResourceType>
   <rasd:VirtualQuantity>2048</rasd:VirtualQuantity></Item>
  <Item><rasd:HostResource>ovf:/disk/{disk}</rasd:HostResource><rasd:ResourceType>17</rasd:ResourceType></Item>
  <Item><rasd:Connection>blue</rasd:Connection><rasd:ResourceType>10</rasd:ResourceType></Item>
 </VirtualHardwareSection></VirtualSystem>"""


def envelope(*systems: dict[str, str]) -> bytes:
    """An OVF with these machines."""
    usual = {"name": "one", "os": "FreeBSD 64-bit", "cores": "4", "disk": "d1"}
    return OVF.format(systems="".join(SYSTEM.format(**{**usual, **one}) for one in systems)).encode()


def ova(*members: tuple[str, bytes]) -> bytes:
    """A tar file."""
    out = io.BytesIO()
    with tarfile.open(fileobj=out, mode="w") as tar:
        for name, raw in members:
            info = tarfile.TarInfo(name)
            info.size = len(raw)
            tar.addfile(info, io.BytesIO(raw))
    return out.getvalue()


class Ovf(unittest.TestCase):
    """Descriptors, alone and in a tar file."""

    def test_machines_come_with_processors_memory_disks_and_adapters(self) -> None:
        staged = read_ovf(envelope({}, {"name": "two", "disk": "d2", "os": "Debian Linux"}), "A", "a-disk")
        one, two = (row.workload for row in staged.workloads)
        self.assertEqual((one.name, one.os_family, one.cores, one.memory_mib), ("one", "bsd", 4, 2048))
        self.assertEqual([(d.size_gib, d.storage_pool) for d in one.disks], [(20, "a-disk")])
        self.assertEqual([(n.network, n.dhcp) for n in one.nics], [("blue", True)])
        self.assertEqual((two.os_family, two.disks[0].size_gib), ("linux", 2))
        self.assertNotEqual(one.nics[0].mac, two.nics[0].mac)

    def test_an_ova_is_read_without_being_unpacked(self) -> None:
        raw = ova(("../../evil.sh", b"#!/bin/sh"), ("machine.ovf", envelope({})), ("disk.img", b"0" * 99))
        self.assertEqual(read_ovf(raw, "A", "p").workloads[0].workload.name, "one")

    def test_a_bad_machine_is_named_and_the_others_are_kept(self) -> None:
        staged = read_ovf(
            envelope({"cores": "many"}, {"name": "two", "disk": "d9"}, {"name": "ok"}), "A", "p"
        )
        self.assertEqual([w.workload.name for w in staged.workloads], ["ok"])
        self.assertEqual([c.column for c in staged.complaints], ["cores", "disks"])

    def test_hostile_files_are_refused_in_words(self) -> None:
        bomb = b'<!DOCTYPE a [<!ENTITY b "bbbb"><!ENTITY c "&b;&b;&b;">]><Envelope>&c;</Envelope>'
        deep = b"<Envelope>" + b"<a>" * 5000 + b"</a>" * 5000 + b"</Envelope>"
        for raw, said in (
            (bomb, "document type"),
            (deep, "nested too deep"),
            (b"<Envelope>", "not XML"),
            (b"<html/>", "'html'"),
            (b"<Envelope/>", "no machine"),
            (b"\x1f\x8b\x08\x00rest", "neither"),
            (ova(("disk.img", b"1")), "no descriptor"),
            (ova(("machine.ovf", b"x" * (9 * 2**20))), "9 MiB"),
            (b"rubbish", "neither"),
        ):
            with self.subTest(said), self.assertRaises(BadFile) as caught:
                read_ovf(raw, "A", "p")
            self.assertIn(said, caught.exception.sentence)

    def test_site_and_pool_must_be_chosen(self) -> None:
        with self.assertRaises(BadFile):
            read_ovf(envelope({}), "A", "")

    def test_units(self) -> None:
        self.assertEqual(unit("byte * 2^30"), 2**30)
        self.assertEqual(unit("byte * 10^9"), 10**9)
        self.assertEqual(unit("MegaBytes"), 2**20)
        self.assertEqual(unit("byte"), 1)
        with self.assertRaises(BadValue):
            unit("stone")


if __name__ == "__main__":
    unittest.main()
