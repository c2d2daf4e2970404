"""Finished PDFs handed to the system's printer, one after the other."""

from __future__ import annotations

import os
import shutil
import subprocess
import sys
from collections.abc import Callable, Iterable
from contextlib import closing
from dataclasses import dataclass, field
from pathlib import Path

from wexagraph.errors import CallError
from wexagraph.text import one_line

_SECONDS = 120


@dataclass
class Printed:
    """How many files the system has taken to print, and what it said of those that it has not."""

    count: int = 0
    refused: list[tuple[str, str]] = field(default_factory=list)


def pdfs_of_export(folder: Path, in_turn: bool) -> list[Path]:
    """The PDFs of the messages that the last run of an export has chosen: in the order in which they came (`in_turn`),
    or by their names. Raises TargetError where the journal can't be read."""
    from wexagraph.exports.journal.journal import Journal
    from wexagraph.output.folder import OWN

    with closing(Journal(folder / OWN / "journal.sqlite", reading=True)) as journal:
        paths = journal.files.pdfs_of_last_run(in_turn)
    return [folder / path for path in paths if (folder / path).is_file()]


def pdfs_of_case(folder: Path) -> list[Path]:
    """The PDFs of a case, by the dates of their messages. Raises TargetError where its journal can't be read."""
    from wexagraph.exports.register import rows_of
    from wexagraph.exports.verify import JOURNAL

    rows = rows_of(folder) if (folder / JOURNAL).is_file() else []
    paths = [file for row in sorted(rows, key=lambda row: row.facts[0]) for file in row.files if file.endswith(".pdf")]
    return [folder / path for path in dict.fromkeys(paths) if (folder / path).is_file()]


def checked_printer() -> Callable[[Path, str], None]:
    """What prints a file at a printer ("" for the usual one). It raises OSError. Raises CallError where nothing
    prints here."""
    if sys.platform == "win32":
        return lambda path, printer: os.startfile(path, "print")
    if shutil.which("lp") is None:
        raise CallError("--print needs the program lp (CUPS), which is not here. Install it, or print from a viewer.")
    return _by_lp


def _by_lp(path: Path, printer: str) -> None:
    where = ("-d", printer) if printer else ()
    try:
        done = subprocess.run(
            ("lp", *where, "--", path),
            stdin=subprocess.DEVNULL,
            capture_output=True,
            timeout=_SECONDS,
            check=False,
        )
    except subprocess.TimeoutExpired as error:
        raise OSError(f"no answer in {_SECONDS} seconds") from error
    if done.returncode:
        said = one_line(done.stderr.decode("utf-8", "replace")).strip()[:200]
        raise OSError(said or f"lp ended with code {done.returncode}")


def print_all(paths: Iterable[Path], printer: str, stopped: Callable[[], bool] = lambda: False) -> Printed:
    """Hand files to the printer, in their order. Raises CallError where nothing prints here."""
    hand, printed = checked_printer(), Printed()
    for path in paths:
        if stopped():
            break
        try:
            hand(path, printer)
            printed.count += 1
        except OSError as error:
            printed.refused.append((str(path), str(error.strerror or error)))
    return printed
