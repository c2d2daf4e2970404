"""Databases of ours in a folder: SQLite, and made anew where one is damaged or of another version."""

from __future__ import annotations

import sqlite3
from pathlib import Path

from wexagraph.errors import TargetError
from wexagraph.output.folder import OWN, OutputFolder


def open_database(
    home: Path, name: str, schema: str, version: int = 1, *, proved: bool = True, anew: bool = False
) -> sqlite3.Connection:
    """The database of that name among our own files of a folder, each statement lasting.

    What was in a damaged one can be made again from the folder. One that is not `proved` is not read through, which
    takes long where it is large: whoever uses it meets damage as sqlite3.DatabaseError, and opens it `anew`, empty.
    Raises TargetError.
    """
    try:
        with OutputFolder(home) as folder:
            for attempt in range(2):
                if anew and not attempt:
                    folder.unlink(f"{OWN}/{name}")
                path = folder.database(name)
                base = sqlite3.connect(path, timeout=60, isolation_level=None)
                try:
                    old_version = base.execute("PRAGMA user_version").fetchone()[0]
                    if old_version == 0:
                        base.executescript(f"BEGIN IMMEDIATE; {schema} PRAGMA user_version = {version}; COMMIT;")
                    if old_version in (0, version) and (not proved or _is_whole(base)):
                        return base
                except sqlite3.OperationalError:  # busy, or a disk that fails: what is in it is left as it is
                    base.close()
                    raise
                except sqlite3.DatabaseError:
                    if attempt:
                        raise
                base.close()
                folder.unlink(f"{OWN}/{name}")
    except (OSError, sqlite3.Error) as error:
        raise TargetError(f"{home / OWN / name} can't be used: {error}. Check the disk and its permissions.") from error
    raise TargetError(f"{home / OWN / name} can't be made. Check the disk.")


def _is_whole(base: sqlite3.Connection) -> bool:
    return bool(base.execute("PRAGMA quick_check(1)").fetchone()[0] == "ok")
