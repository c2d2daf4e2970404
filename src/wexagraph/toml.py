"""What is wrong in a TOML file that people edit: the file, the line, the nearest right word."""

from __future__ import annotations

import re
from difflib import get_close_matches
from pathlib import Path

from wexagraph.errors import CallError


def wrong(
    path: Path, text: str, table: str, key: str, what: str, wrong: str, right: tuple[str, ...] | list[str]
) -> CallError:
    """The error that says what is wrong with a key of a table: file, line and the nearest of what would be right."""
    near = get_close_matches(wrong, right, n=1, cutoff=0.5)
    hint = f" Did you mean {near[0]}?" if near else f" Possible are: {', '.join(sorted(right))}." if right else ""
    return CallError(f"{path}, line {line_of(text, table, key)}: {what}.{hint}")


def line_of(text: str, table: str, key: str) -> int:
    """The line on which a key of a table is set, counted from 1."""
    current = ""
    for number, line in enumerate(text.splitlines(), 1):
        heading = re.match(r"\s*\[\s*([\w.-]+)", line)
        if heading:
            current = heading[1]
            if not table and current.split(".")[0] == key:
                return number
        elif current == table and re.match(rf"""\s*["']?{re.escape(key)}["']?\s*[.=]""", line):
            return number
    return 1


def mending(text: str, error: str) -> str:
    """What to mend in a line that is no TOML."""
    match = re.search(r"line (\d+)", error)
    line = text.splitlines()[int(match[1]) - 1] if match and int(match[1]) <= len(text.splitlines()) else ""
    key, equals, value = (part.strip() for part in line.partition("="))
    if equals and value and not value.startswith(('"', "'", "[", "{")):
        return f' Put the value in quotes: {key} = "{value}"'
    return " A line is NAME = VALUE, texts in quotes; tables begin with [NAME]."
