"""One word for each thing: what commands tell programs, beside what they tell people."""

from __future__ import annotations

import json
import re
import unittest
from pathlib import Path
from typing import Any

from tests.helpers import ProgramTest, letter, mbox
from wexagraph.backups.report import BackupReport
from wexagraph.exports.attachments.files import AttachmentReport
from wexagraph.reports import ExportReport, Report, Verification

DOCUMENT = (Path(__file__).parent.parent / "docs/reports.md").read_text("utf-8")
SUMS = ("chosen", "written", "already_there", "failed")
COMMANDS: dict[str, tuple[str, ...]] = {
    "export": ("export", "in.mbox", "--into", "out", "--as", "eml,pdf"),
    "attachments": ("attachments", "in.mbox", "--into", "att"),
    "backup": ("backup", "in.mbox", "--into", "bk"),
    "restore": ("restore", "bk", "--into", "back"),
}


class Reports(ProgramTest):
    def setUp(self) -> None:
        super().setUp()
        self.write("in.mbox", mbox(letter("Fog"), letter("Berth 4")))

    def report_of(self, *arguments: str, code: int = 0) -> dict[str, Any]:
        report: dict[str, Any] = json.loads(self.call_program(*arguments, "--json", code=code).stdout)
        return report

    def test_sums_in_words_and_for_programs(self) -> None:
        for name, arguments in COMMANDS.items():
            with self.subTest(name):
                words = self.call_program(*arguments).stdout
                report = self.report_of(*arguments)
                self.assertEqual((report["chosen"], report["written"], report["failed"]), (2, 0, 0))
                self.assertIn("2 messages chosen", words)
                if name != "attachments":
                    self.assertEqual(report["chosen"], sum(report[sum_] for sum_ in SUMS[1:]))
                    numbers = re.search(r"chosen: (\d+) [\w ]+, (\d+) already there, (\d+) failed", words)
                    assert numbers is not None
                    self.assertEqual([int(number) for number in numbers.groups()], [2, 0, 0])
                words = [name for name in Report.__dataclass_fields__ if name != "planned"]  # of a dry run only
                self.assertEqual(list(report)[: len(words)], words)

    def test_what_fails_is_named_alike(self) -> None:
        for name, arguments in COMMANDS.items():
            if name != "restore":
                with self.subTest(name):
                    report = self.report_of(*arguments, "--id", "0000000000", code=1)
                    self.assertEqual(report["unknown_ids"], ["0000000000"])
                    self.assertEqual((report["chosen"], report["interrupted"]), (0, False))

    def test_proofs(self) -> None:
        self.call_program(*COMMANDS["export"])
        self.call_program(*COMMANDS["backup"])
        self.assertTrue(self.report_of("copy", "bk", "--into", "twin")["verification"]["whole"])
        self.assertEqual(self.report_of("join", "bk")["volumes"], 1)
        for folder in ("out", "bk"):
            with self.subTest(folder):
                report = self.report_of("verify", folder)
                self.assertEqual((report["whole"], report["findings"]), (True, []))
                (self.folder / folder / "strange").mkdir()
                (self.folder / folder / "strange/file").write_bytes(b"x")
                lost = next((self.folder / folder).rglob("*.zip" if folder == "bk" else "*.eml"))
                lost.unlink()
                report = self.report_of("verify", folder, code=1)
                self.assertIs(report["whole"], False)
                states = {one["state"]: one["path"] for one in report["findings"]}
                self.assertEqual(states["missing"], str(lost.relative_to(self.folder / folder)))
                if folder == "out":
                    self.assertEqual(states["foreign"], "strange/file")

    def test_each_word_stands_in_the_document(self) -> None:
        for kind in (Report, ExportReport, AttachmentReport, BackupReport):
            for word in kind().as_dict():
                self.assertIn(f"`{word}`", DOCUMENT, kind)
        for word in Verification("").as_dict():
            self.assertIn(f"`{word}`", DOCUMENT)


if __name__ == "__main__":
    unittest.main()
