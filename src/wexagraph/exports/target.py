"""The folder an export writes into: one writer at a time, nothing half-written, nothing outside it."""

from __future__ import annotations

import contextlib
import ctypes
import errno
import hashlib
import os
import shutil
import stat
import sys
from collections.abc import Callable, Iterable, Iterator
from pathlib import Path
from typing import BinaryIO

from wexagraph.errors import CallError, MessageError, TargetError
from wexagraph.exports.options import UNDER_WAY
from wexagraph.exports.rows import FileRow
from wexagraph.exports.staging import Staged, Stager

OWN = ".wexagraph"
READING = os.O_RDONLY | sum(getattr(os, name, 0) for name in ("O_NOFOLLOW", "O_NONBLOCK", "O_BINARY"))
"""How a file of ours is opened: a link in its place is not followed, a pipe not waited for."""
_FULL = {errno.ENOSPC, errno.EDQUOT, errno.EFBIG}


class Staging:
    """An open file that is not yet under its name."""

    def __init__(self, target: Target, waiting: str) -> None:
        self._target, self._waiting = target, waiting
        self.file = open(waiting, "w+b")  # noqa: SIM115  closed by finish

    @contextlib.contextmanager
    def failing(self) -> Iterator[None]:
        """Turns what goes wrong on the disk into a TargetError."""
        try:
            yield
        except OSError as error:
            raise self._target.failed(error) from error

    def finish(self, path: str, replaces: bool) -> Staged:
        """The file is whole, and is to be put at `path`. Raises TargetError."""
        with self.failing(), self.file as file:
            file.flush()
            size = file.seek(0, os.SEEK_END)
            file.seek(0)
            digest = hashlib.file_digest(file, "sha256").hexdigest()
        return Staged(self._waiting, path, size, digest, replaces)


class Target:
    """A folder, locked for this process. Paths are relative to it, with `/`.

    Files are staged, then put under their names together: the disk has them before any of them shows.
    """

    def __init__(self, folder: Path) -> None:
        self.folder = folder
        self.work = folder / OWN / "staged"
        self.stager = Stager(str(self.work))
        self._checked: set[str] = {""}
        self._lock: BinaryIO | None = None
        try:
            folder.mkdir(parents=True, exist_ok=True)
            (folder / OWN).mkdir(exist_ok=True)
        except FileExistsError as error:
            raise TargetError(f"{folder} is a file. --into needs a folder, or a name that is still free.") from error
        except OSError as error:
            raise self.failed(error) from error
        self._take_lock()
        try:
            shutil.rmtree(self.work, ignore_errors=True)  # what a run that was stopped had not put in place
            self.work.mkdir(exist_ok=True)
        except OSError as error:
            self.close()
            raise self.failed(error) from error

    def failed(self, error: OSError) -> TargetError:
        """The error for a person, of something that went wrong when writing."""
        reason = error.strerror or str(error)
        if error.errno in _FULL:
            return TargetError(
                f"no space is left for {self.folder}. What is there is whole; "
                "free some space and run the same command again."
            )
        return TargetError(f"{self.folder} can't be written to: {reason}. Check the disk and its permissions.")

    def _take_lock(self) -> None:
        try:
            self._lock = open(self.folder / OWN / "lock", "a+b")  # noqa: SIM115  held until close
        except OSError as error:
            raise self.failed(error) from error
        try:
            lock_file(self._lock)
        except OSError as error:
            self._lock.seek(0)
            holder = self._lock.read(40).decode("ascii", "replace").strip()
            self._lock.close()
            by = f" by process {holder}" if holder.isdigit() else ""
            raise TargetError(
                f"{self.folder} is in use{by}: another export is writing to it. Wait for it, or choose another folder."
            ) from error
        self._lock.truncate(0)
        self._lock.write(str(os.getpid()).encode("ascii"))
        self._lock.flush()

    def close(self) -> None:
        """Clear what was staged and give the folder free."""
        shutil.rmtree(self.work, ignore_errors=True)
        if self._lock is not None:
            with contextlib.suppress(OSError):
                self._lock.truncate(0)
            self._lock.close()
            self._lock = None

    def stage(self, path: str, content: bytes, replaces: bool = False) -> Staged:
        """Write `content`, to be put at `path` later. `replaces` says that a file there is ours and may go.

        Raises TargetError.
        """
        try:
            return self.stager.stage(path, content, replaces)
        except OSError as error:
            raise self.failed(error) from error

    def open_staging(self) -> Staging:
        """A file to be written piece by piece, for what is too large to be held. Raises TargetError."""
        try:
            return Staging(self, self.stager.free())
        except OSError as error:
            raise self.failed(error) from error

    def put(self, batch: Iterable[Staged]) -> list[tuple[Staged, str | None]]:
        """Bring staged files to the disk, then under their names. Returns each with None, or with why it was not put.

        A name that somebody else's file has meanwhile taken is left to it. Raises TargetError where the disk fails.
        """
        files = list(batch)
        results: list[tuple[Staged, str | None]] = []
        try:
            self._flush(files)
            for staged in files:
                results.append((staged, self._place(staged)))
        except OSError as error:
            raise self.failed(error) from error
        return results

    def settle(self) -> None:
        """Bring the names of all files put so far to the disk. Raises TargetError."""
        try:
            sync_files(self.folder, [])
        except OSError as error:
            raise self.failed(error) from error

    def _flush(self, files: list[Staged]) -> None:
        sync_files(self.work, [staged.waiting for staged in files])

    def _place(self, staged: Staged) -> str | None:
        try:
            self.make_folder(staged.path.rpartition("/")[0])
        except MessageError as error:
            return str(error)
        final = f"{self.folder}/{staged.path}"
        if staged.replaces:
            if os.path.isdir(final) and not os.path.islink(final):
                return f"{staged.path} is a folder now"
            os.replace(staged.waiting, final)
            return None
        try:
            rename_new(staged.waiting, final)
        except FileExistsError:
            return self._already(staged, final)
        return None

    def _already(self, staged: Staged, final: str) -> str | None:
        """A file that a stopped run put there just before the end is the same to the byte: it counts as written."""
        found = self.sha256(staged.path)
        os.unlink(staged.waiting)
        return None if found == staged.sha256 else f"{final} was taken by another file meanwhile; run the command again"

    def make_folder(self, path: str) -> None:
        """Make a folder below the target. Raises MessageError where a link or a file stands in its way."""
        if path in self._checked:
            return
        above, _, _ = path.rpartition("/")
        self.make_folder(above)
        place = self.folder / path
        try:
            mode = place.lstat().st_mode
        except FileNotFoundError:
            place.mkdir(exist_ok=True)
        else:
            if stat.S_ISLNK(mode):
                raise MessageError(
                    f"{place} is a symbolic link, which is not followed. Remove it, or choose another folder"
                )
            if not stat.S_ISDIR(mode):
                raise MessageError(f"{place} is a file where a folder is needed. Move it, or choose another folder")
        self._checked.add(path)

    def taken(self, path: str) -> bool:
        """Whether anything bears this name; a broken symbolic link does."""
        return os.path.lexists(f"{self.folder}/{path}")

    def free_path(self, name: str) -> str:
        """A name that nothing bears yet: `name`, else with a number behind its stem."""
        stem, dot, suffix = name.rpartition(".")
        candidate, turn = name, 1
        while self.taken(candidate):
            turn += 1
            candidate = f"{stem} ({turn}){dot}{suffix}"
        return candidate

    def set_aside(self, path: str) -> None:
        """Keep a file that somebody has changed, under another name. Raises TargetError."""
        stem, dot, suffix = path.rpartition(".")
        try:
            (self.folder / path).rename(self.folder / self.free_path(f"{stem} (changed by hand){dot}{suffix}"))
        except OSError as error:
            raise self.failed(error) from error

    def stamp(self, path: str) -> tuple[int, int] | None:
        """Size and time of a regular file; None where there is none."""
        try:
            about = os.lstat(f"{self.folder}/{path}")
        except OSError:
            return None
        return (about.st_size, about.st_mtime_ns) if stat.S_ISREG(about.st_mode) else None

    def is_ours(self, file: FileRow) -> bool:
        """Whether a file of the journal may be replaced: of one that was only announced, if it was put too."""
        return file.recipe != UNDER_WAY or self.sha256(file.path) in (None, file.sha256)

    def sha256(self, path: str) -> str | None:
        """The digest of a file below the target; None where it can't be read. Links are not followed."""
        try:
            descriptor = os.open(f"{self.folder}/{path}", READING)
            with open(descriptor, "rb") as file:
                return hashlib.file_digest(file, "sha256").hexdigest()
        except OSError:
            return None


def keep_apart(source: str | Path, into: str | Path, around: bool = False) -> None:
    """Raise CallError where results would go into a source that is a folder, or (but for `around`) around it."""
    if not os.path.isdir(source):
        return
    read, written = Path(source).resolve(), Path(into).resolve()
    if written.is_relative_to(read) or (read.is_relative_to(written) and not around):
        raise CallError(
            f"{into} and {source} lie one in the other: what is written would get among what is read. "
            "Choose a folder beside it for --into."
        )


def lock_file(file: BinaryIO) -> None:
    """An advisory lock that the system gives back when the process ends, however it ends."""
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
        found: Callable[..., int] = getattr(ctypes.CDLL(None, use_errno=True), name)
    except (OSError, AttributeError):
        return None
    return found


_syncfs = _c_function("syncfs")
_renameat2 = _c_function("renameat2")
_AT_FDCWD, _RENAME_NOREPLACE = -100, 1


def rename_new(old: str, new: str) -> None:
    """Rename a file to a name that nothing bears yet, in one step. Raises FileExistsError where something does."""
    if _renameat2 is not None:
        names = (os.fsencode(old), os.fsencode(new))
        if _renameat2(_AT_FDCWD, names[0], _AT_FDCWD, names[1], _RENAME_NOREPLACE) == 0:
            return
        number = ctypes.get_errno()
        if number not in (errno.EINVAL, errno.ENOSYS):  # a disk or a kernel that can't
            raise OSError(number, os.strerror(number), new)
    try:
        os.link(old, new)
        os.unlink(old)
    except FileExistsError:
        raise
    except OSError as error:
        if error.errno in _FULL:
            raise
        if os.path.lexists(new):  # no hard links either (FAT, some network shares)
            raise FileExistsError(errno.EEXIST, os.strerror(errno.EEXIST), new) from error
        os.rename(old, new)


def sync_files(folder: Path, files: list[str]) -> None:
    """Bring what was written to a folder's file system to the disk: by one call, or else file by file."""
    if _syncfs is not None:
        descriptor = os.open(folder, os.O_RDONLY)
        try:
            if _syncfs(descriptor) != 0:
                number = ctypes.get_errno()
                raise OSError(number, os.strerror(number))
        finally:
            os.close(descriptor)
        return
    for path in files:
        with open(path, "rb+") as file:
            os.fsync(file.fileno())
