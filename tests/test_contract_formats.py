"""What every format keeps, run over all there are, and over one that is registered on the spot."""

from __future__ import annotations

import unittest
from collections import Counter

from tests.helpers import ProgramTest, letter, mbox
from tests.letters_as_lines import LINE, NEVER_MADE
from wexagraph.app.opening import open_source
from wexagraph.exports.formats import FORMATS, Format
from wexagraph.exports.options import ExportOptions
from wexagraph.exports.report import ExportReport
from wexagraph.exports.run import export
from wexagraph.exports.verify import verify

LETTERS = [letter("Berth 4"), letter("Fog", body="No sailing.\n"), letter("Berth 4", body="Again.\n")]


class Formats(ProgramTest):
    def setUp(self) -> None:
        super().setUp()
        FORMATS[LINE.name] = LINE
        self.addCleanup(FORMATS.pop, LINE.name, None)
        self.write("in.mbox", mbox(*LETTERS))

    def export(self, *formats: str, jobs: int = 1) -> ExportReport:
        with open_source(self.folder / "in.mbox") as source:
            return export(source, self.folder / "out", options=ExportOptions(formats=formats, jobs=jobs))

    def suffixes(self) -> Counter[str]:
        """How many files of each kind lie in the folder of results."""
        return Counter(path.rpartition(".")[2] for path in self.made("out"))

    def count_of(self, format: Format) -> int:
        return 1 if format.archive is not None else len(LETTERS)

    def test_written_is_what_lies_on_the_disk(self) -> None:
        for format in list(FORMATS.values()):
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
        for format in list(FORMATS.values()):
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
        report = self.export(*FORMATS, jobs=2)
        self.assertEqual(report.files, {format.name: self.count_of(format) for format in FORMATS.values()})
        wanted = Counter({format.suffix[1:]: self.count_of(format) for format in FORMATS.values()})
        self.assertEqual(self.suffixes(), wanted)

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
