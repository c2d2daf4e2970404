"""Choosing from a list: its rows, what narrows and sorts them, and what is marked. Knows no terminal."""

from __future__ import annotations

from bisect import bisect_left
from collections.abc import Callable, Iterable
from dataclasses import dataclass, field
from datetime import date, tzinfo
from functools import cached_property
from typing import Any

from wexagraph.errors import CallError
from wexagraph.messages.conversations import Conversations, Thread, thread
from wexagraph.messages.dates import in_zone
from wexagraph.messages.headers import Header
from wexagraph.naming.patterns import is_of_sent_mail
from wexagraph.selection.criteria import (
    before,
    folded,
    folder_matches,
    has_wildcard,
    parse_day,
    parse_size,
    text_matches,
)
from wexagraph.sources.base import Envelope
from wexagraph.text import one_line, shortened

COLUMNS = ("date", "from", "subject", "files", "folder", "size")
SORTED = ("date", "from", "subject", "folder", "size")
"""What a list is sorted by: how many files a message has is known when it is seen."""
_MOST = 300
_TO = "\N{RIGHTWARDS ARROW} "
_THREAD_FIELDS = (b"message-id", b"references", b"in-reply-to")


@dataclass(slots=True)
class Row:
    """A message in the list: its place in its source without its header, and what is shown and searched of it. `when`
    are seconds since 1970, `day` its date in words of a fixed width, `sender` who it is from, or of sent mail to;
    `people` who it is from, to, and in copy to; `attached` how many files are, once that is known."""

    envelope: Envelope
    when: float | None
    day: str
    sender: str
    people: tuple[str, tuple[str, ...], tuple[str, ...]]
    subject: str
    links: bytes
    text: str
    attached: int | None = None

    @property
    def id(self) -> str:
        return self.envelope.id


def row_of(envelope: Envelope, zone: tzinfo | None) -> Row:
    """A message as a row."""
    header, moment = envelope.header, envelope.date()[0]
    shown = in_zone(moment, zone) if moment is not None and zone is not None else moment
    day = f"{shown:%Y-%m-%d %H:%M}" if shown is not None else "undated"
    other = next(iter(header.addresses(b"to")), None) if is_of_sent_mail(envelope.folder) else None
    shown_one = header.sender if other is None else other
    sender = _TO * (other is not None) + shortened(one_line(shown_one.name or shown_one.address), _MOST)
    subject = shortened(one_line(header.subject), _MOST)
    people = (
        str(header.sender),
        tuple(map(str, header.addresses(b"to"))),
        tuple(map(str, header.addresses(b"cc"))),
    )
    links = b"".join(
        name + b": " + (header.raw(name) or b"").replace(b"\n", b" ").strip() + b"\n" for name in _THREAD_FIELDS
    )
    lean = Envelope(
        envelope.folder,
        envelope.place,
        envelope.size,
        Header(b""),
        envelope.fingerprint(),
        envelope.flags,
        envelope.arrived,
        envelope.trouble,
    )
    text = folded("\n".join((people[0], *people[1], subject, envelope.folder, day)))
    return Row(lean, moment.timestamp() if moment is not None else None, day, sender, people, subject, links, text)


Test = Callable[[Row], bool]


def _since(value: str) -> Test:
    day = parse_day(value)
    return lambda row: row.when is not None and row.day[:10] >= day.isoformat()


def _before(value: str) -> Test:
    day = parse_day(value)
    return lambda row: row.when is not None and row.day[:10] < day.isoformat()


def _older(value: str) -> Test:
    day = before(date.today(), value).isoformat()
    return lambda row: row.when is not None and row.day[:10] < day


def _newer(value: str) -> Test:
    older = _older(value)
    return lambda row: row.when is not None and not older(row)


def _larger(value: str) -> Test:
    most = parse_size(value)
    return lambda row: row.envelope.size > most


def _smaller(value: str) -> Test:
    least = parse_size(value)
    return lambda row: row.envelope.size < least


FIELDS: dict[str, Callable[[str], Test]] = {
    "from": lambda value: _texts(value, lambda row: row.people[:1]),
    "to": lambda value: _texts(value, lambda row: row.people[1]),
    "cc": lambda value: _texts(value, lambda row: row.people[2]),
    "with": lambda value: _texts(value, lambda row: (row.people[0], *row.people[1], *row.people[2])),
    "subject": lambda value: _texts(value, lambda row: (row.subject,)),
    "folder": lambda value: lambda row: folder_matches(value, row.envelope.folder),
    "since": _since,
    "before": _before,
    "older-than": _older,
    "newer-than": _newer,
    "larger": _larger,
    "smaller": _smaller,
    "keyword": lambda value: lambda row: value.lower() in row.envelope.flags,
    "is": lambda value: _is(value),
}
"""What `field:value` may name while a list is narrowed: the criteria that need no body, and is:seen, is:unseen."""


def _texts(value: str, of: Callable[[Row], Iterable[str]]) -> Test:
    """As `text_matches`, quick enough for a key on a long list."""
    if has_wildcard(value) or "[" in value:
        return lambda row: text_matches(value, *of(row))
    wanted = value.casefold()
    return lambda row: any(wanted in text.casefold() for text in of(row))


def _is(value: str) -> Test:
    if value not in ("seen", "unseen"):
        raise CallError("write is:seen or is:unseen")
    return lambda row: ("seen" in row.envelope.flags) is (value == "seen")


def tests_of(text: str) -> list[Test]:
    """What a line of words and `field:value` asks for: all of it. Raises CallError, in a few words."""
    tests: list[Test] = []
    for word in _words(text):
        name, colon, value = word.partition(":")
        if colon and name.lower() in FIELDS:
            if value:
                tests.append(FIELDS[name.lower()](value))
        elif wanted := folded(word):
            tests.append(lambda row, wanted=wanted: wanted in row.text)  # type: ignore[misc]
    return tests


def _words(text: str) -> list[str]:
    """Words, of which those between quotation marks are one; so is `field:"two words"`."""
    words, word, quoted = [], "", False
    for letter in text:
        if letter == '"':
            quoted = not quoted
        elif letter.isspace() and not quoted:
            words.append(word)
            word = ""
        else:
            word += letter
    return [each for each in (*words, word) if each]


@dataclass
class Picker:
    """The list: all rows as they came, those that are shown in their order, the cursor among them, and the marks.

    What is marked stays marked while the list is narrowed otherwise. `trouble` says what of the narrowing can't be
    understood; the list then is as it was.
    """

    rows: list[Row] = field(default_factory=list)
    shown: list[int] = field(default_factory=list)
    marked: set[int] = field(default_factory=set)
    cursor: int = 0
    sort: str = "date"
    descending: bool = True
    text: str = ""
    folder: str = ""
    trouble: str = ""
    folders: dict[str, int] = field(default_factory=dict)
    bytes_marked: int = 0
    _tests: list[Test] = field(default_factory=list)
    _anchor: int | None = None
    _ordered: list[int] = field(default_factory=list)  # all rows as they are sorted; those that came since are missing

    def add(self, rows: Iterable[Row]) -> None:
        """More messages have come: `settle` shows them where they belong."""
        for row in rows:
            self.rows.append(row)
            self.folders[row.envelope.folder] = self.folders.get(row.envelope.folder, 0) + 1

    def settle(self) -> None:
        """Put new rows in order; the cursor stays on its message, but at the head of the list it stays there."""
        if len(self._ordered) != len(self.rows):
            self._show(keep=bool(self.cursor))

    @property
    def under(self) -> int | None:
        """The number of the row under the cursor."""
        return self.shown[self.cursor] if 0 <= self.cursor < len(self.shown) else None

    def move(self, step: int) -> None:
        """The cursor, by so many rows."""
        self.cursor = max(0, min(len(self.shown) - 1, self.cursor + step))

    def narrow(self, text: str) -> None:
        """Show what fits a line of words and `field:value`."""
        try:
            tests = tests_of(text)
        except CallError as error:
            self.trouble = str(error)
            return
        # words that have grown can only leave rows out
        grown = bool(self.text) and text.startswith(self.text) and not set(':"') & set(text)
        self.text, self._tests, self.trouble = text, tests, ""
        self._show(among=self.shown if grown and len(self._ordered) == len(self.rows) else None)

    def look_into(self, folder: str) -> None:
        """Show one folder and what is below it; "" shows all."""
        self.folder = folder
        self._show()

    def sort_by(self, column: str) -> None:
        """Sort by a column; by the same once more, the other way round."""
        self.descending = not self.descending if column == self.sort else column in ("date", "size")
        self.sort = column
        self._ordered = []
        self._show()

    def _show(self, keep: bool = True, among: list[int] | None = None) -> None:
        """Show what fits, of all or `among` some, in order. To narrow needs no sorting: all rows are kept sorted."""
        under, rows = self.under if keep else None, self.rows
        if len(self._ordered) != len(rows):
            self._ordered.extend(range(len(self._ordered), len(rows)))
            self._ordered.sort(key=self._key(), reverse=self.descending)
        shown = self._ordered[:] if among is None else among
        if self.folder:
            within = {name for name in self.folders if folder_matches(self.folder, name)}
            shown = [number for number in shown if rows[number].envelope.folder in within]
        for test in self._tests:
            shown = [number for number in shown if test(rows[number])]
        self.shown = shown
        self.cursor = shown.index(under) if under is not None and under in shown else 0

    def _key(self) -> Callable[[int], Any]:
        rows = self.rows
        if self.sort == "date":
            return lambda n: rows[n].when or 0.0
        if self.sort == "size":
            return lambda n: rows[n].envelope.size
        if self.sort == "folder":
            return lambda n: rows[n].envelope.folder.casefold()
        return lambda n: (rows[n].sender if self.sort == "from" else rows[n].subject).casefold()

    # marking

    def _mark(self, numbers: Iterable[int], on: bool = True) -> None:
        for number in numbers:
            if (number in self.marked) is not on:
                (self.marked.add if on else self.marked.discard)(number)
                self.bytes_marked += self.rows[number].envelope.size * (1 if on else -1)

    def toggle(self) -> None:
        """Mark the message under the cursor, or take its mark away; a range may begin here."""
        if self.under is not None:
            self._mark([self.under], self.under not in self.marked)
            self._anchor = self.under

    def mark_range(self) -> None:
        """Mark all from the message that was marked last to the one under the cursor."""
        if self.under is None:
            return
        start = self.cursor
        if self._anchor is not None and self._anchor in self.shown:
            start = self.shown.index(self._anchor)
        low, high = sorted((start, self.cursor))
        self._mark(self.shown[low : high + 1])
        self._anchor = self.under

    def mark_all(self) -> None:
        """Mark all that are shown."""
        self._mark(self.shown)

    def mark_none(self) -> None:
        """Take all marks away."""
        self.marked.clear()
        self.bytes_marked, self._anchor = 0, None

    def mark_others(self) -> None:
        """Of those that are shown, mark the ones that are not, and take the marks of the others away."""
        on = [number for number in self.shown if number not in self.marked]
        self._mark([number for number in self.shown if number in self.marked], False)
        self._mark(on)

    def mark_sender(self) -> None:
        """Mark all of the sender of the message under the cursor, shown or not."""
        if self.under is not None:
            sender = self.rows[self.under].people[0]
            self._mark(number for number, row in enumerate(self.rows) if row.people[0] == sender)

    def mark_conversation(self) -> None:
        """Mark the whole conversation of the message under the cursor, shown or not."""
        if self.under is not None:
            roots = self._roots()
            self._mark(number for number in range(len(self.rows)) if roots[number] == roots[self.under])

    def _roots(self) -> list[Any]:
        conversations = Conversations()
        for number in sorted(range(len(self.rows)), key=lambda number: self.rows[number].when or 0.0):
            conversations.add(number, _thread(self.rows[number]))
        conversations.finish()
        return [conversations.root(number) for number in range(len(self.rows))]

    def chosen(self) -> list[Row]:
        """What was marked, in the order of the source; the message under the cursor where nothing is."""
        if self.marked:
            return [self.rows[number] for number in sorted(self.marked)]
        return [self.rows[self.under]] if self.under is not None else []


def _thread(row: Row) -> Thread:
    return thread(Header(row.links + b"subject: " + row.subject.encode("utf-8", "replace") + b"\n\n"))


@dataclass(frozen=True)
class FolderTree:
    """The folders of a list as lines: its name, how deep it lies, the last part of its name, how many messages."""

    folders: dict[str, int]

    @cached_property
    def lines(self) -> list[tuple[str, int, str, int]]:
        names = set(self.folders)
        for name in self.folders:
            parts = name.split("/")
            names.update("/".join(parts[:depth]) for depth in range(1, len(parts)))
        ordered = sorted(names, key=lambda name: (name.casefold().split("/"), name))
        within = sorted(self.folders)
        return [("", 0, "All folders", sum(self.folders.values()))] + [
            (name, name.count("/"), name.rpartition("/")[2], self._below(name, within)) for name in ordered
        ]

    def _below(self, name: str, within: list[str]) -> int:
        count = self.folders.get(name, 0)
        at = bisect_left(within, f"{name}/")
        while at < len(within) and within[at].startswith(f"{name}/"):
            count += self.folders[within[at]]
            at += 1
        return count
