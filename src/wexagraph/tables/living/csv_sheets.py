"""A CSV table that people work in (RFC 4180), as whatever program saved it last has left it."""

from __future__ import annotations

import codecs
import csv
import io
import re
import shutil
import tempfile
from collections.abc import Iterator
from pathlib import Path
from typing import Any, BinaryIO

from wexagraph.errors import TargetError
from wexagraph.tables.columns import MARK, cell, read_cell
from wexagraph.tables.living import sheet_xml
from wexagraph.tables.living.keys import messages_in, parse_heading
from wexagraph.tables.living.sheet_xml import Cell, Row, RowReader, unescaped

_PLAIN = re.compile(
    rb'\A(?:<\?xml[^>]*?encoding="UTF-8"[^>]*\?>|<\?xml version="1.0"\?>)?\s*<worksheet[\s>]', re.IGNORECASE
)
_NUMBER = re.compile(rb'<row [^>]*?\br="(\d+)"')
_CELL = re.compile(
    rb'<c r="([A-Z]+)\d+"(?: s="(\d+)")?(?: t="(\w+)")?(?:/>|>'
    rb"(<f[^>]*?(?:/>|>[^<]*</f>))?"
    rb"(?:<v>([^<]*)</v>|<v/>|<is><t(?: xml:space=\"preserve\")?>([^<]*)</t></is>)?</c>)"
)
_FORMULA = re.compile(rb"<f([^>]*?)/?>([^<]*)")
_SHARED = re.compile(rb'\bt="(\w+)"|\bsi="(\d+)"')
_AHEAD = 65_536
_TEXTS = (b"s", b"inlineStr", b"str")
_SEPARATORS = (",", ";", "\t", "|")
_MARKS = ((MARK, "utf-8"), (codecs.BOM_UTF16_LE, "utf-16-le"), (codecs.BOM_UTF16_BE, "utf-16-be"))


class CsvSheet:
    """A table in a CSV file; its one part is itself. Rows that nothing changes stay as they are, to the byte."""

    name = ""

    def __init__(self, path: Path) -> None:
        """Read the head of a file. Raises TargetError where it can't be read."""
        self.path, self.parts, self._file = str(path), [self], path
        csv.field_size_limit(2**30)
        try:
            self._mark, self._encoding = _encoding(path)
            self._begin()
        except (OSError, UnicodeError, csv.Error) as error:
            raise TargetError(f"{path} can't be read as a table: {error}. Nothing was written.") from error
        self._changes: dict[int, dict[int, Any]] = {}
        self._added = tempfile.TemporaryFile()  # noqa: SIM115  closed by close

    def close(self) -> None:
        """Let go of what was to be appended."""
        self._added.close()

    def text(self, value: Any) -> str:
        """What a cell with this value will be read as."""
        return _read(cell(value))

    def rows(self, columns: dict[int, str]) -> Iterator[tuple[int, dict[int, str]]]:
        """Each row by its number, with the texts of those columns."""
        for number, fields, _ in self._records():
            if number > self._heading_row:
                yield number, {at: _read(fields[at]) for at in columns if at < len(fields)}

    def change(self, part: int, row: int, values: dict[int, Any]) -> None:
        """Put values into cells of a row; row 0 is the heading."""
        self._changes.setdefault(row or self._heading_row, {}).update(values)

    @property
    def width(self) -> int:
        """How many columns the longest row has."""
        return max(len(fields) for _, fields, _ in self._records())

    def messages(self) -> frozenset[str]:
        """The messages whose keys seem to stand in it."""
        with open(self._file, "rb") as file:
            return messages_in(file) if self._encoding in ("utf-8", "cp1252") else frozenset()

    def strays(self, messages: set[str]) -> frozenset[str]:
        """See `Sheet.strays`."""
        return self.messages() - messages

    def link(self, columns: set[int]) -> None:
        """A path in CSV is a text."""

    def append(self, values: dict[int, Any]) -> None:
        """A row at the end."""
        fields = [cell(values.get(at)) for at in range(max(self._width, max(values) + 1))]
        self._added.write(self._encoded(self._line(fields)))

    def save(self, file: BinaryIO) -> None:
        """Write the table as it now is."""
        file.write(self._mark)
        last = ""
        for number, fields, raw in self._records():
            values = self._changes.get(number)
            if values:
                cells = [*fields, *[""] * (max(values) + 1 - len(fields))]
                for at, value in values.items():
                    cells[at] = cell(value)
                raw = self._line(cells)
            file.write(self._encoded(raw))
            last = raw
        if last and not last.endswith(("\n", "\r")):
            file.write(self._encoded(self._end))
        self._added.seek(0)
        shutil.copyfileobj(self._added, file, 1 << 20)

    def _begin(self) -> None:
        """Find out the separator, the line end and the heading: the first row with a heading over keys, else the
        first."""
        heads: dict[str, tuple[int, list[str]]] = {}
        for separator in _SEPARATORS:
            self._separator = separator
            first: tuple[int, list[str]] = (0, [])
            for number, fields, raw in self._records():
                if number == 1 or any(parse_heading(field) is not None for field in fields):
                    first = number, fields
                    self._end = "\r\n" if raw.endswith("\r\n") else "\n"
                if number >= 20 or any(parse_heading(field) is not None for field in fields):
                    break
            heads[separator] = first
            if any(parse_heading(field) is not None for field in first[1]):
                break
        else:
            self._separator = max(heads, key=lambda one: len(heads[one][1]))
        self._heading_row, fields = heads[self._separator]
        self.heading = [_read(field) for field in fields]
        self._width = len(fields)

    def _records(self) -> Iterator[tuple[int, list[str], str]]:
        """Each row: its number from 1, its fields, and its text with its line end."""
        raw: list[str] = []

        def kept(lines: Iterator[str]) -> Iterator[str]:
            for line in lines:
                raw.append(line)
                yield line

        with open(self._file, "rb") as file:
            file.seek(len(self._mark))
            text = io.TextIOWrapper(file, self._encoding, _errors(self._encoding), newline="")
            for number, fields in enumerate(csv.reader(kept(_lines(text)), delimiter=self._separator), 1):
                yield number, fields, "".join(raw)
                raw.clear()

    def _line(self, fields: list[str]) -> str:
        out = io.StringIO(newline="")
        csv.writer(out, delimiter=self._separator, lineterminator=self._end).writerow(fields)
        return out.getvalue()

    def _encoded(self, text: str) -> bytes:
        try:
            return text.encode(self._encoding, _errors(self._encoding))
        except UnicodeEncodeError:
            raise TargetError(
                f"{self.path} was saved in an old character set that has no place for all letters of the new rows. "
                "Nothing was written. Save it as UTF-8 in the spreadsheet program and run the same command again."
            ) from None


def _read(text: str) -> str:
    """A cell's text as it compares."""
    return read_cell(text).strip().replace("\r\n", "\n")


def _lines(text: io.TextIOWrapper) -> Iterator[str]:
    """Lines; a carriage return alone ends none, as inside a cell."""
    held = ""
    for line in text:
        held += line
        if held.endswith("\n"):
            yield held
            held = ""
    if held:
        yield held


def _errors(encoding: str) -> str:
    return "surrogateescape" if encoding == "utf-8" else "strict"


def _encoding(path: Path) -> tuple[bytes, str]:
    """The byte order mark and the encoding of a file. What is no UTF-8 is Windows-1252, as spreadsheets save it."""
    with open(path, "rb") as file:
        start = file.read(4)
        for mark, encoding in _MARKS:
            if start.startswith(mark):
                return mark, encoding
        file.seek(0)
        decoder = codecs.getincrementaldecoder("utf-8")()
        try:
            while block := file.read(1 << 20):
                decoder.decode(block)
            decoder.decode(b"", final=True)
        except UnicodeDecodeError:
            return b"", "cp1252"
    return b"", "utf-8"


class _Columns(dict[bytes, int]):
    """The numbers of columns by their letters."""

    def __missing__(self, letters: bytes) -> int:
        self[letters] = sheet_xml.number(letters.decode())
        return self[letters]


class _Words(dict[bytes, str]):
    """Attributes as texts."""

    def __missing__(self, word: bytes) -> str:
        self[word] = word.decode()
        return self[word]


def _unescaped(text: str) -> str:
    text = text.replace("&lt;", "<").replace("&gt;", ">").replace("&quot;", '"').replace("&apos;", "'")
    return text.replace("&amp;", "&")


class QuickReader:
    """As `RowReader`, for a sheet that `takes` has looked at; but its cells do not know where they stand."""

    prefix = b""

    def __init__(self, xml: Any, strings: list[str]) -> None:
        self._xml, self._strings = xml, strings
        self.begin = xml.find(b"<sheetData>") + len(b"<sheetData>")
        self.end = xml.rfind(b"</sheetData>")
        self._columns, self._words = _Columns(), _Words()

    @staticmethod
    def takes(xml: Any) -> bool:
        """Whether a sheet is made as most are: UTF-8, no prefixes, no comments."""
        if _PLAIN.match(xml[:_AHEAD]) is None or xml.find(b"<!") >= 0:
            return False
        return xml.find(b"<sheetData>") >= 0 and xml.rfind(b"</sheetData>") >= 0

    def __iter__(self) -> Iterator[Row]:
        """The rows, in their order. Raises expat errors."""
        xml, at = self._xml, self.begin
        while (start := xml.find(b"<row", at, self.end)) >= 0:
            head = xml.find(b">", start) + 1
            at = head if xml[head - 2 : head] == b"/>" else xml.find(b"</row>", head) + len(b"</row>")
            numbered = _NUMBER.match(xml[start:head])
            row = self._row(xml[head : at - len(b"</row>")], int(numbered[1]), start, at) if numbered else None
            yield row or self._slowly(xml[start:at], start)

    def _row(self, content: bytes, row_number: int, start: int, end: int) -> Row | None:
        """A row; None where something in it is of another make."""
        matches = _CELL.findall(content)
        if len(matches) != content.count(b"<c ") or b"<c>" in content or b"&#" in content or b"\r" in content:
            return None
        cells: list[Cell] = []
        strings, at_of, word_of = self._strings, self._columns, self._words
        for letters, style, kind, formula, value, inline in matches:
            if kind == b"s":
                text = strings[int(value)] if value else ""
            else:
                text = (value or inline).decode()
                if "&" in text:
                    text = _unescaped(text)
            if "_x" in text and kind in _TEXTS:
                text = unescaped(text)
            one = Cell(at_of[letters], text, word_of[kind], word_of[style])
            if formula:
                attributes, text_of_formula = _FORMULA.findall(formula)[0]
                one.formula = _unescaped(text_of_formula.decode())
                for form, shared in _SHARED.findall(attributes):
                    one.formula_kind, one.shared = form.decode() or one.formula_kind, shared.decode() or one.shared
            cells.append(one)
        return Row(row_number, start, end, cells)

    def _slowly(self, fragment: bytes, start: int) -> Row:
        row = next(iter(RowReader(fragment, self._strings, b"")))
        return Row(row.number, start, start + len(fragment), row.cells)


def reader(xml: Any, strings: list[str]) -> RowReader | QuickReader:
    """What reads the rows of a sheet."""
    return QuickReader(xml, strings) if QuickReader.takes(xml) else RowReader(xml, strings)
