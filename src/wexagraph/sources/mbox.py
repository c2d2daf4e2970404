"""mbox files (RFC 4155, with the mboxrd quoting of From lines)."""

from __future__ import annotations

import os
import re
from collections.abc import Iterator
from datetime import datetime
from hashlib import blake2b
from pathlib import Path

from wexagraph.errors import MessageError
from wexagraph.messages.dates import parse_ctime
from wexagraph.messages.headers import Header, header_end
from wexagraph.sources.base import Envelope

_BLOCK = 4 * 1024 * 1024
_TAIL = 1024  # more than a separator line, so that one across two blocks is seen whole
_HEAD = 6 * 1024
_MOST_HEAD = 16 * 1024 * 1024
_SEPARATOR = re.compile(
    rb"From [^\n]{0,500}?\b(?:[A-Z][a-z]{2},? +[A-Z][a-z]{2} +\d{1,2}|\d{1,2} +[A-Z][a-z]{2}|[A-Z][a-z]{2} +\d{1,2})\b"
    rb"[^\n]{0,80}\d{1,2}:\d{2}|From -[ \r]*\n"
)
_QUOTED = re.compile(rb"^>(>*From )", re.MULTILINE)
_STATUS = {"R": "seen", "A": "answered", "F": "flagged", "D": "deleted", "T": "draft"}


def is_mbox(head: bytes) -> bool:
    """Whether a file with these first bytes is an mbox: it begins with a From line."""
    return head.startswith(b"From ") and b"\n" in head


class Mbox:
    """The messages of an mbox file. Offsets are found in blocks; no more than a block is ever held."""

    def __init__(self, path: Path, folder: str) -> None:
        self.path, self.folder = path, folder
        self._file: int | None = None

    def _descriptor(self) -> int:
        if self._file is None:
            self._file = os.open(self.path, os.O_RDONLY | getattr(os, "O_BINARY", 0))
        return self._file

    def close(self) -> None:
        if self._file is not None:
            os.close(self._file)
            self._file = None

    def envelopes(self) -> Iterator[Envelope]:
        """Envelopes in the order of the file. Raises OSError."""
        file = self._descriptor()
        starts = self._separators(file)
        at = next(starts, None)
        while at is not None:
            following = next(starts, None)
            end = following if following is not None else os.fstat(file).st_size
            yield self._envelope(file, at, end, last=following is None)
            at = following

    def _separators(self, file: int) -> Iterator[int]:
        """Offsets of From lines: at the start, or behind an empty line and with a date in them.

        A mailbox whose own first line bears no date is read by the looser rule, an empty line and "From ".
        """
        head = _read_at(file, _TAIL, 0)
        strict = _SEPARATOR.match(head) is not None
        if head.startswith(b"From "):
            yield 0
        base, buffer = 0, b""
        while True:
            block = _read_at(file, _BLOCK, base + len(buffer))
            buffer += block
            limit = len(buffer) - (_TAIL if block else 0)
            at = buffer.find(b"\nFrom ")
            while 0 <= at < limit:
                if buffer[at - 1 : at] == b"\n" or buffer[at - 2 : at] == b"\n\r":
                    line = buffer[at + 1 : at + 1 + _TAIL]
                    if not strict or _SEPARATOR.match(line):
                        yield base + at + 1
                at = buffer.find(b"\nFrom ", at + 1)
            if not block:
                return
            keep = max(0, limit - 2)
            base, buffer = base + keep, buffer[keep:]

    def _envelope(self, file: int, at: int, end: int, last: bool) -> Envelope:
        head = _read_at(file, min(_HEAD, end - at), at)
        line_end = head.find(b"\n") + 1 or len(head)
        stop = header_end(head, line_end)
        while stop >= len(head) and at + len(head) < end and len(head) < _MOST_HEAD:
            head = _read_at(file, min(len(head) * 8, end - at), at)
            line_end = head.find(b"\n") + 1 or len(head)
            stop = header_end(head, line_end)
        block = head[line_end:stop]
        tail = _read_at(file, 4, max(at + line_end, end - 4))[-4:]
        end -= _separating(tail, last)
        header = Header(block)
        stamp = blake2b(block, digest_size=8).hexdigest() + f"-{end - at}"
        return Envelope(
            folder=self.folder,
            place=f"{at:015d}-{max(end, at + line_end) - at}",
            size=max(end - at - line_end, 0),
            header=header,
            stamp=stamp,
            flags=_flags(header),
            arrival=_arrival(head[:line_end]),
        )

    def read(self, envelope: Envelope) -> bytes:
        """The message behind its From line, quoted From lines restored. Raises MessageError."""
        at, _, length = envelope.place.partition("-")
        try:
            data = _read_at(self._descriptor(), int(length), int(at))
        except OSError as error:
            raise MessageError(f"{self.path}: {error.strerror or error}") from error
        if len(data) != int(length) or not data.startswith(b"From "):
            raise MessageError(f"{self.path}: the mailbox was changed while it was read. Run the same command again.")
        data = data[data.find(b"\n") + 1 or len(data) :]
        return _QUOTED.sub(rb"\1", data) if b"\n>" in data or data.startswith(b">") else data


def _separating(tail: bytes, last: bool) -> int:
    """How many bytes of line end stand between a message and the next From line."""
    if tail.endswith(b"\r\n\r\n"):
        return 2
    return 1 if tail.endswith(b"\n\n") else 0


def _read_at(file: int, size: int, offset: int) -> bytes:
    if hasattr(os, "pread"):
        data = os.pread(file, size, offset)
        while 0 < len(data) < size:
            more = os.pread(file, size - len(data), offset + len(data))
            if not more:
                break
            data += more
        return data
    os.lseek(file, offset, os.SEEK_SET)  # pragma: no cover  Windows
    return os.read(file, size)


def _arrival(line: bytes) -> datetime | None:
    # "From sender Sat Mar 14 15:03:00 2026": the sender may hold digits, the date never stands before it
    return parse_ctime(line.decode("latin-1").partition(" ")[2].partition(" ")[2][:120])


def _flags(header: Header) -> frozenset[str]:
    status = (header.raw(b"status") or b"") + (header.raw(b"x-status") or b"")
    keywords = header.raw(b"x-keywords")
    found = {_STATUS[letter] for letter in status.decode("latin-1") if letter in _STATUS} if status else set()
    if keywords:
        found.update(word.lower() for word in keywords.decode("latin-1").replace(",", " ").split())
    return frozenset(found)
