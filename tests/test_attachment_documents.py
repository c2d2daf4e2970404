"""Attachments as PDFs of their own: each by itself, those of a message or of a type bound, with the words of scans."""

from __future__ import annotations

import json
from pathlib import Path

import pikepdf

from tests.helpers import ProgramTest, check_with_others, letter_with, named_rows, pdf_pages, pdf_text, png
from tests.scanned import file_of, page
from wexagraph.demo.files import pdf

TABLE = ("tides.csv", "text/csv", b"Berth,Boat\nEast,Cormorant\n")
PLAN = ("harbour plan.pdf", "application/pdf", pdf("Slipway", "Fourth berth"))


class Documents(ProgramTest):
    def attachments(self, *options: object, code: int = 0) -> str:
        return str(self.run_program("attachments", "in", "--flat", "--into", "out", *options, code=code).stdout)

    def rows(self) -> dict[str, dict[str, str]]:
        with open(self.folder / "out/attachments.csv", encoding="utf-8-sig", newline="") as table:
            return {row["attachment"]: row for row in named_rows(table)}

    def path(self, name: str) -> Path:
        return self.folder / "out" / self.rows()[name]["pdf"]

    def test_each_by_itself(self) -> None:
        """A table, a PDF with text, a picture, one that no pages are made of: beside their own bytes, with properties."""
        sound = ("call.bin", "application/octet-stream", b"\x00\x01\x02" * 40)
        self.write("in/permit.eml", letter_with(TABLE, PLAN, ("quay.png", "image/png", png()), sound, subject="Berths"))
        done = self.attachments("--as", "native,pdf", "--archival", "--property", "keywords={sender}", "--paper", "a5")
        self.assertIn("4 written", done)
        self.assertIn("PDFs: 3 written. No PDF could be made of 1 attachment.", done)
        rows = self.rows()
        self.assertEqual(rows["tides.csv"]["pdf_state"], "made")
        self.assertTrue(rows["harbour plan.pdf"]["pdf_state"].startswith("already searchable"))
        self.assertEqual(rows["quay.png"]["pdf_state"], "made, no text in it")
        self.assertIn("not made: no pages", rows["call.bin"]["pdf_state"])
        self.assertEqual(rows["call.bin"]["pdf"], "")
        self.assertEqual(self.path("tides.csv").name, "2026-03-09 Slipway desk - tides.pdf")
        self.assertIn("Cormorant", pdf_text(self.path("tides.csv")))
        self.assertIn("Fourth berth", pdf_text(self.path("harbour plan.pdf")))
        with pikepdf.open(self.path("tides.csv")) as document:
            about = {name: str(document.docinfo[f"/{name}"]) for name in ("Title", "Author", "Keywords")}
            self.assertEqual(about, {"Title": "Berths", "Author": "Slipway desk", "Keywords": "Slipway desk"})
            self.assertIn("pdfaid", str(document.open_metadata()))
        for name in ("tides.csv", "harbour plan.pdf", "quay.png"):
            check_with_others(self, self.path(name))
        self.assertIn("0 altered; 0 foreign", self.run_program("verify", "out").stdout)

    def test_only_what_is_missing(self) -> None:
        self.write("in/permit.eml", letter_with(TABLE, PLAN))
        self.attachments("--as", "pdf", "--attached", "*.csv", "--attached", "*.pdf")
        self.assertEqual(len(self.made("out", ".pdf")), 2)
        again = ("--as", "pdf", "--attached", "*.csv", "--attached", "*.pdf")
        self.assertIn("0 written, 2 already there", self.attachments(*again))
        before = self.path("tides.csv").read_bytes()
        self.path("tides.csv").unlink()
        self.assertIn("1 written, 1 already there", self.attachments(*again))
        self.assertEqual(self.path("tides.csv").read_bytes(), before)
        self.attachments()  # their own bytes now, too: the PDFs stay in the register
        self.assertEqual({bool(row["file"] and row["pdf"]) for row in self.rows().values()}, {True})
        planned = self.attachments("--as", "pdf", "--paper", "a5", "--dry-run")
        self.assertIn("1 would be written, 1 already there", planned)

    def test_bound(self) -> None:
        """Of a message in the order of names, of a type in that of dates; bookmarks lead to each."""
        self.write("in/a.eml", letter_with(TABLE, PLAN, ("boats.csv", "text/csv", b"Boat,Crew\nPelican,3\n")))
        later = letter_with(("crew.csv", "text/csv", b"Name\nTomas Wray\n")).replace(b"9 Mar 2026", b"8 Mar 2026")
        self.write("in/b.eml", later)
        self.attachments("--as", "pdf", "--bind", "message", "--order", "name")
        path = self.path("tides.csv")
        self.assertEqual(path.name, "2026-03-09 Slipway desk - attachments.pdf")
        self.assertEqual(self.bookmarks(path), [("boats.csv", 0), ("harbour plan.pdf", 1), ("tides.csv", 2)])
        self.assertEqual(pdf_pages(path), 3)
        (self.folder / "out").rename(self.folder / "by message")
        self.attachments("--as", "pdf", "--bind", "type", "--order", "date,name")
        path = self.path("tides.csv")
        self.assertEqual(path.name, "csv attachments.pdf")
        names = [name.rpartition(": ")[2] for name, _ in self.bookmarks(path)]
        self.assertEqual(names, ["crew.csv", "boats.csv", "tides.csv"])
        self.assertIn(
            "0 written, 4 already there", self.attachments("--as", "pdf", "--bind", "type", "--order", "date,name")
        )
        self.write("in/c.eml", letter_with(("d.csv", "text/csv", b"x,y\n")).replace(b"9 Mar 2026", b"1 Mar 2026"))
        self.attachments("--as", "pdf", "--bind", "type", "--order", "date,name")
        self.assertEqual(len(self.bookmarks(self.path("tides.csv"))), 4)
        self.assertIn("0 altered; 0 foreign", self.run_program("verify", "out").stdout)

    def bookmarks(self, path: Path) -> list[tuple[str, int]]:
        with pikepdf.open(path) as document, document.open_outline() as outline:
            pages = {page.objgen: number for number, page in enumerate(document.pages)}
            return [(item.title, pages[(item.destination or item.action.D)[0].objgen]) for item in outline.root]

    def test_scans(self) -> None:
        """Words of a scan are in its PDF, in the register's words for it, and in what `--json` reports of each."""
        image, drawn = page(lines=3, size=(300, 120))
        self.write("in/permit.eml", letter_with(("scan.tif", "image/tiff", file_of(image, "TIFF")), PLAN))
        report = json.loads(self.attachments("--as", "pdf", "--ocr", "eng", "--json"))
        states = {each["name"]: each for each in report["documents"]}
        self.assertGreaterEqual(states["scan.tif"]["words"], len(drawn) - 1)
        self.assertGreater(states["scan.tif"]["confidence"], 60)
        self.assertTrue(self.rows()["scan.tif"]["pdf_state"].startswith("searchable now: "))
        self.assertEqual(states["harbour plan.pdf"]["state"], "already searchable")
        self.assertIn(drawn[0].text, pdf_text(self.path("scan.tif")))

    def test_what_breaks_a_worker(self) -> None:
        """The attachments of a message whose pages kill their worker are taken as they are, and that is said."""
        self.write("in/permit.eml", letter_with(TABLE))
        self.write(
            "sitecustomize.py",
            "import os, sys, wexagraph.pages.attachments.document as made\n"
            "if 'wexagraph.work.worker' in sys.orig_argv: made.document = lambda *a, **b: os._exit(9)\n",
        )
        done = self.run_program(
            "attachments", "in", "--into", "out", "--as", "native,pdf", env={"PYTHONPATH": str(self.folder)}
        )
        self.assertIn("1 written", done.stdout)
        self.assertIn("it killed the worker", self.rows()["tides.csv"]["pdf_state"])

    def test_calls_that_are_refused(self) -> None:
        self.write("in/permit.eml", letter_with(TABLE))
        for options, words in (
            (("--ocr", "eng"), "--ocr is for PDFs of attachments: it needs --as pdf"),
            (("--bind", "type"), "it needs --as pdf"),
            (("--as", "pdf", "--order", "name"), "it needs --bind message or type"),
            (("--as", "eml"), "eml"),
        ):
            done = self.run_program("attachments", "in", "--into", "out", *options, code=2)
            self.assertIn(words, " ".join(done.stderr.split()))
        self.assertFalse((self.folder / "out").exists())
