"""What is in hand during an export: one message and its files so far."""

from __future__ import annotations

from dataclasses import dataclass, field
from typing import TYPE_CHECKING

from wexagraph.exports.rows import Row
from wexagraph.exports.staging import Staged
from wexagraph.notes import Note

if TYPE_CHECKING:
    from wexagraph.exports.bound import Bound, Sheaf


@dataclass
class Work:
    """A message on its way: what it needs, what has been made of it so far.

    `attempts` are the ways still to be tried: an engine, whether to set the text alone, whether to make pages of
    attachments. `sheaf` is the bound PDF that waits for it, `bound` that PDF once it is written; `known`
    are quotes that stand in it already, once that was looked for.
    """

    row: Row
    missing: tuple[str, ...]
    replaced: frozenset[str]
    data: bytes = b""
    sheaf: Sheaf | None = None
    bound: Bound | None = None
    known: tuple[tuple[str, str], ...] | None = None
    attempts: list[tuple[str, bool, bool]] = field(default_factory=list)
    staged: list[tuple[str, Staged, tuple[Note, ...]]] = field(default_factory=list)
    notes: list[Note] = field(default_factory=list)
    trouble: str = ""
