"""Where a message is from: what a page says of its origin, its digest, and the way it came."""

from __future__ import annotations

import hashlib
import re
from dataclasses import dataclass
from datetime import datetime

from wexagraph.messages import Header, Message
from wexagraph.messages.dates import in_zone, parse_date, plausible
from wexagraph.messages.encoded_words import decode_words
from wexagraph.messages.mapi.origin import Origin
from wexagraph.pages.options import PageOptions
from wexagraph.text import one_line, shortened

_MOST_SERVERS = 20
_MOST_FIELD = 2000
_BY = re.compile(r"\bby\s+([\w.:\[\]-]{1,255})", re.IGNORECASE)


@dataclass(frozen=True)
class Provenance:
    """Where a message was read: source, folder, ID there; the mailbox's date for it; the name of its file; its tags;
    its number in the run."""

    source: str = ""
    folder: str = ""
    id: str = ""
    arrival: datetime | None = None
    file: str = ""
    tags: tuple[str, ...] = ()
    number: int = 0


def evidence(message: Message, origin: Provenance, options: PageOptions) -> list[tuple[str, str]]:
    """Rows that say what this message is and where it was read: label and text."""
    header = message.header
    made = Origin.of(header)
    what = "message" if made.form else "original"
    file = f"{made.form}, SHA-256 {made.sha256}" if made.sha256 else made.form
    rows = [
        ("Message-ID", one_line(header.text(b"message-id"))),
        (f"SHA-256 of the {what}", hashlib.sha256(message.data).hexdigest()),
        (f"Size of the {what}", options.tr.many("{count} byte", "{count} bytes", len(message.data))),
        ("Made from", file),
        ("Read from", one_line(origin.source)),
        ("Folder", one_line(origin.folder)),
        ("ID there", origin.id),
        ("Arrived", _arrival(header, origin, options)),
        ("By way of", ", ".join(servers(header))),
    ]
    return [(label, shortened(text, _MOST_FIELD)) for label, text in rows if text]


def servers(header: Header) -> list[str]:
    """The servers that took the message, first to last, by their own names (RFC 5321, section 4.4)."""
    names: list[str] = []
    for value in reversed(header.all_raw(b"received")[:_MOST_SERVERS]):
        match = _BY.search(decode_words(value))
        if match and (not names or names[-1] != match[1]):
            names.append(match[1])
    return names


def _arrival(header: Header, origin: Provenance, options: PageOptions) -> str:
    """When the last server took it, else the mailbox's date for it."""
    for value in header.all_raw(b"received")[:1]:
        moment = parse_date(value.decode("latin-1").rpartition(";")[2])
        if moment is not None and plausible(moment, None):
            return _shown(moment, options)
    return _shown(origin.arrival, options) if origin.arrival else ""


def _shown(moment: datetime, options: PageOptions) -> str:
    zone = options.timezone()
    return options.tr.moment(in_zone(moment, zone) if zone else moment)


def all_fields(header: Header) -> list[tuple[str, str]]:
    """Every header field in its order: name and value as they stand in the message, unfolded, not decoded."""
    return [
        (name, one_line(re.sub(r"\s*\r?\n\s+", " ", value.decode("utf-8", "replace"))))
        for name, value in header.fields()
    ]
