"""Bound PDFs of an export: their names, the parts they are waiting for, and the binding itself."""

from __future__ import annotations

import hashlib
import os
import secrets
from collections.abc import Collection, Iterator
from concurrent.futures import Future
from dataclasses import replace
from pathlib import Path
from typing import TYPE_CHECKING

from wexagraph.errors import MessageError, SourceError
from wexagraph.exports.in_hand import FORMAT, BoundDocument, BoundFile, WorkItem
from wexagraph.exports.journal.records import UNDER_WAY, FileRecord, MessageRecord
from wexagraph.exports.options import ExportOptions
from wexagraph.exports.turns import Group, Turns
from wexagraph.naming.paths import collision_key, free_name
from wexagraph.notes import Note
from wexagraph.output.staging import Staged
from wexagraph.output.target import Target
from wexagraph.pages.composing.header_footer import HeaderFooter
from wexagraph.pages.composing.properties import Record
from wexagraph.pages.options import Lock
from wexagraph.sources.base import Source
from wexagraph.temporary import TemporaryFolder
from wexagraph.text import one_line
from wexagraph.work.batches import Workers

if TYPE_CHECKING:
    from wexagraph.pages.composing.quotes import Said
    from wexagraph.pages.make import Made
    from wexagraph.pages.pdf.binding import BindJob


class EarlierMessages:
    """Messages of a folder that this run has not chosen, read again: from their EML there, else from the mailbox."""

    def __init__(self, target: Target, source: Source) -> None:
        self._target, self._source = target, source

    def read(self, row: MessageRecord, files: list[FileRecord]) -> bytes | None:
        """The bytes of a message; None where nobody has them any more."""
        for file in files:
            if file.format == "eml" and self._target.sha256(file.path) == row.digest:
                with self._target.root.reader(file.path) as original:
                    return original.read()
        try:
            data = self._source.read(row.envelope())
        except (MessageError, SourceError, OSError, KeyError, ValueError):  # a place of another mailbox
            return None
        return data if hashlib.sha256(data).hexdigest() == row.digest else None


class Binding:
    """Decides which groups have to be bound, and keeps what is in hand of them."""

    def __init__(self, target: Target, options: ExportOptions, turns: Turns, earlier: EarlierMessages) -> None:
        self._target, self._options, self._turns, self.earlier = target, options, turns, earlier
        self._taken: set[str] = set()
        # parts lie on the disk for a while: where the PDF will be locked, so are they, with a key that nobody keeps
        self.key = secrets.token_urlsafe(32) if options.lock else ""

    @property
    def part_lock(self) -> Lock | None:
        return Lock(self.key) if self.key else None

    def groups(self) -> Iterator[tuple[Group, BoundDocument | None]]:
        """All groups, each with the document to be made of it; none where its PDF is there. What a PDF holds already
        stays in it; where that can't be read any more, that PDF stays as it is, and the others get one of their own."""
        for group in self._turns.groups(self._options.naming):
            recorded = self._recorded(group)
            if recorded is not None and self._is_there(group, recorded):
                self._taken.add(collision_key(recorded.path))
                yield group, None
                continue
            kept = [(row, files) for row, files in group.rows if row.number in group.kept]
            if any(self.earlier.read(row, files) is None for row, files in kept):
                theirs = {file.path for _, files in kept for file in files}
                group = group.without_kept()
                recorded = self._recorded(group, theirs)
                if recorded is not None and self._is_there(group, recorded):
                    self._taken.add(collision_key(recorded.path))
                    yield group, None
                    continue
            if recorded is not None and not recorded.is_ours(self._target):
                recorded = None
            path = recorded.path if recorded is not None else self._free(group.stem)
            self._taken.add(collision_key(path))
            said = self._nothing_said() if self._options.unquote else None
            yield (
                group,
                BoundDocument(path, group, recorded is not None, len(group.rows), said, record=Record(group.title)),
            )

    def renames(self) -> Iterator[tuple[MessageRecord, FileRecord, str]]:
        """The PDFs that earlier runs have bound of the same messages in the same way under other names: of each message
        its record, and the path that it is to have. One with numbers on its pages keeps its name."""
        naming = self._options.naming
        for group in self._turns.groups(naming) if not self._options.numbered else ():
            bound = [(row, file) for row, files in group.rows for file in files if file.format == FORMAT]
            now = {file.path: file.recipe for _, file in bound if file.naming == naming}
            if any(recipe != UNDER_WAY for recipe in now.values()):
                continue
            for earlier in {file.path: file for _, file in bound if file.naming != naming}.values():
                begun = next((path for path in now if self._target.sha256(path) == earlier.sha256), None)
                if self._holds(group, earlier) and (begun is not None or self._is_whole(earlier)):
                    path = begun or self._free(group.stem)  # a run that was killed had renamed it
                    self._taken.add(collision_key(path))
                    yield from ((row, file, path) for row, file in bound if file.path == earlier.path)
                    break
        self._taken.clear()

    def _nothing_said(self) -> Said:
        from wexagraph.pages.composing.quotes import Said

        return Said()

    def _recorded(self, group: Group, others: Collection[str] = ()) -> FileRecord | None:
        """The PDF that an earlier run has bound of these messages, or of the first of them that it had; not one of the
        paths of `others`."""
        naming = self._options.naming
        bound = [file for _, files in group.rows for file in files if file.format == FORMAT and file.naming == naming]
        free = [file for file in bound if file.path not in others and collision_key(file.path) not in self._taken]
        return next((file for file in free if self._is_there(group, file)), free[0] if free else None)

    def _is_there(self, group: Group, recorded: FileRecord) -> bool:
        return self._holds(group, recorded) and self._is_whole(recorded)

    def _holds(self, group: Group, recorded: FileRecord) -> bool:
        """Whether a PDF was made of these messages in this way."""
        signature = self.signature([row for row, _ in group.rows])
        return all(
            any(
                file.path == recorded.path and self._options.is_made(file.recipe, file.notes, signature)
                for file in files
            )
            for _, files in group.rows
        )

    def _is_whole(self, recorded: FileRecord) -> bool:
        return self._target.is_intact(recorded.path, recorded.size, recorded.modified, recorded.sha256)

    def signature(self, rows: list[MessageRecord]) -> str:
        """Equal for two bound PDFs of the same messages made in the same way."""
        digests = "".join(row.digest or "-" for row in rows)
        title = f"|{self._options.title.text}" if self._options.title is not None else ""
        return hashlib.sha256(f"{self._options.recipe('pdf')}|{digests}{title}".encode()).hexdigest()[:16]

    def _free(self, stem: str) -> str:
        return free_name(stem, ".pdf", lambda path: collision_key(path) in self._taken or self._target.taken(path))

    def add(self, document: BoundDocument, work: WorkItem, made: Made) -> None:
        """The pages of a message have come: they wait on the disk."""
        from wexagraph.pages.pdf.binding import Part

        staged = self._target.stage("", made.files.pop("pdf"))
        assert made.entry is not None and made.header_footer is not None
        document.parts[work.row.number] = Part(staged.waiting, made.entry, made.header_footer, made.marked)
        if made.whole is not None:
            document.record, document.contents = made.whole

    def give_up(self, document: BoundDocument, work: WorkItem, facts: list[str]) -> None:
        """No page could be made of a message: a page in its place says so. `facts`: date, from, to, cc, subject."""
        from wexagraph.pages.composing.covers import Entry
        from wexagraph.pages.pdf.binding import Part

        date, sender, to, _, subject = facts
        tr = self._options.page.tr
        entry = Entry(
            subject or tr("no subject"),
            sender,
            to,
            date,
            sha256=work.row.digest or "",
            size=work.row.size,
            trouble=one_line(work.trouble),
            when=date[:16].replace("T", " ") or tr("undated"),
            name=sender,
        )
        document.parts[work.row.number] = Part("", entry, HeaderFooter((), ()))

    def job(self, document: BoundDocument, engine: str) -> BindJob | None:
        """What a worker has to bind; None where there is not one message to be bound."""
        from wexagraph.pages.pdf.binding import BindJob

        options = self._options
        parts = tuple(document.parts[row.number] for row, _ in document.group.rows if row.number in document.parts)
        if not parts:
            return None
        return BindJob(
            parts,
            self._target.stager.free(),
            document.group.title,
            document.record,
            document.contents,
            options.page,
            engine,
            document.group.tags,
            options.exported,
            options.run_on,
            options.lock,
            self.key,
        )


def bind_with(workers: Workers, job: BindJob, path: str, replaces: bool, signature: str) -> Future[BoundFile]:
    """Have a worker bind; the future raises PageError, WorkerLost, OSError."""
    if workers.sees_disk:
        return workers.submit_lasting(bind_file, job, path, replaces, signature)
    contents = tuple(Path(part.path).read_bytes() if part.path else b"" for part in job.parts)
    written: Future[BoundFile] = Future()

    def write(done: Future[tuple[bytes, list[Note]]]) -> None:
        try:
            content, notes = done.result()
            Path(job.out).write_bytes(content)
            written.set_result(_bound_file(job, path, replaces, signature, notes))
        except Exception as error:
            written.set_exception(error)

    workers.submit_lasting(bind_bytes, job, contents).add_done_callback(write)
    return written


def bind_file(job: BindJob, path: str, replaces: bool, signature: str) -> BoundFile:
    """Bind, and digest what was written; runs in a worker. Raises PageError, OSError."""
    from wexagraph.pages.pdf.binding import bind

    return _bound_file(job, path, replaces, signature, bind(job))


def bind_bytes(job: BindJob, contents: tuple[bytes, ...]) -> tuple[bytes, list[Note]]:
    """Bind parts that are handed in as bytes, for a worker with a disk of its own. Raises PageError, OSError."""
    from wexagraph.pages.pdf.binding import bind

    with TemporaryFolder() as folder:
        parts = []
        for number, (part, content) in enumerate(zip(job.parts, contents, strict=True)):
            if part.path:
                (folder / f"{number}.pdf").write_bytes(content)
                part = replace(part, path=str(folder / f"{number}.pdf"))
            parts.append(part)
        job = replace(job, parts=tuple(parts), out=str(folder / "bound.pdf"))
        notes = bind(job)
        return Path(job.out).read_bytes(), notes


def _bound_file(job: BindJob, path: str, replaces: bool, signature: str, notes: list[Note]) -> BoundFile:
    with open(job.out, "rb") as file:
        digest = hashlib.file_digest(file, "sha256").hexdigest()
    about = os.stat(job.out)
    for part in job.parts:
        if part.path:
            os.unlink(part.path)
    return BoundFile(Staged(job.out, path, about.st_size, digest, replaces, about.st_mtime_ns), signature, tuple(notes))
