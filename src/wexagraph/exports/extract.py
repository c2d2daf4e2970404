"""Only the attachments: each as a file of its own, in its own format, byte for byte."""

from __future__ import annotations

import os
import time
from collections import deque
from collections.abc import Callable, Iterator
from contextlib import closing
from dataclasses import replace
from datetime import UTC, datetime
from pathlib import Path

from wexagraph.errors import MessageError, TargetError
from wexagraph.exports.ledger import Entry, Ledger, Origin
from wexagraph.exports.pulling import ExtractOptions, Pulled, has_wanted, origin_of, pull, pull_many
from wexagraph.exports.report import AttachmentReport
from wexagraph.messages import Header, Message
from wexagraph.output.folder import OWN
from wexagraph.output.staging import Staged
from wexagraph.output.target import Target, keep_apart
from wexagraph.output.untouched import untouched
from wexagraph.reports import AGAIN, NEW, Failure, PlannedFile, Progress
from wexagraph.selection import Choice
from wexagraph.sources import Envelope, Source, Stored
from wexagraph.sources.base import bounded
from wexagraph.work.batches import Batch
from wexagraph.work.pool import ProcessWorkers

_CALL_MESSAGES, _CALL_BYTES = 32, 24 * 1024 * 1024
_BATCH, _BATCH_SECONDS = 512, 2.0
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
        ledger = Ledger(target.database("attachments.sqlite"), options.recipe)
        try:
            if ledger.is_new:
                ledger.recover_lists(target)
            run = _Run(source, target, ledger, options, progress or (lambda _: None), stopped or (lambda: False))
            run.report.planned = [] if dry else None
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
        self.batch: list[tuple[Entry, Staged]] = []
        self.met: list[Origin] = []
        self.looked_at: list[Envelope] | None = None  # kept where something is to be done at the source
        self.since = time.monotonic()

    def go(self, choice: Choice) -> AttachmentReport:
        if self.source.reopens and self.options.jobs > 1:
            pulled = self._by_workers(choice)
        else:
            stager = self.target.stager
            read = self.source.read_many(self._wanted(choice))
            pulled = (pull(stager, envelope, data, self.options) for envelope, data in read)
        try:
            for each in pulled:
                self._take(each)
        except OSError as error:
            raise self.target.failed(error) from error
        self._put()
        if self.report.planned is None:
            self.ledger.write_lists(self.target)
        self.source.settle()
        self.report.unreadable += [(t.where, t.reason) for t in self.source.troubles]
        return self.report

    def _wanted(self, choice: Choice) -> Iterator[Envelope]:
        """The chosen messages but those whose attachments are all there."""
        unmet = set(choice.ids or ())
        for envelope in self._narrowed(choice).select(self.source):
            if self.stopped():
                self.report.interrupted = True
                return
            unmet.discard(envelope.id)
            if self.looked_at is not None:
                self.looked_at.append(replace(envelope, header=Header(b""), stamp=envelope.fingerprint()))
            known = self.ledger.known(self.source.location, envelope)
            if known is not None and all(self._intact(entry) for entry in known):
                self.report.chosen += 1
                self.report.already_there += len(known)
                self._advance()
                continue
            yield envelope
        self.report.unknown_ids = sorted(unmet)

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
            if entries and all(self.target.sha256(entry.path) == entry.sha256 for entry in entries):
                digest = self.ledger.digest(self.source.location, envelope)
                yield Stored(envelope.folder, envelope.place, envelope.stamp, digest)

    def _intact(self, entry: Entry) -> bool:
        return self.target.is_intact(entry.path, entry.size, entry.modified, entry.sha256)

    def _by_workers(self, choice: Choice) -> Iterator[Pulled]:
        """Workers read, decode, digest and stage, many messages at a time; their order stays."""
        running: deque[Batch[Envelope, Pulled]] = deque()
        location, work, options = self.source.address, str(self.target.work), self.options

        def finish() -> list[Pulled]:
            return running.popleft().results(lambda envelope, reason: Pulled(origin_of(envelope), trouble=reason))

        with ProcessWorkers(options.jobs, 0) as pool:
            for items in bounded(self._wanted(choice), _CALL_MESSAGES, _CALL_BYTES):
                running.append(Batch(lambda some: pool.submit_lasting(pull_many, location, work, some, options), items))
                if len(running) > 3 * options.jobs:
                    yield from finish()
            while running:
                yield from finish()

    def _take(self, pulled: Pulled) -> None:
        report, origin = self.report, pulled.origin
        report.chosen += 1
        origin.source = self.source.location
        if pulled.trouble:
            report.fail(Failure(origin.id, origin.folder, origin.subject, pulled.trouble))
        else:
            for entry, staged in zip(pulled.entries, pulled.staged, strict=True):
                self._name(entry, staged, self.ledger.before(entry))
            self.met.append(origin)
        self._advance()
        if len(self.batch) >= _BATCH or time.monotonic() - self.since > _BATCH_SECONDS:
            self._put()

    def _name(self, entry: Entry, staged: Staged, before: Entry | None) -> None:
        """Give an attachment its path: the one it had, that of an identical one, or the first that is free."""
        report = self.report
        report.types[entry.type] += 1
        report.folders[entry.origin.folder] += 1
        if entry.note:
            report.notes[entry.note] += 1
        if before is not None and before.sha256 == entry.sha256:
            entry.path = before.path
            if self._intact(before):
                os.unlink(staged.waiting)
                report.already_there += 1
                entry.modified = before.modified
                self.ledger.add(entry)
                return
            staged.replaces = True
        elif self.options.once and (same := self.ledger.path_of(entry.sha256)):
            entry.path = same
            entry.modified = (self.target.stamp(same) or (0, staged.modified))[1]
            os.unlink(staged.waiting)
            report.same += 1
            self.ledger.add(entry)
            return
        else:
            entry.path, there = self.ledger.free(entry.wish, entry.sha256, self.target)
            if there:
                os.unlink(staged.waiting)
                report.already_there += 1
                entry.modified = (self.target.stamp(entry.path) or (0, 0))[1]
                self.ledger.add(entry)
                return
        staged.path, entry.modified = entry.path, staged.modified
        self.ledger.add(entry)
        self.batch.append((entry, staged))

    def _put(self) -> None:
        batch, self.batch = self.batch, []
        self.since = time.monotonic()
        short: set[int] = set()
        for (entry, staged), (_, refused) in zip(batch, self.target.put(s for _, s in batch), strict=True):
            if refused:
                self.report.fail(Failure(entry.origin.id, entry.origin.folder, entry.name, refused))
                self.ledger.drop(entry)
                short.add(id(entry.origin))
            else:
                self.report.written += 1
                self.report.bytes += staged.size
                self._plan(entry, AGAIN if staged.replaces else NEW)
        # the next run tries again what could not be put
        self.ledger.meet(origin for origin in self.met if id(origin) not in short)
        self.met = []

    def _plan(self, entry: Entry, state: str) -> None:
        if self.report.planned is not None:
            origin = entry.origin
            file = PlannedFile(entry.path, state, entry.type, origin.id, origin.folder, origin.subject, entry.size)
            self.report.planned.append(file)

    def _advance(self) -> None:
        self.progress.done += 1
        self.progress.failed = self.report.failed
        self.tell(self.progress)
