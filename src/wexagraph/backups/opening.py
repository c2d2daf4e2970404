"""Opening a backup: its folder, its catalogue, and for writing, what a run that was killed has left in it."""

from __future__ import annotations

from collections.abc import Callable
from pathlib import Path

from wexagraph.backups.encryption import Ask
from wexagraph.backups.indexing import open_index
from wexagraph.backups.place import BackupFolder
from wexagraph.backups.recovery import complete, look_for_losses
from wexagraph.backups.store import Store


def open_backup(
    folder: Path,
    writing: bool = False,
    tell: Callable[[str], None] | None = None,
    ask: Ask | None = None,
    locked: bool = False,
) -> Store:
    """Open a backup for reading, or, held by this process alone, for writing.

    `ask` gives the passphrase of one that is locked; `locked` makes a new one such.

    Raises SourceError where no backup lies there, TargetError where it can't be written to, CallError.
    """
    place = BackupFolder(folder, writing, tell, ask, locked)
    try:
        index = open_index(place)
    except OSError as error:
        place.close()
        raise place.failed(error) from error
    except BaseException:
        place.close()
        raise
    store = Store(place, index)
    try:
        if writing:
            complete(store)
            look_for_losses(store)
        return store
    except OSError as error:
        store.close()
        raise store.failed(error) from error
    except BaseException:
        store.close()
        raise
