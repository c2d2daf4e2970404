"""Files that are whole but not yet under their names. Staged by the export itself or by its workers."""

from __future__ import annotations

import contextlib
import hashlib
import os
from dataclasses import dataclass
from functools import cache
from pathlib import Path

from wexagraph.files import NO_LINK

_IN_HAND = "in-hand"
_FLAGS = os.O_WRONLY | os.O_CREAT | os.O_EXCL | NO_LINK


@dataclass(slots=True)
class Staged:
    """A file that waits: where, the name it is for, size, SHA-256, time (nanoseconds), and whether a
    file of ours gives way to it."""

    waiting: str
    path: str
    size: int
    sha256: str
    replaces: bool
    modified: int = 0


class Stager:
    """Writes waiting files; each process into a folder of its own, where no other stands in its way."""

    def __init__(self, work: str) -> None:
        self._folder = f"{work}/{os.getpid():x}"
        self._count = 0

    def say(self, text: str) -> None:
        """Leave word of what this process is at, for `in_hand`. Raises OSError."""
        os.makedirs(self._folder, exist_ok=True)
        with open(f"{self._folder}/{_IN_HAND}", "w", encoding="utf-8", errors="replace") as file:
            file.write(text)

    def free(self) -> str:
        """A path that nothing bears. Raises OSError."""
        if self._count == 0:
            os.makedirs(self._folder, exist_ok=True)
        self._count += 1
        return f"{self._folder}/{self._count:x}"

    def stage(self, path: str, content: bytes, replaces: bool, sha256: str | None = None) -> Staged:
        """Write `content`, to be put at `path` later; `sha256` is its digest where that is known. Raises OSError."""
        waiting = self.free()
        file = os.open(waiting, _FLAGS, 0o666)
        try:
            done = os.write(file, content)
            while done < len(content):
                done += os.write(file, content[done:])
            modified = os.fstat(file).st_mtime_ns
        finally:
            os.close(file)
        return Staged(waiting, path, len(content), sha256 or hashlib.sha256(content).hexdigest(), replaces, modified)


@cache
def stager_at(work: str) -> Stager:
    """The stager of this process below `work`."""
    return Stager(work)


def in_hand(work: str) -> tuple[str, ...]:
    """What the processes that stage files below `work` are at, as far as they say it."""
    texts = []
    for path in sorted(Path(work).glob(f"*/{_IN_HAND}")):
        with contextlib.suppress(OSError):
            texts.append(path.read_text("utf-8", "replace"))
    return tuple(filter(None, texts))
