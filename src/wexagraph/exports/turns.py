"""Which messages of a run are bound together, and in which order: by date, each group named for its first."""

from __future__ import annotations

import json
from collections.abc import Hashable, Iterable, Iterator
from dataclasses import dataclass, replace
from datetime import UTC, datetime
from typing import Any

from wexagraph.exports.journal.journal import Journal
from wexagraph.exports.journal.records import FileRecord, MessageRecord, PlannedMessage, unpacked
from wexagraph.languages import Language
from wexagraph.messages.conversations import Conversations, Thread
from wexagraph.naming.paths import clean, component
from wexagraph.selection.choice import Facts, in_order
from wexagraph.text import one_line, shortened

_SCHEMA = (
    "CREATE TEMP TABLE IF NOT EXISTS thread (message INTEGER PRIMARY KEY, folder TEXT, date TEXT, place TEXT, "
    "thread TEXT, title TEXT, stem TEXT, kept INTEGER NOT NULL DEFAULT 0)",
    "CREATE TEMP TABLE IF NOT EXISTS turn (grp INTEGER, turn INTEGER, message INTEGER, PRIMARY KEY (grp, turn)) "
    "WITHOUT ROWID",
)
ALL = "wx-all-messages"
"""Stands for the title of all messages, which is known when all were met."""
_ORDER, _UNDATED = "t.date, t.folder, t.place, t.message", "9999"


@dataclass
class Group:
    """Messages to be bound together, in their order, each with the files it has.

    `title` is what they have in common, `stem` the name that their PDF would like. This run has not chosen those of the
    numbers `kept`: an earlier one has bound them.
    """

    title: str
    stem: str
    rows: list[tuple[MessageRecord, list[FileRecord]]]
    kept: frozenset[int] = frozenset()

    def without_kept(self) -> Group:
        """The messages of this run alone."""
        return replace(self, rows=[(row, files) for row, files in self.rows if row.number not in self.kept])

    @property
    def tags(self) -> tuple[str, ...]:
        """The tags of all of them, each once."""
        return tuple(dict.fromkeys(tag for row, _ in self.rows for tag in row.tags.split(", ") if tag))


class Turns:
    """The groups of one run. `by` is conversation, folder or all; `tr` gives the words of titles.

    What an earlier run has bound of a group belongs to it; of all messages, where this run shares some of them, or
    `goes_on` where that has ended.
    """

    def __init__(self, journal: Journal, by: str, tr: Language, goes_on: bool = False) -> None:
        self._journal, self._by, self._tr, self._goes_on = journal, by, tr, goes_on
        for statement in _SCHEMA:
            journal.ask(statement)

    def meet(self, folder: str, numbers: Iterable[int], wishes: list[PlannedMessage]) -> None:
        """Messages of this run, as the plan meets them."""
        numbers = list(numbers)
        self._journal.ask_many(
            "INSERT OR REPLACE INTO thread VALUES (?,?,?,?,?,?,?,0)",
            (
                # what has no date comes last
                (number, folder, wish.date or _UNDATED, wish.place, _packed(wish.thread), *wish.bound)
                for number, wish in zip(numbers, wishes, strict=True)
            ),
        )
        if self._by == "conversation":
            self._journal.ask_many(
                "INSERT OR REPLACE INTO thread_of VALUES (?,?)",
                ((number, _packed(wish.thread)) for number, wish in zip(numbers, wishes, strict=True)),
            )

    def arrange(self, naming: str, chosen: str = "", order: tuple[str, ...] = ()) -> None:
        """All messages were met: put them together, in an order where one was asked for. `chosen` says which they are,
        where they have no title."""
        self._meet_earlier(naming)
        self._name_all(chosen)
        groups: dict[Hashable, list[tuple[int, int]]] = {}
        met: set[Hashable] = set()  # groups that hold something that this run has chosen
        roots = self._roots(naming)
        for turn, (number, folder, kept) in enumerate(self._in_order(order)):
            key: Hashable = {"conversation": roots.root(number), "folder": folder}.get(self._by, "")
            groups.setdefault(key, []).append((turn, number))
            if not kept:
                met.add(key)
        turns = (
            (group, *each) for group, key in enumerate(key for key in groups if key in met) for each in groups[key]
        )
        self._journal.ask_many("INSERT INTO turn VALUES (?,?,?)", turns)

    def _in_order(self, order: tuple[str, ...]) -> Iterable[tuple[int, str, int]]:
        """Number and folder of each message, and whether an earlier run has bound it."""
        rows = self._journal.ask(
            "SELECT t.message, t.folder, t.kept, m.facts, m.size, t.date FROM thread t "
            f"JOIN message m ON m.number=t.message ORDER BY {_ORDER}"
        )

        def facts(row: tuple[Any, ...]) -> Facts:
            _, folder, _, packed, size, date = row
            known = unpacked(packed)
            return Facts("" if date == _UNDATED else date, known[1], known[-1], size, folder)

        return (row[:3] for row in (in_order(rows, order, facts) if order else rows))

    def _meet_earlier(self, naming: str) -> None:
        """What earlier runs have bound under these names, as far as it may belong to this run's groups."""
        bound = "SELECT message FROM file WHERE format='bound' AND naming=?"
        paths = "SELECT path FROM file WHERE format='bound' AND naming=? AND message IN (SELECT message FROM thread)"
        if self._by == "folder":
            narrowed, times = "m.folder IN (SELECT folder FROM thread)", 1
        elif self._by == "conversation" or self._goes_on:
            narrowed, times = "1", 1
        else:
            narrowed, times = f"m.number IN ({bound} AND path IN ({paths}))", 3
        rows = self._journal.ask(
            "SELECT m.number, m.folder, m.facts, m.place, coalesce(t.thread, '') FROM message m "
            f"LEFT JOIN thread_of t ON t.message=m.number WHERE m.number IN ({bound}) AND {narrowed} "
            "AND m.number NOT IN (SELECT message FROM thread)",
            (naming,) * times,
        ).fetchall()
        self._journal.ask_many(
            "INSERT INTO thread VALUES (?,?,?,?,?,'','',1)",
            (
                (number, folder, _utc(unpacked(facts)[0]), place, thread)
                for number, folder, facts, place, thread in rows
            ),
        )

    def _name_all(self, chosen: str) -> None:
        """The title of all messages says how many they are, which, and from when to when."""
        count, first, last = self._journal.ask(
            "SELECT count(*), min(date), max(CASE WHEN date<'9999' THEN date END) FROM thread"
        ).fetchone()
        span, tr = f", {last[:10]}" if last else "", self._tr
        if last and first[:10] != last[:10]:
            span = ", " + tr("{first} to {last}", first=first[:10], last=last[:10])
        title = shortened(one_line(f"{tr.many('{count} message', '{count} messages', count)}{chosen}{span}"), 200)
        name = component(clean(title), 60)
        self._journal.ask(
            "UPDATE thread SET title=replace(title, ?, ?), stem=replace(stem, ?, ?)", (ALL, title, ALL, name)
        )

    def _roots(self, naming: str) -> Conversations:
        conversations = Conversations()
        if self._by == "conversation":
            for number, text in self._journal.ask(f"SELECT message, thread FROM thread t ORDER BY {_ORDER}"):
                if text:  # of an earlier version's message nobody knows it any more
                    own, refers, subject, answers = json.loads(text)
                    conversations.add(number, Thread(own, tuple(refers), subject, answers))
            conversations.finish()
            first: dict[str, int] = {}
            for path, number in self._journal.ask(
                "SELECT path, message FROM file WHERE format='bound' AND naming=? "
                "AND message IN (SELECT message FROM thread) ORDER BY path, message",
                (naming,),
            ):
                conversations.join(first.setdefault(path, number), number)  # what one document holds stays together
        return conversations

    def groups(self, naming: str) -> Iterator[Group]:
        """The groups in the order of their first messages."""
        count = self._journal.ask("SELECT max(grp) FROM turn").fetchone()[0]
        for number in range(-1 if count is None else count + 1):
            rows = self._journal.ask(
                "SELECT m.number, m.folder, m.place, m.stamp, m.id, m.size, m.digest, m.arrival, n.stem, m.tags, "
                "m.facts, m.turn FROM turn t JOIN message m ON m.number=t.message "
                "JOIN name n ON n.message=m.number AND n.naming=? "
                "WHERE t.grp=? ORDER BY t.turn",
                (naming, number),
            ).fetchall()
            files: dict[int, list[FileRecord]] = {}
            members = "SELECT message FROM turn WHERE grp=?"
            for values in self._journal.ask(
                f"SELECT * FROM file WHERE message IN ({members}) ORDER BY path", (number,)
            ):
                files.setdefault(values[1], []).append(FileRecord.of(values))
            if rows:
                named = self._journal.ask(
                    "SELECT h.title, h.stem FROM turn t JOIN thread h USING (message) WHERE t.grp=? AND NOT h.kept "
                    "ORDER BY t.turn LIMIT 1",
                    (number,),
                ).fetchone()
                kept = self._journal.ask(
                    "SELECT message FROM turn t JOIN thread h USING (message) WHERE t.grp=? AND h.kept", (number,)
                )
                yield Group(
                    named[0],
                    named[1],
                    [(MessageRecord(*row), files.get(row[0], [])) for row in rows],
                    frozenset(row[0] for row in kept),
                )


def _utc(moment: str) -> str:
    """A moment as the plan orders by it; what has no date comes last."""
    return datetime.fromisoformat(moment).astimezone(UTC).isoformat() if moment else _UNDATED


def _packed(thread: Thread | None) -> str:
    return json.dumps([thread.own, thread.refers, thread.subject, thread.answers]) if thread is not None else ""
