"""`register`: a table that colleagues work in, brought up to date without taking anything from them. Judged by openpyxl,
and by a spreadsheet program that opens, recalculates, sorts and saves it (`test_register_office.py`)."""

from __future__ import annotations

import csv
import io
import json
import random
import re
import unittest
import zipfile
from collections.abc import Callable
from datetime import datetime
from pathlib import Path
from typing import Any
from unittest import mock

import openpyxl
from openpyxl.chart import BarChart, Reference
from openpyxl.comments import Comment
from openpyxl.drawing.image import Image
from openpyxl.formatting.rule import CellIsRule
from openpyxl.styles import PatternFill
from openpyxl.workbook.defined_name import DefinedName
from openpyxl.worksheet.datavalidation import DataValidation

from tests.helpers import ProgramTest, letter, letter_with, mbox, named_rows, names_by_headings, png, rounds
from wexagraph.exports import register
from wexagraph.languages import LANGUAGES, language
from wexagraph.tables import message_columns
from wexagraph.tables.living import xlsx_sheets

HOSTILE = ("=1+1", "@SUM(A1)", "+cmd|' /C calc'!A0", "_x000D_ and _x0041_", "<a>&amp;\x0b", "https://x.example/", "-1")


def message(number: int, subject: str = "") -> bytes:
    """A letter of its own."""
    date = f"{number % 27 + 1} Mar 2026 {number % 24:02}:15:00 +0000"
    return letter(subject or f"Berth {number}", date=date, more=f"Message-ID: <{number}@saltmere.example>\n")


class Sheet:
    """A workbook as openpyxl reads it: its rows by their subjects."""

    def __init__(self, path: Path) -> None:
        self.book = openpyxl.load_workbook(path, keep_vba=path.suffix == ".xlsm")
        self.path = path
        self.sheet: Any = next(s for s in self.book if any(str(c.value).startswith("key ") for c in s[1]))

    @property
    def headings(self) -> list[str]:
        return [str(cell.value or "") for cell in self.sheet[1]]

    @property
    def names(self) -> list[str]:
        """The names of our columns, and the headings of others."""
        names = names_by_headings(self.headings)
        return [names.get(heading, heading) for heading in self.headings]

    def column(self, name: str) -> int:
        return (self.names if name in self.names else self.headings).index(name) + 1

    def rows(self) -> list[dict[str, Any]]:
        """All rows with a key, in their order, by the names of columns; `row` is the number of each."""
        names = ["key" if name.startswith("key ") else name for name in self.names]
        rows = []
        for number in range(2, self.sheet.max_row + 1):
            values = dict(zip(names, (cell.value for cell in self.sheet[number]), strict=True))
            if values.get("key"):
                rows.append({**values, "row": number})
        return rows

    def save(self) -> None:
        self.book.save(self.path)


class Making(ProgramTest):
    def test_a_workbook(self) -> None:
        for number in range(3):
            self.write(f"in/a/{number}.eml", message(number))
        self.write("in/b/x.eml", message(9, "A" * 40_000))
        extra = ("--column", "Due date", "--column", "Year={date:%Y}", "--columns", "date,time,size,subject,folder")
        done = self.run_program("register", "in", "--into", "r.xlsx", *extra, "--zone", "Asia/Tokyo")
        self.assertIn("4 messages chosen: 4 new", done.stdout)
        first = (self.folder / "r.xlsx").read_bytes()
        sheet = Sheet(self.folder / "r.xlsx")
        wanted = ["Date", "Time", "Size", "Subject", "Folder", "Due date", "Year", "State"]
        self.assertEqual(sheet.headings[:-1], wanted)
        row = sheet.rows()[1]
        self.assertEqual((row["date"], row["time"]), (datetime(2026, 3, 2, 10, 15), "10:15"))
        self.assertEqual(row["Year={date:%Y}"], "2026")
        self.assertEqual((row["size"], row["state"]), (len(message(1)), "here"))
        long = sheet.rows()[3]["subject"]
        self.assertEqual((len(long), long[-1]), (32_767, "\N{HORIZONTAL ELLIPSIS}"))
        one = sheet.sheet
        self.assertEqual(one.tables["Messages"].ref, "A1:I5")
        self.assertEqual((one.freeze_panes, one.print_title_rows), ("A2", "$1:$1"))
        self.assertEqual((one.page_setup.orientation, one.oddFooter.right.text), ("landscape", "&P / &N"))
        self.assertTrue(one.column_dimensions["I"].hidden)
        self.assertIn("in", sheet.book.properties.title)
        self.run_program("register", "in", "--into", "again.xlsx", *extra, "--zone", "Asia/Tokyo")
        self.assertEqual((self.folder / "again.xlsx").read_bytes(), first, "same in, same out")
        self.assertIn(
            "it is as it was", self.run_program("register", "in", "--into", "r.xlsx", "--zone", "Asia/Tokyo").stdout
        )

    def test_what_messages_say_is_text(self) -> None:
        self.write("in.mbox", mbox(*(message(n, text) for n, text in enumerate(HOSTILE))))
        for name in ("r.xlsx", "r.csv"):
            for _ in range(2):
                report = json.loads(self.run_program("register", "in.mbox", "--into", name, "--json").stdout)
                self.assertEqual((report["rows"], report["updated"], report["changed_by_hand"]), (7, 0, 0))
        with zipfile.ZipFile(self.folder / "r.xlsx") as book:
            xml = book.read("xl/worksheets/sheet1.xml")
        self.assertNotIn(b"<f>", xml)
        self.assertNotIn(b"hyperlink", xml)
        subjects = [row["subject"].replace("_x005F_", "_") for row in Sheet(self.folder / "r.xlsx").rows()]
        self.assertEqual(subjects, [text.replace("\x0b", "") for text in HOSTILE])
        table = named_rows(io.StringIO((self.folder / "r.csv").read_text("utf-8-sig")))
        self.assertFalse([row["subject"] for row in table if row["subject"][0] in "=+-@"])

    def test_all_columns(self) -> None:
        more = "Bcc: a@x.example\nCc: b@x.example\n"
        self.write("in/a.eml", letter("Re: Fog", more=more, body="> old\n\nThe quay is closed.\nUntil May.\n"))
        names = (
            "id,folder,date,time,from,from_address,to,cc,bcc,subject,size,attachments,attachment_names,text,first_line,"
        )
        names += "message_id,sha256,flags,keywords,conversation,arrived,tags,case,files,notes"
        self.run_program("export", "in", "--into", "out", "--as", "eml", "--tag", "dues")
        self.run_program("register", "in", "--into", "out/all.xlsx", "--columns", names)
        sheet = Sheet(self.folder / "out/all.xlsx")
        self.assertEqual(sheet.names[:-2], names.split(","))
        row = sheet.rows()[0]
        self.assertEqual((row["first_line"], row["tags"], row["cc"]), ("The quay is closed.", "dues", "b@x.example"))
        self.assertEqual(row["conversation"], row["id"])
        link = sheet.sheet.cell(2, sheet.column("files")).hyperlink.target
        self.assertTrue((self.folder / "out" / link.replace("%20", " ")).is_file(), link)
        self.assertIn("0 foreign", self.run_program("verify", "out").stdout)

    def test_headings_are_words_of_the_office_s_language(self) -> None:
        self.write("in.mbox", mbox(message(1)))
        self.run_program("register", "in.mbox", "--into", "r.xlsx", env={"LC_ALL": "de_DE.UTF-8"})
        headings = [cell.value for cell in openpyxl.load_workbook(self.folder / "r.xlsx").active[1]]
        self.assertEqual(headings[:-1], ["Datum", "Von", "An", "Betreff", "Anlagen", "Ordner", "Stand"])
        self.write("in.mbox", mbox(message(1), message(2)))
        call = ("register", "in.mbox", "--into", "r.xlsx", "--columns", "date,message-id", "--language", "fr", "--json")
        report = json.loads(self.run_program(*call).stdout)
        self.assertEqual((report["written"], report["renamed_columns"]), (1, []), "no colleague has put that there")
        headings = [cell.value for cell in openpyxl.load_workbook(self.folder / "r.xlsx").active[1]]
        self.assertEqual((headings[0], headings[-1]), ("Datum", "Message-ID"))
        self.run_program("export", "in.mbox", "--into", "out", "--register", "csv", "--as", "eml", "--language", "pl")
        self.assertIn("Data,Od,Do,", (self.folder / "out/register.csv").read_text("utf-8-sig"))
        (self.folder / "out/.wexagraph/journal.sqlite").unlink()
        said = self.run_program("export", "in.mbox", "--into", "out", "--register", "csv", "--as", "eml").stdout
        self.assertIn("0 written, 2 already there", said, "what it is made again from is read by its keys")
        for columns in (message_columns.COLUMNS, [*register.COLUMNS, *register.NUMBERS], register.OF_ATTACHMENTS):
            for code in LANGUAGES:
                told = [column.headed(language(code)) for column in columns]
                self.assertEqual(len(set(told)), len(told), code)

    def test_more_than_a_sheet_holds(self) -> None:
        self.write("in.mbox", mbox(*map(message, range(7))))
        with mock.patch.object(xlsx_sheets, "MOST_ROWS", 4):
            for count in (7, 0):
                done = self.call_program("register", "in.mbox", "--into", "r.xlsx", "--json").stdout
                self.assertEqual((json.loads(done)["written"], json.loads(done)["rows"]), (count, 7))
        book = openpyxl.load_workbook(self.folder / "r.xlsx")
        self.assertEqual([sheet.title for sheet in book], ["Messages", "Messages 2", "Messages 3"])
        rows = [row[3] for sheet in book for row in sheet.iter_rows(min_row=2, values_only=True)]
        self.assertEqual(rows, [f"Berth {n}" for n in range(7)])

    def test_of_attachments(self) -> None:
        self.write("in.mbox", mbox(letter_with(("plan.txt", "text/plain", b"Berth 4"))))
        self.run_program("attachments", "in.mbox", "--into", "none", "--register", "none")
        lists = [path.name for path in (self.folder / "none").iterdir() if path.is_file()]
        self.assertEqual(lists, ["manifest-sha256.txt"])
        call = ("attachments", "in.mbox", "--into", "out", "--register", "csv,xlsx")
        self.run_program(*call)
        sheet = Sheet(self.folder / "out/attachments.xlsx")
        (row,) = sheet.rows()
        self.assertEqual((row["attachment"], row["type"], row["size"]), ("plan.txt", "text/plain", 7))
        at = len(sheet.headings) + 1
        sheet.sheet.cell(1, at).value, sheet.sheet.cell(2, at).value = "Seen by", "Piet"
        sheet.save()
        self.write("in.mbox", mbox(*(letter_with((f"{n}.txt", "text/plain", b"%d" % n)) for n in (1, 2))))
        self.run_program(*call)
        sheet = Sheet(self.folder / "out/attachments.xlsx")
        self.assertEqual([row["attachment"] for row in sheet.rows()], ["plan.txt", "1.txt", "2.txt"])
        self.assertEqual(sheet.sheet.cell(2, at).value, "Piet", "what a colleague wrote stays")
        self.assertIn("0 missing, 0 altered; 0 foreign", self.run_program("verify", "out").stdout)
        self.run_program("order", "add", "files", "--", *call)
        (self.folder / "out/attachments.csv").unlink()
        self.run_program("order", "run", "files")
        rows = named_rows((self.folder / "out/attachments.csv").read_text("utf-8-sig").splitlines())
        self.assertEqual([row["file"].endswith(".txt") for row in rows], [True] * 3)

    def test_an_order(self) -> None:
        self.write("in/1.eml", message(1))
        self.run_program("order", "add", "table", "--", "register", "in", "--into", "r.csv", "--column", "Due date")
        for number, count in ((1, 1), (2, 2), (2, 2)):
            self.write(f"in/{number}.eml", message(number))
            self.run_program("order", "run", "table")
            self.assertEqual(len((self.folder / "r.csv").read_text().splitlines()) - 1, count)


class Wrong(ProgramTest):
    """Nothing is written where rows can't be told apart, or somebody has the file open."""

    def setUp(self) -> None:
        super().setUp()
        self.write("in/1.eml", message(1))
        self.write("in/2.eml", message(2))
        for name in ("r.csv", "r.xlsx"):
            self.run_program("register", "in", "--into", name)
        self.write("in/3.eml", message(3))

    def refused(self, name: str, code: int = 3) -> str:
        before = (self.folder / name).read_bytes()
        error = self.run_program("register", "in", "--into", name, code=code).stderr
        self.assertEqual((self.folder / name).read_bytes(), before)
        self.assertIn("Nothing was written", error)
        return error

    def test_keys(self) -> None:
        text = (self.folder / "r.csv").read_bytes()
        lines = text.splitlines(keepends=True)
        for changed, why in (
            (re.sub(rb",key [^\r\n]*", b",notes", text, count=1), "no key column any more"),
            (text + lines[1], "rows 2 and 4 have one key"),
            (re.sub(rb",k(?!ey )", b",kx", text), "the key in row 2 was changed"),
        ):
            self.write("r.csv", changed)
            self.assertIn(why, self.refused("r.csv"))
        sheet = Sheet(self.folder / "r.xlsx")
        sheet.sheet.delete_cols(len(sheet.headings))
        sheet.save()
        self.assertIn("no key column any more", self.refused("r.xlsx"))
        self.write("r.xlsx", b"PK and no more")
        self.assertIn("no workbook that can be read", self.refused("r.xlsx"))

    def save_as_a_colleague(self, path: Path) -> None:
        """Write "friday" into the column Due of the first row, as a spreadsheet program does."""
        if path.suffix == ".xlsx":
            book = Sheet(path)
            book.sheet.cell(2, book.column("Due"), "friday")
            book.save()
            return
        rows = list(csv.reader(io.StringIO(path.read_text("utf-8-sig"))))
        rows[1] += [""] * (len(rows[0]) - len(rows[1]))
        rows[1][rows[0].index("Due")] = "friday"
        out = io.StringIO()
        csv.writer(out).writerows(rows)
        path.write_text(out.getvalue(), "utf-8-sig", newline="")

    def test_saved_while_it_is_brought_up_to_date(self) -> None:
        """What a colleague saves between reading and replacing is in the register, whatever the form."""
        from wexagraph.tables.living import files

        real = files.LivingTable.finish
        for name in ("r.xlsx", "r.csv"):
            path = self.folder / name
            self.run_program("register", "in", "--into", name, "--column", "Due")
            self.write("in/more.eml", message(90, f"More {name}"))
            before, saved = path.read_bytes(), []

            def save(table: object, all_met: bool, path: Path = path, saved: list[int] = saved) -> object:
                if not saved:
                    saved.append(1)
                    self.save_as_a_colleague(path)
                return real(table, all_met)

            with mock.patch.object(files.LivingTable, "finish", save):
                self.call_program("register", "in", "--into", name, "--column", "Due")
            self.assertTrue(saved)
            text = path.read_text("utf-8-sig") if path.suffix == ".csv" else str(Sheet(path).rows())
            self.assertEqual((text.count("friday"), text.count(f"More {name}")), (1, 1), name)
            self.assertNotEqual(path.read_bytes(), before)

    def test_the_version_before_stays_while_it_has_more(self) -> None:
        path = self.folder / "r.xlsx"
        self.run_program("register", "in", "--into", "r.xlsx", "--column", "Due")
        book = Sheet(path)
        book.sheet.cell(2, book.column("Due"), "friday")
        book.save()
        self.write("in/a.eml", message(91))
        self.run_program("register", "in", "--into", "r.xlsx")
        book = Sheet(path)
        book.sheet.cell(2, book.column("Due")).value = None  # by mistake
        book.save()
        for number in (92, 93):
            self.write(f"in/{number}.eml", message(number))
            self.run_program("register", "in", "--into", "r.xlsx")
        self.assertIn("friday", str(Sheet(self.folder / "r (before).xlsx").rows()))
        self.assertEqual(
            sorted(p.name for p in self.folder.glob("r*.xlsx")), ["r (before 2).xlsx", "r (before).xlsx", "r.xlsx"]
        )

    def test_rows_without_keys_are_not_doubled(self) -> None:
        for name in ("r.xlsx", "r.csv"):
            path = self.folder / name
            self.run_program("register", "in", "--into", name)
            if name.endswith("xlsx"):
                book = Sheet(path)
                for row in range(2, book.sheet.max_row + 1):
                    book.sheet.cell(
                        row, next(n for n, h in enumerate(book.headings, 1) if h.startswith("key "))
                    ).value = None
                book.save()
            else:
                rows = list(csv.reader(io.StringIO(path.read_text("utf-8-sig"))))
                at = next(n for n, text in enumerate(rows[0]) if text.startswith("key "))
                out = io.StringIO()
                csv.writer(out).writerows([rows[0], *([*r[:at], "", *r[at + 1 :]] for r in rows[1:])])
                path.write_text(out.getvalue(), "utf-8-sig", newline="")
            before = path.read_bytes()
            done = self.run_program("register", "in", "--into", name, code=3)
            self.assertIn("would be there twice: its message stands in a row without a key", done.stderr)
            self.assertEqual(path.read_bytes(), before)

    def test_a_quotation_mark_that_is_not_closed(self) -> None:
        path = self.folder / "r.csv"
        self.run_program("register", "in", "--into", "r.csv")
        head, first, rest = path.read_bytes().split(b"\r\n", 2)
        path.write_bytes(head + b'\r\n"note' + first + b"\r\n" + rest)
        before = path.read_bytes()
        self.assertIn(
            "a quotation mark is opened and not closed",
            self.run_program("register", "in", "--into", "r.csv", code=3).stderr,
        )
        self.assertEqual(path.read_bytes(), before)

    def test_workbooks_that_are_damaged(self) -> None:
        """Parts in UTF-16, and parts with pieces taken out at random: refused in words, or brought up to date."""
        path = self.folder / "r.xlsx"
        self.run_program("register", "in", "--into", "r.xlsx")
        whole, rng = path.read_bytes(), random.Random(7)
        self.write("in/more.eml", message(94))
        with zipfile.ZipFile(io.BytesIO(whole)) as old:
            parts = {item.filename: old.read(item) for item in old.infolist()}
        names = sorted(name for name in parts if name.endswith((".xml", ".rels")))
        for turn in range(60):
            name = names[turn % len(names)] if turn < 2 * len(names) else rng.choice(names)
            content = parts[name]
            if turn < len(names):
                content = content.decode().replace("UTF-8", "UTF-16").encode("utf-16")
            else:
                pieces = re.split(rb"(<[^>]*>|\s[\w:]+=\"[^\"]*\")", content)
                for _ in range(rng.randrange(1, 4)):
                    pieces[rng.randrange(len(pieces))] = b""
                content = b"".join(pieces)
            with zipfile.ZipFile(path, "w") as new:
                for one, data in parts.items():
                    new.writestr(one, content if one == name else data)
            before = path.read_bytes()
            done = self.call_program("register", "in", "--into", "r.xlsx", code=None)
            self.assertIn(done.returncode, (0, 3), (name, done.stderr))
            if done.returncode:
                self.assertEqual(path.read_bytes(), before)
            elif turn < len(names):
                openpyxl.load_workbook(path)

    def test_open(self) -> None:
        for lock, content in (
            (".~lock.r.xlsx#", b",miriam,desk4,26.11.2026 10:00,file:///home/miriam;"),
            ("~$r.xlsx", b"\x06miriam" + b" " * 48),
        ):
            self.write(lock, content)
            error = self.refused("r.xlsx")
            self.assertIn("r.xlsx is open by miriam", error)
            self.assertIn(lock, error)
            (self.folder / lock).unlink()
        self.run_program("export", "in", "--into", "out", "--as", "eml")
        self.write("out/.~lock.register.csv#", b"Miriam Cole,miriam,desk4")
        self.assertIn(
            "open by Miriam Cole on desk4",
            self.run_program("export", "in", "--into", "out", "--as", "eml", code=1).stdout,
        )

    def test_calls(self) -> None:
        for arguments, why in (
            (("--into", "r.ods"), "an .xlsx or a .csv file"),
            (("--into", "x.csv", "--columns", "dat"), "Did you mean date?"),
            (("--into", "x.csv", "--column", "Subject"), "is that of a column of ours"),
            (("--into", "x.csv", "--column", "A={dat}"), "Did you mean {date}?"),
            (("--into", "in/x.csv"), "inside the mailbox"),
        ):
            self.assertIn(why, self.run_program("register", "in", *arguments, code=2).stderr)

    def test_killed(self) -> None:
        """Gone at any step, the file is as it was or as it will be, and the next run ends what this one began."""
        for name in ("r.csv", "r.xlsx"):
            before, step = (self.folder / name).read_bytes(), 1
            while self.run_program("register", "in", "--into", name, code=None, end_before=step).returncode == 9:
                step += 1
                if (self.folder / name).read_bytes() != before:
                    self.assertIn("as it was", self.run_program("register", "in", "--into", name).stdout)
                    break
            self.run_program("register", "in", "--into", name)
            self.assertNotEqual((self.folder / name).read_bytes(), before)
            old = self.folder / name.replace(".", " (before).")
            self.assertEqual(old.read_bytes(), before, "the version before stays beside it")


class Workbooks(ProgramTest):
    """What a workbook may have that openpyxl does not make of itself: changed where it has to be, and nowhere else."""

    def setUp(self) -> None:
        super().setUp()
        for number in (1, 2):
            self.write(f"in/{number}.eml", message(number))
        self.run_program("register", "in", "--into", "r.xlsx", "--columns", "date,subject,size", "--column", "Note")
        self.path = self.folder / "r.xlsx"

    def update(self) -> Sheet:
        self.write("in/3.eml", message(3))
        report = json.loads(self.run_program("register", "in", "--into", self.path.name, "--json").stdout)
        self.assertEqual((report["written"], report["rows"], report["changed_by_hand"]), (1, 3, 0))
        self.assertIn("as it was", self.run_program("register", "in", "--into", self.path.name).stdout)
        return Sheet(self.path)

    def rewritten(self, change: Callable[[str, bytes], bytes], more: dict[str, bytes] | None = None) -> None:
        """The workbook with parts that another program has written."""
        with zipfile.ZipFile(self.path) as old:
            parts = {name: change(name, old.read(name)) for name in old.namelist()}
        with zipfile.ZipFile(self.path, "w") as new:
            for name, content in {**parts, **(more or {})}.items():
                new.writestr(name, content)

    def test_a_row_of_totals_and_a_named_range(self) -> None:
        sheet = Sheet(self.path)
        table = sheet.sheet.tables["Messages"]
        table.ref, table.totalsRowCount = "A1:F4", 1
        sheet.sheet["B4"], sheet.sheet["C4"] = "Sum", "=SUM(C2:C3)"
        sheet.book.defined_names["Sizes"] = DefinedName("Sizes", attr_text="Messages!$C$2:$C$3")
        sheet.save()
        now = self.update()
        self.assertEqual([now.sheet.cell(n, 2).value for n in range(2, 6)], ["Berth 1", "Berth 2", "Berth 3", "Sum"])
        self.assertEqual(now.sheet["C5"].value, "=SUM(C2:C4)")
        self.assertEqual(now.book.defined_names["Sizes"].attr_text, "Messages!$C$2:$C$4")
        self.assertEqual(
            (now.sheet.tables["Messages"].ref, now.sheet.tables["Messages"].autoFilter.ref), ("A1:F5", "A1:F4")
        )

    def test_a_row_of_theirs_stays_in_the_table(self) -> None:
        sheet = Sheet(self.path)
        sheet.sheet["B4"] = "a letter on paper"
        sheet.sheet.tables["Messages"].ref = "A1:F4"
        sheet.sheet.tables["Messages"].autoFilter.ref = "A1:F4"
        sheet.save()
        (self.folder / "in/1.eml").unlink()
        self.run_program("register", "in", "--into", "r.xlsx")
        self.assertEqual(Sheet(self.path).sheet.tables["Messages"].ref, "A1:F4")

    def test_other_prefixes_and_the_other_count_of_days(self) -> None:
        main = b"http://schemas.openxmlformats.org/spreadsheetml/2006/main"

        def other(name: str, content: bytes) -> bytes:
            if name == "xl/workbook.xml":
                return content.replace(b"<workbookPr/>", b'<workbookPr date1904="1"/>')
            if name != "xl/worksheets/sheet1.xml":
                return content
            content = re.sub(rb"<(/?)(?=[a-z])", rb"<\1x:", content).replace(b'xmlns="' + main, b'xmlns:x="' + main)
            return re.sub(rb"<x:v>(4\d{4}\.?\d*)</x:v>", lambda m: b"<x:v>%r</x:v>" % (float(m[1]) - 1462), content)

        self.rewritten(other)
        now = self.update()
        self.assertEqual([row["date"].day for row in now.rows()], [2, 3, 4])
        self.assertEqual([row["subject"] for row in now.rows()], ["Berth 1", "Berth 2", "Berth 3"])

    def test_shared_formulas(self) -> None:
        def shared(name: str, content: bytes) -> bytes:
            for cell, formula in (
                (b"D2", b'<f t="shared" ref="D2:D3" si="0">B2&amp;"!"</f>'),
                (b"D3", b'<f t="shared" si="0"/>'),
            ):
                content = re.sub(
                    rb'<c r="%s"[^>]*/>|(?=<c r="E%s")' % (cell, cell[1:]),
                    b'<c r="%s">%s</c>' % (cell, formula),
                    content,
                    count=1,
                )
            return content

        self.rewritten(lambda name, content: shared(name, content) if name == "xl/worksheets/sheet1.xml" else content)
        self.assertEqual(self.update().sheet["D4"].value, '=B4&"!"')

    def test_macros_and_what_nobody_knows_keep_their_bytes(self) -> None:
        parts = {
            "xl/vbaProject.bin": b"\x00\x01macro" * 99,
            "xl/pivotTables/pivotTable1.xml": b"<pivot/>",
            "custom/x": b"?",
        }
        self.rewritten(lambda name, content: content, parts)
        self.path.rename(self.folder / "r.xlsm")
        self.path = self.folder / "r.xlsm"
        self.write("in/3.eml", message(3))
        self.run_program("register", "in", "--into", "r.xlsm")
        with zipfile.ZipFile(self.path) as book:
            self.assertEqual({name: book.read(name) for name in parts}, parts)
        self.run_program("register", "in", "--into", "new.xlsm", code=2)


class Beside(ProgramTest):
    def test_a_column_that_is_new_takes_no_place_of_theirs(self) -> None:
        """Notes beside the table, without a heading, stay where a new column would come."""
        self.write("in/1.eml", message(1))
        self.run_program("register", "in", "--into", "r.xlsx")
        sheet = Sheet(self.folder / "r.xlsx")
        at = len(sheet.headings) + 1
        sheet.sheet.cell(2, at).value = "ask Piet"
        sheet.save()
        self.run_program("register", "in", "--into", "r.csv")
        lines = (self.folder / "r.csv").read_bytes().splitlines()
        self.write("r.csv", lines[0] + b"\r\n" + lines[1] + b",ask Piet\r\n")
        for name in ("r.xlsx", "r.csv"):
            self.run_program("register", "in", "--into", name, "--columns", "date,subject,size", "--column", "Due")
        sheet = Sheet(self.folder / "r.xlsx")
        self.assertEqual(sheet.sheet.cell(2, at).value, "ask Piet")
        self.assertEqual(
            (sheet.sheet.cell(1, at + 1).value, sheet.sheet.cell(2, at + 1).value), ("Size", len(message(1)))
        )
        rows = list(csv.reader(io.StringIO((self.folder / "r.csv").read_text("utf-8-sig"))))
        self.assertEqual((rows[1][-2:], rows[0][-2:]), (["ask Piet", str(len(message(1)))], ["Size", "Due"]))
        self.run_program("register", "in", "--into", "r.xlsx")


class TableOfLines(ProgramTest):
    """CSV as spreadsheet programs leave it."""

    def test_as_programs_save_it(self) -> None:
        self.write("in/1.eml", message(1, "Bürgermeister; =A"))
        self.write("in/2.eml", message(2, "two"))
        self.run_program("register", "in", "--into", "first.csv", "--column", "Due date")
        rows = list(csv.reader(io.StringIO((self.folder / "first.csv").read_text("utf-8-sig"))))
        rows[2][rows[0].index("Due date")] = "=TODAY()"
        rows[1][rows[0].index("To")] = "Harbour"
        self.write("in/3.eml", message(3))
        for separator, end, encoding, quoting in (
            (";", "\r\n", "cp1252", csv.QUOTE_MINIMAL),
            ("\t", "\n", "utf-16", csv.QUOTE_ALL),
            (",", "\n", "utf-8", csv.QUOTE_ALL),
        ):
            out = io.StringIO(newline="")
            csv.writer(out, delimiter=separator, lineterminator=end, quoting=quoting).writerows(rows)
            first = "sep=;\r\n" if separator == ";" else ""
            saved = (first + out.getvalue()).encode(encoding)
            self.write("r.csv", saved)
            report = json.loads(self.run_program("register", "in", "--into", "r.csv", "--json").stdout)
            self.assertEqual((report["written"], report["rows"], report["changed_by_hand"]), (1, 3, 1))
            now = (self.folder / "r.csv").read_bytes()
            self.assertTrue(now.startswith(saved), "what was there keeps its bytes")
            table = list(csv.reader(io.StringIO(now.decode(encoding).removeprefix(first)), delimiter=separator))
            self.assertEqual([len(row) for row in table], [len(rows[0])] * 4)
            self.assertEqual(table[3][3], "Berth 3")


class Histories(ProgramTest):
    """What colleagues may do in a workbook, in any order, between updates while mail comes, goes and moves."""

    def test_histories(self) -> None:
        for seed in range(rounds(200, 24)):
            with self.subTest(seed=seed):
                History(self, seed).play()


class History:
    """One register and all that was done to it. `marks` must hold for ever: each is a test of the workbook."""

    def __init__(self, test: ProgramTest, seed: int) -> None:
        self.test, self.random, self.name = test, random.Random(seed), f"h{seed}"
        self.path = test.folder / f"{self.name}.xlsx"
        self.mail: dict[int, str] = {}
        self.gone: set[int] = set()
        self.next = 1
        self.marks: list[Callable[[Sheet, dict[str, dict[str, Any]]], None]] = []

    def play(self) -> None:
        for _ in range(self.random.randint(1, 4)):
            self.come()
        self.update("--column", "Due date")
        for _ in range(self.random.randint(1, 3)):
            sheet = Sheet(self.path)
            for edit in self.random.sample(EDITS, self.random.randint(1, 5)):
                edit(self, sheet)
            sheet.save()
            for change in self.random.sample([self.come, self.come, self.go, self.move], 2):
                change()
            before = self.parts()
            self.update()
            self.check(before)

    def come(self) -> None:
        self.put(self.next, self.random.choice("ab"))
        self.next += 1

    def put(self, number: int, folder: str) -> None:
        self.mail[number] = folder
        self.test.write(f"{self.name}/{folder}/{number}.eml", message(number))

    def go(self) -> None:
        if len(self.mail) > 1:
            number = self.random.choice(list(self.mail))
            (self.test.folder / self.name / self.mail.pop(number) / f"{number}.eml").unlink()
            self.gone.add(number)

    def move(self) -> None:
        number = self.random.choice(list(self.mail))
        (self.test.folder / self.name / self.mail[number] / f"{number}.eml").unlink()
        self.put(number, self.random.choice("ab"))

    def update(self, *more: str) -> None:
        self.test.call_program("register", self.name, "--into", self.path.name, *more)

    def parts(self) -> dict[str, bytes]:
        with zipfile.ZipFile(self.path) as book:
            return {name: book.read(name) for name in book.namelist()}

    def check(self, before: dict[str, bytes]) -> None:
        sheet, test = Sheet(self.path), self.test
        rows: dict[str, dict[str, Any]] = {}
        for row in sheet.rows():
            subject = f"Berth {re.search(r'[0-9]+', str(row.get('Betreff', row.get('subject'))))[0]}"  # type: ignore[index]
            test.assertNotIn(subject, rows, "a message has one row")
            rows[subject] = row
        for number, folder in self.mail.items():
            row = rows[f"Berth {number}"]
            test.assertEqual(row.get("state", "here"), "here")
            test.assertEqual(row.get("folder", f"{folder}")[-1], folder)
        for number in self.gone:
            if f"Berth {number}" in rows:
                test.assertEqual(rows[f"Berth {number}"].get("state", "no longer chosen"), "no longer chosen")
        for mark in self.marks:
            mark(sheet, rows)
        table = sheet.sheet.tables["Messages"]
        test.assertEqual([column.name for column in table.tableColumns], sheet.headings[: len(table.tableColumns)])
        end = int(table.ref.rpartition(":")[2].lstrip("ABCDEFGHIJKLMNOPQRSTUVWXYZ"))
        test.assertGreaterEqual(end, max(row["row"] for row in rows.values()))
        after = self.parts()
        may_change = r"xl/worksheets/sheet\d\.xml|xl/tables/table\d\.xml|xl/workbook\.xml"
        changed = [name for name in before if before[name] != after.get(name)]
        test.assertEqual([name for name in changed if not re.fullmatch(may_change, name)], [])

    def pick(self, sheet: Sheet) -> tuple[dict[str, Any], str]:
        row = self.random.choice(sheet.rows())
        return row, f"Berth {re.search(r'[0-9]+', str(row.get('Betreff', row.get('subject'))))[0]}"  # type: ignore[index]

    # what colleagues do

    def note(self, sheet: Sheet) -> None:
        row, subject = self.pick(sheet)
        if "Due date" not in sheet.headings:
            return
        text = f"by {self.random.randint(1, 31)} May"
        sheet.sheet.cell(row["row"], sheet.column("Due date")).value = text
        self.marks = [mark for mark in self.marks if getattr(mark, "of", None) != subject]

        def mark(_: Sheet, rows: dict[str, dict[str, Any]]) -> None:
            if subject in rows:
                self.test.assertEqual(rows[subject]["Due date"], text)

        mark.of = subject  # type: ignore[attr-defined]
        self.marks.append(mark)

    def colour(self, sheet: Sheet) -> None:
        row, subject = self.pick(sheet)
        sheet.sheet.cell(row["row"], 1).fill = PatternFill("solid", fgColor="00FFAA00")
        heading = sheet.headings[0]

        def mark(now: Sheet, rows: dict[str, dict[str, Any]]) -> None:
            if subject in rows and heading in now.headings:
                cell = now.sheet.cell(rows[subject]["row"], now.column(heading))
                self.test.assertEqual(cell.fill.fgColor.rgb, "00FFAA00")

        self.marks.append(mark)

    def comment(self, sheet: Sheet) -> None:
        row, _ = self.pick(sheet)
        sheet.sheet.cell(row["row"], 1).comment = Comment("ask Piet", "Ines")
        self.marks.append(
            lambda now, _: self.test.assertIn("ask Piet", [c.comment.text for r in now.sheet for c in r if c.comment])
        )

    def correct(self, sheet: Sheet) -> None:
        if "to" not in sheet.names:
            return
        row, subject = self.pick(sheet)
        sheet.sheet.cell(row["row"], sheet.column("to")).value = "the harbour master"

        def mark(now: Sheet, rows: dict[str, dict[str, Any]]) -> None:
            if subject in rows and "to" in now.names:
                self.test.assertEqual(rows[subject]["to"], "the harbour master")

        self.marks.append(mark)

    def own_column(self, sheet: Sheet) -> None:
        name = f"Own {self.random.randint(1, 9999)}"
        at = len(sheet.headings) + 1
        sheet.sheet.cell(1, at).value = name
        for row in sheet.rows():
            sheet.sheet.cell(row["row"], at).value = f'={openpyxl.utils.get_column_letter(1)}{row["row"]}&"!"'

        def mark(now: Sheet, rows: dict[str, dict[str, Any]]) -> None:
            for row in rows.values():
                self.test.assertEqual(row[name], f'=A{row["row"]}&"!"', "formulas go on to new rows")

        self.marks.append(mark)

    def rename(self, sheet: Sheet) -> None:
        if "subject" in sheet.names and len(sheet.rows()) > 1:
            at = sheet.column("subject")
            sheet.sheet.cell(1, at).value = "Betreff"
            table = sheet.sheet.tables["Messages"]
            table.tableColumns[at - 1].name = "Betreff"
            self.marks.append(lambda now, _: self.test.assertIn("Betreff", now.headings))

    def widths(self, sheet: Sheet) -> None:
        sheet.sheet.column_dimensions["B"].width = 61
        self.marks.append(lambda now, _: self.test.assertEqual(now.sheet.column_dimensions["B"].width, 61))

    def rules(self, sheet: Sheet) -> None:
        last = sheet.sheet.max_row
        sheet.sheet.conditional_formatting.add(
            f"C2:C{last}", CellIsRule("equal", ['"x"'], fill=PatternFill(bgColor="00FF0000"))
        )
        choice = DataValidation("list", formula1='"yes,no"')
        choice.add(f"D2:D{last}")
        sheet.sheet.add_data_validation(choice)

        def mark(now: Sheet, rows: dict[str, dict[str, Any]]) -> None:
            ends = [str(one.sqref) for one in now.sheet.conditional_formatting]
            ends += [str(one.sqref) for one in now.sheet.data_validations.dataValidation]
            last = max(row["row"] for row in rows.values())
            self.test.assertTrue(all(end.endswith(str(last)) for end in ends if ":" in end or last == 2), ends)

        if not any(getattr(one, "of", "") == "rules" for one in self.marks):
            mark.of = "rules"  # type: ignore[attr-defined]
            self.marks.append(mark)

    def sort(self, sheet: Sheet) -> None:
        """Rows in another order, with all their values and looks (but formulas and comments, which are bound to places)."""
        rows = [row["row"] for row in sheet.rows()]
        width = len(sheet.headings)
        contents = [[(c.value, c._style) for c in sheet.sheet[number]][:width] for number in rows]
        order = contents[::-1]
        for number, cells in zip(rows, order, strict=True):
            for at, (value, style) in enumerate(cells, 1):
                cell = sheet.sheet.cell(number, at)
                if not str(cell.value).startswith("="):
                    cell.value, cell._style = value, style
        self.order = [values["key"] for values in sheet.rows()]
        keys = [key.partition(" ")[0][:13] for key in self.order]
        self.marks = [mark for mark in self.marks if getattr(mark, "of", "") != "order"]

        def mark(now: Sheet, rows: dict[str, dict[str, Any]]) -> None:
            there = [row["key"][:13] for row in now.rows()]
            self.test.assertEqual([key for key in there if key in keys], [key for key in keys if key in there])

        mark.of = "order"  # type: ignore[attr-defined]
        self.marks.append(mark)

    def delete_row(self, sheet: Sheet) -> None:
        """The last row is taken out, where nothing by hand hangs on it: it comes again while its message is chosen."""
        rows = sheet.rows()
        if len(rows) > 1 and not self.marks and not sheet.sheet.conditional_formatting:
            sheet.sheet.delete_rows(rows[-1]["row"])

    def sheet_of_their_own(self, sheet: Sheet) -> None:
        name = f"Notes {self.random.randint(1, 9999)}"
        if name in sheet.book:
            return
        own = sheet.book.create_sheet(name, self.random.choice([0, None]))
        own["A1"], own["B1"] = "count", "=COUNTA(Messages!A:A)"
        chart = BarChart()
        chart.add_data(Reference(own, min_col=1, min_row=1, max_row=2))
        own.add_chart(chart, "D4")
        own.add_image(Image(io.BytesIO(png())), "A9")

        def mark(now: Sheet, _: dict[str, dict[str, Any]]) -> None:
            self.test.assertEqual(now.book[name]["B1"].value, "=COUNTA(Messages!A:A)")
            self.test.assertEqual((len(now.book[name]._charts), len(now.book[name]._images)), (1, 1))

        self.marks.append(mark)

    def hide(self, sheet: Sheet) -> None:
        row, _ = self.pick(sheet)
        sheet.sheet.row_dimensions[row["row"]].hidden = True


EDITS = [
    *(History.note, History.colour, History.comment, History.correct, History.own_column, History.rename),
    *(History.widths, History.rules, History.sort, History.delete_row, History.sheet_of_their_own, History.hide),
]


if __name__ == "__main__":
    unittest.main()
