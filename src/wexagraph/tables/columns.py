"""What a table has of each thing in it: a name over a column, and a value for each row."""

from __future__ import annotations

from collections.abc import Callable, Iterable, Sequence
from dataclasses import dataclass
from difflib import get_close_matches
from typing import Any, Generic, TypeVar

from wexagraph.errors import CallError
from wexagraph.tables.csvs import csv_row

T = TypeVar("T")


@dataclass(frozen=True)
class Column(Generic[T]):
    """A column of a table of `T`: its name, and what a row has in it: a text, a number, a moment, or None for nothing.

    `kind` is "text", "number", "moment", "link" (a path beside the table), or "own" for one that the office fills.
    `title` is its heading where that is not the name, `width` that of its cells in letters. A column that `reads` asks
    for more of a message than its header; what one that `lasts` has of a message is the same for ever.
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
        """What stands over it."""
        return self.title or self.name


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
    return csv_row(column.heading for column in columns)


def row(columns: Iterable[Column[T]], thing: T) -> str:
    """A thing as a row of CSV."""
    return csv_row([column.value(thing) for column in columns])
