"""A mailbox format that only the tests know: a line a message, subject and text parted by a tab."""

from __future__ import annotations

from collections.abc import Callable, Iterator
from pathlib import Path

from wexagraph.errors import MessageError
from wexagraph.messages.headers import Header
from wexagraph.sources.base import WHOLE, Envelope, Partition
from wexagraph.sources.kinds import Kind, Store
from wexagraph.sources.trees import File, Tree

_FIRST = b"lines of mail\n"


class Lines:
    folder = ""

    def __init__(self, path: Path) -> None:
        self._path = path

    def close(self) -> None:
        pass

    def size(self) -> int:
        return self._path.stat().st_size

    def stamp(self) -> str:
        return str(self._path.stat().st_mtime_ns)

    def was_rewritten(self) -> bool:
        return False

    def damage(self) -> list[str]:
        return []

    def bare(self, envelope: Envelope) -> bool:
        return False

    def original(self, envelope: Envelope) -> None:
        return None

    def outline(self, share: Partition = WHOLE) -> Iterator[Envelope]:
        return self.envelopes(share)

    def envelopes(self, share: Partition = WHOLE) -> Iterator[Envelope]:
        for number, data in enumerate(self._messages()):
            if number % share[1] == share[0]:
                yield Envelope(self.folder, f"{number:06d}", len(data), Header(data.partition(b"\n\n")[0] + b"\n"))

    def _messages(self) -> list[bytes]:
        lines = self._path.read_bytes().splitlines()[1:]
        return [b"Subject: %s\n\n%s\n" % tuple(line.split(b"\t", 1)) for line in lines]

    def read(self, envelope: Envelope) -> bytes:
        try:
            return self._messages()[int(envelope.place)]
        except IndexError as error:
            raise MessageError("it is gone") from error


def _claims(path: str, head: Callable[[], bytes]) -> bool:
    return path.endswith(".lines") and head().startswith(_FIRST)


def _stores(tree: Tree, files: list[File], own: str) -> Iterator[tuple[str, Store]]:
    for file in files:
        yield file.path.removesuffix(".lines"), Lines(tree.on_disk(file.path))


LINES = Kind("lines", "a file of lines", _claims, _stores)
