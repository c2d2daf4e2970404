"""Values of a criterion that stand in a file: `@FILE`, a text file with one a line, or `@FILE.csv:COLUMN`."""

from __future__ import annotations

import csv
import re
from collections.abc import Iterator, Mapping
from pathlib import Path
from typing import Any

from wexagraph.errors import CallError
from wexagraph.text import one_line

# what else begins with @ is a part of an address: --from @saltmere.example
_LIST = re.compile(r"@(?P<path>.+?\.(?:txt|csv|tsv)|[^:]*[/\\][^:]*)(?::(?P<column>[^:/\\]+))?", re.IGNORECASE)
_LISTED = ("from", "to", "cc", "bcc", "with", "subject", "body", "text", "keyword", "attached")
"""The criteria that may name a list."""
_MOST = 100_000_000


def names_list(value: str) -> bool:
    """Whether a value names a list in place of itself."""
    return _LIST.fullmatch(value) is not None


def values_of(given: str, option: str) -> list[str]:
    """The values of the list that a value names: of a text file each line, without blank ones and those that begin with
    `#`; of a table the cells of a column. Raises CallError where it can't be read, or nothing stands in it."""
    match = _LIST.fullmatch(given)
    path, column = (match["path"], match["column"]) if match else (given.removeprefix("@"), None)
    try:
        with Path(path).expanduser().open(encoding="utf-8-sig", newline="" if column else None) as file:
            text = file.read(_MOST)
    except (OSError, UnicodeDecodeError) as error:
        reason = getattr(error, "strerror", None) or "it is not UTF-8"
        raise CallError(f"{option} {given}: the file can't be read: {reason}.") from error
    values = _cells(text, column, f"{option} {given}") if column else text.splitlines()
    found = list(dict.fromkeys(value.strip() for value in values))
    found = [value for value in found if value and not value.startswith("#")]
    if not found:
        raise CallError(f"{option} {given}: nothing stands in it.")
    return found


def _cells(text: str, column: str, where: str) -> list[str]:
    return [cells[0] for _, cells in table_rows(text, (column,), where)]


def table_rows(
    text: str, columns: tuple[str, ...], where: str, more: tuple[str, ...] = ()
) -> Iterator[tuple[int, list[str]]]:
    """The cells of those columns in each row of a table as CSV, behind the number of its line; commas, semicolons or
    tabs part them. Columns that may be there, and are not, are empty. Raises CallError where another is missing."""
    first = text.partition("\n")[0]
    delimiter = max(",;\t", key=first.count)
    try:
        rows = csv.DictReader(text.splitlines(keepends=True), delimiter=delimiter)
        names = {name.strip().casefold(): name for name in rows.fieldnames or ()}
        for column in columns:
            if column.strip().casefold() not in names:
                known = ", ".join(map(one_line, names.values())) or "none"
                raise CallError(f"{where}: there is no column {column!r}. Columns: {known}.")
        for row in rows:
            cells = (row.get(names.get(column.strip().casefold(), "")) or "" for column in (*columns, *more))
            yield rows.line_num, list(map(str.strip, cells))
    except csv.Error as error:
        raise CallError(f"{where}: it is no table: {error}.") from error


def expanded(choice: Mapping[str, Any]) -> dict[str, Any]:
    """A choice in plain values, with the values of the lists in place of what names them. Raises CallError."""
    values = dict(choice)
    for name in _LISTED:
        given = [values[name]] if isinstance(values.get(name), str) else values.get(name) or ()
        if any(map(names_list, given)):
            values[name] = [one for value in given for one in _either(value, f"--{name}")]
    if any(names_list(one.partition("=")[2]) for one in values.get("except") or ()):
        values["except"] = [one for given in values["except"] for one in _exceptions(given)]
    return values


def _either(value: str, option: str) -> list[str]:
    return values_of(value, option) if names_list(value) else [value]


def _exceptions(given: str) -> list[str]:
    name, _, value = given.partition("=")
    return [f"{name}={one}" for one in values_of(value, "--except")] if names_list(value) else [given]


def absolute(choice: Mapping[str, Any]) -> dict[str, Any]:
    """A choice whose lists are found from everywhere."""

    def at(value: Any) -> Any:
        if isinstance(value, str):
            name, equals, rest = value.partition("=")
            if equals and names_list(rest):
                return f"{name}={at(rest)}"
            return f"@{Path(value[1:]).expanduser().absolute()}" if names_list(value) else value
        return [at(one) for one in value] if isinstance(value, list | tuple) else value

    return {name: at(value) if name in (*_LISTED, "except") else value for name, value in choice.items()}
