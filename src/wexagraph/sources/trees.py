"""Where mailbox files lie: in a folder on a disk, or in a ZIP. Both look the same to the mailboxes in them."""

from __future__ import annotations

import os
import shutil
import stat
import zipfile
from abc import ABC, abstractmethod
from collections.abc import Iterable, Iterator
from datetime import UTC, datetime
from pathlib import Path
from typing import BinaryIO, NamedTuple

from wexagraph.errors import MessageError, SourceError
from wexagraph.files import open_regular, visible
from wexagraph.naming.paths import free_name
from wexagraph.temporary import TemporaryFolder
from wexagraph.zips import UNREADABLE, out_of_proportion

_MOST_ENTRIES = 2_000_000


class File(NamedTuple):
    """A file in a tree: path with `/`, size in bytes, and a stamp that changes with its content."""

    path: str
    size: int
    stamp: str
    modified: datetime | None


class Tree(ABC):
    """Files by their paths. With `salvage`, kinds look in them for messages that no folder lists; `remarks` are what
    they have to say of a file that is no trouble."""

    salvage = False

    def __init__(self) -> None:
        self.troubles: list[tuple[str, str]] = []
        self.remarks: list[str] = []

    @abstractmethod
    def files(self) -> Iterator[File]:
        """All files, sorted by path, folders before what is in them."""

    @abstractmethod
    def open(self, path: str) -> BinaryIO:
        """Open one for reading. Raises MessageError where that fails."""

    @abstractmethod
    def on_disk(self, path: str) -> Path:
        """A path on the disk under which the file can be read at any offset."""

    def stamp(self, file: BinaryIO) -> str:
        """The stamp of a file that is open, or nothing where it can't change."""
        return ""

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
    """A folder on a disk. Symbolic links are followed to files where that was asked for (`links`), never to folders.

    A path whose bytes are no UTF-8 is known by a text in which they can be seen.
    """

    def __init__(self, root: Path, links: bool = False) -> None:
        super().__init__()
        self.root, self.links = root, links
        self._raw: dict[str, str] = {}

    def files(self) -> Iterator[File]:
        yield from self._walk("", "")

    def _walk(self, below: str, shown: str) -> Iterator[File]:
        try:
            with os.scandir(self.root / below) as scan:
                entries = sorted(scan, key=lambda entry: entry.name)
        except OSError as error:
            self.troubles.append((shown, _reason(error)))
            return
        for entry in entries:
            path = f"{below}/{entry.name}" if below else entry.name
            name = visible(entry.name)
            shown_path = f"{shown}/{name}" if shown else name
            try:
                if entry.is_dir(follow_symlinks=False):
                    yield from self._walk(path, shown_path)
                    continue
                about = entry.stat(follow_symlinks=self.links)
                if stat.S_ISLNK(about.st_mode) or (entry.is_symlink() and stat.S_ISDIR(about.st_mode)):
                    self.troubles.append((shown_path, self._unfollowed(entry)))
                    continue
            except OSError as error:
                self.troubles.append((shown_path, _reason(error)))
                continue
            if stat.S_ISREG(about.st_mode):
                if shown_path != path:
                    shown_path = self._apart(shown_path)
                    self._raw[shown_path] = path
                yield File(shown_path, about.st_size, _stamp(about), datetime.fromtimestamp(about.st_mtime, UTC))

    def _unfollowed(self, entry: os.DirEntry[str]) -> str:
        if entry.is_dir():
            return "a symbolic link to a folder, which is not followed. Give that folder as a source itself"
        return "a symbolic link, which is not followed. --follow-links reads what links to files lead to"

    def _apart(self, shown: str) -> str:
        """A text for a path that no other has."""
        return free_name(shown, "", lambda path: path in self._raw or os.path.lexists(self.root / path))

    def open(self, path: str) -> BinaryIO:
        try:
            return open_regular(self.on_disk(path), follow=self.links)
        except OSError as error:
            raise MessageError(f"{path}: {_reason(error)}") from error

    def on_disk(self, path: str) -> Path:
        return self.root / self._raw.get(path, path)

    def stamp(self, file: BinaryIO) -> str:
        return _stamp(os.fstat(file.fileno()))


def _stamp(about: os.stat_result) -> str:
    return f"{about.st_size}-{about.st_mtime_ns}"


class NamedFiles(DiskTree):
    """Some files of a folder on a disk, by their paths in it; nothing else there is looked at."""

    def __init__(self, root: Path, paths: Iterable[str]) -> None:
        super().__init__(root)
        self._paths = sorted(paths)

    def files(self) -> Iterator[File]:
        for path in self._paths:
            try:
                about = (self.root / path).lstat()
            except OSError as error:
                self.troubles.append((visible(path), _reason(error)))
                continue
            yield File(path, about.st_size, _stamp(about), datetime.fromtimestamp(about.st_mtime, UTC))


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
        self._spool: TemporaryFolder | None = None
        self._spooled: dict[str, Path] = {}
        self._twins: dict[str, zipfile.ZipInfo] = {}

    def files(self) -> Iterator[File]:
        before = ""
        for info in sorted(self._zip.infolist(), key=lambda info: info.filename):
            if info.is_dir():
                continue
            name = info.filename.encode("utf-8", "replace").decode("utf-8")
            if info.filename == before:
                name = self._apart(name)
                self._twins[name] = info
            elif name != info.filename or self._zip.getinfo(info.filename) is not info:
                self._twins[name] = info  # the last of several members of one name is the one that a name opens
            before = info.filename
            if info.flag_bits & 1:
                self.troubles.append((name, "it is locked with a password"))
                continue
            if out_of_proportion(info.file_size, info.compress_size):
                self.troubles.append((name, f"{info.compress_size} bytes would unpack to {info.file_size}: refused"))
                continue
            try:
                moment = datetime(*info.date_time, tzinfo=UTC)
            except ValueError:
                moment = None
            yield File(name, info.file_size, f"{info.file_size}-{info.CRC:08x}", moment)

    def _apart(self, name: str) -> str:
        """A name for a member that bears that of another."""
        stem, dot, suffix = name.rpartition(".")
        stem, suffix = (stem, dot + suffix) if dot else (name, "")
        taken = self._zip.NameToInfo
        return free_name(stem, suffix, lambda path: path == name or path in self._twins or path in taken)

    def open(self, path: str) -> BinaryIO:
        try:
            return self._zip.open(self._twins.get(path, path))  # type: ignore[return-value]
        except UNREADABLE as error:
            raise MessageError(f"{path}: {_reason(error)}") from error

    def on_disk(self, path: str) -> Path:
        if path not in self._spooled:
            if self._spool is None:
                self._spool = TemporaryFolder()
            target = self._spool.path / f"{len(self._spooled):06d}"
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
            self._spool.close()


class OneFile(DiskTree):
    """A tree of a single file, which a person has named: it may be a link."""

    def __init__(self, path: Path) -> None:
        super().__init__(path.parent, links=True)
        self._path = path

    def files(self) -> Iterator[File]:
        about = self._path.stat()
        name = visible(self._path.name)
        self._raw[name] = self._path.name
        yield File(name, about.st_size, _stamp(about), datetime.fromtimestamp(about.st_mtime, UTC))


def _reason(error: Exception) -> str:
    return (error.strerror or str(error)) if isinstance(error, OSError) else str(error) or type(error).__name__
