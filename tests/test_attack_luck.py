"""Bad luck: what is lost, full, cut, overwritten or done twice at once. Nothing is lost in silence, and the same command goes on."""

from __future__ import annotations

import builtins
import errno
import hashlib
import itertools
import json
import mailbox
import os
import random
import shutil
import sqlite3
import threading
from collections.abc import Callable
from pathlib import Path
from unittest import mock

from tests.helpers import ProgramTest, letter, mbox
from wexagraph.backups.copying import copy
from wexagraph.backups.join import join
from wexagraph.backups.repair import repair
from wexagraph.backups.restore import restore
from wexagraph.backups.source import BackupSource
from wexagraph.backups.topup import backup
from wexagraph.backups.verify import verify
from wexagraph.errors import TargetError, WexagraphError
from wexagraph.exports.options import ExportOptions
from wexagraph.exports.run import export
from wexagraph.output.folder import OutputFolder
from wexagraph.output.replacing import ReplacedFile
from wexagraph.output.sinks.mbox import MboxSink
from wexagraph.sources import open_source


def letters(start: int, stop: int, body: str = "words\n") -> list[bytes]:
    return [letter(f"Letter {n}", body=f"{n} {body}") for n in range(start, stop)]


class LuckTest(ProgramTest):
    run_program = ProgramTest.call_program

    def digests(self, folder: str, pattern: str = "*.eml") -> list[str]:
        return sorted(hashlib.sha256(p.read_bytes()).hexdigest() for p in (self.folder / folder).rglob(pattern))

    def wanted(self, mails: list[bytes]) -> list[str]:
        return sorted(hashlib.sha256(one).hexdigest() for one in mails)


class LostJournals(LuckTest):
    def test_register_and_manifest_make_it_again(self) -> None:
        mails = [*letters(0, 8), letter("Same"), letter("Same", body="other\n"), letter("=1+1")]
        self.write("in.mbox", mbox(*mails))
        commands = {
            "eml": ("--as", "eml,text"),
            "archives": ("--as", "mbox,zip"),
            "bound": ("--as", "pdf", "--bind", "all"),
            "beside": ("--as", "eml", "--attachments", "beside,zip"),
        }
        harms: dict[str, Callable[[Path], object]] = {
            "gone": lambda own: shutil.rmtree(own),
            "emptied": lambda own: (own / "journal.sqlite").write_bytes(b""),
            "cut": lambda own: os.truncate(own / "journal.sqlite", 5000),
            "inner pages": lambda own: _scribble(own / "journal.sqlite"),
            "text": lambda own: (own / "journal.sqlite").write_text("x" * 9000),
        }
        for name, options in commands.items():
            for harm, do in harms.items():
                with self.subTest(f"{name} {harm}"):
                    self.call_program("export", "in.mbox", "--into", "out", *options)
                    before = self.made("out")
                    do(self.folder / "out/.wexagraph")
                    self.call_program("verify", "out", code=None)
                    done = json.loads(
                        self.call_program("export", "in.mbox", "--into", "out", *options, "--json").stdout
                    )
                    self.assertEqual((self.made("out"), done["failed"], done["recovered"]), (before, 0, len(mails)))
                    self.call_program("verify", "out")
                    again = json.loads(
                        self.call_program("export", "in.mbox", "--into", "out", *options, "--json").stdout
                    )
                    self.assertEqual((again["written"], again["already_there"]), (0, len(mails)))
                    shutil.rmtree(self.folder / "out")

    def test_of_attachments(self) -> None:
        from tests.test_attack_places import with_file

        self.write("in.mbox", mbox(*(with_file("plan.pdf", f"Letter {n}", b"%d" % n) for n in range(5))))
        for harm in ("gone", "cut", "inner pages"):
            with self.subTest(harm):
                self.call_program("attachments", "in.mbox", "--flat", "--into", "att")
                before, own = self.made("att"), self.folder / "att/.wexagraph"
                shutil.rmtree(own) if harm == "gone" else os.truncate(
                    own / "journal.sqlite", 5000
                ) if harm == "cut" else _scribble(own / "journal.sqlite")
                self.assertIn(
                    "5 already there", self.call_program("attachments", "in.mbox", "--flat", "--into", "att").stdout
                )
                self.assertEqual(self.made("att"), before)
                self.call_program("verify", "att")
                shutil.rmtree(self.folder / "att")

    def test_what_stands_in_the_place_of_a_list(self) -> None:
        self.write("in.mbox", mbox(*letters(0, 3)))
        for name in ("register.csv", "manifest-sha256.txt"):
            with self.subTest(name):
                self.call_program("export", "in.mbox", "--into", "out", "--as", "eml")
                (self.folder / "out" / name).unlink()
                (self.folder / "out" / name).mkdir()
                (self.folder / "out" / name / "mine.txt").write_text("kept")
                self.call_program("verify", "out", code=None)
                self.call_program("export", "in.mbox", "--into", "out", "--as", "eml")
                self.assertTrue((self.folder / "out" / name).is_file())
                self.assertEqual([p.read_text() for p in (self.folder / "out").rglob("mine.txt")], ["kept"])
                shutil.rmtree(self.folder / "out")


def _scribble(path: Path) -> None:
    """Damage inner pages of a database, its first page left whole."""
    content = bytearray(path.read_bytes())
    rng = random.Random(7)
    for at in range(4096 + 100, len(content), 512):
        content[at : at + 64] = rng.randbytes(64)
    path.write_bytes(content)


class LostVolumes(LuckTest):
    def test_what_is_lost_is_stored_again(self) -> None:
        mails = letters(0, 40, "words that fill a volume\n" * 400)
        self.write("in.mbox", mbox(*mails))
        harms: dict[str, Callable[[Path], object]] = {
            "all": lambda bk: shutil.rmtree(bk / "data/volumes"),
            "one": lambda bk: next((bk / "data/volumes").iterdir()).unlink(),
            "emptied": lambda bk: next((bk / "data/volumes").iterdir()).write_bytes(b""),
            "cut": lambda bk: os.truncate(next((bk / "data/volumes").iterdir()), 300),
            "scribbled": lambda bk: next((bk / "data/volumes").iterdir()).write_bytes(b"x" * 9999),
            "lists": lambda bk: shutil.rmtree(bk / "data/runs"),
            "data": lambda bk: shutil.rmtree(bk / "data"),
            "the catalogue": lambda bk: _scribble(bk / "catalogue.sqlite"),
        }
        for name, harm in harms.items():
            with self.subTest(name):
                self.call_program("backup", "in.mbox", "--into", "bk")
                self.call_program("backup", "in.mbox", "--into", "bk")
                harm(self.folder / "bk")
                if name == "the catalogue":
                    self.call_program("verify", "bk", "--repair", "in.mbox")
                self.call_program("backup", "in.mbox", "--into", "bk")
                proof = verify(self.folder / "bk", deep=True)
                self.assertTrue(proof.whole, proof.findings)
                self.call_program("restore", "bk", "--into", "back")
                self.assertEqual(self.digests("back"), self.wanted(mails))
                for place in ("bk", "back"):
                    shutil.rmtree(self.folder / place)

    def test_what_the_source_has_no_more_is_said(self) -> None:
        self.write("in.mbox", mbox(*letters(0, 5)))
        self.call_program("backup", "in.mbox", "--into", "bk")
        shutil.rmtree(self.folder / "bk/data/volumes")
        self.write("in.mbox", mbox(*letters(2, 5)))
        done = self.call_program("backup", "in.mbox", "--into", "bk", code=1)
        self.assertIn("2 of its messages are not in this source any more", done.stdout)
        self.assertEqual(self.call_program("verify", "bk", code=1).returncode, 1)


class KilledAtEachStep(LuckTest):
    """Backup, join, copy, restore and repair, each ended before every one of its steps; then proved, and run again."""

    STEPS = ("replace", "rename", "unlink", "link", "mkdir", "fsync")

    def killed_before(self, step: int, action: Callable[[], object]) -> bool:
        """Do it in a process of its own that is gone before its step of that number: as by kill -9, nothing is tidied.
        False where it came to its end first."""
        child = os.fork()
        if not child:
            count = itertools.count()

            def until(real: Callable[..., object]) -> Callable[..., object]:
                def one(*arguments: object, **more: object) -> object:
                    if next(count) == step:
                        os._exit(9)
                    return real(*arguments, **more)

                return one

            try:
                for name in self.STEPS:
                    setattr(os, name, until(getattr(os, name)))
                action()
                os._exit(0)
            finally:
                os._exit(1)
        code = os.waitstatus_to_exitcode(os.waitpid(child, 0)[1])
        self.assertIn(code, (0, 9))
        return code == 9

    def at_each_step(self, parts: dict[str, str], action: Callable[[], object], prove: Callable[[], None]) -> None:
        """`parts` are the folders and files that an action begins with, each a copy of another."""
        for step in itertools.count():
            with self.subTest(step):
                for name in ("made", "twin", "back.mbox", "back.mbox.lock"):
                    path = self.folder / name
                    shutil.rmtree(path) if path.is_dir() else path.unlink(missing_ok=True)
                for name, first in parts.items():
                    shutil.copytree(self.folder / first, self.folder / name)
                if not self.killed_before(step, action):
                    self.assertGreater(step, 3, "nothing was ended in the middle")
                    return
                for name in ("made", "twin"):
                    if (self.folder / name / "tagmanifest-sha256.txt").exists() and parts.get(name) != "harmed":
                        self.assertEqual(verify(self.folder / name).findings, [])
                action()
                prove()

    def setUp(self) -> None:
        super().setUp()
        self.mails = letters(0, 12)
        for turn in (4, 8, 12):
            self.write("in.mbox", mbox(*self.mails[:turn]))
            if turn < 12:
                self.call_program("backup", "in.mbox", "--into", "bk")
        self.made, self.twin = self.folder / "made", self.folder / "twin"

    def whole(self, place: Path, count: int) -> None:
        self.assertTrue(verify(place, deep=True).whole, verify(place, deep=True).findings)
        with BackupSource(place) as source:
            self.assertEqual(sum(1 for folder in source.folders() for _ in source.envelopes(folder)), count)

    def topped(self) -> None:
        with open_source(self.folder / "in.mbox") as source:
            backup(source, self.made)

    def test_backup(self) -> None:
        self.at_each_step({"made": "bk"}, self.topped, lambda: self.whole(self.made, 12))

    def test_join(self) -> None:
        self.at_each_step({"made": "bk"}, lambda: join(self.made, 1_000_000_000), lambda: self.whole(self.made, 8))

    def test_copy_of_what_was_joined_meanwhile(self) -> None:
        shutil.copytree(self.folder / "bk", self.folder / "joined")
        self.call_program("join", "joined")
        self.at_each_step(
            {"made": "joined", "twin": "bk"}, lambda: copy(self.made, self.twin), lambda: self.whole(self.twin, 8)
        )

    def test_restore(self) -> None:
        def given_back() -> None:
            with BackupSource(self.made) as source:
                restore(source, MboxSink(self.folder / "back.mbox", False), "back.mbox")

        def prove() -> None:
            self.assertEqual(len(mailbox.mbox(self.folder / "back.mbox")), 8)

        self.at_each_step({"made": "bk"}, given_back, prove)

    def test_repair(self) -> None:
        shutil.copytree(self.folder / "bk", self.folder / "harmed")
        (self.folder / "harmed/data/volumes/000001.zip").write_bytes(b"x")

        def mended() -> None:
            with open_source(self.folder / "in.mbox") as source:
                repair(self.made, source, None)

        self.at_each_step({"made": "harmed"}, mended, lambda: self.whole(self.made, 8))


class Mailboxes(LuckTest):
    def test_two_restores_into_one_mbox(self) -> None:
        for name, start in (("a", 0), ("b", 100)):
            self.write(f"{name}.mbox", mbox(*letters(start, start + 60)))
            self.call_program("backup", f"{name}.mbox", "--into", f"bk-{name}")
        reports: list[int] = []

        def give(name: str) -> None:
            with BackupSource(self.folder / f"bk-{name}") as source:
                reports.append(restore(source, MboxSink(self.folder / "back.mbox", False), "back.mbox").written)

        threads = [threading.Thread(target=give, args=(name,)) for name in "ab"]
        for thread in threads:
            thread.start()
        for thread in threads:
            thread.join()
        self.assertEqual(reports, [60, 60])
        self.assertEqual(len(mailbox.mbox(self.folder / "back.mbox")), 120)
        self.assertEqual([p.name for p in self.folder.glob("*back.mbox*")], ["back.mbox"])

    def test_mail_that_is_delivered_meanwhile(self) -> None:
        self.write("in.mbox", mbox(*letters(0, 5)))
        self.call_program("backup", "in.mbox", "--into", "bk")
        live = self.write("live.mbox", mbox(letter("Old")))
        os.chmod(live, 0o660)

        def deliver(count: int) -> None:
            if count == 3:  # by a program that heeds no lock
                with open(live, "ab") as file:
                    file.write(mbox(letter("Delivered")))

        with BackupSource(self.folder / "bk") as source:
            restore(source, MboxSink(live, False), "live.mbox", progress=deliver)
        subjects = sorted(str(one["subject"]) for one in mailbox.mbox(live))
        self.assertEqual(subjects, sorted(["Old", "Delivered", *(f"Letter {n}" for n in range(5))]))
        self.assertEqual(live.stat().st_mode & 0o777, 0o660)

    def test_a_lock_of_another_program(self) -> None:
        self.write("live.mbox", mbox(letter("Old")))
        lock = self.write("live.mbox.lock", f"{os.getppid()} elsewhere\n")
        with OutputFolder(self.folder) as folder:
            with self.assertRaisesRegex(TargetError, r"live.mbox is in use: another program holds .*live.mbox.lock"):
                ReplacedFile(folder, "live.mbox", timeout=0.3)
            lock.write_text(f"999999999 {__import__('socket').gethostname()}\n")
            ReplacedFile(folder, "live.mbox", timeout=0.3).finish(None)
        self.assertFalse(lock.exists())

    def test_overwritten_in_place_during_an_export(self) -> None:
        old = [letter(f"Old {n:02}", body="old " * 200 + "\n") for n in range(20)]
        new = [one.replace(b"Old", b"New").replace(b"old ", b"new ") for one in old]
        for name, content in (
            ("the same size", mbox(*new)),
            ("shorter", mbox(*new[:10])),
            ("longer", mbox(*new, *new)),
        ):
            with self.subTest(name):
                path = self.write("in.mbox", mbox(*old))
                source = open_source(path)
                wrote = []

                def overwrite(
                    progress: object, content: bytes = content, path: Path = path, wrote: list[int] = wrote
                ) -> None:
                    if getattr(progress, "done", 0) and not wrote:
                        with open(path, "r+b") as file:
                            file.write(content[: len(content) // 2])
                            file.flush()
                            os.fsync(file.fileno())
                        wrote.append(1)

                with source, mock.patch("wexagraph.exports.publisher._BATCH_FILES", 2):
                    report = export(
                        source, self.folder / "out", options=ExportOptions(formats=("eml",)), progress=overwrite
                    )
                known = {hashlib.sha256(one).hexdigest() for one in [*old, *new]}
                self.assertLessEqual(set(self.digests("out")), known, "none is torn")
                self.assertFalse(report.complete)
                shutil.rmtree(self.folder / "out")

    def test_mail_that_arrives_during_an_export(self) -> None:
        path = self.write("in.mbox", mbox(*letters(0, 20)))

        def deliver(progress: object) -> None:
            with open(path, "ab") as file:
                file.write(mbox(letter("New")))

        with open_source(path) as source:
            report = export(source, self.folder / "out", options=ExportOptions(formats=("eml",)), progress=deliver)
        self.assertEqual((report.written, report.failed, report.unreadable), (20, 0, []))


class Disks(LuckTest):
    def test_the_nth_write_fails(self) -> None:
        """Whatever write fails, nothing is half there, and the same command ends right."""
        self.write("in.mbox", mbox(*letters(0, 6)))
        real_open, real_write = builtins.open, os.write
        for command in ("export", "backup"):
            for number in range(0, 60, 3):
                with self.subTest(f"{command} {number}"):
                    left = [number]

                    def failing(descriptor: int, data: bytes, left: list[int] = left) -> int:
                        left[0] -= 1
                        if left[0] == 0:
                            raise OSError(errno.ENOSPC, "No space left on device")
                        return real_write(descriptor, data)

                    def failing_sync(descriptor: int, left: list[int] = left) -> None:
                        left[0] -= 1
                        if left[0] == 0:
                            raise OSError(errno.ENOSPC, "No space left on device")

                    into = self.folder / f"{command}-{number}"
                    with (
                        mock.patch.object(os, "write", failing),
                        mock.patch.object(os, "fsync", failing_sync),
                        open_source(self.folder / "in.mbox") as source,
                    ):
                        try:
                            export(
                                source, into, options=ExportOptions(formats=("eml",))
                            ) if command == "export" else backup(source, into)
                        except WexagraphError as error:
                            self.assertIn("no space is left", str(error))
                    with open_source(self.folder / "in.mbox") as source:
                        again = (
                            export(source, into, options=ExportOptions(formats=("eml",)))
                            if command == "export"
                            else backup(source, into)
                        )
                    self.assertTrue(again.complete)
                    self.call_program("verify", into)
        self.assertIs(builtins.open, real_open)

    def test_the_clock_set_back_and_two_runs_in_one_second(self) -> None:
        from datetime import UTC, datetime

        self.write("in.mbox", mbox(*letters(0, 3)))
        for year in (2026, 2020, 2020, 1999, 2026):
            with open_source(self.folder / "in.mbox") as source:
                backup(source, self.folder / "bk", now=datetime(year, 3, 14, tzinfo=UTC))
        self.assertTrue(verify(self.folder / "bk", deep=True).whole)
        self.assertEqual(len(json.loads(self.call_program("runs", "bk", "--json").stdout)), 5)

    def test_databases_of_another_kind(self) -> None:
        self.write("in.mbox", mbox(*letters(0, 3)))
        self.call_program("export", "in.mbox", "--into", "out", "--as", "eml")
        base = sqlite3.connect(self.folder / "out/.wexagraph/journal.sqlite")
        base.execute("PRAGMA user_version = 99")
        base.close()
        self.assertIn(
            "newer Wexagraph", self.call_program("export", "in.mbox", "--into", "out", "--as", "eml", code=3).stderr
        )
