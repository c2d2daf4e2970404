"""Tables as workbooks (ISO/IEC 29500): a frozen head, filters; nothing in a cell is ever a formula."""

from __future__ import annotations

import io
import re
from collections.abc import Iterable, Sequence
from typing import Any

from wexagraph.tables.columns import Column, T

_MOST_TEXT = 32_767
_MOST_ROWS = 1_048_575
_CONTROLS = re.compile("[\x00-\x08\x0b-\x1f\x7f\ud800-\udfff\ufffe\uffff]")


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
    cell = WriteOnlyCell(sheet, _CONTROLS.sub("", value)[:_MOST_TEXT])
    cell.data_type = "s"
    return cell
