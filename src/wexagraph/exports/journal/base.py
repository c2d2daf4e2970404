"""The database of a journal, open: statements, and their errors for a person."""

from __future__ import annotations

import sqlite3
from collections.abc import Iterable
from contextlib import suppress
from pathlib import Path
from typing import Any

from wexagraph.errors import TargetError
from wexagraph.exports.journal.schema import open_to_read, open_to_write


class Base:
    """The database of one export folder, made where there is none; or, for `reading`, as it is.

    All methods raise TargetError where the disk fails.
    """

    def __init__(self, path: Path, reading: bool = False) -> None:
        self._path, self.is_new = path, False
        if reading:
            self._base = open_to_read(path)
        else:
            try:
                self._base, self.is_new = open_to_write(path)
            except sqlite3.DatabaseError:
                # damaged: set aside, not lost; register and manifest tell what is needed of it
                path.replace(path.with_suffix(".damaged"))
                self._base, self.is_new = open_to_write(path)

    def close(self) -> None:
        with suppress(sqlite3.Error):
            self._base.rollback()
        self._base.close()

    def commit(self) -> None:
        """Make everything said so far lasting."""
        try:
            self._base.execute("COMMIT")
            self._base.execute("BEGIN")
        except sqlite3.Error as error:
            raise self._failed(error) from error

    def _failed(self, error: sqlite3.Error) -> TargetError:
        return TargetError(
            f"the journal {self._path} can't be written: {error}. "
            "Free some space on the disk and run the same command again."
        )

    def ask(self, sql: str, values: tuple[Any, ...] = ()) -> sqlite3.Cursor:
        """Run one statement."""
        try:
            return self._base.execute(sql, values)
        except sqlite3.DatabaseError as error:
            raise self._failed(error) from error

    def ask_many(self, sql: str, values: Iterable[tuple[Any, ...]]) -> None:
        """Run one statement on many rows."""
        try:
            self._base.executemany(sql, values)
        except sqlite3.DatabaseError as error:
            raise self._failed(error) from error
