"""What of a source an order has not delivered yet: told by where a message lies, else by its bytes."""

from __future__ import annotations

import hashlib
from collections.abc import Callable, Iterable, Iterator, Mapping
from dataclasses import dataclass, field

from wexagraph.errors import MessageError
from wexagraph.records.order_log import MARK_SIZE, OrderLog
from wexagraph.selection.choice import Choice
from wexagraph.sources.base import WHOLE, Envelope, Leaf, Partition, Source, Wanted, bounded

_AT_ONCE, _AT_ONCE_BYTES = 64, 8 * 1024 * 1024
_MOST_HELD = 64 * 1024 * 1024
_PASSING = frozenset({"seen", "unseen", "keyword", "older-than", "newer-than"})
Place = tuple[str, str]


@dataclass
class Fresh:
    """The messages that are to be delivered, by folder and place; and what else was found out.

    `skipped` were delivered before. `known` are delivered ones that lie elsewhere now, and such that only a changed
    choice has chosen: folder, place, stamp and digest of each. `looked` are the stamps of the folders and how many
    messages they hold that need nothing more. `held` are bytes that were read. `lying` are the marks of all messages
    of the folders that were looked through, chosen or not, by their IDs.
    """

    envelopes: dict[str, list[Envelope]] = field(default_factory=dict)
    held: dict[Place, bytes] = field(default_factory=dict)
    skipped: int = 0
    known: list[tuple[str, str, str, str | None]] = field(default_factory=list)
    looked: dict[str, tuple[str, int]] = field(default_factory=dict)
    lying: dict[str, dict[str, bytes]] = field(default_factory=dict)

    @property
    def count(self) -> int:
        """How many are to be delivered."""
        return sum(map(len, self.envelopes.values()))

    def met(self, undone: set[str]) -> dict[str, set[bytes]]:
        """The marks of what was met, by folders: all but what of these IDs is still to be delivered."""
        return {
            folder: {each for id, each in marks.items() if id not in undone} for folder, marks in self.lying.items()
        }

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
    marks: Callable[[str], dict[str, bytes]],
    changed: bool = False,
) -> Fresh:
    """Look through the folders of a choice. `said` is the choice as it was said, `stamps` are those of the folders from
    before this look, "" where they tell nothing; `marks` gives the marks of all that lies in a folder. Where the choice
    was `changed`, what an earlier run has met is passed over, however old or new it says it is.

    Raises SourceError, CallError.
    """
    fresh = Fresh()
    has_delivered = log.has_delivered(name)
    for folder, stamp in stamps.items():
        held = log.unchanged(name, source.location, folder, stamp, said)
        if held is not None:
            fresh.skipped += held
            continue
        fresh.lying[folder] = marks(folder)
        met = log.met(name, source.location, folder) if changed else frozenset()
        skipped, strange = fresh.skipped, list[Envelope]()
        # where all are chosen, places and stamps tell what is known; headers come with the bytes of what is not
        bare = has_delivered and not changed and not choice.narrows
        listed = source.outline(folder) if bare else choice.of_share(source, folder)
        for envelope in source.readable(folder, listed):
            if log.knows(name, source.location, envelope):
                fresh.skipped += 1
            elif mark(envelope) in met:
                fresh.known.append((folder, envelope.place, envelope.fingerprint(), None))
            else:
                strange.append(envelope)
        new = list(_not_moved(name, log, source, strange, fresh)) if has_delivered else strange
        if new:
            fresh.envelopes[folder] = new
        fresh.looked[folder] = (stamp, fresh.skipped - skipped + len(new))
    return fresh


def marks_of(source: Source, folder: str) -> dict[str, bytes]:
    """The marks of all that lies in a folder, by IDs. Raises SourceError."""
    return {each.id: mark(each) for each in source.readable(folder, source.lying(folder))}


def mark(envelope: Envelope) -> bytes:
    """Eight bytes that tell a message from what else may ever lie at its place."""
    known = f"{envelope.place}\0{envelope.fingerprint().partition(';')[0]}"
    return hashlib.blake2b(known.encode("utf-8", "surrogateescape"), digest_size=MARK_SIZE).digest()


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
                envelope = source.with_header(envelope, data)
            if held + len(data) <= _MOST_HELD:
                fresh.held[envelope.folder, envelope.place] = data
                held += len(data)
            yield envelope


class Listed(Source):
    """Some messages of a source as a source of their own; bytes that were read for it are not read again."""

    goes_on = True

    def __init__(self, source: Source, fresh: Fresh) -> None:
        super().__init__(source.location, source.kind, source.address, source.troubles)
        self.lists_apart, self.moves = source.lists_apart, source.moves
        self._source, self._fresh = source, fresh
        self.keys, self.sender_keys = source.keys, source.sender_keys

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

    def may_hide(self, envelope: Envelope) -> bool:
        return (envelope.folder, envelope.place) not in self._fresh.held and self._source.may_hide(envelope)

    def settle(self) -> None:
        self._source.settle()
