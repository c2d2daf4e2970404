"""Pages: messages on their way through the engines, and the bound documents that wait for them."""

from __future__ import annotations

from concurrent.futures import FIRST_COMPLETED, Future, wait
from contextlib import suppress
from dataclasses import replace
from datetime import datetime
from typing import Any

from wexagraph.errors import PageError
from wexagraph.exports.bound_documents import bind_with
from wexagraph.exports.context import Context
from wexagraph.exports.in_hand import BoundDocument, BoundFile, WorkItem
from wexagraph.exports.options import FORMATS, suffix
from wexagraph.messages.dates import in_zone
from wexagraph.naming.office_names import NO_NAMES
from wexagraph.notes import Note
from wexagraph.pages.cleaning.pictures import Fetched
from wexagraph.pages.composing.properties import Provenance
from wexagraph.pages.engines import page_parts
from wexagraph.pages.make import Job, Made, make
from wexagraph.text import one_line
from wexagraph.work.batches import WorkerLost


class Pages:
    """Has pages made in workers, a bounded number at a time, each by one attempt after the other."""

    def __init__(self, run: Context, engines: list[str]) -> None:
        self.run = run
        self.attempts = [(name, False, True) for name in engines] + [(name, True, True) for name in engines[:1]]
        if engines and "pages" in run.options.page.attachments:
            # an attachment may be what breaks an engine: the message is tried without making pages of any
            self.attempts[1:1] = [(name, False, False) for name in engines[:1]]
            self.attempts[-1] = (*self.attempts[-1][:2], False)
        self.pending: dict[Future[Made], WorkItem] = {}
        self.fetching: dict[Future[tuple[Fetched, ...]], WorkItem] = {}
        self.parts: Future[str] | None = None
        page = run.options.page
        self.page = page if page.cover is not None else replace(page, names=NO_NAMES)  # they can be many
        self.bindings: dict[Future[BoundFile], BoundDocument] = {}

    def wants(self, work: WorkItem) -> bool:
        """Whether a message needs anything that is made of its meaning."""
        options = self.run.options
        return any(name in options.page_formats for name in work.missing) or bool(work.missing and options.beside)

    def take(self, work: WorkItem, data: bytes) -> None:
        """Have all made that a message needs; waits while too much is in hand."""
        work.data = data
        work.attempts = list(self.attempts) if "pdf" in work.missing else [("", False, True)]
        self.submit(work)
        most = 2 * self.run.options.jobs
        while len(self.pending) + len(self.fetching) >= most + 2 or len(self.bindings) > most:
            self.collect()

    def finish(self) -> None:
        """Wait for all that is in hand."""
        while self.pending or self.fetching or self.bindings:
            self.collect()
        if self.parts is not None:
            with suppress(WorkerLost):  # what was made is no less made for it
                self.run.journal.note_parts(self.parts.result())

    def submit(self, work: WorkItem) -> None:
        formats = tuple(name for name in work.missing if name in self.run.options.page_formats)
        work.attempt = work.attempts.pop(0)
        if self.parts is None and "pdf" in formats:
            self.parts = self.run.workers().submit(page_parts)
        future = self.run.workers().submit(make, self._job(work, formats, *work.attempt))
        self.pending[future] = work

    def _job(self, work: WorkItem, formats: tuple[str, ...], engine: str, plain: bool, convert: bool) -> Job:
        row, document, options = work.row, work.document, self.run.options
        makers = tuple((name, make) for name in formats if (make := FORMATS[name].make) is not None)
        file = document.path if document is not None else row.stem + suffix("pdf")
        tags = tuple(row.tags.split(", ")) if row.tags else ()
        name = file.rpartition("/")[2]
        origin = Provenance(self.run.source.location, row.folder, row.id, row.moment, name, tags, row.turn)
        job = Job(
            work.data,
            formats,
            self.page,
            engine,
            plain,
            origin,
            convert,
            lock=options.lock,
            exported=options.exported,
            makers=makers,
            fetched=work.fetched if options.remote_images else None,
            original=(work.original.name, work.original.type, work.original.content) if work.original else None,
            keys=self.run.source.keys_for(work.data),
        )
        if document is None or self.run.binding is None:
            return job
        if document.said is not None and work.known is None:
            work.known = document.said.meet(work.data, self._label(work))
        whole = (document.group.title, document.group.tags) if row is document.group.rows[0][0] else None
        known, lock = work.known or (), self.run.binding.part_lock
        return replace(job, part="pdf" in formats, known=known, whole=whole, lock=lock, exported=None)

    def _label(self, work: WorkItem) -> str:
        """What a quote's place in an earlier message is called."""
        date, sender = self.run.journal.facts(work.row.number)[:2]
        moment = datetime.fromisoformat(date) if date else None
        zone = self.run.options.zone
        shown = in_zone(moment, zone) if moment and zone else moment
        tr = self.run.options.page.tr
        when = f"{shown:%Y-%m-%d %H:%M}" if shown else tr("unknown date")
        return one_line(tr("of {when} from {sender}", when=when, sender=sender or tr("no sender")))[:200]

    def collect(self) -> None:
        waiting: list[Future[Any]] = [*self.pending, *self.fetching, *self.bindings]
        done, _ = wait(waiting, timeout=1.0, return_when=FIRST_COMPLETED)
        for future in done:
            if future in self.pending:
                self._made(self.pending.pop(future), future)
            elif future in self.fetching:
                work = self.fetching.pop(future)
                work.fetched += future.result()
                work.attempts.insert(0, work.attempt)  # the same once more, with its pictures
                self.submit(work)
            else:
                self._bound(self.bindings.pop(future), future)
        self.run.publisher.put_if_due()

    def _made(self, work: WorkItem, future: Future[Made]) -> None:
        try:
            made = future.result()
        except Exception as error:  # whatever a message does to what makes its page, it does to itself only
            known = isinstance(error, WorkerLost | PageError)
            work.trouble = str(error) if known else f"{type(error).__name__}: {error}"
            if work.attempts:
                self.submit(work)
            else:
                self._fall_back(work)
            return
        if made.remote:
            self.fetching[self.run.remote_pictures().fetch_all(made.remote)] = work
            return
        notes = list(made.notes)
        if work.trouble:
            _, plain, convert = work.attempt
            if plain or convert:
                notes.append(Note("text-only" if plain else "engine-other", work.trouble[:200]))
        if work.document is not None and self.run.binding is not None and "pdf" in made.files:
            self.run.binding.add(work.document, work, made)
        for name, content in made.files.items():
            self._stage(work, name, content, tuple(notes))
        for name, content in made.beside.items():
            path = work.row.stem + name
            work.staged.append(("beside", self.run.target.stage(path, content, path in work.replaced), ()))
        work.notes += notes
        self.done(work)

    def _fall_back(self, work: WorkItem) -> None:
        """No engine could make the page: the message itself is written, and counts as failed."""
        note = Note("page-failed", work.trouble[:200])
        work.notes.append(note)
        if "eml" not in self.run.options.formats:
            self._stage(work, "eml", work.data, (note,))
        if work.document is not None and self.run.binding is not None:
            self.run.binding.give_up(work.document, work, self.run.journal.facts(work.row.number))
        self.done(work)

    def _stage(self, work: WorkItem, name: str, content: bytes, notes: tuple[Note, ...]) -> None:
        path = work.path(name)
        work.staged.append((name, self.run.target.stage(path, content, path in work.replaced), notes))

    def done(self, work: WorkItem) -> None:
        work.data = b""
        if work.document is None:
            self.run.publisher.done([work])
        else:
            work.document.works.append(work)
            self.arrived(work.document)

    def arrived(self, document: BoundDocument) -> None:
        """One more message of a bound PDF has come, or never will; when all have, it is bound."""
        document.waiting -= 1
        if document.waiting or self.run.binding is None:
            return
        job = self.run.binding.job(document, self.attempts[0][0])
        if job is not None:
            signature = self.run.binding.signature([row for row, _ in document.group.rows])
            future = bind_with(self.run.workers(), job, document.path, document.replaces, signature)
            self.bindings[future] = document

    def _bound(self, document: BoundDocument, future: Future[BoundFile]) -> None:
        try:
            bound = future.result()
        except OSError as error:
            raise self.run.target.failed(error) from error
        except Exception as error:
            for work in (work for work in document.works if work.kept is None):
                self.run.publisher.fail(
                    work.row, f"the bound PDF {document.path} could not be made: {str(error) or type(error).__name__}"
                )
            return
        for work in document.works:
            work.bound = bound
        self.run.publisher.done(document.works)
