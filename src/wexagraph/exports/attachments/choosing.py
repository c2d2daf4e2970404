"""Which messages a run takes attachments from: those that are chosen, but for those whose attachments are all there."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import replace
from datetime import UTC, datetime

from wexagraph.errors import MessageError
from wexagraph.exports.attachments.context import Context
from wexagraph.exports.attachments.entries import Entry
from wexagraph.exports.attachments.pulling import has_wanted, is_wanted
from wexagraph.messages import Header, Message
from wexagraph.selection import Choice
from wexagraph.sources import Envelope

_NEVER = datetime.min.replace(tzinfo=UTC)


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
    entries = run.ledger.known(run.source.location, envelope)
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
        return has_wanted(Message(run.source.read(envelope)), run.options)
    except MessageError:
        return True  # its failure is to show
