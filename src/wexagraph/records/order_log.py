"""What orders have done: each run, what was delivered, what is still to come. SQLite, one writer at a time."""

from __future__ import annotations

import json
import sqlite3
from collections.abc import Iterable
from contextlib import closing
from dataclasses import asdict, dataclass, field
from datetime import UTC, datetime, timedelta
from pathlib import Path
from typing import Any

from wexagraph.errors import TargetError
from wexagraph.output.databases import Database, Form
from wexagraph.reports import Failure, Report
from wexagraph.sources.base import Envelope

_SCHEMA = """
CREATE TABLE run (
    number INTEGER PRIMARY KEY, name TEXT NOT NULL, started TEXT NOT NULL, ended TEXT NOT NULL DEFAULT '',
    state TEXT NOT NULL DEFAULT 'running', chosen INTEGER NOT NULL DEFAULT 0, written INTEGER NOT NULL DEFAULT 0,
    already_there INTEGER NOT NULL DEFAULT 0, failed INTEGER NOT NULL DEFAULT 0, bytes INTEGER NOT NULL DEFAULT 0,
    reasons TEXT NOT NULL DEFAULT '[]'
);
CREATE INDEX run_name ON run (name, number);
CREATE TABLE delivered (
    name TEXT NOT NULL, source TEXT NOT NULL, folder TEXT NOT NULL, place TEXT NOT NULL, stamp TEXT NOT NULL,
    digest TEXT, PRIMARY KEY (name, source, folder, place)
) WITHOUT ROWID;
CREATE INDEX delivered_digest ON delivered (name, digest);
CREATE TABLE looked (
    name TEXT NOT NULL, source TEXT NOT NULL, folder TEXT NOT NULL, stamp TEXT NOT NULL, choice TEXT NOT NULL,
    held INTEGER NOT NULL, PRIMARY KEY (name, source, folder)
) WITHOUT ROWID;
CREATE TABLE failing (
    name TEXT NOT NULL, id TEXT NOT NULL, folder TEXT NOT NULL, subject TEXT NOT NULL, reason TEXT NOT NULL,
    PRIMARY KEY (name, id)
) WITHOUT ROWID;
CREATE TABLE standing (name TEXT PRIMARY KEY, choice TEXT NOT NULL DEFAULT '', generation INTEGER NOT NULL DEFAULT 0);
"""
_MET = """
CREATE TABLE met (
    name TEXT NOT NULL, source TEXT NOT NULL, folder TEXT NOT NULL, marks BLOB NOT NULL,
    PRIMARY KEY (name, source, folder)
);
"""


def _with_marks(base: sqlite3.Connection) -> None:
    base.execute(_MET)


_LOG = Form(
    "the log of orders",
    _SCHEMA + _MET,
    version=2,
    since={2: _with_marks},
    settings=("journal_mode = WAL", "synchronous = FULL"),
)
_TABLES = ("run", "delivered", "looked", "failing", "met", "standing")
MARK_SIZE = 8
MOST_RUNS, MOST_AGE = 100_000, timedelta(days=731)
DONE, FAILED, STOPPED, UNDONE, RUNNING = "done", "some failed", "stopped", "not done", "running"
"""How a run ended: all well; some messages failed; asked to stop; it could not be done; it was killed, or goes on."""


@dataclass
class Run:
    """A run of an order. `reasons` say what failed, or why it could not be done."""

    number: int
    name: str
    started: datetime
    ended: datetime | None = None
    state: str = RUNNING
    chosen: int = 0
    written: int = 0
    already_there: int = 0
    failed: int = 0
    bytes: int = 0
    reasons: list[str] = field(default_factory=list)

    def take(self, report: Report) -> None:
        """Take the sums of a report, what failed, and how it ended."""
        self.chosen, self.written, self.already_there = report.chosen, report.written, report.already_there
        self.failed, self.bytes = report.failed, report.bytes
        self.reasons = [f"{each.id} in {each.folder}: {each.reason}" for each in report.failures]
        self.reasons += [f"not read: {where}: {reason}" for where, reason in report.unreadable]
        if report.undelivered:
            self.reasons.append(f"not delivered: {report.undelivered}")
        if report.delivery is not None:
            self.reasons += [f"not delivered: {each.id}: {each.reason}" for each in report.delivery.failures]
        self.state = STOPPED if report.interrupted else DONE if report.complete else FAILED

    def as_dict(self) -> dict[str, Any]:
        """Plain values for JSON."""
        ended = self.ended.isoformat() if self.ended else None
        return asdict(self) | {"started": self.started.isoformat(), "ended": ended}


class OrderLog:
    """The state of all orders of a user. All methods raise TargetError where the disk fails."""

    def __init__(self, path: Path) -> None:
        try:
            path.parent.mkdir(0o700, parents=True, exist_ok=True)
        except OSError as error:
            raise TargetError(f"{path.parent} can't be made: {error.strerror or error}. Check the disk.") from error
        self._base = Database(path, _LOG, proved=False)

    def close(self) -> None:
        """Give it free."""
        self._base.close()

    def _ask(self, sql: str, *values: Any) -> list[tuple[Any, ...]]:
        with closing(self._base.ask(sql, values)) as cursor:
            return cursor.fetchall()

    # runs

    def begin(self, name: str, now: datetime) -> Run:
        """A run begins. One that was killed before is closed."""
        with self._base.change():
            self._base.ask("UPDATE run SET state=?, ended=started WHERE name=? AND state=?", (STOPPED, name, RUNNING))
            cursor = self._base.ask("INSERT INTO run (name, started) VALUES (?,?)", (name, _text(now)))
            number = int(cursor.lastrowid or 0)
            oldest = _text(now - MOST_AGE)
            self._base.ask("DELETE FROM run WHERE number<=? OR started<?", (number - MOST_RUNS, oldest))
        return Run(number, name, now)

    def end(self, run: Run) -> None:
        """A run has ended, however."""
        with self._base.change():
            self._base.ask(
                "UPDATE run SET ended=?, state=?, chosen=?, written=?, already_there=?, failed=?, bytes=?, reasons=? "
                "WHERE number=?",
                (
                    *(_text(run.ended or run.started), run.state, run.chosen, run.written, run.already_there),
                    *(run.failed, run.bytes, json.dumps(run.reasons[:20], ensure_ascii=False), run.number),
                ),
            )

    def runs(self, name: str | None = None, since: datetime | None = None, most: int = 1_000) -> list[Run]:
        """The last runs of an order, or of all, first to last."""
        rows = self._ask(
            "SELECT number, name, started, ended, state, chosen, written, already_there, failed, bytes, reasons "
            "FROM run WHERE (? IS NULL OR name=?) AND started>=? ORDER BY number DESC LIMIT ?",
            *(name, name, _text(since) if since is not None else "", most),
        )
        return [
            Run(
                *(number, name, _moment(began), _moment(ended) if ended else None, state),
                *(chosen, written, there, failed, size, json.loads(reasons)),
            )
            for number, name, began, ended, state, chosen, written, there, failed, size, reasons in reversed(rows)
        ]

    def total(self, name: str) -> int:
        """How many messages an order has delivered."""
        return int(self._ask("SELECT coalesce(sum(written), 0) FROM run WHERE name=?", name)[0][0])

    def rename(self, old: str, new: str) -> None:
        """An order has another name."""
        with self._base.change():
            for table in _TABLES:
                self._base.ask(f"UPDATE OR REPLACE {table} SET name=? WHERE name=?", (new, old))

    def forget(self, name: str, runs: bool = True) -> None:
        """An order is no more; or, its `runs` apart, it is to deliver all again."""
        with self._base.change():
            for table in _TABLES:
                if table not in ("run", "standing") or runs:
                    self._base.ask(f"DELETE FROM {table} WHERE name=?", (name,))

    # what was delivered

    def generation(self, name: str) -> int:
        """How often an order was told to make all again."""
        rows = self._ask("SELECT generation FROM standing WHERE name=?", name)
        return int(rows[0][0]) if rows else 0

    def again(self, name: str) -> None:
        """The order is to make all again."""
        self.forget(name, runs=False)
        with self._base.change():
            self._base.ask("INSERT OR IGNORE INTO standing (name) VALUES (?)", (name,))
            self._base.ask("UPDATE standing SET generation=generation+1, choice='' WHERE name=?", (name,))

    def last_choice(self, name: str) -> str:
        """The choice of an order when it last ran; "" before that."""
        rows = self._ask("SELECT choice FROM standing WHERE name=?", name)
        return str(rows[0][0]) if rows else ""

    def has_delivered(self, name: str) -> bool:
        """Whether an order knows of any message."""
        return bool(self._ask("SELECT 1 FROM delivered WHERE name=? LIMIT 1", name))

    def knows(self, name: str, source: str, envelope: Envelope) -> bool:
        """Whether what lies at a place of a source was delivered."""
        rows = self._ask(
            "SELECT stamp FROM delivered WHERE name=? AND source=? AND folder=? AND place=?",
            *(name, source, envelope.folder, envelope.place),
        )
        return bool(rows) and rows[0][0] == envelope.fingerprint()

    def knows_digest(self, name: str, digest: str) -> bool:
        """Whether a message of that SHA-256 was delivered, wherever it lay."""
        return bool(self._ask("SELECT 1 FROM delivered WHERE name=? AND digest=? LIMIT 1", name, digest))

    def met(self, name: str, source: str, folder: str) -> frozenset[bytes]:
        """The marks of what an order has met in a folder, delivered or not chosen."""
        rows = self._ask("SELECT marks FROM met WHERE name=? AND source=? AND folder=?", name, source, folder)
        marks = rows[0][0] if rows else b""
        return frozenset(marks[at : at + MARK_SIZE] for at in range(0, len(marks), MARK_SIZE))

    def unchanged(self, name: str, source: str, folder: str, stamp: str, choice: str) -> int | None:
        """How many messages of a folder were delivered, where all was and nothing has changed; None otherwise."""
        rows = self._ask(
            "SELECT stamp, choice, held FROM looked WHERE name=? AND source=? AND folder=?", name, source, folder
        )
        return int(rows[0][2]) if rows and stamp and rows[0][:2] == (stamp, choice) else None

    def deliver(
        self,
        name: str,
        source: str,
        messages: Iterable[tuple[str, str, str, str | None]],
        looked: dict[str, tuple[str, int]],
        choice: str,
        failures: list[Failure] | None,
        met: dict[str, set[bytes]] | None = None,
    ) -> None:
        """Messages are delivered: folder, place, stamp and digest of each. `looked` are the stamps of folders in which
        nothing is left to do, and how many messages of the choice they hold; `failures` what is still to come (None: as
        before); `met` the marks of all that a folder held and that is not to come any more."""
        with self._base.change():
            self._base.ask_many(
                "INSERT OR REPLACE INTO delivered VALUES (?,?,?,?,?,?)", ((name, source, *each) for each in messages)
            )
            self._base.ask_many(
                "INSERT OR REPLACE INTO looked VALUES (?,?,?,?,?,?)",
                ((name, source, folder, stamp, choice, held) for folder, (stamp, held) in looked.items() if stamp),
            )
            self._base.ask_many(
                "INSERT OR REPLACE INTO met VALUES (?,?,?,?)",
                ((name, source, folder, b"".join(sorted(marks))) for folder, marks in (met or {}).items()),
            )
            if failures is not None:
                self._base.ask("DELETE FROM failing WHERE name=?", (name,))
                self._base.ask_many(
                    "INSERT OR REPLACE INTO failing VALUES (?,?,?,?,?)",
                    ((name, each.id, each.folder, each.subject, each.reason) for each in failures),
                )
            self._base.ask("INSERT OR IGNORE INTO standing (name) VALUES (?)", (name,))
            self._base.ask("UPDATE standing SET choice=? WHERE name=?", (choice, name))

    def failing(self, name: str) -> list[Failure]:
        """The messages of an order that have not come yet."""
        rows = self._ask("SELECT id, folder, subject, reason FROM failing WHERE name=? ORDER BY folder, id", name)
        return [Failure(*row) for row in rows]


def _text(moment: datetime) -> str:
    return moment.astimezone(UTC).isoformat(timespec="milliseconds")


def _moment(text: str) -> datetime:
    return datetime.fromisoformat(text)
