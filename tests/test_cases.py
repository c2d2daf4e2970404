"""Cases: filed where it belongs, held, and kept as long as it must be; a plan that people edit; a log that shows a gap."""

from __future__ import annotations

import hashlib
import io
import json
import os
import random
import re
import shutil
import sqlite3
import subprocess
import unittest
import zipfile
from collections.abc import Callable
from concurrent.futures import ThreadPoolExecutor
from contextlib import closing
from datetime import date, datetime
from pathlib import Path
from typing import Any
from unittest import mock
from zoneinfo import ZoneInfo

import bagit
import openpyxl
import pikepdf

from tests.helpers import PROGRAM, ProgramTest, letter, letter_with, mbox, missing_words, pdf_pages, pdf_text
from wexagraph.app.cases.records import Records
from wexagraph.demo.build import file, message, multipart, text, when
from wexagraph.errors import CallError
from wexagraph.messages.headers import Header
from wexagraph.records.fileplan import Case, after
from wexagraph.records.placing import Placer
from wexagraph.sources.base import Envelope


class CaseTest(ProgramTest):
    def program(self, *arguments: object, code: int | None = 0) -> str:
        done = self.call_program(*arguments, "--records", "rec", code=code)
        return done.stdout + done.stderr

    def state(self, reference: str) -> dict[str, Any]:
        rows: list[dict[str, Any]] = json.loads(self.program("case", "list", "--json"))
        return next(row for row in rows if row["reference"] == reference)

    def filed(self, reference: str) -> list[str]:
        """The messages in a case's folder, by their IDs in the mail."""
        folder = self.folder / "rec" / self.state(reference)["folder"]
        matches = [re.search(rb"(?m)^Message-ID: <(\S+)@", path.read_bytes()) for path in folder.glob("*.eml")]
        return sorted(match[1].decode() for match in matches if match)


def mail(id: str, subject: str, answers: str = "", sender: str = "Ines <ines@quay.example>", day: int = 1) -> bytes:
    more = f"Message-ID: <{id}@saltmere.example>\n" + (
        f"In-Reply-To: <{answers}@saltmere.example>\n" if answers else ""
    )
    return letter(subject, sender, f"{day} Mar 2026 09:00:00 +0000", f"Of {id}.\n", more)


class Filing(CaseTest):
    def setUp(self) -> None:
        super().setUp()
        self.program(
            "case", "open", "2026-118", "The quarrel over buoy 14", "--match", "subject=buoy 14", "--keep", "7y"
        )
        self.program("case", "open", "2026-11", "Dredging", "--match", "from=*@dredge.example", "--tag", "quay")
        self.program("case", "open", "AZ 7/26", "The slipway")

    def test_where_each_belongs(self) -> None:
        """References in all their spellings, whole ones only; answers; criteria; two at once; none."""
        table = [
            ("bare", "2026-118", ("2026-118",)),
            ("brackets", "Re: [2026-118] the chain", ("2026-118",)),
            ("hash", "Fwd: AW: #2026-118, the chain", ("2026-118",)),
            ("end", "About case 2026-118.", ("2026-118",)),
            ("lower", "the slipway (az 7/26)", ("AZ 7/26",)),
            ("longer", "Invoice 2026-1182", ()),
            ("short", "Bill for 2026-11: sand", ("2026-11",)),
            ("both", "2026-118 and 2026-11", ("2026-11", "2026-118")),
            ("criteria", "New buoy 14 laid", ("2026-118",)),
            ("none", "Fog", ()),
            ("near", "Case 2026-181", ()),
        ]
        mails = [mail(id, subject, day=n + 1) for n, (id, subject, _) in enumerate(table)]
        mails += [
            mail("answer", "Thank you", "bare"),
            mail("further", "You are welcome", "answer"),
            mail("dredger", "Volumes", sender="D <d@dredge.example>"),
            mail("stray", "Thank you", "none"),
        ]
        self.write("in.mbox", mbox(*random.Random(1).sample(mails, len(mails))))
        wanted = {id: list(cases) for id, _, cases in table}
        wanted |= {"answer": ["2026-118"], "further": ["2026-118"], "dredger": ["2026-11"], "stray": []}
        planned = json.loads(self.program("file", "in.mbox", "--by-plan", "--dry-run", "--json"))
        self.assertEqual(planned["unfiled"], 4)
        self.assertEqual(list((self.folder / "rec").rglob("*.eml")), [])
        output = self.program("file", "in.mbox", "--by-plan", "--as", "eml")
        self.assertIn("To 2026-118 and 2026-11: 2026-118 and 2026-11", output)
        self.assertRegex(output, r"Unfiled: \w{10}  Case 2026-181 \(nearest: 2026-118\)")
        for reference in ("2026-118", "2026-11", "AZ 7/26"):
            self.assertEqual(self.filed(reference), sorted(id for id, cases in wanted.items() if reference in cases))
        ids = self.call_program(
            "file", "in.mbox", "--by-plan", "--unfiled", "--dry-run", "--records", "rec"
        ).stdout.split()
        self.assertEqual(len(self.subjects("in.mbox", *(word for id in ids for word in ("--id", id)))), 4)

    def test_conversations_go_on_in_later_runs(self) -> None:
        self.write("1.mbox", mbox(mail("bare", "2026-118"), mail("answer", "Thank you", "asked")))
        self.program("file", "1.mbox", "--by-plan", "--as", "eml")
        self.program("file", "1.mbox", "--subject", "Thank", "--case", "AZ 7/26", "--as", "eml")
        self.write("2.mbox", mbox(mail("late", "Re:", "bare"), mail("asked", "A question")))
        self.program("file", "2.mbox", "--by-plan", "--as", "eml")
        self.assertEqual((self.filed("2026-118"), self.filed("AZ 7/26")), (["bare", "late"], ["answer", "asked"]))
        (self.folder / "rec/.wexagraph/filed.sqlite").write_bytes(b"no database" * 500)
        self.write("3.mbox", mbox(mail("later", "Re:", "late")))
        self.program("file", "3.mbox", "--by-plan", "--as", "eml")
        self.assertIn("later", self.filed("2026-118"), "the index is made again from the folders")

    def test_a_title(self) -> None:
        """What is filed is called so on its page, in its name, in the PDF, and is found by it."""
        self.write("a.mbox", mbox(mail("one", "The chain"), mail("two", "Re: The chain")))
        self.program("file", "a.mbox", "--case", "2026-11", "--title", "Repair negotiations, {date:%Y}")
        folder = self.folder / "rec" / self.state("2026-11")["folder"]
        made = sorted(folder.glob("*Repair negotiations, 2026*.pdf"))
        self.assertEqual(len(made), 2)
        self.assertIn("Repair negotiations, 2026", pdf_text(made[0]))
        self.assertIn("The chain", pdf_text(made[0]))
        with pikepdf.open(made[0]) as document:
            self.assertEqual(str(document.docinfo["/Title"]), "Repair negotiations, 2026")
        self.assertEqual(len(json.loads(self.program("find", "negotiations", "--json"))), 2)
        self.assertIn("0 new, 2 there already", self.program("file", "a.mbox", "--case", "2026-11"))

    def test_office_files_are_read_for_finding(self) -> None:
        sheet, book = io.BytesIO(), openpyxl.Workbook()
        book.active.append(["Fenders", "bollard"])
        book.save(sheet)
        slides, text = io.BytesIO(), io.BytesIO()
        with zipfile.ZipFile(slides, "w") as archive:
            archive.writestr("ppt/slides/slide1.xml", "<p:sld><a:t>Pontoon &amp; gangway</a:t></p:sld>")
        with zipfile.ZipFile(text, "w") as archive:
            archive.writestr("content.xml", "<office:text><text:p>Capstan</text:p></office:text>")
        files = [("s.xlsx", "", sheet), ("p.pptx", "", slides), ("t.odt", "", text), ("bad.odp", "", io.BytesIO(b"PK"))]
        inner = ("letter.eml", "message/rfc822", io.BytesIO(mail("inner", "Windlass")))
        attached = [(name, kind or "application/octet-stream", data.getvalue()) for name, kind, data in [*files, inner]]
        self.write("a/one.eml", letter_with(*attached))
        self.program("file", "a", "--case", "2026-11", "--as", "eml")
        for word in ("bollard", "gangway", "capstan", "windlass"):
            self.assertEqual(len(json.loads(self.program("find", word, "--json"))), 1, word)

    def test_once_and_with_its_reference(self) -> None:
        data = mail("one", "The chain")
        self.write("a/one.eml", data)
        self.write("b.mbox", mbox(mail("x", "Fog"), data))
        names = ("--name", "{case} {case_title} {subject}", "--cover", "built-in")
        self.program("file", "a", "--case", "2026-11", *names)
        self.assertIn(
            "0 new, 1 there already", self.program("file", "b.mbox", "--subject", "chain", "--case", "2026-11")
        )
        folder = self.folder / "rec" / self.state("2026-11")["folder"]
        self.assertEqual(
            sorted(p.name for p in folder.glob("*.*") if p.suffix in (".pdf", ".eml")),
            ["2026-11 Dredging The chain.eml", "2026-11 Dredging The chain.pdf"],
        )
        with pikepdf.open(folder / "2026-11 Dredging The chain.pdf") as document:
            self.assertIn("2026-11", str(document.docinfo["/Keywords"]))
            self.assertIn("quay", str(document.docinfo["/Keywords"]))
        self.assertIn("in the case 2026-11", pdf_text(folder / "2026-11 Dredging The chain.pdf"))
        self.assertIn("0 foreign", self.call_program("verify", str(folder)).stdout)
        self.run_program("register", "a", "--into", folder / "t.csv", "--columns", "subject,case,tags")
        self.assertEqual(self.state("2026-11")["messages"], 1)
        (folder / "2026-11 Dredging The chain.pdf").unlink()
        self.program("file", "a", "--case", "2026-11", *names)
        self.assertTrue((folder / "2026-11 Dredging The chain.pdf").exists(), "what is missing is made again")
        self.assertIn(",2026-11,", (folder / "t.csv").read_text("utf-8-sig"))

    def test_two_clerks(self) -> None:
        """Both file and both open cases at once: each waits for the other, and nothing of anybody is lost."""
        for turn in range(10):
            for clerk in "ab":
                self.write(f"{clerk}{turn}.mbox", mbox(*(mail(f"{clerk}{turn}-{n}", "Fog") for n in range(3))))

        def work(clerk: str) -> None:
            for turn in range(10):
                self.run_program("file", f"{clerk}{turn}.mbox", "--case", "2026-11", "--as", "eml", "--records", "rec")
                self.run_program("case", "open", f"{clerk}-{turn}", "Theirs", "--records", "rec")

        with ThreadPoolExecutor(2) as pool:
            list(pool.map(work, "ab"))
        self.assertEqual(len(self.filed("2026-11")), 60)
        self.assertEqual(len(json.loads(self.program("case", "list", "--json"))), 23)
        self.assertEqual(self.state("2026-11")["messages"], 60)
        self.program("case", "log", "2026-11")

    def test_killed(self) -> None:
        """Gone at any step of filing: the plan can be read, the log holds, and the next run ends it."""
        self.write("in.mbox", mbox(*(mail(f"m{n}", "2026-118 and 2026-11") for n in range(4))))
        command = ("file", "in.mbox", "--by-plan", "--as", "eml", "--records", "rec")
        rng = random.Random(20)
        self.run_program(*command, end_before=10_000)
        steps = self.steps
        for turn in range(12):
            self.write(f"{turn}.mbox", mbox(*(mail(f"t{turn}-{n}", "2026-118 and 2026-11") for n in range(3))))
            command = ("file", f"{turn}.mbox", "--by-plan", "--as", "eml", "--records", "rec")
            self.run_program(*command, code=None, end_before=rng.randrange(steps))
            self.program("case", "log", "2026-118")
            self.run_program(*command)
        for reference in ("2026-118", "2026-11"):
            self.assertEqual(len(self.filed(reference)), 4 + 36)
            self.program("case", "log", reference)
            self.assertEqual(self.state(reference)["messages"], 40)


class Keeping(CaseTest):
    def test_a_time_has_to_go_by_in_full(self) -> None:
        for day, span, wanted in (
            ("2024-02-29", "1y", "2025-03-01"),
            ("2024-02-29", "4y", "2028-02-29"),
            ("2026-01-31", "1m", "2026-03-01"),
            ("2026-12-31", "2m", "2027-03-01"),
            ("2026-11-26", "7y", "2033-11-26"),
            ("2026-11-26", "2w", "2026-12-10"),
            ("2026-11-26", "90d", "2027-02-24"),
        ):
            self.assertEqual(after(date.fromisoformat(day), span), date.fromisoformat(wanted), (day, span))

    def test_due_by_the_clock_of_the_office(self) -> None:
        def records(moment: str, zone: str = "UTC") -> Records:
            at = datetime.fromisoformat(moment).astimezone(ZoneInfo(zone))
            return Records(self.folder / "rec", lambda: at, "ines")

        records("2026-03-01T12:00:00+00:00").open("1", "One", {}, "1y")
        records("2026-03-01T12:00:00+00:00").open("2", "Two", {}, "1y")
        for reference in "12":
            records("2026-03-02T23:30:00+00:00", "Asia/Tokyo").close(reference)
        office = records("2027-03-02T14:59:00+00:00", "Asia/Tokyo")
        self.assertEqual(office.due(), [])
        office = records("2027-03-02T15:00:00+00:00", "Asia/Tokyo")
        self.assertEqual([case.reference for case in office.due()], ["1", "2"], "a day later, by the office's own day")
        office.hold("2", "the court asks")
        self.assertEqual([case.reference for case in office.due()], ["1"])
        office.release("2")
        self.assertEqual([case.reference for case in office.due()], ["1", "2"])
        office.reopen("1")
        self.assertEqual([case.reference for case in office.due()], ["2"])

    def test_states_and_the_log(self) -> None:
        opened = json.loads(self.program("case", "open", "7", "Fog signal", "--keep", "30d", "--json"))
        self.assertEqual((opened["reference"], opened["state"], opened["keep"]), ("7", "open", "30d"))
        self.assertEqual(
            self.program("case", "show", "7", "--csv").splitlines()[1].split(",")[:3], ["7", "Fog signal", "open"]
        )
        self.assertIn("can't be closed before", self.program("case", "close", "7", "--on", "2020-01-10", code=2))
        self.program("case", "close", "7")
        self.assertIn("was closed on", self.program("case", "close", "7", code=2))
        self.program("case", "hold", "7", "--why", "appeal")
        self.assertIn("On hold: since", self.program("case", "show", "7"))
        self.assertEqual(self.state("7")["state"], "on hold")
        self.program("case", "release", "7")
        self.assertIn("is not on hold", self.program("case", "release", "7", code=2))
        self.program("case", "rename", "7", "Fog signals")
        self.assertEqual(
            [event["what"] for event in self.events()], ["opened", "closed", "held", "released", "renamed"]
        )

    def events(self, code: int = 0) -> list[dict[str, Any]]:
        report: dict[str, Any] = json.loads(
            self.call_program("case", "log", "7", "--json", "--records", "rec", code=code).stdout
        )
        self.assertEqual(report["whole"], not code)
        events: list[dict[str, Any]] = report["events"]
        return events

    def test_a_log_with_a_gap(self) -> None:
        self.program("case", "open", "7", "Fog signal")
        for why in "abc":
            self.program("case", "hold", "7", "--why", why)
        path = next((self.folder / "rec").glob("*/case.log"))
        lines = path.read_bytes().splitlines(keepends=True)
        for wrong in (
            [*lines[:1], *lines[2:]],
            lines[:-1],
            [lines[0].replace(b"Fog", b"Dog"), *lines[1:]],
            [lines[0], lines[2], lines[1], lines[3]],
        ):
            path.write_bytes(b"".join(wrong))
            self.events(code=1)
        path.unlink()
        outside = self.write("outside.txt", b"theirs")
        path.symlink_to(outside)
        self.assertIn(
            "can't be read",
            self.program("case", "hold", "7", "--why", "e", code=3) + self.program("case", "log", "7", code=3),
        )
        self.assertEqual(outside.read_bytes(), b"theirs", "no link is followed")
        path.unlink()
        path.write_bytes(b"".join(lines) + lines[0][:20])  # a line that was cut off by a kill
        self.events()
        self.program("case", "hold", "7", "--why", "d")
        self.assertEqual(len(self.events()), 5)


class Year(CaseTest):
    def test_of_an_office(self) -> None:
        """Forty cases and 1,200 letters of a year: each is where it was written down that it belongs."""
        dice = random.Random(2026)
        names = [f"{2020 + n % 7}-{n * 7 + 3}" for n in range(40)]
        for n, name in enumerate(names):
            self.program("case", "open", name, f"Matter {n}", "--match", f"from=clerk{n}@firm.example")
        spelled = (
            "{}",
            "[{}]",
            "#{}",
            "({})",
            "{}:",
            "Re: {}",
            "AW: [{}]",
            "Fwd: Re: #{}",
            "WG: WG: {},",
            "{}.",
            "\u201e{}\u201c",
        )
        wanted: dict[str, set[str]] = {}
        mails: list[bytes] = []
        for n in range(1200):
            id, kind = f"y{n}", dice.random()
            case, other = dice.sample(names, 2)
            words = f"berth {dice.randrange(9)} of quay {n}"
            if kind < 0.5:
                subject, cases = f"{dice.choice(spelled).format(case)} {words}", {case}
            elif kind < 0.6:
                subject, cases = f"{words} {case} and [{other}]", {case, other}
            elif kind < 0.7:
                subject, cases = f"{words} {case}7, {case.replace('-', '.')}, x{case}", set()
            elif kind < 0.8:
                at = dice.randrange(40)
                mails.append(mail(id, words, sender=f"C <clerk{at}@firm.example>", day=n % 28 + 1))
                wanted[id] = {names[at]}
                continue
            else:
                before = dice.choice(sorted(wanted)) if wanted else None
                mails.append(mail(id, f"Re: {words}", before or "", day=n % 28 + 1))
                wanted[id] = set(wanted[before]) if before else set()
                continue
            mails.append(mail(id, subject, day=n % 28 + 1))
            wanted[id] = cases
        dice.shuffle(mails)
        for part in range(3):  # as it comes, in three runs
            self.write(f"{part}.mbox", mbox(*mails[part * 400 : part * 400 + 400]))
            self.program("file", f"{part}.mbox", "--by-plan", "--as", "eml")
        self.write("all.mbox", mbox(*mails))
        self.program("file", "all.mbox", "--by-plan", "--as", "eml")  # answers that came before their letters
        for name in names:
            self.assertEqual(self.filed(name), sorted(id for id, cases in wanted.items() if name in cases), name)
        for row in json.loads(self.program("case", "list", "--json")):
            self.program("case", "log", row["reference"])
            self.assertIn("0 foreign", self.call_program("verify", str(self.folder / "rec" / row["folder"])).stdout)


class Placing(unittest.TestCase):
    """Where a message belongs, by the placer alone."""

    asked = 0

    def placed(self, subjects: list[str], refers: Callable[[int], list[int]]) -> list[list[str]]:
        """The cases of messages, each of which has the ID of its number and refers to others; `asked` is how often the
        index was."""

        def known(_: int) -> tuple[str, ...]:
            self.asked += 1
            return ()

        cases = [Case(f"2026/{n:04}", f"Berth {n}", f"f{n}", date(2026, 1, 1)) for n in range(2)]
        envelopes = []
        for number, subject in enumerate(subjects):
            more = "".join(f"<{id}@saltmere.example> " for id in refers(number))
            header = letter(subject, more=f"Message-ID: <{number}@saltmere.example>\nReferences: {more}\n")
            envelopes.append(Envelope("in", str(number), len(header), Header(header)))
        placements = Placer(cases, known).place_all(envelopes, lambda _: [])
        return [placement.cases for placement in placements]

    def test_a_long_chain_whichever_end_is_known(self) -> None:
        for known in (0, 2500, 4999):
            subjects = ["2026/0001 Dues" if number == known else "Re: Dues" for number in range(5000)]
            self.asked = 0
            placed = self.placed(subjects, lambda number: [number - 1] if number else [])
            self.assertLess(self.asked, 6 * 5000, "not by the square of its length")
            self.assertEqual(placed, [["2026/0001"]] * 5000)

    def test_one_that_joins_two_conversations_goes_into_both(self) -> None:
        subjects = ["2026/0000 Dues", "2026/0001 Fog", "Both", "Re: Both"]
        placed = self.placed(subjects, lambda number: {2: [0, 1], 3: [2]}.get(number, []))
        self.assertEqual(placed, [["2026/0000"], ["2026/0001"], ["2026/0000", "2026/0001"], ["2026/0000", "2026/0001"]])


class Finding(CaseTest):
    def test_words_of_all_cases(self) -> None:
        """In the text, in what is attached, in titles; the best first; what is filed later too; what is gone no more."""
        self.program("case", "open", "1", "The slipway quarrel")
        self.program("case", "open", "2", "Dredging")
        sheet = "Content-Type: text/csv; name=volumes.csv\n\nsilt,4200\n"
        parts = f"--b\n\nSee the list.\n--b\n{sheet}--b--\n"
        self.write("a/1.eml", mail("m1", "Mooring chains", day=2))
        self.write("a/2.eml", letter("Volumes", body=parts, more="Content-Type: multipart/mixed; boundary=b\n"))
        self.write("a/3.eml", letter("\u0627", body="A mooring \x1b[31m bill\n"))
        self.program("file", "a", "--subject", "chains", "--case", "1", "--as", "pdf,eml")
        self.program("file", "a", "--except", "subject=chains", "--case", "2", "--as", "eml")

        def files_of(*words: str) -> list[str]:
            output = self.call_program("find", *words, "--records", "rec", "--json").stdout
            return [f"{hit['case']}:{Path(hit['file']).suffix}" for hit in json.loads(output)]

        self.assertEqual(files_of("mooring"), ["1:.pdf", "2:.eml"])
        self.assertEqual(files_of("silt 42"), ["2:.eml"], "attached, and the beginning of a word")
        self.assertEqual(files_of("quarrel"), ["1:.pdf"], "the case's title")
        self.assertEqual((files_of('"mooring chains"'), files_of('"chains mooring"')), (["1:.pdf"], []))
        self.assertEqual(
            (files_of("mooring", "--case", "2"), files_of("mooring", "--subject", "chains")), (["2:.eml"], ["1:.pdf"])
        )
        self.write("b.eml", mail("late", "Mooring, once more"))
        self.program("file", "b.eml", "--case", "2", "--as", "eml")
        self.assertEqual(len(files_of("mooring")), 3)
        output = self.call_program("find", "mooring", "--records", "rec").stdout
        self.assertIn("3 messages found.", output)
        self.assertNotIn("\x1b[31m", output)
        index = self.folder / "rec/.wexagraph/find.sqlite"
        torn = bytearray(index.read_bytes())
        for page in range(8192, len(torn), 4096):
            torn[page : page + 200] = b"\xff" * 200
        for damaged in (b"", b"no database" * 500, torn):
            index.write_bytes(damaged)
            self.assertEqual(len(files_of("mooring")), 3, "the index can be made again")

    def test_attachments_alone_are_filed_found_and_joined_by_their_message(self) -> None:
        files = [file("tide.txt", "text/plain", b"Cormorant sails"), file("quay.dat", "application/octet-stream", b"x")]
        body = multipart("mixed", text("See.\n"), *files)
        self.write(
            "in.mbox", mbox(mail("m1", "Fog"), message("a@b.example", "c@d.example", "Tides", when("2026-03-14"), body))
        )
        self.program("case", "open", "9", "Tides")
        for said in ("1 new, 0 there already", "0 new, 1 there already"):
            self.assertIn(said, self.program("file", "in.mbox", "--case", "9", "--as", "attachments"))
        self.assertEqual({Path(path).name for path in self.made("rec/9 Tides", ".txt")}, {"tide.txt"})
        self.assertEqual(self.made("rec/9 Tides", ".eml"), [])
        self.assertIn("tide.txt", self.call_program("find", "cormorant", "--records", "rec").stdout)
        self.assertIn("2 new", self.program("file", "in.mbox", "--case", "9"))
        output = self.call_program("find", "cormorant", "--records", "rec").stdout
        self.assertIn("Tides.pdf", output)  # the file to open is another one since
        self.assertIn("1 message found", output)

    def test_words_of_attached_documents(self) -> None:
        """In a case, an export with and without originals, a backup, and on the page to browse: the same words."""
        from wexagraph.demo import files

        documents = [
            file(
                "agreement.docx",
                "application/vnd.openxmlformats-officedocument.wordprocessingml.document",
                files.document(),
            ),
            file("plan.pdf", "application/pdf", files.pdf("Slipway", "The capstan has to go")),
        ]
        self.write(
            "in/1.eml",
            message(
                "a@quay.example",
                "b@quay.example",
                "Files",
                when("2026-03-14"),
                multipart("mixed", text("See below.\n"), *documents),
            ),
        )
        for name, call in (
            ("pdf", ("export", "in", "--into", "pdf", "--index")),
            ("both", ("export", "in", "--into", "both", "--as", "pdf,eml")),
            ("bk", ("backup", "in", "--into", "bk")),
        ):
            self.run_program(*call)
            for word in ("capstan", "mooring"):
                found = self.run_program("find", word, "--in", name).stdout
                self.assertIn("1 message", found, (name, word))
                self.assertIn(
                    "plan.pdf", self.run_program("list", "bk", "--text", word, "--csv").stdout
                ) if name == "bk" else None
        pages = "".join(path.read_text("utf-8") for path in (self.folder / "pdf").rglob("*.js"))
        pages += (self.folder / "pdf/index.html").read_text("utf-8") + "".join(
            p.read_text("utf-8") for p in (self.folder / "pdf").rglob("*.html")
        )
        self.assertIn("capstan", pages)
        (self.folder / "bk/catalogue.sqlite").unlink()
        self.run_program("backup", "in", "--into", "bk")
        self.assertIn("1 message", self.run_program("find", "capstan", "--in", "bk").stdout)

    def test_in_an_export_and_a_backup(self) -> None:
        self.write("in.mbox", mbox(mail("m1", "Mooring chains"), mail("m2", "Fog")))
        self.run_program("export", "in.mbox", "--into", "out", "--as", "text")
        self.run_program("backup", "in.mbox", "--into", "bk")
        for place in ("out", "bk"):
            output = self.run_program("find", "moor", "--in", place).stdout
            self.assertIn("Mooring chains", output)
            self.assertIn("1 message", output)
            newest = json.loads(self.run_program("find", "o", "--in", place, "--newest", "1", "--json").stdout)
            self.assertLessEqual(len(newest), 1, place)
            self.assertNotIn("1 message", self.run_program("find", "moor", "--in", place, "--subject", "fog").stdout)
        place = self.folder / "out"
        (place / ".wexagraph/find.sqlite").unlink()
        mounted = subprocess.run(["mount", "--bind", "-o", "ro", place, place], capture_output=True, check=False)
        self.addCleanup(subprocess.run, ["umount", place], capture_output=True)
        if not mounted.returncode:  # on a stick that can't be written to, for the first time
            self.assertIn("1 message", self.run_program("find", "fog", "--in", "out").stdout)
        self.assertIn(
            "neither an export folder nor a backup", self.run_program("find", "x", "--in", ".", code=2).stderr
        )


class Disposal(CaseTest):
    def setUp(self) -> None:
        super().setUp()
        self.program("case", "open", "7", "Fog signal", "--keep", "1y")
        self.write("in.mbox", mbox(mail("m1", "One"), mail("m2", "=Two")))
        self.program("file", "in.mbox", "--case", "7")
        self.path = self.folder / "rec/fileplan.toml"

    def make_due(self) -> None:
        self.program("case", "close", "7")
        self.path.write_text(re.sub(r"(opened|closed) = 20\d\d", r"\1 = 2020", self.path.read_text()))

    def test_what_speaks_against_it(self) -> None:
        def refused(why: str) -> None:
            self.assertIn(why, self.program("case", "dispose", "7", "--yes", code=1))
            self.assertEqual(len(self.filed("7")), 2)

        refused("is open")
        self.program("case", "close", "7")
        refused("is kept until")
        self.path.write_text(re.sub(r"(opened|closed) = 20\d\d", r"\1 = 2020", self.path.read_text()))
        self.program("case", "hold", "7", "--why", "court")
        refused("is on hold (court)")
        self.program("case", "release", "7")
        folder = self.folder / "rec/7 Fog signal"
        victim = next(folder.glob("*.pdf"))
        whole = victim.read_bytes()
        victim.write_bytes(whole + b"x")
        refused("is altered")
        victim.write_bytes(whole)
        log = folder / "case.log"
        lines = log.read_bytes()
        log.write_bytes(lines.split(b"\n", 1)[1])
        refused("the log of case 7 is not whole")
        log.write_bytes(lines)
        self.assertIn("add --yes", self.program("case", "dispose", "7", code=2))
        self.program("case", "dispose", "7", "--yes")
        self.assertFalse(folder.exists())

    def test_the_certificate(self) -> None:
        self.make_due()
        self.program("case", "dispose", "7", "--yes")
        made = {path.suffix: path for path in (self.folder / "rec/disposed").iterdir()}
        text = made[".txt"].read_text("utf-8")
        digests = [hashlib.sha256(mail(*one)).hexdigest() for one in (("m1", "One"), ("m2", "=Two"))]
        words = pdf_text(made[".pdf"])
        for wanted in (*digests, "Fog signal", "kept 1y after it was closed", "=Two"):
            self.assertIn(wanted, text)
            self.assertEqual(missing_words(wanted, words), [])
        self.assertIn('"what": "disposed"', made[".log"].read_text("utf-8"))
        self.assertEqual(json.loads(self.program("case", "list", "--json")), [])
        self.write("answer.eml", mail("m3", "Re: One", "m1"))
        self.assertIn("1 unfiled", self.open_again_and_file())

    def test_the_certificate_speaks_the_office_s_language(self) -> None:
        self.make_due()
        with mock.patch.dict("os.environ", {"LC_ALL": "it_IT.UTF-8"}):
            self.program("case", "dispose", "7", "--yes")
        (text,) = (path.read_text("utf-8") for path in (self.folder / "rec/disposed").glob("*.txt"))
        for words in ("Certificato di scarto: 7", "conservata 1y dopo la chiusura", "Ultima riga del registro:"):
            self.assertIn(words, text)
        self.assertNotIn("Reference", text)

    def open_again_and_file(self) -> str:
        self.program("case", "open", "8", "Another")
        return self.program("file", "answer.eml", "--by-plan")

    def others(self, step: int) -> list[tuple[str, ...]]:
        """Two other commands that may come next, each step two others; each takes the case for what it is."""
        commands = [
            ("case", "list"),
            ("case", "show", "7"),
            ("case", "log", "7"),
            ("case", "hold", "7", "--why", "court"),
            ("case", "pack", "7", "--into", f"{step}.zip"),
            ("case", "due"),
            ("find", "two"),
            ("file", "in.mbox", "--case", "7"),
        ]
        chosen = [commands[step % len(commands)], commands[(step // len(commands) + step) % len(commands)]]
        after = [("case", "release", "7")] if any("hold" in command for command in chosen) else []
        return [*chosen[:1], *[command for command in chosen[1:] if command != chosen[0]], *after]

    def test_killed(self) -> None:
        """Gone at any step: whichever command comes next, the records are whole, or certified and the case gone."""
        self.make_due()
        shutil.copytree(self.folder / "rec", self.folder / "before")
        step, done = 0, False
        while not done:
            shutil.rmtree(self.folder / "rec")
            shutil.copytree(self.folder / "before", self.folder / "rec")
            command = ("case", "dispose", "7", "--yes", "--records", "rec")
            done = self.run_program(*command, code=None, end_before=step).returncode == 0
            papers = self.folder / "rec/disposed"
            is_there = (self.folder / "rec/7 Fog signal").exists()
            self.assertFalse(is_there and list(papers.glob("*")), "a certificate tells of what has happened")
            for other in self.others(step):
                self.call_program(*other, "--records", "rec", code=0 if is_there or other[1] == "list" else None)
                self.assertEqual(len(list(papers.glob("*.pdf"))), 0 if is_there else 1, (step, other))
                self.assertFalse((self.folder / "rec/7 Fog signal").exists() and not is_there, (step, other))
            if is_there:
                self.assertEqual(len(self.filed("7")), 2, step)
                self.run_program(*command)
            self.assertFalse((self.folder / "rec/7 Fog signal").exists())
            (text,) = papers.glob("*.txt")
            self.assertIn("Messages:             2,", text.read_text("utf-8"))
            self.assertFalse(list((self.folder / "rec/.wexagraph").glob("going/*")), step)
            step += 1
        self.assertGreater(step, 10)


class Between(CaseTest):
    """What two commands, two clerks, or a clerk and somebody with an editor do to the same case."""

    def setUp(self) -> None:
        super().setUp()
        self.program("case", "open", "1", "Buoy")
        self.program("case", "open", "2", "Chain", "--keep", "1y")
        self.write("in.mbox", mbox(mail("m1", "One"), mail("m2", "Two")))
        self.program("file", "in.mbox", "--case", "1")
        self.rec, self.plan = self.folder / "rec", self.folder / "rec/fileplan.toml"

    def edit(self, old: str, new: str) -> None:
        text = self.plan.read_text()
        self.assertIn(old, text)
        self.plan.write_text(text.replace(old, new))

    def make_due(self, reference: str) -> None:
        self.program("case", "close", reference)
        head, mark, rest = self.plan.read_text().partition(
            f"[cases.{json.dumps(reference) if '/' in reference else reference}]"
        )
        self.plan.write_text(head + mark + re.sub(r"(opened|closed) = \d+", r"\1 = 2019", rest))

    def test_folders_of_ours_that_are_links(self) -> None:
        self.write("elsewhere/precious/letter.txt", "kept")
        for name in ("disposed", ".wexagraph/going", "merged"):
            with self.subTest(name):
                link = self.rec / name
                if name != "merged":
                    self.program("case", "open", "9", "Empty", "--again", "--keep", "1d")
                    self.make_due("9")
                if name == "disposed" or link.exists():
                    shutil.rmtree(link, ignore_errors=True)
                link.symlink_to(self.folder / "elsewhere")
                if name == "merged":
                    error = self.program("case", "merge", "1", "2", code=3)
                else:
                    error = self.program("case", "dispose", "9", "--yes", code=3)
                self.assertIn("is a symbolic link, which is not followed", error)
                link.unlink()
                self.assertEqual(
                    [path.name for path in (self.folder / "elsewhere").rglob("*")], ["precious", "letter.txt"]
                )
                self.assertEqual(self.filed("1"), ["m1", "m2"])
                if name != "merged":
                    self.assertEqual(self.state("9")["reference"], "9")
                    self.program("case", "dispose", "9", "--yes")

    def test_filed_while_it_is_merged(self) -> None:
        """The letter of the other clerk is in the case that goes on, whoever comes first at the folder."""
        from wexagraph.app.cases import merging

        real = merging._file_all
        calls: list[int] = []

        def file_all(records: Records, first: Any, second: Any) -> Any:
            report = real(records, first, second)
            calls.append(len(calls))
            if len(calls) == 1:
                self.write("late.eml", mail("m3", "Late"))
                subprocess.run(
                    [PROGRAM, "file", "late.eml", "--case", "1", "--records", "rec"],
                    cwd=self.folder,
                    check=True,
                    capture_output=True,
                )
            return report

        with mock.patch.object(merging, "_file_all", file_all):
            self.program("case", "merge", "1", "2")
        self.assertEqual(calls, [0, 1])
        self.assertEqual(self.filed("2"), ["m1", "m2", "m3"])
        self.assertIn("1 message found", self.program("find", "late"))
        self.write("more.eml", mail("m4", "More"))
        self.assertIn("case 1 was merged into case 2", self.program("file", "more.eml", "--case", "1", code=2))

    def test_filed_when_the_case_has_just_gone(self) -> None:
        from wexagraph.app.cases import filing

        real = filing._into

        def into(*arguments: Any) -> Any:
            if not (self.rec / "merged").exists():
                subprocess.run(
                    [PROGRAM, "case", "merge", "1", "2", "--records", "rec"],
                    cwd=self.folder,
                    check=True,
                    capture_output=True,
                )
            return real(*arguments)

        self.write("late.eml", mail("m3", "Late"))
        with mock.patch.object(filing, "_into", into):
            said = self.program("file", "late.eml", "--case", "1", code=1)
        self.assertIn("case 1 was merged or disposed of meanwhile. File it again", said)
        self.assertFalse((self.rec / "1 Buoy").exists())
        self.assertEqual(self.filed("2"), ["m1", "m2"])

    def test_two_certificates_of_one_name(self) -> None:
        for reference in ("2026/7", "2026:7"):
            self.program("case", "open", reference, "Fog", "--keep", "1d")
            self.program("case", "close", reference)
        self.plan.write_text(re.sub(r"(opened|closed) = 20\d\d", r"\1 = 2020", self.plan.read_text()))
        for reference in ("2026/7", "2026:7"):
            self.program("case", "dispose", reference, "--yes")
        texts = [path.read_text() for path in (self.rec / "disposed").glob("*.txt")]
        self.assertEqual(sorted(re.findall(r"Reference: +(\S+)", "".join(texts))), ["2026/7", "2026:7"])
        self.assertEqual(len(list((self.rec / "disposed").iterdir())), 6)
        for reference in ("2026/7", "2026:7"):
            self.assertIn("disposed of", self.program("case", "log", reference))
            self.assertIn("was disposed of", self.program("case", "open", reference, "Fog", code=2))
        self.program("case", "open", "2026/7", "Fog", "--again", "--keep", "1d")
        self.make_due("2026/7")
        self.program("case", "dispose", "2026/7", "--yes")
        self.assertEqual(len(list((self.rec / "disposed").iterdir())), 9)
        for one in texts:
            self.assertIn(one, [path.read_text() for path in (self.rec / "disposed").glob("*.txt")])

    def test_a_plan_that_was_tampered_with(self) -> None:
        with mock.patch("wexagraph.records.fileplan._LARGE", 10):
            self.program("case", "hold", "1", "--why", "court")
            for path in (self.folder / "no-cache").rglob("*.json"):
                self.assertEqual(path.stat().st_mode & 0o077, 0)
            self.assertFalse((self.rec / ".wexagraph/fileplan.json").exists())
            self.write(
                "rec/.wexagraph/fileplan.json",
                b'{"sha256": "%s", "cases": {}}' % hashlib.sha256(self.plan.read_bytes()).hexdigest().encode(),
            )
            self.assertEqual(self.state("1")["state"], "on hold")
        self.edit('keep = "1y"', 'keep = "1y"\nclosed = 2001-01-01')
        error = self.program("case", "dispose", "2", "--yes", code=2)
        self.assertRegex(
            error, r"fileplan.toml, line \d+: in case 2: it was closed on 2001-01-01, before it was opened"
        )

    def test_what_one_list_has_and_another_lacks(self) -> None:
        """A letter, a row or a line taken out by hand, with all that would tell of it but one."""
        case, mails = self.rec / "1 Buoy", {"One": mail("m1", "One"), "Two": mail("m2", "Two")}
        shutil.copytree(self.rec, self.folder / "before")
        (original,) = case.glob("*One.eml")
        page = original.with_suffix(".pdf")

        def without(name: str, *words: str) -> None:
            lines = (case / name).read_bytes().splitlines(keepends=True)
            kept = [line for line in lines if not any(word.encode() in line for word in words)]
            self.assertLess(len(kept), len(lines))
            (case / name).write_bytes(b"".join(kept))

        def unlist() -> None:
            without("manifest-sha256.txt", "One.")
            original.unlink()
            page.unlink()

        def forget() -> None:
            with closing(sqlite3.connect(case / ".wexagraph/journal.sqlite")) as base, base:
                digest = hashlib.sha256(mails["One"]).hexdigest()
                base.execute("DELETE FROM file WHERE message IN (SELECT number FROM message WHERE digest=?)", (digest,))
                base.execute("DELETE FROM message WHERE digest=?", (digest,))
                base.execute("DELETE FROM file WHERE format LIKE 'list:manifest%'")

        def exchange() -> None:
            other = original.read_bytes().replace(b"Of m1", b"Of m9")
            line = (case / "manifest-sha256.txt").read_bytes()
            old, new = (hashlib.sha256(data).hexdigest().encode() for data in (original.read_bytes(), other))
            original.write_bytes(other)
            (case / "manifest-sha256.txt").write_bytes(line.replace(old, new))

        steps: dict[str, tuple[list[Any], str]] = {
            "file and line": ([unlist], "the journal knows it, and the list of checksums has no line for it"),
            "journal too": ([unlist, forget], "it has 1 row of messages that the journal does not know"),
            "all but the log": (
                [unlist, forget, lambda: without("register.csv", "One")],
                "the log says that it was filed",
            ),
            "a row": ([lambda: without("register.csv", "One")], "it has no row of 'One'"),
            "an original": ([exchange], "its line in the list of checksums is another than the journal knows"),
        }
        for what, (tampering, said) in steps.items():
            with self.subTest(what):
                shutil.rmtree(self.rec)
                shutil.copytree(self.folder / "before", self.rec)
                for step in tampering:
                    step()
                output = self.call_program("verify", "rec/1 Buoy", code=1).stdout
                self.assertIn(said, output)
                self.assertIn("is not whole", self.program("case", "pack", "1", "--into", "x.zip", code=1))
                self.assertIn(
                    said, self.call_program("verify", "rec", code=1).stdout, "the records prove all their cases"
                )
                if what == "a row":
                    self.program("file", "in.mbox", "--case", "1", "--as", "pdf,eml,text")
                    self.call_program("verify", "rec/1 Buoy")
        shutil.rmtree(self.rec)
        shutil.copytree(self.folder / "before", self.rec)
        self.assertIn("5 of 5 listed files are whole", self.call_program("verify", "rec").stdout)

    def test_a_hold_travels(self) -> None:
        self.program("case", "hold", "1", "--why", "the quarrel")
        self.program("case", "pack", "1", "--into", "one.zip")
        self.call_program("case", "unpack", "one.zip", "--records", "other")
        self.assertIn("the quarrel", self.call_program("case", "show", "1", "--records", "other").stdout)
        shutil.copytree(self.folder / "other", self.folder / "third")
        self.assertIn(
            "is on hold", self.call_program("case", "dispose", "1", "--yes", "--records", "third", code=1).stderr
        )

    def test_nothing_is_free_where_nobody_knows_what_is_held(self) -> None:
        from wexagraph.app.cases.records import on_hold

        digest = hashlib.sha256(mail("m1", "One")).hexdigest()
        self.program("case", "hold", "1", "--why", "court")
        with mock.patch.dict(os.environ, {"WEXAGRAPH_RECORDS": str(self.rec)}):
            self.assertEqual(on_hold()[digest], "1")
            (self.rec / "1 Buoy/case.log").rename(self.folder / "away.log")
            self.assertRaisesRegex(CallError, "nobody knows what it holds", on_hold)
        for place in ("no-such", "in.mbox"):
            with mock.patch.dict(os.environ, {"WEXAGRAPH_RECORDS": str(self.folder / place)}):
                self.assertRaisesRegex(CallError, "Is its share mounted", on_hold)

    def test_what_is_there_is_told_as_an_export_tells_it(self) -> None:
        case = self.rec / "1 Buoy"
        (page,) = case.glob("*One.pdf")
        whole = page.read_bytes()
        page.write_bytes(whole + b"x")
        self.assertIn("1 new, 1 there already", self.program("file", "in.mbox", "--case", "1"))
        self.assertEqual(page.read_bytes(), whole)
        self.assertIn("0 new, 2 there already", self.program("file", "in.mbox", "--case", "1"))
        self.assertIn("2 new, 0 there already", self.program("file", "in.mbox", "--case", "1", "--cover", "built-in"))
        self.assertEqual(pdf_pages(page), 2)
        elsewhere = self.program("file", "in.mbox", "--case", "1", "--cover", "built-in", "--zone", "Asia/Tokyo")
        self.assertIn("0 new, 2 there already", elsewhere, "a colleague with another zone makes no second set")
        self.program("file", "in.mbox", "--case", "1", "--bind", "all")
        self.assertEqual(len(list(case.glob("*.pdf"))), 3)
        self.call_program("verify", "rec")

    def test_a_closed_case_gets_nothing_unsaid(self) -> None:
        self.program("case", "close", "1")
        self.write("late.eml", mail("m3", "[1] Late", "m1"))
        for way in (("--case", "1"), ("--by-plan",)):
            said = self.program("file", "late.eml", *way, code=1)
            self.assertIn("was closed on", said)
            self.assertIn("--reopen", said)
        self.assertEqual(self.filed("1"), ["m1", "m2"])
        self.assertIn("0 new, 2 there already", self.program("file", "in.mbox", "--case", "1"))
        self.program("file", "late.eml", "--by-plan", "--reopen")
        self.assertEqual((self.filed("1"), self.state("1")["state"]), (["m1", "m2", "m3"], "open"))
        self.edit('title = "Buoy"', 'title = "Buoy"\nkeep = "1y"')
        self.plan.write_text(self.plan.read_text().replace(f"opened = {date.today().year}", "opened = 2020"))
        self.program("case", "close", "1", "--on", "2021-01-01")
        self.assertEqual(self.state("1")["due"], str(after(date.today(), "1y")), "its time counts from the last filing")
        self.assertIn("is kept until", self.program("case", "dispose", "1", "--yes", code=1))

    def test_two_clerks_and_the_same_letters(self) -> None:
        from wexagraph.app.cases import filing

        real = filing._log

        def log(*arguments: Any) -> None:
            if not self.state("2")["messages"]:
                subprocess.run(
                    [PROGRAM, "file", "in.mbox", "--case", "2", "--records", "rec"],
                    cwd=self.folder,
                    check=True,
                    capture_output=True,
                )
            real(*arguments)

        with mock.patch.object(filing, "_log", log):
            self.program("file", "in.mbox", "--case", "2")
        self.assertEqual(self.state("2")["messages"], 2)


class Shared(CaseTest):
    def test_a_folder_of_a_group_stays_one(self) -> None:
        """Whatever each clerk's umask: what we make in records that a group may write to is for that group, our own
        files too; and one that is for its owner stays for its owner."""
        before = os.umask(0o077)
        self.addCleanup(os.umask, before)
        self.write("in.mbox", mbox(mail("m1", "One"), mail("m2", "Two")))
        for name, mode in (("rec", 0o2770), ("own", 0o700)):
            (self.folder / name).mkdir()
            (self.folder / name).chmod(mode)
            os.chown(self.folder / name, -1, 4242 if name == "rec" else os.getgid())
            for call in (
                ("case", "open", "1", "Buoy"),
                ("file", "in.mbox", "--case", "1"),
                ("find", "one"),
                ("case", "hold", "1", "--why", "court"),
            ):
                self.call_program(*call, "--records", name)
            for path in (self.folder / name).rglob("*"):
                about = path.stat()
                if name == "own":
                    self.assertEqual(about.st_mode & 0o077, 0, path)
                elif path.is_dir():
                    self.assertEqual((about.st_mode & 0o2770, about.st_gid), (0o2770, 4242), path)
                else:
                    self.assertEqual((about.st_mode & 0o660, about.st_gid), (0o660, 4242), path)


class HandingOver(CaseTest):
    def setUp(self) -> None:
        super().setUp()
        self.program(
            "case", "open", "2026/7", "Fog signal: the \u2018horn\u2019", "--keep", "1y", "--match", "subject=horn"
        )
        self.write("in.mbox", mbox(mail("m1", "One"), mail("m2", "a" * 200)))
        self.program("file", "in.mbox", "--case", "2026/7", "--register", "csv,xlsx")
        self.assertIn("8 files", self.program("case", "pack", "2026/7", "--into", "fog.zip"))

    def test_a_bag_that_others_can_prove(self) -> None:
        subprocess.run(["unzip", "-q", "fog.zip", "-d", "open"], cwd=self.folder, check=True)
        bag = bagit.Bag(str(next((self.folder / "open").iterdir())))
        self.assertTrue(bag.validate())
        self.assertEqual(bag.info["External-Identifier"], "2026/7")
        self.assertEqual(missing_words("One Fog signal", pdf_text(Path(bag.path) / "contents.pdf")), [])
        self.assertIn("all whole", self.call_program("verify", "fog.zip").stdout)
        self.program("case", "pack", "2026/7", "--into", "fog.png", code=2)

    def test_killed(self) -> None:
        """Gone at any step of packing: there is a whole file or none, the case is as it was, and the next run packs it."""
        command = ("case", "pack", "2026/7", "--index", "--into", "again.zip", "--records", "rec")
        shutil.copytree(self.folder / "rec", self.folder / "before")
        self.run_program(*command, end_before=10_000)
        for step in range(0, self.steps, max(1, self.steps // 10)):
            (self.folder / "again.zip").unlink(missing_ok=True)
            shutil.rmtree(self.folder / "rec")
            shutil.copytree(self.folder / "before", self.folder / "rec")
            self.run_program(*command, code=9, end_before=step)
            self.program("case", "log", "2026/7")
            if (self.folder / "again.zip").exists():
                self.assertIn("all whole", self.call_program("verify", "again.zip").stdout)
            self.assertEqual(self.filed("2026/7"), ["m1", "m2"])
            self.run_program(*command)
            self.assertIn("all whole", self.call_program("verify", "again.zip").stdout)

    def test_taken_in(self) -> None:
        output = self.call_program("case", "unpack", "fog.zip", "--records", "other").stdout
        self.assertIn("Case 2026/7 is in", output)
        here, there = ((self.folder / name / self.state("2026/7")["folder"]) for name in ("rec", "other"))
        for path in here.glob("*.*"):
            if path.suffix in (".pdf", ".eml"):
                self.assertEqual((there / path.name).read_bytes(), path.read_bytes())
        self.assertIn("0 foreign", self.call_program("verify", str(there)).stdout)
        events = json.loads(self.call_program("case", "log", "2026/7", "--json", "--records", "other").stdout)
        self.assertEqual([e["what"] for e in events["events"]], ["opened", "filed", "packed", "unpacked"])
        done = self.call_program("file", "in.mbox", "--case", "2026/7", "--records", "other").stdout
        self.assertIn("0 new, 2 there already", done)
        self.assertIn("1 message found", self.call_program("find", "One", "--records", "other").stdout)
        output = self.call_program("case", "unpack", "fog.zip", "--records", "other", code=2).stderr
        self.assertIn("there is a case 2026/7 already", output)

    def made_again(self, parts: dict[str, bytes], name: str, content: bytes) -> str:
        """What is said of a bag in which everything fits, and one file is not what we make."""
        parts = {**parts, name: content}
        top = name.partition("/")[0]

        def sums(names: list[str]) -> bytes:
            return b"".join(
                b"%s  %s\n" % (hashlib.sha256(parts[f"{top}/{n}"]).hexdigest().encode(), n.encode()) for n in names
            )

        inside = [one[len(top) + 1 :] for one in parts]
        parts[f"{top}/manifest-sha256.txt"] = sums([one for one in inside if one.startswith("data/")])
        tags = [one for one in inside if not one.startswith(("data/", "tagmanifest"))]
        parts[f"{top}/tagmanifest-sha256.txt"] = sums(tags)
        with zipfile.ZipFile(self.folder / "bad.zip", "w", zipfile.ZIP_DEFLATED) as new:
            for one, data in parts.items():
                new.writestr(one, data)
        error = self.call_program("case", "unpack", "bad.zip", "--records", "other", code=2).stderr
        self.assertFalse((self.folder / "other/fileplan.toml").exists())
        return error

    def test_not_whole(self) -> None:
        data = (self.folder / "fog.zip").read_bytes()
        with zipfile.ZipFile(io.BytesIO(data)) as old:
            parts = {item.filename: old.read(item) for item in old.infolist()}
        first = next(name for name in parts if name.endswith(".eml"))
        for change, why in (
            ({first: parts[first] + b"x"}, "is altered"),
            ({first: None}, "is missing"),
            ({first.rpartition("/")[0] + "/../../../evil.eml": b"x"}, "is foreign"),
        ):
            with zipfile.ZipFile(self.folder / "bad.zip", "w") as new:
                for name, content in {**parts, **change}.items():
                    if content is not None:
                        new.writestr(name, content)
            self.call_program("verify", "bad.zip", code=1)
            error = self.call_program("case", "unpack", "bad.zip", "--records", "other", code=2).stderr
            self.assertIn(why, error)
            self.assertFalse((self.folder / "other/fileplan.toml").exists())
        info = next(name for name in parts if name.endswith("bag-info.txt"))
        for old_text, new_text in ((b'"subject"', b'"subjekt"'), (b'"1y"', b'"one"'), (b'["horn"]', b"7")):
            error = self.made_again(parts, info, parts[info].replace(old_text, new_text))
            self.assertIn("does not say which case it is of", error)
        self.assertIn("out of proportion", self.made_again(parts, first, b"0" * 300_000_000))
        self.write("bad.zip", data[:-40])
        self.assertIn("no case that was packed", self.call_program("verify", "bad.zip", code=3).stderr)
        victim = next((self.folder / "rec").glob("*/*.pdf"))
        victim.unlink()
        self.assertIn("is missing", self.program("case", "pack", "2026/7", "--into", "more.zip", code=1))
        self.assertFalse((self.folder / "more.zip").exists())


class Merging(CaseTest):
    def test_one_of_two(self) -> None:
        self.program("case", "open", "1", "Buoy", "--tag", "sea")
        self.program("case", "open", "2", "Buoy 14")
        self.write("in.mbox", mbox(mail("m1", "One"), mail("m2", "Two"), mail("m3", "Three")))
        self.program("file", "in.mbox", "--subject", "one", "--subject", "two", "--case", "1")
        self.program("file", "in.mbox", "--subject", "two", "--subject", "three", "--case", "2")
        self.program("case", "hold", "1", "--why", "court")
        shutil.copytree(self.folder / "rec", self.folder / "before")
        command = ("case", "merge", "1", "2", "--records", "rec")
        rng = random.Random(3)
        self.run_program(*command, end_before=10_000)
        steps = self.steps
        for step in [steps, *(rng.randrange(steps) for _ in range(8))]:
            shutil.rmtree(self.folder / "rec")
            shutil.copytree(self.folder / "before", self.folder / "rec")
            self.run_program(*command, code=None, end_before=step)
            if any(row["reference"] == "1" for row in json.loads(self.program("case", "list", "--json"))):
                self.run_program(*command)
            self.assertEqual(self.filed("2"), ["m1", "m2", "m3"])
            self.assertEqual((self.state("2")["held"], self.state("2")["tags"]), ("court", "sea"))
            self.assertEqual(len(list((self.folder / "rec/merged").rglob("*.eml"))), 2, "nothing is removed")
            self.program("case", "log", "2")
        self.write("late.eml", mail("m4", "[1] Late"))
        self.program("file", "late.eml", "--by-plan")
        self.assertIn("m4", self.filed("2"), "the old reference goes on")
        self.assertIn("can't be merged into itself", self.program("case", "merge", "2", "2", code=2))


class Clerk(CaseTest):
    def test_a_standing_order_files(self) -> None:
        self.program("case", "open", "2026-118", "Buoy 14")
        self.write("in/1.eml", mail("m1", "2026-118"))
        self.run_program("order", "add", "clerk", "--", "file", "in", "--by-plan", "--as", "eml", "--records", "rec")
        for number in (1, 2):
            self.write(f"in/{number}.eml", mail(f"m{number}", "2026-118"))
            self.assertIn("1 new", self.run_program("order", "run", "clerk").stdout)
            self.assertEqual(len(self.filed("2026-118")), number)
        self.run_program("order", "run", "clerk", "--dry-run")


class Plan(CaseTest):
    def test_edited_by_hand(self) -> None:
        self.program("case", "open", "2026-118", "Buoy 14", "--match", "subject=buoy", "--keep", "7y")
        path = self.folder / "rec/fileplan.toml"
        good = path.read_text()
        for old, new, why in (
            (
                'title = "Buoy 14"',
                "titel = 'Buoy 14'",
                r"fileplan.toml, line \d+: .*'titel' is nothing that a case has.* Did you mean title",
            ),
            ('keep = "7y"', 'keep = "7 jears"', "line 7: .*is not a time to keep"),
            ('keep = "7y"', "keep = 7", "keep is a text in quotes"),
            ("opened = ", 'opened = "x" # ', "opened is a day"),
            ('subject = ["buoy"]', 'subjekt = ["buoy"]', "Did you mean subject"),
            ('subject = ["buoy"]', 'since = ["32 May"]', "is not a date"),
            ('subject = ["buoy"]', "subject = 7", "subject is a text, or a list of texts"),
            ("[cases.2026-118]", "[case.2026-118]", "Did you mean cases"),
            ('folder = "2026-118 Buoy 14"', 'folder = "../x"', "can't be the name of a folder"),
            ('title = "Buoy 14"', "title = Buoy 14", "line 4"),
        ):
            with self.subTest(new):
                self.assertIn(old, good)
                path.write_text(good.replace(old, new))
                self.assertRegex(self.program("case", "list", code=2), why)
        path.write_text("# our own words\n" + good)
        self.program("case", "hold", "2026-118", "--why", "court")
        self.assertTrue(path.read_text().startswith("# our own words\n"), "what people write stays")

    def test_tables_written_in_another_way(self) -> None:
        self.write("rec/fileplan.toml", "# ours\n[cases]\n7 = {title = 'Fog', folder = '7 Fog', opened = 2026-01-01}\n")
        self.program("case", "hold", "7", "--why", "court")
        self.program("case", "open", "8", "Ice")
        self.assertEqual((self.state("7")["held"], self.state("8")["title"]), ("court", "Ice"))
        self.assertTrue((self.folder / "rec/fileplan.toml").read_text().startswith("# ours\n"))

    def test_references_that_no_disk_likes(self) -> None:
        names = (
            "../../etc",
            "CON",
            "a/b\\c",
            ".",
            "x" * 60,
            "nul.txt",
            "-rf",
            "$(reboot)",
            "\u202egpj",
            "2026/1",
            "ä'\"",
        )
        made = 0
        for name in names:
            done = self.call_program("case", "open", "--records", "rec", "--", name, "A case", code=None)
            self.assertIn(done.returncode, (0, 2), done.stderr)
            made += not done.returncode
        self.assertGreater(made, 7)
        folders = [p for p in (self.folder / "rec").iterdir() if p.is_dir() and not p.name.startswith(".wexa")]
        self.assertEqual(len(folders), made)
        self.assertEqual(sorted(p.name for p in self.folder.iterdir()), ["rec"])
        for row in json.loads(self.program("case", "list", "--json")):
            self.call_program("case", "show", "--records", "rec", "--", row["reference"])

    def test_calls(self) -> None:
        self.write("in.eml", letter())
        error = self.call_program("case", "list", code=2).stderr
        self.assertIn("--records DIR", error)
        self.program("case", "open", "2026-118", "Buoy 14")
        for arguments, why in (
            (("case", "open", "2026-118", "Again"), "there is a case 2026-118 already"),
            (("case", "open", "1", "One", "--match", "form=x"), "Did you mean"),
            (("case", "open", "1", "One", "--match", "from"), "CRITERION=VALUE"),
            (("case", "open", "1", "One", "--keep", "long"), "is not a time"),
            (("case", "show", "2026-181"), "Did you mean 2026-118?"),
            (("file", "in.eml"), "--case REF, or --by-plan"),
            (("file", "in.eml", "--case", "2026-18"), "Did you mean 2026-118?"),
        ):
            self.assertIn(why, self.program(*arguments, code=2), arguments)
        self.assertEqual(Path(self.folder / "rec/fileplan.toml").read_text().count("[cases."), 1)


if __name__ == "__main__":
    unittest.main()
