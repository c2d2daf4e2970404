"""A sheet of a workbook that people work in: what is read of it, and what is written into it (ISO/IEC 29500)."""

from __future__ import annotations

import mmap
import re
import shutil
import tempfile
from array import array
from bisect import bisect_left, bisect_right
from collections import Counter, deque
from collections.abc import Iterator
from typing import Any, BinaryIO
from urllib.parse import quote
from xml.sax.saxutils import escape

from wexagraph.errors import TargetError
from wexagraph.tables.living import ranges
from wexagraph.tables.living.csv_sheets import reader
from wexagraph.tables.living.keys import parse_heading
from wexagraph.tables.living.packages import RELATIONSHIPS, Package, before_end, prefixed
from wexagraph.tables.living.sheet_xml import Cell, Row, RowReader, cell, clean, letters, moment_of, number

_MOST_LINKS = 65_000
_FEW, _MOST_OF = 3, 0.8
_SAMPLE = 500  # rows by which new ones are made alike
_MOST_HEAD = 50  # rows among which the headings are looked for
_LINKS_BEFORE = (
    *("printOptions", "pageMargins", "pageSetup", "headerFooter", "rowBreaks", "colBreaks", "customProperties"),
    *("cellWatches", "ignoredErrors", "smartTags", "drawing", "legacyDrawing", "legacyDrawingHF", "picture"),
    *("oleObjects", "controls", "webPublishItems", "tableParts", "extLst"),
)
"""What comes behind the links of a sheet (section 18.3.1.99)."""


class XlsxPart:
    """A sheet with keys: its headings and rows, and what is to be written into it."""

    def __init__(self, package: Package, name: str, part: str, strings: list[str]) -> None:
        self.name, self.part = name, part
        self._package, self._strings = package, strings
        self._file = tempfile.TemporaryFile()  # noqa: SIM115  closed by close
        with package.open(part) as stream:
            shutil.copyfileobj(stream, self._file, 1 << 20)
        self._file.flush()
        self._xml = mmap.mmap(self._file.fileno(), 0, access=mmap.ACCESS_READ)
        self.heading: list[str] = []
        self.heading_row = self.last = 0
        self._numbers, self._starts, self._ends = array("Q"), array("Q"), array("Q")
        self._styles: dict[int, Counter[str]] = {}
        self._formulas: dict[int, tuple[int, int, Cell]] = {}
        self._masters: dict[str, tuple[int, int, str]] = {}
        self._usual: dict[int, str] = {}
        self._sampled = self._last_used = 0
        self.changes: dict[int, dict[int, Any]] = {}
        self.added = tempfile.TemporaryFile()  # noqa: SIM115  closed by close
        self.next = 0
        self._links: list[tuple[str, str]] = []
        self.link_columns: set[int] = set()
        self.carried = False
        self._find_heading()

    def close(self) -> None:
        """Let go of what is held open."""
        self._xml.close()
        self._file.close()
        self.added.close()

    @property
    def has_keys(self) -> bool:
        """Whether a heading over keys stands in it."""
        return any(parse_heading(text) is not None for text in self.heading)

    @property
    def width(self) -> int:
        """How many columns are in use, as the program that saved the sheet last has told it."""
        dimension = re.search(rb'<(?:[\w.-]+:)?dimension\s[^<>]*ref="(?:[A-Z]+\d+:)?([A-Z]{1,3})\d+"', self._xml[:4096])
        return number(dimension[1].decode()) + 1 if dimension else 0

    def _find_heading(self) -> None:
        for row in reader(self._xml, self._strings):
            if row.number > _MOST_HEAD:
                return
            texts = {one.at: one.text.strip() for one in row.cells if one.text}
            if any(parse_heading(text) is not None for text in texts.values()):
                self.heading_row = row.number
                self.heading = [texts.get(at, "") for at in range(max(texts) + 1)]
                return

    def rows(self, columns: dict[int, str]) -> Iterator[tuple[int, dict[int, str]]]:
        """Each row below the headings, with the texts of those columns. What new rows need to know of it is kept."""
        numbers, starts, ends = array("Q"), array("Q"), array("Q")
        key = next((at for at, text in enumerate(self.heading) if parse_heading(text) is not None), -1)
        recent: deque[Row] = deque(maxlen=_SAMPLE)
        all_rows = reader(self._xml, self._strings)
        for row in all_rows:
            numbers.append(row.number)
            starts.append(row.start)
            ends.append(row.end)
            texts, used = dict[int, str](), False
            for one in row.cells:
                if one.formula is not None:
                    used = True
                    if one.shared and one.formula:
                        self._masters[one.shared] = (one.at, row.number, one.formula)
                if one.text:
                    used = True
                    if one.at in columns:
                        texts[one.at] = self._text(one, columns[one.at])
            if not used:
                continue
            self._last_used = max(self._last_used, row.number)
            if row.number > self.heading_row:
                if texts.get(key):
                    recent.append(row)
                yield row.number, texts
        self._numbers, self._starts, self._ends = numbers, starts, ends
        self._begin, self._stop, self.prefix = all_rows.begin, all_rows.end, all_rows.prefix
        self._learn(recent)

    def _learn(self, recent: deque[Row]) -> None:
        """Keep of the last rows what new ones will look like."""
        self._styles, self._formulas, self._sampled = {}, {}, len(recent)
        for row in recent:
            self.last = max(self.last, row.number)
            for one in row.cells:
                self._styles.setdefault(one.at, Counter())[one.style] += 1
                if one.formula is not None:
                    count = self._formulas[one.at][0] if one.at in self._formulas else 0
                    self._formulas[one.at] = (count + 1, row.number, one)

    def _text(self, one: Cell, kind: str) -> str:
        text = one.text
        if one.kind == "" or one.kind == "n":
            if kind == "moment":
                moment = moment_of(float(text), self._package.counts_from_1904)
                return moment.isoformat() if moment else text
            return plain_number(text)
        return text.strip() if "\r" not in text else text.strip().replace("\r\n", "\n")

    def settle(self) -> None:
        """Make ready for new rows, once all old ones were read. Raises TargetError where there is no place for them."""
        self._cols = ranges.column_styles(bytes(self._xml[: self._begin]))
        self._tables = [(name, self._package.read(name)) for name in self._package.tables(self.part)]
        ours = [(name, xml) for name, xml in self._tables if ranges.holds(xml, self.heading_row)]
        self._table = ours[0][0] if ours else ""
        end = ranges.table_end(ours[0][1]) if ours else 0
        self._totals = end if ours and ranges.has_totals(ours[0][1]) else 0
        self.last = max(self.last, self.heading_row)
        self._lasts = {self.last, end - bool(self._totals)}
        if self._totals:
            if self._last_used > self._totals:
                raise TargetError(
                    f"{self._package.path}: cells stand below the row of totals, where new rows belong. Nothing was "
                    "written. Move them to another sheet and run the same command again."
                )
            self.next = self._totals
        else:
            self.next = max(self._last_used, self.heading_row) + 1
        formulas = {at: one for at, one in self._formulas.items() if one[0] * 2 > self._sampled}
        self._carry = {
            at: self._master(one[1], one[2]) for at, one in formulas.items() if one[2].formula_kind != "array"
        }
        self._first_new = self.next

    def _master(self, row: int, one: Cell) -> tuple[str, str]:
        """A formula to be carried on, and the cell it is of."""
        if one.shared and not one.formula:
            at, number, formula = self._masters.get(one.shared, (one.at, row, ""))
            return formula, f"{letters(at)}{number}"
        return one.formula or "", f"{letters(one.at)}{row}"

    def append(self, values: dict[int, Any]) -> None:
        """A row at the end, in the looks of those above it, with the formulas of their columns."""
        row, cells = self.next, dict[int, str]()
        for at, value in values.items():
            cells[at] = cell(at, row, value, self._style(at), self._package.counts_from_1904)
            self._link(at, row, value)
        for at, (formula, origin) in self._carry.items():
            if at not in values and formula:
                cells[at] = _formula(at, row, formula, origin, self._style(at))
                self.carried = True
        for at in self._styles:
            if at not in cells and self._style(at):
                cells[at] = cell(at, row, None, self._style(at))
        xml = f'<row r="{row}">{"".join(cells[at] for at in sorted(cells))}</row>'
        self.added.write(prefixed(xml, self.prefix[:-1] or None))
        self.next += 1

    def _style(self, at: int) -> str:
        """The look that most cells of a column have, as an attribute."""
        if at not in self._usual:
            usual = self._cols.get(at, "")
            counts = Counter(self._styles.get(at, ()))
            counts[usual] += self._sampled - counts.total()  # cells that are not there look as their column does
            style = max(counts, key=lambda one: (counts[one], one == usual))
            if usual and (self._sampled < _FEW or counts[style] < _MOST_OF * self._sampled):
                style = usual  # what stands out in some rows is of those rows
            self._usual[at] = f' s="{style}"' if style else ""
        return self._usual[at]

    def _link(self, at: int, row: int, value: Any) -> None:
        if at in self.link_columns and value and len(self._links) < _MOST_LINKS:
            self._links.append((f"{letters(at)}{row}", quote(value.split("; ")[0])))

    def parts(self) -> dict[str, Any]:
        """The parts of the package that are to be written anew, each by a function."""
        grown = self.next > self._first_new
        new_last = self.next - 1 if grown else self.last
        width = max((at for values in self.changes.values() for at in values), default=0)
        for at in {at for values in self.changes.values() for at in values} & self.link_columns:
            for row, values in self.changes.items():
                if at in values and row != self.heading_row:
                    self._link(at, row, values[at])
        if self._table:
            xml = self._package.read(self._table)
            names = {at: clean(str(value)) for at, value in self.changes.get(self.heading_row, {}).items()}
            self._package.parts[self._table] = ranges.grown_table(xml, new_last, names)
        head, tail = bytes(self._xml[: self._begin]), bytes(self._xml[self._stop :])
        head = re.sub(rb"<(?:[\w.-]+:)?dimension\s[^<>]*/>", b"", head)
        if grown:
            tail = ranges.grown_areas(tail, self.heading_row + 1, self._lasts, new_last)
        tail = ranges.grown_filter(tail, self.heading_row, new_last, width)
        tail = self._with_links(tail)

        def write(out: BinaryIO) -> None:
            out.write(head)
            self._write_rows(out, new_last)
            out.write(tail)

        return {self.part: write}

    def names(self, xml: bytes) -> bytes:
        """The workbook's part, with the names of this sheet's ranges grown by the new rows."""
        if self.next == self._first_new:
            return xml
        return ranges.grown_names(xml, self.name, self.heading_row + 1, self._lasts, self.next - 1)

    def _write_rows(self, out: BinaryIO, new_last: int) -> None:
        """The old rows with their changes, and the new ones behind the last that is in use."""
        at = self._begin
        stop = self._place_of_new()
        for row in sorted(self.changes):
            place = bisect_left(self._numbers, row)
            start, end = self._starts[place], self._ends[place]
            self._copy(out, at, start)
            out.write(self._changed(bytes(self._xml[start:end]), row, self.changes[row]))
            at = end
        self._copy(out, at, stop)
        self.added.seek(0)
        shutil.copyfileobj(self.added, out, 1 << 20)
        for place in range(bisect_left(self._numbers, self._first_new), len(self._numbers)):
            fragment = bytes(self._xml[self._starts[place] : self._ends[place]])
            if self._numbers[place] == self._totals and self.next > self._first_new:
                out.write(ranges.moved_row(fragment, self._totals, self.next, self._lasts, new_last))
            elif self._numbers[place] >= self.next:
                out.write(fragment)

    def _place_of_new(self) -> int:
        place = bisect_right(self._numbers, self._first_new - 1)
        return self._starts[place] if place < len(self._starts) else self._stop

    def _copy(self, out: BinaryIO, start: int, end: int) -> None:
        for at in range(start, end, 1 << 20):
            out.write(self._xml[at : min(at + (1 << 20), end)])

    def _changed(self, fragment: bytes, row: int, values: dict[int, Any]) -> bytes:
        """A row with values in some of its cells; each keeps its look."""
        old_row = next(iter(RowReader(fragment, self._strings, self.prefix)), None) or _only_row(fragment, self)
        cells = {one.at: one for one in old_row.cells}
        edits: list[tuple[int, int, bytes]] = []
        for at in sorted(values):
            old = cells.get(at)
            style = (
                (f' s="{old.style}"' if old.style else "") if old else self._style(at) if row > self.heading_row else ""
            )
            new = prefixed(cell(at, row, values[at], style, self._package.counts_from_1904), self.prefix[:-1] or None)
            if old is not None:
                edits.append((old.start, old.end, new))
            else:
                place = next((one.start for one in old_row.cells if one.at > at), fragment.rindex(b"</"))
                edits.append((place, place, new))
        out, last = b"", 0
        for start, end, new in edits:
            out += fragment[last:start] + new
            last = end
        out += fragment[last:]
        return re.sub(rb'^(<[^<>]*?)\sspans="[^"]*"', rb"\1", out)

    def _with_links(self, tail: bytes) -> bytes:
        if not self._links:
            return tail
        cells = {reference for reference, _ in self._links}
        tail = ranges.without_links(tail, cells)
        room = _MOST_LINKS - ranges.links_in(tail)
        links = self._links[: max(room, 0)]
        ids = self._package.relate_many(self.part, "hyperlink", [target for _, target in links], outside=True)
        xml = "".join(
            f'<hyperlink ref="{reference}" xmlns:r="{RELATIONSHIPS}" r:id="{id}"/>'
            for (reference, _), id in zip(links, ids, strict=True)
        )
        if ranges.has_element(tail, "hyperlinks"):
            return before_end(tail, "hyperlinks", xml)
        new = prefixed(f"<hyperlinks>{xml}</hyperlinks>", self.prefix[:-1] or None)
        place = ranges.place_before(tail, _LINKS_BEFORE)
        return tail[:place] + new + tail[place:]

    def copy_without_rows(self) -> bytes:
        """A sheet with the headings of this one and no rows, for what it has no room for."""
        place = bisect_left(self._numbers, self.heading_row)
        heading = bytes(self._xml[self._starts[place] : self._ends[place]])
        if self.heading_row in self.changes:
            heading = self._changed(heading, self.heading_row, self.changes[self.heading_row])
        head = ranges.as_another_sheet(bytes(self._xml[: self._begin]))
        return head + heading + ranges.plain_tail(bytes(self._xml[self._stop :]))


def plain_number(text: str) -> str:
    """A number as all programs would write it."""
    if text.isdecimal() and text[0] != "0" and len(text) < 15:
        return text
    try:
        value = float(text)
    except ValueError:
        return text
    return str(int(value)) if value.is_integer() and abs(value) < 1e15 else repr(value)


def _formula(at: int, row: int, formula: str, origin: str, style: str) -> str:
    """A cell with a formula as it would be if it had been copied there."""
    from openpyxl.formula.translate import Translator

    text = Translator(f"={formula}", origin=origin).translate_formula(f"{letters(at)}{row}")
    return f'<c r="{letters(at)}{row}"{style}><f>{escape(text[1:])}</f></c>'


def _only_row(fragment: bytes, part: XlsxPart) -> Row:
    raise TargetError(f"a row of {part.name} can't be read: {fragment[:60]!r}. Nothing was written.")
