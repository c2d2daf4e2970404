"""An export from beginning to end: plan, read, make, write, and sums that agree."""

from __future__ import annotations

import time
from collections import deque
from collections.abc import Callable, Iterator
from concurrent.futures import FIRST_COMPLETED, Executor, Future, wait
from contextlib import suppress
from pathlib import Path

from wexagraph.errors import MessageError, PageError, SourceError, TargetError
from wexagraph.exports import register
from wexagraph.exports.binders import Binder
from wexagraph.exports.copying import Copied, copy, copy_rows
from wexagraph.exports.journal import Journal
from wexagraph.exports.options import SUFFIXES, ExportOptions
from wexagraph.exports.plan import Planner
from wexagraph.exports.pool import WorkerLost, Workers
from wexagraph.exports.report import Failure, Progress, Report
from wexagraph.exports.rows import FileRow, Row
from wexagraph.exports.stored import Stored, stored
from wexagraph.exports.target import OWN, Target
from wexagraph.exports.work import Work
from wexagraph.messages import Header
from wexagraph.messages.headers import header_end
from wexagraph.notes import Note
from wexagraph.pages.engines import available
from wexagraph.pages.make import Job, Made, make
from wexagraph.selection import Choice
from wexagraph.sources import Envelope, Source

_BATCH_FILES = 1024
_BATCH_BYTES = 96 * 1024 * 1024
_BATCH_SECONDS = 2.0
_ROWS_PER_CALL = 64
_WORTH_WORKERS = 1000


def export(
    source: Source,
    into: str | Path,
    choice: Choice | None = None,
    options: ExportOptions | None = None,
    *,
    progress: Callable[[Progress], None] | None = None,
    stopped: Callable[[], bool] | None = None,
    executor: Executor | None = None,
    afterwards: Callable[[list[Stored]], int] | None = None,
) -> Report:
    """Make files from the chosen messages of a source, below the folder `into`.

    Run again, it makes only what is missing. `progress` is told how far it is; when `stopped` answers true, the
    messages in hand are finished and the report says `interrupted`. `executor` makes the pages, where they are not
    to be made by worker processes of this machine. At the end of a run that was not interrupted, `afterwards` is given
    the messages whose files were read back whole, and says how many it has changed at the source.

    Raises SourceError, TargetError or CallError; a message that fails is in the report instead.
    """
    options = options or ExportOptions()
    started = time.monotonic()
    engines = available(options.engine) if "pdf" in options.formats else []
    target = Target(Path(into))
    try:
        if (target.folder / OWN / "attachments.sqlite").exists():
            raise TargetError(
                f"{target.folder} holds attachments that were taken out. Choose another folder for an export."
            )
        journal = Journal(target.folder / OWN / "journal.sqlite")
        try:
            run = _Run(source, target, journal, options, engines, progress, stopped, executor)
            report = run.go(choice or Choice())
            if afterwards is not None and not report.interrupted:
                report.changed = afterwards(list(stored(journal, target, options)))
        finally:
            journal.close()
    finally:
        target.close()
    report.seconds = time.monotonic() - started
    return report


class _Run:
    def __init__(
        self,
        source: Source,
        target: Target,
        journal: Journal,
        options: ExportOptions,
        engines: list[str],
        progress: Callable[[Progress], None] | None,
        stopped: Callable[[], bool] | None,
        executor: Executor | None,
    ) -> None:
        self.source, self.target, self.journal, self.options = source, target, journal, options
        self.attempts = [(name, False, True) for name in engines] + [(name, True, True) for name in engines[:1]]
        if "pages" in options.page.attachments:
            # an attachment may be what breaks an engine: the message is tried without making pages of any
            self.attempts[1:1] = [(name, False, False) for name in engines[:1]]
            self.attempts[-1] = (*self.attempts[-1][:2], False)
        self.report = Report(into=str(target.folder))
        self.progress = Progress()
        self.tell = progress or (lambda _: None)
        self.stopped = stopped or (lambda: False)
        self._executor = executor
        self._own: Workers | None = None
        self.pending: dict[Future[Made], Work] = {}
        self.read: list[tuple[str, int, str, int]] = []
        self.batch: list[Work] = []
        self.batch_bytes = 0
        self.batch_since = time.monotonic()
        self.binder = Binder(target, journal, options)

    def go(self, choice: Choice) -> Report:
        try:
            planner = Planner(self.source, self.journal, self.target, self.options, self._workers)
            self.progress.total = planner.plan(choice, self._looking, self.stopped)
            self.progress.done = 0
            self.report.interrupted = self.stopped()
            self.report.missing_ids = sorted(id for id in choice.ids or () if not self.journal.has_id(id))
            self._read_all()
            while self.pending:
                self._collect()
            self._put()
            self.target.settle()
        except (SourceError, TargetError):
            self._drop_workers()
            with suppress(TargetError):
                self._put()  # what was finished before a disk failed may still find its place
            raise
        finally:
            self._drop_workers()
        if not self.report.interrupted:
            self.binder.finish(self.report)
        register.write(self.target, self.journal)
        self.journal.commit()
        self.report.troubles += [(t.where, t.reason) for t in self.source.troubles]
        return self.report

    def _looking(self, count: int) -> None:
        self.progress.done = count
        self.tell(self.progress)

    # reading

    def _read_all(self) -> None:
        """Every chosen message: what is there already is passed over, what is missing is read and made."""
        options = self.options
        only_copies = not options.page_formats and not options.archive_formats and self._executor is None
        many = (self.progress.total or 0) >= _WORTH_WORKERS
        if only_copies and many and self.source.reopens and options.jobs > 1:
            self._copy_in_workers()
        else:
            self._copy_here()

    def _needed(self) -> Iterator[Work]:
        """The messages that something has to be made of, until the run is asked to stop."""
        for row, files in self.journal.chosen(self.options.naming):
            if self.stopped():
                self.report.interrupted = True
                return
            missing = self._missing(row, files)
            if missing or self.binder.wants(row):
                yield Work(row, missing, frozenset(file.path for file in files))
            else:
                self._count_already()

    def _missing(self, row: Row, files: list[FileRow]) -> tuple[str, ...]:
        """The formats that have to be made: never made, made otherwise, or lost and altered since."""
        if not files:
            return self.options.message_formats
        there = {file.path: file for file in files}
        missing = []
        for name in self.options.message_formats:
            file = there.get(row.stem + SUFFIXES[name])
            if file is None or file.recipe != self.options.recipe(name):
                missing.append(name)
            elif not self._intact(file):
                missing.append(name)
                self._remake(file)
        for file in files:
            if file.format == "beside" and file.recipe == self.options.recipe("beside") and not self._intact(file):
                missing = list(self.options.message_formats)
                self._remake(file)
        return tuple(missing)

    def _remake(self, file: FileRow) -> None:
        self.report.remade.append(file.path)
        self.report.notes["remade"] += 1

    def _intact(self, file: FileRow) -> bool:
        stamp = self.target.stamp(file.path)
        if stamp is None or stamp[0] != file.size:
            return False
        return stamp[1] == file.modified or self.target.sha256(file.path) == file.sha256

    def _copy_here(self) -> None:
        """Read the messages in this process: for pages, for archives, and from a source that can't be shared out."""
        works: deque[Work] = deque()

        def wanted() -> Iterator[Envelope]:
            for work in self._needed():
                works.append(work)
                yield work.row.envelope()

        for _, data in self.source.read_many(wanted()):
            work = works.popleft()
            if isinstance(data, MessageError):
                self._fail(work.row, str(data))
                continue
            stager = self.target.stager if "eml" in work.missing else None
            try:
                copied = copy(work.row, data, stager, work.row.stem + SUFFIXES["eml"] in work.replaced)
            except OSError as error:
                raise self.target.failed(error) from error
            self._copied(work, copied, data)

    def _copy_in_workers(self) -> None:
        """Have workers read and stage EML files, many messages at a time."""
        location, folder = self.source.location, str(self.target.work)
        running: deque[tuple[list[Work], Future[list[Copied]]]] = deque()

        def finish() -> None:
            works, future = running.popleft()
            try:
                copies = future.result()
            except OSError as error:
                raise self.target.failed(error) from error
            for work, copied in zip(works, copies, strict=True):
                self._copied(work, copied)

        batch: list[Work] = []
        for work in self._needed():
            batch.append(work)
            if len(batch) == _ROWS_PER_CALL:
                running.append((batch, self._submit_copies(location, folder, batch)))
                batch = []
                while len(running) > 16 * self.options.jobs:  # enough to go on with while a batch is put
                    finish()
        if batch:
            running.append((batch, self._submit_copies(location, folder, batch)))
        while running:
            finish()

    def _submit_copies(self, location: str, folder: str, batch: list[Work]) -> Future[list[Copied]]:
        rows = [(work.row, work.row.stem + SUFFIXES["eml"] in work.replaced) for work in batch]
        return self._workers().submit_lasting(copy_rows, location, folder, rows)

    def _copied(self, work: Work, copied: Copied, data: bytes = b"") -> None:
        """A message was read: its EML is staged, where one is wanted; its pages come next."""
        if copied.trouble:
            self._fail(work.row, copied.trouble)
            return
        work.row.digest = copied.digest
        self.read.append((copied.digest, copied.size, copied.attachments, copied.number))
        if copied.staged is not None:
            work.staged.append(("eml", copied.staged, ()))
        if self.options.archive_formats and self.binder.wants(work.row):
            header = Header(data[: header_end(data)])
            self.binder.add(work.row, data, header, header.date(work.row.moment)[0])
        if any(name in self.options.page_formats for name in work.missing) or (work.missing and self.options.beside):
            work.data = data
            work.attempts = list(self.attempts) if "pdf" in work.missing else [("", False, True)]
            self._submit(work)
            while len(self.pending) >= 2 * self.options.jobs + 2:
                self._collect()
        else:
            self._done(work)

    # making

    def _submit(self, work: Work) -> None:
        formats = tuple(name for name in work.missing if name in self.options.page_formats)
        name, plain, convert = work.attempts.pop(0)
        job = Job(work.data, formats, self.options.page, name, plain, work.row.moment, convert)
        future = (self._executor or self._workers()).submit(make, job)
        self.pending[future] = work

    def _workers(self) -> Workers:
        if self._own is None:
            self._own = Workers(self.options.jobs, self.options.patience)
        return self._own

    def _drop_workers(self) -> None:
        if self._own is not None:
            self._own.shutdown(wait=not self.pending, cancel_futures=bool(self.pending))
            self._own = None

    def _collect(self) -> None:
        done, _ = wait(self.pending, timeout=1.0, return_when=FIRST_COMPLETED)
        for future in done:
            self._made(self.pending.pop(future), future)
        if time.monotonic() - self.batch_since > _BATCH_SECONDS:
            self._put()

    def _made(self, work: Work, future: Future[Made]) -> None:
        try:
            made = future.result()
        except (WorkerLost, PageError, RuntimeError, MemoryError, ArithmeticError, LookupError, ValueError) as error:
            work.trouble = str(error) or type(error).__name__
            if work.attempts:
                self._submit(work)
            else:
                self._fall_back(work)
            return
        notes = list(made.notes)
        if work.trouble:
            used = self.attempts[len(self.attempts) - len(work.attempts) - 1]
            if used[1] or used[2]:
                notes.append(Note("text-only" if used[1] else "engine-other", work.trouble[:200]))
        for name, content in made.files.items():
            self._stage(work, name, content, tuple(notes))
        for name, content in made.beside.items():
            path = work.row.stem + name
            work.staged.append(("beside", self.target.stage(path, content, path in work.replaced), ()))
        work.notes += notes
        self._done(work)

    def _fall_back(self, work: Work) -> None:
        """No engine could make the page: the message itself is written, and counts as failed."""
        note = Note("page-failed", work.trouble[:200])
        work.notes.append(note)
        if "eml" not in self.options.formats:
            self._stage(work, "eml", work.data, (note,))
        self._done(work)

    def _stage(self, work: Work, name: str, content: bytes, notes: tuple[Note, ...]) -> None:
        path = work.row.stem + SUFFIXES[name]
        work.staged.append((name, self.target.stage(path, content, path in work.replaced), notes))

    def _done(self, work: Work) -> None:
        work.data = b""
        self.batch.append(work)
        self.batch_bytes += sum(staged.size for _, staged, _ in work.staged)
        if (
            len(self.batch) >= _BATCH_FILES
            or self.batch_bytes >= _BATCH_BYTES
            or time.monotonic() - self.batch_since > _BATCH_SECONDS
        ):
            self._put()

    # writing

    def _put(self) -> None:
        """Put a batch under its names, then tell the journal: what it calls done is on the disk."""
        batch, self.batch, self.batch_bytes = self.batch, [], 0
        read, self.read = self.read, []
        self.batch_since = time.monotonic()
        self.journal.set_read(read)
        if batch:
            results = iter(self.target.put(staged for work in batch for _, staged, _ in work.staged))
            files: list[FileRow] = []
            written: list[int] = []
            for work in batch:
                refused = [reason for _ in work.staged if (reason := next(results)[1])]
                self._account(work, refused, files, written)
            self.journal.record(files)
            self.journal.set_written(written)
        self.journal.commit()

    def _account(self, work: Work, refused: list[str], files: list[FileRow], written: list[int]) -> None:
        row, options, report = work.row, self.options, self.report
        for name, staged, notes in work.staged:
            if refused:
                continue
            own = (row.number, name, options.naming, options.recipe(name))
            files.append(FileRow(staged.path, *own, staged.size, staged.modified, staged.sha256, notes))
            report.files[name] += 1
            report.bytes += staged.size
            self.progress.files += 1
        planned = self.journal.notes(row.number) if row.arrival or work.notes else []
        report.notes.update({note.code for note in [*planned, *work.notes]})
        failed = next((note for note in work.notes if note.code == "page-failed"), None)
        if refused or failed:
            self._fail(row, refused[0] if refused else str(failed))
        elif not work.missing and options.message_formats:
            self._count_already()  # it was read for an archive of its folder only
        else:
            report.read += 1
            report.written += 1
            written.append(row.number)
            self._advance()

    def _count_already(self) -> None:
        self.report.read += 1
        self.report.already += 1
        self._advance()

    def _fail(self, row: Row, reason: str) -> None:
        self.report.read += 1
        self.journal.set_failed(row.number, reason)
        self.report.fail(Failure(row.id, row.folder, self.journal.subject(row.number), reason))
        self._advance()

    def _advance(self) -> None:
        self.progress.done += 1
        self.progress.failed = self.report.failed
        self.tell(self.progress)
