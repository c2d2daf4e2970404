"""A mailbox at a glance: when mail came, where there is none, from whom, of what kinds, how large."""

from __future__ import annotations

import heapq
from collections import Counter
from collections.abc import Callable, Iterable, Iterator
from dataclasses import dataclass, field
from datetime import date, datetime, timedelta, tzinfo
from itertools import pairwise
from typing import Any

from wexagraph.messages.conversations import Conversations, thread
from wexagraph.messages.dates import in_zone
from wexagraph.sources import Envelope
from wexagraph.sources.base import Leaf
from wexagraph.tables.correspondents import as_read
from wexagraph.text import one_line, shortened

_LARGEST, _LONGEST = 10, 10
_MOST_SUBJECT = 200
DAYS = ("Mon", "Tue", "Wed", "Thu", "Fri", "Sat", "Sun")


@dataclass
class Tally:
    """A number of messages (or attachments), and their bytes."""

    count: int = 0
    bytes: int = 0

    def add(self, size: int) -> None:
        """One more, of so many bytes."""
        self.count += 1
        self.bytes += size


@dataclass
class Survey:
    """What lies in a mailbox.

    `months` are keyed YYYY-MM, from the first with mail to the last, those without among them. `gaps` are spans without
    mail where there is mail before and behind: first and last day of each, a week or longer. `hours` are 0 to 23,
    `days` 0 (Monday) to 6. `undated` have no date. `largest` and `conversations` are rows of ID, subject, and bytes or
    messages.
    """

    messages: Tally = field(default_factory=Tally)
    undated: int = 0
    months: dict[str, Tally] = field(default_factory=dict)
    gaps: list[tuple[date, date]] = field(default_factory=list)
    hours: list[int] = field(default_factory=lambda: [0] * 24)
    days: list[int] = field(default_factory=lambda: [0] * 7)
    senders: Counter[str] = field(default_factory=Counter)
    domains: Counter[str] = field(default_factory=Counter)
    folders: dict[str, Tally] = field(default_factory=dict)
    attachments: dict[str, Tally] = field(default_factory=dict)
    largest: list[tuple[str, str, int]] = field(default_factory=list)
    conversations: list[tuple[str, str, int]] = field(default_factory=list)

    def as_dict(self) -> dict[str, Any]:
        """Plain values for JSON."""
        return {
            "messages": self.messages.count,
            "bytes": self.messages.bytes,
            "undated": self.undated,
            "months": [{"month": month, "messages": t.count, "bytes": t.bytes} for month, t in self.months.items()],
            "gaps": [{"first": a.isoformat(), "last": b.isoformat(), "days": (b - a).days + 1} for a, b in self.gaps],
            "hours": self.hours,
            "weekdays": dict(zip(DAYS, self.days, strict=True)),
            "senders": [{"address": name, "messages": count} for name, count in self.senders.most_common(100)],
            "domains": [{"domain": name, "messages": count} for name, count in self.domains.most_common(100)],
            "folders": [{"folder": name, "messages": t.count, "bytes": t.bytes} for name, t in self.folders.items()],
            "attachments": [{"type": name, "count": t.count, "bytes": t.bytes} for name, t in self.kinds()],
            "largest": [{"id": id, "subject": subject, "bytes": size} for id, subject, size in self.largest],
            "conversations": [{"id": id, "subject": text, "messages": n} for id, text, n in self.conversations],
        }

    def kinds(self) -> list[tuple[str, Tally]]:
        """The kinds of attachments, the most frequent first."""
        return sorted(self.attachments.items(), key=lambda item: (-item[1].count, item[0]))


def survey(envelopes: Iterable[Envelope], attachments: Callable[[Envelope], list[Leaf]], zone: tzinfo | None) -> Survey:
    """Look at messages one by one. Days and hours are those of `zone` (None: each message's own).

    `attachments` lists those of a message. Memory grows with the days and addresses, and a little with each message.
    """
    result = Survey()
    active: set[date] = set()
    threads = Conversations()
    firsts: list[tuple[str, str]] = []
    largest: list[tuple[int, int, str, str]] = []
    for number, envelope in enumerate(envelopes):
        result.messages.add(envelope.size)
        result.folders.setdefault(envelope.folder, Tally()).add(envelope.size)
        subject = shortened(one_line(envelope.header.subject), _MOST_SUBJECT)
        _date(result, envelope, zone, active)
        sender = as_read(envelope.header.sender.address)
        if "@" in sender:
            result.senders[sender] += 1
            result.domains[sender.rpartition("@")[2]] += 1
        for leaf in attachments(envelope):
            result.attachments.setdefault(leaf.type.lower(), Tally()).add(leaf.size)
        threads.add(number, thread(envelope.header))
        firsts.append((envelope.id, subject))
        item = (envelope.size, -number, envelope.id, subject)
        if len(largest) < _LARGEST:
            heapq.heappush(largest, item)
        elif item > largest[0]:
            heapq.heapreplace(largest, item)
    threads.finish()
    result.largest = [(id, subject, size) for size, _, id, subject in sorted(largest, reverse=True)]
    counts = Counter(threads.root(number) for number in range(len(firsts)))
    first_of: dict[Any, int] = {}
    for number in range(len(firsts)):
        first_of.setdefault(threads.root(number), number)
    result.conversations = [
        (*firsts[first_of[root]], count) for root, count in counts.most_common(_LONGEST) if count > 1
    ]
    result.gaps = list(_gaps(sorted(active)))
    _fill_months(result)
    return result


def _date(result: Survey, envelope: Envelope, zone: tzinfo | None, active: set[date]) -> None:
    moment: datetime | None = envelope.date()[0]
    if moment is None:
        result.undated += 1
        return
    local = in_zone(moment, zone) if zone is not None else moment
    active.add(local.date())
    result.months.setdefault(f"{local:%Y-%m}", Tally()).add(envelope.size)
    result.hours[local.hour] += 1
    result.days[local.weekday()] += 1


def _gaps(days: list[date]) -> Iterator[tuple[date, date]]:
    """Spans of a week or longer between two days with mail."""
    for before, behind in pairwise(days):
        if (behind - before).days > 7:
            yield before + timedelta(days=1), behind - timedelta(days=1)


def _fill_months(result: Survey) -> None:
    """Put the months without mail between those with."""
    if not result.months:
        return
    year, month = map(int, min(result.months).split("-"))
    last, filled = max(result.months), dict[str, Tally]()
    while (name := f"{year:04}-{month:02}") <= last:
        filled[name] = result.months.get(name, Tally())
        year, month = (year, month + 1) if month < 12 else (year + 1, 1)
    result.months = filled
