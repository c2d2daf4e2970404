"""The rows of a worksheet as nearly all programs write them, found without a parser: several times as quick.

Sheets and rows of another make are left to `sheet_xml.RowReader`, which takes all that the standard allows.
"""

from __future__ import annotations

import re
from collections.abc import Iterator
from typing import Any

from wexagraph.tables.living.sheet_xml import Cell, Row, RowReader, number, unescaped

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


class _Columns(dict[bytes, int]):
    """The numbers of columns by their letters."""

    def __missing__(self, letters: bytes) -> int:
        self[letters] = number(letters.decode())
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
