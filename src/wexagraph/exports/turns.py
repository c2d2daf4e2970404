"""Which messages of a run are bound together, and in which order: by date, each group named for its first."""

from __future__ import annotations

import json
from collections.abc import Hashable, Iterable, Iterator
from dataclasses import dataclass

from wexagraph.exports.journal.journal import Journal
from wexagraph.exports.journal.records import FileRecord, MessageRecord, PlannedMessage
from wexagraph.languages import Language
from wexagraph.messages.conversations import Conversations, Thread
from wexagraph.naming import clean, component
from wexagraph.text import one_line, shortened

_SCHEMA = (
    "CREATE TEMP TABLE IF NOT EXISTS thread (message INTEGER PRIMARY KEY, folder TEXT, date TEXT, place TEXT, "
    "thread TEXT, title TEXT, stem TEXT)",
    "CREATE TEMP TABLE IF NOT EXISTS turn (grp INTEGER, turn INTEGER, message INTEGER, PRIMARY KEY (grp, turn)) "
    "WITHOUT ROWID",
)
ALL = "wx-all-messages"
"""Stands for the title of all messages, which is known when all were met."""
_ORDER = "date, folder, place, message"


@dataclass
class Group:
    """Messages to be bound together, in their order, each with the files it has.

    `title` is what they have in common, `stem` the name that their PDF would like.
    """

    title: str
    stem: str
    rows: list[tuple[MessageRecord, list[FileRecord]]]

    @property
    def tags(self) -> tuple[str, ...]:
        """The tags of all of them, each once."""
        return tuple(dict.fromkeys(tag for row, _ in self.rows for tag in row.tags.split(", ") if tag))


class Turns:
    """The groups of one run. `by` is conversation, folder or all; `tr` gives the words of titles."""

    def __init__(self, journal: Journal, by: str, tr: Language) -> None:
        self._journal, self._by, self._tr = journal, by, tr
        for statement in _SCHEMA:
            journal.ask(statement)

    def meet(self, folder: str, numbers: Iterable[int], wishes: list[PlannedMessage]) -> None:
        """Messages of this run, as the plan meets them."""
        self._journal.ask_many(
            "INSERT OR REPLACE INTO thread VALUES (?,?,?,?,?,?,?)",
            (
                # what has no date comes last
                (number, folder, wish.date or "9999", wish.place, _packed(wish.thread), *wish.bound)
                for number, wish in zip(numbers, wishes, strict=True)
            ),
        )

    def arrange(self, chosen: str = "") -> None:
        """All messages were met: put them together. `chosen` says which they are, where they have no title."""
        self._name_all(chosen)
        groups: dict[Hashable, int] = {}
        turns: list[tuple[int, int, int]] = []
        roots = self._roots()
        rows = self._journal.ask(f"SELECT message, folder FROM thread ORDER BY {_ORDER}")
        for turn, (number, folder) in enumerate(rows):
            key: Hashable = {"conversation": roots.root(number), "folder": folder}.get(self._by, "")
            turns.append((groups.setdefault(key, len(groups)), turn, number))
        self._journal.ask_many("INSERT INTO turn VALUES (?,?,?)", turns)

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

    def _roots(self) -> Conversations:
        conversations = Conversations()
        if self._by == "conversation":
            for number, text in self._journal.ask(f"SELECT message, thread FROM thread ORDER BY {_ORDER}"):
                own, refers, subject, answers = json.loads(text)
                conversations.add(number, Thread(own, tuple(refers), subject, answers))
            conversations.finish()
        return conversations

    def groups(self, naming: str) -> Iterator[Group]:
        """The groups in the order of their first messages."""
        count = self._journal.ask("SELECT max(grp) FROM turn").fetchone()[0]
        for number in range(-1 if count is None else count + 1):
            rows = self._journal.ask(
                "SELECT m.number, m.folder, m.place, m.stamp, m.id, m.size, m.digest, m.arrival, n.stem, m.tags, "
                "m.facts FROM turn t JOIN message m ON m.number=t.message "
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
                named = self._journal.ask("SELECT title, stem FROM thread WHERE message=?", (rows[0][0],)).fetchone()
                yield Group(named[0], named[1], [(MessageRecord(*row), files.get(row[0], [])) for row in rows])


def _packed(thread: Thread | None) -> str:
    return json.dumps([thread.own, thread.refers, thread.subject, thread.answers]) if thread is not None else ""
