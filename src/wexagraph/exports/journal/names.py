"""The names of messages in a journal: those that they wish for, and those that they were given."""

from __future__ import annotations

import re
from collections.abc import Iterator

from wexagraph.exports.journal.records import PlannedMessage
from wexagraph.naming import collision_key
from wexagraph.naming.paths import RESERVED_STEMS
from wexagraph.output.databases import Database

_NUMBER = re.compile(r" \((\d{1,9})\)")


class Names:
    """A name is one of a `naming`: for two exports that name alike, a message has the same.

    All methods raise TargetError where the disk fails.
    """

    def __init__(self, base: Database) -> None:
        self._base = base

    def has(self, number: int, naming: str) -> bool:
        return (
            self._base.ask("SELECT 1 FROM name WHERE message=? AND naming=?", (number, naming)).fetchone() is not None
        )

    def own_numbers(self, number: int, key: str) -> list[int]:
        """The numbers behind `key` in the names and files that a message has from earlier runs, in order."""
        either = "SELECT key FROM name WHERE message=? UNION ALL SELECT path FROM file WHERE message=?"
        texts = (collision_key(row[0]) for row in self._base.ask(either, (number, number)))
        numbers = (_NUMBER.match(text, len(key)) for text in texts if text.startswith(key))
        return sorted({int(match[1]) if match else 1 for match in numbers})

    def wish(self, number: int, wish: PlannedMessage) -> None:
        """The name that a message of an earlier run would like."""
        self._base.ask("INSERT OR REPLACE INTO fresh VALUES (?,?,?,?)", (number, wish.key, wish.stem, wish.date))

    def rivals(self) -> list[int]:
        """Messages whose wished names collide with each other's."""
        shared = "SELECT key FROM fresh GROUP BY key HAVING count(*) > 1"
        return [row[0] for row in self._base.ask(f"SELECT message FROM fresh WHERE key IN ({shared}) ORDER BY message")]

    def give_lone(self, naming: str) -> None:
        """Give the names that one message alone wishes for and that are free, where no file can stand in the way."""
        lone = "SELECT key FROM fresh GROUP BY key HAVING count(*) = 1"
        self._base.ask(
            f"INSERT INTO name SELECT message, ?, key, stem FROM fresh WHERE key IN ({lone}) "
            f"AND key NOT IN (SELECT key FROM name) AND key NOT IN ({', '.join('?' * len(RESERVED_STEMS))}) "
            "ORDER BY message",
            (naming, *RESERVED_STEMS),
        )
        self._base.ask("DELETE FROM fresh WHERE message IN (SELECT message FROM name WHERE naming=?)", (naming,))

    def wishes(self) -> Iterator[tuple[int, str, str]]:
        """All wishes (message, key, stem): first those that come first under their key, then the others.

        Under one key, order goes by date, then by the digest of the bytes, then by place: never by time of reading.
        """
        order = "f.key, f.date, coalesce(m.digest, ''), m.folder, m.place"
        numbered = (
            f"SELECT f.message, f.key, f.stem, row_number() OVER (PARTITION BY f.key ORDER BY {order}) AS turn "
            "FROM fresh f JOIN message m ON m.number=f.message"
        )
        return iter(self._base.ask(f"SELECT message, key, stem FROM ({numbered}) ORDER BY turn > 1, key, turn"))

    def wished(self, key: str) -> bool:
        return self._base.ask("SELECT 1 FROM fresh WHERE key=?", (key,)).fetchone() is not None

    def index_wishes(self) -> None:
        self._base.ask("CREATE INDEX IF NOT EXISTS temp.fresh_by_key ON fresh (key)")

    def clear_wishes(self) -> None:
        self._base.ask("DELETE FROM fresh")

    def taken(self, key: str, number: int = 0) -> bool:
        """Whether a message other than this one bears a name that collides with `key`."""
        return self._base.ask("SELECT 1 FROM name WHERE key=? AND message<>?", (key, number)).fetchone() is not None

    def give(self, number: int, naming: str, stem: str) -> None:
        row = number, naming, collision_key(stem), stem
        self._base.ask("INSERT INTO name (message, naming, key, stem) VALUES (?,?,?,?)", row)
