"""The chosen messages of a source, with those that others bring along as messages of their own."""

from __future__ import annotations

import hashlib
import re
from collections.abc import Iterable, Iterator
from dataclasses import replace

from wexagraph.errors import MessageError
from wexagraph.messages.carried import Carried, carried_by, may_carry, says_nothing_else
from wexagraph.messages.conversations import message_id
from wexagraph.messages.headers import Header, header_end
from wexagraph.notes import Note
from wexagraph.selection.choice import Choice
from wexagraph.sources.base import (
    WHOLE,
    Envelope,
    Leaf,
    Original,
    Partition,
    Source,
    Stored,
    Wanted,
    bounded,
    listed,
)

_AT_ONCE, _AT_ONCE_BYTES = 64, 8 * 1024 * 1024
_PIECE = re.compile(r"(.*)\x1f(\d+)", re.DOTALL)  # no mailbox has this character in a place


class TakenApart(Source):
    """The chosen messages of a source. One that brings others along as files comes as these, each under its own date
    and sender, with a note of who sent it on; and as itself where it has words or files of its own besides."""

    def __init__(self, source: Source, choice: Choice) -> None:
        super().__init__(source.location, source.kind, source.address, source.troubles)
        self.lists_apart, self.moves, self.goes_on = source.lists_apart, source.moves, source.goes_on
        self._source, self._choice = source, choice
        self.keys, self.sender_keys = source.keys, source.sender_keys
        self._met: set[str] = set()
        self._wrappers: dict[tuple[str, str], tuple[Stored, list[str]]] = {}
        self._newest: dict[str, list[Envelope]] | None = None
        self._last: tuple[tuple[str, str], list[Carried]] | None = None

    def folders(self) -> list[str]:
        return self._choice.folders_of(self._source)

    def size(self, folder: str) -> int:
        return self._source.size(folder)

    def envelopes(self, folder: str, share: Partition = WHOLE, wanted: Wanted | None = None) -> Iterator[Envelope]:
        for envelope in self._chosen(folder):
            if self._choice.ids is not None:
                self._met.add(envelope.id)
            yield from self.apart(envelope)

    def _chosen(self, folder: str) -> Iterable[Envelope]:
        if self._choice.newest is None:
            return self._choice.of_share(self._source, folder)
        if self._newest is None:
            self._newest = {}
            for envelope in self._choice.select(self._source):
                self._newest.setdefault(envelope.folder, []).append(envelope)
        return self._newest.get(folder, ())

    def has_id(self, id: str) -> bool:
        """Whether a message of this ID was met, by itself or as what brought others."""
        return id in self._met

    def apart(self, envelope: Envelope) -> list[Envelope]:
        """A message of the source, or in its place those that it brings along."""
        try:
            leaves = self._source.attachments(envelope) if not envelope.trouble else []
            if not (any(may_carry(leaf.name, leaf.type) for leaf in leaves) or self._source.may_hide(envelope)):
                return [envelope]
            data = self._source.read(envelope)
        except MessageError:
            return [envelope]  # what can't be read is told when it is to be written
        message = self.message(data)
        carried = carried_by(message)
        if not carried:
            return [envelope]
        moment = envelope.date()[0]
        day = f", {moment:%Y-%m-%d %H:%M}" if moment is not None else ""
        note = Note("carried", f"{envelope.header.sender}{day}, {envelope.id}")
        parts = [
            replace(
                envelope,
                place=f"{envelope.place}\x1f{number}",
                size=len(one.data),
                header=Header(one.data[: header_end(one.data)]),
                stamp=f"{envelope.fingerprint()}/{number}",
                arrived=moment or envelope.arrived,
                notes=(note,),
                bearer=message_id(envelope.header) or envelope.fingerprint().encode(),
            )
            for number, one in enumerate(carried, 1)
        ]
        if not says_nothing_else(message, len(carried)):
            parts.insert(0, envelope)
        whole = Stored(envelope.folder, envelope.place, envelope.fingerprint(), hashlib.sha256(data).hexdigest())
        self._wrappers[envelope.folder, envelope.place] = (whole, [part.place for part in parts])
        return parts

    def in_mailbox(self, stored: Iterable[Stored]) -> Iterator[Stored]:
        """What brought others counts as stored where all that it became is."""
        places = set()
        for one in stored:
            places.add((one.folder, one.place))
            if not _PIECE.fullmatch(one.place) and (one.folder, one.place) not in self._wrappers:
                yield one
        for whole, parts in self._wrappers.values():
            if all((whole.folder, place) in places for place in parts):
                yield whole

    def read(self, envelope: Envelope) -> bytes:
        piece = self._piece(envelope)
        return self._source.read(envelope) if piece is None else piece.data

    def read_many(self, envelopes: Iterable[Envelope]) -> Iterator[tuple[Envelope, bytes | MessageError]]:
        for batch in bounded(envelopes, _AT_ONCE, _AT_ONCE_BYTES):
            whole = iter(self._source.read_many([each for each in batch if not _PIECE.fullmatch(each.place)]))
            for envelope in batch:
                yield next(whole) if not _PIECE.fullmatch(envelope.place) else next(super().read_many([envelope]))

    def _piece(self, envelope: Envelope) -> Carried | None:
        """The message that lies inside another one; None for one that lies in the source. Raises MessageError."""
        at = _PIECE.fullmatch(envelope.place)
        if at is None:
            return None
        key = (envelope.folder, at[1])
        if self._last is None or self._last[0] != key:
            whole = replace(envelope, place=at[1], stamp=envelope.stamp.rpartition("/")[0], header=Header(b""))
            data = self._source.read(whole)  # whose header is another: an account compares it
            self._last = (key, carried_by(self.message(data)))
        if int(at[2]) > len(self._last[1]):
            raise MessageError("the message that brought it was changed. Run the same command again.")
        return self._last[1][int(at[2]) - 1]

    def attachments(self, envelope: Envelope) -> list[Leaf]:
        piece = self._piece(envelope)
        return self._source.attachments(envelope) if piece is None else listed(self.message(piece.data))

    def may_hide(self, envelope: Envelope) -> bool:
        return not _PIECE.fullmatch(envelope.place) and self._source.may_hide(envelope)

    def original(self, envelope: Envelope) -> Original | None:
        piece = self._piece(envelope)
        if piece is None:
            return self._source.original(envelope)
        return Original(piece.name, piece.type, piece.original) if piece.original else None

    def settle(self) -> None:
        self._source.settle()
