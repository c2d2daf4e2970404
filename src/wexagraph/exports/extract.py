"""Only the attachments: each as a file of its own, byte for byte, as a PDF, or both."""

from __future__ import annotations

import time
from collections import deque
from collections.abc import Callable, Iterator
from concurrent.futures import Future
from contextlib import closing
from dataclasses import replace
from datetime import UTC, datetime
from pathlib import Path
from typing import Any

from wexagraph.errors import MessageError, TargetError
from wexagraph.exports.attachment_files import AttachmentFiles
from wexagraph.exports.ledger import Entry, Ledger
from wexagraph.exports.pulling import ExtractOptions, Pulled, has_wanted, origin_of, pull, pull_many, pull_read
from wexagraph.exports.report import AttachmentReport
from wexagraph.messages import Header, Message
from wexagraph.output.folder import OWN
from wexagraph.output.staging import in_hand
from wexagraph.output.target import Target, keep_apart
from wexagraph.output.untouched import untouched
from wexagraph.reports import Failure, Progress
from wexagraph.selection import Choice
from wexagraph.sources import Envelope, Source, Stored
from wexagraph.sources.base import bounded
from wexagraph.work.batches import Batch
from wexagraph.work.pool import ProcessWorkers

_CALL_MESSAGES, _CALL_BYTES = 32, 24 * 1024 * 1024
_PAGES_SECONDS, _OCR_SECONDS, _SAY_SECONDS = 600.0, 4 * 3600.0, 1.0
_NEVER = datetime.min.replace(tzinfo=UTC)


def extract(
    source: Source,
    into: str | Path,
    choice: Choice | None = None,
    options: ExtractOptions | None = None,
    *,
    progress: Callable[[Progress], None] | None = None,
    stopped: Callable[[], bool] | None = None,
    dry: bool = False,
    afterwards: Callable[[list[Stored]], tuple[int, list[tuple[str, str]]]] | None = None,
) -> AttachmentReport:
    """Write the attachments of the chosen messages below the folder `into`; run again, only what is missing.

    At the end of a run that was not interrupted, `afterwards` is given the messages that have attachments, all of which
    were read back whole, and says how many it has changed at the source and which it left. A `dry` run reads and names
    as another would, and writes nothing below the folder.

    Raises SourceError, TargetError or CallError; a message that fails is in the report instead.
    """
    started = time.monotonic()
    options = options or ExtractOptions()
    keep_apart(source.location, into)
    with untouched(Path(into)) if dry else closing(Target(Path(into))) as target:
        if target.root.taken(f"{OWN}/journal.sqlite"):
            raise TargetError(f"{target.folder} holds an export. Choose another folder for attachments alone.")
        ledger = Ledger(target.database("attachments.sqlite"), options.recipes)
        try:
            if ledger.is_new:
                ledger.recover_lists(target)
            run = _Run(source, target, ledger, options, progress or (lambda _: None), stopped or (lambda: False))
            run.report.planned = [] if dry else None
            run.report.documents = [] if options.document is not None else None
            run.looked_at = [] if afterwards is not None else None
            report = run.go((choice or Choice()).settled(source))
            if afterwards is not None and not dry and not report.interrupted:
                report.changed_at_the_source, report.left_at_the_source = afterwards(list(run.stored()))
        finally:
            ledger.close()
    report.into = str(into)
    report.seconds = time.monotonic() - started
    return report


class _Run:
    def __init__(
        self,
        source: Source,
        target: Target,
        ledger: Ledger,
        options: ExtractOptions,
        tell: Callable[[Progress], None],
        stopped: Callable[[], bool],
    ) -> None:
        self.source, self.target, self.ledger, self.options = source, target, ledger, options
        self.tell, self.stopped = tell, stopped
        self.report, self.progress = AttachmentReport(str(target.folder)), Progress()
        self.files = AttachmentFiles(target, ledger, options, self.report)
        self.looked_at: list[Envelope] | None = None  # kept where something is to be done at the source

    def go(self, choice: Choice) -> AttachmentReport:
        if self.options.document is not None or (self.source.reopens and self.options.jobs > 1):
            pulled = self._by_workers(choice)
        else:
            stager = self.target.stager
            read = self.source.read_many(self._wanted(choice))
            pulled = (pull(stager, envelope, data, self.options) for envelope, data in read)
        try:
            for each in pulled:
                self._take(each)
            if self.options.binds_types and not self.report.interrupted:
                self.files.bind_types()
        except OSError as error:
            raise self.target.failed(error) from error
        self.files.put(last=not self.report.interrupted)
        if self.report.planned is None:
            self.ledger.write_lists(self.target)
        self.source.settle()
        self.report.unreadable += [(t.where, t.reason) for t in self.source.troubles]
        return self.report

    def _wanted(self, choice: Choice) -> Iterator[Envelope]:
        """The chosen messages but those whose attachments are all there."""
        choice = self._narrowed(choice)
        # what is bound by type holds old and new together: something new wants all of it
        every = self.options.binds_types and not all(map(self._there, choice.select(self.source)))
        unmet = set(choice.ids or ())
        for envelope in choice.select(self.source):
            if self.stopped():
                self.report.interrupted = True
                return
            unmet.discard(envelope.id)
            if self.looked_at is not None:
                self.looked_at.append(replace(envelope, header=Header(b""), stamp=envelope.fingerprint()))
            if not every and self._there(envelope):
                self.report.chosen += 1
                self._count_known(self.ledger.known(self.source.location, envelope) or [])
                self._advance()
                continue
            yield envelope
        self.report.unknown_ids = sorted(unmet)

    def _count_known(self, known: list[Entry]) -> None:
        unmade = sum(entry.document is not None and not entry.document.path for entry in known)
        self.report.unmade += unmade
        self.report.already_there += len(known) - (0 if self.options.native else unmade)

    def _there(self, envelope: Envelope) -> bool:
        """Whether all that is wanted of a message is on the disk."""
        known = self.ledger.known(self.source.location, envelope)
        return known is not None and all(map(self._intact, known))

    def _narrowed(self, choice: Choice) -> Choice:
        """The choice whose newest are those of the messages that have an attachment which is wanted."""
        if choice.newest is None or self.source.searches:
            return choice
        every = replace(choice, newest=None).select(self.source)
        ranked = sorted(
            (
                (e.date()[0] or _NEVER, n, e.id, Envelope(e.folder, e.place, e.size, Header(b""), e.stamp))
                for n, e in enumerate(every)
            ),
            key=lambda item: (item[0], -item[1]),
            reverse=True,
        )
        ids: set[str] = set()
        for _, _, id, envelope in ranked:
            if len(ids) < choice.newest and self._has_wanted(envelope):
                ids.add(id)
        return replace(choice, newest=None, ids=frozenset(ids))

    def _has_wanted(self, envelope: Envelope) -> bool:
        try:
            return has_wanted(Message(self.source.read(envelope)), self.options)
        except MessageError:
            return True  # its failure is to show

    def stored(self) -> Iterator[Stored]:
        """The messages of this run that have attachments, each with what the disk now holds of it proved."""
        for envelope in self.looked_at or ():
            entries = self.ledger.known(self.source.location, envelope)
            if entries and all(self.target.sha256(path) == sha256 for path, sha256 in map(_proof, entries)):
                digest = self.ledger.digest(self.source.location, envelope)
                yield Stored(envelope.folder, envelope.place, envelope.stamp, digest)

    def _intact(self, entry: Entry) -> bool:
        """Whether what is wanted of an attachment is on the disk as it was written."""
        target, document = self.target, entry.document
        if self.options.native and not target.is_intact(entry.path, entry.size, entry.modified, entry.sha256):
            return False
        if self.options.document is None or document is None or not document.path:
            return True
        return target.is_intact(document.path, document.size, document.modified, document.sha256)

    def _by_workers(self, choice: Choice) -> Iterator[Pulled]:
        """Workers read, decode, digest, stage and make pages, many messages at a time; their order stays."""
        running: deque[Batch[Any, Pulled]] = deque()
        work, options, source = str(self.target.work), self.options, self.source
        making = options.document is not None
        patience = _OCR_SECONDS if options.document is not None and options.document.page.ocr else _PAGES_SECONDS

        def submit(items: list[Any]) -> Future[list[Pulled]]:
            arguments = (work, items, options)
            pulling: tuple[Any, ...] = (pull_many, source.address) if source.reopens else (pull_read,)
            if making:
                return pool.submit_within(patience, *pulling, *arguments)
            return pool.submit_lasting(*pulling, *arguments)

        def finish() -> list[Pulled]:
            batch = running.popleft()
            while not batch.wait(_SAY_SECONDS):
                self.progress.in_hand = in_hand(work)
                self.tell(self.progress)
            return batch.results(self._broken)

        with ProcessWorkers(options.jobs, 0) as pool:
            for items in self._bundles(self._wanted(choice)):
                running.append(Batch(submit, items))
                if len(running) > (1 if making else 3) * options.jobs:
                    yield from finish()
            while running:
                yield from finish()

    def _bundles(self, wanted: Iterator[Envelope]) -> Iterator[list[Any]]:
        """What a worker takes in one call: messages, or where it can't read them itself, messages with their bytes."""
        if not self.source.reopens:
            yield from ([read] for read in self.source.read_many(wanted))
        else:
            most = _CALL_MESSAGES if self.options.document is None else 1
            yield from bounded(wanted, most, _CALL_BYTES)

    def _broken(self, item: Any, reason: str) -> Pulled:
        """A message that broke its worker: where making PDFs did it, its attachments are taken as they are."""
        envelope, data = item if isinstance(item, tuple) else (item, None)
        if self.options.document is None:
            return Pulled(origin_of(envelope), trouble=reason)
        if data is None:
            try:
                data = self.source.read(envelope)
            except MessageError as error:
                data = error
        unmade = replace(self.options.document, unmade=reason)
        return pull(self.target.stager, envelope, data, replace(self.options, document=unmade))

    def _take(self, pulled: Pulled) -> None:
        report, origin = self.report, pulled.origin
        report.chosen += 1
        origin.source = self.source.location
        if pulled.trouble:
            report.fail(Failure(origin.id, origin.folder, origin.subject, pulled.trouble))
        else:
            self.progress.finished += self.files.take(pulled)
        self._advance()

    def _advance(self) -> None:
        self.progress.done += 1
        self.progress.failed, self.progress.in_hand = self.report.failed, ()
        self.tell(self.progress)
        self.progress.finished = []


def _proof(entry: Entry) -> tuple[str, str]:
    """The path of a file that holds an attachment, and its digest."""
    if entry.path or entry.document is None:
        return entry.path, entry.sha256
    return entry.document.path, entry.document.sha256
