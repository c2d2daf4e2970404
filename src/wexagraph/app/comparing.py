"""Comparing a source with what was made of it: an export folder, a backup, an archive, another mailbox."""

from __future__ import annotations

import hashlib
from collections.abc import Callable, Iterator
from datetime import datetime
from pathlib import Path

from wexagraph.errors import CallError, MessageError
from wexagraph.exports.register import RegisterRow, rows_of
from wexagraph.exports.verify import JOURNAL
from wexagraph.languages import Language
from wexagraph.notes import CODES
from wexagraph.records.certificate import Certificate
from wexagraph.records.comparison import CHANGED, MISSING, MORE, THERE, Comparison, Holding, Inventory
from wexagraph.selection.choice import Choice
from wexagraph.sources.base import Envelope, Source
from wexagraph.tables.message_columns import facts, written_by
from wexagraph.text import one_line

_AT_ONCE = 500


def is_export(folder: Path) -> bool:
    """Whether a folder is that of an export, which its journal tells."""
    return (folder / JOURNAL).is_file()


def holdings_of_export(folder: Path) -> list[Holding]:
    """What an export folder holds: the messages whose files are all there. Raises TargetError."""
    return [
        Holding(row.folder, row.id, _key_of(row), row.size, row.digest or "", dated=_is_dated(row))
        for row in rows_of(folder)
        if row.files and all((folder / file).is_file() for file in row.files)
    ]


def _is_dated(row: RegisterRow) -> bool:
    doubts = tuple(text for code, text in CODES.items() if code.startswith("date-"))
    return not any(note.startswith(doubts) for note in row.notes)


def _key_of(row: RegisterRow) -> str:
    return facts(row.date if isinstance(row.date, datetime) else None, row.facts[1:])


def holdings_of(
    source: Source, choice: Choice, progress: Callable[[int], None], digest: Callable[[bytes], str] | None
) -> list[Holding]:
    """The chosen messages of a source; with `digest`, their bytes are read for it. Raises SourceError."""
    found: list[Holding] = []
    for envelope, data in _read(source, choice, digest is not None):
        unread = str(data) if isinstance(data, MessageError) else envelope.trouble
        read = digest(data) if digest is not None and isinstance(data, bytes) else ""
        moment, notes = envelope.date()
        key = facts(moment, written_by(envelope.header))
        found.append(Holding(envelope.folder, envelope.id, key, envelope.size, read, unread, not notes))
        progress(len(found))
    return found


def _read(source: Source, choice: Choice, deep: bool) -> Iterator[tuple[Envelope, bytes | MessageError | None]]:
    chosen = choice.settled(source).select(source)
    if deep:
        yield from source.read_many(chosen)
    else:
        yield from ((envelope, None) for envelope in chosen)


def of_bytes(data: bytes) -> str:
    """The digest of a message as it is: an export knows that."""
    return hashlib.sha256(data).hexdigest()


def of_lines(data: bytes) -> str:
    """The digest of a message whatever its line ends, which differ from one form of mailbox to another."""
    return hashlib.sha256(data.replace(b"\r\n", b"\n").rstrip(b"\n")).hexdigest()


def checked_file(into: str | None) -> str:
    """The form of the file that a comparison goes into, by its ending. Raises CallError."""
    suffix = Path(into or "").suffix.lower()
    if into is not None and suffix not in (".csv", ".pdf", ".txt"):
        raise CallError(f"--into {into}: a comparison goes into a .csv file; its certificate into a .pdf or .txt file.")
    return suffix


def certificate(comparison: Comparison, moment: datetime, who: str, tr: Language) -> Certificate:
    """What an auditor signs: what was compared, how, and what came of it."""
    verdict = "{folder} holds all messages of {source}."
    if not comparison.complete:
        verdict = "{folder} does not hold all messages of {source}."
    how = (
        "byte for byte; line ends apart, where the forms of the mailboxes differ"
        if comparison.deep
        else "by header: date, sender, recipients and subject. The bytes were not compared"
    )
    counts = ", ".join(f"{tr.number(comparison.count(state))} {tr(state)}" for state in (THERE, MISSING, CHANGED, MORE))
    source, folder = one_line(comparison.source), one_line(comparison.folder)
    texts = (
        ("Source", source),
        ("Compared with", folder),
        ("Compared on", f"{moment:%Y-%m-%d %H:%M %z}"),
        ("By", who or tr("somebody")),
        ("How", tr(how)),
        ("Messages of the source", _in_words(comparison.wanted, tr)),
        ("Messages there", _in_words(comparison.held, tr)),
        ("Result", counts),
        ("List of the source", comparison.wanted.digest),
        ("List of what is there", comparison.held.digest),
        ("Signed", ""),
    )
    messages = tuple(
        (
            one.holding.date[:16].replace("T", " "),
            one_line(one.holding.sender),
            f"{tr(one.state)}: {one_line(one.holding.subject)}",
            one.holding.digest or one_line(one.holding.unread),
        )
        for one in comparison.differences
    )
    facts = tuple((tr(label), text) for label, text in texts)
    return Certificate(tr("Certificate of comparison"), tr(verdict, folder=folder, source=source), facts, messages)


def _in_words(inventory: Inventory, tr: Language) -> str:
    if not inventory.messages:
        return tr("none")
    first, last = inventory.first[:10], inventory.last[:10]
    span = ", " + tr("{first} to {last}", first=first, last=last) if first else ""
    return f"{tr.number(inventory.messages)}, {tr.size(inventory.bytes)}{span}"
