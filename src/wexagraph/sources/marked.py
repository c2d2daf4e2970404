"""Files whose messages stand between marks: MMDF, and Babyl, the form of old Emacs mail."""

from __future__ import annotations

import os
import re
from collections.abc import Iterator
from pathlib import Path
from typing import BinaryIO

from wexagraph.errors import MessageError
from wexagraph.messages.headers import Header, header_end
from wexagraph.sources.base import WHOLE, Envelope, Original, Partition
from wexagraph.sources.kinds import CHANGED, Head, Kind, Store
from wexagraph.sources.trees import File, OneFile, Tree

_BLOCK, _HEAD = 4 * 1024 * 1024, 64 * 1024
_MMDF, _BABYL = b"\1\1\1\1\n", b"\x1f\x0c\n"
_END_OF_HEADER = b"*** EOOH ***"
_BABYL_START = re.compile(rb"(?i)BABYL OPTIONS:")
_FIELD = re.compile(rb"[!-9;-~]+[ \t]*:")
_FLAGS = {"answered": "answered", "deleted": "deleted", "forwarded": "$forwarded"}


class Marked:
    """The messages of a file between marks. Never more than a block of it is held."""

    mark = _MMDF

    def __init__(self, path: Path) -> None:
        self.path, self.folder = path, ""
        self._about: os.stat_result | None = None

    def close(self) -> None:
        """Nothing is held open."""

    def size(self) -> int:
        """Bytes of the file."""
        return self.path.stat().st_size

    def stamp(self) -> str:
        """Changes with the file."""
        about = self.path.stat()
        return f"{about.st_size}-{about.st_mtime_ns}-{about.st_ino}"

    def was_rewritten(self) -> bool:
        """Whether the file was changed since it was opened."""
        about = self.path.stat()
        before = self._about
        return before is not None and (about.st_size, about.st_mtime_ns) != (before.st_size, before.st_mtime_ns)

    def damage(self) -> list[str]:
        """Nothing but what reading a message tells."""
        return []

    def bare(self, envelope: Envelope) -> bool:
        """Nothing is known of a message that was not read."""
        return False

    def original(self, envelope: Envelope) -> Original | None:
        """It lies in no file of its own."""
        return None

    def outline(self, share: Partition = WHOLE) -> Iterator[Envelope]:
        """As `envelopes`."""
        return self.envelopes(share)

    def envelopes(self, share: Partition = WHOLE) -> Iterator[Envelope]:
        """Envelopes in the order of the file. Raises OSError."""
        with self.path.open("rb") as file:
            self._about = self._about or os.fstat(file.fileno())
            spans = list(self._spans(file))
            first, last = (len(spans) * number // share[1] for number in (share[0], share[0] + 1))
            for start, end in spans[first:last]:
                file.seek(start)
                data, flags = self._message(file.read(min(end - start, _HEAD)))
                header = Header(data[: header_end(data)])
                yield Envelope(self.folder, f"{start:015d}-{end - start}", end - start, header, flags=flags)

    def _spans(self, file: BinaryIO) -> Iterator[tuple[int, int]]:
        """Where messages begin and end, marks left out."""
        before, base, buffer = 0, 0, b""
        while block := file.read(_BLOCK):
            buffer += block
            at = buffer.find(self.mark)
            while at >= 0:
                if (at or base) and self._is_mark(buffer, at, base):
                    if base + at > before:
                        yield from self._span(before, base + at)
                    before = base + at + len(self.mark)
                elif not at and not base:
                    before = len(self.mark)
                at = buffer.find(self.mark, at + len(self.mark))
            keep = min(len(buffer), len(self.mark) + 1)
            base, buffer = base + len(buffer) - keep, buffer[len(buffer) - keep :]
        if base + len(buffer) > before:
            yield from self._span(before, base + len(buffer))

    def _is_mark(self, buffer: bytes, at: int, base: int) -> bool:
        return not at or buffer[at - 1] in b"\n\x1f"

    def _span(self, start: int, end: int) -> Iterator[tuple[int, int]]:
        if end - start > 1:  # what stands between the mark behind a message and that before the next
            yield start, end

    def _message(self, data: bytes) -> tuple[bytes, frozenset[str]]:
        """The message in what stands between two marks, and its flags; of its beginning, as much as is there."""
        if data.startswith(b"From "):
            data = data[data.find(b"\n") + 1 :]
        return data, frozenset()

    def read(self, envelope: Envelope) -> bytes:
        """The message's bytes. Raises MessageError."""
        start, _, length = envelope.place.partition("-")
        try:
            with self.path.open("rb") as file:
                file.seek(int(start))
                data = file.read(int(length))
        except (OSError, ValueError) as error:
            raise MessageError(f"{self.path}: {error}") from error
        if len(data) < int(length) or self.was_rewritten():
            raise MessageError(f"{self.path}: {CHANGED}")
        return self._message(data)[0]


class Babyl(Marked):
    """A Babyl file: before each message a line of labels, then its own header, and the one that was shown."""

    mark = _BABYL

    def _span(self, start: int, end: int) -> Iterator[tuple[int, int]]:
        if start:  # the options of the file stand before the first mark
            yield start, end

    def _message(self, data: bytes) -> tuple[bytes, frozenset[str]]:
        labels, _, rest = data.partition(b"\n")
        words = {word.strip() for word in labels.decode("utf-8", "replace").lower().split(",")} - {"", "0", "1"}
        flags = {_FLAGS.get(word, word) for word in words - {"unseen", "recent"}}
        flags |= set() if "unseen" in words else {"seen"}
        rest = rest.rstrip(b"\x1f")
        own, mark, shown = rest.partition(_END_OF_HEADER)
        if not mark:
            return rest, frozenset(flags)
        shown = shown.partition(b"\n")[2]
        if not own.strip():
            return shown, frozenset(flags)
        body = shown[header_end(shown) :] if _FIELD.match(shown) else shown
        return own.rstrip(b"\n") + b"\n\n" + body, frozenset(flags)


def _kind(label: str, looks_like: str, starts: re.Pattern[bytes], store: type[Marked]) -> Kind:
    def claims(path: str, head: Head) -> bool:
        return starts.match(head()) is not None

    def stores(tree: Tree, files: list[File], own: str) -> Iterator[tuple[str, Store]]:
        for file in files:
            try:
                yield own if isinstance(tree, OneFile) else file.path, store(tree.on_disk(file.path))
            except MessageError as error:
                tree.troubles.append((file.path, str(error).removeprefix(f"{file.path}: ")))

    return Kind(label, looks_like, claims, stores)


MMDF = _kind("MMDF", "an MMDF file", re.compile(re.escape(_MMDF)), Marked)
BABYL = _kind("Babyl", "a Babyl file", _BABYL_START, Babyl)
