"""PDF/A-3a: every page of the demo conforms by page-validation, holds its original, and says what it is."""

from __future__ import annotations

import io
import unittest
from unittest import mock

import pikepdf

from tests.helpers import ProgramTest, check_with_others, letter, pdf_text, rounds
from tests.tagged_pdf import check_tagged, conforms
from wexagraph.demo.build import file, message, multipart, text, when
from wexagraph.demo.files import pdf
from wexagraph.demo.mailbox import make_mailbox
from wexagraph.pages.make import Job, make
from wexagraph.pages.options import PageOptions

ARCHIVAL = PageOptions(archival=True)


class Archival(ProgramTest):
    def test_the_whole_demo_conforms(self) -> None:
        make_mailbox(self.folder / "in")
        done = self.run_program("export", "in", "--into", "out", "--as", "pdf,eml", "--archival")
        self.assertNotIn("no PDF/A", done.stdout)
        made = sorted((self.folder / "out").rglob("*.pdf"))
        self.assertGreater(len(made), 100)
        for number, path in enumerate(made):
            with self.subTest(path.name), pikepdf.open(path) as document:
                self.assertEqual(conforms(path, "3a"), [])
                if number % rounds(1, 4) == 0:
                    check_tagged(self, path)
                original = document.attachments["original message.eml"]
                self.assertEqual(original.obj.AFRelationship, "/Source")
                self.assertEqual(original.get_file().read_bytes(), path.with_suffix(".eml").read_bytes())
                with document.open_metadata() as metadata:
                    self.assertEqual(metadata["pdfaid:part"] + metadata["pdfaid:conformance"], "3A")
                    self.assertEqual(metadata["dc:title"], str(document.docinfo["/Title"]))
        check_with_others(self, made[0])

    def test_pages_of_others_stand_behind_only_if_they_conform(self) -> None:
        # the standard fonts of this one are not embedded
        data = message(
            "a@saltmere.example",
            "b@saltmere.example",
            "Plan",
            when("2026-03-14"),
            multipart("mixed", text("See the plan.\n"), file("plan.pdf", "application/pdf", pdf("Plan of the quay"))),
        )
        self.write("in/a.eml", data)
        done = self.run_program("export", "in", "--into", "out", "--archival", "--attachments", "pages")
        self.assertIn("could not be made into pages; it is embedded", done.stdout)
        path = next((self.folder / "out").rglob("*.pdf"))
        self.assertIn("do not conform to PDF/A", " ".join(pdf_text(path).split()))
        with pikepdf.open(path) as document:
            self.assertEqual(conforms(path, "3a"), [])
            self.assertEqual(document.attachments["plan.pdf"].get_file().read_bytes(), pdf("Plan of the quay"))


class Labels(unittest.TestCase):
    def test_the_same_bytes_every_time(self) -> None:
        first, second = (make(Job(letter(), ("pdf",), ARCHIVAL)).files["pdf"] for _ in range(2))
        self.assertEqual(first, second)

    def test_nothing_is_labelled_falsely(self) -> None:
        refused = mock.Mock(passed=False, findings=[mock.Mock(message="a font is wrong", where="obj 1")])
        with mock.patch("pikepdf.pdfa.validate_written", return_value=refused):
            made = make(Job(letter(), ("pdf",), ARCHIVAL))
        note = next(note for note in made.notes if note.code == "archival-failed")
        self.assertIn("a font is wrong", note.detail)
        with pikepdf.open(io.BytesIO(made.files["pdf"])) as document:
            with document.open_metadata() as metadata:
                self.assertNotIn("pdfaid:part", metadata)
            self.assertIn("original message.eml", document.attachments)
