"""Backups: what they hold, what opens them, how they are topped up, searched and given back; judged by others' tools."""

from __future__ import annotations

import hashlib
import json
import mailbox
import os
import random
import re
import shutil
import sqlite3
import subprocess
import unittest
import zipfile
from collections import Counter
from collections.abc import Callable
from concurrent.futures import Future
from contextlib import closing
from datetime import UTC, datetime
from pathlib import Path
from unittest import mock

import bagit
import pyrage

from tests.helpers import ProgramTest, letter, mbox
from tests.test_accounts import AccountTest, crlf
from wexagraph.backups import topup
from wexagraph.backups.packing import pack, pack_from, pack_share
from wexagraph.backups.volumes import VolumeWriter, members, salvage
from wexagraph.demo.build import file, message, multipart, text, when
from wexagraph.demo.mailbox import make_mailbox
from wexagraph.selection.choice import Choice
from wexagraph.selection.criteria import Criterion
from wexagraph.sources import open_source
from wexagraph.work.batches import WorkerLost
from wexagraph.work.pool import ProcessWorkers


def digest(data: bytes) -> str:
    return hashlib.sha256(data).hexdigest()


def numbered(start: int, stop: int) -> list[bytes]:
    return [letter(f"Letter {n}", body=f"Number {n}, from the quay.\n" * (1 + n % 9)) for n in range(start, stop)]


class BackupTest(ProgramTest):
    def backup(self, source: str = "in.mbox", into: str = "bk", *more: object, code: int = 0) -> dict[str, object]:
        done = self.run_program("backup", source, "--into", into, *more, "--json", code=code)
        return dict(json.loads(done.stdout)) if done.stdout.startswith("{") else {"said": done.stderr}

    def assert_whole(self, folder: str | Path) -> None:
        """By our own deep look, by an independent BagIt library, by unzip and by sha256sum."""
        self.run_program("verify", "--deep", folder)
        root = self.folder / folder
        self.assertTrue(bagit.Bag(str(root)).validate())
        for volume in sorted((root / "data/volumes").glob("*.zip")):
            tested = subprocess.run(["unzip", "-tqq", volume], capture_output=True, check=False)
            self.assertEqual(tested.returncode, 0, tested.stdout)
        summed = subprocess.run(
            ["sha256sum", "--strict", "--quiet", "-c", "manifest-sha256.txt"], cwd=root, check=False
        )
        self.assertEqual(summed.returncode, 0)

    def stored(self, folder: str) -> Counter[str]:
        """The digests of all messages in the volumes, as `zipfile` reads them."""
        digests: Counter[str] = Counter()
        for path in (self.folder / folder / "data/volumes").glob("*.zip"):
            with zipfile.ZipFile(path) as volume:
                digests.update(digest(volume.read(name)) for name in volume.namelist())
        return digests


class TheForm(BackupTest):
    def test_a_demo_backup_opens_with_everything(self) -> None:
        made = make_mailbox(self.folder / "in")
        report = self.backup("in", "bk", "--volume-size", "1MB")
        wanted = Counter(digest(data) for held in made.messages.values() for data in held)
        self.assertEqual((report["written"], report["failed"]), (sum(wanted.values()), 0))
        self.assert_whole("bk")
        self.assertEqual(self.stored("bk"), Counter(wanted.keys()))  # each once
        listed = {row["id"]: row for row in self.listed("bk")}
        for row in self.listed("in"):
            # an mbox counts the quotes of From lines, which belong to no message
            self.assertEqual(
                {**row, "size": "", "attachments": ""}, {**listed[row["id"]], "size": "", "attachments": ""}
            )

    def test_readme_as_written(self) -> None:
        self.write("in.mbox", mbox(letter("The crane"), letter("The mole")))
        self.backup()
        root = self.folder / "bk"
        self.assertIn("data/volumes/*.zip", (root / "README.txt").read_text())
        output = subprocess.run(
            'for volume in data/volumes/*.zip; do unzip -l "$volume"; done | grep "crane"',
            shell=True,
            cwd=root,
            capture_output=True,
            text=True,
            check=True,
        ).stdout
        self.assertIn("in/2026-03-14 1503 Ines Halden - The crane", output)
        subprocess.run(["unzip", "-q", "data/volumes/000001.zip", "*crane*", "-d", "taken-out"], cwd=root, check=True)
        (taken,) = (root / "taken-out").rglob("*.eml")
        self.assertEqual(taken.read_bytes(), letter("The crane"))
        subprocess.run(["sha256sum", "-c", "--quiet", "manifest-sha256.txt"], cwd=root, check=True)

    def test_volumes_are_bounded_and_never_changed(self) -> None:
        rng = random.Random(8)
        big = [
            message(
                "a@b.example",
                "c@d.example",
                f"Plan {n}",
                when("2026-03-14"),
                multipart("mixed", text("See."), file("p.bin", "application/octet-stream", rng.randbytes(300_000))),
            )
            for n in range(9)
        ]
        self.write("in.mbox", mbox(*big[:6]))
        self.backup("in.mbox", "bk", "--volume-size", "1MB")
        first = {p.name: p.read_bytes() for p in (self.folder / "bk/data/volumes").iterdir()}
        self.assertGreater(len(first), 1)
        self.assertTrue(all(len(content) <= 1_048_576 for content in first.values()))
        lists = {p.name: p.read_bytes() for p in (self.folder / "bk/data/runs").iterdir()}
        self.write("in.mbox", mbox(*big))
        self.assertEqual(self.backup("in.mbox", "bk", "--volume-size", "1MB")["written"], 3)
        for below, before in (("volumes", first), ("runs", lists)):
            for name, content in before.items():
                self.assertEqual((self.folder / "bk/data" / below / name).read_bytes(), content)
        self.assert_whole("bk")

    def test_salvage_takes_whole_entries_only(self) -> None:
        path = self.folder / "v.zip"
        writer = VolumeWriter(path)
        for number in range(20):
            writer.add(f"{number}.eml", pack(letter(str(number), body="x" * 500)))
        writer.close()
        whole = path.read_bytes()
        listed = members(path)
        for cut in range(0, len(whole), 997):
            path.write_bytes(whole[:cut])
            ends = [m.offset + 30 + len(m.name) + m.packed for m in listed]
            self.assertEqual(len(list(salvage(path))), sum(end <= cut for end in ends))

    def test_folders_that_are_no_place_for_it(self) -> None:
        self.write("in.mbox", mbox(letter()))
        self.write("other/file.txt", "mine")
        self.assertIn("holds something else", str(self.backup("in.mbox", "other", code=3)["said"]))
        self.run_program("export", "in.mbox", "--into", "out", "--as", "eml")
        self.assertIn("holds an export", str(self.backup("in.mbox", "out", code=3)["said"]))
        self.assertIn("is not a backup", self.run_program("runs", "other", code=3).stderr)
        self.assertIn(
            "between 1 MB and 4 GB",
            self.run_program("backup", "in.mbox", "--into", "bk", "--volume-size", "3", code=2).stderr,
        )


class ToppingUp(BackupTest):
    def test_only_what_is_new(self) -> None:
        self.write("in.mbox", mbox(*numbered(0, 30)))
        self.assertEqual(self.backup()["written"], 30)
        report = self.backup()
        self.assertEqual((report["written"], report["already_there"], report["volumes"]), (0, 30, 0))
        self.write("in.mbox", mbox(*numbered(0, 40)))
        report = self.backup()
        self.assertEqual((report["written"], report["already_there"]), (10, 30))
        # compacted: all places change, no message does
        self.write("in.mbox", mbox(*numbered(5, 40)))
        report = self.backup()
        self.assertEqual((report["written"], report["chosen"]), (0, 35))
        self.assertEqual(len(self.listed("bk")), 35)
        self.assertEqual(len(self.stored("bk")), 40)
        self.assertEqual(len({row["subject"] for row in self.listed("bk", "--as-of", "ever")}), 40)
        self.assertIn("5 messages of earlier runs", self.run_program("list", "bk").stdout)
        self.assert_whole("bk")

    def test_one_message_in_many_folders_is_stored_once(self) -> None:
        for folder in ("a", "b", "c"):
            self.write(f"in/{folder}/x.eml", letter("The same"))
        report = self.backup("in")
        self.assertEqual((report["written"], report["already_there"], report["elsewhere"]), (1, 2, 2))
        self.assertEqual(sum(self.stored("bk").values()), 1)
        self.assertEqual(len(self.listed("bk")), 3)

    def test_flags_and_folders_change_without_a_body(self) -> None:
        box = mailbox.Maildir(self.folder / "md", create=True)
        for data in numbered(0, 5):
            box.add(data)
        self.backup("md")
        first = sorted((self.folder / "md/new").iterdir())
        first[0].rename(self.folder / "md/cur" / f"{first[0].name}:2,FS")
        report = self.backup("md")
        self.assertEqual((report["written"], report["changed"], report["volumes"]), (0, 1, 0))
        self.assertEqual(sorted(row["flags"] for row in self.listed("bk")), ["", "", "", "", "flagged seen"])
        (self.folder / "md/.Archive/cur").mkdir(parents=True)
        (self.folder / "md/.Archive/new").mkdir()
        first[1].rename(self.folder / "md/.Archive/cur" / f"{first[1].name}:2,S")
        report = self.backup("md")
        self.assertEqual((report["written"], report["gone"]), (0, 1))
        self.assertEqual(Counter(row["folder"] for row in self.listed("bk")), {"INBOX": 4, "Archive": 1})
        self.assert_whole("bk")

    def test_as_it_was(self) -> None:
        self.write("in.mbox", mbox(*numbered(0, 3)))
        first = str(self.backup()["run"])
        self.write("in.mbox", mbox(*numbered(2, 6)))
        second = str(self.backup()["run"])
        self.assertLess(first, second)
        self.assertEqual(self.subjects("bk", "--as-of", first), ["Letter 0", "Letter 1", "Letter 2"])
        self.assertEqual(self.subjects("bk"), [f"Letter {n}" for n in range(2, 6)])
        self.assertEqual(self.subjects("bk", "--as-of", first[:10]), self.subjects("bk"))
        self.assertIn("3 messages", self.run_program("folders", "bk", "--as-of", first).stdout)
        self.assertIn(
            "holds nothing of 2001-01-01", self.run_program("list", "bk", "--as-of", "2001-01-01", code=3).stderr
        )
        self.assertIn("is for backups", self.run_program("list", "in.mbox", "--as-of", "2026-01-01", code=2).stderr)
        runs = json.loads(self.run_program("runs", "bk", "--json").stdout)
        self.assertEqual(
            [(run["written"], run["gone"], run["state"]) for run in runs], [(3, 0, "whole"), (3, 2, "whole")]
        )

    def test_a_choice_in_parts(self) -> None:
        mails = [letter(f"L{n}", date=f"Sat, {n:02} Mar 2026 15:03:00 +0000", body=f"{n}\n") for n in range(1, 21)]
        self.write("in.mbox", mbox(*mails))
        self.assertEqual(self.backup("in.mbox", "bk", "--before", "2026-03-11")["written"], 10)
        report = self.backup("in.mbox", "bk", "--since", "2026-03-11")
        self.assertEqual((report["written"], report["gone"]), (10, 0))
        self.assertEqual(len(self.listed("bk")), 20)
        self.assertEqual(self.backup()["written"], 0)

    def test_a_source_that_shrinks_to_nothing_and_a_clock_set_back(self) -> None:
        for n in range(4):
            self.write(f"in/{n}.eml", letter(f"L{n}"))
        later = self.run_program("backup", "in", "--into", "bk", "--json", env={"FAKE": "1"})
        name = json.loads(later.stdout)["run"]
        future = re.sub(r"^\d{4}", "2099", name)
        for path in (self.folder / "bk/data/runs").iterdir():  # as if the last run had been in another century
            path.rename(path.with_name(f"{future}.jsonl"))
        manifest = self.folder / "bk/manifest-sha256.txt"
        manifest.write_text(manifest.read_text().replace(name, future))
        for tags in (self.folder / "bk").glob("tagmanifest*"):
            tags.unlink()
        (self.folder / "bk/catalogue.sqlite").unlink()
        for n in range(1, 4):
            (self.folder / f"in/{n}.eml").unlink()
        report = self.backup("in")
        self.assertGreater(str(report["run"]), future)
        self.assertEqual((report["written"], report["gone"]), (0, 3))
        self.assert_whole("bk")
        self.assertEqual(self.subjects("bk"), ["L0"])

    def test_folders_that_were_renamed_removed_and_emptied(self) -> None:
        self.write("in/Works.mbox", mbox(letter("Works")))
        for folder in ("Berths", "Piers", "Sheds", "Works/East"):
            self.write(f"in/{folder}.mbox", mbox(*(letter(f"{folder} {n}", body=f"{folder} {n}\n") for n in range(3))))
        first = str(self.backup("in")["run"])
        (self.folder / "in/Berths.mbox").rename(self.folder / "in/Quays.mbox")
        (self.folder / "in/Piers.mbox").unlink()
        (self.folder / "in/Sheds.mbox").write_bytes(b"")
        report = self.backup("in")
        self.assertEqual((report["written"], report["gone"]), (0, 6))
        rows = self.listed("bk")
        self.assertEqual({row["folder"] for row in rows}, {"Quays", "Works", "Works/East"})
        self.assertEqual(len(rows), 7)
        self.assertEqual(len(self.listed("bk", "--as-of", first)), 13)
        self.assertEqual(len(self.listed("bk", "--as-of", "ever")), 16)
        self.run_program("restore", "bk", "--into", "back")
        self.assertEqual(
            sorted({path.parent.name for path in (self.folder / "back").rglob("*.eml")}), ["East", "Quays", "Works"]
        )
        (self.folder / "bk/catalogue.sqlite").unlink()
        self.assertEqual(len(self.listed("bk")), 7, "the lists tell it too")
        self.assertEqual(self.backup("in")["gone"], 0)
        self.write("in/Piers.mbox", mbox(letter("Piers 0", body="Piers 0\n")))
        self.backup("in")
        self.assertEqual(len(self.listed("bk")), 8)
        (self.folder / "in/Works/East.mbox").unlink()
        self.assertEqual(self.backup("in")["gone"], 3, "though a folder above it is there")
        self.assert_whole("bk")

    def test_one_run_with_the_clock_ahead(self) -> None:
        from wexagraph.backups.topup import backup
        from wexagraph.sources import open_source

        for day, ahead in ((1, False), (2, True), (3, False), (4, False)):
            self.write("in.mbox", mbox(*numbered(0, day)))
            now = datetime(2044 if ahead else 2026, 3, day, 12, tzinfo=UTC)
            with open_source(str(self.folder / "in.mbox")) as source:
                backup(source, self.folder / "bk", now=now)
        for day, count in (
            ("2026-03-01", 1),
            ("2026-03-02", 1),
            ("2026-03-03", 3),
            ("2026-03-04", 4),
            ("2045-01-01", 4),
        ):
            self.assertEqual(len(self.listed("bk", "--as-of", day)), count, day)
        (self.folder / "bk/catalogue.sqlite").unlink()
        self.assertEqual(len(self.listed("bk", "--as-of", "2026-03-03")), 3)
        self.assertEqual(self.run_program("runs", "bk").stdout.count("2044-03-02"), 1 + 3, "its When, and three names")

    def test_two_sources_in_one_backup(self) -> None:
        self.write("a.mbox", mbox(letter("From A")))
        self.write("b.mbox", mbox(letter("From B"), letter("From A")))
        self.backup("a.mbox")
        self.assertEqual(self.backup("b.mbox")["written"], 1)
        self.assertEqual(sorted(row["folder"] for row in self.listed("bk")), ["a.mbox/a", "b.mbox/b", "b.mbox/b"])


class InShares(BackupTest):
    """A folder that is large enough to be read by several workers, a share each."""

    def setUp(self) -> None:
        super().setUp()
        rng = random.Random(8)
        mails = [
            message(
                "a@b.example",
                "c@d.example",
                f"Plan {n}",
                when("2026-03-14", 9, n % 60),
                multipart(
                    "mixed", text(f"Plan {n}.\n"), file("p.bin", "application/octet-stream", rng.randbytes(150_000))
                ),
            )
            for n in range(45)
        ]
        mails[30:30] = [mails[3], mails[3], *numbered(0, 200)]  # some twice, and many small ones in one share
        self.write("in.mbox", mbox(*mails))
        self.assertGreater((self.folder / "in.mbox").stat().st_size, 9_000_000)
        self.wanted = Counter(digest(data) for data in mails)

    def held(self, folder: str) -> list[dict[str, str]]:
        return [{**row, "folder": ""} for row in self.listed(folder)]

    def test_workers_and_one_process_make_the_same(self) -> None:
        for jobs in ("1", "2"):
            report = self.backup("in.mbox", f"bk{jobs}", "--jobs", jobs)
            self.assertEqual(
                [report[key] for key in ("chosen", "written", "already_there", "failed")], [247, 245, 2, 0]
            )
            self.assert_whole(f"bk{jobs}")
            self.assertEqual(self.stored(f"bk{jobs}"), Counter(dict.fromkeys(self.wanted, 1)))
            self.assertEqual(self.backup("in.mbox", f"bk{jobs}", "--jobs", jobs)["written"], 0)
        self.assertEqual(self.held("bk1"), self.held("bk2"))
        self.assertEqual(self.held("bk2"), self.held("in.mbox"))

    def test_a_message_that_breaks_its_worker_fails_alone(self) -> None:
        bad = self.listed("in.mbox")[100]
        submit = ProcessWorkers.submit_lasting

        def breaking(workers: ProcessWorkers, function: Callable[..., object], *arguments: object) -> Future[object]:
            places = [item[1] for item in arguments[-1]] if function is pack_from else []
            if function is pack_from and self.place in places:
                broken: Future[object] = Future()
                broken.set_exception(WorkerLost(False) if len(places) > 3 else MemoryError())
                return broken
            return submit(workers, function, *arguments)

        with open_source(self.folder / "in.mbox") as source:
            self.place = next(
                e.place for folder in source.folders() for e in source.envelopes(folder) if e.id == bad["id"]
            )
            choice = Choice(criteria=(Criterion("larger", "1"),))  # not the whole: in batches
            with mock.patch.object(ProcessWorkers, "submit_lasting", breaking):
                report = topup.backup(source, self.folder / "bk", choice, jobs=2)
        self.assertEqual((report.chosen, report.written, report.failed), (247, 244, 1))
        self.assertEqual(len(report.failures), 1)
        self.assertIn("more memory", str(report.failures[0]))
        kept = {row["id"] for row in self.held("bk")}
        self.assertEqual([row["id"] for row in self.held("in.mbox") if row["id"] not in kept], [bad["id"]])
        self.assertEqual(self.backup()["written"], 1)  # the next run has it
        self.assertEqual(self.held("bk"), self.held("in.mbox"))

    def test_a_share_that_breaks_its_worker_costs_no_message(self) -> None:
        submit, shares = ProcessWorkers.submit_lasting, []

        def breaking(workers: ProcessWorkers, function: Callable[..., object], *arguments: object) -> Future[object]:
            if function is pack_share:
                shares.append(arguments[-1])
                if len(shares) == 2:
                    broken: Future[object] = Future()
                    broken.set_exception(WorkerLost(False))
                    return broken
            return submit(workers, function, *arguments)

        with (
            mock.patch.object(ProcessWorkers, "submit_lasting", breaking),
            open_source(self.folder / "in.mbox") as source,
        ):
            report = topup.backup(source, self.folder / "bk", jobs=2)
        self.assertGreater(len(shares), 2)
        self.assertEqual((report.chosen, report.written, report.failed, report.interrupted), (247, 245, 0, False))
        self.assert_whole("bk")
        self.assertEqual(self.held("bk"), self.held("in.mbox"))


class OfAnEarlierVersion(BackupTest):
    def test_it_stays_proved(self) -> None:
        """A catalogue of version 2, as its sums have it: it is whole after a run with nothing new, after one with
        something, and after one that looks for scans."""
        self.write("in.mbox", mbox(letter("One")))
        self.backup()
        path = self.folder / "bk/catalogue.sqlite"
        with closing(sqlite3.connect(path)) as base:
            base.executescript("DROP TABLE recognised; DROP TABLE scanned; PRAGMA user_version = 2;")
        for name, algorithm in (("tagmanifest-sha256.txt", "sha256"), ("tagmanifest-sha512.txt", "sha512")):
            sums = self.folder / "bk" / name
            now = hashlib.new(algorithm, path.read_bytes()).hexdigest()
            sums.write_text(re.sub(r"(?m)^\w+(  catalogue\.sqlite)$", rf"{now}\1", sums.read_text()))
        self.assert_whole("bk")
        self.assertEqual(self.backup()["written"], 0)
        self.assert_whole("bk")
        self.assertEqual(self.backup("in.mbox", "bk", "--ocr", "eng")["scans"], 0)
        self.assert_whole("bk")
        self.assertEqual(len(self.listed("bk", "--text", "survey")), 1)
        self.write("in.mbox", mbox(letter("One"), letter("Two")))
        self.assertEqual(self.backup()["written"], 1)
        self.assert_whole("bk")


class AsASource(BackupTest):
    def setUp(self) -> None:
        super().setUp()
        make_mailbox(self.folder / "in")
        self.backup("in")

    def test_fields_behind_a_very_long_one(self) -> None:
        many = ",\n ".join(f"Pilot {n} <pilot{n}@saltmere.example>" for n in range(4000))
        data = letter("Spring tides", more=f"Cc: {many}\nX-Long: {'x' * 90_000}\n")
        head, _, rest = data.partition(b"To: Records <records@saltmere.example>\n")
        self.write("long.mbox", mbox(b"To: " + many.encode() + b"\n" + head + rest))
        self.backup("long.mbox", "long")
        (row,), (wanted,) = self.listed("long"), self.listed("long.mbox")
        self.assertEqual({**row, "folder": ""}, {**wanted, "folder": ""})
        self.assertEqual((row["subject"], row["date"][:10]), ("Spring tides", "2026-03-14"))

    def test_exports_are_the_same_as_from_the_mailbox(self) -> None:
        for source in ("in", "bk"):
            self.run_program("export", source, "--into", f"out-{source}", "--as", "eml,text", "--since", "2026-03-01")
        made = self.made("out-in")
        self.assertEqual(made, self.made("out-bk"))
        for path in made:
            self.assertEqual((self.folder / "out-in" / path).read_bytes(), (self.folder / "out-bk" / path).read_bytes())
        self.run_program("attachments", "bk", "--flat", "--into", "files", "--attached", "*.xlsx")
        self.assertTrue(self.made("files", ".xlsx"))
        id = self.listed("bk", "--subject", "East quay survey")[0]["id"]
        self.assertIn("the survey of the east quay is done", self.run_program("show", "bk", id).stdout)

    def test_searching_all_words(self) -> None:
        output = self.run_program("list", "bk", "--text", "fender berth").stdout
        self.assertIn("East quay survey", output)
        self.assertIn("The fender at berth 4", output)  # where it stands
        self.assertEqual(self.subjects("bk", "--text", '"the survey of the east quay is done"'), ["East quay survey"])
        self.assertEqual(self.subjects("bk", "--text", '"survey done"'), [])
        self.assertEqual(self.subjects("bk", "--text", "Uber*"), self.subjects("bk", "--text", "\u00fcber"))
        self.assertTrue(self.subjects("bk", "--text", "dredging xlsx"))  # the name of an attachment
        self.assertEqual(self.subjects("bk", "--text", "no-such-word-anywhere"), [])
        self.assertTrue(self.subjects("bk", "--text", "cormorant", "--from", "osgood"))
        for odd in ('"', "*", "AND", "a:b", "NEAR(", "'; DROP TABLE words"):
            self.run_program("list", "bk", "--text", odd)

    def test_the_catalogue_is_made_again(self) -> None:
        wanted = self.run_program("list", "bk", "--csv").stdout
        path = self.folder / "bk/catalogue.sqlite"
        for content in (None, b"", b"SQLite format 3\0" + bytes(5000)):
            path.unlink(missing_ok=True)
            if content is not None:
                path.write_bytes(content)
            self.assertEqual(self.run_program("list", "bk", "--csv").stdout, wanted)
        self.run_program("verify", "bk", code=1)
        self.run_program("verify", "bk", "--repair", "in")
        self.assert_whole("bk")

    def test_a_backup_that_can_not_be_written_to_is_read(self) -> None:
        place = self.folder / "disk"
        place.mkdir()
        shutil.copytree(self.folder / "bk", place / "bk")
        mounted = subprocess.run(["mount", "--bind", "-o", "ro", place, place], capture_output=True, check=False)
        mounted = (
            mounted if mounted.returncode else subprocess.run(["mount", "-o", "remount,ro,bind", place], check=False)
        )
        self.addCleanup(subprocess.run, ["umount", place], capture_output=True)
        if mounted.returncode:
            self.skipTest("this machine does not let a test mount anything")
        self.assertEqual(len(self.listed("disk/bk")), 117)
        self.run_program("verify", "disk/bk")
        self.assertIn("can't be written to", str(self.backup("in", "disk/bk", code=3)["said"]))


class GivingBack(BackupTest):
    def test_every_target_once_and_again(self) -> None:
        made = make_mailbox(self.folder / "in").messages
        wanted = Counter(digest(data) for held in made.values() for data in held)
        self.backup("in")
        for target in ("eml", "all.mbox", "all.zip", "maildir:md", "each.mbox"):
            more = ["--by-folder"] if target == "each.mbox" else []
            first = json.loads(self.run_program("restore", "bk", "--into", target, *more, "--json").stdout)
            self.assertEqual((first["written"], first["already_there"], first["failed"]), (117, 0, 0), target)
            again = json.loads(self.run_program("restore", "bk", "--into", target, *more, "--json").stdout)
            self.assertEqual((again["written"], again["already_there"]), (0, 117), target)
        self.assertEqual(Counter(digest(p.read_bytes()) for p in (self.folder / "eml").rglob("*.eml")), wanted)
        with zipfile.ZipFile(self.folder / "all.zip") as packed:
            self.assertEqual(Counter(digest(packed.read(name)) for name in packed.namelist()), wanted)
        self.assertEqual((self.folder / "all.mbox").read_bytes().count(b"\nFrom ") + 1, 117)
        self.assertEqual(
            Counter(row["folder"] for row in self.listed("maildir:md".removeprefix("maildir:"))),
            Counter(row["folder"] for row in self.listed("in")),
        )
        self.assertFalse(list(self.folder.rglob("*.part")))

    def test_the_newest_are_those_of_all_folders(self) -> None:
        for folder, days in (("a", (2, 4, 6)), ("b", (3, 5, 7))):
            self.write(
                f"in/{folder}.mbox", mbox(*(letter(f"day {n}", date=f"{n} Mar 2026 09:00:00 +0000") for n in days))
            )
        self.assertEqual(self.backup("in", "bk", "--newest", "3")["written"], 3)
        self.assertEqual(sorted(self.subjects("bk")), ["day 5", "day 6", "day 7"])

    def test_part_of_it_into_what_is_there(self) -> None:
        self.write("in.mbox", mbox(*numbered(0, 10)))
        self.backup()
        self.write("half.mbox", mbox(*numbered(0, 5)))
        report = json.loads(self.run_program("restore", "bk", "--into", "half.mbox", "--json").stdout)
        self.assertEqual((report["written"], report["already_there"]), (5, 5))
        self.assertEqual(self.subjects("half.mbox"), [f"Letter {n}" for n in range(10)])
        self.run_program("restore", "bk", "--subject", "Letter 3", "--into", "one")
        self.run_program(
            "restore", "bk", "--subject", "Letter 3", "--into", "named", "--name", "{date:%Y/%m} {subject}"
        )
        (name,) = self.made("named")
        self.assertRegex(name, r"/2026 03 Letter 3 [0-9a-f]{12}\.eml$")
        self.run_program("restore", "bk", "--into", "named.mbox", "--name", "{subject}", code=2)
        self.assertEqual(len(self.made("one")), 1)
        self.assertIn("is not a backup", self.run_program("restore", "in.mbox", "--into", "x", code=2).stderr)
        self.assertIn("ends in .mbox", self.run_program("restore", "bk", "--into", "x", "--by-folder", code=2).stderr)

    def test_names_from_a_message_lead_nowhere(self) -> None:
        self.write("in.mbox", mbox(letter("../../../etc/passwd"), letter("a/b\\c:d|e"), letter("\u202egnp.exe")))
        self.backup()
        self.run_program("restore", "bk", "--into", "deep/out")
        made = list(self.folder.rglob("*.eml"))
        self.assertEqual(len(made), 3)
        self.assertTrue(all(p.parent == self.folder / "deep/out/in" for p in made))


class Locked(BackupTest):
    SECRET = "tide and time wait"

    def setUp(self) -> None:
        super().setUp()
        os.environ["WEXAGRAPH_PASSPHRASE"] = self.SECRET
        self.addCleanup(os.environ.pop, "WEXAGRAPH_PASSPHRASE", None)
        self.made = make_mailbox(self.folder / "in").messages
        self.backup("in", "bk", "--lock")

    def test_nothing_can_be_read_in_it(self) -> None:
        paths = [p for p in (self.folder / "bk").rglob("*") if p.is_file()]
        for path in paths:
            content = path.read_bytes()
            for word in (b"Halden", b"Buoy", b"harbour", b"saltmere.example", b"East quay", self.SECRET.encode()):
                self.assertNotIn(word, content, path)
        names = {p.name for p in paths}
        self.assertTrue({"key.age", "000001.zip.age", "catalogue.sqlite.age"} <= names)
        self.assertNotIn("catalogue.sqlite", names)

    def test_all_commands_with_the_passphrase(self) -> None:
        self.assertEqual(self.backup("in")["written"], 0)
        self.write("in/new/x.eml", letter("New one"))
        self.assertEqual(self.backup("in")["written"], 1)
        self.assertEqual(len(self.listed("bk")), 118)
        self.assertEqual(
            self.subjects("bk", "--text", "fender berth")[:1], self.subjects("bk", "--text", "fender berth")[:1]
        )
        self.run_program("verify", "--deep", "bk")
        self.assertTrue(bagit.Bag(str(self.folder / "bk")).validate())
        self.assertIn("2 volumes joined into 1", self.run_program("join", "bk").stdout)
        self.run_program("restore", "bk", "--into", "out")
        wanted = Counter(digest(data) for held in self.made.values() for data in held) + Counter(
            [digest(letter("New one"))]
        )
        self.assertEqual(Counter(digest(p.read_bytes()) for p in (self.folder / "out").rglob("*.eml")), wanted)
        self.assertEqual(len(json.loads(self.run_program("runs", "bk", "--json").stdout)), 4)

    def test_without_it_only_sums_and_copies(self) -> None:
        for wrong, code in (("another one", 2), ("", 2)):
            os.environ["WEXAGRAPH_PASSPHRASE"] = wrong
            for command in (["list", "bk"], ["verify", "--deep", "bk"], ["backup", "in", "--into", "bk"]):
                done = self.run_program(*command, code=code)
                self.assertIn("does not open" if wrong else "WEXAGRAPH_PASSPHRASE", done.stderr)
        self.run_program("verify", "bk")
        self.run_program("copy", "bk", "--into", "bk2")
        volume = self.folder / "bk/data/volumes/000001.zip.age"
        content = bytearray(volume.read_bytes())
        content[5000] ^= 1
        volume.write_bytes(content)
        self.assertIn("Altered: data/volumes/000001.zip.age", self.run_program("verify", "bk", code=1).stdout)
        os.environ["WEXAGRAPH_PASSPHRASE"] = self.SECRET
        self.run_program("list", "bk")
        self.assertIn("Mended", self.run_program("verify", "bk", "--repair", "bk2").stdout)
        self.run_program("verify", "--deep", "bk")

    @unittest.skipUnless(shutil.which("age"), "age is not installed")
    def test_another_program_opens_it(self) -> None:
        key = pyrage.passphrase.decrypt((self.folder / "bk/key.age").read_bytes(), self.SECRET)
        self.write("key", key)
        with (self.folder / "v.zip").open("wb") as out:
            opened = ["age", "-d", "-i", "key", "bk/data/volumes/000001.zip.age"]
            subprocess.run(opened, stdout=out, cwd=self.folder, check=True)
        tested = subprocess.run(["unzip", "-tqq", "v.zip"], cwd=self.folder, capture_output=True, check=False)
        self.assertEqual(tested.returncode, 0)

    def test_calls_that_are_refused(self) -> None:
        os.environ["WEXAGRAPH_PASSPHRASE"] = "short"
        self.assertIn("fewer than 8", str(self.backup("in", "b2", "--lock", code=2)["said"]))
        os.environ["WEXAGRAPH_PASSPHRASE"] = self.SECRET
        self.backup("in", "open")
        self.assertIn("can't become one", str(self.backup("in", "open", "--lock", code=2)["said"]))


class OnALine(AccountTest, BackupTest):
    def backup_account(self, into: str, *more: str) -> dict[str, object]:
        return dict(json.loads(self.run_program("backup", "@office", "--into", into, *more, "--json").stdout))

    def test_top_up_asks_little(self) -> None:
        self.server.fill("Quay", [crlf(data) for data in numbered(0, 40)])
        self.assertEqual(self.backup_account("bk", "--folder", "Quay")["written"], 40)
        self.server.forget_commands()
        report = self.backup_account("bk", "--folder", "Quay")
        self.assertEqual((report["written"], report["already_there"]), (0, 40))
        self.assertEqual(len(self.sent("STATUS")), 1)
        self.assertEqual(self.sent("FETCH"), [])
        self.server.fill("Quay", [crlf(data) for data in numbered(40, 42)], "(\\Flagged)")
        client = self.server.client()
        client.select('"Quay"')
        client.store("1", "+FLAGS", "(\\Seen Filed)")
        client.logout()
        self.server.forget_commands()
        report = self.backup_account("bk", "--folder", "Quay")
        self.assertEqual((report["written"], report["changed"], report["gone"]), (2, 1, 0))
        (bodies,) = self.sent("FETCH", "BODY.PEEK[]")
        self.assertIn("41:42", bodies)
        flags = Counter(row["flags"] for row in self.listed("bk"))
        self.assertEqual(flags, {"": 39, "filed seen": 1, "flagged": 2})
        self.assert_whole("bk")

    def test_round_trip(self) -> None:
        """mbox to backup to Maildir to backup to IMAP to backup to EML: all digests, flags, folders and dates."""
        mails = [
            crlf(letter(f"Round {n}", more=f"Message-ID: <r{n}@saltmere.example>\nStatus: R\n")) for n in range(12)
        ]
        lines = [b"From quay@saltmere.example Sat Mar %2d 15:03:0%d 2026\n" % (1 + n, n % 10) for n in range(12)]
        self.write("trip/Round.mbox", b"".join(line + data + b"\r\n" for line, data in zip(lines, mails, strict=True)))
        self.run_program("backup", "trip", "--into", "b1")
        wanted = self.state("b1")
        self.assertEqual(len(wanted), 12)
        self.run_program("restore", "b1", "--into", "maildir:md")
        self.run_program("backup", "md", "--into", "b2", "--folder", "Round")
        self.assertEqual(self.state("b2"), wanted)
        done = self.run_program("restore", "b2", "--into", "@office", code=2)
        self.assertIn("Add --yes to allow it", done.stderr)
        done = self.run_program("restore", "b2", "--into", "@office", "--yes")
        self.assertIn("12 given back", done.stdout)
        done = self.run_program("restore", "b2", "--into", "@office", "--yes")
        self.assertIn("0 given back, 12 already there", done.stdout)
        self.run_program("backup", "@office", "--into", "b3", "--folder", "Round")
        self.assertEqual(self.state("b3"), wanted)
        self.run_program("restore", "b3", "--into", "eml")
        self.assertEqual(
            sorted(digest(p.read_bytes()) for p in (self.folder / "eml/Round").iterdir()),
            sorted(digest(data) for data in mails),
        )
        times = {int(p.stat().st_mtime) for p in (self.folder / "eml/Round").iterdir()}
        self.assertEqual(len(times), 12)

    def state(self, folder: str) -> list[tuple[str, str, str, str]]:
        """Folder, digest, flags and arrival of all messages, from the lists of the runs themselves."""
        files = []
        for path in sorted((self.folder / folder / "data/runs").iterdir()):
            name = ""
            for line in path.read_text("utf-8").splitlines():
                value = json.loads(line)
                name = value.get("folder", name)
                if "message" in value:
                    instant = value["arrived"].replace("+00:00", "")
                    files.append((name.removesuffix(".mbox"), value["message"], " ".join(value["flags"]), instant))
        return sorted(files)

    def test_afterwards_only_what_is_proved(self) -> None:
        self.server.fill("Clear", [crlf(data) for data in numbered(100, 106)])
        self.assertIn(
            "--yes",
            self.run_program(
                "backup", "@office", "--folder", "Clear", "--into", "bk", "--afterwards", "delete", code=2
            ).stderr,
        )
        done = self.run_program(
            "backup",
            "@office",
            "--folder",
            "Clear",
            "--into",
            "bk",
            "--afterwards",
            "move:Kept/Old",
            "--subject",
            "Letter 10",
            "--yes",
        )
        self.assertIn("6 messages moved to Kept/Old", done.stdout)
        self.assertEqual((len(self.server.state("Clear")), len(self.server.state("Kept.Old"))), (0, 6))
        self.assert_whole("bk")

    def test_a_damaged_volume_clears_nothing(self) -> None:
        self.server.fill("Unsafe", [crlf(data) for data in numbered(200, 204)])
        self.run_program("backup", "@office", "--folder", "Unsafe", "--into", "bk")
        (volume,) = (self.folder / "bk/data/volumes").iterdir()
        content = bytearray(volume.read_bytes())
        content[200] ^= 4
        before = volume.stat()
        volume.write_bytes(content)
        os.utime(volume, ns=(before.st_atime_ns, before.st_mtime_ns))  # a disk that forgets leaves no trace
        done = self.run_program(
            "backup", "@office", "--folder", "Unsafe", "--into", "bk", "--afterwards", "delete", "--yes"
        )
        self.assertIn("Nothing to do at the source", done.stderr)
        self.assertEqual(len(self.server.state("Unsafe")), 4)

    def test_pop(self) -> None:
        self.server.fill("INBOX", [crlf(letter(f"Pop {n}")) for n in range(3)])
        self.write("wexagraph.toml", self.configuration(self.server.pops, scheme="pops"))
        self.assertEqual(self.backup_account("bk")["written"], 3)
        self.assertEqual(self.backup_account("bk")["written"], 0)
        self.assertEqual(len(self.listed("bk")), 3)


if __name__ == "__main__":
    os.environ.setdefault("TZ", "UTC")
    unittest.main()
