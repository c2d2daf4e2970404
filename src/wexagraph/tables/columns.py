"""What a table has of each thing in it: a name over a column, and a value for each row."""

from __future__ import annotations

from collections.abc import Callable, Iterable
from dataclasses import dataclass
from typing import Any, Generic, TypeVar

from wexagraph.tables.csvs import csv_row

T = TypeVar("T")


@dataclass(frozen=True)
class Column(Generic[T]):
    """A column of a table of `T`: its name, and what a row has in it: a text, a number, or None for nothing."""

    name: str
    value: Callable[[T], Any]


def heading(columns: Iterable[Column[T]]) -> str:
    """The names of columns as a row of CSV."""
    return csv_row(column.name for column in columns)


def row(columns: Iterable[Column[T]], thing: T) -> str:
    """A thing as a row of CSV."""
    return csv_row([column.value(thing) for column in columns])
