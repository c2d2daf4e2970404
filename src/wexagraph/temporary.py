"""Folders for what must not lie open: private, held by a lock, and cleared by a later run if this one is killed."""

from __future__ import annotations

import contextlib
import os
import shutil
import tempfile
from pathlib import Path
from types import TracebackType

_PREFIX = "wexagraph-"
_HELD = "held"


class TemporaryFolder:
    """A folder of this process alone; gone when it is closed."""

    def __init__(self) -> None:
        while True:
            self.path = Path(tempfile.mkdtemp(prefix=_PREFIX))
            try:
                self._lock = os.open(self.path / _HELD, os.O_RDWR | os.O_CREAT | os.O_EXCL, 0o600)
                _hold(self._lock)
                if os.path.samestat(os.fstat(self._lock), os.stat(self.path / _HELD)):
                    return
            except (FileNotFoundError, BlockingIOError):
                pass
            # another run took it for abandoned just before it was held, and has removed it, or is at that

    def close(self) -> None:
        """Remove it and all that is in it."""
        shutil.rmtree(self.path, ignore_errors=True)
        if self._lock >= 0:
            os.close(self._lock)
            self._lock = -1

    def __enter__(self) -> Path:
        return self.path

    def __exit__(
        self, kind: type[BaseException] | None, error: BaseException | None, trace: TracebackType | None
    ) -> None:
        self.close()


def clear_abandoned() -> None:
    """Remove the temporary folders of runs that were killed: ours, and held by no process any more."""
    with contextlib.suppress(OSError), os.scandir(tempfile.gettempdir()) as entries:
        for entry in entries:
            if entry.name.startswith(_PREFIX) and entry.is_dir(follow_symlinks=False):
                _clear(entry)


def _clear(entry: os.DirEntry[str]) -> None:
    with contextlib.suppress(OSError):
        if hasattr(os, "getuid") and entry.stat(follow_symlinks=False).st_uid != os.getuid():
            return
        lock = os.open(f"{entry.path}/{_HELD}", os.O_RDWR | getattr(os, "O_NOFOLLOW", 0))
        try:
            _hold(lock)  # fails where a process has it
            shutil.rmtree(entry.path, ignore_errors=True)
        finally:
            os.close(lock)


def _hold(descriptor: int) -> None:
    """Take the lock of a folder. Raises OSError where another process has it."""
    with contextlib.suppress(ImportError):  # Windows removes no file that is open
        import fcntl

        fcntl.flock(descriptor, fcntl.LOCK_EX | fcntl.LOCK_NB)
