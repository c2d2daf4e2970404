"""Bound PDFs of an export: their names, the parts they are waiting for, and the binding itself."""

from __future__ import annotations

import hashlib
import os
import secrets
from collections.abc import Iterator
from dataclasses import dataclass, field
from typing import TYPE_CHECKING

from wexagraph.exports.options import ExportOptions
from wexagraph.exports.rows import FileRow, Row
from wexagraph.exports.staging import Staged
from wexagraph.exports.target import Target
from wexagraph.exports.turns import Group, Turns
from wexagraph.exports.work import Work
from wexagraph.naming import collision_key
from wexagraph.notes import Note
from wexagraph.pages.options import Lock
from wexagraph.pages.properties import Record
from wexagraph.pages.running import Running
from wexagraph.text import one_line

if TYPE_CHECKING:
    from wexagraph.pages.binding import BindJob, Part
    from wexagraph.pages.make import Made
    from wexagraph.pages.quotes import Said

FORMAT = "bound"
"""The format of a bound PDF in the journal, where each of its messages has a row for it."""


@dataclass
class Sheaf:
    """A bound PDF on its way: where it goes, the parts that have come, and the messages that wait for it."""

    path: str
    group: Group
    replaces: bool
    waiting: int
    said: Said | None
    parts: dict[int, Part] = field(default_factory=dict)
    works: list[Work] = field(default_factory=list)
    record: Record = field(default_factory=Record)
    contents: Running = field(default_factory=lambda: Running((), ()))


@dataclass(frozen=True)
class Bound:
    """A bound PDF that is written, what it is made of and how (see `Binding.signature`), and notes on it."""

    staged: Staged
    signature: str
    notes: tuple[Note, ...]


class Binding:
    """Decides which groups have to be bound, and keeps what is in hand of them."""

    def __init__(self, target: Target, options: ExportOptions, turns: Turns) -> None:
        self._target, self._options, self._turns = target, options, turns
        self._taken: set[str] = set()
        # parts lie on the disk for a while: where the PDF will be locked, so are they, with a key that nobody keeps
        self.key = secrets.token_urlsafe(32) if options.lock else ""

    @property
    def part_lock(self) -> Lock | None:
        return Lock(self.key) if self.key else None

    def groups(self) -> Iterator[tuple[Group, Sheaf | None]]:
        """All groups, each with the sheaf to be made of it; none where its PDF is there."""
        for group in self._turns.groups(self._options.naming):
            recorded = self._recorded(group)
            if recorded is not None and self._is_there(group, recorded):
                self._taken.add(collision_key(recorded.path))
                yield group, None
                continue
            if recorded is not None and not self._target.is_ours(recorded):
                recorded = None
            path = recorded.path if recorded is not None else self._free(group.stem)
            self._taken.add(collision_key(path))
            said = self._nothing_said() if self._options.unquote else None
            yield group, Sheaf(path, group, recorded is not None, len(group.rows), said, record=Record(group.title))

    def _nothing_said(self) -> Said:
        from wexagraph.pages.quotes import Said

        return Said()

    def _recorded(self, group: Group) -> FileRow | None:
        """The PDF that an earlier run has bound of these messages, or of the first of them that it had."""
        naming = self._options.naming
        found = (file for _, files in group.rows for file in files if file.format == FORMAT and file.naming == naming)
        return next((file for file in found if collision_key(file.path) not in self._taken), None)

    def _is_there(self, group: Group, recorded: FileRow) -> bool:
        signature = self.signature([row for row, _ in group.rows])
        every = all(
            any(file.path == recorded.path and file.recipe == signature for file in files) for _, files in group.rows
        )
        return every and self._target.is_intact(recorded.path, recorded.size, recorded.modified, recorded.sha256)

    def signature(self, rows: list[Row]) -> str:
        """Equal for two bound PDFs of the same messages made in the same way."""
        digests = "".join(row.digest or "-" for row in rows)
        return hashlib.sha256(f"{self._options.recipe('pdf')}|{digests}".encode()).hexdigest()[:16]

    def _free(self, stem: str) -> str:
        candidate, turn = f"{stem}.pdf", 1
        while collision_key(candidate) in self._taken or self._target.taken(candidate):
            turn += 1
            candidate = f"{stem} ({turn}).pdf"
        return candidate

    def add(self, sheaf: Sheaf, work: Work, made: Made) -> None:
        """The pages of a message have come: they wait on the disk."""
        from wexagraph.pages.binding import Part

        staged = self._target.stage("", made.files.pop("pdf"))
        assert made.entry is not None and made.running is not None
        sheaf.parts[work.row.number] = Part(staged.waiting, made.entry, made.running, made.marked)
        if made.whole is not None:
            sheaf.record, sheaf.contents = made.whole

    def give_up(self, sheaf: Sheaf, work: Work, facts: list[str]) -> None:
        """No page could be made of a message: a page in its place says so. `facts` are its cells in the register."""
        from wexagraph.pages.binding import Part
        from wexagraph.pages.covers import Entry

        date, sender, to, _, subject = facts
        entry = Entry(
            subject or "no subject", sender, to, date, sha256=work.row.digest or "", size=work.row.size,
            trouble=one_line(work.trouble), when=date[:16].replace("T", " ") or "undated", name=sender,
        )  # fmt: skip
        sheaf.parts[work.row.number] = Part("", entry, Running((), ()))

    def job(self, sheaf: Sheaf, engine: str) -> BindJob | None:
        """What a worker has to bind; None where there is not one message to be bound."""
        from wexagraph.pages.binding import BindJob

        options = self._options
        parts = tuple(sheaf.parts[row.number] for row, _ in sheaf.group.rows if row.number in sheaf.parts)
        if not parts:
            return None
        return BindJob(
            parts, self._target.stager.free(), sheaf.group.title, sheaf.record, sheaf.contents, options.page, engine,
            sheaf.group.tags, options.exported, options.lock, self.key,
        )  # fmt: skip


def bind_file(job: BindJob, path: str, replaces: bool, signature: str) -> Bound:
    """Bind, and digest what was written; runs in a worker. Raises PageError, OSError."""
    from wexagraph.pages.binding import bind

    notes = bind(job)
    with open(job.out, "rb") as file:
        digest = hashlib.file_digest(file, "sha256").hexdigest()
    about = os.stat(job.out)
    for part in job.parts:
        if part.path:
            os.unlink(part.path)
    return Bound(Staged(job.out, path, about.st_size, digest, replaces, about.st_mtime_ns), signature, tuple(notes))
