"""What can be proved of a register that people work in: its rows by their keys, its cells by the checks in those."""

from __future__ import annotations

import shutil
from collections.abc import Iterator
from contextlib import contextmanager, suppress
from typing import Any

from wexagraph.errors import CallError, TargetError
from wexagraph.exports.journal.journal import Journal
from wexagraph.exports.register import COLUMNS, KINDS, LINK, NUMBERS, OF_ATTACHMENTS, PROTECTION, Wording, named_column
from wexagraph.output.folder import OutputFolder
from wexagraph.tables.columns import Column
from wexagraph.tables.living.files import Register, opened, reading
from wexagraph.tables.living.keys import CHECK, check, parse_key
from wexagraph.tables.living.table import Layout, Part, layout_of
from wexagraph.tables.message_columns import column_of
from wexagraph.temporary import TemporaryFolder


def _any_column(name: str) -> Column[Any]:
    """A column of any register that may lie in an export folder."""
    column = named_column(name, [*COLUMNS, *NUMBERS, *PROTECTION, LINK, *OF_ATTACHMENTS])
    with suppress(CallError):
        return column_of(name) if column.kind == "own" else column
    return column


@contextmanager
def _read(root: OutputFolder, name: str) -> Iterator[list[tuple[Part, Layout]]]:
    """The parts of a register as they are now, each with its layout. Raises TargetError, OSError."""
    with TemporaryFolder() as folder:
        at = folder / name
        with root.reader(name) as old, open(at, "xb") as copy:
            shutil.copyfileobj(old, copy, 1 << 20)
        with reading(at), opened(at, Register(_any_column)) as sheet:
            yield [(part, layout_of(part, name, _any_column)) for part in sheet.parts]


def subjects_in(journal: Journal, name: str) -> dict[str, str]:
    """The subjects of the messages of which a register is to have rows, by what the keys of the rows tell."""
    return {listing.message: listing.thing.facts[4] for listing in KINDS[name].listings(journal, Wording())}


def keys_of(root: OutputFolder, name: str) -> set[str] | None:
    """The messages of which a register has rows, by what their keys tell; None where none can be read."""
    try:
        with _read(root, name) as parts:
            rows = ((texts.get(layout.key, "")) for part, layout in parts for _, texts in part.rows(layout.kinds()))
            return {parsed[0].message for key in rows if (parsed := parse_key(key)) is not None}
    except (TargetError, OSError):
        return None


def about(root: OutputFolder, name: str) -> str | None:
    """What can be proved of a register that is other than the manifest has it: how many cells are as they were written.
    None where its keys can't be read."""
    rows = whole = by_hand = others = 0
    try:
        with _read(root, name) as parts:
            for part, layout in parts:
                for _, texts in part.rows(layout.kinds()):
                    _, checks = parse_key(texts.get(layout.key, "")) or (None, "")
                    rows += bool(checks)
                    for n, entry in enumerate(layout.entries):
                        if entry.at is not None and (written := checks[n * CHECK : (n + 1) * CHECK]):
                            as_written = written == check(entry.column.name, texts.get(entry.at, ""))
                            whole, by_hand = whole + as_written, by_hand + (not as_written)
            others = sum(bool(text) for part, _ in parts for text in part.heading)
            others -= len(parts[-1][1].entries) + 1
    except (TargetError, OSError):
        return None
    said = f"{rows:,} row{'s' * (rows != 1)}; {whole:,} cells are as they were written, {by_hand:,} changed by hand"
    if others <= 0:
        return said
    columns = f"{others:,} column{'s' * (others != 1)}"
    return f"{said}; what people have put into {columns} of their own is not proved"
