"""Conversations: messages that answer one another, by References and In-Reply-To, else by subject (RFC 5256)."""

from __future__ import annotations

import hashlib
import re
from collections.abc import Hashable
from dataclasses import dataclass

from wexagraph.messages.headers import Header
from wexagraph.text import one_line

_ID = re.compile(rb"<([^<>\s]{1,998})>")
# RFC 5256 section 2.1, and the prefixes that programs in other languages write
_PREFIX = re.compile(
    r"\s*+(?:\[[^\[\]]*+\]\s*+)*+(?:re|fwd?|aw|wg|antw|sv|vs|vb|rv|tr|res|enc|odp|pd|ynt|\u56de\u590d|\u8f6c\u53d1)"
    r"\s*+(?:\[\d+\]|\(\d+\)|\^\d+)?\s*+[:\uff1a]\s*",
    re.IGNORECASE,
)
_TRAILER = re.compile(r"\s*\(fwd\)\s*$", re.IGNORECASE)
_WRAPPED = re.compile(r"^\s*\[fwd:(.*)\]\s*$", re.IGNORECASE)
_MOST_REFERENCES = 200
_MOST_SUBJECT = 2000
"""So many characters of a subject count; each mark in front of it costs a walk through all of it."""


@dataclass(frozen=True, slots=True)
class Thread:
    """How a message hangs together with others: its own ID and those it refers to, as short digests, and its subject
    without Re and the like. `answers` says that the subject has such a prefix."""

    own: int
    refers: tuple[int, ...]
    subject: str
    answers: bool


def thread(header: Header, bearer: bytes = b"") -> Thread:
    """What a message's header says of its conversation; it also hangs together with its `bearer`, the Message-ID (or
    another name) of the message that brought it."""
    own = message_id(header)
    references: list[bytes] = []
    for name in (b"references", b"in-reply-to"):
        references += _ID.findall(header.raw(name) or b"")[-_MOST_REFERENCES:]
    if bearer:
        references.append(bearer)
    subject, answers = base_subject(header.subject)
    return Thread(_short(own) if own else 0, tuple(map(_short, dict.fromkeys(references))), subject, answers)


def message_id(header: Header) -> bytes:
    """The Message-ID of a message, without its angle brackets; b"" where it has none."""
    own = _ID.search(header.raw(b"message-id") or b"")
    return own[1] if own else b""


def base_subject(subject: str) -> tuple[str, bool]:
    """A subject without the marks of answering and forwarding (RFC 5256, section 2.1), and whether it had any."""
    text, answers = one_line(subject[:_MOST_SUBJECT]).strip(), False
    while True:
        before = text
        text = _TRAILER.sub("", text)
        prefix = _PREFIX.match(text)
        if prefix and prefix.end() < len(text):
            text = text[prefix.end() :]
        wrapped = _WRAPPED.match(text)
        if wrapped and wrapped[1].strip():
            text = wrapped[1].strip()
        if text == before:
            return text, answers
        answers = True


def _short(id: bytes) -> int:
    return int.from_bytes(hashlib.blake2b(id, digest_size=7).digest(), "big")


class Conversations:
    """Puts messages together. Each is added under a key of the caller's; `root` then names its conversation."""

    def __init__(self) -> None:
        self._above: dict[Hashable, Hashable] = {}
        self._loose: list[tuple[Hashable, str]] = []
        self._subjects: dict[str, Hashable] = {}

    def add(self, key: int, links: Thread) -> None:
        """Add a message; in the order of dates, so that a lone answer joins what it may answer."""
        mine: Hashable = ("message", key)
        for id in (links.own, *links.refers):
            if id:
                self._join(("id", id), mine)
        subject = links.subject.casefold()
        if links.answers and not links.refers:
            self._loose.append((mine, subject))
        elif subject and not links.refers:
            self._subjects.setdefault(subject, mine)

    def finish(self) -> None:
        """All messages are there: answers that name no message join the conversation of their subject."""
        for mine, subject in self._loose:
            if subject:
                self._join(self._subjects.setdefault(subject, mine), mine)

    def join(self, key: int, other: int) -> None:
        """Put two messages into one conversation, whatever they say."""
        self._join(("message", key), ("message", other))

    def root(self, key: int) -> Hashable:
        """The same for all messages of one conversation."""
        return self._find(("message", key))

    def _find(self, one: Hashable) -> Hashable:
        root = one
        while (above := self._above.get(root, root)) != root:
            root = above
        while one != root:
            self._above[one], one = root, self._above.get(one, root)
        return root

    def _join(self, one: Hashable, other: Hashable) -> None:
        first, second = self._find(one), self._find(other)
        if first != second:
            self._above[second] = first
