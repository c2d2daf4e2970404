"""What a colleague writes into a register of the demo's berths: for a picture of the documents."""

from __future__ import annotations

import sys

import openpyxl
from openpyxl.styles import PatternFill

WRITTEN = {
    "East quay survey": ("steel sheet piles", "2026-04-30", "Halden Surveys"),
    "Dredged volumes, first quarter": ("silt, 4,200 m\N{SUPERSCRIPT THREE}", "2026-05-15", "Lindqvist Dredging"),
    "Permit 2026/118 (scan)": ("slipway timber", "2026-06-01", "boatyard"),
}


def main() -> None:
    book = openpyxl.load_workbook(sys.argv[1])
    sheet = book["Messages"]
    at = {str(cell.value): cell.column for cell in sheet[1]}
    for row in range(2, sheet.max_row + 1):
        words = WRITTEN.get(str(sheet.cell(row, at["Subject"]).value))
        for heading, text in zip(("Materials", "Due date", "Contractor"), words or (), strict=False):
            sheet.cell(row, at[heading]).value = text
        if words:
            sheet.cell(row, at["Due date"]).fill = PatternFill("solid", fgColor="FFE9B8")
    for name in ("To", "Folder"):
        sheet.column_dimensions[sheet.cell(1, at[name]).column_letter].hidden = True
    book.save(sys.argv[1])


if __name__ == "__main__":
    main()
