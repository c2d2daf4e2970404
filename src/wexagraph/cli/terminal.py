"""Tables and lines for people: colour only on a terminal, and nothing cut that goes into a pipe."""

from __future__ import annotations

import sys
from typing import TYPE_CHECKING

if TYPE_CHECKING:
    from rich.console import Console
    from rich.table import Table

_PIPE_WIDTH = 200


def make_console(err: bool = False) -> Console:
    """A console on standard output or error. What stands in brackets or between colons is text, never a style."""
    from rich.console import Console

    stream = sys.stderr if err else sys.stdout
    width = None if stream.isatty() else _PIPE_WIDTH
    return Console(stderr=err, width=width, soft_wrap=False, markup=False, emoji=False, highlight=False)


def make_table(*headings: str) -> Table:
    """A table in the house's style; a heading that begins with > is for numbers."""
    from rich.box import Box
    from rich.table import Table

    box = Box("    \n    \n ── \n    \n    \n    \n    \n    \n")
    table = Table(box=box, header_style="bold", show_edge=False, pad_edge=False, padding=(0, 1))
    for heading in headings:
        number = heading.startswith(">")
        table.add_column(heading.lstrip(">"), justify="right" if number else "left", no_wrap=number, overflow="fold")
    return table


def machine_output() -> None:
    """Standard output for programs: UTF-8 and line ends as written, whatever the locale."""
    if hasattr(sys.stdout, "reconfigure"):
        sys.stdout.reconfigure(encoding="utf-8", newline="", errors="surrogateescape")
