"""A source whose protected messages are read with keys."""

from __future__ import annotations

import re
from collections import deque
from collections.abc import Iterable, Iterator
from dataclasses import replace

from wexagraph.errors import MessageError
from wexagraph.messages.headers import Header
from wexagraph.protection.keys import Keys
from wexagraph.protection.sender_keys import SenderKeys
from wexagraph.sources.base import WHOLE, Envelope, Leaf, Original, Partition, Source, Stored, Wanted, listed

_PROTECTED = re.compile(rb"(?i)pkcs7|\.p7[mz]|multipart/(?:signed|encrypted)")


class Unlocked(Source):
    """Messages keep their bytes; what they mean is told with `keys`. One whose inner header counts is listed by that.
    The source is read in this process alone, and no server looks for words in it."""

    def __init__(self, source: Source, keys: Keys) -> None:
        super().__init__(source.location, source.kind, source.address, source.troubles)
        self.lists_apart, self.moves, self.goes_on = source.lists_apart, source.moves, source.goes_on
        self._source, self.keys = source, keys
        self.sender_keys = SenderKeys(keys.ask) if keys.ask else None
        self._opens = keys.opens
        if not keys.opens:
            self.searches, self.finds = source.searches, source.finds
        self._outer: dict[tuple[str, str], Header] = {}

    def folders(self) -> list[str]:
        return self._source.folders()

    def size(self, folder: str) -> int:
        return self._source.size(folder)

    def envelopes(self, folder: str, share: Partition = WHOLE, wanted: Wanted | None = None) -> Iterator[Envelope]:
        if not self._opens:
            return self._source.envelopes(folder, share, wanted)
        return (self._seen(envelope, None) for envelope in self._source.envelopes(folder, share))

    def with_header(self, envelope: Envelope, data: bytes) -> Envelope:
        return self._seen(super().with_header(envelope, data), data)

    def _seen(self, envelope: Envelope, data: bytes | None) -> Envelope:
        """A message with the header that counts; `data` are its bytes where they were read."""
        if envelope.trouble or not _PROTECTED.search(envelope.header.raw(b"content-type") or b""):
            return envelope
        try:
            message = self.message(self._source.read(envelope) if data is None else data)
        except MessageError:
            return envelope  # what can't be read is told when it is to be written
        if message.header is message.root.header:
            return envelope
        self._outer[envelope.folder, envelope.place] = envelope.header
        return replace(envelope, header=message.header, stamp=envelope.fingerprint())

    def _as_it_lies(self, envelope: Envelope) -> Envelope:
        """A message with the header that its source has listed, by which that knows it again."""
        outer = self._outer.get((envelope.folder, envelope.place))
        return envelope if outer is None or not envelope.header.block else replace(envelope, header=outer)

    def outline(self, folder: str, share: Partition = WHOLE) -> Iterator[Envelope]:
        return self._source.outline(folder, share)

    def lying(self, folder: str) -> Iterator[Envelope]:
        return self._source.lying(folder)

    def folder_stamp(self, folder: str) -> str:
        return self._source.folder_stamp(folder)

    def read(self, envelope: Envelope) -> bytes:
        return self._source.read(self._as_it_lies(envelope))

    def read_many(self, envelopes: Iterable[Envelope]) -> Iterator[tuple[Envelope, bytes | MessageError]]:
        asked: deque[Envelope] = deque()

        def as_they_lie() -> Iterator[Envelope]:
            for envelope in envelopes:
                asked.append(envelope)
                yield self._as_it_lies(envelope)

        for _, data in self._source.read_many(as_they_lie()):
            yield asked.popleft(), data

    def attachments(self, envelope: Envelope) -> list[Leaf]:
        leaves = self._source.attachments(self._as_it_lies(envelope))
        if not self._opens or not any(_may_hold(leaf) for leaf in leaves):
            return leaves
        try:
            return listed(self.message(self.read(envelope)))
        except MessageError:
            return leaves

    def may_hide(self, envelope: Envelope) -> bool:
        return self._source.may_hide(self._as_it_lies(envelope))

    def keep(self, envelope: Envelope, data: bytes) -> None:
        self._source.keep(self._as_it_lies(envelope), data)

    def in_mailbox(self, stored: Iterable[Stored]) -> Iterator[Stored]:
        return self._source.in_mailbox(stored)

    def original(self, envelope: Envelope) -> Original | None:
        return self._source.original(self._as_it_lies(envelope))

    def settle(self) -> None:
        self._source.settle()

    def close(self) -> None:
        self._source.close()


def _may_hold(leaf: Leaf) -> bool:
    """Whether an attachment may be what others were encrypted in."""
    return "pkcs7" in leaf.type or "pgp" in leaf.type or leaf.name.lower().endswith((".p7m", ".p7z", ".asc", ".pgp"))
