"""A mailbox file that grows by being replaced whole, while others may deliver into it."""

from __future__ import annotations

import contextlib
import os
import secrets
import shutil
import socket
import stat
import time
from collections.abc import Callable, Iterator
from contextlib import contextmanager
from pathlib import Path
from typing import BinaryIO

from wexagraph.errors import TargetError
from wexagraph.output.folder import OutputFolder, lock_file

_TIMEOUT = 60.0
_MOST_LOOKS = 10
Begin = Callable[[BinaryIO, BinaryIO | None], None]
"""Writes the beginning of the new file: what the old one holds, where there is one."""


class ReplacedFile:
    """One file, held by this process: with the lock file that mail programs heed (NAME.lock) and the system's lock.

    What is added is written to a new file beside it. To end, the old one is looked at again: what was delivered into it
    meanwhile is taken over. Raises TargetError where others hold it for too long, OSError.
    """

    def __init__(self, folder: OutputFolder, path: str, timeout: float = _TIMEOUT) -> None:
        self._folder, self._path = folder, path
        self._lock_path = f"{path}.lock"
        self._timeout = timeout
        above, _, name = path.rpartition("/")
        self._waiting = f"{above}/" * bool(above) + f".{name[-100:]}.{secrets.token_hex(6)}.part"
        self._file: BinaryIO | None = None
        self._old: BinaryIO | None = None
        self._begun_at = 0
        self._state: tuple[int, int, int] | None = None
        self._hold()

    @property
    def name(self) -> Path:
        """The file's path, for people."""
        return self._folder.path / self._path

    def _hold(self) -> None:
        end = time.monotonic() + self._timeout
        while True:
            try:
                with self._folder.create(self._lock_path) as lock:
                    lock.write(f"{os.getpid()} {socket.gethostname()}\n".encode())
                break
            except FileExistsError:
                if self._is_stale():
                    self._folder.unlink(self._lock_path)
                elif time.monotonic() > end:
                    raise TargetError(
                        f"{self.name} is in use: another program holds {self._folder.path / self._lock_path}. Wait for "
                        "it to end, or remove that file if nothing runs that writes mail there."
                    ) from None
                else:
                    time.sleep(0.1)
        try:
            self._hold_by_the_system(end)
        except BaseException:
            self._folder.unlink(self._lock_path)
            raise

    def _is_stale(self) -> bool:
        """Whether the lock was left by a process of this machine that is no more."""
        try:
            with self._folder.reader(self._lock_path) as file:
                process, _, host = file.read(300).decode("utf-8", "replace").strip().partition(" ")
            if host != socket.gethostname() or not process.isdigit():
                return False
            os.kill(int(process), 0)
        except ProcessLookupError:
            return True
        except (OSError, OverflowError):
            return False
        return False

    def _hold_by_the_system(self, end: float) -> None:
        if not self._folder.taken(self._path):
            return
        self._old = self._folder.update(self._path)
        while True:
            try:
                _lock_region(self._old)
                return
            except OSError:
                if time.monotonic() > end:
                    raise TargetError(f"{self.name} is in use: another program has locked it. Wait for it.") from None
                time.sleep(0.1)

    def begin(self, begin: Begin) -> BinaryIO:
        """The new file, behind what `begin` has written of the old one; made at the first call."""
        if self._file is None:
            self._file = self._folder.create(self._waiting)
            self._copy(self._file, begin)
            self._begun_at = self._file.tell()
        return self._file

    def _copy(self, file: BinaryIO, begin: Begin) -> None:
        self._state = self._look()
        if self._state is None:
            begin(file, None)
            return
        with self._folder.reader(self._path) as old:
            if hasattr(os, "fchmod"):
                os.fchmod(file.fileno(), stat.S_IMODE(os.fstat(old.fileno()).st_mode))
            begin(file, old)

    def _look(self) -> tuple[int, int, int] | None:
        about = self._folder.stat(self._path)
        return (about.st_size, about.st_mtime_ns, about.st_ino) if about is not None else None

    def finish(self, begin: Begin | None) -> None:
        """Put the new file in place of the old one. Where that was changed meanwhile, what was added is put behind what
        it holds now, as `begin` writes it; without `begin`, nothing is put. Then give all locks back."""
        try:
            if self._file is None:
                return
            for _ in range(_MOST_LOOKS):
                self._file.flush()
                os.fsync(self._file.fileno())
                if self._look() == self._state:
                    self._folder.replace(self._waiting, self._path)
                    return
                if begin is None:
                    break
                self._begin_again(begin)
            raise TargetError(
                f"{self.name} was changed while messages were given back to it, so nothing was put there. Run the same "
                "command again."
            )
        finally:
            self.release()

    def _begin_again(self, begin: Begin) -> None:
        assert self._file is not None
        before, at = self._file, self._begun_at
        waiting, self._waiting = self._waiting, f"{self._waiting.removesuffix('.part')}-.part"
        self._file = self._folder.create(self._waiting)
        self._copy(self._file, begin)
        self._begun_at = self._file.tell()
        before.seek(at)
        while block := before.read(1 << 20):
            self._file.write(block)
        before.close()
        self._folder.unlink(waiting)

    def release(self) -> None:
        """Give up what was not finished, and give all locks back."""
        if self._file is not None:
            self._file.close()
            self._file = None
        if self._old is not None:
            self._old.close()
            self._old = None
        with contextlib.suppress(OSError):
            self._folder.unlink(self._waiting)
            self._folder.unlink(self._lock_path)


def _lock_region(file: BinaryIO) -> None:
    """The lock that mail programs take on an mbox (fcntl). Raises OSError where another has it."""
    try:
        import fcntl
    except ImportError:  # pragma: no cover  Windows
        lock_file(file)
        return
    fcntl.lockf(file, fcntl.LOCK_EX | fcntl.LOCK_NB)


def write_whole_file(path: Path, content: bytes) -> None:
    """Write a file; one of that name is replaced. Its folder is made if need be. Raises TargetError."""
    try:
        with OutputFolder(path.parent) as folder:
            folder.write(path.name, content, beside=True)
    except OSError as error:
        raise TargetError(f"{path} can't be written: {error.strerror or error}. Check the disk.") from error


Look = tuple[int, int, int]
"""Size, time (nanoseconds) and number of a file, by which it is known again."""


class Changed(Exception):
    """The file that was to be replaced is not the one that was read any more."""


def look(path: Path) -> Look | None:
    """A file as it now is; None where there is none."""
    try:
        about = os.stat(path)
    except OSError:
        return None
    return about.st_size, about.st_mtime_ns, about.st_ino


@contextmanager
def whole_file(path: Path, keep: str = "", seen: Look | None = None) -> Iterator[BinaryIO]:
    """A file to be written piece by piece, under its name only at the end. One of that name is replaced; with `keep`,
    it stays beside it under that name. Where it was `seen` before, it is looked at again: raises Changed where it is
    another one by now, and TargetError."""
    waiting = f".{path.name[-100:]}.{secrets.token_hex(6)}.part"
    try:
        with OutputFolder(path.parent) as folder:
            try:
                with folder.create(waiting) as file:
                    yield file
                    file.flush()
                    os.fsync(file.fileno())
                if seen is not None and look(path) != seen:
                    raise Changed
                if keep and folder.taken(path.name):
                    with folder.reader(path.name) as old, folder.create(f"{waiting}.old") as copy:
                        shutil.copyfileobj(old, copy, 1 << 20)
                    folder.replace(f"{waiting}.old", keep)
                folder.replace(waiting, path.name)
            except BaseException:
                folder.unlink(waiting)
                folder.unlink(f"{waiting}.old")
                raise
    except OSError as error:
        raise TargetError(f"{path} can't be written: {error.strerror or error}. Check the disk.") from error
