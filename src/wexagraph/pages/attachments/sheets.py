"""Tables: CSV and workbooks (ECMA-376) as HTML. No formula is computed, no link followed."""

from __future__ import annotations

import csv
import io
import re
import zipfile
from collections.abc import Iterator
from datetime import date, datetime, time, timedelta
from html import escape
from typing import Any

from wexagraph.languages import ENGLISH
from wexagraph.messages.charsets import decode
from wexagraph.notes import Note
from wexagraph.pages.attachments.charts import MOST_CHARTS, chart_title, draw
from wexagraph.text import without_controls

_PART = re.compile(r'"[^"]*"|\\.|\[[^\]]*\]|_.|\*.|[^"\\\[_*]')
_DIGITS = re.compile(r"[#0?](?:[#0?,]*[#0?])?,*(?:\.[#0?]*)?(?:[eE][+-][#0?]+)?|\.[#0?]+")
_DATE = re.compile(r'"[^"]*"|\\.|\[h+\]|\[[^\]]*\]|y+|m+|d+|h+|s+(?:\.0+)?|am/pm|a/p|.', re.IGNORECASE)
_OF_READERS = {
    "mm-dd-yy": "{day}",
    "d-mmm-yy": "d MMM y",
    "d-mmm": "d MMM",
    "mmm-yy": "MMM y",
    "h:mm AM/PM": "{clock}",
    "h:mm:ss AM/PM": "{seconds}",
    "m/d/yy h:mm": "{day} HH:mm",
}
"""Forms that a workbook names by number alone, as they are called here, with patterns of CLDR."""
_MONTHS = "January February March April May June July August September October November December".split()
_DAYS = "Monday Tuesday Wednesday Thursday Friday Saturday Sunday".split()
MOST_ROWS, MOST_COLUMNS, MOST_UNPACKED = 20_000, 200, 300 * 1024 * 1024
MOST_CELLS = 100_000
"""Cells of a table that are set; each takes an engine two kilobytes."""
_LANDSCAPE_WIDTH = 960
_MOST_MERGED = 1_000_000
_MERGED = re.compile(rb'<(?:\w+:)?mergeCell\s[^>]*?ref="([A-Z]{1,3}\d{1,7}:[A-Z]{1,3}\d{1,7})"')


def csv_table(content: bytes, delimiter: str = "") -> tuple[str, list[Note]]:
    """A CSV or TSV file as a table whose head is repeated on every page."""
    text, notes = decode(content)
    text = without_controls(text.removeprefix("\ufeff"))
    if not delimiter:
        first = text[:4000]
        delimiter = max(",;\t|", key=lambda mark: first.count(mark))
    csv.field_size_limit(1 << 24)
    rows = list(csv.reader(io.StringIO(text, newline=""), delimiter=delimiter))
    columns = min(max(map(len, rows), default=1), MOST_COLUMNS)
    most = min(MOST_ROWS, MOST_CELLS // max(columns, 1))
    if len(rows) > most:
        notes.append(Note("attachment-shortened", f"{len(rows)} rows, {most} shown"))
    rows = [row[:MOST_COLUMNS] for row in rows[:most]]
    if not rows:
        return '<p class="wx-none">An empty table.</p>', notes
    width = max(map(len, rows))
    out = ['<table class="wx-sheet"><thead>', _row(rows[0], width, "th"), "</thead><tbody>"]
    out += [_row(row, width, "td") for row in rows[1:]]
    return "".join([*out, "</tbody></table>"]), notes


def _row(cells: list[str], width: int, tag: str) -> str:
    return "<tr>" + "".join(_csv_cell(cell, tag) for cell in cells + [""] * (width - len(cells))) + "</tr>"


def _csv_cell(text: str, tag: str) -> str:
    number = ' class="wx-number"' if re.fullmatch(r"[-+]?[\d.,' ]*\d%?", text.strip()) else ""
    return f"<{tag}{number}>{escape(text, quote=False)}</{tag}>"


def bounded_zip(content: bytes) -> None:
    """Raises ValueError where a ZIP container would unpack out of all proportion."""
    with zipfile.ZipFile(io.BytesIO(content)) as archive:
        total = sum(info.file_size for info in archive.infolist())
    if total > MOST_UNPACKED or total > 1000 * max(len(content), 1000):
        raise ValueError("it would unpack out of all proportion")


def _refuse_huge_merges(content: bytes) -> None:
    """Raises ValueError where merged areas span more cells than a machine should count one by one."""
    from openpyxl.utils import range_boundaries

    total = 0
    with zipfile.ZipFile(io.BytesIO(content)) as archive:
        for name in archive.namelist():
            if name.startswith("xl/worksheets/") and name.endswith(".xml"):
                for reference in _MERGED.findall(archive.read(name)):
                    left, top, right, bottom = range_boundaries(reference.decode("ascii"))
                    total += (right - left + 1) * (bottom - top + 1)
                    if total > _MOST_MERGED:
                        raise ValueError(f"merged areas of more than {_MOST_MERGED:,} cells")


def workbook(
    content: bytes, resources: dict[str, tuple[str, bytes]] | None, code: str = ENGLISH
) -> tuple[str, bool, list[Note]]:
    """A workbook as HTML, a table a sheet, charts after it, which go to `resources`; without these, the tables alone.
    Dates whose form is the reader's are in the language of a `code`. Says whether it wants landscape paper."""
    import openpyxl

    bounded_zip(content)
    _refuse_huge_merges(content)
    book = openpyxl.load_workbook(io.BytesIO(content), data_only=True, keep_links=False)
    formulas = book
    if resources is not None:
        formulas = openpyxl.load_workbook(io.BytesIO(content), data_only=False, keep_links=False)
    out, notes, wide = [], list[Note](), False
    for sheet in book.worksheets:
        if sheet.sheet_state != "visible":
            notes.append(Note("attachment-hidden", f"the sheet {sheet.title}"))
            continue
        table = _Sheet(sheet, formulas[sheet.title], code)
        out.append(f'<h2 class="wx-sheet-name">{escape(sheet.title)}</h2>')
        parts = list(table.html())
        out += parts
        wide = wide or table.width > 640
        notes += table.notes
        if resources is None:
            continue
        for chart in getattr(sheet, "_charts", [])[:MOST_CHARTS]:
            try:
                name = f"wx:picture-{len(resources) + 1}"
                resources[name] = ("image/svg+xml", draw(chart, book))
                called = escape(chart_title(chart, book) or sheet.title)
                out.append(f'<p class="wx-chart"><img src="{name}" alt="{called}"></p>')
            except (ValueError, TypeError, AttributeError, KeyError, IndexError) as error:
                notes.append(Note("attachment-shortened", f"a chart could not be drawn: {str(error)[:80]}"))
    return "\n".join(out) or '<p class="wx-none">No sheet is visible.</p>', wide, notes


class _Sheet:
    def __init__(self, sheet: Any, formulas: Any, code: str) -> None:
        self.sheet, self.formulas, self.code, self.notes = sheet, formulas, code, list[Note]()
        self.columns = [n for n in range(1, min(sheet.max_column, MOST_COLUMNS) + 1) if not self._hidden(n)]
        most = min(MOST_ROWS, MOST_CELLS // max(len(self.columns), 1))
        rows = range(1, min(sheet.max_row, most) + 1)
        self.rows = [n for n in rows if not sheet.row_dimensions[n].hidden]
        hidden = len(rows) - len(self.rows)
        if hidden:
            self.notes.append(Note("attachment-hidden", f"{hidden} row{'s' * (hidden != 1)} of {sheet.title}"))
        if len(self.columns) < min(sheet.max_column, MOST_COLUMNS):
            self.notes.append(Note("attachment-hidden", f"columns of {sheet.title}"))
        if sheet.max_row > most or sheet.max_column > MOST_COLUMNS:
            self.notes.append(
                Note("attachment-shortened", f"{sheet.title} has {sheet.max_row} rows, {sheet.max_column} columns")
            )
        self.merged, self.covered = self._merges()
        self.widths = {n: self._width(n) for n in self.columns}
        self.width = sum(self.widths.values())
        self.uncomputed = 0

    def _hidden(self, column: int) -> bool:
        from openpyxl.utils import get_column_letter

        for letter, about in self.sheet.column_dimensions.items():
            if about.hidden and about.min and about.min <= column <= (about.max or about.min):
                return True
            if about.hidden and letter == get_column_letter(column):
                return True
        return False

    def _width(self, column: int) -> int:
        """About the width in CSS pixels: seven for each character of the column's width."""
        from openpyxl.utils import get_column_letter

        about = self.sheet.column_dimensions.get(get_column_letter(column))
        return min(round((about.width if about is not None and about.width else 10) * 7), 420)

    def _merges(self) -> tuple[dict[tuple[int, int], Any], set[tuple[int, int]]]:
        first: dict[tuple[int, int], Any] = {}
        covered: set[tuple[int, int]] = set()
        for area in list(self.sheet.merged_cells.ranges)[:5000]:
            first[(area.min_row, area.min_col)] = area
            if area.size["rows"] * area.size["columns"] < 100_000:
                covered |= {(row, column) for row, column in area.cells} - {(area.min_row, area.min_col)}
        return first, covered

    def html(self) -> Iterator[str]:
        """The sheet as tables: columns that do not fit on landscape paper go on in another."""
        rows, columns = set(self.rows), set(self.columns)
        filled = (place for place, cell in self.sheet._cells.items() if cell.value is not None)
        last = max((row for row, column in filled if row in rows and column in columns), default=0)
        until = [n for n in self.rows if n <= last]
        if not until:
            yield '<p class="wx-none">An empty sheet.</p>'
            return
        for chunk in self._chunks():
            yield self._table(until, chunk)
        if self.uncomputed:
            self.notes.append(Note("formula-uncomputed", f"{self.uncomputed} in {self.sheet.title}"))

    def _chunks(self) -> Iterator[list[int]]:
        chunk: list[int] = []
        width = 0
        for column in self.columns:
            if chunk and width + self.widths[column] > _LANDSCAPE_WIDTH:
                yield chunk
                chunk, width = [], 0
            chunk.append(column)
            width += self.widths[column]
        if chunk:
            yield chunk

    def _table(self, rows: list[int], columns: list[int]) -> str:
        cols = "".join(f'<col style="width:{self.widths[c]}px">' for c in columns)
        lines = [self._line(row, columns) for row in rows]
        head = all(
            (self.sheet.cell(rows[0], c).font or _Plain).b
            for c in columns
            if self.sheet.cell(rows[0], c).value is not None
        )
        start = f"<thead>{lines[0]}</thead>" if head and len(lines) > 1 else ""
        body = "".join(lines[1:] if start else lines)
        return f'<table class="wx-sheet"><colgroup>{cols}</colgroup>{start}<tbody>{body}</tbody></table>'

    def _line(self, row: int, columns: list[int]) -> str:
        return "<tr>" + "".join(self._cell(row, c, columns) for c in columns if (row, c) not in self.covered) + "</tr>"

    def _cell(self, row: int, column: int, columns: list[int]) -> str:
        cell = self.sheet.cell(row, column)
        value, spans = cell.value, ""
        area = self.merged.get((row, column))
        if area is not None:
            across = sum(area.min_col <= c <= area.max_col for c in columns)
            down = sum(area.min_row <= r <= area.max_row for r in self.rows)
            spans = (f' colspan="{across}"' if across > 1 else "") + (f' rowspan="{down}"' if down > 1 else "")
        text = shown(value, cell.number_format or "", self.code)
        written = self.formulas.cell(row, column).value if value is None else None
        if isinstance(written, str) and written.startswith("="):
            self.uncomputed += 1
            text = written
        style = _style(cell, isinstance(value, int | float) and not isinstance(value, bool))
        look = f' style="{style}"' if style else ""
        return f"<td{spans}{look}>{escape(without_controls(text), quote=False)}</td>"


class _Plain:
    b = False


def _style(cell: Any, number: bool) -> str:
    rules = []
    font, fill, aligned = cell.font, cell.fill, cell.alignment
    if font is not None:
        rules += ["font-weight:bold"] if font.b else []
        rules += ["font-style:italic"] if font.i else []
        colour = _rgb(font.color)
        rules += [f"color:{colour}"] if colour and colour != "#000000" else []
    if fill is not None and fill.fill_type == "solid":
        colour = _rgb(fill.fgColor)
        rules += [f"background-color:{colour}"] if colour else []
    side = aligned.horizontal if aligned is not None else None
    if side in ("left", "right", "center"):
        rules.append(f"text-align:{side}")
    elif number:
        rules.append("text-align:right")
    return ";".join(rules)


def _rgb(colour: Any) -> str:
    value = getattr(colour, "rgb", None)
    if getattr(colour, "type", "") == "rgb" and isinstance(value, str) and re.fullmatch(r"[0-9A-Fa-f]{8}", value):
        return f"#{value[2:].lower()}"
    return ""


def shown(value: object, form: str, code: str = ENGLISH) -> str:
    """A cell's value as its number format shows it, to a reader of the language of a `code`; what the format can't say
    is shown plainly."""
    if value is None:
        return ""
    if isinstance(value, bool):
        return "TRUE" if value else "FALSE"
    if isinstance(value, datetime | date | time | timedelta):
        return _to_reader(value, form, code) or _moment(value, form)
    if isinstance(value, int | float):
        return _number(value, form)
    return str(value)


def _number(value: float, form: str) -> str:
    if value != value or value in (float("inf"), float("-inf")):
        return str(value)
    sections = re.split(r';(?=(?:[^"]*"[^"]*")*[^"]*$)', form or "General")
    negative = value < 0 and len(sections) > 1
    section = sections[1] if negative else sections[2] if value == 0 and len(sections) > 2 else sections[0]
    if "general" in section.lower() or section.strip() in ("", "@"):
        return f"{value:.10g}" if isinstance(value, float) else str(value)
    digits = _DIGITS.search(
        "".join("\0" * len(part) if part[0] in '"\\[_*' else part for part in _PART.findall(section))
    )
    if not digits:
        return "".join(map(_literal, _PART.findall(section)))
    before, pattern, after = section[: digits.start()], digits[0], section[digits.end() :]
    percent = "%" in before + after
    thousands = len(pattern.split(".")[0]) - len(pattern.split(".")[0].rstrip(","))
    amount = abs(value) if negative else value
    amount = amount * (100 if percent else 1) / 1000**thousands
    if "E" in pattern.upper():
        text = f"{amount:.{len(pattern.upper().split('E')[0].partition('.')[2])}E}"
    else:
        decimals = pattern.partition(".")[2]
        least = len(decimals.replace("#", ""))
        text = f"{amount:,.{len(decimals)}f}" if "," in pattern.rstrip(",") else f"{amount:.{len(decimals)}f}"
        while "." in text and len(text.partition(".")[2]) > least and text.endswith("0"):
            text = text[:-1]
        text = text.rstrip(".") if not least else text
        whole, dot, rest = text.partition(".")
        text = whole.zfill(pattern.partition(".")[0].count("0") + whole.startswith("-")) + dot + rest
    return "".join(map(_literal, _PART.findall(before))) + text + "".join(map(_literal, _PART.findall(after)))


def _literal(part: str) -> str:
    if part[0] == '"':
        return part[1:-1]
    if part[0] == "\\":
        return part[1:]
    if part[0] == "[":
        return part[2:].partition("-")[0].rstrip("]") if part.startswith("[$") else ""
    return " " if part[0] == "_" else "" if part[0] == "*" else part


def _to_reader(value: datetime | date | time | timedelta, form: str, code: str) -> str:
    """A moment in one of the forms that are the reader's own (ECMA-376 part 1, section 18.8.30: 14 to 19, 22), the year
    with four digits; "" for other forms."""
    if form not in _OF_READERS or isinstance(value, timedelta):
        return ""
    from babel.dates import format_datetime, get_date_format

    # a day in digits may be one of two in English
    day = "d MMM y" if code == ENGLISH else re.sub("y+", "y", str(get_date_format("short", code).pattern))
    clock = "h:mm{} a" if code == ENGLISH else "HH:mm{}"
    pattern = _OF_READERS[form].format(day=day, clock=clock.format(""), seconds=clock.format(":ss"))
    if isinstance(value, time):
        moment = datetime.combine(date(1900, 1, 1), value)
    else:
        moment = value if isinstance(value, datetime) else datetime(value.year, value.month, value.day)
    return str(format_datetime(moment, pattern, locale=code)).replace("\u202f", " ")


def _moment(value: datetime | date | time | timedelta, form: str) -> str:
    if isinstance(value, timedelta):
        minutes, seconds = divmod(int(value.total_seconds()), 60)
        return f"{minutes // 60}:{minutes % 60:02}" + (f":{seconds:02}" if "s" in form.lower() else "")
    moment = value if isinstance(value, datetime) else datetime(1900, 1, 1)
    if isinstance(value, time):
        moment = datetime.combine(moment.date(), value)
    elif not isinstance(value, datetime):
        moment = datetime(value.year, value.month, value.day)
    tokens = _DATE.findall(form.split(";")[0]) if form and form.lower() != "general" else []
    if not any(token[:1].lower() in "ymdhs" for token in tokens):
        return value.isoformat(" ") if isinstance(value, datetime) else value.isoformat()
    twelve = any(token.lower() in ("am/pm", "a/p") for token in tokens)
    out, last = [], ""
    for number, token in enumerate(tokens):
        kind = token[0].lower()
        if kind == "m" and (last == "h" or _next(tokens, number) == "s"):
            out.append(f"{moment.minute:02}" if len(token) > 1 else str(moment.minute))
        else:
            out.append(_piece(token, moment, twelve))
        last = kind if kind in "ymdhs" else last
    return "".join(out)


def _next(tokens: list[str], number: int) -> str:
    return next((token[0].lower() for token in tokens[number + 1 :] if token[0].lower() in "ymdhs"), "")


def _piece(token: str, moment: datetime, twelve: bool) -> str:
    kind, size = token[0].lower(), len(token)
    if kind == "y":
        return f"{moment.year}" if size > 2 else f"{moment.year % 100:02}"
    if kind == "m":
        name = _MONTHS[moment.month - 1]
        return (str(moment.month), f"{moment.month:02}", name[:3], name, name[:1])[min(size, 5) - 1]
    if kind == "d":
        name = _DAYS[moment.weekday()]
        return (str(moment.day), f"{moment.day:02}", name[:3], name)[min(size, 4) - 1]
    if kind == "h" or token.lower().startswith("[h"):
        hour = (moment.hour - 1) % 12 + 1 if twelve else moment.hour
        return f"{hour:02}" if size > 1 else str(hour)
    if kind == "s":
        return f"{moment.second:02}" if size > 1 else str(moment.second)
    if token.lower() in ("am/pm", "a/p"):
        return "AM" if moment.hour < 12 else "PM"
    return _literal(token)
