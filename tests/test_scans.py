"""Scans: words recognised and laid over pictures, unseen; judged by what was drawn, pypdfium2 and pdftotext's like."""

from __future__ import annotations

import io
import json
import os
import stat
from collections import Counter
from unittest import mock

import pikepdf
import pypdfium2
from pillow_heif import register_heif_opener

from tests.helpers import check_with_others, letter_with, named_rows, pdf_text, rounds
from tests.running import RunTest
from tests.scanned import ENGLISH, GERMAN, Drawn, file_of, page
from wexagraph.errors import CallError
from wexagraph.pages.scans import engines
from wexagraph.pages.scans.recognise import with_words

_NEAR = 3 / 25.4 * 72
_LINES = 8


def words_of(pdf: bytes, number: int = 0) -> list[Drawn]:
    """The words of a page as pypdfium2 tells them, with their boxes from the top left."""
    with pypdfium2.PdfDocument(pdf) as document:
        sheet = document[number]
        text, height = sheet.get_textpage(), sheet.get_height()
        whole = text.get_text_range()
        words, at = [], 0
        for word in whole.split():
            at = whole.index(word, at)
            boxes = [text.get_charbox(place, loose=True) for place in range(at, at + len(word))]
            at += len(word)
            left, bottom = min(b[0] for b in boxes), min(b[1] for b in boxes)
            right, top = max(b[2] for b in boxes), max(b[3] for b in boxes)
            words.append(Drawn(word, (left, height - top, right, height - bottom)))
        return words


class Layers(RunTest):
    def test_words_stand_where_the_picture_has_them(self) -> None:
        for kind, more in (("as it is", {}), ("grainy", {"noise": 60}), ("fax", {"fax": True})):
            with self.subTest(kind):
                image, drawn = page(lines=_LINES, size=(420, 240), **more)  # type: ignore[arg-type]
                content = file_of(image, "PDF")
                scanned = with_words(content, ("eng",), "a scan")
                read = words_of(scanned.pdf)
                near = sum(any(self._near(one, other) for other in read) for one in drawn)
                self.assertGreater(near / len(drawn), 0.97)
                self.assertLess(len(scanned.pdf) - len(content), 15_000)
                self.assertEqual([note.code for note in scanned.notes], ["text-recognised"])
                self.assertEqual(_pictures(scanned.pdf), _pictures(content), "the picture keeps its bytes")
                self.assertEqual(_pixels(scanned.pdf), _pixels(content), "nothing is to be seen")

    def _near(self, one: Drawn, other: Drawn) -> bool:
        places = zip(one.box, other.box, strict=True)
        return one.text == other.text and all(abs(a - b) < _NEAR for a, b in places)

    def test_the_order_of_languages_is_nothing_to_a_page(self) -> None:
        """Each page is read as what it is written in, also with specks; and each time alike."""
        pages = ((GERMAN, 40), (ENGLISH, 40), (GERMAN, 0))
        for words, noise in pages[: rounds(3, 2)]:
            image, drawn = page(words=words, lines=_LINES, size=(420, 240), noise=noise)
            content = file_of(image, "PDF")
            times = rounds(2, 1) if words is GERMAN and noise else 1
            told = {with_words(content, languages).text for languages in (("eng", "deu"), ("deu", "eng")) * times}
            with self.subTest(words=words[0], noise=noise):
                self.assertEqual(len(told), 1)
                read = Counter(told.pop().split())
                lost = Counter(word.text for word in drawn) - read
                self.assertLess(lost.total() / len(drawn), 0.03, lost)

    def test_turned_and_skewed(self) -> None:
        image, drawn = page(lines=_LINES, size=(420, 240), skew=2)
        for quarters in (1, 2, 3):
            with self.subTest(quarters):
                turned = file_of(image.rotate(90 * quarters, expand=True), "PDF")
                self.assertGreater(_right(with_words(turned, ("eng",)).pdf, drawn), 0.97)
        content = pikepdf.open(io.BytesIO(file_of(image, "PDF")))
        content.pages[0].Rotate = 90
        out = io.BytesIO()
        content.save(out)
        self.assertGreater(_right(with_words(out.getvalue(), ("eng",)).pdf, drawn), 0.97)

    def test_two_languages(self) -> None:
        image, drawn = page(lines=_LINES, size=(420, 240), words=[*ENGLISH, *GERMAN])
        self.assertGreater(_right(with_words(file_of(image, "PDF"), ("deu", "eng")).pdf, drawn), 0.95)


def _right(pdf: bytes, drawn: list[Drawn]) -> float:
    """The part of the words that were drawn which a PDF's text has."""
    with pypdfium2.PdfDocument(pdf) as document:
        text = Counter(document[0].get_textpage().get_text_range().split())
    return (Counter(word.text for word in drawn) & text).total() / len(drawn)


def _pictures(pdf: bytes) -> list[bytes]:
    with pikepdf.open(io.BytesIO(pdf)) as document:
        return [image.read_raw_bytes() for sheet in document.pages for image in sheet.images.values()]


def _pixels(pdf: bytes) -> bytes:
    with pypdfium2.PdfDocument(pdf) as document:
        return document[0].render(scale=1).to_pil().tobytes()


class Program(RunTest):
    def setUp(self) -> None:
        super().setUp()
        self.image, self.drawn = page(lines=4, size=(420, 170))

    def test_pictures_and_pages_of_others(self) -> None:
        """PNG, a TIFF of several pages, a PDF that is a scan, one that has its text."""
        sheets = [page(lines=2, size=(300, 120), seed=seed) for seed in (2, 3)]
        pictures = [sheet.convert("RGB") for sheet, _ in sheets]
        tiff = file_of(pictures[0], "TIFF", save_all=True, append_images=pictures[1:])
        own = self._pdf_with_text()
        files = [
            ("scan.png", "image/png", file_of(self.image)),
            ("sheets.tif", "image/tiff", tiff),
            ("scan.pdf", "application/pdf", file_of(self.image, "PDF")),
            ("typed.pdf", "application/pdf", own),
        ]
        self.write("in/permit.eml", letter_with(*files))
        command = ("export", "in", "--into", "out", "--attachments", "pages", "--ocr", "eng", "--archival")
        self.run_program(*command)
        path = self.folder / "out" / self.made("out", ".pdf")[0]
        check_with_others(self, path)
        counts = Counter(pdf_text(path).split())
        for drawn in (self.drawn, self.drawn, sheets[0][1], sheets[1][1]):
            wanted = Counter(word.text for word in drawn)
            self.assertGreater((wanted & counts).total() / len(drawn), 0.95)
            counts -= wanted
        with open(self.folder / "out/register.csv", encoding="utf-8-sig", newline="") as table:
            notes = named_rows(table)[0]["notes"]
        self.assertIn("scan.png: tesseract", notes)
        self.assertIn("sheets.tif: tesseract", notes)
        self.assertNotIn("typed.pdf", notes)
        with pikepdf.open(path) as document:
            self.assertIn("pdfaid", str(document.open_metadata()))
        self.assertIn("0 written, 1 already there", self.run_program(*command).stdout)

    def _pdf_with_text(self) -> bytes:
        self.write("typed/letter.eml", letter_with(subject="Typed"))
        self.run_program("export", "typed", "--into", "typed out")
        return (self.folder / "typed out" / self.made("typed out", ".pdf")[0]).read_bytes()

    def test_found_in_a_case(self) -> None:
        self.write("in/permit.eml", letter_with(("scan.png", "image/png", file_of(self.image))))
        records = ("--records", "rec")
        self.run_program("case", "open", "2026-118", "Slipway permits", *records)
        options = ("--attachments", "pages", "--ocr", "eng")
        self.run_program("file", "in", "--case", "2026-118", *options, *records)
        rare = next(word.text for word in self.drawn if len(word.text) > 5)
        self.assertEqual(len(json.loads(self.run_program("find", rare, *records, "--json").stdout)), 1)

    def test_found_in_a_backup(self) -> None:
        """`backup --ocr` reads each scan once; `list --text` and `find` see its words, also behind later runs."""
        scan = ("scan.png", "image/png", file_of(self.image))
        self.write("in/permit.eml", letter_with(scan))
        self.run_program("backup", "in", "--into", "kept")
        rare = next(word.text for word in self.drawn if len(word.text) > 5)
        search = ("list", "kept", "--text", rare)
        self.assertNotIn("Permit", self.run_program(*search).stdout)
        backup = ("backup", "in", "--into", "kept", "--ocr", "eng")
        self.assertIn("Scans: 1 attachment read", self.run_program(*backup).stdout)
        self.assertIn(rare, self.run_program(*search).stdout)
        self.write("in/again.eml", letter_with(scan, subject="The permit again"))
        self.assertIn("Scans: 0 attachments read", self.run_program(*backup).stdout)
        self.assertIn("2 messages", self.run_program(*search).stdout)
        self.assertIn("2 messages", self.run_program("find", rare, "--in", "kept").stdout)
        self.assertIn("all whole", self.run_program("verify", "kept").stdout)

    def test_photographs_and_long_files(self) -> None:
        """HEIC, and a TIFF of sixty pages, every one of which is read."""
        sheets = [page(lines=1, size=(200, 80), dpi=120, seed=seed) for seed in range(60)]
        pictures = [sheet.convert("1") for sheet, _ in sheets]
        register_heif_opener()
        files = [
            ("photo.heic", "image/heic", file_of(self.image.convert("RGB"), "HEIF")),
            ("sixty.tif", "image/tiff", file_of(pictures[0], "TIFF", save_all=True, append_images=pictures[1:])),
        ]
        self.write("in/permit.eml", letter_with(*files))
        self.run_program("attachments", "in", "--as", "pdf", "--ocr", "eng", "--flat", "--into", "out")
        photo, sixty = (next((self.folder / "out").glob(f"*{name}.pdf")) for name in ("photo", "sixty"))
        self.assertGreater(_right(photo.read_bytes(), self.drawn), 0.95)
        with pypdfium2.PdfDocument(sixty) as document:
            texts = [sheet.get_textpage().get_text_range().split() for sheet in document]
        self.assertEqual(len(texts), 60)
        read = [bool(Counter(texts[n]) & Counter(word.text for word in drawn)) for n, (_, drawn) in enumerate(sheets)]
        self.assertGreaterEqual(sum(read), 59)

    def test_what_can_not_be_read(self) -> None:
        """Pictures of a pixel, without words, too large: pages as before, noted where it matters."""
        from PIL import Image

        files = [
            ("dot.png", "image/png", file_of(Image.new("L", (1, 1)))),
            ("grey.png", "image/png", file_of(Image.new("L", (400, 300), 128))),
            ("wide.png", "image/png", file_of(Image.new("1", (20_000, 10_000), 1))),
        ]
        self.write("in/odd.eml", letter_with(*files))
        done = self.run_program("export", "in", "--into", "out", "--attachments", "pages", "--ocr", "eng")
        self.assertIn("1 written", done.stdout)
        self.assertIn("no words could be recognised in a picture", done.stdout)

    def test_calls_that_are_refused(self) -> None:
        self.write("in/permit.eml", letter_with())
        for options, words in (
            (("--ocr", "eng"), "it needs --attachments pages"),
            (("--ocr", "xyz", "--attachments", "pages"), "tesseract-ocr-xyz"),
            (("--ocr", "klingon", "--attachments", "pages"), "no language"),
        ):
            done = self.run_program("export", "in", "--into", "out", *options, code=2)
            self.assertIn(words, " ".join(done.stderr.split()))
        with (
            mock.patch.object(engines, "_has_tesserocr", return_value=False),
            mock.patch("shutil.which", return_value=None),
            self.assertRaisesRegex(CallError, "pip install 'wexagraph\\[ocr\\]'"),
        ):
            engines.check(("eng",))

    def test_by_the_program_of_the_machine(self) -> None:
        """One that answers, one that hangs, one that is killed: what can't be recognised is noted, the page is as it was."""
        content = file_of(self.image, "PDF")
        table = "\t".join(["5", "1", "1", "1", "1", "1", "140", "150", "200", "40", "91.5", "barge"])
        for behaviour, code in (
            (f"cat >/dev/null; printf '%s\\n' '{table}'", "text-recognised"),
            ("cat >/dev/null; exec sleep 60", "text-unrecognised"),
            ("kill -9 $$", "text-unrecognised"),
        ):
            program = self.folder / "tesseract"
            version = 'case "$1" in --version) echo tesseract 5.3.0; exit;; esac'
            program.write_text(f"#!/bin/sh\n{version}\n{behaviour}\n")
            program.chmod(program.stat().st_mode | stat.S_IXUSR)
            path = f"{self.folder}{os.pathsep}{os.environ['PATH']}"
            engines.recogniser.cache_clear()
            self.addCleanup(engines.recogniser.cache_clear)
            with (
                self.subTest(behaviour),
                mock.patch.object(engines, "_has_tesserocr", return_value=False),
                mock.patch.dict(os.environ, {"PATH": path}),
                mock.patch("wexagraph.pages.scans.recognise.PAGE_SECONDS", 1.0),
            ):
                scanned = with_words(content, ("eng",), "a scan")
                self.assertEqual([note.code for note in scanned.notes], [code])
                self.assertEqual(scanned.pdf == content, code == "text-unrecognised")
                if code == "text-recognised":
                    self.assertEqual([word.text for word in words_of(scanned.pdf)], ["barge"])
