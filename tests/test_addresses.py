"""`addresses`: who wrote and was written to, counted by headers, and written for other programs."""

from __future__ import annotations

import csv
import io
import json
import unittest

import openpyxl
from icalendar.parser import Contentlines

from tests.helpers import ProgramTest


def mail(sender: str, to: str, cc: str = "", day: int = 1) -> bytes:
    copied = f"Cc: {cc}\n" if cc else ""
    return f"From: {sender}\nTo: {to}\n{copied}Date: {day} Mar 2026 10:00:00 +0000\nSubject: Berths\n\nText.\n".encode()


class Addresses(ProgramTest):
    def setUp(self) -> None:
        super().setUp()
        office = "Records <records@saltmere.example>"
        self.write("in/a/1.eml", mail("I. Halden <Ines.Halden@Quay.example>", office, day=1))
        self.write("in/a/2.eml", mail("Ines Halden <ines.halden@quay.example>", office, "piet@cormorant.example", 5))
        self.write("in/b/3.eml", mail(office, "ines.halden@quay.example, INES.HALDEN@quay.example", day=7))
        self.write("in/b/4.eml", mail("=?utf-8?q?=3D1+1?= <x@xn--mgen-5qa.example>", office, day=3))
        self.write("in/b/5.eml", b"From: undisclosed-recipients:;\nTo: nobody\n\nText.\n")

    def rows(self, *more: str) -> dict[str, dict[str, object]]:
        output = self.run_program("addresses", "in", "--json", *more).stdout
        return {row["address"]: row for row in json.loads(output)}

    def test_a_row_an_address(self) -> None:
        rows = self.rows()
        ines = rows["ines.halden@quay.example"]
        self.assertEqual((ines["name"], ines["names"]), ("Ines Halden", "I. Halden; Ines Halden"))
        self.assertEqual((ines["wrote"], ines["received"], ines["copied"]), (2, 1, 0))
        self.assertEqual((str(ines["first"])[:10], str(ines["last"])[:10]), ("2026-03-01", "2026-03-07"))
        self.assertEqual(ines["folders"], "a; b")
        self.assertIn("x@m\u00f6gen.example", rows, "an international domain is read")
        self.assertEqual(len(rows), 4)
        self.assertEqual(
            set(self.rows("--from", "halden", "--before", "2026-03-02")),
            {"ines.halden@quay.example", "records@saltmere.example"},
        )

    def test_mine_and_domains(self) -> None:
        rows = self.rows("--mine", "RECORDS@saltmere.example")
        self.assertNotIn("records@saltmere.example", rows)
        ines = rows["ines.halden@quay.example"]
        self.assertEqual((ines["incoming"], ines["outgoing"]), (2, 1))
        self.assertEqual(rows["piet@cormorant.example"]["incoming"], 0)
        self.assertEqual(self.rows("--domains")["quay.example"]["wrote"], 2)
        output = self.run_program("addresses", "in", "--mine", "records@saltmere.example").stdout
        self.assertIn("3 addresses.", output)
        self.assertIn("To us", output)

    def test_files(self) -> None:
        for name in ("people.csv", "people.xlsx", "people.vcf"):
            self.run_program("addresses", "in", "--into", f"out/{name}")
        self.assertEqual(
            sorted(path.name for path in (self.folder / "out").iterdir()), ["people.csv", "people.vcf", "people.xlsx"]
        )
        table = list(csv.reader(io.StringIO((self.folder / "out/people.csv").read_text("utf-8-sig"))))
        sheet = openpyxl.load_workbook(self.folder / "out/people.xlsx").active
        assert sheet is not None
        cells = [[cell.value for cell in row] for row in sheet.iter_rows()]
        self.assertEqual([row[0] for row in table], [row[0] for row in cells])
        hostile = next(row for row in sheet.iter_rows() if str(row[0].value).startswith("x@"))
        self.assertEqual((hostile[1].value, hostile[1].data_type), ("=1+1", "s"), "a text, and no formula")
        self.assertEqual(sheet.freeze_panes, "A2")
        cards = (self.folder / "out/people.vcf").read_bytes()
        self.assertLessEqual(max(map(len, cards.split(b"\r\n"))), 75)
        parsed = [line.parts() for line in Contentlines.from_ical(cards.decode()) if line]
        names = [str(value) for name, _, value in parsed if name == "FN"]
        self.assertIn("Ines Halden", names)
        self.assertEqual(len(names), 4)
        self.assertIn(
            "is a .csv, .xlsx or .vcf file", self.run_program("addresses", "in", "--into", "x.pst", code=2).stderr
        )


if __name__ == "__main__":
    unittest.main()
