"""Messages that are the same: between folders, and between mailboxes."""

from __future__ import annotations

import hashlib
from collections.abc import Iterable, Iterator
from dataclasses import dataclass, replace
from datetime import UTC, datetime

from wexagraph.errors import MessageError
from wexagraph.messages.message import Message
from wexagraph.messages.visible_text import visible_texts
from wexagraph.selection.criteria import folded
from wexagraph.sources.base import Envelope, Source

BYTES, TEXT = SAMENESS = ("bytes", "text")
"""How messages are the same: byte for byte; or in what a reader sees, with the same Message-ID, or the same sender and
minute."""
_NEVER = datetime.max.replace(tzinfo=UTC)


@dataclass(slots=True)
class Double:
    """A message that is there more than once: where it lies, and how it is the same as the oldest ("" of that one)."""

    source: Source
    envelope: Envelope
    same: str = ""


def doubles(chosen: Iterable[tuple[Source, Iterable[Envelope]]], same: str = TEXT) -> list[list[Double]]:
    """The groups of messages that are the same, the oldest of each first; `same` says how.

    Only those are read that may be the same by their headers: by Message-ID, or by sender and minute. What can't be
    read has no double.
    """
    found: list[tuple[Source, Envelope]] = []
    candidates = _Candidates()
    for source, envelopes in chosen:
        for envelope in envelopes:
            candidates.add(_keys(envelope))
            # of many, little is held
            found.append((source, replace(envelope, header=envelope.header.listed(), stamp=envelope.fingerprint())))
    groups = [[found[number] for number in group] for group in candidates.groups()]
    read = _read([one for group in groups for one in group])
    return [alike for group in groups for alike in _alike(group, read, same)]


class _Candidates:
    """Things that hang together by any of their keys."""

    def __init__(self) -> None:
        self._first: dict[object, int] = {}
        self._above: list[int] = []

    def add(self, keys: Iterable[object]) -> None:
        number = len(self._above)
        self._above.append(number)
        for key in keys:
            self._above[self._root(number)] = self._root(self._first.setdefault(key, number))

    def _root(self, number: int) -> int:
        while self._above[number] != number:
            self._above[number] = self._above[self._above[number]]
            number = self._above[number]
        return number

    def groups(self) -> list[list[int]]:
        """The numbers of those that are not alone."""
        members: dict[int, list[int]] = {}
        for number in range(len(self._above)):
            members.setdefault(self._root(number), []).append(number)
        return [group for group in members.values() if len(group) > 1]


def _keys(envelope: Envelope) -> Iterator[object]:
    header = envelope.header
    if own := header.text(b"message-id").strip().casefold():
        yield own
    moment = envelope.date()[0]
    minute = moment.astimezone(UTC).replace(second=0, microsecond=0) if moment is not None else header.block
    yield header.sender.address.casefold(), minute


_Where = tuple[int, str, str]


def _where(source: Source, envelope: Envelope) -> _Where:
    return id(source), envelope.folder, envelope.place


def _read(found: list[tuple[Source, Envelope]]) -> dict[_Where, tuple[str, str]]:
    """The digests of messages: of their bytes, and of what is seen of them."""
    digests: dict[_Where, tuple[str, str]] = {}
    by_source: dict[int, tuple[Source, list[Envelope]]] = {}
    for source, envelope in found:
        by_source.setdefault(id(source), (source, []))[1].append(envelope)
    for source, envelopes in by_source.values():
        for envelope, data in source.read_many(sorted(envelopes, key=lambda each: (each.folder, each.place))):
            if not isinstance(data, MessageError):
                digests[_where(source, envelope)] = (hashlib.sha256(data).hexdigest(), _seen(data))
    return digests


def _seen(data: bytes) -> str:
    """The digest of what a reader sees of a message: its subject, its text, and the bytes of what is attached."""
    message = Message(data)
    seen = hashlib.sha256(folded(message.header.subject).encode("utf-8", "surrogateescape") + b"\0")
    seen.update(folded("\n".join(visible_texts(message))).encode("utf-8", "surrogateescape"))
    for attachment in message.attachments:
        seen.update(b"\0" + hashlib.sha256(attachment.content()).digest())
    return seen.hexdigest()


def _alike(
    group: list[tuple[Source, Envelope]], read: dict[_Where, tuple[str, str]], same: str
) -> Iterator[list[Double]]:
    """The groups of those that are the same indeed."""
    alike: dict[str, list[tuple[Source, Envelope, str]]] = {}
    for source, envelope in sorted(group, key=lambda one: _age(one[1])):
        if (digests := read.get(_where(source, envelope))) is not None:
            alike.setdefault(digests[same == TEXT], []).append((source, envelope, digests[0]))
    for members in alike.values():
        if len(members) > 1:
            first = members[0][2]
            rest = [Double(s, e, BYTES if digest == first else TEXT) for s, e, digest in members[1:]]
            yield [Double(*members[0][:2]), *rest]


def _age(envelope: Envelope) -> datetime:
    moment = envelope.arrival or envelope.date()[0]
    return moment.astimezone(UTC) if moment is not None else _NEVER
