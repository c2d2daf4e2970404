"""Volumes: ZIP files of messages (APPNOTE 6.3.10), written once and never changed.

A volume stays below 4 GB and 65,535 members, so that every program that opens ZIP files opens it.
"""

from __future__ import annotations

import hashlib
import os
import struct
from collections.abc import Iterator
from dataclasses import dataclass
from datetime import UTC, datetime
from pathlib import Path
from typing import BinaryIO

from wexagraph.backups.packing import Packed
from wexagraph.deflating import deflate
from wexagraph.errors import MessageError
from wexagraph.files import create_private, open_regular
from wexagraph.zips import out_of_proportion

MOST_BYTES = 4_000_000_000
MOST_MEMBERS = 65_000
_LOCAL = struct.Struct("<4s5H3I2H")
_CENTRAL = struct.Struct("<4s6H3I5H2I")
_END = struct.Struct("<4s4H2IH")
_LOCAL_MARK, _CENTRAL_MARK, _END_MARK = b"PK\x03\x04", b"PK\x01\x02", b"PK\x05\x06"
_UTF8 = 0x800
_BLOCK = 1024 * 1024
_MODE = 0o100644 << 16


@dataclass(frozen=True, slots=True)
class Member:
    """A message in a volume: its name, where its entry begins, how long its content is there and unpacked."""

    name: str
    offset: int
    packed: int
    size: int
    method: int
    crc: int
    stamp: int = 0


def _described(member: Member, raw: bytes) -> tuple[int, ...]:
    """What both headers of a member tell of it (APPNOTE 4.4): method, time, checksum, sizes, length of its name."""
    moment = (member.stamp & 0xFFFF, member.stamp >> 16)
    return member.method, *moment, member.crc, member.packed, member.size, len(raw)


class VolumeWriter:
    """Writes a volume at `path`, which is no volume until it is closed. Raises OSError."""

    def __init__(self, path: Path) -> None:
        self.path = path
        self._file = create_private(path, buffering=0)
        self._held: list[bytes] = []
        self._held_bytes = 0
        self._digest = hashlib.sha256()
        self.members: list[Member] = []
        self._at = 0
        self._directory = _END.size

    @property
    def size(self) -> int:
        """How long the file would be if it were closed now."""
        return self._at + self._directory

    def takes(self, packed: Packed, limit: int) -> bool:
        """Whether a message still fits. The first one always does, if any volume can hold it."""
        more = len(packed.content) + 2 * 255 + _LOCAL.size + _CENTRAL.size
        return not self.members or (self.size + more <= limit and len(self.members) < MOST_MEMBERS)

    def add(self, name: str, packed: Packed) -> Member:
        """Write a message under a name."""
        return self.add_raw(
            Member(name, 0, len(packed.content), packed.size, packed.method, packed.crc, _dos(packed.moment)),
            packed.content,
        )

    def add_raw(self, member: Member, content: bytes) -> Member:
        """Write what is packed already."""
        raw = member.name.encode("utf-8")
        head = _LOCAL.pack(_LOCAL_MARK, 20, _UTF8, *_described(member, raw), 0)
        placed = Member(member.name, self._at, member.packed, member.size, member.method, member.crc, member.stamp)
        self._put(head + raw, content)
        self._directory += _CENTRAL.size + len(raw)
        self.members.append(placed)
        return placed

    def flush(self) -> None:
        """Bring what was written to the disk."""
        self._write()
        os.fsync(self._file.fileno())

    def close(self) -> str:
        """Write the directory, bring all to the disk, and return the SHA-256 of the file."""
        start = self._at
        for member in self.members:
            raw = member.name.encode("utf-8")
            described = _described(member, raw)
            entry = _CENTRAL.pack(_CENTRAL_MARK, 0x0314, 20, _UTF8, *described, 0, 0, 0, 0, _MODE, member.offset)
            self._put(entry + raw)
        count = len(self.members)
        self._put(_END.pack(_END_MARK, 0, 0, count, count, self._at - start, start, 0))
        self.flush()
        self._file.close()
        return self._digest.hexdigest()

    def _put(self, *pieces: bytes) -> None:
        self._held += pieces
        size = sum(map(len, pieces))
        self._at += size
        self._held_bytes += size
        if self._held_bytes >= _BLOCK:
            self._write()

    def _write(self) -> None:
        # much at once: each small piece would cost as much again for its calls
        block = b"".join(self._held)
        self._held, self._held_bytes = [], 0
        self._digest.update(block)
        left = memoryview(block)
        while left:
            left = left[self._file.write(left) :]

    def abandon(self) -> None:
        """Give the file up; what is in it can be salvaged."""
        self._write()
        self._file.close()


def members(path: Path) -> list[Member]:
    """The members of a closed volume, from its directory. Raises MessageError where that can't be read."""
    with _reading(path) as file:
        size = file.seek(0, os.SEEK_END)
        file.seek(max(0, size - 1024))
        tail = file.read()
        at = tail.rfind(_END_MARK)
        if at < 0 or len(tail) - at < _END.size:
            raise MessageError(f"{path} has no directory at its end")
        _, _, _, _, count, length, start, _ = _END.unpack_from(tail, at)
        file.seek(start)
        directory = file.read(length)
    entries, at = [], 0
    try:
        for _ in range(count):
            (mark, _, _, _, method, time, date, crc, packed, unpacked, name_length, extra, comment, _, _, _, offset) = (
                _CENTRAL.unpack_from(directory, at)
            )
            if mark != _CENTRAL_MARK:
                raise MessageError(f"{path}: its directory is damaged")
            name = directory[at + _CENTRAL.size : at + _CENTRAL.size + name_length].decode("utf-8")
            entries.append(Member(name, offset, packed, unpacked, method, crc, date << 16 | time))
            at += _CENTRAL.size + name_length + extra + comment
    except (struct.error, UnicodeDecodeError) as error:
        raise MessageError(f"{path}: its directory is damaged") from error
    return entries


def salvage(path: Path) -> Iterator[tuple[Member, bytes]]:
    """The whole entries of a volume that was never closed, or whose directory is damaged, with their packed content.

    Stops at the first that is not whole. Raises MessageError where the file can't be read at all.
    """
    with _reading(path) as file:
        at = 0
        while True:
            head = file.read(_LOCAL.size)
            if len(head) < _LOCAL.size or not head.startswith(_LOCAL_MARK):
                return
            _, _, _, method, time, date, crc, packed, size, name_length, extra = _LOCAL.unpack(head)
            raw = file.read(name_length + extra)[:name_length]
            content = file.read(packed)
            if len(content) < packed or out_of_proportion(size, packed):
                return
            member = Member(raw.decode("utf-8", "replace"), at, packed, size, method, crc, date << 16 | time)
            yield member, content
            at += _LOCAL.size + name_length + extra + packed


def read_packed(file: BinaryIO, offset: int, packed: int) -> tuple[bytes, int, int]:
    """The packed content of the entry at `offset`, its method and its CRC-32. Raises MessageError, OSError."""
    file.seek(offset)
    head = file.read(_LOCAL.size)
    if len(head) < _LOCAL.size or not head.startswith(_LOCAL_MARK):
        raise MessageError(f"there is no entry at {offset}")
    fields = _LOCAL.unpack(head)
    file.seek(fields[9] + fields[10], os.SEEK_CUR)
    content = file.read(packed)
    if len(content) != packed:
        raise MessageError(f"the entry at {offset} is cut short")
    return content, fields[3], fields[6]


def unpacked(content: bytes, method: int, size: int) -> bytes:
    """The bytes of a message, as many as its entry says. Raises MessageError where they can't be had back."""
    if out_of_proportion(size, len(content)):
        raise MessageError(f"{len(content):,} bytes would unpack to {size:,}: refused")
    if method == 0:
        data = content
    else:
        try:
            # what an entry says of its size is not believed: no more is made than is there
            data = deflate.decompressobj(-15).decompress(content, size + 1)
        except (deflate.error, OverflowError) as error:
            raise MessageError(f"its bytes do not unpack: {error}") from error
    if len(data) != size:
        raise MessageError(f"it unpacks to another size than the {size:,} bytes that it should have")
    return data


def _reading(path: Path) -> BinaryIO:
    try:
        return open_regular(path)
    except OSError as error:
        raise MessageError(f"{path} can't be read: {error.strerror or error}") from error


def _dos(moment: datetime | None) -> int:
    """A date as a ZIP has it: two seconds, minutes, hours, day, month, years since 1980."""
    if moment is None:
        return 0x00210000
    moment = moment.astimezone(UTC) if moment.tzinfo else moment
    if not 1980 <= moment.year <= 2107:
        return 0x00210000
    day = (moment.year - 1980) << 9 | moment.month << 5 | moment.day
    return day << 16 | moment.hour << 11 | moment.minute << 5 | moment.second // 2
