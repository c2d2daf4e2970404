"""What of a source an order has not delivered yet: told by where a message lies, else by its bytes."""

from __future__ import annotations

import hashlib
from collections.abc import Iterable, Iterator, Mapping
from dataclasses import dataclass, field
from datetime import UTC, datetime

from wexagraph.errors import MessageError
from wexagraph.messages import Header
from wexagraph.messages.headers import header_end
from wexagraph.records.order_log import OrderLog
from wexagraph.selection import Choice
from wexagraph.sources import WHOLE, Envelope, Partition, Source, Wanted
from wexagraph.sources.base import Leaf, bounded

_AT_ONCE, _AT_ONCE_BYTES = 64, 8 * 1024 * 1024
_MOST_HELD = 64 * 1024 * 1024
_PASSING = frozenset({"seen", "unseen", "keyword", "older-than", "newer-than"})
Place = tuple[str, str]


@dataclass
class Fresh:
    """The messages that are to be delivered, by folder and place; and what else was found out.

    `skipped` were delivered before. `known` are delivered ones that lie elsewhere now, and such that only a changed
    choice has chosen: folder, place, stamp and digest of each. `looked` are the stamps of the folders and how many
    messages they hold that need nothing more. `held` are bytes that were read.
    """

    envelopes: dict[str, list[Envelope]] = field(default_factory=dict)
    held: dict[Place, bytes] = field(default_factory=dict)
    skipped: int = 0
    known: list[tuple[str, str, str, str | None]] = field(default_factory=list)
    looked: dict[str, tuple[str, int]] = field(default_factory=dict)

    @property
    def count(self) -> int:
        """How many are to be delivered."""
        return sum(map(len, self.envelopes.values()))

    def all(self) -> Iterator[Envelope]:
        """Those that are to be delivered."""
        for envelopes in self.envelopes.values():
            yield from envelopes


def is_steady(choice: Choice) -> bool:
    """Whether a choice chooses the same messages of a folder as long as nothing in that changes."""
    days = (one for one in (*choice.criteria, *choice.exceptions) if one.name in ("since", "before"))
    return not any(one.name in _PASSING for one in (*choice.criteria, *choice.exceptions)) and not any(
        one.value.strip()[-1:].isalpha() for one in days
    )


def find_fresh(
    name: str,
    log: OrderLog,
    source: Source,
    choice: Choice,
    said: str,
    stamps: Mapping[str, str],
    before: datetime | None = None,
) -> Fresh:
    """Look through the folders of a choice. `said` is the choice as it was said, `stamps` are those of the folders from
    before this look, "" where they tell nothing. Where the choice was changed, what came `before` that is passed over.

    Raises SourceError, CallError.
    """
    fresh = Fresh()
    has_delivered = log.has_delivered(name)
    for folder, stamp in stamps.items():
        held = log.unchanged(name, source.location, folder, stamp, said)
        if held is not None:
            fresh.skipped += held
            continue
        skipped, strange = fresh.skipped, list[Envelope]()
        # where all are chosen, places and stamps tell what is known; headers come with the bytes of what is not
        bare = has_delivered and before is None and not choice.narrows
        listed = source.outline(folder) if bare else choice.of_share(source, folder)
        for envelope in source.readable(folder, listed):
            if log.knows(name, source.location, envelope):
                fresh.skipped += 1
            elif before is not None and (_moment(envelope) or before) < before:
                fresh.known.append((folder, envelope.place, envelope.fingerprint(), None))
            else:
                strange.append(envelope)
        new = list(_not_moved(name, log, source, strange, fresh)) if has_delivered else strange
        if new:
            fresh.envelopes[folder] = new
        fresh.looked[folder] = (stamp, fresh.skipped - skipped + len(new))
    return fresh


def _moment(envelope: Envelope) -> datetime | None:
    moment = envelope.arrival or envelope.date()[0]
    return moment.replace(tzinfo=UTC) if moment is not None and moment.tzinfo is None else moment


def _not_moved(name: str, log: OrderLog, source: Source, strange: list[Envelope], fresh: Fresh) -> Iterator[Envelope]:
    """Those of messages at unknown places whose bytes were not delivered from another one."""
    held = sum(map(len, fresh.held.values()))
    for batch in bounded(strange, _AT_ONCE, _AT_ONCE_BYTES):
        for envelope, data in source.read_many(batch):
            if isinstance(data, MessageError):
                yield envelope
                continue
            digest = hashlib.sha256(data).hexdigest()
            if log.knows_digest(name, digest):
                fresh.known.append((envelope.folder, envelope.place, envelope.fingerprint(), digest))
                fresh.skipped += 1
                continue
            if not envelope.header.block:
                envelope.header = Header(data[: header_end(data)])
            if held + len(data) <= _MOST_HELD:
                fresh.held[envelope.folder, envelope.place] = data
                held += len(data)
            yield envelope


class Listed(Source):
    """Some messages of a source as a source of their own; bytes that were read for it are not read again."""

    def __init__(self, source: Source, fresh: Fresh) -> None:
        super().__init__(source.location, source.kind, source.address, source.troubles)
        self.lists_apart, self.moves = source.lists_apart, source.moves
        self._source, self._fresh = source, fresh

    def folders(self) -> list[str]:
        return sorted(self._fresh.envelopes)

    def size(self, folder: str) -> int:
        return sum(envelope.size for envelope in self._fresh.envelopes[folder])

    def envelopes(self, folder: str, share: Partition = WHOLE, wanted: Wanted | None = None) -> Iterator[Envelope]:
        yield from self._fresh.envelopes[folder]

    def read(self, envelope: Envelope) -> bytes:
        held = self._fresh.held.get((envelope.folder, envelope.place))
        return held if held is not None else self._source.read(envelope)

    def read_many(self, envelopes: Iterable[Envelope]) -> Iterator[tuple[Envelope, bytes | MessageError]]:
        held = self._fresh.held
        for batch in bounded(envelopes, _AT_ONCE, _AT_ONCE_BYTES):
            away = iter(self._source.read_many([each for each in batch if (each.folder, each.place) not in held]))
            for envelope in batch:
                data = held.get((envelope.folder, envelope.place))
                yield (envelope, data) if data is not None else next(away)

    def attachments(self, envelope: Envelope) -> list[Leaf]:
        return self._source.attachments(envelope)

    def settle(self) -> None:
        self._source.settle()
