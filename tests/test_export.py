"""Exports through the program: formats, folders, archives, repetition, wrong targets, summaries, configuration."""

from __future__ import annotations

import json
import mailbox
import os
import re
import subprocess
import textwrap
import zipfile
import zlib
from collections.abc import Callable
from concurrent.futures import Executor, Future
from pathlib import Path
from unittest import mock

import wexagraph
from tests.helpers import ProgramTest, letter, mbox, named_rows
from wexagraph.demo.build import file, html, message, multipart, text, when
from wexagraph.exports import plan
from wexagraph.exports.reading import copy_rows
from wexagraph.work.batches import WorkerLost
from wexagraph.work.pool import ProcessWorkers


class Formats(ProgramTest):
    def setUp(self) -> None:
        super().setUp()
        self.letters = [
            letter("One", body="From here\n\nFrom there\n>From everywhere\n"),
            letter("Two", more="Content-Type: text/plain; charset=utf-8\n", body="Grüße\n"),
        ]
        self.write("in/Berths/East.mbox", mbox(*self.letters))
        self.write("in/Dues.mbox", mbox(letter("Three")))

    def test_all_at_once_in_mirrored_folders(self) -> None:
        done = self.run_program("export", "in", "--into", "out", "--as", "pdf,eml,html,text,mbox,zip")
        self.assertIn("3 PDF, 3 EML, 3 HTML, 3 text, 2 mbox, 2 ZIP", done.stdout)
        self.assertEqual(len(self.made("out")), 3 * 4 + 2 * 2)
        self.assertIn("Berths/East/2026-03-14 1503 Ines Halden - One.html", self.made("out"))
        self.assertIn("Berths/East.mbox", self.made("out"))

    def test_flat(self) -> None:
        self.run_program("export", "in", "--into", "out", "--as", "eml,mbox", "--flat")
        self.assertTrue(all("/" not in name for name in self.made("out")))
        self.assertIn("Berths - East.mbox", self.made("out"))

    def test_archives_hold_the_messages_to_the_byte(self) -> None:
        self.run_program("export", "in", "--into", "out", "--as", "mbox,zip")
        self.assertEqual(self.made("out"), ["Berths/East.mbox", "Berths/East.zip", "Dues.mbox", "Dues.zip"])
        messages = mailbox.mbox(self.folder / "out/Berths/East.mbox", create=False)
        self.assertEqual([m["subject"] for m in messages], ["One", "Two"])
        messages.close()
        with zipfile.ZipFile(self.folder / "out/Berths/East.zip") as archive:
            self.assertIsNone(archive.testzip())
            self.assertEqual(sorted(archive.read(name) for name in archive.namelist()), sorted(self.letters))
        for archive_name in ("out/Berths/East.mbox", "out/Berths/East.zip"):  # and both are sources again
            self.run_program("export", archive_name, "--into", f"again-{Path(archive_name).suffix}", "--as", "eml")
            made = self.folder / f"again-{Path(archive_name).suffix}"
            self.assertEqual(sorted(p.read_bytes() for p in made.rglob("*.eml")), sorted(self.letters))

    def test_an_archive_is_whole_or_not_there(self) -> None:
        for folder in ("a", "b"):
            self.write(f"two/{folder}.mbox", mbox(*(letter(f"{folder}{n}") for n in range(3))))
        asked = iter(range(100))
        options = wexagraph.ExportOptions(formats=("mbox",))
        with wexagraph.open_source(self.folder / "two") as source:
            # twice in the plan, once behind it, then before each message: the fifth is not begun
            report = wexagraph.export(source, self.folder / "out", options=options, stopped=lambda: next(asked) > 6)
        self.assertEqual((report.interrupted, report.chosen, report.written), (True, 3, 3))
        self.assertEqual((report.unfinished, self.made("out")), (["b"], ["a.mbox"]))
        self.assertEqual(self.files_in_the_register(), ["a.mbox"] * 3)
        self.assertIn("1 mbox", self.run_program("export", "two", "--into", "out", "--as", "mbox").stdout)
        self.assertEqual(self.subjects("out"), [f"{folder}{n}" for folder in "ab" for n in range(3)])
        self.assertEqual(self.files_in_the_register(), ["a.mbox"] * 3 + ["b.mbox"] * 3)

    def files_in_the_register(self) -> list[str]:
        with open(self.folder / "out/register.csv", encoding="utf-8-sig", newline="") as table:
            return [row["files"] for row in named_rows(table)]

    def test_of_nothing_no_folder_is_left(self) -> None:
        self.write("in.mbox", mbox(letter("Dues")))
        for command in ("export", "attachments"):
            said = self.run_program(command, "in.mbox", "--subject", "nothing", "--into", f"{command}/out").stdout
            self.assertNotIn("In:", said)
            self.assertFalse((self.folder / command / "out").exists())
        (self.folder / "there").mkdir()
        self.run_program("export", "in.mbox", "--subject", "nothing", "--into", "there")
        self.assertTrue((self.folder / "there").exists(), "it was there before")

    def test_a_zip_has_the_folders_of_the_pattern(self) -> None:
        self.write(
            "years.mbox", mbox(*(letter("Dues", date=f"Sat, 14 Mar {year} 15:03:00 +0000") for year in (2025, 2026)))
        )
        done = self.run_program("export", "years.mbox", "--into", "out", "--as", "zip", "--name", "{date:%Y}/{subject}")
        self.assertNotIn("wexagraph:", done.stderr)
        with zipfile.ZipFile(self.folder / "out/years.zip") as archive:
            self.assertEqual(sorted(archive.namelist()), ["2025/Dues.eml", "2026/Dues.eml"])

    def test_the_same_again_makes_nothing(self) -> None:
        everything = ("export", "in", "--into", "out", "--as", "pdf,eml,html,text,mbox,zip")
        self.run_program(*everything)
        before = self.state()
        done = self.run_program(*everything)
        self.assertIn("3 messages chosen: 0 written, 3 already there, 0 failed.", done.stdout)
        self.assertEqual(self.state(), before)

    def state(self) -> dict[str, tuple[bytes, int]]:
        return {
            n: ((self.folder / "out" / n).read_bytes(), (self.folder / "out" / n).stat().st_mtime_ns)
            for n in self.made("out")
        }

    def test_what_is_missing_or_altered_is_made_again(self) -> None:
        command = ("export", "in", "--into", "out", "--as", "pdf,eml,mbox")
        self.run_program(*command)
        before = {name: content for name, (content, _) in self.state().items()}
        names = self.made("out")
        (self.folder / "out" / names[1]).unlink()
        altered = self.folder / "out" / next(name for name in names if name.endswith("Three.pdf"))
        altered.write_bytes(b"altered")
        (self.folder / "out/Dues.mbox").unlink()
        done = self.run_program(*command)
        self.assertIn("Made again, since it was missing or altered", done.stdout)
        self.assertEqual({name: content for name, (content, _) in self.state().items()}, before)

    def test_another_format_makes_what_it_needs(self) -> None:
        self.run_program("export", "in", "--into", "out", "--as", "eml")
        before = self.state()
        done = self.run_program("export", "in", "--into", "out", "--as", "eml,text")
        self.assertIn("3 written", done.stdout)
        self.assertIn("Files: 3 text;", done.stdout)
        self.assertEqual({name: value for name, value in self.state().items() if name.endswith(".eml")}, before)

    def test_a_mailbox_that_grew_or_was_compacted(self) -> None:
        command = ("export", "in", "--into", "out", "--as", "eml,mbox")
        self.run_program(*command)
        before = self.state()
        self.write("in/Berths/East.mbox", mbox(self.letters[1], letter("Four")))  # One is gone, Two has moved
        done = self.run_program(*command)
        self.assertIn("3 messages chosen: 1 written, 2 already there", done.stdout)
        after = self.state()
        emls = [name for name in before if name.endswith(".eml")]
        self.assertEqual({name: after[name] for name in emls}, {name: before[name] for name in emls})
        self.assertTrue(any("Four" in name for name in after))

    def test_a_part_of_the_mailbox(self) -> None:
        done = self.run_program("export", "in", "--into", "out", "--as", "eml", "--folder", "Dues")
        self.assertIn("1 message chosen: 1 written", done.stdout)
        done = self.run_program("export", "in", "--into", "out", "--as", "eml")
        self.assertIn("3 messages chosen: 2 written, 1 already there", done.stdout)

    def test_two_messages_that_are_the_same_to_the_byte(self) -> None:
        self.write("twins", mbox(letter("Twin"), letter("Twin")))
        self.run_program("export", "twins", "--into", "out", "--as", "eml")
        self.assertEqual(len(self.made("out")), 2)
        done = self.run_program("export", "twins", "--into", "out", "--as", "eml")
        self.assertIn("0 written, 2 already there", done.stdout)

    def test_no_message(self) -> None:
        done = self.run_program("export", "in", "--into", "out", "--subject", "nothing at all")
        self.assertIn("0 messages chosen", done.stdout)


class Targets(ProgramTest):
    def setUp(self) -> None:
        super().setUp()
        self.write("in.eml", letter())

    def test_a_file_in_the_place_of_the_folder(self) -> None:
        self.write("out", "a file")
        self.assertIn("is a file", self.run_program("export", "in.eml", "--into", "out", code=3).stderr)
        self.assertIn(
            "is a file",
            self.run_program("export", "in.eml", "--into", "in.eml/below", code=3).stderr.replace(
                "Not a directory", "is a file"
            ),
        )

    def test_a_file_in_the_place_of_a_folder_below(self) -> None:
        mine = self.write("out/in", "a file")
        done = self.run_program("export", "in.eml", "--into", "out", "--as", "eml", code=1)
        self.assertIn("is a file where a folder is needed", done.stdout)
        self.assertEqual(mine.read_text(), "a file")

    def test_a_place_that_cannot_be_written(self) -> None:
        done = self.run_program("export", "in.eml", "--into", "/proc/wexagraph-out", code=3)
        self.assertIn("can't be written to", done.stderr)

    def test_a_source_and_its_results_lie_apart(self) -> None:
        """What is written among what is read would be read as mail by the next run."""
        self.write("in/a.eml", letter())
        self.run_program("backup", "in", "--into", "bk")
        before = sorted(self.folder.rglob("*"))
        for command in ("export", "attachments", "backup"):
            for into in ("in", "in/out", "in/../in/deep/out", "."):
                self.assertRegex(
                    self.run_program(command, "in", "--into", into, code=2).stderr,
                    "the mailbox|inside the output folder",
                )
        for into in ("bk/out", "bk/all.mbox", "maildir:bk/mail"):
            self.assertIn("is inside the mailbox", self.run_program("restore", "bk", "--into", into, code=2).stderr)
        self.run_program("copy", "bk", "--into", "bk/copy", code=2)
        self.assertEqual(sorted(self.folder.rglob("*")), before)
        self.run_program("restore", "bk", "--into", ".")

    def test_a_name_that_is_empty(self) -> None:
        """An empty variable must not mean the folder one stands in."""
        self.write("in/a.eml", letter())
        for call in (
            ("list", ""),
            ("export", "", "--into", "out"),
            ("export", "in", "--into", ""),
            ("verify", ""),
            ("backup", "in", "--into", ""),
            ("restore", "", "--into", "out"),
            ("copy", "in", "--into", ""),
        ):
            self.assertIn("it is empty", self.run_program(*call, code=2).stderr)
        self.assertEqual(self.made("."), ["in.eml", "in/a.eml"])

    def test_the_folder_one_stands_in(self) -> None:
        self.write("post/in/a.eml", letter())
        for source in ("post/in/.", "post/in/../in", "post/in/../../post/in"):
            self.assertEqual({row["folder"] for row in self.listed(source)}, {"in"})
            self.assertIn("1 message", self.run_program("backup", source, "--into", "bk").stdout)
        self.assertIn("0 new, 1 already there", self.run_program("backup", "post/in", "--into", "bk").stdout)

    def test_a_register_that_somebody_works_in(self) -> None:
        self.run_program("export", "in.eml", "--into", "out", "--as", "eml")
        register = self.folder / "out/register.csv"
        register.write_bytes(register.read_bytes().replace(b"East quay", b"West quay") + b"a remark of the clerk\r\n")
        self.assertIn("2 changed by hand", self.run_program("verify", "out").stdout)
        for _ in range(2):
            self.run_program("export", "in.eml", "--into", "out", "--as", "eml,text")
            self.assertIn(b"a remark of the clerk", register.read_bytes())
            self.assertIn(b"West quay", register.read_bytes())
        register.write_bytes(b"no table any more")
        self.run_program("export", "in.eml", "--into", "out", "--as", "eml,text")
        self.assertEqual((self.folder / "out/register (changed by hand).csv").read_bytes(), b"no table any more")
        self.assertIn(b"East quay", register.read_bytes())
        self.assertIn("0 foreign", self.run_program("verify", "out").stdout)

    def test_a_damaged_journal(self) -> None:
        self.run_program("export", "in.eml", "--into", "out", "--as", "eml")
        (self.folder / "out/.wexagraph/journal.sqlite").write_bytes(b"not a database" * 100)
        done = self.run_program("export", "in.eml", "--into", "out", "--as", "eml")
        self.assertIn("1 message chosen", done.stdout)
        self.assertTrue((self.folder / "out/.wexagraph/journal.damaged").exists())

    def test_json(self) -> None:
        done = self.run_program("export", "in.eml", "--into", "out", "--as", "eml", "--json")
        report = json.loads(done.stdout)
        self.assertEqual((report["chosen"], report["written"], report["failed"]), (1, 1, 0))
        self.assertEqual(report["files"], {"eml": 1})

    def test_wrong_options(self) -> None:
        for arguments, words in [
            (["--as", "doc"], "Possible are: pdf"),
            (["--as", ""], "no format is named"),
            (["--name", "{nothing}"], "Fields are:"),
            (["--paper", "a9"], "--paper"),
            (["--jobs", "0"], "--jobs"),
            (["--engine", "steam"], "--engine"),
        ]:
            with self.subTest(arguments):
                self.assertIn(words, self.run_program("export", "in.eml", "--into", "out", *arguments, code=2).stderr)
        self.assertIn("--into", self.run_program("export", "in.eml", code=2).stderr)
        self.assertFalse((self.folder / "out").exists(), "a wrong call made something")


class Foreign(ProgramTest):
    def test_a_further_format_whose_name_is_somebody_elses(self) -> None:
        """It gets the next number, once, and is known by it from then on; also where several processes copy."""
        self.write("in.mbox", mbox(letter("Fog"), letter("Tide")))
        self.run_program("export", "in.mbox", "--into", "out", "--as", "eml")
        (original,) = (path for path in (self.folder / "out").rglob("*Fog.eml"))
        theirs = original.with_suffix(".pdf")
        theirs.write_bytes(b"a note of the clerk")
        for options in ((), ("--cover", "built-in")):
            done = self.run_program("export", "in.mbox", "--into", "out", "--as", "eml,pdf", *options).stdout
            self.assertIn("2 written", done)
            again = self.run_program("export", "in.mbox", "--into", "out", "--as", "eml,pdf", *options).stdout
            self.assertIn("0 written, 2 already there", again)
            self.assertEqual(theirs.read_bytes(), b"a note of the clerk")
            names = sorted(path.name[16:] for path in (self.folder / "out").rglob("*.pdf"))
            self.assertEqual(names, ["Ines Halden - Fog (2).pdf", "Ines Halden - Fog.pdf", "Ines Halden - Tide.pdf"])
        theirs.unlink()
        self.run_program("verify", "out")
        self.assertIn(
            "0 written",
            self.run_program("export", "in.mbox", "--into", "out", "--as", "pdf", "--cover", "built-in").stdout,
        )


class BadInput(ProgramTest):
    """Each is a clear outcome, and nothing of the rest is lost."""

    def test_one_of_each_beside_a_good_one(self) -> None:
        deep = b"Subject: deep\nContent-Type: multipart/mixed; boundary=b0\n\n"
        for n in range(500):
            deep += b"--b%d\nContent-Type: multipart/mixed; boundary=b%d\n\n" % (n, n + 1)
        hard = {
            "empty.eml": b"",
            "no header.eml": b"only words, and no header at all\n",
            "nul.eml": b"From: a@b.example\0\nSubject: n\0ul\n\nwo\0rds\n",
            "long header.eml": b"Subject: " + b"word " * 200_000 + b"\n\nx\n",
            "header only.eml": b"From: a@b.example\nSubject: header only",
            "deep.eml": deep + b"--b500\n\ninnermost\n",
            "binary.eml": b"Subject: binary\n\n" + bytes(range(256)) * 40,
            "cr.eml": b"Subject: old line ends\r\rwords\r",
            "good.eml": letter("Good"),
        }
        for name, content in hard.items():
            self.write(f"in/{name}", content)
        done = self.run_program("export", "in", "--into", "out", "--as", "pdf,eml,html,text,mbox,zip")
        self.assertIn(f"{len(hard)} messages chosen: {len(hard)} written, 0 already there, 0 failed.", done.stdout)
        made = sorted((self.folder / "out" / name).read_bytes() for name in self.made("out", ".eml"))
        self.assertEqual(made, sorted(hard.values()))
        with open(self.folder / "out/register.csv", encoding="utf-8-sig", newline="") as table:
            self.assertEqual(len(named_rows(table)), len(hard))

    def test_whatever_is_raised_over_a_message_it_fails_alone(self) -> None:
        class Breaking(Executor):
            def submit(self, function, *arguments):  # type: ignore[no-untyped-def, override]
                future: Future[object] = Future()
                if arguments and b"m1" in arguments[0].data:
                    future.set_exception(zlib.error("broken"))
                else:
                    future.set_result(function(*arguments))
                return future

        self.write("box", mbox(*(letter(f"m{n}") for n in range(3))))
        with wexagraph.open_source(self.folder / "box") as source:
            report = wexagraph.export(source, self.folder / "out", executor=Breaking())
        self.assertEqual((report.chosen, report.written, report.failed, report.failures[0].subject), (3, 2, 1, "m1"))
        self.assertIn("error: broken", report.failures[0].reason)
        self.assertEqual(len(self.made("out", ".eml")), 1, "it is written as it is")

    def test_a_message_that_breaks_the_worker_that_copies_it_fails_alone(self) -> None:
        submit = ProcessWorkers.submit_lasting

        def breaking(workers: ProcessWorkers, function: Callable[..., object], *arguments: object) -> Future[object]:
            rows = arguments[-1] if function is copy_rows else []
            if any(row.stem.endswith(" m700") for row, *_ in rows):  # type: ignore[attr-defined]
                broken: Future[object] = Future()
                broken.set_exception(WorkerLost(False))
                return broken
            return submit(workers, function, *arguments)

        self.write("box", mbox(*(letter(f"m{n}") for n in range(1100))))
        options = wexagraph.ExportOptions(formats=("eml",), jobs=2)
        with (
            mock.patch.object(ProcessWorkers, "submit_lasting", breaking),
            wexagraph.open_source(self.folder / "box") as source,
        ):
            report = wexagraph.export(source, self.folder / "out", options=options)
        self.assertEqual(
            (report.chosen, report.written, report.failed, report.failures[0].subject), (1100, 1099, 1, "m700")
        )
        done = self.run_program("export", "box", "--into", "out", "--as", "eml")
        self.assertIn("1 written, 1,099 already there, 0 failed", done.stdout)

    def test_a_share_of_the_plan_that_breaks_its_worker_costs_no_message(self) -> None:
        submit, calls = ProcessWorkers.submit_lasting, []

        def breaking(workers: ProcessWorkers, function: Callable[..., object], *arguments: object) -> Future[object]:
            calls.append(function)
            if len(calls) != 2:
                return submit(workers, function, *arguments)
            broken: Future[object] = Future()
            broken.set_exception(WorkerLost(False))
            return broken

        self.write("box", mbox(*(letter(f"m{n:02}") for n in range(40))))
        options = wexagraph.ExportOptions(formats=("eml",), jobs=2)
        with (
            mock.patch.object(plan, "_LARGE", 0),
            mock.patch.object(plan, "_SHARE", 1000),
            mock.patch.object(ProcessWorkers, "submit_lasting", breaking),
            wexagraph.open_source(self.folder / "box") as source,
        ):
            report = wexagraph.export(source, self.folder / "out", options=options)
        self.assertGreater(len(calls), 5)
        self.assertEqual((report.chosen, report.written), (40, 40))

    def test_a_full_disk(self) -> None:
        disk = self.folder / "disk"
        disk.mkdir()
        mounted = subprocess.run(
            ["mount", "-t", "tmpfs", "-o", "size=2m", "none", disk], capture_output=True, check=False
        )
        if mounted.returncode:
            self.skipTest("no small disk can be made here: mount is not permitted")
        self.addCleanup(subprocess.run, ["umount", "-l", str(disk)], check=False)
        self.write("box", mbox(*(letter(f"m{n}", body=f"{n}\n" * 20_000) for n in range(60))))
        command = ("export", "box", "--into", disk / "out", "--as", "eml,text")
        done = self.run_program(*command, code=3)
        self.assertIn("no space is left", done.stderr)
        whole = list((disk / "out").rglob("*.eml"))
        self.assertGreater(sum(path.stat().st_size for path in whole), 500_000, "room that was left is used")
        for path in whole:
            self.assertIn(path.read_bytes().count(b"\n"), (20_005, 20_006, 20_004))  # what is there is whole
        subprocess.run(["mount", "-o", "remount,size=64m", disk], check=True)
        self.run_program(*command)
        self.assertEqual(len(list((disk / "out").rglob("*.eml"))), 60)
        self.assertEqual(list((disk / "out/.wexagraph").glob("staged*")), [])

    def test_a_large_message(self) -> None:
        big = message(
            "a@b.example",
            "c@d.example",
            "Big",
            when("2026-03-14"),
            multipart(
                "mixed", text("see the file\n"), file("big.bin", "application/octet-stream", os.urandom(25_000_000))
            ),
        )
        self.write("in/big.eml", big)
        self.write("in/text.eml", letter("Much text", body="words of a letter that goes on and on\n" * 60_000))
        done = self.run_program("export", "in", "--into", "out", "--as", "pdf,eml", "--patience", "120")
        self.assertIn("2 written, 0 already there, 0 failed", done.stdout)
        self.assertIn("the text is too long for a page", done.stdout)


class Configuration(ProgramTest):
    def setUp(self) -> None:
        super().setUp()
        self.write("post/in.eml", letter())

    def config(self, content: str) -> None:
        self.write("wexagraph.toml", textwrap.dedent(content))

    def test_defaults_and_names(self) -> None:
        self.config("""
            [options]
            as = "eml,text"
            zone = "Asia/Tokyo"
            name = "{date:%H%M} {subject}"
            [sources]
            office = "post"
            """)
        self.run_program("export", "@office", "--into", "out")
        self.assertEqual(
            [Path(p).name for p in self.made("out")], ["0003 East quay survey.eml", "0003 East quay survey.txt"]
        )
        self.run_program("export", "@office", "--into", "out2", "--as", "eml", "--zone", "UTC")
        self.assertEqual([Path(p).name for p in self.made("out2")], ["1503 East quay survey.eml"])

    def test_the_users_own_folder(self) -> None:
        self.write("conf/wexagraph/wexagraph.toml", f'[sources]\nhome = "{self.folder}/post"\n')
        self.run_program("list", "@home", env={"XDG_CONFIG_HOME": str(self.folder / "conf")})

    def test_mistakes_are_named_with_their_line(self) -> None:
        for content, words in [
            ('[options]\nzone = "UTC"\nsubjct = "x"\n', "line 3: there is no option 'subjct'. Did you mean subject?"),
            ('[options]\n\nas = "pdf,doc"\n', "'doc' is not a format"),
            ("[options]\njobs = 0\n", "line 2: jobs = 0 is not a value"),
            ('[option]\nas = "pdf"\n', "line 1: 'option' is nothing that can be set here. Did you mean options?"),
            ("[sources]\noffice = 7\n", "line 2: the source 'office' must be a path"),
            ('[options]\ninto = "x"\n', "line 2: 'into' belongs to a single call"),
            ("[options\n", "line 1"),
        ]:
            with self.subTest(content):
                self.write("wexagraph.toml", content)
                done = self.run_program("list", "post", code=2)
                self.assertIn(words, done.stderr)
                self.assertIn("wexagraph.toml", done.stderr)

    def test_a_name_that_nobody_gave(self) -> None:
        self.config('[sources]\noffice = "post"\n')
        self.assertIn("Did you mean @office?", self.run_program("list", "@ofice", code=2).stderr)

    def test_a_named_file(self) -> None:
        self.write("other.toml", '[options]\nsubject = "no such subject"\n')
        self.assertIn("No message", self.run_program("--config", "other.toml", "list", "post").stdout)
        self.assertIn("no such file", self.run_program("--config", "none.toml", "list", "post", code=2).stderr)


class Surface(ProgramTest):
    def test_help_of_every_command(self) -> None:
        output = self.run_program("--help").stdout
        for name in re.findall(r"^  ([a-z]+)  ", output, re.MULTILINE):
            self.assertIn("Usage: wexagraph", self.run_program(name, "--help").stdout)

    def test_the_library(self) -> None:
        self.write("box", mbox(letter("One"), letter("Two", "Wray <w@saltmere.example>")))
        code = """
            import wexagraph
            with wexagraph.open_source("box") as source:
                choice = wexagraph.Choice(criteria=(wexagraph.Criterion("from", "wray"),))
                options = wexagraph.ExportOptions(formats=("pdf", "eml"))
                report = wexagraph.export(source, "out", choice, options)
            print(report.chosen, report.written, dict(report.files))
            """
        from tests.helpers import PROGRAM

        done = subprocess.run(
            [Path(PROGRAM).with_name("python"), "-c", textwrap.dedent(code)],
            cwd=self.folder,
            capture_output=True,
            text=True,
            check=False,
        )
        self.assertEqual(done.stdout, "1 1 {'eml': 1, 'pdf': 1}\n", done.stderr)

    def test_another_executor_makes_the_pages(self) -> None:
        from concurrent.futures import ThreadPoolExecutor

        self.write(
            "box",
            mbox(letter("One"), message("a@b.example", "c@d.example", "Two", when("2026-03-14"), html("<p>x</p>"))),
        )
        with wexagraph.open_source(self.folder / "box") as source, ThreadPoolExecutor(1) as pool:
            report = wexagraph.export(source, self.folder / "out", executor=pool)
        self.assertEqual((report.written, report.failed), (2, 0))

    def test_a_reader_that_goes_away(self) -> None:
        from tests.helpers import PROGRAM

        self.write("box", mbox(*(letter(f"m{n}") for n in range(3000))))
        done = subprocess.run(
            f"'{PROGRAM}' list box | head -1", shell=True, cwd=self.folder, capture_output=True, text=True, check=False
        )
        self.assertNotIn("Traceback", done.stderr)
        self.assertNotIn("rror", done.stderr)
