"""Databases of ours: SQLite, with versions, transactions, and errors for a person."""

from __future__ import annotations

import sqlite3
from collections.abc import Callable, Iterable, Iterator, Mapping
from contextlib import closing, contextmanager, suppress
from dataclasses import dataclass, field
from pathlib import Path
from typing import Any

from wexagraph.errors import TargetError
from wexagraph.output.folder import OWN, OutputFolder

_PATIENCE = 60.0
SAID, ASIDE, ANEW = "said", "aside", "anew"
"""What becomes of a damaged database: it is an error; it is set aside and made anew; it is made anew, for what was in
it can be made again."""


class Damaged(TargetError):
    """What lies there is no database, or one that is damaged."""


@dataclass(frozen=True)
class Form:
    """What a database is: its `name` for people, the statements that make its tables, and its version. `since` brings
    one up to a version from the one before; without that, one of another version is made anew. `settings` are pragmas,
    `temporary` makes tables that are gone with the run."""

    name: str
    schema: str
    version: int = 1
    since: Mapping[int, Callable[[sqlite3.Connection], None]] = field(default_factory=dict)
    settings: tuple[str, ...] = ()
    temporary: str = ""


class Database:
    """One that is open. Each statement is lasting by itself or, where it is opened `together`, with `commit`.

    For `reading`, it is as it lies there. `proved`, it is read through first, which takes long where it is large.
    `is_new` says that it was made now. All methods raise TargetError where the disk fails, Damaged where it is damaged.
    """

    def __init__(
        self,
        path: Path,
        form: Form,
        damage: str = SAID,
        *,
        together: bool = False,
        proved: bool = True,
        reading: bool = False,
    ) -> None:
        self._path, self._form, self._damage, self._together = path, form, damage, together
        self.is_new = False
        try:
            try:
                self._base = self._open(proved, reading)
            except sqlite3.OperationalError:  # busy, or a disk that fails: what is in it is left as it is
                raise
            except sqlite3.DatabaseError:
                if damage == SAID:
                    raise
                if damage == ASIDE:
                    path.replace(path.with_suffix(".damaged"))
                else:
                    path.unlink()
                self._base = self._open(proved, reading)
        except (OSError, sqlite3.Error) as error:
            raise self._failed(error) from error

    def _open(self, proved: bool, reading: bool) -> sqlite3.Connection:
        # not opened read-only: what a killed run has left half done is rolled back first
        address = f"{self._path.absolute().as_uri()}?mode={'rw' if reading else 'rwc'}"
        base = sqlite3.connect(address, _PATIENCE, uri=True, isolation_level=None, check_same_thread=False)
        try:
            if reading and base.execute("PRAGMA user_version").fetchone()[0] != self._form.version:
                base = _copied(base)  # one of an earlier version is brought up in memory
            for setting in self._form.settings if not reading else ():
                base.execute(f"PRAGMA {setting}")
            self._bring_up(base, proved, reading)
            if reading:
                base.execute("PRAGMA query_only = 1")
            else:
                base.executescript(self._form.temporary)
            if self._together and not reading:
                base.execute("BEGIN")
        except BaseException:
            base.close()
            raise
        return base

    def _bring_up(self, base: sqlite3.Connection, proved: bool, reading: bool) -> None:
        form, (version,) = self._form, base.execute("PRAGMA user_version").fetchone()
        if reading and version == form.version:
            return
        self.is_new = base.execute("SELECT 1 FROM sqlite_master").fetchone() is None
        if not self.is_new and proved and base.execute("PRAGMA quick_check(1)").fetchone()[0] != "ok":
            raise sqlite3.DatabaseError("it is damaged")
        if version > form.version and self._damage != ANEW:
            raise TargetError(f"{self._path} is from a newer Wexagraph. Use that one.")
        if version != form.version:
            base.execute("BEGIN IMMEDIATE")  # in one step: a run killed in between must not leave half a schema
            (version,) = base.execute("PRAGMA user_version").fetchone()  # another run may have been quicker
            if version == 0:
                for statement in filter(str.strip, form.schema.split(";")):
                    base.execute(statement)
            for later in range(version + 1, form.version + 1) if version else ():
                if later not in form.since:
                    raise sqlite3.DatabaseError(f"it is of version {version}")
                form.since[later](base)
            if version > form.version:
                raise sqlite3.DatabaseError(f"it is of version {version}")
            base.execute(f"PRAGMA user_version = {form.version}")
            base.execute("COMMIT")

    def close(self) -> None:
        """Give it free; what was not made lasting is gone."""
        with suppress(sqlite3.Error):
            self._base.rollback()
        self._base.close()

    def ask(self, sql: str, values: Iterable[Any] = ()) -> sqlite3.Cursor:
        """Run one statement."""
        try:
            return self._base.execute(sql, tuple(values))
        except sqlite3.Error as error:
            raise self._failed(error) from error

    def ask_many(self, sql: str, rows: Iterable[tuple[Any, ...]]) -> None:
        """Run one statement on many rows."""
        try:
            self._base.executemany(sql, rows)
        except sqlite3.Error as error:
            raise self._failed(error) from error

    def commit(self) -> None:
        """Make everything said so far lasting."""
        self.ask("COMMIT")
        self.ask("BEGIN")

    @contextmanager
    def change(self) -> Iterator[None]:
        """What is changed together is there wholly or not at all."""
        self.ask("BEGIN IMMEDIATE")
        try:
            yield
        except BaseException:
            with suppress(sqlite3.Error):
                self._base.execute("ROLLBACK")
            raise
        self.ask("COMMIT")

    def _failed(self, error: Exception) -> TargetError:
        what = f"{self._form.name} {self._path} can't be written or read: {error}."
        is_damaged = isinstance(error, sqlite3.DatabaseError) and not isinstance(error, sqlite3.OperationalError)
        kind = Damaged if is_damaged else TargetError
        return kind(f"{what} Check the disk and the room on it, and run the same command again.")


def _copied(base: sqlite3.Connection) -> sqlite3.Connection:
    """The same in memory; the one on the disk is closed."""
    with closing(base):
        copy = sqlite3.connect(":memory:", isolation_level=None, check_same_thread=False)
        base.backup(copy)
        return copy


def open_database(home: Path, name: str, form: Form, *, proved: bool = True, anew: bool = False) -> Database:
    """The database of that name among our own files of a folder, each statement lasting. What was in a damaged one can
    be made again from the folder; so is one that is wanted `anew`. Raises TargetError."""
    try:
        with OutputFolder(home) as folder:
            if anew:
                folder.unlink(f"{OWN}/{name}")
            return Database(folder.database(name), form, ANEW, proved=proved)
    except OSError as error:
        raise TargetError(f"{home / OWN / name} can't be used: {error}. Check the disk and its permissions.") from error
