"""A folder that results go to, and the one way to what lies below it: by its descriptor, and never through a link."""

from __future__ import annotations

import contextlib
import ctypes
import errno
import hashlib
import os
import secrets
import shutil
import stat
import sys
import time
from collections.abc import Callable, Iterator
from io import BufferedReader
from pathlib import Path
from typing import BinaryIO

from wexagraph.files import NO_LINK, open_regular

OWN = ".wexagraph"
"""Where our own files of a folder lie, for its owner only."""
PATIENCE = 3.0
"""Seconds to wait for a folder that another run writes to."""
FULL = {errno.ENOSPC, errno.EDQUOT, errno.EFBIG}
_BY_DESCRIPTOR = os.open in os.supports_dir_fd
_FOLDER = os.O_RDONLY | getattr(os, "O_DIRECTORY", 0) | NO_LINK


class InTheWay(OSError):
    """A link or a file lies where a folder is needed. `strerror` is a sentence for a person."""


class OutputFolder:
    """A folder, open for as long as this object is. Paths are relative to it, with `/`; no link below it is followed.

    With `make` it is made where it is missing. What is made in a `private` one is for its owner only; in one that a
    group may write to, for that group, our own files too, whatever the umask of each of them. All methods raise
    OSError.
    """

    def __init__(self, path: Path, make: bool = True, private: bool = False) -> None:
        self.path = path
        self._folder_mode, self._file_mode = (0o700, 0o600) if private else (0o777, 0o666)
        made = make and not path.exists()
        if make:
            path.mkdir(self._folder_mode, parents=True, exist_ok=True)
        self._root = os.open(path, os.O_RDONLY | getattr(os, "O_DIRECTORY", 0)) if _BY_DESCRIPTOR else None
        self._lock: BinaryIO | None = None
        self._shared: os.stat_result | None = None
        if self._root is not None and not private:
            if made and (above := _of_a_group(os.stat(path.parent))) is not None:
                _share(self._root, above, 0o2777)
            self._shared = _of_a_group(os.fstat(self._root))

    def close(self) -> None:
        """Give the folder free."""
        if self._lock is not None:
            with contextlib.suppress(OSError):
                self._lock.truncate(0)
            self._lock.close()
            self._lock = None
        if self._root is not None:
            os.close(self._root)
            self._root = None

    def __enter__(self) -> OutputFolder:
        return self

    def __exit__(self, *_: object) -> None:
        self.close()

    # where a path leads

    @contextlib.contextmanager
    def _above(self, path: str, make: bool = False) -> Iterator[tuple[int | None, str]]:
        """The descriptor of the folder in which `path` lies, and its name there."""
        levels = path.split("/")
        if any(level in ("", ".", "..") for level in levels):
            raise OSError(errno.EINVAL, "it leads out of its folder", path)
        if not _BY_DESCRIPTOR:  # pragma: no cover  Windows
            yield None, self._checked_path(levels, make)
            return
        at, opened = self._root, -1
        try:
            for level in levels[:-1]:
                at = self._enter(at, level, make)
                if opened >= 0:
                    os.close(opened)
                opened = at
            yield at, levels[-1]
        finally:
            if opened >= 0:
                os.close(opened)

    def _enter(self, above: int | None, name: str, make: bool) -> int:
        mode = 0o700 if name == OWN else self._folder_mode
        try:
            return os.open(name, _FOLDER, dir_fd=above)
        except FileNotFoundError:
            if not make:
                raise
            with contextlib.suppress(FileExistsError):
                os.mkdir(name, mode, dir_fd=above)
            opened = os.open(name, _FOLDER, dir_fd=above)
            if self._shared is not None:
                _share(opened, self._shared, 0o2770 if name == OWN else 0o2777)
            return opened
        except OSError as error:
            if error.errno in (errno.ENOTDIR, errno.ELOOP):
                raise self._in_the_way(name, os.lstat(name, dir_fd=above).st_mode) from error
            raise

    def _in_the_way(self, name: str, mode: int) -> InTheWay:
        place = self.path / name
        if stat.S_ISLNK(mode):
            reason = f"{place} is a symbolic link, which is not followed. Remove it, or choose another folder"
        else:
            reason = f"{place} is a file where a folder is needed. Move it, or choose another folder"
        return InTheWay(errno.ENOTDIR, reason)

    def _checked_path(self, levels: list[str], make: bool) -> str:  # pragma: no cover  Windows
        place = self.path
        for level in levels[:-1]:
            place = place / level
            if make:
                place.mkdir(exist_ok=True)
            if place.is_symlink() or not place.is_dir():
                raise self._in_the_way(level, place.lstat().st_mode)
        return str(place / levels[-1])

    # looking

    def stat(self, path: str) -> os.stat_result | None:
        """What lies there, a link itself included; None where nothing does."""
        try:
            with self._above(path) as (above, name):
                return os.stat(name, dir_fd=above, follow_symlinks=False)
        except OSError:
            return None

    def taken(self, path: str) -> bool:
        """Whether anything bears this name; a broken symbolic link does."""
        return self.stat(path) is not None

    def stamp(self, path: str) -> tuple[int, int] | None:
        """Size and time (nanoseconds) of a regular file; None where there is none."""
        about = self.stat(path)
        return (about.st_size, about.st_mtime_ns) if about is not None and stat.S_ISREG(about.st_mode) else None

    def names(self, path: str = "") -> list[str]:
        """What lies in a folder, sorted; nothing where there is none. Raises InTheWay where it is a link."""
        try:
            with self._above(f"{path}/x" if path else "x") as (above, name):
                return sorted(os.listdir(above if above is not None else os.path.dirname(name)))
        except FileNotFoundError:
            return []

    def files(self, path: str = "") -> Iterator[str]:
        """The paths of all files below a folder, links included, sorted; what can't be looked into is passed over."""
        for name in self.names(path):
            inner = f"{path}/{name}" if path else name
            about = self.stat(inner)
            if about is not None and stat.S_ISDIR(about.st_mode):
                with contextlib.suppress(PermissionError):
                    yield from self.files(inner)
            else:
                yield inner

    def sizes(self, path: str) -> Iterator[tuple[str, int]]:
        """The paths of all files below a folder, links included, with their sizes, in no order. To be looked at only,
        for a link that comes up meanwhile is followed."""
        try:
            with os.scandir(self.path / path) as entries:
                for entry in entries:
                    inner = f"{path}/{entry.name}" if path else entry.name
                    if entry.is_dir(follow_symlinks=False):
                        yield from self.sizes(inner)
                    else:
                        yield inner, entry.stat(follow_symlinks=False).st_size
        except (FileNotFoundError, PermissionError):
            return

    def reader(self, path: str) -> BufferedReader:
        """Open a regular file for reading."""
        with self._above(path) as (above, name):
            return open_regular(name, above)

    def digest(self, path: str, kind: str = "sha256") -> str | None:
        """The digest of a regular file in hexadecimal; None where it can't be read."""
        try:
            with self.reader(path) as file:
                return hashlib.file_digest(file, kind).hexdigest()
        except OSError:
            return None

    # changing

    def create(self, path: str) -> BinaryIO:
        """Open a new file for writing and reading; nothing may bear its name."""
        with self._above(path, make=True) as (above, name):
            flags = os.O_RDWR | os.O_CREAT | os.O_EXCL | NO_LINK
            return open(self._new(name, flags, self._file_mode, above), "w+b")

    def _new(self, name: str, flags: int, mode: int, above: int | None) -> int:
        """The descriptor of a file that may be new."""
        descriptor = os.open(name, flags, mode, dir_fd=above)
        if self._shared is not None:
            _share(descriptor, self._shared, 0o666)
        return descriptor

    def update(self, path: str) -> BinaryIO:
        """Open a regular file that is there for reading and writing."""
        with self._above(path) as (above, name):
            descriptor = os.open(name, os.O_RDWR | NO_LINK, dir_fd=above)
        if not stat.S_ISREG(os.fstat(descriptor).st_mode):
            os.close(descriptor)
            raise OSError(errno.EINVAL, "it is not a regular file", path)
        return open(descriptor, "r+b")

    def make_folder(self, path: str) -> None:
        """Make a folder and those above it. Raises InTheWay where a link or a file bears its name."""
        with self._above(f"{path}/x", make=True):
            pass

    def write(self, path: str, content: bytes, beside: bool = False) -> None:
        """Write a file anew: whole, on the disk, or not at all. It waits among our own, or `beside` its place."""
        waiting = f".{path[-100:]}.{secrets.token_hex(6)}.part" if beside else f"{OWN}/{secrets.token_hex(8)}"
        try:
            with self.create(waiting) as file:
                file.write(content)
                file.flush()
                os.fsync(file.fileno())
            self.replace(waiting, path)
        except BaseException:
            self.unlink(waiting)
            raise

    def replace(self, waiting: str | Path, path: str) -> None:
        """Rename a file (a path below this folder, or a Path of our staging) to `path`, whatever file lies there."""
        with self._renaming(waiting, path) as (old_above, old, above, name):
            os.replace(old, name, src_dir_fd=old_above, dst_dir_fd=above)

    def rename_new(self, waiting: str | Path, path: str) -> None:
        """The same, to a name that nothing bears yet. Raises FileExistsError where something does."""
        with self._renaming(waiting, path) as (old_above, old, above, name):
            rename_new(old, name, old_above, above)

    def follow(self, path: str) -> None:
        """Give a file that was put the rights that the folder's group needs, where that may write to it."""
        if self._shared is not None:
            with contextlib.suppress(OSError), self.reader(path) as file:
                _share(file.fileno(), self._shared, 0o666)

    def move_folder(self, old: str, new: str) -> None:
        """Rename a folder, in one step, to a name that nothing bears yet. Raises FileExistsError where something does,
        InTheWay where a link or a file lies there in place of the folder."""
        about = self.stat(old)
        if about is not None and not stat.S_ISDIR(about.st_mode):
            raise self._in_the_way(old, about.st_mode)
        self.rename_new(old, new)

    def is_in_place(self) -> bool:
        """Whether the folder still lies where it was opened: it may have been moved while a lock was waited for."""
        if self._root is None:  # pragma: no cover  Windows
            return True
        try:
            return os.path.samestat(os.fstat(self._root), os.stat(self.path))
        except OSError:
            return False

    @contextlib.contextmanager
    def _renaming(self, waiting: str | Path, path: str) -> Iterator[tuple[int | None, str, int | None, str]]:
        with contextlib.ExitStack() as stack:
            above, name = stack.enter_context(self._above(path, make=True))
            if isinstance(waiting, Path):
                yield None, str(waiting), above, name
            else:
                yield (*stack.enter_context(self._above(waiting)), above, name)

    def unlink(self, path: str) -> None:
        """Remove a file, or a link and not what it leads to; nothing happens where there is none."""
        with contextlib.suppress(FileNotFoundError), self._above(path) as (above, name):
            os.unlink(name, dir_fd=above)

    def remove_empty(self, path: str) -> None:
        """Remove the folders above a file that is gone, as far as nothing else lies in them."""
        while "/" in path:
            path = path.rpartition("/")[0]
            try:
                with self._above(path) as (above, name):
                    os.rmdir(name, dir_fd=above)
            except OSError:
                return

    def clear(self, path: str) -> None:
        """Remove a folder and all below it, as far as that can be done; of a link, the link."""
        about = self.stat(path)
        if about is None:
            return
        if not stat.S_ISDIR(about.st_mode):
            self.unlink(path)
            return
        with self._above(path) as (above, name):
            shutil.rmtree(name, ignore_errors=True, dir_fd=above)

    def sync(self) -> None:
        """Bring the names of all files, and where the system can what is in them, to the disk."""
        if _syncfs is not None and self._root is not None and _syncfs(self._root) != 0:
            number = ctypes.get_errno()
            raise OSError(number, os.strerror(number))

    # our own place in it

    def own(self) -> None:
        """Make the place for our own files: for the owner only, or for the group that the folder is of."""
        with self._above(f"{OWN}/x", make=True) as (above, _):
            if above is None:
                return
            if self._shared is not None:
                _share(above, self._shared, 0o2770)
            elif os.fstat(above).st_mode & 0o077:
                with contextlib.suppress(PermissionError):  # somebody else's, who lets us write
                    os.fchmod(above, 0o700)

    def stage(self, name: str) -> Path:
        """An empty folder for what is in hand; what a run that was stopped has left there goes."""
        path = f"{OWN}/{name}"
        self.clear(path)
        self.make_folder(path)
        return self.path / path

    def database(self, name: str) -> Path:
        """Where a database of ours lies or is to be made. Raises InTheWay where a link or a folder bears its name."""
        self.own()
        for path in (f"{OWN}/{name}", *(f"{OWN}/{name}-{more}" for more in ("journal", "wal", "shm"))):
            about = self.stat(path)
            if about is not None and not stat.S_ISREG(about.st_mode):
                raise InTheWay(errno.EINVAL, f"{self.path / path} is not a regular file. Remove it")
        if not self.taken(f"{OWN}/{name}"):
            with self._above(f"{OWN}/{name}") as (above, own):
                os.close(self._new(own, os.O_RDWR | os.O_CREAT | os.O_EXCL | NO_LINK, 0o600, above))
        return self.path / OWN / name

    def take_lock(self, patience: float | None = None, name: str = "lock") -> str | None:
        """Hold the folder for this process; wait a while (in seconds) where another has it. Returns None, or who holds
        it: a process number, or "". What may go on beside other commands has a lock of another `name`."""
        end = time.monotonic() + (PATIENCE if patience is None else patience)
        while (holder := self._try_lock(name)) is not None and time.monotonic() < end:
            time.sleep(0.1)
        return holder

    def _try_lock(self, lock_name: str) -> str | None:
        self.own()
        with self._above(f"{OWN}/{lock_name}") as (above, name):
            descriptor = self._new(name, os.O_RDWR | os.O_CREAT | NO_LINK, 0o600, above)
        if not stat.S_ISREG(os.fstat(descriptor).st_mode):
            os.close(descriptor)
            raise InTheWay(errno.EINVAL, f"{self.path / OWN / lock_name} is not a regular file. Remove it")
        lock = open(descriptor, "r+b")  # noqa: SIM115  held until close
        try:
            lock_file(lock)
        except OSError:
            holder = lock.read(40).decode("ascii", "replace").strip()
            lock.close()
            return holder if holder.isdigit() else ""
        if not self._is_named(descriptor, f"{OWN}/{lock_name}"):
            lock.close()  # who had it has taken the folder away
            return ""
        lock.truncate(0)
        lock.write(str(os.getpid()).encode("ascii"))
        lock.flush()
        self._lock = lock
        return None

    def _is_named(self, descriptor: int, path: str) -> bool:
        """Whether an open file is still the one that bears a name."""
        about = self.stat(path)
        return about is not None and os.path.samestat(about, os.fstat(descriptor))

    def discard(self) -> None:
        """Take the folder away, which is held by a lock, with the place for our own files, if it has nothing else."""
        with contextlib.suppress(OSError):
            if self._root is not None and os.listdir(self._root) == [OWN] and self.is_in_place():
                self.clear(OWN)
                self.path.rmdir()


def _of_a_group(about: os.stat_result) -> os.stat_result | None:
    """What is known of a folder that its group may write to and others may not; None of another."""
    return about if about.st_mode & stat.S_IWGRP and not about.st_mode & stat.S_IWOTH else None


def _share(descriptor: int, above: os.stat_result, most: int) -> None:
    """Give a folder or file the group of the folder it lies in, and of its rights the `most`; as far as they are ours
    to give."""
    own = os.fstat(descriptor)
    mode = stat.S_IMODE(above.st_mode) & most
    with contextlib.suppress(PermissionError):
        if own.st_gid != above.st_gid:
            os.fchown(descriptor, -1, above.st_gid)
        if stat.S_IMODE(own.st_mode) & 0o2777 != mode:
            os.fchmod(descriptor, mode)


def lock_file(file: BinaryIO) -> None:
    """An advisory lock that the system gives back when the process ends, however it ends. Raises OSError."""
    if sys.platform == "win32":  # pragma: no cover
        import msvcrt

        file.seek(1024)
        msvcrt.locking(file.fileno(), msvcrt.LK_NBLCK, 1)
    else:
        import fcntl

        fcntl.flock(file, fcntl.LOCK_EX | fcntl.LOCK_NB)


def _c_function(name: str) -> Callable[..., int] | None:
    """A function of the C library that Python does not offer; None where there is none."""
    if sys.platform != "linux":
        return None
    try:
        function: Callable[..., int] = getattr(ctypes.CDLL(None, use_errno=True), name)
    except (OSError, AttributeError):
        return None
    return function


_syncfs = _c_function("syncfs")
_renameat2 = _c_function("renameat2")
_AT_FDCWD, _RENAME_NOREPLACE = -100, 1


def rename_new(old: str, new: str, old_above: int | None = None, above: int | None = None) -> None:
    """Rename a file to a name that nothing bears yet, in one step. Raises FileExistsError where something does."""
    if _renameat2 is not None:
        places = (_AT_FDCWD if place is None else place for place in (old_above, above))
        first, second = places
        if _renameat2(first, os.fsencode(old), second, os.fsencode(new), _RENAME_NOREPLACE) == 0:
            return
        number = ctypes.get_errno()
        if number not in (errno.EINVAL, errno.ENOSYS):  # a disk or a kernel that can't
            raise OSError(number, os.strerror(number), new)
    try:
        os.link(old, new, src_dir_fd=old_above, dst_dir_fd=above, follow_symlinks=False)
        os.unlink(old, dir_fd=old_above)
    except FileExistsError:
        raise
    except OSError as error:
        if error.errno in FULL:
            raise
        try:  # no hard links either (FAT, some network shares)
            os.stat(new, dir_fd=above, follow_symlinks=False)
        except FileNotFoundError:
            os.rename(old, new, src_dir_fd=old_above, dst_dir_fd=above)
        else:
            raise FileExistsError(errno.EEXIST, os.strerror(errno.EEXIST), new) from error


def sync_files(folder: OutputFolder, files: list[str]) -> None:
    """Bring what was written to a folder's disk: by one call, or else file by file. Raises OSError."""
    folder.sync()
    if _syncfs is None:  # pragma: no cover
        for path in files:
            with open(path, "rb+") as file:
                os.fsync(file.fileno())
