"""The order of messages: by date, sender, subject, size, folder; the first that is named counts first."""

from __future__ import annotations

from collections.abc import Callable, Iterable
from datetime import UTC, datetime
from typing import NamedTuple, TypeVar

from wexagraph.errors import CallError
from wexagraph.messages.conversations import base_subject
from wexagraph.sources.base import Envelope

ORDERS = ("date", "from", "subject", "size", "folder")
"""What messages can be ordered by; with `-` in front, the last first."""
_UNDATED = "9999"
_Item = TypeVar("_Item")


class Facts(NamedTuple):
    """What a message is ordered by; the date is a moment in UTC (ISO 8601), "" where there is none."""

    date: str
    sender: str
    subject: str
    size: int
    folder: str


def checked(words: Iterable[str]) -> tuple[str, ...]:
    """The words of an order. Raises CallError for one that there is not."""
    given = tuple(word.strip().lower() for text in words for word in text.split(",") if word.strip())
    for word in given:
        if word.removeprefix("-") not in ORDERS:
            raise CallError(
                f"--sort {word}: messages are ordered by {', '.join(ORDERS)}; with - in front, the last first."
            )
    return given


def facts_of(envelope: Envelope) -> Facts:
    """What a message is ordered by, as its source lists it."""
    moment, header = envelope.date()[0], envelope.header
    sender = header.sender.name or header.sender.address
    return Facts(_utc(moment), sender, header.subject, envelope.size, envelope.folder)


def _utc(moment: datetime | None) -> str:
    return moment.astimezone(UTC).isoformat() if moment is not None else ""


def in_order(items: Iterable[_Item], order: tuple[str, ...], facts: Callable[[_Item], Facts]) -> list[_Item]:
    """Things about messages in an order; those that are equal in it stay as they came, and what has no date comes
    last."""
    told = [(facts(item), item) for item in items]
    for word in reversed(order):
        key = _KEYS[word.removeprefix("-")]
        told.sort(key=lambda pair: key(pair[0]), reverse=word.startswith("-"))
        if word.endswith("date"):
            told.sort(key=lambda pair: not pair[0].date)
    return [item for _, item in told]


_KEYS: dict[str, Callable[[Facts], str | int]] = {
    "date": lambda facts: facts.date or _UNDATED,
    "from": lambda facts: facts.sender.casefold(),
    "subject": lambda facts: base_subject(facts.subject)[0].casefold(),
    "size": lambda facts: facts.size,
    "folder": lambda facts: facts.folder.casefold(),
}
