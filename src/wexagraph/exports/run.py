"""An export from beginning to end: plan, read, make, write, and sums that agree."""

from __future__ import annotations

import time
from collections.abc import Callable
from concurrent.futures import FIRST_COMPLETED, Executor, Future, wait
from contextlib import suppress
from dataclasses import dataclass, field
from datetime import datetime
from hashlib import sha256
from pathlib import Path
from typing import Any

from wexagraph.errors import MessageError, PageError, TargetError
from wexagraph.exports import register
from wexagraph.exports.binders import Binder
from wexagraph.exports.journal import FileRow, Journal, Row
from wexagraph.exports.options import SUFFIXES, ExportOptions
from wexagraph.exports.plan import Planner
from wexagraph.exports.pool import WorkerLost, Workers
from wexagraph.exports.report import Failure, Progress, Report
from wexagraph.exports.target import OWN, Staged, Target
from wexagraph.messages import Header
from wexagraph.messages.headers import header_end
from wexagraph.notes import Note
from wexagraph.pages.engines import available
from wexagraph.pages.make import Job, Made, make
from wexagraph.selection import Choice
from wexagraph.sources import Source
from wexagraph.sources.local import listed
from wexagraph.text import one_line

_BATCH_FILES = 512
_BATCH_BYTES = 96 * 1024 * 1024
_BATCH_SECONDS = 2.0


@dataclass
class _Work:
    """A message on its way: what it needs, what has been made of it so far."""

    row: Row
    data: bytes
    missing: tuple[str, ...]
    attempts: list[tuple[str, bool]] = field(default_factory=list)
    staged: list[tuple[str, Staged, tuple[Note, ...]]] = field(default_factory=list)
    notes: list[Note] = field(default_factory=list)
    trouble: str = ""


def export(
    source: Source,
    into: str | Path,
    choice: Choice | None = None,
    options: ExportOptions | None = None,
    *,
    progress: Callable[[Progress], None] | None = None,
    stopped: Callable[[], bool] | None = None,
    executor: Executor | None = None,
) -> Report:
    """Make files from the chosen messages of a source, below the folder `into`.

    Run again, it makes only what is missing. `progress` is told how far it is; when `stopped` answers true, the
    messages in hand are finished and the report says `interrupted`. `executor` makes the pages, where they are not
    to be made by worker processes of this machine.

    Raises SourceError, TargetError or CallError; a message that fails is in the report instead.
    """
    options = options or ExportOptions()
    started = time.monotonic()
    engines = available(options.engine) if "pdf" in options.formats else []
    target = Target(Path(into))
    try:
        journal = Journal(target.folder / OWN / "journal.sqlite")
        try:
            run = _Run(source, target, journal, options, engines, progress, stopped, executor)
            report = run.go(choice or Choice())
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
        self.attempts = [(name, False) for name in engines] + [(name, True) for name in engines[:1]]
        self.report = Report(into=str(target.folder))
        self.progress = Progress()
        self.tell = progress or (lambda _: None)
        self.stopped = stopped or (lambda: False)
        self._executor = executor
        self._own: Workers | None = None
        self.pending: dict[Future[Made], _Work] = {}
        self.batch: list[_Work] = []
        self.batch_bytes = 0
        self.batch_since = time.monotonic()
        self.binder = Binder(target, journal, options)

    def go(self, choice: Choice) -> Report:
        planner = Planner(self.source, self.journal, self.target, self.options)
        count = planner.plan(choice, self._looking, self.stopped)
        self.progress.done, self.progress.total = 0, count
        self.report.missing_ids = self._missing_ids(choice)
        try:
            if not self.stopped():
                self._read_all()
            self._finish_all()
        except TargetError:
            self._drop_workers()
            with suppress(TargetError):
                self._put()  # what was finished before the disk failed may still find its place
            raise
        except BaseException:
            self._drop_workers()
            raise
        self._drop_workers()
        if not self.report.interrupted:
            self.binder.finish(self.report)
        register.write(self.target, self.journal)
        self.journal.commit()
        self.report.troubles = [(t.where, t.reason) for t in self.source.troubles]
        return self.report

    def _looking(self, count: int) -> None:
        self.progress.done = count
        self.tell(self.progress)

    def _missing_ids(self, choice: Choice) -> list[str]:
        if not choice.ids:
            return []
        found = {row.id for row in self.journal.chosen_by_folder(self.options.naming)}
        return sorted(choice.ids - found)

    # reading

    def _read_all(self) -> None:
        """Every chosen message: what is there already is passed over, what is missing is read and made."""
        rows = self.journal.chosen_by_folder(self.options.naming)
        needed: dict[tuple[str, str], tuple[Row, tuple[str, ...]]] = {}

        def wanted() -> Any:
            for row in rows:
                missing = self._missing(row)
                if not missing and not self.binder.wants(row):
                    self._count_already(row)
                    continue
                needed[row.folder, row.place] = (row, missing)
                yield row.envelope()

        for envelope, data in self.source.read_many(wanted()):
            row, missing = needed.pop((envelope.folder, envelope.place))
            if isinstance(data, MessageError):
                self._fail(row, str(data))
            else:
                self._take(row, data, missing)
            if self.stopped():
                self.report.interrupted = True
                return

    def _missing(self, row: Row) -> tuple[str, ...]:
        """The formats that have to be made: never made, made otherwise, or lost and altered since."""
        if row.digest is None:
            return self.options.message_formats
        there = {}
        for file in self.journal.files_of(row.number):
            if file.naming == self.options.naming and file.recipe == self.options.recipe(file.format):
                there[file.format] = file
        missing = []
        for name in self.options.message_formats:
            found = there.get(name)
            if found is None:
                missing.append(name)
            elif not self._intact(found):
                missing.append(name)
                self.report.remade.append(found.path)
                self.report.notes["remade"] += 1
        return tuple(missing)

    def _intact(self, file: FileRow) -> bool:
        stamp = self.target.stamp(file.path)
        if stamp is None or stamp[0] != file.size:
            return False
        return stamp[1] == file.modified or self.target.sha256(file.path) == file.sha256

    def _count_already(self, row: Row) -> None:
        self.report.read += 1
        self.report.already += 1
        self._advance()

    def _advance(self) -> None:
        self.progress.done += 1
        self.progress.failed = self.report.failed
        self.tell(self.progress)

    # making

    def _take(self, row: Row, data: bytes, missing: tuple[str, ...]) -> None:
        digest = sha256(data).hexdigest()
        header = Header(data[: header_end(data)])
        arrival = datetime.fromisoformat(row.arrival) if row.arrival else None
        row.facts = _facts(header, arrival, data)
        row.digest = digest
        self.journal.set_facts(row.number, digest, len(data), row.facts)
        self.binder.add(row, data, header, header.date(arrival)[0])
        work = _Work(row, data, missing)
        work.notes += header.date(arrival)[1]
        if "eml" in missing:
            self._stage(work, "eml", data, ())
        pages = tuple(name for name in missing if name in self.options.page_formats)
        if not pages:
            self._done(work)
            return
        work.attempts = list(self.attempts) if "pdf" in pages else [("", False)]
        self._submit(work, pages, arrival)
        while len(self.pending) >= 2 * self.options.jobs + 2:
            self._collect()

    def _submit(self, work: _Work, formats: tuple[str, ...], arrival: datetime | None) -> None:
        name, plain = work.attempts.pop(0)
        job = Job(work.data, formats, self.options.page, name, plain, arrival)
        future = self._workers().submit(make, job)
        self.pending[future] = work

    def _workers(self) -> Executor:
        if self._executor is not None:
            return self._executor
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

    def _made(self, work: _Work, future: Future[Made]) -> None:
        pages = tuple(name for name in work.missing if name in self.options.page_formats)
        arrival = datetime.fromisoformat(work.row.arrival) if work.row.arrival else None
        try:
            made = future.result()
        except (
            WorkerLost,
            PageError,
            RuntimeError,
            MemoryError,
            ArithmeticError,
            LookupError,
            ValueError,
        ) as error:
            work.trouble = str(error) or type(error).__name__
            if work.attempts:
                self._submit(work, pages, arrival)
            else:
                self._fall_back(work, pages)
            return
        notes = list(made.notes)
        if work.trouble:
            used = self.attempts[len(self.attempts) - len(work.attempts) - 1]
            notes.append(Note("text-only" if used[1] else "engine-other", work.trouble[:200]))
        for name, content in made.files.items():
            self._stage(work, name, content, tuple(notes))
        work.notes += notes
        self._done(work)

    def _fall_back(self, work: _Work, pages: tuple[str, ...]) -> None:
        """No engine could make the page: the message itself is written, and counts as failed."""
        note = Note("page-failed", work.trouble[:200])
        work.notes.append(note)
        if "eml" not in self.options.formats:
            self._stage(work, "eml", work.data, (note,))
        self._done(work)

    def _stage(self, work: _Work, name: str, content: bytes, notes: tuple[Note, ...]) -> None:
        path = work.row.stem + SUFFIXES[name]
        replaces = self.journal.file_at(path) is not None
        work.staged.append((name, self.target.stage(path, content, replaces), notes))

    def _done(self, work: _Work) -> None:
        work.data = b""
        self.batch.append(work)
        self.batch_bytes += sum(staged.size for _, staged, _ in work.staged)
        if (
            len(self.batch) >= _BATCH_FILES
            or self.batch_bytes >= _BATCH_BYTES
            or time.monotonic() - self.batch_since > _BATCH_SECONDS
        ):
            self._put()

    def _finish_all(self) -> None:
        while self.pending:
            self._collect()
        self._put()
        self.target.settle()

    # writing

    def _put(self) -> None:
        """Put a batch under its names, then tell the journal: what it calls done is on the disk."""
        batch, self.batch, self.batch_bytes = self.batch, [], 0
        self.batch_since = time.monotonic()
        if not batch:
            return
        results = iter(self.target.put(staged for work in batch for _, staged, _ in work.staged))
        for work in batch:
            refused = [reason for _ in work.staged if (reason := next(results)[1])]
            self._account(work, refused)
        self.journal.commit()

    def _account(self, work: _Work, refused: list[str]) -> None:
        row, options = work.row, self.options
        written = 0
        for name, staged, notes in work.staged:
            stamp = self.target.stamp(staged.path)
            if stamp is None or refused:
                continue
            self.journal.record(
                FileRow(staged.path, row.number, name, options.naming, options.recipe(name), staged.size, stamp[1],
                        staged.sha256, notes)
            )  # fmt: skip
            self.report.files[name] += 1
            self.report.bytes += staged.size
            written += 1
        self.progress.files += written
        self.report.notes.update({note.code for note in work.notes})
        failed = next((n for n in work.notes if n.code == "page-failed"), None)
        if refused:
            self._fail(row, refused[0])
        elif failed:
            self._fail(row, str(failed))
        elif not work.missing and options.message_formats:
            self._count_already(row)  # it was read for an archive of its folder only
        else:
            self.report.read += 1
            self.report.written += 1
            self.journal.set_outcome(row.number, "written")
            self._advance()

    def _fail(self, row: Row, reason: str) -> None:
        self.report.read += 1
        self.journal.set_outcome(row.number, "failed", reason)
        self.report.fail(Failure(row.id, row.folder, row.facts.get("subject", ""), reason))
        self._advance()


def _facts(header: Header, arrival: datetime | None, data: bytes) -> dict[str, Any]:
    """What the register says of a message, from its header and its structure."""
    moment = header.date(arrival)[0]
    facts: dict[str, Any] = {
        "date": moment.isoformat() if moment else "",
        "from": one_line("; ".join(map(str, header.addresses(b"from"))))[:2000],
        "to": one_line("; ".join(map(str, header.addresses(b"to"))))[:8000],
        "cc": one_line("; ".join(map(str, header.addresses(b"cc"))))[:8000],
        "subject": one_line(header.subject)[:4000],
    }
    kind = (header.raw(b"content-type") or b"").lstrip().lower()
    if kind and not kind.startswith(b"text/"):
        from wexagraph.messages.mime import parse

        leaves = listed(parse(data)[0])
        facts["attachments"] = [one_line(leaf.name or leaf.type)[:400] for leaf in leaves[:500]]
    return facts
