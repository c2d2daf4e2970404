"""A mailbox at a glance: when mail came, where there is none, from whom, of what kinds, how large."""

from __future__ import annotations

import heapq
from collections import Counter
from collections.abc import Iterable, Iterator
from dataclasses import dataclass, field
from datetime import date, datetime, timedelta, tzinfo
from itertools import pairwise
from typing import Any, NamedTuple

from wexagraph.messages.conversations import Conversations, Thread, thread
from wexagraph.messages.dates import in_zone
from wexagraph.selection.choice import Choice
from wexagraph.sources import reopen
from wexagraph.sources.base import Envelope, Partition, Source
from wexagraph.tables.correspondents import as_read
from wexagraph.text import one_line, shortened
from wexagraph.work.shares import in_shares, is_worth_shares

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


class Glimpse(NamedTuple):
    """What a survey wants of a message."""

    id: str
    folder: str
    size: int
    subject: str
    moment: datetime | None
    sender: str
    thread: Thread
    attachments: list[tuple[str, int]]


def glimpses(source: Source, choice: Choice) -> Iterator[Glimpse]:
    """The chosen messages as a survey sees them. A large source is read by several processes."""
    if is_worth_shares(source, choice):
        for part in in_shares(source, choice, glimpses_of_share):
            yield from part
        return
    yield from _glimpses(source, choice.select(source))


def glimpses_of_share(location: str, choice: Choice, folder: str, share: Partition) -> list[Glimpse]:
    """Those of a share of a folder; runs in a worker process."""
    source = reopen(location)
    return list(_glimpses(source, choice.of_share(source, folder, share)))


def _glimpses(source: Source, envelopes: Iterable[Envelope]) -> Iterator[Glimpse]:
    for envelope in envelopes:
        header = envelope.header
        yield Glimpse(
            envelope.id,
            envelope.folder,
            envelope.size,
            shortened(one_line(header.subject), _MOST_SUBJECT),
            envelope.date()[0],
            as_read(header.sender.address),
            thread(header),
            [(leaf.type.lower(), leaf.size) for leaf in source.attachments(envelope)],
        )


def survey(seen: Iterable[Glimpse], zone: tzinfo | None) -> Survey:
    """Look at messages one by one. Days and hours are those of `zone` (None: each message's own).

    Memory grows with the days and addresses, and a little with each message.
    """
    result = Survey()
    active: set[date] = set()
    threads = Conversations()
    firsts: list[tuple[str, str]] = []
    largest: list[tuple[int, int, str, str]] = []
    for number, one in enumerate(seen):
        result.messages.add(one.size)
        result.folders.setdefault(one.folder, Tally()).add(one.size)
        _date(result, one, zone, active)
        if "@" in one.sender:
            result.senders[one.sender] += 1
            result.domains[one.sender.rpartition("@")[2]] += 1
        for kind, size in one.attachments:
            result.attachments.setdefault(kind, Tally()).add(size)
        threads.add(number, one.thread)
        firsts.append((one.id, one.subject))
        item = (one.size, -number, one.id, one.subject)
        if len(largest) < _LARGEST:
            heapq.heappush(largest, item)
        elif item > largest[0]:
            heapq.heapreplace(largest, item)
    threads.finish()
    result.largest = [(id, subject, size) for size, _, id, subject in sorted(largest, reverse=True)]
    roots = [threads.root(number) for number in range(len(firsts))]
    first_of: dict[Any, int] = {}
    for number, root in enumerate(roots):
        first_of.setdefault(root, number)
    result.conversations = [
        (*firsts[first_of[root]], count) for root, count in Counter(roots).most_common(_LONGEST) if count > 1
    ]
    result.gaps = list(_gaps(sorted(active)))
    _fill_months(result)
    return result


def _date(result: Survey, one: Glimpse, zone: tzinfo | None, active: set[date]) -> None:
    moment = one.moment
    if moment is None:
        result.undated += 1
        return
    local = in_zone(moment, zone) if zone is not None else moment
    active.add(local.date())
    result.months.setdefault(f"{local:%Y-%m}", Tally()).add(one.size)
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
