"""What every format keeps, run over all there are, and over one that is registered on the spot."""

from __future__ import annotations

import shutil
import unittest
from collections import Counter
from unittest import mock

from tests.helpers import ProgramTest, letter, mbox
from tests.letters_as_lines import LINE, NEVER_MADE
from wexagraph.app.opening import open_source
from wexagraph.demo.build import file, message, multipart, text, when
from wexagraph.errors import CallError
from wexagraph.exports.options import ATTACHMENTS, FORMATS, ExportOptions, Format, a_folder, a_message
from wexagraph.exports.run import export
from wexagraph.exports.verify import verify
from wexagraph.pages.options import PageOptions
from wexagraph.reports import ExportReport

LETTERS = [letter("Berth 4"), letter("Fog", body="No sailing.\n"), letter("Berth 4", body="Again.\n")]
WITH_FILES = [
    message("a@b.example", "c@d.example", "Tides", when("2026-03-14"), multipart("mixed", text("See.\n"), *files))
    for files in (
        [file("tide.dat", "application/octet-stream", b"1"), file("quay.dat", "application/octet-stream", b"2")],
        [file("tide.dat", "application/octet-stream", b"3")],
    )
]


class Formats(ProgramTest):
    def setUp(self) -> None:
        super().setUp()
        FORMATS[LINE.name] = LINE
        self.addCleanup(FORMATS.pop, LINE.name, None)
        self.write("in.mbox", mbox(*LETTERS))

    def export(self, *formats: str, jobs: int = 1) -> ExportReport:
        with open_source(self.folder / "in.mbox") as source:
            page = PageOptions(attachments=("beside",)) if ATTACHMENTS in formats else PageOptions()
            return export(source, self.folder / "out", options=ExportOptions(formats=formats, jobs=jobs, page=page))

    def suffixes(self) -> Counter[str]:
        """How many files of each kind lie in the folder of results."""
        return Counter(path.rpartition(".")[2] for path in self.made("out"))

    def count_of(self, format: Format) -> int:
        return 1 if format.archive is not None else len(LETTERS)

    def test_written_is_what_lies_on_the_disk(self) -> None:
        for format in [*a_message(), *a_folder()]:
            with self.subTest(format.name):
                self.setUp()
                report = self.export(format.name)
                self.assertEqual((report.chosen, report.written, report.failed), (3, 3, 0))
                self.assertEqual(report.files, {format.name: self.count_of(format)})
                self.assertEqual(self.suffixes(), {format.suffix[1:]: self.count_of(format)})
                sizes = [(self.folder / "out" / path).stat().st_size for path in self.made("out")]
                self.assertEqual(sum(sizes), report.bytes)
                self.assertTrue(verify(self.folder / "out").whole)
                self.assertTrue(format.label and format.suffix.startswith("."))

    def test_the_same_again_makes_nothing_and_what_is_lost_is_made_again(self) -> None:
        for format in [*a_message(), *a_folder()]:
            with self.subTest(format.name):
                self.setUp()
                self.export(format.name)
                before = {path: (self.folder / "out" / path).read_bytes() for path in self.made("out")}
                report = self.export(format.name)
                self.assertEqual((report.written, report.already_there, dict(report.files)), (0, 3, {}))
                lost = self.made("out")[0]
                (self.folder / "out" / lost).write_bytes(b"altered")
                self.export(format.name)
                self.assertEqual({p: (self.folder / "out" / p).read_bytes() for p in self.made("out")}, before)

    def test_all_together(self) -> None:
        ones = [*a_message(), *a_folder()]
        report = self.export(*(format.name for format in ones), jobs=2)
        self.assertEqual(report.files, {format.name: self.count_of(format) for format in ones})
        wanted = Counter({format.suffix[1:]: self.count_of(format) for format in ones})
        self.assertEqual(self.suffixes(), wanted)

    def test_attachments_are_a_format_of_several_files(self) -> None:
        self.write("in.mbox", mbox(*LETTERS, *WITH_FILES))
        report = self.export(ATTACHMENTS)
        self.assertEqual((report.chosen, report.written, dict(report.files)), (2, 2, {"beside": 3}))
        paths = self.made("out", ".dat")
        self.assertEqual(sorted((self.folder / "out" / path).read_bytes() for path in paths), [b"1", b"2", b"3"])
        self.assertEqual({path.rpartition("/")[2] for path in paths}, {"tide.dat", "quay.dat"})
        self.assertTrue(verify(self.folder / "out").whole)
        again = self.export(ATTACHMENTS)
        self.assertEqual((again.written, again.already_there), (0, 2))
        (self.folder / "out" / paths[0]).unlink()
        self.assertEqual(self.export(ATTACHMENTS).made_again, [paths[0]])
        (self.folder / "out/.wexagraph/journal.sqlite").unlink()
        known = self.export(ATTACHMENTS)
        self.assertEqual((known.recovered, known.failed, self.made("out", ".dat")), (2, 0, paths))
        for formats in ((ATTACHMENTS,), (ATTACHMENTS, "mbox")):
            with self.assertRaises(CallError):
                ExportOptions(
                    formats=formats, page=PageOptions(attachments=("beside",) * (len(formats) - 1) or ("none",))
                )

    def test_what_lies_beside_copies_is_there_however_many_they_are(self) -> None:
        self.write("in.mbox", mbox(*LETTERS, *WITH_FILES))
        for jobs in (1, 2):
            with self.subTest(jobs), mock.patch("wexagraph.exports.reading._WORTH_WORKERS", 1):
                report = self.export("eml", ATTACHMENTS, jobs=jobs)
                self.assertEqual(dict(report.files), {"eml": 5, "beside": 3})
                self.assertEqual(len(self.made("out", ".dat")), 3)
                shutil.rmtree(self.folder / "out")

    def test_one_that_is_registered_on_the_spot(self) -> None:
        for jobs in (1, 2):
            self.setUp()
            self.assertEqual(self.export("line", jobs=jobs).files, {"line": 3})
            lines = sorted((self.folder / "out" / path).read_text() for path in self.made("out", ".line"))
            self.assertEqual(lines, ["Berth 4\n", "Berth 4\n", "Fog\n"])

    def test_one_that_is_named_and_never_made_fails_loudly(self) -> None:
        FORMATS[NEVER_MADE.name] = NEVER_MADE
        self.addCleanup(FORMATS.pop, NEVER_MADE.name, None)
        report = self.export("never", "eml")
        self.assertEqual((report.written, report.failed), (0, 3))
        self.assertEqual({failure.reason for failure in report.failures}, {"no never was made of it"})
        self.assertEqual(self.suffixes(), {"eml": 3})
        again = self.export("never", "eml")
        self.assertEqual((again.written, again.already_there, again.failed), (0, 0, 3), "tried at each run")


if __name__ == "__main__":
    unittest.main()
