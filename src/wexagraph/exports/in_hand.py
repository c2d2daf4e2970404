"""What is in hand during an export: messages and their files so far, and the bound documents that wait for them."""

from __future__ import annotations

from dataclasses import dataclass, field
from typing import TYPE_CHECKING

from wexagraph.exports.journal.records import FileRecord, MessageRecord
from wexagraph.exports.options import suffix
from wexagraph.exports.turns import Group
from wexagraph.notes import Note
from wexagraph.output.staging import Staged
from wexagraph.pages.composing.header_footer import HeaderFooter
from wexagraph.pages.composing.properties import Record
from wexagraph.sources.base import Original

if TYPE_CHECKING:
    from wexagraph.pages.cleaning.pictures import Fetched
    from wexagraph.pages.composing.quotes import Said
    from wexagraph.pages.pdf.binding import Part

FORMAT = "bound"
"""The format of a bound PDF in the journal, where each of its messages has a row for it."""


@dataclass
class WorkItem:
    """A message on its way: what it needs, what has been made of it so far.

    `attempts` are the ways still to be tried: an engine, whether to set the text alone, whether to make pages of
    attachments. `document` is the bound PDF that waits for it, `bound` that PDF once it is written; `known`
    are quotes that stand in it already, once that was looked for; `fetched` pictures from the network, once they were
    asked for. `attempt` is the one in hand. `original` is the file that the message was made from. `kept` are the files
    of one that this run has not chosen, and that stays in a bound PDF. `paths` are those of formats whose file lies
    elsewhere than the name of the message says, because somebody else's file has that.
    """

    row: MessageRecord
    missing: tuple[str, ...]
    replaced: frozenset[str]
    data: bytes = b""
    document: BoundDocument | None = None
    bound: BoundFile | None = None
    known: tuple[tuple[str, str], ...] | None = None
    fetched: tuple[Fetched, ...] = ()
    attempt: tuple[str, bool, bool] = ("", False, True)
    attempts: list[tuple[str, bool, bool]] = field(default_factory=list)
    staged: list[tuple[str, Staged, tuple[Note, ...]]] = field(default_factory=list)
    notes: list[Note] = field(default_factory=list)
    trouble: str = ""
    original: Original | None = None
    kept: list[FileRecord] | None = None
    paths: dict[str, str] = field(default_factory=dict)

    def path(self, name: str) -> str:
        """Where the file of a format goes."""
        return self.paths.get(name, self.row.stem + suffix(name))


@dataclass
class BoundDocument:
    """A bound PDF on its way: where it goes, the parts that have come, and the messages that wait for it."""

    path: str
    group: Group
    replaces: bool
    waiting: int
    said: Said | None
    parts: dict[int, Part] = field(default_factory=dict)
    works: list[WorkItem] = field(default_factory=list)
    record: Record = field(default_factory=Record)
    contents: HeaderFooter = field(default_factory=lambda: HeaderFooter((), ()))


@dataclass(frozen=True)
class BoundFile:
    """A bound PDF that is written, what it is made of and how (see `Binding.signature`), and notes on it."""

    staged: Staged
    signature: str
    notes: tuple[Note, ...]
