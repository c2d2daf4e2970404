"""Places that what was made is delivered to. A new kind meets `Place`."""

from __future__ import annotations

import secrets
from abc import ABC, abstractmethod
from collections.abc import Iterable
from pathlib import Path
from types import TracebackType

from wexagraph.errors import CallError
from wexagraph.files import visible
from wexagraph.output.folder import InTheWay, OutputFolder, sync_files

DEEPEST = 64
"""Levels of folders that are looked into: a server may name one in the other without end."""


class Place(ABC):
    """Where files of ours lie for others, by paths with `/`. `name` is for people and for the list of what was
    delivered; `lines` is how many threads may use it at once, `goes_on` says that a file that was begun can be gone on
    with. Use it as a context manager; all methods raise OSError."""

    name: str
    lines = 1
    goes_on = False

    @abstractmethod
    def sizes(self, path: str) -> dict[str, int]:
        """The file at a path, or all below the folder there, with their sizes in bytes."""

    @abstractmethod
    def digest(self, path: str) -> str | None:
        """The SHA-256 of what lies there, read back from the place; None where that is no file."""

    @abstractmethod
    def write(self, path: str, chunks: Iterable[bytes], size: int, start: int = 0) -> None:
        """Write a new file of that size, in bytes, under a name that nothing bears; or where the place `goes_on`, what
        is missing of one of which so many bytes are there."""

    @abstractmethod
    def settle(self) -> None:
        """See that what was written lasts."""

    @abstractmethod
    def put(self, part: str, path: str, replaces: bool) -> None:
        """Give a written file its name. Raises FileExistsError where something bears it, unless it `replaces` that."""

    @abstractmethod
    def remove(self, path: str) -> None:
        """Remove a file; nothing happens where there is none."""

    @abstractmethod
    def link(self, path: str) -> str:
        """The address of a file, for others."""

    def close(self) -> None:  # noqa: B027  a place that holds nothing open has nothing to close
        """Give back what is held open."""

    def __enter__(self) -> Place:
        return self

    def __exit__(
        self, kind: type[BaseException] | None, error: BaseException | None, trace: TracebackType | None
    ) -> None:
        self.close()


class FolderPlace(Place):
    """A folder: on a stick, or of a share of the office. It has to be there, for a share may not be mounted."""

    def __init__(self, path: Path) -> None:
        self.name = visible(str(path.resolve()))
        self._unsettled: list[str] = []
        try:
            self._folder = OutputFolder(path, make=False)
        except OSError as error:
            raise CallError(
                f"{path} can't be delivered to: {error.strerror or error}. A place has to be there: is the share "
                "mounted? Make the folder, or choose another."
            ) from error

    def sizes(self, path: str) -> dict[str, int]:
        stamp = self._folder.stamp(path)
        return {path: stamp[0]} if stamp is not None else dict(self._folder.sizes(path))

    def digest(self, path: str) -> str | None:
        return self._folder.digest(path)

    def write(self, path: str, chunks: Iterable[bytes], size: int, start: int = 0) -> None:
        with self._folder.create(path) as file:
            self._unsettled.append(str(self._folder.path / path))
            for chunk in chunks:
                file.write(chunk)

    def settle(self) -> None:
        sync_files(self._folder, self._unsettled)
        self._unsettled.clear()

    def put(self, part: str, path: str, replaces: bool) -> None:
        (self._folder.replace if replaces else self._folder.rename_new)(part, path)

    def remove(self, path: str) -> None:
        try:
            self._folder.unlink(path)
        except InTheWay:
            return  # a link where a folder was: what lies behind it is not ours

    def link(self, path: str) -> str:
        return (self._folder.path.resolve() / path).as_uri()

    def close(self) -> None:
        self._folder.close()


def part_of(path: str) -> str:
    """A name beside that of a file, which nothing bears, for as long as it is not whole."""
    folder, slash, _ = path.rpartition("/")
    return f"{folder}{slash}.wexagraph-{secrets.token_hex(8)}.part"
