"""`survey`: what lies in a mailbox, and where a record has a hole."""

from __future__ import annotations

import csv
import io
import json
import unittest
from xml.etree import ElementTree

import pypdfium2
from PIL import Image

from tests.helpers import ProgramTest, letter, mbox
from tests.tagged_pdf import check_tagged


def on(day: str, subject: str = "Berths") -> bytes:
    return letter(subject, date=f"{day} 10:30:00 +0000")


class SurveyTest(ProgramTest):
    def report_of(self, *more: str) -> dict[str, object]:
        report: dict[str, object] = json.loads(
            self.run_program("survey", "in.mbox", "--zone", "UTC", "--json", *more).stdout
        )
        return report

    def test_months_and_gaps(self) -> None:
        days = ("1 Jan 2026", "5 Jan 2026", "20 Jan 2026", "3 Apr 2026", "4 Apr 2026")
        self.write("in.mbox", mbox(*(on(day, f"Letter {day}") for day in days)))
        report = self.report_of()
        self.assertEqual(
            [(month["month"], month["messages"]) for month in report["months"]],  # type: ignore[attr-defined]
            [("2026-01", 3), ("2026-02", 0), ("2026-03", 0), ("2026-04", 2)],
        )
        self.assertEqual(
            report["gaps"],
            [
                {"first": "2026-01-06", "last": "2026-01-19", "days": 14},
                {"first": "2026-01-21", "last": "2026-04-02", "days": 72},
            ],
        )
        self.assertEqual((report["messages"], sum(report["hours"])), (5, 5))  # type: ignore[call-overload]
        shown = self.run_program("survey", "in.mbox", "--zone", "UTC").stdout
        for words in ("2026-02        -             no mail", "No mail from 2026-01-21 to 2026-04-02: 72 days."):
            self.assertIn(words, shown)
        table = list(csv.reader(io.StringIO(self.run_program("survey", "in.mbox", "--csv").stdout)))
        self.assertEqual((table[0], table[2][:2]), (["month", "messages", "bytes"], ["2026-02", "0"]))

    def test_who_what_and_how_large(self) -> None:
        more = "Message-ID: <{}@saltmere.example>\n{}"
        answer = "In-Reply-To: <1@saltmere.example>\nReferences: <1@saltmere.example>\n"
        self.write(
            "in.mbox",
            mbox(
                letter("Buoy 14", more=more.format(1, "")),
                letter("Re: Buoy 14", more=more.format(2, answer)),
                letter("Large", body="line\n" * 4000),
            ),
        )
        report = self.report_of()
        self.assertEqual([(one["subject"], one["messages"]) for one in report["conversations"]], [("Buoy 14", 2)])  # type: ignore[attr-defined]
        self.assertEqual(report["largest"][0]["subject"], "Large")  # type: ignore[index]
        self.assertEqual(len(report["senders"]), 1)  # type: ignore[arg-type]
        self.assertEqual(self.report_of("--subject", "large")["messages"], 1)

    def test_pages(self) -> None:
        self.write("in.mbox", mbox(on("1 Jan 2026"), on("3 Apr 2027", "$x^2$ <b>")))
        self.write("one.mbox", mbox(on("1 Jan 2026")))
        for name in ("in.mbox.png", "in.mbox.svg", "one.mbox.pdf"):
            self.run_program("survey", name[:-4], "--into", f"out/{name}")
        with Image.open(self.folder / "out/in.mbox.png") as picture:
            self.assertGreater(picture.size[0], 1200)
        ElementTree.parse(self.folder / "out/in.mbox.svg")
        page = pypdfium2.PdfDocument(self.folder / "out/one.mbox.pdf")[0].get_textpage().get_text_range()
        for words in ("Mail in", "messages a month", "Who wrote most", "attachments"):
            self.assertIn(words, page)
        check_tagged(self, self.folder / "out/one.mbox.pdf")
        before = (self.folder / "out/in.mbox.svg").read_bytes()
        self.run_program("survey", "in.mbox", "--into", "out/in.mbox.svg")
        self.assertEqual((self.folder / "out/in.mbox.svg").read_bytes(), before, "the same mail, the same bytes")
        self.run_program("survey", "in.mbox", "--subject", "nothing", "--into", "out/empty.pdf")
        self.assertIn("0 messages", self.run_program("survey", "in.mbox", "--subject", "nothing").stdout)
        self.assertIn("is drawn as a .png", self.run_program("survey", "in.mbox", "--into", "x.gif", code=2).stderr)


if __name__ == "__main__":
    unittest.main()
