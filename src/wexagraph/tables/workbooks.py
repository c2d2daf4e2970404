"""Tables as workbooks (ISO/IEC 29500): a frozen head, filters; nothing in a cell is ever a formula."""

from __future__ import annotations

import io
import re
import zipfile
from collections.abc import Iterable, Sequence
from typing import Any

from wexagraph.tables.columns import Column, T
from wexagraph.tables.living.sheet_xml import clean

_MOST_ROWS = 1_048_575
_FORMATS = {"moment": "yyyy-mm-dd hh:mm", "number": "#,##0", "own": "General"}
_WRITTEN = re.compile(rb"<dcterms:(created|modified)[^>]*>[^<]*</dcterms:\1>")


def workbook(title: str, columns: Sequence[Column[T]], things: Iterable[T]) -> bytes:
    """A workbook with a sheet of things; with further sheets where one does not hold them all."""
    from openpyxl import Workbook

    book = Workbook(write_only=True)
    sheet = _begun(book, title, columns)
    rows = 0
    for thing in things:
        if rows == _MOST_ROWS:
            sheet, rows = _begun(book, title, columns), 0
        sheet.append([_cell(sheet, column.value(thing)) for column in columns])
        rows += 1
    out = io.BytesIO()
    book.save(out)
    return out.getvalue()


def _begun(book: Any, title: str, columns: Sequence[Column[T]]) -> Any:
    """A new sheet with its head."""
    from openpyxl.styles import Font
    from openpyxl.utils import get_column_letter

    sheet = book.create_sheet(title)
    sheet.freeze_panes = "A2"
    sheet.auto_filter.ref = f"A1:{get_column_letter(len(columns))}1"
    for number in range(1, len(columns) + 1):
        sheet.column_dimensions[get_column_letter(number)].width = 34 if number < 4 else 14
    head = [_cell(sheet, column.name) for column in columns]
    for cell in head:
        cell.font = Font(bold=True)
    sheet.append(head)
    return sheet


def _cell(sheet: Any, value: Any) -> Any:
    """A cell; a text is a text, whatever it begins with."""
    from openpyxl.cell import WriteOnlyCell

    if not isinstance(value, str):
        return WriteOnlyCell(sheet, value)
    cell = WriteOnlyCell(sheet, clean(value))
    cell.data_type = "s"
    return cell


def empty_register(columns: Sequence[Column[T]], headings: Sequence[str], title: str, about: str) -> bytes:
    """A workbook for a register: a table with its headings and no row; the last column, of the keys, is hidden.

    The looks of the columns are those of their empty cells, from which rows take them.
    """
    from openpyxl import Workbook
    from openpyxl.styles import Alignment, Font, PatternFill
    from openpyxl.utils import get_column_letter
    from openpyxl.worksheet.table import Table, TableStyleInfo

    book = Workbook()
    sheet: Any = book.active
    sheet.title = "Messages"
    sheet.append(list(map(clean, headings)))
    for number, column in enumerate(columns, 1):
        dimension = sheet.column_dimensions[get_column_letter(number)]
        dimension.width, dimension.number_format = column.width, _FORMATS.get(column.kind, "@")
        side = "right" if column.kind == "number" else "left"
        dimension.alignment = Alignment(side, "top", indent=1, wrap_text=column.width > 40)
        if column.kind == "link":
            dimension.font = Font("Calibri", 11, color="0B5C8A", underline="single")
    last = get_column_letter(len(columns) + 1)
    sheet.column_dimensions[last].hidden = True
    sheet.column_dimensions[last].number_format = "@"
    for number, cell in enumerate(sheet[1]):
        side = "right" if number < len(columns) and columns[number].kind == "number" else "left"
        cell.font, cell.fill = Font("Calibri", 11, bold=True), PatternFill("solid", fgColor="E3EBF0")
        cell.alignment = Alignment(side, "top", indent=1)
    table = Table(displayName="Messages", ref=f"A1:{last}2")
    table.tableStyleInfo = TableStyleInfo(name="TableStyleLight1", showRowStripes=True)
    sheet.add_table(table)
    sheet.freeze_panes = "A2"
    sheet.print_title_rows = "1:1"
    sheet.page_setup.orientation, sheet.page_setup.paperSize = "landscape", sheet.PAPERSIZE_A4
    sheet.page_setup.fitToHeight, sheet.sheet_properties.pageSetUpPr.fitToPage = 0, True
    sheet.oddFooter.left.text, sheet.oddFooter.right.text = "&A", "&P / &N"
    properties = book.properties
    properties.creator, properties.title, properties.subject = "Wexagraph", clean(title), clean(about)
    out = io.BytesIO()
    book.save(out)
    return _without_moment(out.getvalue())


def _without_moment(content: bytes) -> bytes:
    """The same workbook whenever it is made."""
    out = io.BytesIO()
    with zipfile.ZipFile(io.BytesIO(content)) as old, zipfile.ZipFile(out, "w", zipfile.ZIP_DEFLATED) as new:
        for item in old.infolist():
            part = old.read(item)
            if item.filename == "docProps/core.xml":
                part = _WRITTEN.sub(b"", part)
            new.writestr(zipfile.ZipInfo(item.filename), part, zipfile.ZIP_DEFLATED)
    return out.getvalue()
