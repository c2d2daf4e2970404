"""mbox files (RFC 4155, with the mboxrd quoting of From lines, and the lengths of mboxcl and mboxcl2)."""

from __future__ import annotations

import os
import re
from collections.abc import Iterator
from pathlib import Path

from wexagraph.errors import MessageError
from wexagraph.messages.headers import Header, header_end
from wexagraph.sources.base import WHOLE, Envelope, Original, Partition
from wexagraph.sources.kinds import CHANGED, Head, Kind, Store
from wexagraph.sources.trees import File, OneFile, Tree

_BLOCK = 4 * 1024 * 1024
_HEAD = 6 * 1024  # holds the header of nearly every message, and any separator line
_MOST_HEAD = 16 * 1024 * 1024
_LF, _CR = b"\n\r"
_SEPARATOR = re.compile(
    rb"From [^\s]+ +[A-Z][a-z]{2} [A-Z][a-z]{2} +\d{1,2} +\d{1,2}:\d{2}|"  # the usual form, found at once
    rb"From [^\n]{0,500}?\b(?:[A-Z][a-z]{2},? +[A-Z][a-z]{2} +\d{1,2}|\d{1,2} +[A-Z][a-z]{2}|[A-Z][a-z]{2} +\d{1,2})\b"
    rb"[^\n]{0,80}\d{1,2}:\d{2}|From -[ \r]*\n"
)
_FIELD_BEHIND = re.compile(rb"[^\n]{0,200}\n[!-9;-~]{1,80}:")
_LENGTH = re.compile(rb"(?im)^content-length:[ \t]*(\d{1,15})[ \t]*\r?$")
_SUBFOLDERS = re.compile(r"\.sbd(?=/)", re.IGNORECASE)
_COMMIT = re.compile(rb"From [0-9a-f]{40} ")
_SEPARATES = re.compile(rb"\nFrom (?![0-9a-f]{40} )")
_CLOSES = re.compile(rb"\n--([^\s]{0,69}[^\s-][^\s]{0,69})--[ \t]*\r?(?=\n|\Z)")
_QUOTED = re.compile(rb"\n>(>*From )")  # sought by its first bytes, which is many times as fast as by `^`
_STATUS = {"R": "seen", "A": "answered", "F": "flagged", "D": "deleted", "T": "draft"}


def is_mbox(name: str, head: bytes) -> bool:
    """Whether a file with these first bytes is an mbox: it begins with a From line.

    In a file named as a message, that line has to bear a date: a From field that lost its colon is no separator.
    """
    if not head.startswith(b"From ") or b"\n" not in head:
        return False
    return not name.lower().endswith(".eml") or _SEPARATOR.match(head) is not None


class Mbox:
    """The messages of an mbox file. Offsets are found in blocks; no more than a block is ever held."""

    def __init__(self, path: Path) -> None:
        self.path, self.folder = path, ""
        self._file: int | None = None
        self._state = (0, 0)
        self._rewritten = False
        self._block = (0, b"")  # what the scan holds: a message in it need not be read again for its structure

    def _descriptor(self) -> int:
        if self._file is None:
            self._file = os.open(self.path, os.O_RDONLY | getattr(os, "O_BINARY", 0))
            about = os.fstat(self._file)
            self._state = (about.st_size, about.st_mtime_ns)
        return self._file

    def was_rewritten(self) -> bool:
        """Whether the file was changed in place since it was opened, but for mail that was put behind its end."""
        if self._file is None or self._rewritten:
            return self._rewritten
        about = os.fstat(self._file)
        state = (about.st_size, about.st_mtime_ns)
        if state != self._state:
            size = self._state[0]
            behind = _read_at(self._file, 7, max(0, size - 1)).lstrip(b"\r\n")
            self._rewritten = about.st_size <= size or not b"From ".startswith(behind[:5])
            self._state = state
        return self._rewritten

    def close(self) -> None:
        if self._file is not None:
            os.close(self._file)
            self._file = None

    def size(self) -> int:
        """Bytes of the file."""
        return self.path.stat().st_size

    def stamp(self) -> str:
        """Changes with the file."""
        about = self.path.stat()
        return f"{about.st_size}-{about.st_mtime_ns}-{about.st_ino}"

    def damage(self) -> list[str]:
        """Nothing but what reading a message tells."""
        return []

    def outline(self, share: Partition = WHOLE) -> Iterator[Envelope]:
        """As `envelopes`: an mbox has to be walked through to be known."""
        return self.envelopes(share)

    def envelopes(self, share: Partition = WHOLE) -> Iterator[Envelope]:
        """Envelopes in the order of the file; of a share, those that begin in that part of it. Raises OSError."""
        end = os.fstat(self._descriptor()).st_size
        start, stop = (end * number // share[1] for number in (share[0], share[0] + 1))
        waiting: tuple[int, int, bytes] | None = None
        for at, line_end, header, before in self._separators(self._descriptor(), start):
            if waiting is not None:
                yield self._envelope(*waiting, at - _separating(before))
            if at >= stop:
                return
            waiting = (at, line_end, header)
        if waiting is not None:
            tail = _read_at(self._descriptor(), 4, max(0, end - 4))
            yield self._envelope(*waiting, end - _separating(tail))

    def _separators(self, file: int, start: int) -> Iterator[tuple[int, int, bytes, bytes]]:
        """From lines from `start` on: offset, length, the line and the header behind it, and what stands before it.

        They stand at the start of the file; or with a date in them, and behind an empty line or before a field. A
        mailbox whose own first line bears no date is read by the looser rule, an empty line and "From ". Within the
        length that a message names (Content-Length), where it ends before another or with the file, only a line with a
        field behind it counts: a wrong length hides no message.
        """
        strict = _SEPARATOR.match(_read_at(file, _HEAD, 0)) is not None
        base = start - 2  # where in the file the buffer begins: with the two bytes before the first line
        buffer = _read_at(file, _BLOCK, base) if start else b"\n\n" + _read_at(file, _BLOCK, 0)
        last, until = len(buffer) < _BLOCK, 0
        at = 1 if not start else buffer.find(b"\nFrom ", 1)
        while True:
            limit = len(buffer) - (0 if last else _HEAD)
            while 0 <= at < limit:
                line_at = at + 1
                blank = buffer[at - 1] == _LF or (buffer[at - 1] == _CR and buffer[at - 2] == _LF)
                match = _SEPARATOR.match(buffer, line_at)
                before_field = match and _FIELD_BEHIND.match(buffer, match.end())
                separates = before_field or (base + line_at >= until and blank and (match or not strict))
                if separates and not (_COMMIT.match(buffer, line_at) and _in_open_part(file, base + line_at)):
                    line_end = buffer.find(b"\n", line_at) + 1 or len(buffer)
                    stop = header_end(buffer, line_end, line_at + _HEAD)
                    until = _named_end(file, base + stop, buffer[line_end:stop])
                    self._block = (base, buffer)
                    yield base + line_at, line_end - line_at, buffer[line_at:stop], buffer[max(0, at - 3) : line_at]
                at = buffer.find(b"\nFrom ", line_at)
            if last:
                return
            keep = max(0, limit - 4)
            block = _read_at(file, _BLOCK, base + len(buffer))
            base, buffer = base + keep, buffer[keep:] + block
            last = len(block) < _BLOCK
            at = buffer.find(b"\nFrom ")

    def _envelope(self, at: int, line_length: int, head: bytes, end: int) -> Envelope:
        end = max(end, at + line_length)
        if len(head) >= _HEAD or len(head) > end - at:
            head = self._whole_head(at, line_length, end)
        header = Header(head[line_length:])
        return Envelope(
            folder=self.folder,
            place=f"{at:015d}-{end - at}",
            size=end - at - line_length,
            header=header,
            flags=_flags(header) if header.has(b"status") or header.has(b"x-keywords") else frozenset(),
            arrived=head[:line_length],
        )

    def _whole_head(self, at: int, line_length: int, end: int) -> bytes:
        """From line and header of the message at `at`, where the scan has not seen all of it."""
        size = _HEAD
        while True:
            head = _read_at(self._descriptor(), min(size, end - at), at)
            stop = header_end(head, line_length)
            if stop < len(head) or size >= min(end - at, _MOST_HEAD):
                return head[:stop]
            size *= 8

    def read(self, envelope: Envelope) -> bytes:
        """The message behind its From line, quoted From lines restored. Raises MessageError."""
        at, length = _span(envelope)
        base, buffer = self._block
        start = at - base
        if start < 0 or start + length > len(buffer):
            try:
                start, buffer = 0, _read_at(self._descriptor(), length, at)
            except OSError as error:
                raise MessageError(f"{self.path}: {error.strerror or error}") from error
        if self.was_rewritten():
            raise MessageError(f"{self.path}: {CHANGED}")
        if len(buffer) < length or not buffer.startswith(b"From ", start):
            raise MessageError(f"{self.path}: {CHANGED}")
        end = start + length
        begin = buffer.find(b"\n", start, end)  # the From line's end: with it, the first line is one like all others
        if begin < 0:
            return b""
        if buffer.find(b"\n>", begin, end) >= 0 and buffer.find(b">From ", begin, end) >= 0:
            return _QUOTED.sub(rb"\n\1", buffer[begin:end])[1:]
        return buffer[begin + 1 : end]

    def bare(self, envelope: Envelope) -> bool:
        """Nothing is known of a message that was not read."""
        return False

    def original(self, envelope: Envelope) -> Original | None:
        """Its bytes are the message's own."""
        return None


def _span(envelope: Envelope) -> tuple[int, int]:
    """Offset and length of a message in its file, From line included."""
    at, _, length = envelope.place.partition("-")
    return int(at), int(length)


def _separating(tail: bytes) -> int:
    """How many bytes of line end stand between a message and the next From line, or the end of the file."""
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


def _named_end(file: int, body: int, header: bytes) -> int:
    """Where a message ends by its Content-Length; 0 where that is no end of a message."""
    match = _LENGTH.search(header)
    if match is None:
        return 0
    end = body + int(match[1])
    behind = _read_at(file, 7, end)
    return end if not behind.strip(b"\r\n") or behind.lstrip(b"\r\n").startswith(b"From ") else 0


def _flags(header: Header) -> frozenset[str]:
    status = (header.raw(b"status") or b"") + (header.raw(b"x-status") or b"")
    keywords = header.raw(b"x-keywords")
    flags = {_STATUS[letter] for letter in status.decode("latin-1") if letter in _STATUS} if status else set()
    if keywords:
        try:
            text = keywords.decode("utf-8")
        except UnicodeDecodeError:
            text = keywords.decode("latin-1")
        words = {word.lower() for word in text.replace(",", " ").split()}
        flags |= words - set(_STATUS.values())  # a sender may write keywords, but no flags
    return frozenset(flags)


def _in_open_part(file: int, at: int) -> bool:
    """Whether the first line of a patch, which looks as a separator does, stands within a part of a message: a boundary
    is closed behind it, before the next separator, that was declared before it. Looked for in the next 4 MB."""
    behind = _read_at(file, _BLOCK, at)
    following = _SEPARATES.search(behind)
    while following is not None and not _SEPARATOR.match(behind, following.start() + 1):
        following = _SEPARATES.search(behind, following.end())
    behind = behind[: following.start()] if following is not None else behind
    return any(
        not re.search(rb"(?i)boundary\s*=\s*\"?" + re.escape(closing[1]), behind)
        for closing in _CLOSES.finditer(behind)
    )


def _claims(path: str, head: Head) -> bool:
    return is_mbox(path.rpartition("/")[2], head())


def _stores(tree: Tree, files: list[File], own: str) -> Iterator[tuple[str, Store]]:
    for file in files:
        path = own if isinstance(tree, OneFile) else file.path
        try:
            mbox = Mbox(tree.on_disk(file.path))
        except MessageError as error:
            tree.troubles.append((file.path, str(error).removeprefix(f"{file.path}: ")))
            continue
        yield _SUBFOLDERS.sub("", path[:-5] if path.lower().endswith(".mbox") else path), mbox


MBOX = Kind("mbox", "an mbox file or a folder of them", _claims, _stores)
