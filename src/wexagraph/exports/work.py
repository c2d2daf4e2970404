"""What is in hand during an export: one message and its files so far."""

from __future__ import annotations

from dataclasses import dataclass, field

from wexagraph.exports.rows import Row
from wexagraph.exports.staging import Staged
from wexagraph.notes import Note


@dataclass
class Work:
    """A message on its way: what it needs, what has been made of it so far.

    `attempts` are the ways still to be tried: an engine, whether to set the text alone, whether to make pages of
    attachments.
    """

    row: Row
    missing: tuple[str, ...]
    replaced: frozenset[str]
    data: bytes = b""
    attempts: list[tuple[str, bool, bool]] = field(default_factory=list)
    staged: list[tuple[str, Staged, tuple[Note, ...]]] = field(default_factory=list)
    notes: list[Note] = field(default_factory=list)
    trouble: str = ""
