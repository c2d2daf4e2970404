"""The command line as a person meets it: days, choices, defaults, tries, help and lists."""

from __future__ import annotations

import io
import json
import os
import re
import shlex
import shutil
import subprocess
import sys
import unittest
from datetime import date
from pathlib import Path

import click
import pypdfium2

from tests.helpers import ProgramTest, letter, mbox, named_rows, pdf_text
from wexagraph.cli.help import EXAMPLES
from wexagraph.cli.main import COMMANDS, cli
from wexagraph.demo.build import file, message, multipart, text, when
from wexagraph.errors import CallError
from wexagraph.selection.choice import Choice
from wexagraph.selection.criteria import Criterion, before, parse_day


def day(number: int, month: str = "Mar") -> str:
    return f"Sat, {number:02} {month} 2026 12:00:00 +0000"


class Days(unittest.TestCase):
    TODAY = date(2026, 3, 31)

    def test_days(self) -> None:
        for value, wanted in (
            ("2026-03-14", "2026-03-14"),
            ("2026-03", "2026-03-01"),
            ("today", "2026-03-31"),
            ("Yesterday", "2026-03-30"),
            ("30d", "2026-03-01"),
            ("1m", "2026-02-28"),
            ("2y", "2024-03-31"),
        ):
            with self.subTest(value):
                self.assertEqual(parse_day(value, self.TODAY).isoformat(), wanted)

    def test_a_day_that_may_be_two(self) -> None:
        for value, said in (
            ("01.03.2024", "It may mean 2024-03-01 or 2024-01-03"),
            ("13/02/2024", "It may mean 2024-02-13\\."),
            ("next week", "is not a date. Write it as"),
        ):
            with self.subTest(value), self.assertRaisesRegex(CallError, said):
                parse_day(value)

    def test_ages(self) -> None:
        for age, wanted in (("6w", "2026-02-17"), ("18m", "2024-09-30"), ("9999y", "0001-01-01")):
            self.assertEqual(before(self.TODAY, age).isoformat(), wanted)
        with self.assertRaisesRegex(CallError, "not an age"):
            before(self.TODAY, "old")

    def test_impossible_pairs(self) -> None:
        for criteria in ((("since", "2026-03-14"), ("before", "2026-03-14")), (("larger", "2MB"), ("smaller", "1MB"))):
            with self.assertRaisesRegex(CallError, "leave no"):
                Choice(criteria=tuple(Criterion(*one) for one in criteria))


class Chosen(ProgramTest):
    def test_newest_of_those_that_have_what_is_wanted(self) -> None:
        def with_file(name: str, on: str) -> bytes:
            return message(
                "a@b.example",
                "c@d.example",
                name,
                when(on),
                multipart("mixed", text("x\n"), file(name, "application/pdf", name.encode())),
            )

        self.write(
            "in.mbox",
            mbox(
                *(with_file(f"p{n}.pdf", f"2026-03-{n + 1:02}") for n in range(4)),
                *(letter(f"l{n}", date=day(20 + n)) for n in range(5)),
                with_file("x.doc", "2026-03-30"),
            ),
        )
        done = self.run_program("attachments", "in.mbox", "--attached", "*.pdf", "--newest", "2", "--into", "out")
        self.assertIn("Attachments: 2 written", done.stdout)
        self.assertEqual([name[-6:] for name in self.made("out")], ["p2.pdf", "p3.pdf"])

    def test_with_and_ages(self) -> None:
        self.write(
            "in.mbox",
            mbox(
                letter("A", "Ines <ines@q.example>"),
                letter("B", more="Cc: ines@q.example\n"),
                letter("C", "x@y.example"),
            ),
        )
        self.assertEqual(self.subjects("in.mbox", "--with", "ines@q"), ["A", "B"])
        self.assertEqual(self.subjects("in.mbox", "--older-than", "1d", "--from", "x@y"), ["C"])
        self.assertEqual(self.subjects("in.mbox", "--newer-than", "1d"), [])

    def test_a_whole_conversation(self) -> None:
        def one(number: int, refers: int = 0, subject: str = "Re: Berth") -> bytes:
            more = f"Message-ID: <{number}@x.example>\n" + (f"References: <{refers}@x.example>\n" if refers else "")
            return letter(subject, date=day(number), more=more)

        self.write("in/a.mbox", mbox(one(1, subject="Berth"), one(3, 2), letter("Fog")))
        self.write("in/b.mbox", mbox(one(2, 1), letter("Tide")))
        answer = next(row["id"] for row in self.listed("in") if row["date"].startswith("2026-03-03"))
        self.assertEqual(
            sorted(row["date"][:10] for row in self.listed("in", "--conversation", answer)),
            ["2026-03-01", "2026-03-02", "2026-03-03"],
        )
        done = self.run_program("list", "in", "--conversation", "0000000000", code=2)
        self.assertIn("there is no message '0000000000'", done.stderr)

    def test_nothing_chosen_is_explained(self) -> None:
        self.write("in.mbox", mbox(letter("A", date=day(1)), letter("B", date=day(2))))
        for choice, said in (
            (("--from", "ines", "--since", "2026-04"), "2 messages with --from ines, and none with --since 2026-04."),
            (("--subject", "Z*"), "2 messages, and none with --subject Z*. 'Z*' has to fit the whole field"),
            (("--except", "from=ines"), "2 messages fit, and the exceptions leave out all of them."),
        ):
            with self.subTest(choice):
                self.assertIn(said, self.run_program("list", "in.mbox", *choice).stderr)
                self.assertIn(said, self.run_program("export", "in.mbox", *choice, "--into", "out").stdout)
                report = json.loads(self.run_program("export", "in.mbox", *choice, "--into", "out", "--json").stdout)
                self.assertIn(said, report["why_none"])

    def test_an_exception_for_a_folder_that_is_not_there(self) -> None:
        self.write("in/Sent.mbox", mbox(letter()))
        done = self.run_program("list", "in", "--except", "folder=Senttt", code=2)
        self.assertIn("Did you mean Sent?", done.stderr)


class Attachments(ProgramTest):
    def test_they_lie_in_the_folders_of_the_source(self) -> None:
        def with_file(name: str, content: bytes) -> bytes:
            body = multipart("mixed", text("x\n"), file(name, "application/pdf", content))
            return message("a@b.example", "c@d.example", "Plan", when("2026-03-14"), body)

        self.write("in/Berths.mbox", mbox(with_file("a.pdf", b"1"), with_file("b.pdf", b"2")))
        self.write("in/Sent.mbox", mbox(with_file("a.pdf", b"3")))
        done = self.run_program("attachments", "in", "--into", "out", "--name", "{filename}")
        self.assertEqual(self.made("out"), ["Berths/a.pdf", "Berths/b.pdf", "Sent/a.pdf"])
        self.assertRegex(
            done.stdout, r"(?m)^By folder:\n +2  Berths\n +1  Sent\nBy type:\n +3  PDF \(application/pdf\)"
        )
        self.assertIn(
            "0 written, 3 already there",
            self.run_program("attachments", "in", "--into", "out", "--name", "{filename}").stdout,
        )
        self.run_program("attachments", "in", "--into", "flat", "--flat", "--name", "{filename}")
        self.assertEqual(self.made("flat"), ["a (2).pdf", "a.pdf", "b.pdf"])

    def test_no_message_goes_for_its_attachments(self) -> None:
        self.write("in.mbox", mbox(letter()))
        done = self.run_program("attachments", "in.mbox", "--into", "out", "--afterwards", "delete", "--yes", code=2)
        self.assertIn("attachments alone do not keep a message", done.stderr)
        done = self.run_program("attachments", "in.mbox", "--into", "out", "--afterwards", "seen", "--yes", code=2)
        self.assertIn("--afterwards works on an IMAP account", done.stderr)


class Defaults(ProgramTest):
    def setUp(self) -> None:
        super().setUp()
        self.write("in.mbox", mbox(letter("A", "ines@q.example"), letter("B", "wray@s.example")))

    def test_what_narrows_is_said_and_no_backup_is_narrowed(self) -> None:
        self.write("wexagraph.toml", '# ours\n[options]\nfrom = "ines"\n')
        done = self.run_program("list", "in.mbox")
        self.assertIn("Narrowed by wexagraph.toml, line 3: from=ines", done.stderr)
        self.assertNotIn("Narrowed", self.run_program("list", "in.mbox", "--from", "wray").stderr)
        self.assertIn("2 new", self.run_program("backup", "in.mbox", "--into", "bk").stdout)

    def test_options_of_one_command(self) -> None:
        self.write(
            "wexagraph.toml", '[options]\nflat = true\n\n[options.export]\nas = ["eml", "text"]\nfrom = "wray"\n'
        )
        done = self.run_program("export", "in.mbox", "--into", "out")
        self.assertIn("Narrowed by wexagraph.toml, line 6: from=wray", done.stderr)
        self.assertEqual([name.rpartition(".")[2] for name in self.made("out")], ["eml", "txt"])
        self.assertEqual(self.subjects("in.mbox"), ["A", "B"])
        self.write("wexagraph.toml", '[options.backup]\nfrom = "wray"\n')
        done = self.run_program("backup", "in.mbox", "--into", "bk", code=2)
        self.assertIn("wexagraph.toml, line 2: from would leave mail out of every backup", done.stderr)

    def test_options_add_up(self) -> None:
        self.run_program("export", "in.mbox", "--into", "out", "--as", "eml", "--as", "text", "--as", "html,eml")
        self.assertEqual({name.rpartition(".")[2] for name in self.made("out")}, {"eml", "txt", "html"})


class Files(ProgramTest):
    def setUp(self) -> None:
        super().setUp()
        self.write("in.mbox", mbox(*(letter(f"Berth {n}", date=day(n + 1)) for n in range(3))))

    def test_a_copy_of_an_export_without_its_journal(self) -> None:
        self.run_program("export", "in.mbox", "--into", "out", "--as", "eml")
        shutil.copytree(self.folder / "out", self.folder / "copy", ignore=shutil.ignore_patterns(".wexagraph"))
        done = self.run_program("export", "in.mbox", "--into", "copy", "--as", "eml")
        self.assertIn("0 written, 3 already there", done.stdout)
        self.assertIn("made again from register.csv and manifest-sha256.txt", done.stdout)
        self.assertEqual(self.made("copy"), self.made("out"))
        self.assertIn("0 foreign", self.run_program("verify", "copy").stdout)

    def test_a_bound_document_says_what_it_holds(self) -> None:
        self.run_program("export", "in.mbox", "--into", "a", "--bind", "all", "--from", "ines", "--cover")
        (name,) = self.made("a", ".pdf")
        title = "3 messages from ines, 2026-03-01 to 2026-03-03"
        self.assertEqual(name, f"2026-03-01 {title}.pdf")
        document = pypdfium2.PdfDocument(self.folder / "a" / name)
        self.assertEqual(document.get_metadata_value("Title"), title)
        self.assertIn(title, " ".join(pdf_text(self.folder / "a" / name).split()))
        self.run_program(
            "export", "in.mbox", "--into", "b", "--bind", "all", "--title", "Repairs {date:%Y}", "--name", "repairs"
        )
        self.assertEqual(self.made("b"), ["repairs.pdf"])
        self.assertEqual(
            pypdfium2.PdfDocument(self.folder / "b/repairs.pdf").get_metadata_value("Title"), "Repairs 2026"
        )
        self.assertIn(
            "has no field", self.run_program("export", "in.mbox", "--into", "c", "--name", "x", code=2).stderr
        )

    def test_patterns(self) -> None:
        for pattern, said in (
            ("{date:DD-MM-YYYY}", "Write {date:%d-%m-%Y}"),
            ("{case} {id}", "has no field {case} here"),
            ("{date:x}", "{date:%Y-%m-%d}"),
        ):
            with self.subTest(pattern):
                done = self.run_program("export", "in.mbox", "--into", "out", "--name", pattern, code=2)
                self.assertIn(said, done.stderr)

    def test_one_zone_everywhere(self) -> None:
        self.run_program("export", "in.mbox", "--into", "out", "--as", "eml", "--zone", "Asia/Tokyo")
        with open(self.folder / "out/register.csv", encoding="utf-8-sig", newline="") as table:
            rows = named_rows(table)
        self.assertEqual(rows[0]["date"], "2026-03-01T21:00:00+09:00")
        self.assertIn("2026-03-01 2100", rows[0]["files"])
        self.assertEqual(self.listed("in.mbox", "--zone", "Asia/Tokyo")[0]["date"], "2026-03-01T21:00:00+09:00")
        self.assertEqual(self.listed("in.mbox", "--zone", "sender")[0]["date"], "2026-03-01T12:00:00+00:00")

    def test_a_footer_that_is_none(self) -> None:
        self.run_program("export", "in.mbox", "--into", "out", "--footer", "none")
        self.assertNotIn("none", pdf_text(next((self.folder / "out").rglob("*.pdf"))).lower())

    def test_a_target_of_another_kind(self) -> None:
        self.run_program("backup", "in.mbox", "--into", "bk")
        done = self.run_program("restore", "bk", "--into", "back.pst", code=2)
        self.assertIn("can't be put into a .pst file. Possible are NAME.mbox", done.stderr)
        self.assertFalse((self.folder / "back.pst").exists())
        self.run_program("restore", "bk", "--into", "back.pst/")
        self.assertTrue((self.folder / "back.pst").is_dir())

    def test_a_passphrase_that_is_refused_leaves_nothing(self) -> None:
        done = self.run_program("backup", "in.mbox", "--into", "bk", "--lock", code=2)
        self.assertIn("no terminal to ask at", done.stderr)
        self.assertEqual(os.listdir(self.folder), ["in.mbox"])

    def test_an_account_without_a_keyring_keeps_its_name(self) -> None:
        env = {"PYTHON_KEYRING_BACKEND": "keyring.backends.fail.Keyring"}
        done = self.run_program("account", "add", "office", "imaps://records@mail.example/", env=env)
        self.assertIn("Name and URL are stored. This machine has no keyring", done.stdout)
        self.assertIn("@office", self.run_program("account", "list", env=env).stdout)


class Tried(ProgramTest):
    def setUp(self) -> None:
        super().setUp()
        self.write("in/a.mbox", mbox(letter("Berth 4"), letter("Fog"), letter("Berth 4", body="again\n")))
        self.write("in/b/1.eml", letter("Tide"))

    def tree(self) -> list[str]:
        return sorted(str(path) for path in self.folder.rglob("*"))

    def test_a_dry_run_names_what_the_run_then_writes(self) -> None:
        for options in (
            ("--as", "pdf,eml,text"),
            ("--bind", "folder"),
            ("--bind", "all", "--as", "pdf,eml"),
            ("--as", "mbox,zip"),
            ("--as", "eml,mbox", "--name", "{date:%Y}/{subject}"),
        ):
            with self.subTest(options):
                before = self.tree()
                done = self.run_program("export", "in", "--into", "out", *options, "--dry-run", "--json")
                self.assertEqual(self.tree(), before, "nothing is made, not even a folder")
                report = json.loads(done.stdout)
                self.assertEqual((report["dry_run"], report["chosen"], report["written"]), (True, 4, 4))
                self.assertIn(
                    "4 would be written",
                    self.run_program("export", "in", "--into", "out", *options, "--dry-run").stdout,
                )
                self.run_program("export", "in", "--into", "out", *options)
                self.assertEqual(sorted(file["path"] for file in report["planned"]), self.made("out"))
                table = self.run_program("export", "in", "--into", "out", *options, "--dry-run", "--csv").stdout
                self.assertEqual(table.splitlines(), ["path,state,format,id,folder,subject,size"])
                shutil.rmtree(self.folder / "out")

    def test_what_would_be_made_again(self) -> None:
        self.run_program("export", "in", "--into", "out", "--as", "eml")
        lost = self.made("out")[0]
        (self.folder / "out" / lost).write_text("altered")
        self.write("in/b/2.eml", letter("New"))
        before = {path: (self.folder / "out" / path).read_bytes() for path in self.made("out")}
        report = json.loads(
            self.run_program("export", "in", "--into", "out", "--as", "eml", "--dry-run", "--json").stdout
        )
        self.assertEqual(
            {(file["path"], file["state"]) for file in report["planned"]},
            {(lost, "again"), ("b/2026-03-14 1503 Ines Halden - New.eml", "new")},
        )
        self.assertEqual((report["written"], report["already_there"]), (2, 3))
        self.assertEqual({path: (self.folder / "out" / path).read_bytes() for path in self.made("out")}, before)
        self.assertIn("--csv is for --dry-run", self.run_program("export", "in", "--into", "o", "--csv", code=2).stderr)

    def test_a_dry_run_is_no_default(self) -> None:
        self.write("own/wexagraph/wexagraph.toml", "[options]\ndry-run = true\n")
        done = self.run_program("list", "in", env={"XDG_CONFIG_HOME": str(self.folder / "own")}, code=2)
        self.assertIn("belongs to a single call", done.stderr)

    def test_a_dry_run_behind_a_killed_run(self) -> None:
        self.write("in.mbox", mbox(*(letter(f"Letter {n} {'x' * 900}") for n in range(300))))
        command = ("export", "in.mbox", "--into", "out", "--as", "eml")
        self.run_program(*command)
        journal = self.folder / "out/.wexagraph/journal.sqlite"
        whole = journal.read_bytes()
        killed = (
            "import os, sqlite3, sys; base = sqlite3.connect(sys.argv[1], isolation_level=None)\n"
            "for sql in ('PRAGMA cache_size = 2', 'BEGIN', 'DELETE FROM message'): base.execute(sql)\n"
            "os._exit(9)"
        )
        subprocess.run([sys.executable, "-c", killed, journal], check=False)
        self.assertNotEqual(journal.read_bytes(), whole, "half a deletion is written")
        for name in ("register.csv", "manifest-sha256.txt"):  # or the journal could be made again from them
            (self.folder / "out" / name).unlink()
        before = {path: path.read_bytes() for path in journal.parent.iterdir() if path.is_file()}
        self.assertIn("0 would be written, 300 already there", self.run_program(*command, "--dry-run").stdout)
        self.assertEqual({path: path.read_bytes() for path in before}, before)

    def test_a_dry_run_follows_no_link(self) -> None:
        (self.folder / "out/.wexagraph").mkdir(parents=True)
        self.write("secret", b"not a journal")
        for name, command in (("journal", "export"), ("attachments", "attachments")):
            (self.folder / f"out/.wexagraph/{name}.sqlite").symlink_to(self.folder / "secret")
            done = self.run_program(command, "in", "--into", "out", "--dry-run", code=3)
            self.assertIn(f"{name}.sqlite", done.stderr)
            (self.folder / f"out/.wexagraph/{name}.sqlite").unlink()

    def test_a_dry_run_of_attachments(self) -> None:
        plan = file("plan.txt", "text/plain", b"The plan.")
        sender = ("Ines Halden <ines@quaysurvey.example>", "records@saltmere.example")
        self.write("in/a/9.eml", message(*sender, "Plan", when("2026-03-14"), multipart("mixed", text("See."), plan)))
        command = ("attachments", "in", "--into", "att", "--jobs", "1")
        before = self.tree()
        report = json.loads(self.run_program(*command, "--dry-run", "--json").stdout)
        self.assertEqual(self.tree(), before, "nothing is made, not even a folder")
        self.assertIn("1 would be written, 0 already there", self.run_program(*command, "--dry-run").stdout)
        self.run_program(*command)
        self.assertEqual([file["path"] for file in report["planned"]], self.made("att", ".txt"))
        (self.folder / "att" / report["planned"][0]["path"]).unlink()
        before = self.tree()
        table = self.run_program(*command, "--dry-run", "--csv").stdout.splitlines()
        self.assertEqual([line.split(",")[1] for line in table], ["state", "again"])
        self.assertEqual(self.tree(), before)

    def test_a_dry_run_of_a_backup(self) -> None:
        command = ("backup", "in", "--into", "bk")
        before = self.tree()
        report = json.loads(self.run_program(*command, "--dry-run", "--json").stdout)
        self.assertEqual(self.tree(), before, "nothing is made, not even a folder")
        done = json.loads(self.run_program(*command, "--json").stdout)
        self.assertEqual((report["written"], report["already_there"]), (done["written"], 0))
        self.write("in/b/9.eml", letter("Newest"))
        before = {path: path.read_bytes() for path in (self.folder / "bk").rglob("*") if path.is_file()}
        output = self.run_program(*command, "--dry-run").stdout
        self.assertIn("5 messages chosen: 1 would be read and stored, 4 already there. Nothing was written.", output)
        self.assertIn("b: Newest", output)
        table = self.run_program(*command, "--dry-run", "--csv").stdout.splitlines()
        self.assertEqual([line.split(",")[5] for line in table], ["subject", "Newest"])
        after = {path: path.read_bytes() for path in (self.folder / "bk").rglob("*") if path.is_file()}
        self.assertEqual(after, before)
        self.write("other/notes.txt", b"something else")
        self.run_program("backup", "in", "--into", "other", "--dry-run", code=3)

    def test_a_dry_run_of_restore_copy_and_join(self) -> None:
        self.run_program("backup", "in", "--into", "bk")
        self.write("in/b/9.eml", letter("Newest"))
        self.run_program("backup", "in", "--into", "bk")
        for target in ("back", "back.mbox", "back.zip", "maildir:md"):
            with self.subTest(target):
                command = ("restore", "bk", "--into", target)
                before = self.tree()
                report = json.loads(self.run_program(*command, "--dry-run", "--json").stdout)
                self.assertEqual(self.tree(), before, "nothing is made, not even a folder")
                self.run_program(*command, "--folder", "a")
                before = self.tree()
                output = self.run_program(*command, "--dry-run").stdout
                held = json.loads(self.run_program(*command, "--folder", "a", "--json").stdout)["already_there"]
                self.assertIn(f"{5 - held} would be given back, {held} already there", output)
                self.assertEqual(self.tree(), before)
                self.run_program(*command)
                if target in ("back", "maildir:md"):
                    place = self.folder / target.removeprefix("maildir:")
                    files = {str(path.relative_to(place)) for path in place.rglob("*") if path.is_file()}
                    self.assertEqual({file["path"] for file in report["planned"]}, files)
        for command, made in ((("copy", "bk", "--into", "twin"), "copied"), (("join", "bk"), "joined")):
            with self.subTest(made):
                before = self.tree()
                output = self.run_program(*command, "--dry-run").stdout
                self.assertIn(f"would be {made}", output)
                self.assertIn("Nothing was written.", output)
                planned = json.loads(self.run_program(*command, "--dry-run", "--json").stdout)["planned"]
                self.assertEqual(self.tree(), before)
                self.run_program(*command)
                gained = {path.removeprefix(f"{self.folder}/") for path in {*self.tree()} - {*before}}
                root = "twin/" if made == "copied" else "bk/"
                self.assertLessEqual({root + file["path"] for file in planned if file["state"] == "new"}, gained)
                gone = {path.removeprefix(f"{self.folder}/") for path in {*before} - {*self.tree()}}
                self.assertLessEqual({root + file["path"] for file in planned if file["state"] == "removed"}, gone)
        self.assertIn("--csv is for --dry-run", self.run_program("join", "bk", "--csv", code=2).stderr)

    def test_quiet(self) -> None:
        for command in (
            ("export", "in", "--into", "out", "--as", "eml"),
            ("attachments", "in", "--into", "att"),
            ("backup", "in", "--into", "bk"),
        ):
            with self.subTest(command):
                self.run_program(*command, "--quiet")
                done = self.run_program(*command, "--quiet")
                self.assertEqual((done.stdout, done.stderr), ("", ""))
        self.write("in/b/3.eml", letter("Newer"))
        self.assertIn("1 written", self.run_program("export", "in", "--into", "out", "--as", "eml", "--quiet").stdout)


class Help(ProgramTest):
    def test_first_steps(self) -> None:
        output = self.run_program().stdout
        self.assertIn("wexagraph export MAILBOX --into DIR", output)
        self.assertLessEqual(len(output.splitlines()), 10)
        self.assertLessEqual(max(map(len, output.splitlines())), 80)

    def test_help_of_each_command(self) -> None:
        for name in COMMANDS:
            with self.subTest(name):
                output = self.run_program("help", name).stdout
                self.assertEqual(output, self.run_program(name, "--help").stdout)
                self.assertEqual(len(re.findall(r"(?m)^  \$ wexagraph ", output)), 2, "two examples")
        output = self.run_program("help", "export").stdout
        sections = ["Which messages:", "Which files:", "The page:", "The PDF as a record:", "The run:", "Examples:"]
        self.assertEqual([line for line in output.splitlines() if line in sections], sections)
        self.assertEqual(self.run_program("-V").stdout, self.run_program("--version").stdout)
        self.assertIn("no command 'exprot'", self.run_program("help", "exprot", code=2).stderr)

    def test_examples_are_calls_that_the_program_takes(self) -> None:
        for name, examples in EXAMPLES.items():
            for example in examples:
                words = shlex.split(example.partition(" >>")[0].partition(" |")[0])[1:]
                command = cli.get_command(click.Context(cli), words[0])
                assert command is not None
                self.assertEqual(words[0], name)
                command.make_context(name, words[1:], parent=click.Context(cli), resilient_parsing=True)

    def test_manual_page(self) -> None:
        made = subprocess.run(
            [sys.executable, "-m", "wexagraph.cli.manual"], capture_output=True, text=True, check=True
        )
        page = Path(__file__).parent.parent / "docs/wexagraph.1"
        self.assertEqual(page.read_text("utf-8"), made.stdout, "`make manual` makes it again")
        shown = subprocess.run(
            ["groff", "-man", "-Tascii", "-ww", "-P-c", "-P-b", "-P-u", page],
            capture_output=True,
            text=True,
            check=True,
        )
        self.assertEqual(shown.stderr, "", "groff warns of nothing")
        for name in COMMANDS:
            self.assertRegex(shown.stdout, rf"(?m)^ +wexagraph {name}\b")
        self.assertIn("--newest N", shown.stdout)

    def test_completion(self) -> None:
        for shell in ("bash", "zsh", "fish"):
            self.assertIn("_WEXAGRAPH_COMPLETE", self.run_program("completion", shell).stdout)
        self.write("in/Berths.mbox", mbox(letter()))
        self.write("wexagraph.toml", '[sources]\noffice = "in"\n')
        for words, wanted in (
            ("wexagraph list in --folder B", "Berths"),
            ("wexagraph list @", "@office"),
            ("wexagraph list in --fol", "--folder"),
        ):
            with self.subTest(words):
                env = {"_WEXAGRAPH_COMPLETE": "bash_complete", "COMP_WORDS": words, "COMP_CWORD": str(words.count(" "))}
                self.assertIn(f"plain,{wanted}", self.run_program(env=env).stdout.splitlines())

    def test_completion_puts_nothing_on_the_line_that_a_shell_would_run(self) -> None:
        for name in ("Berths", "B$(touch x)", "B;x", "B`x`", "B\nplain,evil", "B x", "B'x", "\x1b[31mB"):
            self.write(f"in/{name}.mbox", mbox(letter()))
        env = {"_WEXAGRAPH_COMPLETE": "bash_complete", "COMP_WORDS": "wexagraph list in --folder B", "COMP_CWORD": "4"}
        self.assertEqual(self.run_program(env=env).stdout.split("\n"), ["plain,Berths", ""])

    def test_sentences(self) -> None:
        self.write("in.mbox", mbox(letter()))
        self.write("in/a.mbox", mbox(letter()))
        for arguments, code, said in (
            (("list", "nofile.mbox"), 3, "nofile.mbox does not exist."),
            (("export", "in.mbox", "out1"), 2, "--into DIR is missing: it says where results go"),
            (("export", "in.mbox", "out1", "--into", "o"), 2, "out1: use --into out1 to say where results go"),
            (("export", "in.mbox", "--into", "o", "--margin", "2cm"), 2, "--margin takes millimetres from 5 to 60"),
            (("export", "in", "--into", "in/out"), 2, "the output folder in/out is inside the mailbox"),
            (("list", "in.mbox", "--since", "soon"), 2, "'soon' is not a date"),
        ):
            with self.subTest(arguments):
                self.assertIn(said, self.run_program(*arguments, code=code).stderr)
        self.write("wexagraph.toml", "[options]\nas = pdf,eml\n")
        self.assertIn('Put the value in quotes: as = "pdf,eml"', self.run_program("list", "in.mbox", code=2).stderr)


class Lists(ProgramTest):
    def setUp(self) -> None:
        super().setUp()
        sent = message(
            "Desk <desk@saltmere.example>",
            "Ann <ann@quay.example>, bo@quay.example",
            "Out",
            when("2026-03-14"),
            text("Out."),
        )
        self.write("in/Sent Items.mbox", mbox(sent))
        self.write("in/Desk.mbox", mbox(letter("In")))

    def test_sent_mail_says_to_whom(self) -> None:
        lines = self.run_program("list", "in").stdout.splitlines()
        self.assertEqual([line.endswith("Out") for line in lines if "To Ann, bo@quay.example " in line], [True])
        self.assertEqual(sum("  To " in line for line in lines), 1, lines)

    def test_columns(self) -> None:
        wanted = ("list", "in", "--folder", "Sent Items", "--columns", "subject,to,from-address")
        table = named_rows(io.StringIO(self.run_program(*wanted, "--csv").stdout))
        self.assertEqual(
            list(table[0].values()), ["Out", "Ann <ann@quay.example>, bo@quay.example", "desk@saltmere.example"]
        )
        self.assertEqual(json.loads(self.run_program(*wanted, "--json").stdout), table)
        heading, line, *_ = self.run_program(*wanted).stdout.splitlines()
        self.assertEqual(heading.split(), ["subject", "to", "from_address"])
        self.assertEqual(heading.index("to"), line.index("Ann"))
        said = self.run_program("list", "in", "--columns", "subjekt", code=2).stderr
        self.assertIn("there is no column 'subjekt'. Did you mean subject?", said)


class Margins(ProgramTest):
    def test_four_margins(self) -> None:
        self.write("in.mbox", mbox(letter("Margins")))
        for engine in ("plutoprint", "weasyprint"):
            with self.subTest(engine):
                made = ("export", "in.mbox", "--into", engine, "--engine", engine)
                self.run_program(*made, "--margin", "60,20,20,50")
                page = pypdfium2.PdfDocument(next((self.folder / engine).rglob("*.pdf")))[0]
                words = page.get_textpage()
                boxes = [words.get_charbox(n) for n in range(words.count_chars()) if words.get_text_range(n, 1).strip()]
                self.assertAlmostEqual(min(box[0] for box in boxes) / 72 * 25.4, 50, delta=1.0)
                self.assertAlmostEqual(297 - max(box[3] for box in boxes) / 72 * 25.4, 60, delta=3.0)


if __name__ == "__main__":
    unittest.main()
