"""A run of attachments from beginning to end: choose, read, put, bind, list; and sums that agree."""

from __future__ import annotations

import time
from collections.abc import Callable, Iterable, Iterator
from concurrent.futures import Future
from dataclasses import dataclass, field, replace
from datetime import UTC, datetime
from itertools import chain, islice
from pathlib import Path
from typing import Any

from wexagraph.errors import MessageError
from wexagraph.exports import register
from wexagraph.exports.attachments.files import AttachmentFiles, AttachmentReport
from wexagraph.exports.attachments.options import ExtractOptions
from wexagraph.exports.attachments.pulling import (
    Pulled,
    has_wanted,
    is_wanted,
    land,
    origin_of,
    pull,
    pull_away,
    pull_many,
    pull_read,
)
from wexagraph.exports.context import opened
from wexagraph.exports.journal.attachments import Attachments, Entry
from wexagraph.exports.options import ExportOptions
from wexagraph.exports.register import Wording
from wexagraph.languages import language
from wexagraph.messages.headers import Header
from wexagraph.output.staging import in_hand
from wexagraph.output.target import Target
from wexagraph.reports import Failure, Progress
from wexagraph.selection.choice import Choice
from wexagraph.sources.base import Envelope, Source, Stored, bounded
from wexagraph.work.batches import Batch, ahead
from wexagraph.work.opening import open_workers

_NEVER = datetime.min.replace(tzinfo=UTC)
_CALL_MESSAGES, _CALL_BYTES = 32, 24 * 1024 * 1024
_WORTH_WORKERS = 40
_PAGES_SECONDS, _OCR_SECONDS, _SAY_SECONDS = 600.0, 4 * 3600.0, 1.0


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
    options = replace(options or ExtractOptions(), keys=source.keys)
    with opened(source, into, ExportOptions(), dry=dry) as (target, journal, _):
        attachments = Attachments(journal, options.recipes)
        run = Context(source, target, attachments, options, progress or (lambda _: None), stopped or (lambda: False))
        report = run.report
        report.planned = [] if dry else None
        report.documents = [] if options.document is not None else None
        run.looked_at = [] if afterwards is not None else None
        _take_all(run, (choice or Choice()).settled(source))
        _write_lists(run)
        if afterwards is not None and not dry and not report.interrupted:
            report.changed_at_the_source, report.left_at_the_source = afterwards(list(_stored(run)))
    report.into = str(into)
    report.seconds = time.monotonic() - started
    return report


def _take_all(run: Context, choice: Choice) -> None:
    """Choose, read, and put what is taken out; what is bound by type comes last."""
    try:
        for pulled in read(run, wanted(run, choice)):
            _take(run, pulled)
        if run.options.binds_types and not run.report.interrupted:
            run.files.bind_types()
    except OSError as error:
        raise run.target.failed(error) from error
    run.files.put(last=not run.report.interrupted)


def _take(run: Context, pulled: Pulled) -> None:
    """Hand on what was taken out of a message, or note why it could not be."""
    origin = pulled.origin
    run.report.chosen += 1
    origin.source = run.source.location
    if pulled.trouble:
        run.report.fail(Failure(origin.id, origin.folder, origin.subject, pulled.trouble))
    else:
        run.progress.finished += run.files.take(pulled)
    run.advance()


def _write_lists(run: Context) -> None:
    """Write register and checksums, and note what of the source could not be read."""
    if run.report.planned is None and not run.attachments.journal.is_empty():
        wording, forms = Wording(language(run.options.language), run.options.names), run.options.registers
        run.report.unreadable += register.write_attachments(run.target, run.attachments.journal, forms, wording)
    run.source.settle()
    run.report.unreadable += [(trouble.where, trouble.reason) for trouble in run.source.troubles]


def _stored(run: Context) -> Iterator[Stored]:
    """The messages of this run that have attachments, each with what the disk now holds of it proved."""
    for envelope in run.looked_at or ():
        entries = run.attachments.known(run.source.location, envelope)
        if entries and all(run.target.sha256(path) == sha256 for path, sha256 in map(_proof, entries)):
            digest = run.attachments.digest(run.source.location, envelope)
            yield Stored(envelope.folder, envelope.place, envelope.stamp, digest)


def _proof(entry: Entry) -> tuple[str, str]:
    """The path of a file that holds an attachment, and its digest."""
    if entry.path or entry.document is None:
        return entry.path, entry.sha256
    return entry.document.path, entry.document.sha256


def read(run: Context, envelopes: Iterator[Envelope]) -> Iterator[Pulled]:
    """What is taken out of each message, staged. Raises OSError."""
    options = run.options
    first = list(islice(envelopes, _WORTH_WORKERS))
    messages = chain(first, envelopes)
    many = len(first) == _WORTH_WORKERS or sum(envelope.size for envelope in first) > _CALL_BYTES
    inside = options.nested or options.open_zips  # taken out by workers, whose memory has a limit
    if options.document is not None or ((many or inside) and run.source.reopens and options.jobs > 1):
        yield from _by_workers(run, messages)
        return
    for envelope, data in run.source.read_many(messages):
        yield pull(run.target.stager, envelope, data, options)


def _by_workers(run: Context, envelopes: Iterable[Envelope]) -> Iterator[Pulled]:
    work, options, source = str(run.target.work), run.options, run.source
    making = options.document is not None
    patience = _OCR_SECONDS if options.document is not None and options.document.page.ocr else _PAGES_SECONDS
    pulling: tuple[Any, ...] = (pull_read, work)
    if options.cluster:
        pulling = (pull_away,)
    elif source.reopens:
        pulling = (pull_many, source.address, work)

    with open_workers(options.jobs, patience, options.cluster) as workers:
        submit = workers.submit if making else workers.submit_lasting

        def pull_all(items: list[Any]) -> Future[list[Pulled]]:
            return submit(*pulling, items, options)

        started = (Batch(pull_all, items) for items in _bundles(run, envelopes))
        for batch in ahead(started, (1 if making else 3) * options.jobs):
            while not batch.wait(_SAY_SECONDS):
                run.progress.in_hand = in_hand(work)
                run.tell(run.progress)
            for pulled in batch.results(lambda item, reason: _broken(run, item, reason)):
                yield land(run.target.stager, pulled)


def _bundles(run: Context, envelopes: Iterable[Envelope]) -> Iterator[list[Any]]:
    """What a worker takes in one call: messages, or where it can't read them itself, messages with their bytes."""
    if run.options.cluster or not run.source.reopens:
        yield from ([message] for message in run.source.read_many(envelopes))
    else:
        most = _CALL_MESSAGES if run.options.document is None else 1
        yield from bounded(envelopes, most, _CALL_BYTES)


def _broken(run: Context, item: Any, reason: str) -> Pulled:
    """A message that broke its worker: where making PDFs did it, its attachments are taken as they are."""
    envelope, data = item if isinstance(item, tuple) else (item, None)
    if run.options.document is None:
        return Pulled(origin_of(envelope), trouble=reason)
    if data is None:
        try:
            data = run.source.read(envelope)
        except MessageError as error:
            data = error
    unmade = replace(run.options.document, unmade=reason)
    return pull(run.target.stager, envelope, data, replace(run.options, document=unmade))


@dataclass
class Context:
    """A run: where it reads and writes, what it takes, its sums so far.

    `tell` is told how far it is, `stopped` answers whether it is to stop. `looked_at` are the chosen messages without
    their headers, kept where something is to be done at the source.
    """

    source: Source
    target: Target
    attachments: Attachments
    options: ExtractOptions
    tell: Callable[[Progress], None]
    stopped: Callable[[], bool]
    looked_at: list[Envelope] | None = None
    progress: Progress = field(default_factory=Progress)

    def __post_init__(self) -> None:
        self.report = AttachmentReport(str(self.target.folder))
        self.files = AttachmentFiles(self.target, self.attachments, self.options, self.report)

    def advance(self) -> None:
        """One message more is done."""
        self.progress.done += 1
        self.progress.failed, self.progress.in_hand = self.report.failed, ()
        self.tell(self.progress)
        self.progress.finished = []


def wanted(run: Context, choice: Choice) -> Iterator[Envelope]:
    """The chosen messages of which something is missing; the others are counted as already there."""
    choice = _narrowed(run, choice)
    # what is bound by type holds old and new together: something new wants all of it
    every = run.options.binds_types and not all(
        _entries_there(run, one) is not None for one in choice.select(run.source) if _may_have(run, one)
    )
    unmet = set(choice.ids or ())
    for envelope in choice.select(run.source):
        if run.stopped():
            run.report.interrupted = True
            return
        unmet.discard(envelope.id)
        if not _may_have(run, envelope):
            run.report.chosen += 1
            run.advance()
            continue
        if run.looked_at is not None:
            run.looked_at.append(replace(envelope, header=Header(b""), stamp=envelope.fingerprint()))
        entries = None if every else _entries_there(run, envelope)
        if entries is None:
            yield envelope
            continue
        run.report.chosen += 1
        unmade = sum(entry.document is not None and not entry.document.path for entry in entries)
        run.report.unmade += unmade
        run.report.already_there += len(entries) - (0 if run.options.native else unmade)
        run.advance()
    run.report.unknown_ids = sorted(unmet)


def _may_have(run: Context, envelope: Envelope) -> bool:
    """Whether a message has something that is wanted, or a list alone can't tell."""
    source, options = run.source, run.options
    if not source.lists_apart or options.inline or options.nested or options.open_zips or source.may_hide(envelope):
        return True  # what is inside of others does not show in a list
    return any(is_wanted(leaf.name, leaf.type, options) for leaf in source.attachments(envelope))


def _entries_there(run: Context, envelope: Envelope) -> list[Entry] | None:
    """What was taken from a message; None where something that is wanted of it is not on the disk."""
    entries = run.attachments.known(run.source.location, envelope)
    return entries if entries is not None and all(_is_intact(run, entry) for entry in entries) else None


def _is_intact(run: Context, entry: Entry) -> bool:
    """Whether what is wanted of an attachment is on the disk as it was written."""
    target, document = run.target, entry.document
    if run.options.native and not target.is_intact(entry.path, entry.size, entry.modified, entry.sha256):
        return False
    if run.options.document is None or document is None or not document.path:
        return True
    return target.is_intact(document.path, document.size, document.modified, document.sha256)


def _narrowed(run: Context, choice: Choice) -> Choice:
    """The choice whose newest are those of the messages that have an attachment which is wanted."""
    if choice.newest is None:
        return choice
    every = (one for one in replace(choice, newest=None).select(run.source) if _may_have(run, one))
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
        if len(ids) < choice.newest and _has_wanted(run, envelope):
            ids.add(id)
    return replace(choice, newest=None, ids=frozenset(ids))


def _has_wanted(run: Context, envelope: Envelope) -> bool:
    try:
        return has_wanted(run.source.message(run.source.read(envelope)), run.options)
    except MessageError:
        return True  # its failure is to show
