"""CSV (RFC 4180): lines end with CRLF, and no text is ever a formula."""

from __future__ import annotations

import csv
import io
from collections.abc import Iterable, Sequence
from datetime import datetime
from typing import Any

MARK = b"\xef\xbb\xbf"
"""The byte order mark by which spreadsheets know UTF-8."""
# the wide forms count where a spreadsheet is set to an East Asian language
_FORMULA = ("=", "+", "-", "@", "\t", "\r", "\n", "\uff1d", "\uff0b", "\uff0d", "\uff20")


def csv_row(values: Iterable[Any]) -> str:
    """A row with its line end. Texts that begin like a formula get an apostrophe in front; None is an empty cell."""
    cells = list(map(cell, values))
    line = ",".join(cells)
    if '"' not in line and line.count(",") == len(cells) - 1 and line.isprintable():
        return line + "\r\n"
    out = io.StringIO(newline="")
    csv.writer(out, lineterminator="\r\n").writerow(cells)
    return out.getvalue()


def cell(value: Any) -> str:
    """A value as the text of a cell."""
    if isinstance(value, str):
        return "'" + value if value.startswith(_FORMULA) else value
    return "" if value is None else str(plain(value))


def plain(value: Any) -> Any:
    """A value as CSV and JSON tell it: a moment as in ISO 8601."""
    return value.isoformat() if isinstance(value, datetime) else value


def read_cell(text: str) -> str:
    """A cell's text without the apostrophe that keeps a spreadsheet from running it."""
    return text[1:] if text.startswith("'") and text[1:].startswith(_FORMULA) else text


def csv_bytes(row: Sequence[Any]) -> bytes:
    """A row as UTF-8; bytes of names that are no text stay as they are."""
    return csv_row(row).encode("utf-8", "surrogateescape")
