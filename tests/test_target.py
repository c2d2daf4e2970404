"""The folder an export writes into, and its journal: the core, tested on its own."""

from __future__ import annotations

import hashlib
import io
import os
import sqlite3
import tempfile
import unittest
from pathlib import Path

from tests.helpers import ProgramTest, letter, mbox, named_rows
from wexagraph.errors import MessageError, TargetError
from wexagraph.exports.journal.journal import Journal
from wexagraph.exports.journal.records import FileRecord, PlannedMessage, packed
from wexagraph.naming.paths import folder_path
from wexagraph.notes import CODES, Note
from wexagraph.output.folder import OutputFolder, rename_new
from wexagraph.output.staging import Stager
from wexagraph.output.target import Target
from wexagraph.tables.columns import csv_row

HERE = Path(__file__).parent


class InAFolder(unittest.TestCase):
    def setUp(self) -> None:
        place = tempfile.TemporaryDirectory()
        self.addCleanup(place.cleanup)
        self.folder = Path(place.name)


class Targets(InAFolder):
    def setUp(self) -> None:
        super().setUp()
        self.target = Target(self.folder / "out")
        self.addCleanup(self.target.close)

    def test_staged_is_not_there_until_it_is_put(self) -> None:
        staged = self.target.stage("a/b.txt", b"words")
        self.assertFalse((self.folder / "out/a").exists())
        self.assertEqual(self.target.put([staged]), [(staged, None)])
        self.assertEqual((self.folder / "out/a/b.txt").read_bytes(), b"words")
        self.assertEqual(staged.sha256, hashlib.sha256(b"words").hexdigest())
        self.assertEqual(self.target.stamp("a/b.txt"), (5, staged.modified))

    def test_a_name_that_was_taken_meanwhile_is_left_alone(self) -> None:
        staged = self.target.stage("b.txt", b"ours")
        (self.folder / "out/b.txt").write_bytes(b"theirs")
        ((_, refused),) = self.target.put([staged])
        self.assertEqual((refused, staged.path), (None, "b (2).txt"))
        self.assertEqual((self.folder / "out/b.txt").read_bytes(), b"theirs")
        self.assertEqual((self.folder / "out/b (2).txt").read_bytes(), b"ours")

    def test_the_same_bytes_count_as_written(self) -> None:
        (self.folder / "out/b.txt").write_bytes(b"ours")
        self.assertIsNone(self.target.put([self.target.stage("b.txt", b"ours")])[0][1])

    def test_a_file_of_ours_gives_way(self) -> None:
        (self.folder / "out/b.txt").write_bytes(b"old")
        self.target.put([self.target.stage("b.txt", b"new", replaces=True)])
        self.assertEqual((self.folder / "out/b.txt").read_bytes(), b"new")

    def test_links_and_files_in_the_way(self) -> None:
        os.symlink(self.folder, self.folder / "out/link")
        (self.folder / "out/file").write_bytes(b"")
        for path in ("link/x", "file/x", "link/deeper/x"):
            with self.assertRaises(MessageError):
                self.target.make_folder(path)
        refused = [
            reason
            for _, reason in self.target.put([self.target.stage("link/x.txt", b"x"), self.target.stage("y.txt", b"y")])
        ]
        self.assertIn("symbolic link", refused[0] or "")
        self.assertIsNone(refused[1])
        self.assertFalse((self.folder / "x.txt").exists())

    def test_one_writer_at_a_time(self) -> None:
        with self.assertRaisesRegex(TargetError, f"in use by process {os.getpid()}"):
            Target(self.folder / "out")
        self.target.close()
        Target(self.folder / "out").close()

    def test_what_a_stopped_run_left_is_cleared(self) -> None:
        self.target.stage("never.txt", b"put")
        self.target.close()
        self.assertFalse((self.folder / "out/.wexagraph/staged").exists())
        self.assertEqual([path.name for path in (self.folder / "out").iterdir()], [".wexagraph"])

    def test_an_empty_folder_is_taken_away_under_nobodys_feet(self) -> None:
        with OutputFolder(self.folder / "out") as waiting:  # another run, which has opened it and not its lock yet
            self.target.root.discard()
            self.target.close()
            with self.assertRaises(FileNotFoundError):
                waiting.take_lock(0)
        self.assertFalse((self.folder / "out").exists())
        again = Target(self.folder / "out")
        again.put([again.stage("b.txt", b"words")])
        again.root.discard()
        again.close()
        self.assertTrue((self.folder / "out/b.txt").exists())

    def test_setting_aside(self) -> None:
        for turn in ("first", "second"):
            (self.folder / "out/register.csv").write_text(turn)
            self.target.set_aside("register.csv")
        names = sorted(path.name for path in (self.folder / "out").glob("*.csv"))
        self.assertEqual(names, ["register (changed by hand) (2).csv", "register (changed by hand).csv"])


class Renaming(InAFolder):
    def test_only_to_a_free_name(self) -> None:
        old, new = self.folder / "old", self.folder / "new"
        old.write_text("old")
        rename_new(str(old), str(new))
        self.assertEqual(new.read_text(), "old")
        old.write_text("other")
        with self.assertRaises(FileExistsError):
            rename_new(str(old), str(new))
        os.symlink("nowhere", self.folder / "link")
        with self.assertRaises(FileExistsError):
            rename_new(str(old), str(self.folder / "link"))
        with self.assertRaises(FileNotFoundError):
            rename_new(str(self.folder / "none"), str(self.folder / "other"))

    def test_stagers_do_not_meet(self) -> None:
        stager = Stager(str(self.folder))
        waiting = {stager.stage("x", b"%d" % n, False).waiting for n in range(50)}
        self.assertEqual(len(waiting), 50)


def wish(place: str, key: str, date: str = "2026-03-14") -> PlannedMessage:
    return PlannedMessage(
        place, "stamp", "id" + place, 10, None, packed(("2026-03-14", "a", "b", "", "Subject")), "[]", key, key, date
    )


class Journals(InAFolder):
    def open(self) -> Journal:
        journal = Journal(self.folder / "journal.sqlite")
        self.addCleanup(journal.close)
        return journal

    def test_what_was_not_committed_is_forgotten(self) -> None:
        journal = self.open()
        journal.add_many("s", "f", [wish("1", "a")])
        journal.commit()
        journal.add_many("s", "f", [wish("2", "b")])
        journal.close()
        again = self.open()
        self.assertIsNotNone(again.known("s", "f", "1", "stamp"))
        self.assertIsNone(again.known("s", "f", "2", "stamp"))
        self.assertIsNone(again.known("s", "f", "1", "another stamp"))

    def test_wishes_of_one_name_go_by_date_then_bytes(self) -> None:
        journal = self.open()
        journal.add_many(
            "s",
            "f",
            [
                wish("1", "same", "2026-03-02"),
                wish("2", "same", "2026-03-01"),
                wish("3", "other"),
                wish("4", "same", "2026-03-01"),
            ],
        )
        self.assertEqual(journal.names.rivals(), [1, 2, 4])
        journal.set_digest(2, "bb")
        journal.set_digest(4, "aa")
        order = [number for number, _, _ in journal.names.wishes()]
        self.assertEqual(order, [3, 4, 2, 1])  # who comes first under a key, then the rest: by date, then by digest

    def test_lone_names_are_given_at_once(self) -> None:
        journal = self.open()
        journal.add_many("s", "f", [wish("1", "a"), wish("2", "b"), wish("3", "b")])
        journal.names.give_lone("n")
        self.assertEqual([number for number, _, _ in journal.names.wishes()], [2, 3])
        self.assertTrue(journal.names.taken("a", 2))
        self.assertFalse(journal.names.taken("a", 1), "its own name does not stand in a message's way")

    def test_the_rows_of_a_run_in_the_order_of_work(self) -> None:
        journal = self.open()
        journal.add_many("s", "b", [wish(str(n), f"b{n}") for n in (3, 1, 2)])
        journal.add_many("s", "a", [wish("9", "a9")])
        journal.names.give_lone("n")
        journal.files.record([FileRecord("b1.eml", 2, "eml", "n", "eml", 10, 7, "ff", (Note("remade", "x"),))])
        rows = [(row.folder, row.place, row.stem, [file.path for file in files]) for row, files in journal.chosen("n")]
        self.assertEqual(
            rows, [("a", "9", "a9", []), ("b", "1", "b1", ["b1.eml"]), ("b", "2", "b2", []), ("b", "3", "b3", [])]
        )
        self.assertTrue(journal.files.has(2, "b1.eml"))
        self.assertEqual(list(journal.files.checksums()), [("b1.eml", "ff")])
        self.assertEqual(journal.facts(1)[-1], "Subject")

    def test_a_plan_that_was_never_carried_out_gives_its_names_back(self) -> None:
        journal = self.open()
        journal.add_many("s", "f", [wish("1", "a")])
        journal.names.give_lone("n")
        journal.commit()
        journal.close()
        again = self.open()
        again.forget_unread()
        self.assertFalse(again.names.taken("a"))
        self.assertTrue(again.is_empty())

    def test_a_journal_of_a_newer_version(self) -> None:
        base = sqlite3.connect(self.folder / "journal.sqlite")
        base.execute("PRAGMA user_version = 99")
        base.close()
        with self.assertRaisesRegex(TargetError, "newer Wexagraph"):
            Journal(self.folder / "journal.sqlite")


class EarlierVersion(ProgramTest):
    def test_a_folder_that_version_2_has_made_is_gone_on_with(self) -> None:
        letters = (letter('=1+1, "quoted"'), letter("'Fog'"))
        self.write("in.mbox", mbox(*letters))
        for name, data in (("=1+1, 'quoted'", letters[0]), ("'Fog'", letters[1])):
            self.write(f"out/in/2026-03-14 1503 Ines Halden - {name}.eml", data)
        register = (HERE / "register-of-version-2.csv").read_bytes()
        self.write("out/register.csv", register)
        (self.folder / "out/.wexagraph").mkdir()
        base = sqlite3.connect(self.folder / "out/.wexagraph/journal.sqlite")
        base.executescript((HERE / "journal-of-version-2.sql").read_text().replace("@HERE@", str(self.folder)))
        base.execute("PRAGMA user_version = 2")
        base.close()
        done = self.run_program("export", "in.mbox", "--into", "out", "--as", "eml", "--tag", "=a")
        self.assertIn("0 written, 2 already there", done.stdout)
        now = named_rows(io.StringIO((self.folder / "out/register.csv").read_text("utf-8-sig")))
        then = named_rows(io.StringIO(register.decode("utf-8-sig")))
        for row, was in zip(now, then, strict=True):
            self.assertEqual({name: row[name] for name in was if name != "attachments"} | {"attachments": ""}, was)
        self.assertEqual(len(self.made("out")), 2)
        self.run_program("verify", "out")
        base = sqlite3.connect(self.folder / "out/.wexagraph/journal.sqlite")
        subjects = [facts.split("\x1f")[-1] for (facts,) in base.execute("SELECT facts FROM message ORDER BY number")]
        self.assertEqual(subjects, ['=1+1, "quoted"', "'Fog'"], "kept as they are meant")
        base.close()


class Pieces(unittest.TestCase):
    def test_cells(self) -> None:
        for texts, wanted in [
            (("a", "b"), "a,b"),
            (("a,b", "c"), '"a,b",c'),
            (('say "x"', ""), '"say ""x""",'),
            (("a\nb", "c"), '"a\nb",c'),
            (("é", "日"), "é,日"),
            (("=1+1", None, 3), "'=1+1,,3"),
        ]:
            self.assertEqual(csv_row(texts), wanted + "\r\n")

    def test_folders(self) -> None:
        for folder, flat, wanted in [
            ("Berths/East", False, "Berths/East"),
            ("Berths/East", True, ""),
            ("../up", False, "up"),
            ("a:b/CON", False, "a-b/CON_"),
            ("/", False, ""),
            ("x" * 300, False, "x" * 120),
        ]:
            self.assertEqual(folder_path(folder, flat), wanted)

    def test_notes(self) -> None:
        self.assertEqual(str(Note("date-missing")), CODES["date-missing"])
        self.assertEqual(str(Note("picture-remote", "3")), CODES["picture-remote"] + " (3)")
        with self.assertRaises(ValueError):
            Note("no-such-code")
