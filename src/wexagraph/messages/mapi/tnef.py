"""What some programs put a message's text and attachments into when they send it: `winmail.dat` ([MS-OXTNEF])."""

from __future__ import annotations

import struct
import uuid
from collections.abc import Iterator
from datetime import UTC, datetime

from wexagraph.messages.mapi.item import DEEPEST, Attached, Item
from wexagraph.messages.mapi.properties import (
    BINARY,
    BOOLEAN,
    INTEGER16,
    MULTIPLE,
    OBJECT,
    STRING8,
    TIME,
    VARIABLE,
    WIDTHS,
    Key,
    Name,
    Properties,
    Value,
)

MAGIC = b"\x78\x9f\x3e\x22"
TYPES = ("application/ms-tnef", "application/vnd.ms-tnef")
_RECIPIENTS, _MESSAGE_PROPERTIES, _ATTACHMENT_PROPERTIES, _RENDERING = 0x69004, 0x69003, 0x69005, 0x69002
_CODEPAGE, _CLASS, _SUBJECT, _BODY, _SENT, _FROM, _MESSAGE_ID = (
    0x69007,
    0x78008,
    0x18004,
    0x2800C,
    0x38005,
    0x8000,
    0x18009,
)
_TITLE, _DATA, _TRANSPORT_NAME = 0x18010, 0x6800F, 0x69001
_MESSAGE_IID = bytes.fromhex("0703020000000000c000000000000046")
_MOST_VALUES = 100_000


def is_tnef(data: bytes) -> bool:
    """Whether bytes begin as a TNEF stream does."""
    return data.startswith(MAGIC)


def read_item(data: bytes, depth: int = 0) -> Item | None:
    """The message in a TNEF stream; None where it is none. One that breaks off gives what there is of it."""
    return _Reader(data, depth).item() if is_tnef(data) else None


class _Reader:
    def __init__(self, data: bytes, depth: int) -> None:
        self.data, self.depth = data, depth
        self.damage: list[str] = []
        self.codepage = 0
        self.values: dict[Key, Value] = {}
        self.recipients: list[dict[Key, Value]] = []
        self.attachments: list[dict[Key, Value]] = []

    def item(self) -> Item:
        for level, id, value in self._attributes():
            try:
                if level == 1:
                    self._of_message(id, value)
                else:
                    self._of_attachment(id, value)
            except struct.error:
                self.damage.append("an attribute breaks off")
        recipients = [Properties(values, self.codepage) for values in self.recipients]
        properties = Properties(self.values, self.codepage)
        return Item("tnef", properties, lambda: recipients, self._attached, self.depth, self.damage)

    def _attributes(self) -> Iterator[tuple[int, int, bytes]]:
        """The attributes of the stream in their order: level, number, bytes."""
        data, at, end = self.data, 6, len(self.data)
        while at + 9 <= end:
            level, id, length = struct.unpack_from("<BII", data, at)
            if level not in (1, 2):
                if data[at:].strip(b"\0\r\n "):
                    self.damage.append(f"{end - at} bytes at the end of the stream are no attributes")
                return
            value = data[at + 9 : at + 9 + length]
            yield level, id, value
            if len(value) < length:
                self.damage.append("the stream breaks off")
                return
            at += 9 + length + 2

    def _of_message(self, id: int, value: bytes) -> None:
        if id == _MESSAGE_PROPERTIES:
            self.values |= self._properties(_Cursor(value))
        elif id == _RECIPIENTS:
            cursor = _Cursor(value)
            for _ in range(min(cursor.number(), _MOST_VALUES)):
                broken = len(self.damage)
                self.recipients.append(self._properties(cursor))
                if len(self.damage) > broken:
                    break
        elif id == _CODEPAGE:
            self.codepage = int.from_bytes(value[:4], "little")
        elif id in (_CLASS, _SUBJECT, _BODY, _MESSAGE_ID):
            key = {_CLASS: 0x001A, _SUBJECT: 0x0037, _BODY: 0x1000, _MESSAGE_ID: 0x1035}[id]
            if id == _CLASS and value.lower().startswith(b"ipm.microsoft "):
                value = _CLASSES.get(value.rstrip(b"\0").lower(), value)
            self.values.setdefault(key, Value(STRING8, value))
        elif id == _SENT and len(value) >= 12:
            self._moment(0x0039, value)
        elif id == _FROM:
            # a structure of offsets ([MS-OXTNEF] section 2.1.3.3.2): name and address stand behind it
            lengths = struct.unpack_from("<HHHH", value) if len(value) >= 8 else (0, 0, 0, 0)
            name = value[8 : 8 + lengths[2]]
            address = value[8 + lengths[2] : 8 + lengths[2] + lengths[3]].split(b"\0")[0].rpartition(b":")[2]
            self.values.setdefault(0x0042, Value(STRING8, name))
            self.values.setdefault(0x0065, Value(STRING8, address))

    def _moment(self, key: int, value: bytes) -> None:
        try:
            year, month, day, hour, minute, second = struct.unpack_from("<6H", value)
            moment = datetime(year, month, day, hour, minute, second, tzinfo=UTC)
        except ValueError:
            return
        ticks = int((moment - datetime(1601, 1, 1, tzinfo=UTC)).total_seconds()) * 10_000_000
        if ticks > 0:
            self.values.setdefault(key, Value(TIME, struct.pack("<Q", ticks)))

    def _of_attachment(self, id: int, value: bytes) -> None:
        if id == _RENDERING or not self.attachments:
            self.attachments.append({})
        its = self.attachments[-1]
        if id == _ATTACHMENT_PROPERTIES:
            its.update(self._properties(_Cursor(value)))
        elif id == _DATA:
            its[0x3701] = Value(BINARY, value)
        elif id in (_TITLE, _TRANSPORT_NAME):
            its.setdefault(0x3704, Value(STRING8, value))

    def _attached(self) -> Iterator[Attached]:
        for values in self.attachments:
            attached = Attached(Properties(values, self.codepage))
            inner = values.get(0x3701)
            if inner is not None and inner.type == OBJECT and isinstance(inner.raw, bytes):
                content = inner.raw[16:]
                if inner.raw.startswith(_MESSAGE_IID) and is_tnef(content) and self.depth < DEEPEST:
                    attached.item = lambda content=content: _Reader(content, self.depth + 1).item()
                else:
                    attached.object = lambda content=content: content
            if values:
                yield attached

    def _properties(self, cursor: _Cursor) -> dict[Key, Value]:
        """A list of properties ([MS-OXTNEF] section 2.1.3.4)."""
        values: dict[Key, Value] = {}
        try:
            for _ in range(min(cursor.number(), _MOST_VALUES)):
                kind, number = struct.unpack("<HH", cursor.take(4))
                key: Key = number
                if number >= 0x8000:
                    owner = str(uuid.UUID(bytes_le=cursor.take(16)))
                    if cursor.number():
                        key = Name(owner, cursor.padded(cursor.number()).decode("utf-16-le", "replace").rstrip("\0"))
                    else:
                        key = Name(owner, cursor.number())
                values[key] = self._value(cursor, kind)
        except struct.error:
            self.damage.append("a list of properties breaks off")
        return values

    def _value(self, cursor: _Cursor, kind: int) -> Value:
        single = kind & ~MULTIPLE
        if single in VARIABLE:
            count = min(cursor.number(), _MOST_VALUES)
            raws = [cursor.padded(cursor.number()) for _ in range(count)]
            return Value(kind, raws if kind & MULTIPLE else raws[0] if raws else b"")
        width = WIDTHS.get(single)
        if width is None:
            raise struct.error
        stored = 4 if single in (INTEGER16, BOOLEAN) else width
        if kind & MULTIPLE:
            return Value(kind, [cursor.take(stored)[:width] for _ in range(min(cursor.number(), _MOST_VALUES))])
        return Value(kind, cursor.take(stored)[:width])


_CLASSES = {
    b"ipm.microsoft mail.note": b"IPM.Note",
    b"ipm.microsoft schedule.mtgreq": b"IPM.Schedule.Meeting.Request",
    b"ipm.microsoft schedule.mtgcncl": b"IPM.Schedule.Meeting.Canceled",
    b"ipm.microsoft schedule.mtgrespp": b"IPM.Schedule.Meeting.Resp.Pos",
    b"ipm.microsoft schedule.mtgrespn": b"IPM.Schedule.Meeting.Resp.Neg",
    b"ipm.microsoft schedule.mtgrespa": b"IPM.Schedule.Meeting.Resp.Tent",
}
"""Message classes of old programs ([MS-OXTNEF] section 2.1.3.3.1)."""


class _Cursor:
    """Bytes read from the front; struct.error where they end."""

    def __init__(self, data: bytes) -> None:
        self.data, self.at = data, 0

    def take(self, count: int) -> bytes:
        piece = self.data[self.at : self.at + count]
        if len(piece) < count:
            raise struct.error
        self.at += count
        return piece

    def padded(self, count: int) -> bytes:
        """So many bytes, which fill whole units of four."""
        piece = self.take(count)
        self.at += -count % 4
        return piece

    def number(self) -> int:
        return int.from_bytes(self.take(4), "little")
