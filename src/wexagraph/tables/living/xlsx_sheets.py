"""A workbook that people work in, changed where it has to be and nowhere else (ISO/IEC 29500)."""

from __future__ import annotations

from pathlib import Path
from typing import Any, BinaryIO
from xml.sax.saxutils import quoteattr

from wexagraph.errors import TargetError
from wexagraph.tables.columns import cell as as_text
from wexagraph.tables.living import ranges
from wexagraph.tables.living.keys import messages_in
from wexagraph.tables.living.packages import CONTENT_TYPES, RELATIONSHIPS, UNREADABLE, Package, before_end, elements
from wexagraph.tables.living.sheet_xml import clean
from wexagraph.tables.living.xlsx_parts import XlsxPart, plain_number

MOST_ROWS = 1_048_576


class XlsxSheet:
    """A table in a workbook; each sheet with keys is a part of it."""

    def __init__(self, path: Path) -> None:
        """Open a workbook. Raises TargetError where it can't be read."""
        self.path = str(path)
        self._package = Package(path)
        self.parts: list[XlsxPart] = []
        try:
            self._strings = self._package.strings()
            for name, part in self._package.sheets():
                one = XlsxPart(self._package, name, part, self._strings)
                if one.has_keys:
                    self.parts.append(one)
                else:
                    one.close()
        except (*UNREADABLE, OSError) as error:
            self.close()
            raise TargetError(f"{path} can't be read as a workbook: {error}. Nothing was written.") from error
        self._settled = False
        self._link_columns: set[int] = set()

    def close(self) -> None:
        """Close the file."""
        for part in self.parts:
            part.close()
        self._package.close()

    def text(self, value: Any) -> str:
        """What a cell with this value will be read as."""
        if isinstance(value, str):
            return clean(value).strip()
        if value is None:
            return ""
        if isinstance(value, (int, float)):
            return plain_number(str(value))
        return as_text(value.replace(tzinfo=None, microsecond=0))

    def messages(self) -> frozenset[str]:
        """The messages whose keys seem to stand in it."""
        messages: frozenset[str] = frozenset()
        for part in (*(one.part for one in self.parts), *self._package.string_parts()):
            with self._package.open(part) as file:
                messages |= messages_in(file)
        return messages

    def strays(self, messages: set[str]) -> frozenset[str]:
        """See `Sheet.strays`: strings that no cell has any more may stay in a workbook."""
        return frozenset()

    def link(self, columns: set[int]) -> None:
        """Columns of the last part whose texts are paths that lie beside the workbook."""
        self._link_columns = columns

    def change(self, part: int, row: int, values: dict[int, Any]) -> None:
        """Put values into cells of a row; row 0 is the heading."""
        one = self.parts[part]
        one.changes.setdefault(row or one.heading_row, {}).update(values)

    def append(self, values: dict[int, Any]) -> None:
        """A row at the end of the last sheet; of the next one where that is full."""
        self._settle()
        if self.parts[-1].next > MOST_ROWS:
            self._add_sheet()
        self.parts[-1].append(values)

    def _settle(self) -> None:
        if self._settled:
            return
        try:
            for part in self.parts:
                part.settle()
                part.link_columns = self._link_columns
        except UNREADABLE as error:
            raise TargetError(f"{self.path} can't be read as a workbook: {error}. Nothing was written.") from error
        self._settled = True

    def _add_sheet(self) -> None:
        """A further sheet with the same headings."""
        package, last = self._package, self.parts[-1]
        numbers = (n for n in range(2, 10_000) if f"xl/worksheets/register{n}.xml" not in package)
        part = f"xl/worksheets/register{next(numbers)}.xml"
        names = {name.casefold() for name, _ in package.sheets()}
        stem = last.name[:24].removesuffix(f" {len(self.parts)}")
        name = next(text for n in range(2, 10_000) if (text := f"{stem} {n}").casefold() not in names)
        package.parts[part] = last.copy_without_rows()
        xml = package.read(package.workbook)
        used = [int(values.get("sheetId", 0)) for tag, values in elements(xml) if tag == "sheet"]
        id = package.relate(package.workbook, "worksheet", f"/{part}")
        sheet = f'<sheet name={quoteattr(name)} sheetId="{max(used) + 1}" xmlns:r="{RELATIONSHIPS}" r:id="{id}"/>'
        package.parts[package.workbook] = before_end(xml, "sheets", sheet)
        kind = "application/vnd.openxmlformats-officedocument.spreadsheetml.worksheet+xml"
        override = f'<Override PartName="/{part}" ContentType="{kind}"/>'
        package.parts[CONTENT_TYPES] = before_end(package.read(CONTENT_TYPES), "Types", override)
        one = XlsxPart(package, name, part, self._strings)
        for _ in one.rows({}):
            pass
        one.settle()
        one.link_columns = self._link_columns
        self.parts.append(one)

    def save(self, file: BinaryIO) -> None:
        """Write the workbook as it now is."""
        self._settle()
        package, streams = self._package, dict[str, Any]()
        workbook = package.read(package.workbook)
        for part in self.parts:
            streams |= part.parts()
            workbook = part.names(workbook)
        if any(part.carried for part in self.parts):
            workbook = ranges.calculated_anew(workbook)
        if workbook != package.read(package.workbook):
            package.parts[package.workbook] = workbook
        for name in streams:
            package.parts.pop(name, None)
        package.save(file, streams)
