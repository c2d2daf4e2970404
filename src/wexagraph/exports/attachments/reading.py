"""Messages read and taken apart: in this process, or by workers, many at a time; their order stays."""

from __future__ import annotations

from collections.abc import Iterable, Iterator
from concurrent.futures import Future
from dataclasses import replace
from itertools import chain, islice
from typing import Any

from wexagraph.errors import MessageError
from wexagraph.exports.attachments.context import Context
from wexagraph.exports.attachments.pulling import Pulled, land, origin_of, pull, pull_away, pull_many, pull_read
from wexagraph.output.staging import in_hand
from wexagraph.sources import Envelope
from wexagraph.sources.base import bounded
from wexagraph.work.batches import Batch, ahead
from wexagraph.work.opening import open_workers

_CALL_MESSAGES, _CALL_BYTES = 32, 24 * 1024 * 1024
_WORTH_WORKERS = 40
_PAGES_SECONDS, _OCR_SECONDS, _SAY_SECONDS = 600.0, 4 * 3600.0, 1.0


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
