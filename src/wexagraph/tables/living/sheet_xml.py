"""The XML of a worksheet (ISO/IEC 29500-1, section 18.3): rows found by where they begin and end, cells made."""

from __future__ import annotations

import re
from collections.abc import Iterator
from dataclasses import dataclass, field
from datetime import datetime, timedelta
from functools import lru_cache
from typing import Any

from wexagraph.tables.living.packages import local, new_parser

MOST_TEXT = 32_767
CUT = "\N{HORIZONTAL ELLIPSIS}"
"""The mark behind a text that was cut."""
_CONTROLS = re.compile("[\x00-\x08\x0b-\x1f\x7f\ud800-\udfff\ufffe\uffff]")
_ESCAPE = re.compile("_(?=x[0-9A-Fa-f]{4}_)")
_ESCAPED = re.compile("_x([0-9A-Fa-f]{4})_")
_DAY_0 = datetime(1899, 12, 30)
_DAY = 86400
_1904 = 1462  # days that a workbook of the other count is behind
_MARKUP = str.maketrans({"&": "&amp;", "<": "&lt;", ">": "&gt;"})
_TEXTS = ("s", "inlineStr", "str")
_STEP = 1 << 18
_NEWLINE = re.compile(r"\r\n?")


@lru_cache(maxsize=20_000)
def letters(column: int) -> str:
    """The letters of a column, counted from 0."""
    name = ""
    column += 1
    while column:
        column, rest = divmod(column - 1, 26)
        name = chr(65 + rest) + name
    return name


@lru_cache(maxsize=20_000)
def number(name: str) -> int:
    """The number of a column from its letters, counted from 0."""
    value = 0
    for letter in name:
        value = value * 26 + ord(letter) - 64
    return value - 1


def clean(text: str) -> str:
    """A text as a cell can hold it."""
    if text.isprintable() and len(text) <= MOST_TEXT:
        return text
    text = _CONTROLS.sub("", _NEWLINE.sub("\n", text) if "\r" in text else text)
    return text if len(text) <= MOST_TEXT else text[: MOST_TEXT - 1] + CUT


def serial(moment: datetime, from_1904: bool = False) -> float:
    """A moment as a spreadsheet counts it, in days; its zone is left away."""
    span = moment.replace(tzinfo=None, microsecond=0) - _DAY_0
    return span.days + span.seconds / _DAY - (_1904 if from_1904 else 0)


def moment_of(days: float, from_1904: bool = False) -> datetime | None:
    """A moment from what a spreadsheet counts, to the second; None for what is none."""
    try:
        return _DAY_0 + timedelta(seconds=round((days + (_1904 if from_1904 else 0)) * _DAY))
    except OverflowError:
        return None


def cell(at: int, row: int, value: Any, style: str, from_1904: bool = False) -> str:
    """A cell with a value; of a text, nothing is ever a formula."""
    start = f'<c r="{letters(at)}{row}"{style}'
    if value is None or value == "":
        return f"{start}/>" if style else ""
    if isinstance(value, str):
        text = clean(value)
        if "&" in text or "<" in text or ">" in text:
            text = text.translate(_MARKUP)
        if "_x" in text:
            text = _ESCAPE.sub("_x005F_", text)
        return f'{start} t="inlineStr"><is><t xml:space="preserve">{text}</t></is></c>'
    if isinstance(value, datetime):
        return f"{start}><v>{serial(value, from_1904)!r}</v></c>"
    return f"{start}><v>{value}</v></c>"


def unescaped(text: str) -> str:
    """Text of a cell with what stands for letters that XML can't hold (section 22.9.2.19)."""
    return _ESCAPED.sub(lambda match: chr(int(match[1], 16)), text) if "_x" in text else text


@dataclass(slots=True)
class Cell:
    """A cell as it was found. `formula` is its text; of one shared with others, "" but where it is told; `formula_kind`
    and `shared` are its attributes. `start` and `end` are where it stands in the XML."""

    at: int
    text: str = ""
    kind: str = ""
    style: str = ""
    formula: str | None = None
    formula_kind: str = ""
    shared: str = ""
    start: int = 0
    end: int = 0


@dataclass(slots=True)
class Row:
    """A row as it was found."""

    number: int
    start: int
    end: int = 0
    cells: list[Cell] = field(default_factory=list)


class RowReader:
    """Goes through the rows of a sheet. `xml` are its bytes, or those of one row with the `prefix` of its elements.

    At the end, `begin` and `end` are where the rows stood.
    """

    def __init__(self, xml: Any, strings: list[str], prefix: bytes | None = None) -> None:
        self._xml, self._strings = xml, strings
        self.prefix = prefix or b""
        self.begin = self.end = 0
        self._in_data = prefix is not None
        self._row, self._cell = Row(0, 0), Cell(0)
        self._last_row, self._last_at = 0, -1
        self._taking, self._spoken = False, 0
        self._pieces: list[str] = []
        self._rows: list[Row] = []
        self._parser = new_parser()
        self._parser.StartElementHandler, self._parser.EndElementHandler = self._start, self._finish
        self._parser.CharacterDataHandler = self._text

    def __iter__(self) -> Iterator[Row]:
        """The rows, in their order. Raises expat errors."""
        for at in range(0, len(self._xml), _STEP):
            self._parser.Parse(self._xml[at : at + _STEP], False)
            yield from self._rows
            self._rows.clear()
        self._parser.Parse(b"", True)

    def _start(self, name: str, attributes: dict[str, str]) -> None:
        if ":" in name:
            name = local(name)
        if name == "c":
            reference = attributes.get("r")
            self._last_at = number(reference.rstrip("0123456789")) if reference else self._last_at + 1
            kind, style = attributes.get("t", ""), attributes.get("s", "")
            self._cell = Cell(self._last_at, "", kind, style, start=self._parser.CurrentByteIndex)
        elif name == "v" or name == "t":
            self._taking = self._in_data and not self._spoken
        elif name == "f":
            self._taking = self._in_data
            self._cell.formula_kind, self._cell.shared = attributes.get("t", ""), attributes.get("si", "")
        elif name == "row":
            self._last_row, self._last_at = int(attributes.get("r", self._last_row + 1)), -1
            self._row = Row(self._last_row, self._parser.CurrentByteIndex)
        elif name == "rPh":
            self._spoken += 1
        elif name == "sheetData":
            self._in_data = True
            at = self._parser.CurrentByteIndex
            ahead = bytes(self._xml[at : at + 300])
            self.prefix = ahead[1:].split(b"sheetData", 1)[0]
            self.begin = at + ahead.index(b">") + 1

    def _finish(self, name: str) -> None:
        if ":" in name:
            name = local(name)
        if name == "v" or name == "t":
            self._cell.text += self._taken()
        elif name == "c":
            cell = self._cell
            if cell.kind == "s" and cell.text:
                at = int(cell.text)
                cell.text = self._strings[at] if 0 <= at < len(self._strings) else ""
            if cell.kind in _TEXTS:
                cell.text = unescaped(cell.text)
            cell.end = _end(self._xml, self._parser.CurrentByteIndex, self.prefix + b"c")
            self._row.cells.append(cell)
        elif name == "row":
            self._row.end = _end(self._xml, self._parser.CurrentByteIndex, self.prefix + b"row")
            self._rows.append(self._row)
        elif name == "f":
            self._cell.formula = self._taken()
        elif name == "rPh":
            self._spoken -= 1
        elif name == "sheetData":
            self._in_data = False
            self.end = max(self.begin, self._parser.CurrentByteIndex)

    def _taken(self) -> str:
        self._taking = False
        text = "".join(self._pieces)
        self._pieces.clear()
        return text

    def _text(self, data: str) -> None:
        if self._taking:
            self._pieces.append(data)


def _end(xml: Any, at: int, name: bytes) -> int:
    """Where an element ends whose end was met at `at`: behind its end tag, or there for an empty element."""
    closing = b"</" + name
    if xml[at : at + len(closing)] == closing and xml[at + len(closing) : at + len(closing) + 1] in b"> \t\r\n":
        return int(xml.find(b">", at)) + 1
    return at
