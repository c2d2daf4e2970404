"""Tables and lines for people: colour only on a terminal, and nothing cut that goes into a pipe."""

from __future__ import annotations

import sys
import textwrap
from collections.abc import Sequence
from typing import TYPE_CHECKING

if TYPE_CHECKING:
    from rich.console import Console
    from rich.table import Table

_PIPE_WIDTH = 200
_READABLE = 24
"""Cells in which a text that may be broken can still be read."""


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


class Sheet:
    """A table that fits its terminal, in which no date, ID, address or name of a run is ever broken.

    A heading that begins with > is for numbers. Where the terminal is too narrow, columns whose heading begins with |
    stand below their row, and those that begin with ? are left out, the last first.
    """

    def __init__(self, *headings: str) -> None:
        self._marks = [heading[: len(heading) - len(heading.lstrip(">|?"))] for heading in headings]
        self._headings = [heading.lstrip(">|?") for heading in headings]
        self._rows: list[list[str]] = []

    def add_row(self, *cells: str) -> None:
        """A row, a cell a column."""
        self._rows.append(list(cells))

    def show(self) -> None:
        """Print it; nothing where it has no rows."""
        if not self._rows:
            return
        console, every = make_console(), range(len(self._headings))
        if self._width(every, 3) <= console.width:
            table = make_table(*(f"{'>' * ('>' in m)}{h}" for m, h in zip(self._marks, self._headings, strict=True)))
            for column, mark in zip(table.columns, self._marks, strict=True):
                column.no_wrap = "|" not in mark
            for row in self._rows:
                table.add_row(*row)
            console.print(table)
            return
        below = [at for at in every if "|" in self._marks[at]]
        beside = [at for at in every if at not in below]
        for at in [at for at in reversed(beside) if "?" in self._marks[at]]:
            if self._width(beside) > console.width:
                beside.remove(at)
        self._print(beside, below, console.width)

    def _width(self, columns: Sequence[int], gap: int = 2) -> int:
        """The cells that these columns need, with gaps between them; of one that may stand below, enough to be read."""
        widths = [min(self._widest(at), _READABLE) if "|" in self._marks[at] else self._widest(at) for at in columns]
        return sum(widths) + gap * (len(widths) - 1)

    def _widest(self, at: int) -> int:
        from rich.cells import cell_len

        return max(cell_len(text) for text in (self._headings[at], *(row[at] for row in self._rows)))

    def _print(self, beside: list[int], below: list[int], width: int) -> None:
        import click
        from rich.cells import cell_len

        def line(cells: list[str]) -> str:
            padded = []
            for at in beside:
                blank = " " * (self._widest(at) - cell_len(cells[at]))
                padded.append(blank + cells[at] if ">" in self._marks[at] else cells[at] + blank)
            return "  ".join(padded).rstrip()

        click.secho(line(self._headings), bold=True)
        click.echo("\u2500" * min(self._width(beside), width))
        for row in self._rows:
            click.echo(line(row))
            for at in below:
                for part in textwrap.wrap(row[at], max(width - 2, 20)):
                    click.secho(f"  {part}", dim=True)


def machine_output() -> None:
    """Standard output for programs: UTF-8 and line ends as written, whatever the locale."""
    if hasattr(sys.stdout, "reconfigure"):
        sys.stdout.reconfigure(encoding="utf-8", newline="", errors="surrogateescape")
