"""What a table has of each thing in it: a name over a column, and a value for each row; and its rows as CSV (RFC 4180),
of which no text is ever a formula."""

from __future__ import annotations

import csv
import io
from collections.abc import Callable, Iterable, Sequence
from dataclasses import dataclass
from datetime import UTC, datetime
from difflib import get_close_matches
from typing import Any, Generic, TypeVar

from wexagraph.errors import CallError
from wexagraph.languages import LANGUAGES, Language, language

MARK = b"\xef\xbb\xbf"
"""The byte order mark by which spreadsheets know UTF-8."""
# the wide forms count where a spreadsheet is set to an East Asian language
_FORMULA = ("=", "+", "-", "@", "\t", "\r", "\n", "\uff1d", "\uff0b", "\uff0d", "\uff20")
_HEADINGS = {
    "id": "ID",
    "sha256": "SHA-256",
    "message_sha256": "SHA-256 of the message",
    "message_id": "Message-ID",
    "pdf": "PDF",
    "pdf_sha256": "SHA-256 of the PDF",
    "pdf_state": "State of the PDF",
}
T = TypeVar("T")


@dataclass(frozen=True)
class Column(Generic[T]):
    """A column of a table of `T`: its name, and what a row has in it: a text, a number, a moment, or None for nothing.

    `kind` is "text", "number", "moment", "link" (a path beside the table), or "own" for one that the office fills.
    `title` is its heading where the name does not say it, `width` that of its cells in letters. A column that `reads`
    asks for more of a message than its header; what one that `lasts` has of a message is the same for ever.
    """

    name: str
    value: Callable[[T], Any]
    kind: str = "text"
    width: int = 14
    title: str = ""
    reads: bool = False
    lasts: bool = True

    @property
    def heading(self) -> str:
        """What stands over it, in English."""
        if self.kind == "own":
            return self.title or self.name
        return self.title or _HEADINGS.get(self.name) or self.name.replace("_", " ").capitalize()

    def headed(self, tr: Language) -> str:
        """What stands over it in a language; a heading of the office's own is as it is."""
        return self.heading if self.title or self.kind == "own" else tr(self.heading)

    def is_heading(self, text: str, tr: Language) -> bool:
        """Whether we have put that over it, in this language, in another, or in an earlier version."""
        if text in (self.name, self.headed(tr)):
            return True
        return any(text == self.headed(language(code)) for code in LANGUAGES)


def named(columns: Sequence[Column[T]], names: str) -> list[Column[T]]:
    """The columns of those names, in that order. Raises CallError."""
    known = {column.name: column for column in columns}
    wanted = [name.strip().lower().replace("-", "_") for name in names.split(",")]
    for name in wanted:
        if name not in known:
            near = get_close_matches(name, known, n=1)
            hint = f" Did you mean {near[0]}?" if near else ""
            raise CallError(f"there is no column {name!r}.{hint} There are {', '.join(known)}.")
    return [known[name] for name in dict.fromkeys(wanted)]


def heading(columns: Iterable[Column[T]]) -> str:
    """The names of columns as a row of CSV."""
    return csv_row(column.name for column in columns)


def row(columns: Iterable[Column[T]], thing: T) -> str:
    """A thing as a row of CSV."""
    return csv_row([column.value(thing) for column in columns])


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
    """A value as CSV tells it: a moment as in ISO 8601, in the zone that it is told in."""
    return value.isoformat() if isinstance(value, datetime) else value


def for_json(value: Any) -> Any:
    """A value as JSON tells it: a moment as in ISO 8601, in UTC wherever it is read."""
    return value.astimezone(UTC).isoformat() if isinstance(value, datetime) else value


def read_cell(text: str) -> str:
    """A cell's text without the apostrophe that keeps a spreadsheet from running it."""
    return text[1:] if text.startswith("'") and text[1:].startswith(_FORMULA) else text


def csv_bytes(row: Sequence[Any]) -> bytes:
    """A row as UTF-8; bytes of names that are no text stay as they are."""
    return csv_row(row).encode("utf-8", "surrogateescape")
