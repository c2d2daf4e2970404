"""Messages that are files of their own: folders of EML, and Maildir."""

from __future__ import annotations

import hashlib
from collections.abc import Iterator

from wexagraph.errors import MessageError
from wexagraph.messages.headers import Header, header_end
from wexagraph.sources.base import WHOLE, Envelope, Partition
from wexagraph.sources.trees import File, Tree
from wexagraph.zips import UNREADABLE

CHANGED = "the mailbox was changed while it was read. Run the same command again"
_HEAD = 8 * 1024
_MOST_HEAD = 16 * 1024 * 1024
_MAILDIR_FLAGS = {
    "S": "seen",
    "R": "answered",
    "F": "flagged",
    "T": "deleted",
    "D": "draft",
    "P": "$forwarded",
}


class Files:
    """A folder whose messages are files in a tree. Subclasses say what a file's name tells."""

    def __init__(self, tree: Tree, folder: str, files: list[File]) -> None:
        self.tree, self.folder, self._files = tree, folder, files

    def close(self) -> None:
        """Nothing is held open between two messages."""

    def size(self) -> int:
        """Bytes of all its files."""
        return sum(file.size for file in self._files)

    def stamp(self) -> str:
        """Changes with any name, size or time of its files."""
        digest = hashlib.blake2b(digest_size=16)
        for file in self._files:
            digest.update(f"{file.path}\0{file.stamp}\0".encode("utf-8", "surrogateescape"))
        return digest.hexdigest()

    def was_rewritten(self) -> bool:
        """Each message is looked at when it is read."""
        return False

    def outline(self, share: Partition = WHOLE) -> Iterator[Envelope]:
        """Envelopes without headers: no file is opened."""
        return map(self._envelope, self._share(share))

    def _share(self, share: Partition) -> list[File]:
        start, stop = (len(self._files) * number // share[1] for number in (share[0], share[0] + 1))
        return self._files[start:stop]

    def envelopes(self, share: Partition = WHOLE) -> Iterator[Envelope]:
        """Envelopes in the order of the file names."""
        for file in self._share(share):
            envelope = self._envelope(file)
            try:
                envelope.header = Header(_read_head(self.tree, file.path))
            except MessageError as error:
                envelope.trouble = str(error)
            yield envelope

    def _envelope(self, file: File) -> Envelope:
        return Envelope(
            folder=self.folder,
            place=self._place(file),
            size=file.size,
            header=Header(b""),
            stamp=file.stamp,
            flags=self._flags(file),
            arrived=file.modified,
        )

    def _place(self, file: File) -> str:
        return file.path

    def _flags(self, file: File) -> frozenset[str]:
        return frozenset()

    def _path(self, envelope: Envelope) -> str:
        return envelope.place

    def read(self, envelope: Envelope) -> bytes:
        """The file's bytes. Raises MessageError."""
        path = self._path(envelope)
        with self.tree.open(path) as file:
            try:
                data = file.read()
            except UNREADABLE as error:
                raise MessageError(f"{path}: {error}") from error
            now = self.tree.stamp(file)
        if now and envelope.stamp and now != envelope.stamp:
            raise MessageError(f"{path}: {CHANGED}")
        return data


class Maildir(Files):
    """One Maildir folder: `cur` and `new`. A message's place is its unique name, the same when flags change."""

    def __init__(self, tree: Tree, folder: str, files: list[File]) -> None:
        super().__init__(tree, folder, files)
        self._paths: dict[str, str] = {}
        for file in files:
            self._paths.setdefault(_unique_name(file), file.path)

    def _place(self, file: File) -> str:
        name = _unique_name(file)
        return name if self._paths[name] == file.path else file.path  # a name that is not unique after all

    def _flags(self, file: File) -> frozenset[str]:
        letters = file.path.rpartition(":2,")[2] if ":2," in file.path.rpartition("/")[2] else ""
        return frozenset(_MAILDIR_FLAGS[letter] for letter in letters if letter in _MAILDIR_FLAGS)

    def _path(self, envelope: Envelope) -> str:
        return self._paths.get(envelope.place, envelope.place)


def _unique_name(file: File) -> str:
    return file.path.rpartition("/")[2].partition(":2,")[0]


def _read_head(tree: Tree, path: str) -> bytes:
    """The header block of a message file, up to its empty line. Raises MessageError."""
    with tree.open(path) as file:
        try:
            data, size = file.read(_HEAD), _HEAD
            while (end := header_end(data)) >= len(data) and len(data) == size and size < _MOST_HEAD:
                data += file.read(size * 3)
                size *= 4
        except UNREADABLE as error:
            raise MessageError(f"{path}: {error}") from error
    return data[:end]
