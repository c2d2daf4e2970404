"""Where mailbox files lie: in a folder on a disk, or in a ZIP. Both look the same to the mailboxes in them."""

from __future__ import annotations

import os
import shutil
import stat
import tempfile
import zipfile
from abc import ABC, abstractmethod
from collections.abc import Iterator
from datetime import UTC, datetime
from pathlib import Path
from typing import BinaryIO, NamedTuple

from wexagraph.errors import MessageError, SourceError
from wexagraph.zips import UNREADABLE

_MOST_ENTRIES = 2_000_000
_BOMB_SIZE = 256 * 1024 * 1024
_BOMB_RATIO = 200


class File(NamedTuple):
    """A file in a tree: path with `/`, size in bytes, and a stamp that changes with its content."""

    path: str
    size: int
    stamp: str
    modified: datetime | None


class Tree(ABC):
    """Files by their paths."""

    def __init__(self) -> None:
        self.troubles: list[tuple[str, str]] = []

    @abstractmethod
    def files(self) -> Iterator[File]:
        """All files, sorted by path, folders before what is in them."""

    @abstractmethod
    def open(self, path: str) -> BinaryIO:
        """Open one for reading. Raises MessageError where that fails."""

    @abstractmethod
    def on_disk(self, path: str) -> Path:
        """A path on the disk under which the file can be read at any offset."""

    def head(self, path: str, size: int = 4096) -> bytes:
        """Its first bytes. Raises MessageError."""
        with self.open(path) as file:
            try:
                return file.read(size)
            except UNREADABLE as error:
                raise MessageError(f"{path}: {_reason(error)}") from error

    def close(self) -> None:  # noqa: B027  a folder on a disk holds nothing open
        """Give back what is held open."""


class DiskTree(Tree):
    """A folder on a disk. Symbolic links are followed to files, never to folders, so the walk ends."""

    def __init__(self, root: Path) -> None:
        super().__init__()
        self.root = root

    def files(self) -> Iterator[File]:
        yield from self._walk("")

    def _walk(self, below: str) -> Iterator[File]:
        try:
            with os.scandir(self.root / below) as scan:
                entries = sorted(scan, key=lambda entry: entry.name)
        except OSError as error:
            self.troubles.append((below, _reason(error)))
            return
        for entry in entries:
            path = f"{below}/{entry.name}" if below else entry.name
            try:
                if entry.is_dir(follow_symlinks=False):
                    yield from self._walk(path)
                    continue
                about = entry.stat()
            except OSError as error:
                self.troubles.append((path, _reason(error)))
                continue
            if stat.S_ISREG(about.st_mode):
                moment = datetime.fromtimestamp(about.st_mtime, UTC)
                yield File(path, about.st_size, f"{about.st_size}-{about.st_mtime_ns}", moment)

    def open(self, path: str) -> BinaryIO:
        try:
            return open(self.root / path, "rb")
        except OSError as error:
            raise MessageError(f"{path}: {_reason(error)}") from error

    def on_disk(self, path: str) -> Path:
        return self.root / path


class ZipTree(Tree):
    """A ZIP file (APPNOTE 6.3). Members that would unpack out of all proportion are refused, not read."""

    def __init__(self, path: Path) -> None:
        super().__init__()
        try:
            self._zip = zipfile.ZipFile(path)
        except UNREADABLE as error:
            raise SourceError(f"{path} can't be opened as a ZIP: {_reason(error)}. Is it complete?") from error
        if len(self._zip.infolist()) > _MOST_ENTRIES:
            raise SourceError(f"{path} lists {len(self._zip.infolist())} members; at most {_MOST_ENTRIES} are read.")
        self._spool: tempfile.TemporaryDirectory[str] | None = None
        self._spooled: dict[str, Path] = {}

    def files(self) -> Iterator[File]:
        for info in sorted(self._zip.infolist(), key=lambda info: info.filename):
            if info.is_dir():
                continue
            if info.flag_bits & 1:
                self.troubles.append((info.filename, "it is locked with a password"))
                continue
            if info.file_size > _BOMB_SIZE and info.file_size > _BOMB_RATIO * max(info.compress_size, 1):
                self.troubles.append(
                    (info.filename, f"{info.compress_size} bytes would unpack to {info.file_size}: refused")
                )
                continue
            try:
                moment = datetime(*info.date_time, tzinfo=UTC)
            except ValueError:
                moment = None
            yield File(info.filename, info.file_size, f"{info.file_size}-{info.CRC:08x}", moment)

    def open(self, path: str) -> BinaryIO:
        try:
            return self._zip.open(path)  # type: ignore[return-value]
        except UNREADABLE as error:
            raise MessageError(f"{path}: {_reason(error)}") from error

    def on_disk(self, path: str) -> Path:
        if path not in self._spooled:
            if self._spool is None:
                self._spool = tempfile.TemporaryDirectory(prefix="wexagraph-", ignore_cleanup_errors=True)
            target = Path(self._spool.name) / f"{len(self._spooled):06d}"
            try:
                with self.open(path) as packed, open(target, "wb") as file:
                    shutil.copyfileobj(packed, file, 1 << 20)
            except UNREADABLE as error:
                raise MessageError(f"{path}: {_reason(error)}") from error
            self._spooled[path] = target
        return self._spooled[path]

    def close(self) -> None:
        self._zip.close()
        if self._spool is not None:
            self._spool.cleanup()


class OneFile(DiskTree):
    """A tree of a single file."""

    def __init__(self, path: Path) -> None:
        super().__init__(path.parent)
        self._path = path

    def files(self) -> Iterator[File]:
        about = self._path.stat()
        moment = datetime.fromtimestamp(about.st_mtime, UTC)
        yield File(self._path.name, about.st_size, f"{about.st_size}-{about.st_mtime_ns}", moment)


def _reason(error: Exception) -> str:
    return (error.strerror or str(error)) if isinstance(error, OSError) else str(error) or type(error).__name__
