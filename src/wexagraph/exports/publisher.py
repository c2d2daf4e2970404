"""Putting finished files under their names, telling the journal, and keeping the sums."""

from __future__ import annotations

import os
import time
from collections.abc import Callable, Iterable
from contextlib import suppress
from dataclasses import replace

from wexagraph.exports.in_hand import FORMAT, WorkItem
from wexagraph.exports.journal.journal import Journal
from wexagraph.exports.journal.records import UNDER_WAY, FileRecord, MessageRecord
from wexagraph.exports.options import ExportOptions
from wexagraph.notes import Note
from wexagraph.output.staging import Staged
from wexagraph.output.target import Target
from wexagraph.reports import ExportReport, Failure, Progress

_BATCH_FILES = 1024
_BATCH_BYTES = 96 * 1024 * 1024
_BATCH_SECONDS = 2.0


class Publisher:
    """Takes messages that are done, and puts their files in batches: what the journal calls done is on the disk."""

    def __init__(
        self,
        target: Target,
        journal: Journal,
        options: ExportOptions,
        report: ExportReport,
        progress: Progress,
        tell: Callable[[Progress], None],
    ) -> None:
        self._target, self._journal, self._options = target, journal, options
        self._report, self._progress, self._tell = report, progress, tell
        self._read: list[tuple[str, int, str, int]] = []
        self._batch: list[WorkItem] = []
        self._bytes = 0
        self._since = time.monotonic()

    def read(self, digest: str, size: int, attachments: str, number: int) -> None:
        """A message was read: what the journal is to know of it."""
        self._read.append((digest, size, attachments, number))

    def done(self, works: list[WorkItem]) -> None:
        """Messages are done, their files staged; with a bound PDF, all of its messages come together."""
        self._batch += works
        for work in works:
            work.data = b""
            self._bytes += sum(staged.size for _, staged, _ in work.staged)
        if len(self._batch) >= _BATCH_FILES or self._bytes >= _BATCH_BYTES:
            self.put()
        else:
            self.put_if_due()

    def put_if_due(self) -> None:
        """Put what has waited for long enough."""
        if time.monotonic() - self._since > _BATCH_SECONDS:
            self.put()

    def put(self) -> None:
        """Put a batch under its names, then tell the journal."""
        batch, self._batch, self._bytes = self._batch, [], 0
        read, self._read = self._read, []
        self._since = time.monotonic()
        self._journal.set_read(read)
        if batch:
            bound = {work.bound.staged.path: work.bound for work in batch if work.bound is not None}
            self._announce(batch)
            waiting = [staged for work in batch for _, staged, _ in work.staged]
            results = self._target.put([*(one.staged for one in bound.values()), *waiting])
            refused = {staged.path: reason for staged, reason in results if reason}
            files: list[FileRecord] = []
            written: list[int] = []
            for one in bound.values():
                self._count_file("pdf", one.staged, refused)
                self._report.notes.update({note.code for note in one.notes})
            for work in batch:
                self._account(work, refused, files, written)
            if self._options.volatile or self._options.bind:  # what was announced may have got another name
                for work in batch:
                    self._journal.files.forget_announced(work.row.number)
            self._journal.files.record(files)
            for one in bound.values():
                self._journal.files.forget_replaced(one.staged.path, one.staged.sha256)
            self._journal.set_written(written)
        self._journal.commit()

    def _announce(self, batch: list[WorkItem]) -> None:
        """Say what is going to be put, where a run that is killed could not know its own files again by their bytes;
        and give the files their tags."""
        for work in batch:
            if work.row.tags:
                for staged in [*(s for _, s, _ in work.staged), *([work.bound.staged] if work.bound else [])]:
                    tag(staged.waiting, work.row.tags)
        if self._options.volatile or self._options.bind:
            self._journal.files.record(row for work in batch for row in self._rows(work, UNDER_WAY))
            self._journal.commit()

    def _rows(self, work: WorkItem, recipe: str = "") -> list[FileRecord]:
        """The files of a message as the journal knows them."""
        naming, number = self._options.naming, work.row.number
        rows = [
            FileRecord(
                staged.path,
                number,
                name,
                naming,
                recipe or self._made(name, notes),
                staged.size,
                staged.modified,
                staged.sha256,
                notes,
            )
            for name, staged, notes in work.staged
        ]
        if work.bound is not None:
            staged, all_notes = work.bound.staged, (*work.notes, *work.bound.notes)
            rows.append(
                FileRecord(
                    staged.path,
                    number,
                    FORMAT,
                    naming,
                    recipe or self._options.made(work.bound.signature, all_notes),
                    staged.size,
                    staged.modified,
                    staged.sha256,
                    all_notes,
                )
            )
        return rows

    def _made(self, name: str, notes: Iterable[Note]) -> str:
        """What a file was made with; an original is as it came, whatever opens it."""
        base = self._options.recipe(name)
        return self._options.made(base, notes) if name in self._options.page_formats else base

    def _count_file(self, name: str, staged: Staged, refused: dict[str, str]) -> None:
        if staged.path not in refused:
            self._report.files[name] += 1
            self._report.bytes += staged.size
            self._progress.files += 1

    def _account(self, work: WorkItem, refused: dict[str, str], files: list[FileRecord], written: list[int]) -> None:
        row, options, report = work.row, self._options, self._report
        rows = self._rows(work)
        reasons = [refused[file.path] for file in rows if file.path in refused]
        if not reasons:
            files += rows
            for name, staged, _ in work.staged:
                self._count_file(name, staged, refused)
        else:
            self._journal.files.forget_announced(row.number)
        if work.kept is not None:
            return  # not of this run, which has only bound it again
        if row.arrival or work.notes:
            report.notes.update({note.code for note in [*self._journal.notes(row.number), *work.notes]})
        failed = next((note for note in work.notes if note.code == "page-failed"), None)
        lacking = self._lacking(work)
        if reasons or failed or lacking:
            self.fail(row, reasons[0] if reasons else str(failed) if failed else f"no {lacking[0]} was made of it")
        elif (not work.missing and options.message_formats) or (work.missing == ("beside",) and not rows):
            self.count_already()  # it was read for an archive of its folder only, or has nothing attached
        else:
            report.chosen += 1
            report.written += 1
            written.append(row.number)
            self._advance()

    def _lacking(self, work: WorkItem) -> list[str]:
        """The formats that were asked for and that nothing has made."""
        made = {name for name, _, _ in work.staged}
        return [
            name
            for name in work.missing
            if name not in made and name in self._options.message_formats and not (name == "pdf" and work.bound)
        ]

    def put_anew(self, records: list[FileRecord], staged: Staged, number: tuple[str, int] | None = None) -> bool:
        """Put a PDF that was changed in place of what it was, which these records tell of (of a bound one, a message
        each); they follow it, as does the `number` (a prefix and the first) that was on its pages before. False where
        its name is refused, which the report then says."""
        target, journal, record, path = self._target, self._journal, records[0], staged.path
        tag(staged.waiting, journal.tags(record.message))
        made = [
            replace(each, path=path, size=staged.size, modified=staged.modified, sha256=staged.sha256)
            for each in records
        ]
        if path != record.path:
            journal.files.record(replace(each, recipe=UNDER_WAY) for each in made)
        journal.commit()
        ((_, refused),) = target.put([staged])
        if refused:
            self._report.unreadable.append((record.path, refused))
            return False
        if staged.path != record.path and target.sha256(record.path) == record.sha256:
            target.root.unlink(record.path)
            target.root.remove_empty(record.path)
        for each in records:
            journal.files.forget(each.message, record.path)
            journal.files.forget(each.message, path)
        journal.files.record(replace(each, path=staged.path) for each in made)
        if number is not None:
            journal.numbers.note(*number, staged.sha256)
        journal.commit()
        return True

    def count_already(self) -> None:
        """All files of a message are there."""
        self._report.chosen += 1
        self._report.already_there += 1
        self._advance()

    def fail(self, row: MessageRecord, reason: str) -> None:
        """A message did not come out as asked."""
        self._report.chosen += 1
        self._journal.set_failed(row.number, reason)
        self._report.fail(Failure(row.id, row.folder, self._journal.facts(row.number)[-1], reason))
        self._advance()

    def _advance(self) -> None:
        self._progress.done += 1
        self._progress.failed = self._report.failed
        self._tell(self._progress)


def tag(path: str, tags: str) -> None:
    """Write the tags to a file, where its file system keeps extended attributes (user.xdg.tags)."""
    if tags and hasattr(os, "setxattr"):
        with suppress(OSError):
            os.setxattr(path, "user.xdg.tags", ",".join(tags.split(", ")).encode("utf-8", "replace"))
