"""An export from beginning to end: plan, read, make, write, and sums that agree."""

from __future__ import annotations

import time
from collections import deque
from collections.abc import Callable, Iterator
from concurrent.futures import FIRST_COMPLETED, Executor, Future, wait
from contextlib import suppress
from datetime import datetime
from itertools import islice
from pathlib import Path
from typing import Any

from wexagraph.errors import MessageError, PageError, SourceError, TargetError
from wexagraph.exports import register
from wexagraph.exports.bound_documents import Binding, bind_with
from wexagraph.exports.copying import Copied, copy, copy_rows
from wexagraph.exports.folder_archives import FolderArchives
from wexagraph.exports.formats import FORMATS, suffix
from wexagraph.exports.in_hand import BoundDocument, BoundFile, WorkItem
from wexagraph.exports.journal import Journal
from wexagraph.exports.message_records import MessageRecord, unpacked
from wexagraph.exports.needs import Needs
from wexagraph.exports.options import ExportOptions
from wexagraph.exports.plan import Planner, written_by
from wexagraph.exports.publisher import Publisher
from wexagraph.exports.recovery import recover
from wexagraph.exports.report import ExportReport
from wexagraph.exports.stored import stored
from wexagraph.exports.turns import Turns
from wexagraph.messages import Header
from wexagraph.messages.dates import in_zone
from wexagraph.messages.headers import header_end
from wexagraph.notes import Note
from wexagraph.output.folder import OWN
from wexagraph.output.target import Target, keep_apart
from wexagraph.pages.composing.provenance import Provenance
from wexagraph.pages.engines import available
from wexagraph.pages.make import Job, Made, make
from wexagraph.reports import Progress
from wexagraph.selection import Choice
from wexagraph.sources import Envelope, Source, Stored
from wexagraph.text import one_line
from wexagraph.work.batches import Batch
from wexagraph.work.opening import open_workers
from wexagraph.work.workers import WorkerLost, Workers

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
    afterwards: Callable[[list[Stored]], tuple[int, list[tuple[str, str]]]] | None = None,
) -> ExportReport:
    """Make files from the chosen messages of a source, below the folder `into`.

    Run again, it makes only what is missing. `progress` is told how far it is; when `stopped` answers true, the
    messages in hand are finished and the report says `interrupted`. `executor` makes the pages, where they are not
    to be made by worker processes of this machine. At the end of a run that was not interrupted, `afterwards` is given
    the messages whose files were read back whole, and says how many it has changed at the source and which it left.

    Raises SourceError, TargetError or CallError; a message that fails is in the report instead.
    """
    options = options or ExportOptions()
    started = time.monotonic()
    engines = available(options.engine) if "pdf" in options.formats else []
    keep_apart(source.location, into)
    target = Target(Path(into))
    try:
        if target.root.taken(f"{OWN}/attachments.sqlite"):
            raise TargetError(
                f"{target.folder} holds attachments that were taken out. Choose another folder for an export."
            )
        journal = Journal(target.database("journal.sqlite"))
        try:
            recovered = recover(journal, target, options) if journal.is_new else 0
            run = _Run(source, target, journal, options, engines, progress, stopped, executor)
            report = run.go((choice or Choice()).settled(source))
            report.recovered = recovered
            if afterwards is not None and not report.interrupted:
                report.changed_at_the_source, report.left_at_the_source = afterwards(
                    list(stored(journal, target, options))
                )
        finally:
            journal.close()
    finally:
        target.close()
    report.seconds = time.monotonic() - started
    return report


def _is_listed(row: MessageRecord, data: bytes) -> bool:
    """Whether bytes are of the message that was listed: people and subject are those of the plan."""
    return unpacked(row.facts)[1:] == written_by(Header(data[: header_end(data)]))


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
        if engines and "pages" in options.page.attachments:
            # an attachment may be what breaks an engine: the message is tried without making pages of any
            self.attempts[1:1] = [(name, False, False) for name in engines[:1]]
            self.attempts[-1] = (*self.attempts[-1][:2], False)
        self.report = ExportReport(into=str(target.folder))
        self.progress = Progress()
        self.tell = progress or (lambda _: None)
        self.stopped = stopped or (lambda: False)
        self._executor = executor
        self._own: Workers | None = None
        self.pending: dict[Future[Made], WorkItem] = {}
        self.bindings: dict[Future[BoundFile], BoundDocument] = {}
        self.binder = FolderArchives(target, journal, options)
        self.turns = Turns(journal, options.bind) if options.bind else None
        self.binding = Binding(target, options, self.turns) if self.turns else None
        self.putter = Publisher(target, journal, options, self.report, self.progress, self.tell)
        self.needs = Needs(target, journal, options, self.report, self.putter, self.binder, self.binding, self.stopped)

    def go(self, choice: Choice) -> ExportReport:
        try:
            planner = Planner(self.source, self.journal, self.target, self.options, self._workers, self.turns)
            self.progress.total = planner.plan(choice, self._looking, self.stopped)
            self.progress.done = 0
            self.report.interrupted = self.stopped()
            self.report.unknown_ids = sorted(id for id in choice.ids or () if not self.journal.has_id(id))
            if self.turns is not None:
                self.turns.arrange(choice.in_words)
            self._read_all()
            while self.pending or self.bindings:
                self._collect()
            self.putter.put()
            self.target.settle()
        except (SourceError, TargetError):
            self._drop_workers()
            with suppress(TargetError):
                self.putter.put()  # what was finished before a disk failed may still find its place
            raise
        finally:
            self._drop_workers()
        self.binder.finish(self.report)
        register.write(self.target, self.journal)
        self.journal.commit()
        self.source.settle()
        self.report.unreadable += [(t.where, t.reason) for t in self.source.troubles]
        return self.report

    def _looking(self, count: int) -> None:
        self.progress.done = count
        self.tell(self.progress)

    # reading

    def _read_all(self) -> None:
        """Every chosen message: what is there already is passed over, what is missing is read and made."""
        options = self.options
        only_copies = not options.page_formats and not options.archive_formats
        elsewhere = self._executor is not None or bool(options.cluster)
        many = (self.progress.total or 0) >= _WORTH_WORKERS
        if only_copies and many and self.source.reopens and options.jobs > 1 and not elsewhere:
            self._copy_in_workers()
        else:
            self._copy_here()

    def _copy_here(self) -> None:
        """Read the messages in this process: for pages, for archives, and from a source that can't be shared out."""
        works: deque[WorkItem] = deque()

        def wanted() -> Iterator[Envelope]:
            for work in self.needs.works():
                works.append(work)
                yield work.row.envelope()

        for _, data in self.source.read_many(wanted()):
            work = works.popleft()
            if isinstance(data, MessageError):
                self._unread(work, str(data))
                continue
            if self.source.lists_apart and not _is_listed(work.row, data):
                self._unread(work, "the server delivers another message than the one that it has listed")
                continue
            stager = self.target.stager if "eml" in work.missing else None
            try:
                copied = copy(work.row, data, stager, work.row.stem + suffix("eml") in work.replaced)
            except OSError as error:
                raise self.target.failed(error) from error
            self._copied(work, copied, data)

    def _copy_in_workers(self) -> None:
        """Have workers read and stage EML files, many messages at a time."""
        location, folder = self.source.address, str(self.target.work)
        running: deque[Batch[WorkItem, Copied]] = deque()

        def submit(works: list[WorkItem]) -> Future[list[Copied]]:
            rows = [(work.row, work.row.stem + suffix("eml") in work.replaced) for work in works]
            return self._workers().submit_lasting(copy_rows, location, folder, rows)

        def finish() -> None:
            batch = running.popleft()
            try:
                copies = batch.results(lambda work, reason: Copied(work.row.number, "", 0, "", trouble=reason))
            except OSError as error:
                raise self.target.failed(error) from error
            for work, copied in zip(batch.items, copies, strict=True):
                self._copied(work, copied)

        works = self.needs.works()
        while items := list(islice(works, _ROWS_PER_CALL)):
            running.append(Batch(submit, items))
            while len(running) > 16 * self.options.jobs:  # enough to go on with while a batch is put
                finish()
        while running:
            finish()

    def _copied(self, work: WorkItem, copied: Copied, data: bytes = b"") -> None:
        """A message was read: its EML is staged, where one is wanted; its pages come next."""
        if copied.trouble:
            self._unread(work, copied.trouble)
            return
        work.row.digest = copied.digest
        self.putter.read(copied.digest, copied.size, copied.attachments, copied.number)
        if copied.staged is not None:
            work.staged.append(("eml", copied.staged, ()))
        if self.options.archive_formats and self.binder.wants(work.row):
            header = Header(data[: header_end(data)])
            self.binder.add(work.row, data, header, header.date(work.row.moment)[0])
        if any(name in self.options.page_formats for name in work.missing) or (work.missing and self.options.beside):
            work.data = data
            work.attempts = list(self.attempts) if "pdf" in work.missing else [("", False, True)]
            self._submit(work)
            while len(self.pending) >= 2 * self.options.jobs + 2 or len(self.bindings) > 2 * self.options.jobs:
                self._collect()
        else:
            self._done(work)

    def _unread(self, work: WorkItem, reason: str) -> None:
        """A message can't be read: nothing waits for it."""
        self.putter.fail(work.row, reason)
        if work.sheaf is not None:
            self._arrived(work.sheaf)

    # making

    def _submit(self, work: WorkItem) -> None:
        formats = tuple(name for name in work.missing if name in self.options.page_formats)
        name, plain, convert = work.attempts.pop(0)
        future = self._workers().submit(make, self._job(work, formats, name, plain, convert))
        self.pending[future] = work

    def _job(self, work: WorkItem, formats: tuple[str, ...], engine: str, plain: bool, convert: bool) -> Job:
        row, sheaf, options = work.row, work.sheaf, self.options
        makers = tuple((name, make) for name in formats if (make := FORMATS[name].make) is not None)
        file = sheaf.path if sheaf is not None else row.stem + suffix("pdf")
        tags = tuple(row.tags.split(", ")) if row.tags else ()
        origin = Provenance(self.source.location, row.folder, row.id, row.moment, file.rpartition("/")[2], tags)
        if sheaf is None or self.binding is None:
            lock = options.lock
            return Job(
                work.data,
                formats,
                options.page,
                engine,
                plain,
                origin,
                convert,
                lock=lock,
                exported=options.exported,
                makers=makers,
            )
        if sheaf.said is not None and work.known is None:
            work.known = sheaf.said.meet(work.data, self._label(work))
        whole = (sheaf.group.title, sheaf.group.tags) if row is sheaf.group.rows[0][0] else None
        return Job(
            work.data,
            formats,
            options.page,
            engine,
            plain,
            origin,
            convert,
            part="pdf" in formats,
            known=work.known or (),
            whole=whole,
            lock=self.binding.part_lock,
            makers=makers,
        )

    def _label(self, work: WorkItem) -> str:
        """What a quote's place in an earlier message is called."""
        date, sender = self.journal.facts(work.row.number)[:2]
        moment = datetime.fromisoformat(date) if date else None
        zone = self.options.zone
        shown = in_zone(moment, zone) if moment and zone else moment
        when = f"{shown:%Y-%m-%d %H:%M}" if shown else "unknown date"
        return one_line(f"of {when} from {sender or 'no sender'}")[:200]

    def _workers(self) -> Workers:
        if self._own is None:
            self._own = open_workers(self.options.jobs, self.options.timeout, self.options.cluster, self._executor)
        return self._own

    def _drop_workers(self) -> None:
        if self._own is not None:
            self._own.shutdown(wait=not self.pending, cancel_futures=bool(self.pending))
            self._own = None

    def _collect(self) -> None:
        waiting: list[Future[Any]] = [*self.pending, *self.bindings]
        done, _ = wait(waiting, timeout=1.0, return_when=FIRST_COMPLETED)
        for future in done:
            if future in self.pending:
                self._made(self.pending.pop(future), future)
            else:
                self._bound(self.bindings.pop(future), future)
        self.putter.put_if_due()

    def _made(self, work: WorkItem, future: Future[Made]) -> None:
        try:
            made = future.result()
        except Exception as error:  # whatever a message does to what makes its page, it does to itself only
            known = isinstance(error, WorkerLost | PageError)
            work.trouble = str(error) if known else f"{type(error).__name__}: {error}"
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
        if work.sheaf is not None and self.binding is not None and "pdf" in made.files:
            self.binding.add(work.sheaf, work, made)
        for name, content in made.files.items():
            self._stage(work, name, content, tuple(notes))
        for name, content in made.beside.items():
            path = work.row.stem + name
            work.staged.append(("beside", self.target.stage(path, content, path in work.replaced), ()))
        work.notes += notes
        self._done(work)

    def _fall_back(self, work: WorkItem) -> None:
        """No engine could make the page: the message itself is written, and counts as failed."""
        note = Note("page-failed", work.trouble[:200])
        work.notes.append(note)
        if "eml" not in self.options.formats:
            self._stage(work, "eml", work.data, (note,))
        if work.sheaf is not None and self.binding is not None:
            self.binding.give_up(work.sheaf, work, self.journal.facts(work.row.number))
        self._done(work)

    def _stage(self, work: WorkItem, name: str, content: bytes, notes: tuple[Note, ...]) -> None:
        path = work.row.stem + suffix(name)
        work.staged.append((name, self.target.stage(path, content, path in work.replaced), notes))

    def _done(self, work: WorkItem) -> None:
        work.data = b""
        if work.sheaf is None:
            self.putter.done([work])
        else:
            work.sheaf.works.append(work)
            self._arrived(work.sheaf)

    # binding

    def _arrived(self, sheaf: BoundDocument) -> None:
        """One more message of a bound PDF has come, or never will; when all have, it is bound."""
        sheaf.waiting -= 1
        if sheaf.waiting or self.binding is None:
            return
        job = self.binding.job(sheaf, self.attempts[0][0])
        if job is not None:
            signature = self.binding.signature([row for row, _ in sheaf.group.rows])
            future = bind_with(self._workers(), job, sheaf.path, sheaf.replaces, signature)
            self.bindings[future] = sheaf

    def _bound(self, sheaf: BoundDocument, future: Future[BoundFile]) -> None:
        try:
            bound = future.result()
        except OSError as error:
            raise self.target.failed(error) from error
        except Exception as error:
            for work in sheaf.works:
                self.putter.fail(
                    work.row, f"the bound PDF {sheaf.path} could not be made: {str(error) or type(error).__name__}"
                )
            return
        for work in sheaf.works:
            work.bound = bound
        self.putter.done(sheaf.works)
