"""`wexagraph open DIR|FILE|ID`"""

from __future__ import annotations

from pathlib import Path

import click

from wexagraph.cli.exits import OK
from wexagraph.errors import CallError, TargetError
from wexagraph.exports.file_words import file_to_open
from wexagraph.exports.register import rows_of
from wexagraph.naming.paths import INDEX
from wexagraph.output.folder import OWN
from wexagraph.text import one_line

_SAFE = frozenset(".pdf .html .txt .eml .csv .xlsx .png .svg .jpg .tsv .log".split())
"""Endings of what this program writes. What came as an attachment is not handed to a system that might run it."""


@click.command("open")
@click.argument("what", metavar="DIR|FILE|ID")
@click.option("--in", "place", metavar="DIR", default=".", help="The export folder that has the message of that ID.")
def command(what: str, place: str) -> int:
    """Hand a folder's page to browse, a file, or the file of a message to the system's own viewer.

    A folder's index.html is opened where it has one, else the folder. An ID is that of a message in the export folder
    that --in names, or in this one.
    """
    path = Path(what).expanduser()
    if not path.exists():
        path = _file_of(what, Path(place).expanduser())
    elif path.is_dir():
        path = path / INDEX if (path / INDEX).is_file() else path
    if path.is_file() and path.suffix.lower() not in _SAFE:
        raise CallError(f"{path} is of a kind that the system might run. Open it by hand, if you trust it.")
    if click.launch(str(path.resolve())) != 0:
        raise TargetError(f"no viewer could be started here. Open it by hand: {path.resolve()}")
    click.echo(f"Opened: {one_line(str(path))}")
    return OK


def _file_of(id: str, folder: Path) -> Path:
    """The file of a message that a person opens. Raises CallError."""
    if not (folder / OWN / "journal.sqlite").is_file():
        raise CallError(
            f"{id!r} is no file, and {folder} is no export folder. --in names the one that has the message."
        )
    row = next((row for row in rows_of(folder) if row.id == id and row.files), None)
    if row is None:
        raise CallError(f"{folder} has no file of a message {id!r}. Its register.csv lists them.")
    return folder / file_to_open(row.files)
