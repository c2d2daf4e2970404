"""What of a workbook names ranges of rows, and grows with them: tables, filters, formats, checks, names, totals."""

from __future__ import annotations

import re
from collections.abc import Iterable
from xml.sax.saxutils import quoteattr, unescape

from wexagraph.tables.living.packages import before_end, elements
from wexagraph.tables.living.sheet_xml import letters, number

_AREA = re.compile(r"(\$?)([A-Z]{1,3})(\$?)(\d{1,7})(?::(\$?)([A-Z]{1,3})(\$?)(\d{1,7}))?")
_REFERENCE = re.compile(rb'(\s(?:sqref|ref)=")([^"]*)(")')
_TAG = rb"<(?:[\w.-]+:)?"


def grown(area: str, first: int, lasts: set[int], new_last: int) -> str:
    """A range that reaches down to the last row (one of `lasts`), with the new ones; others as they are.

    A range of that last row alone grows only where it is the first one too.
    """

    def more(match: re.Match[str]) -> str:
        start, end = int(match[4]), int(match[8] or match[4])
        if end not in lasts or (start == end and first != end):
            return match[0]
        left = match[0].partition(":")[0]
        if match[8]:
            return f"{left}:{match[5]}{match[6]}{match[7]}{new_last}"
        return f"{left}:{match[1]}{match[2]}{match[3]}{new_last}"

    return _AREA.sub(more, area)


def grown_areas(tail: bytes, first: int, lasts: set[int], new_last: int) -> bytes:
    """What stands behind the rows of a sheet: conditional formats and checks of the last row hold for new ones."""

    def more(match: re.Match[bytes]) -> bytes:
        return match[1] + grown(match[2].decode(), first, lasts, new_last).encode() + match[3]

    tail = re.sub(
        _TAG + rb"(?:conditionalFormatting|dataValidation|ignoredError)\s[^<>]*>",
        lambda element: _REFERENCE.sub(more, element[0]),
        tail,
    )
    return re.sub(rb"((?:<xm:sqref>))([^<]*)(</xm:sqref>)", more, tail)


def grown_filter(tail: bytes, heading_row: int, new_last: int, width: int) -> bytes:
    """The filter of a sheet, down to the last row."""

    def more(match: re.Match[bytes]) -> bytes:
        return match[1] + _to_row(match[2].decode(), heading_row, new_last, width).encode() + match[3]

    return re.sub(_TAG + rb"autoFilter\s[^<>]*>", lambda element: _REFERENCE.sub(more, element[0]), tail)


def _to_row(reference: str, heading_row: int, new_last: int, width: int = 0) -> str:
    """A range that begins at the headings, down to a row, and as far to the right as there are columns."""
    match = _AREA.fullmatch(reference)
    if match is None or int(match[4]) != heading_row or not match[8]:
        return reference
    right = letters(max(number(match[6]), width))
    return f"{match[1]}{match[2]}{match[3]}{match[4]}:{match[5]}{right}{match[7]}{max(new_last, int(match[8]))}"


def holds(table: bytes, heading_row: int) -> bool:
    """Whether a table begins at the headings."""
    match = _AREA.fullmatch(_attribute(table, "table", "ref"))
    return match is not None and int(match[4]) == heading_row


def table_end(table: bytes) -> int:
    """The last row of a table, that of its totals included."""
    match = _AREA.fullmatch(_attribute(table, "table", "ref"))
    return int(match[8] or match[4]) if match else 0


def has_totals(table: bytes) -> bool:
    """Whether the last row of a table holds totals."""
    return _attribute(table, "table", "totalsRowCount") not in ("", "0")


def _attribute(xml: bytes, tag: str, name: str) -> str:
    return next((values.get(name, "") for local, values in elements(xml) if local == tag), "")


def grown_table(table: bytes, new_last: int, headings: dict[int, str]) -> bytes:
    """A table down to its new last row, with headings that are new or have changed (by their columns). It never gets
    shorter: rows of the office's own at its end are in it."""
    match = _AREA.fullmatch(_attribute(table, "table", "ref"))
    if match is None or not match[8]:
        return table
    left, right, heading_row = number(match[2]), number(match[6]), int(match[4])
    width = max([right, *headings])
    totals = has_totals(table)
    end = max(new_last, heading_row + 1, int(match[8]) - totals)

    def reference(element: re.Match[bytes]) -> bytes:
        last = end + (totals if b"autoFilter" not in element[0].split(None, 1)[0] else 0)
        new = f"{match[2]}{heading_row}:{letters(width)}{last}"
        return re.sub(rb'(\sref=")[^"]*', rb"\g<1>" + new.encode(), element[0])

    table = re.sub(_TAG + rb"(?:table|autoFilter)\s[^<>]*>", reference, table)
    names = re.findall(_TAG + rb"tableColumn\s[^<>]*?>", table)
    for at, text in headings.items():
        if left <= at <= right and at - left < len(names):
            old = names[at - left]
            table = table.replace(old, re.sub(rb'\sname="[^"]*"', _named(text), old), 1)
    new = [text for at, text in sorted(headings.items()) if at > right]
    if new:
        ids = [int(id) for id in re.findall(rb'tableColumn\s[^<>]*?\bid="(\d+)"', table)]
        more = "".join(
            f'<tableColumn id="{max(ids, default=0) + turn}" name={quoteattr(_escaped(text))}/>'
            for turn, text in enumerate(new, 1)
        )
        table = before_end(table, "tableColumns", more)
        count = f'\\1 count="{len(names) + len(new)}"'.encode()
        table = re.sub(rb'(<(?:[\w.-]+:)?tableColumns)\s+count="\d+"', count, table, count=1)
    return table


def _named(text: str) -> bytes:
    return f" name={quoteattr(_escaped(text))}".encode().replace(b"\\", b"\\\\")


def _escaped(text: str) -> str:
    return text.replace("\n", "_x000a_")


def grown_names(workbook: bytes, sheet: str, first: int, lasts: set[int], new_last: int) -> bytes:
    """Names that stand for ranges of a sheet down to its last row, with the new rows."""

    def more(match: re.Match[bytes]) -> bytes:
        text = unescape(match[2].decode())
        name, mark, area = text.rpartition("!")
        of = name.strip("'").replace("''", "'")
        match_of_area = _AREA.fullmatch(area)
        if not mark or of != sheet or not match_of_area or int(match_of_area[4]) > first:
            return match[0]
        return (
            match[1] + match[2][: match[2].rindex(b"!") + 1] + grown(area, first, lasts, new_last).encode() + match[3]
        )

    return re.sub(rb"(<(?:[\w.-]+:)?definedName\s[^<>]*>)([^<]*)(</)", more, workbook)


def calculated_anew(workbook: bytes) -> bytes:
    """A workbook whose formulas are calculated when it is opened: those carried on have no values yet."""
    calc = re.search(rb"<(?:[\w.-]+:)?calcPr\b[^<>]*?/?>", workbook)
    if calc is not None:
        if b"fullCalcOnLoad" in calc[0]:
            return workbook
        end = calc.start() + (len(calc[0]) - (2 if calc[0].endswith(b"/>") else 1))
        return workbook[:end] + b' fullCalcOnLoad="1"' + workbook[end:]
    for tag in (b"definedNames", b"externalReferences", b"functionGroups", b"sheets"):
        match = re.search(rb"</((?:[\w.-]+:)?)" + tag + rb"\s*>", workbook)
        if match is not None:
            calc_pr = b"<" + match[1] + b'calcPr fullCalcOnLoad="1"/>'
            return workbook[: match.end()] + calc_pr + workbook[match.end() :]
    return workbook


def column_styles(head: bytes) -> dict[int, str]:
    """The look of each column that has one for its empty cells."""
    styles: dict[int, str] = {}
    for col in re.findall(_TAG + rb"col\s[^<>]*>", head):
        values = dict(re.findall(rb'(\w+)="([^"]*)"', col))
        if values.get(b"style", b"0") != b"0":
            first, last = int(values[b"min"]), min(int(values[b"max"]), 200)
            styles |= dict.fromkeys(range(first - 1, last), values[b"style"].decode())
    return styles


def moved_row(row: bytes, old: int, new: int, lasts: set[int], new_last: int) -> bytes:
    """The row of totals at its new place; what it sums up reaches to the new last row."""
    row = re.sub(rb'(<[^<>]*?\sr=")' + str(old).encode() + rb'"', rb"\g<1>" + str(new).encode() + b'"', row, count=1)
    row = re.sub(rb'(\sr="[A-Z]{1,3})' + str(old).encode() + rb'"', rb"\g<1>" + str(new).encode() + b'"', row)

    def formula(match: re.Match[bytes]) -> bytes:
        return match[1] + grown(match[2].decode(), 0, lasts, new_last).encode() + match[3]

    return re.sub(rb"(<(?:[\w.-]+:)?f(?:\s[^<>]*)?>)([^<]*)(</)", formula, row)


def has_element(xml: bytes, tag: str) -> bool:
    """Whether an element stands in the XML."""
    return re.search(_TAG + tag.encode() + rb"[\s/>]", xml) is not None


def place_before(xml: bytes, tags: Iterable[str]) -> int:
    """Where the first of some elements begins; else where the outermost one ends."""
    names = b"|".join(tag.encode() for tag in tags)
    match = re.search(_TAG + rb"(?:" + names + rb")[\s/>]", xml)
    return match.start() if match else xml.rindex(b"</")


def links_in(tail: bytes) -> int:
    """How many links a sheet has."""
    return len(re.findall(_TAG + rb"hyperlink\s", tail))


def without_links(tail: bytes, cells: set[str]) -> bytes:
    """A sheet without the links of those cells."""

    def kept(match: re.Match[bytes]) -> bytes:
        return b"" if match[1].decode() in cells else match[0]

    return re.sub(_TAG + rb'hyperlink\s[^<>]*?\bref="([^"]*)"[^<>]*/>', kept, tail)


def as_another_sheet(head: bytes) -> bytes:
    """The beginning of a sheet for another one: not selected, without a name for macros."""
    return re.sub(rb'\s(?:tabSelected|codeName|xr:uid)="[^"]*"', b"", head)


def plain_tail(tail: bytes) -> bytes:
    """The end of a sheet with what it is printed by, and nothing that is of this sheet alone."""
    kept = re.findall(_TAG + rb"(?:printOptions|pageMargins|pageSetup)\s[^<>]*/>", tail)
    footer = re.search(_TAG + rb"headerFooter[\s>].*?</(?:[\w.-]+:)?headerFooter>", tail, re.DOTALL)
    plain = [re.sub(rb'\s\w+:id="[^"]*"', b"", one) for one in kept]
    start = tail[: tail.index(b">") + 1]
    return start + b"".join(plain) + (footer[0] if footer else b"") + tail[tail.rindex(b"</") :]
