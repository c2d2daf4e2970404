"""The parts of a backup by themselves: volumes, run lists, the bag's lists, packing and the catalogue."""

from __future__ import annotations

import hashlib
import json
import random
import struct
import subprocess
import tempfile
import unittest
import zipfile
import zlib
from datetime import UTC, datetime
from pathlib import Path

from tests.helpers import letter
from wexagraph.backups import bag, runlists
from wexagraph.backups.catalogue import FOREVER, Catalogue, CatalogueDamaged
from wexagraph.backups.packing import Packed, pack
from wexagraph.backups.runlists import FolderChange, Holding, RunList
from wexagraph.backups.volumes import Member, VolumeWriter, members, read_packed, salvage, unpacked
from wexagraph.demo.build import file, html, message, multipart, text, when
from wexagraph.demo.mailbox import make_mailbox
from wexagraph.errors import MessageError


class FolderTest(unittest.TestCase):
    def setUp(self) -> None:
        place = tempfile.TemporaryDirectory(prefix="wexagraph-test-")
        self.addCleanup(place.cleanup)
        self.folder = Path(place.name)


class Volumes(FolderTest):
    def volume(self, *letters: bytes) -> Path:
        path = self.folder / "v.zip"
        writer = VolumeWriter(path)
        for number, data in enumerate(letters):
            writer.add(f"Übersee/{number} – Boje.eml", pack(data))
        self.digest = writer.close()
        return path

    def test_others_read_what_is_written(self) -> None:
        rng = random.Random(3)
        letters = [letter(f"L{n}", body="x\n" * n) for n in range(30)] + [rng.randbytes(5000), b""]
        path = self.volume(*letters)
        self.assertEqual(hashlib.sha256(path.read_bytes()).hexdigest(), self.digest)
        with zipfile.ZipFile(path) as read:
            self.assertIsNone(read.testzip())
            self.assertEqual([read.read(name) for name in read.namelist()], letters)
            self.assertEqual(read.namelist()[0], "Übersee/0 – Boje.eml")
            self.assertEqual(read.infolist()[0].date_time, (2026, 3, 14, 15, 3, 0))
            self.assertEqual(read.infolist()[0].external_attr >> 16, 0o100644)
            kinds = {info.compress_type for info in read.infolist()}
        self.assertEqual(kinds, {zipfile.ZIP_DEFLATED, zipfile.ZIP_STORED})  # what does not deflate is stored
        listed = subprocess.run(["unzip", "-Z1", path], capture_output=True, text=True, check=True).stdout.split("\n")
        self.assertEqual(len([name for name in listed if name]), len(letters))

    def test_reading_what_is_written(self) -> None:
        letters = [letter(f"L{n}") for n in range(9)]
        path = self.volume(*letters)
        with path.open("rb") as opened:
            for member, data in zip(members(path), letters, strict=True):
                content, method, _ = read_packed(opened, member.offset, member.packed)
                self.assertEqual(unpacked(content, method, member.size), data)
                self.assertEqual(zlib.crc32(data), member.crc)
            for offset in (1, 7, path.stat().st_size - 3):
                with self.assertRaises(MessageError):
                    read_packed(opened, offset, 10)
            with self.assertRaises(MessageError):
                read_packed(opened, members(path)[-1].offset, 10**6)

    def test_an_end_that_is_damaged(self) -> None:
        path = self.volume(letter("a"), letter("b"))
        whole = path.read_bytes()
        central = whole.index(b"PK\x01\x02")
        for damaged in (
            b"",
            whole[:50],
            whole[:-8],
            whole[: central + 10] + whole[-22:],
            whole.replace(b"PK\x01\x02", b"PK\x01\x03"),
            whole.replace(b"PK\x05\x06", b"PK\x05\x07"),
        ):
            path.write_bytes(damaged)
            with self.assertRaises(MessageError):
                members(path)
        path.unlink()
        with self.assertRaises(MessageError):
            members(path)
        with self.assertRaises(MessageError):
            list(salvage(path))

    def test_mutations_raise_no_other_error(self) -> None:
        path = self.volume(*(letter(f"L{n}", body="tide\n" * n) for n in range(12)))
        whole, rng = path.read_bytes(), random.Random(12)
        for _ in range(400):
            content = bytearray(whole)
            for _ in range(rng.choice((1, 1, 3))):
                content[rng.randrange(len(content))] = rng.randrange(256)
            path.write_bytes(content)
            for member, packed in salvage(path):
                try:
                    unpacked(packed, member.method, member.size)
                except MessageError:
                    continue
            try:
                listed = members(path)
            except MessageError:
                continue
            with path.open("rb") as opened:
                for member in listed:
                    try:
                        unpacked(*read_packed(opened, member.offset, member.packed)[:2], member.size)
                    except MessageError:
                        continue

    def test_sizes_are_not_believed(self) -> None:
        bomb = zlib.compress(bytes(3_000_000), 9, -15)
        for size in (0, 1, 2_999_999, 3_000_001, 4_000_000_000):
            with self.assertRaises(MessageError):
                unpacked(bomb, 8, size)
        self.assertEqual(len(unpacked(bomb, 8, 3_000_000)), 3_000_000)
        for garbage in (b"", b"\xff\xff", b"PK"):
            with self.assertRaises(MessageError):
                unpacked(garbage, 8, 100)
        with self.assertRaises(MessageError):
            unpacked(b"abc", 0, 4)

    def test_it_is_full_before_it_is_too_large(self) -> None:
        writer = VolumeWriter(self.folder / "v.zip")
        packed = pack(random.Random(1).randbytes(10_000))
        count = 0
        while writer.takes(packed, 100_000):
            writer.add(f"{count}.eml", packed)
            count += 1
        said = writer.size
        writer.close()
        self.assertEqual((self.folder / "v.zip").stat().st_size, said)
        self.assertTrue(85_000 < said <= 100_000)
        other = VolumeWriter(self.folder / "w.zip")
        self.assertTrue(other.takes(pack(bytes(9)), 1))  # one always goes in
        other.abandon()

    def test_dates_that_a_zip_can_not_hold(self) -> None:
        writer = VolumeWriter(self.folder / "v.zip")
        for year in (1901, 1979, 1980, 2107, 2108):
            packed = pack(letter())
            packed.moment = datetime(year, 12, 31, 23, 59, 58, tzinfo=UTC)
            writer.add(f"{year}.eml", packed)
        writer.close()
        with zipfile.ZipFile(self.folder / "v.zip") as read:
            years = {info.filename: info.date_time[0] for info in read.infolist()}
        self.assertEqual(
            years, {"1901.eml": 1980, "1979.eml": 1980, "1980.eml": 1980, "2107.eml": 2107, "2108.eml": 1980}
        )


class Packing(unittest.TestCase):
    def test_what_the_catalogue_is_told(self) -> None:
        body = multipart(
            "mixed",
            text("Buoy 14 is adrift.\n"),
            html("<p>Rich</p><script>never()</script>"),
            file("Gezeiten März.csv", "text/csv", b"tide,height\nhigh,4.2\n"),
            file("scan.tiff", "image/tiff", b"II*\0"),
        )
        packed = pack(message("Ines <i@q.example>", "r@s.example", "Adrift", when("2026-03-14", 15, 3), body))
        subject, people, words, names = packed.words
        self.assertEqual(subject, "Adrift")
        self.assertIn("i@q.example", people)
        for wanted in ("Buoy 14 is adrift", "Rich", "high,4.2"):
            self.assertIn(wanted, words)
        self.assertNotIn("never()", words)
        self.assertEqual(names.split("\n"), ["Gezeiten März.csv", "scan.tiff"])
        self.assertEqual([leaf[0] for leaf in json.loads(packed.leaves)], ["Gezeiten März.csv", "scan.tiff"])
        self.assertIn(b"\nSubject: Adrift\n", packed.header)
        self.assertTrue(packed.stem.startswith("2026-03-14 1503 Ines - Adrift"))

    def test_the_bytes_come_back(self) -> None:
        for data in (letter(), b"", b"\0" * 10_000, random.Random(2).randbytes(3000), "Ünï".encode("utf-16")):
            packed = pack(data)
            self.assertEqual(unpacked(packed.content, packed.method, packed.size), data)
            self.assertEqual(packed.digest, hashlib.sha256(data).digest())
            self.assertEqual(packed.crc, zlib.crc32(data))

    def test_names_are_harmless(self) -> None:
        for subject in (
            "../../x",
            "a/b\\c",
            "CON",
            "x\0y\x1b[31m",
            "\u202egnp.exe",
            "long " * 200,
            "",
            "=?utf-8?q?=2E=2E=2F?=",
        ):
            stem = pack(letter(subject)).stem
            self.assertFalse(set(stem) & set('/\\:*?"<>|\0\x1b\u202e'), stem)
            self.assertLess(len(stem.encode()), 240)

    def test_no_message_of_the_demo_is_too_odd(self) -> None:
        with tempfile.TemporaryDirectory() as place:
            held = make_mailbox(Path(place) / "in").messages
        rng = random.Random(7)
        for data in (data for folder in held.values() for data in folder):
            packed = pack(data)
            self.assertEqual(unpacked(packed.content, packed.method, packed.size), data)
            broken = bytearray(data)
            for _ in range(5):
                broken[rng.randrange(len(broken))] = rng.randrange(256)
            for part in pack(bytes(broken)).words:
                part.encode("utf-8")


class Lists(FolderTest):
    HOLDING = Holding("in", "7", "s", "ab" * 32, 9, ("flagged", "seen"), "2026-03-14T15:03:00+00:00")

    def write(self, *lines: object) -> Path:
        path = self.folder / "r.jsonl"
        path.write_bytes(b"".join(line if isinstance(line, bytes) else runlists.line(line) for line in lines))  # type: ignore[arg-type]
        return path

    def test_back_and_forth(self) -> None:
        change = FolderChange("in", "stamp", "2026-01-01T000000Z")
        path = self.write(
            runlists.head_line("2026-01-02T000000Z", "here"),
            runlists.folder_line(change),
            self.HOLDING.line("v:m.eml"),
            {"gone": "6"},
            {"end": "whole", "gone": 1},
        )
        runs = runlists.read(path)
        self.assertEqual((runs.head["run"], runs.end["end"]), ("2026-01-02T000000Z", "whole"))
        (read,) = runs.folders
        self.assertEqual((read.base, read.present, read.gone), (change.base, [self.HOLDING], ["6"]))
        self.assertFalse(runs.is_quiet)
        self.assertTrue(RunList({}, [FolderChange("in", "s", "base")], {}).is_quiet)
        self.assertFalse(RunList({}, [FolderChange("in", "s", "")], {}).is_quiet)

    def test_names_that_are_no_text(self) -> None:
        odd = Holding("\udcff/\U0001f6a2", "\udc80", "s", "00" * 32, 1)
        path = self.write(
            runlists.head_line("2026-01-02T000000Z", "s"),
            runlists.folder_line(FolderChange(odd.folder)),
            odd.line(),
            {"end": "whole"},
        )
        self.assertEqual(
            runlists.read(path).folders[0].present, [Holding("\\xff/\U0001f6a2", "\\x80", "s", "00" * 32, 1)]
        )

    def test_damaged_ones(self) -> None:
        good = [runlists.head_line("r", "s"), runlists.folder_line(FolderChange("in")), self.HOLDING.line()]
        for lines in (
            [*good],
            [*good, b"{"],
            [*good, b"[]\n", {"end": "whole"}],
            [*good, b"\xff\xfe\n", {"end": "whole"}],
            [self.HOLDING.line(), {"end": "whole"}],
            [good[0], {"message": "x"}, {"end": "whole"}],
            [
                good[0],
                good[1],
                {"message": 5, "size": "many", "place": 1, "stamp": 1, "flags": [], "arrived": ""},
                {"end": "x"},
            ],
        ):
            path = self.write(*lines)
            self.assertFalse(runlists.read(path, whole=False).is_whole)
        with self.assertRaises(MessageError):
            runlists.read(self.write(self.HOLDING.line(), {"end": "whole"}))
        self.assertEqual(len(runlists.read(self.write(*good, b'{"mess'), whole=False).folders[0].present), 1)
        with self.assertRaises(MessageError):
            runlists.read(self.folder / "none.jsonl")


class TheBag(FolderTest):
    def test_lists_that_lead_out_are_not_followed(self) -> None:
        path = self.folder / "m"
        good = "a" * 64
        path.write_text(
            f"{good}  data/x\n{good}  /etc/passwd\n{good}  ../x\n{good}  data/../../x\nzz  y\n{good} *data/b\n"
        )
        sums = bag.read_sums(path)
        assert sums is not None
        self.assertEqual(sums.digests, {"data/x": good, "data/b": good})
        self.assertEqual(len(sums.unreadable), 4)
        self.assertIsNone(bag.read_sums(self.folder / "none"))

    def test_lines_as_others_write_them(self) -> None:
        for name in ("one", "Über zwei"):
            (self.folder / name).write_text(name)
        digests = {name: bag.digest_of(self.folder / name) or "" for name in ("one", "Über zwei")}
        (self.folder / "m").write_bytes(bag.sums_text(digests))
        subprocess.run(["sha256sum", "--strict", "--quiet", "-c", "m"], cwd=self.folder, check=True)
        (self.folder / "link").symlink_to("one")
        self.assertIsNone(bag.digest_of(self.folder / "link"))

    def test_what_is_ours(self) -> None:
        for path in (
            "data/volumes/000001.zip",
            "data/volumes/999999.zip.age",
            "data/runs/2026-11-23T061500Z.jsonl",
            "data/runs/2026-11-23T061500Z.jsonl.age",
        ):
            self.assertTrue(bag.is_ours(path))
        for path in (
            "data/volumes/mine.zip",
            "data/volumes/1.zip",
            "data/runs/notes.jsonl",
            "data/000001.zip",
            "x/data/volumes/000001.zip",
            "data/volumes/000001.zip.bak",
            "data/runs/2026-11-23.jsonl",
        ):
            self.assertFalse(bag.is_ours(path), path)

    def test_names_of_runs_and_volumes(self) -> None:
        moment = datetime(2026, 11, 23, 6, 15, tzinfo=UTC)
        self.assertEqual(bag.run_moment(bag.run_name(moment)), moment)
        for wrong in ("", "2026", "2026-11-23T061500", "../2026-11-23T061500Z"):
            with self.assertRaises(ValueError):
                bag.run_moment(wrong)
        for suffix in ("", ".age"):
            self.assertEqual(bag.volume_number(bag.volume_path(41, suffix)), 41)
            self.assertEqual(bag.run_of(bag.run_path("2026-11-23T061500Z", suffix)), "2026-11-23T061500Z")

    def test_information_is_one_line_each(self) -> None:
        lines = bag.info_text(["/a\nBagging-Date: 1999", "b"], 12, 3, "2026-11-23T061500Z").decode().splitlines()
        self.assertIn("Payload-Oxum: 12.3", lines)
        self.assertIn("Bagging-Date: 2026-11-23", lines)
        self.assertEqual(sum(line.startswith("Bagging-Date") for line in lines), 1)


class TheCatalogue(FolderTest):
    def setUp(self) -> None:
        super().setUp()
        self.catalogue = Catalogue(self.folder / "c.sqlite", writing=True)
        self.addCleanup(lambda: self.catalogue.close())
        self.digests: list[str] = []

    def add(self, *letters: bytes) -> None:
        for data in letters:
            packed: Packed = pack(data)
            self.digests.append(packed.digest.hex())
            member = Member(
                "m.eml", 100 * len(self.digests), len(packed.content), packed.size, packed.method, packed.crc
            )
            self.catalogue.add_message(packed, 1, member)

    def run_of(
        self, name: str, folder: str, *held: tuple[str, int], base: str = "", gone: tuple[str, ...] = ()
    ) -> None:
        """A run whose list says that messages (place, number) lie in a folder."""
        present = [Holding(folder, place, "s", self.digests[number], 1) for place, number in held]
        change = FolderChange(folder, "stamp", base, present, list(gone))
        self.catalogue.take_run(
            RunList({"run": name, "source": "here"}, [change], {"end": "whole", "added": len(held)})
        )

    def places(self, run: int | None) -> list[str]:
        number = self.catalogue.folder("here", "in")
        return [row[0] for row in self.catalogue.contents(number or 0, run)]

    def test_what_lay_where_when(self) -> None:
        self.add(letter("a"), letter("b"), letter("c"))
        self.run_of("2026-01-01T000000Z", "in", ("1", 0), ("2", 1))
        self.run_of("2026-01-02T000000Z", "in", ("3", 2), base="2026-01-01T000000Z", gone=("1",))
        self.run_of("2026-01-03T000000Z", "in", ("2", 2), base="2026-01-02T000000Z")  # the place holds another now
        self.run_of("2026-01-04T000000Z", "in", ("9", 0))  # a full list: nothing else is there
        self.assertEqual([self.places(run) for run in (1, 2, 3, 4)], [["1", "2"], ["2", "3"], ["2", "3"], ["9"]])
        self.assertEqual(self.places(None), ["1", "2", "2", "3", "9"])
        self.assertEqual(self.catalogue.vanished(), 2)
        self.assertEqual(self.catalogue.folder_state("here", "in"), ("stamp", "2026-01-04T000000Z"))
        self.assertIsNone(self.catalogue.folder_state("elsewhere", "in"))
        held = self.catalogue.held_at(self.catalogue.folder("here", "in"), "9")
        self.assertEqual(held.digest if held else "", self.digests[0])
        self.assertIsNone(self.catalogue.held_at(None, "9"))
        self.assertGreater(FOREVER, 10**12)

    def test_searching(self) -> None:
        self.add(
            letter("East quay", body="The fender at berth 4 has to go.\n"),
            letter("Berth 4", body="Crème brûlée\n"),
            letter("日本語 件名", body="港の潮汐\n"),
            letter("Other", body="fender " * 50),
        )
        table = {
            "fender": [4, 1],
            "FENDER berth": [1],
            '"berth 4"': [2, 1],
            '"4 berth"': [],
            "creme brulee": [2],
            "crem": [2],
            "rème": [],
            "ines": [1, 2, 3, 4],
            "件名": [3],
            "": [],
            "*": [],
            '"': [],
            "fen*": [4, 1],
            "east_quay": [],
            "a OR b": [],
            "NOT fender": [],
            "subject:quay": [],
        }
        for asked, wanted in table.items():
            with self.subTest(asked):
                self.assertEqual(sorted(self.catalogue.search([asked])), sorted(wanted))
        self.assertEqual(self.catalogue.search(["fender"])[0], 4)  # the one that says it most
        self.assertEqual(sorted(self.catalogue.search(["creme", "件名"])), [2, 3])

    def test_only_what_was_committed_stays(self) -> None:
        self.add(letter("a"))
        self.catalogue.commit()
        self.add(letter("b"))
        self.catalogue.close()
        again = Catalogue(self.folder / "c.sqlite")
        self.assertEqual(again.counts()[0], 1)
        self.assertTrue(again.is_sound())
        again.close()
        self.catalogue = Catalogue(self.folder / "c.sqlite", writing=True)

    def test_what_is_no_catalogue(self) -> None:
        for content in (b"x" * 5000, b"SQLite format 3\0" + bytes(100), b""):
            (self.folder / "other").write_bytes(content)
            with self.assertRaises(CatalogueDamaged):
                Catalogue(self.folder / "other")
        with self.assertRaises(CatalogueDamaged):
            Catalogue(self.folder / "none")

    def test_reading_leaves_no_trace(self) -> None:
        self.add(letter("a"))
        self.catalogue.commit()
        self.catalogue.close()
        before = (self.folder / "c.sqlite").read_bytes()
        reading = Catalogue(self.folder / "c.sqlite")
        reading.search(["a"])
        reading.close()
        writing = Catalogue(self.folder / "c.sqlite", writing=True)
        writing.start_seeing()
        writing.close()
        self.assertEqual((self.folder / "c.sqlite").read_bytes(), before)
        self.assertEqual([path.name for path in self.folder.iterdir()], ["c.sqlite"])
        self.catalogue = Catalogue(self.folder / "c.sqlite", writing=True)


class Struct(unittest.TestCase):
    def test_entries_are_as_the_specification_says(self) -> None:
        """Offsets of APPNOTE 6.3.10, sections 4.3.7 and 4.3.12, read by hand."""
        with tempfile.TemporaryDirectory() as place:
            path = Path(place) / "v.zip"
            writer = VolumeWriter(path)
            packed = pack(letter(body="tide " * 100))
            writer.add("a.eml", packed)
            writer.close()
            content = path.read_bytes()
        flags, method = struct.unpack_from("<HH", content, 6)
        crc, size, full = struct.unpack_from("<III", content, 14)
        self.assertEqual((flags, method, crc, size, full), (0x800, 8, packed.crc, len(packed.content), packed.size))
        self.assertEqual(content[30:35], b"a.eml")
        count, length, start = struct.unpack_from("<HII", content, len(content) - 12)
        self.assertEqual((count, content[start : start + 4], start + length), (1, b"PK\x01\x02", len(content) - 22))
