"""Properties of a message or attachment by their numbers, and what their bytes say ([MS-OXPROPS], [MS-OXCDATA])."""

from __future__ import annotations

import re
import struct
import uuid
from collections.abc import Callable, Mapping
from datetime import UTC, datetime, timedelta
from typing import NamedTuple

from wexagraph.errors import MessageError
from wexagraph.messages.charsets import codec_for

INTEGER16, INTEGER32, FLOATING32, FLOATING64, ERROR, BOOLEAN = 0x02, 0x03, 0x04, 0x05, 0x0A, 0x0B
OBJECT, INTEGER64, STRING8, STRING, TIME, GUID, BINARY = 0x0D, 0x14, 0x1E, 0x1F, 0x40, 0x48, 0x102
MULTIPLE = 0x1000
WIDTHS = {
    INTEGER16: 2,
    INTEGER32: 4,
    FLOATING32: 4,
    FLOATING64: 8,
    0x06: 8,
    0x07: 8,
    ERROR: 4,
    BOOLEAN: 2,
    INTEGER64: 8,
    TIME: 8,
    GUID: 16,
}
"""Bytes of a value of fixed width, by its type."""
VARIABLE = frozenset({STRING8, STRING, BINARY, OBJECT})
"""Types whose values have a length of their own."""
PUBLIC_STRINGS = "00020329-0000-0000-c000-000000000046"
APPOINTMENT = "00062002-0000-0000-c000-000000000046"
TASK = "00062003-0000-0000-c000-000000000046"
ADDRESS = "00062004-0000-0000-c000-000000000046"
COMMON = "00062008-0000-0000-c000-000000000046"
MEETING = "6ed8da90-450b-101b-98da-00aa003f1305"
_MAPI = "00020328-0000-0000-c000-000000000046"
_CODEPAGES = {65001: "utf-8", 20127: "us-ascii", 1200: "utf-16-le", 65000: "utf-7", 20866: "koi8-r", 21866: "koi8-u"}
_CODEPAGES |= {28590 + part: f"iso-8859-{part}" for part in range(1, 17)}
_CODEPAGES |= {936: "gb18030", 949: "cp949", 932: "cp932", 950: "cp950", 10000: "mac-roman", 51932: "euc-jp"}
_CODEPAGES |= {51949: "euc-kr", 54936: "gb18030", 52936: "gb2312", **dict.fromkeys(range(50220, 50223), "iso-2022-jp")}
_TEXTS = frozenset({STRING, STRING8})
_INTEGERS = frozenset({INTEGER16, INTEGER32, INTEGER64, BOOLEAN})
_SURROGATES = re.compile("[\ud800-\udfff]")
_BEGINNING = datetime(1601, 1, 1, tzinfo=UTC)


class Name(NamedTuple):
    """A property that a set of properties names: the set's GUID, and a number or a text in it."""

    set: str
    id: int | str


Key = int | Name
Raw = bytes | list[bytes] | Callable[[], bytes]


class Value(NamedTuple):
    """A property's type and bytes; those of a large one are read when they are asked for."""

    type: int
    raw: Raw


class Properties:
    """Properties by number or name. Texts in a code page are read by `codepage`, or by what the message names.

    Nothing here fails: what can't be read is empty, and `damage` says why.
    """

    def __init__(self, values: Mapping[Key, Value], codepage: int = 0) -> None:
        self.values, self.codepage = values, codepage
        self.damage: list[str] = []

    def __contains__(self, key: Key) -> bool:
        return key in self.values

    def raw(self, key: Key) -> bytes:
        """The bytes of a property, b"" where there is none or none can be read."""
        value = self.values.get(key)
        return self._bytes(value) if value is not None else b""

    def _bytes(self, value: Value) -> bytes:
        raw = value.raw
        if callable(raw):
            try:
                raw = raw()
            except MessageError as error:
                self.damage.append(str(error))
                return b""
        return raw if isinstance(raw, bytes) else b""

    def binary(self, *keys: Key) -> bytes:
        """The first of these that is binary and not empty."""
        return next((raw for key in keys if self._type(key) in (BINARY, OBJECT) and (raw := self.raw(key))), b"")

    def text(self, *keys: Key) -> str:
        """The first of these that is a text and not empty; lone surrogates are U+FFFD."""
        for key in keys:
            value = self.values.get(key)
            if value is not None and value.type in _TEXTS and (raw := self._bytes(value)):
                return self._decoded(value.type, raw)
        return ""

    def texts(self, key: Key) -> list[str]:
        """A property of several texts, or of one."""
        value = self.values.get(key)
        if value is None or value.type & ~MULTIPLE not in (STRING, STRING8):
            return []
        several = value.raw if isinstance(value.raw, list) else [self.raw(key)]
        return [text for raw in several if (text := self._decoded(value.type & ~MULTIPLE, raw))]

    def number(self, key: Key, default: int = 0) -> int:
        """An integer or a truth value."""
        value = self.values.get(key)
        if value is None or value.type not in _INTEGERS or not (raw := self._bytes(value)):
            return default
        width = 1 if value.type == BOOLEAN else WIDTHS[value.type]
        return int.from_bytes(raw[:width], "little", signed=value.type != BOOLEAN)

    def fraction(self, key: Key) -> float:
        """A floating number."""
        raw = self.raw(key)
        return float(struct.unpack("<d", raw[:8])[0]) if self._type(key) == FLOATING64 and len(raw) >= 8 else 0.0

    def moment(self, *keys: Key) -> datetime | None:
        """The first of these that is a time that can be, in UTC."""
        for key in keys:
            raw = self.raw(key)
            if self._type(key) == TIME and len(raw) >= 8 and (ticks := int.from_bytes(raw[:8], "little")):
                try:
                    return _BEGINNING + timedelta(microseconds=ticks // 10)
                except OverflowError:
                    continue
        return None

    def _type(self, key: Key) -> int:
        value = self.values.get(key)
        return value.type if value is not None else 0

    def _decoded(self, kind: int, raw: bytes) -> str:
        if kind == STRING:
            raw = raw[: len(raw) // 2 * 2]
            try:
                text = raw.decode("utf-16-le")
            except UnicodeDecodeError:
                text = _SURROGATES.sub("\N{REPLACEMENT CHARACTER}", raw.decode("utf-16-le", "surrogatepass"))
        else:
            text = raw.decode(codec_for(label_of(self.codepage or self._own_codepage())) or "cp1252", "replace")
        return text.rstrip("\0").replace("\0", "")

    def _own_codepage(self) -> int:
        return self.number(0x3FFD) or self.number(0x3FDE)


def label_of(codepage: int) -> str:
    """The label of a character set (RFC 2978) for the number of a code page; windows-1252 for none."""
    return _CODEPAGES.get(codepage) or (f"windows-{codepage}" if 1250 <= codepage <= 1258 else f"cp{codepage or 1252}")


class Names:
    """The names of a file's named properties, by their numbers from 0x8000 on ([MS-OXMSG] section 2.2.3)."""

    def __init__(self, sets: bytes, entries: bytes, texts: bytes) -> None:
        self._texts = texts
        self._sets = {1: _MAPI, 2: PUBLIC_STRINGS}
        for place in range(len(sets) // 16):
            self._sets[place + 3] = str(uuid.UUID(bytes_le=sets[place * 16 : place * 16 + 16]))
        numbered = struct.iter_unpack("<IHH", entries[: len(entries) // 8 * 8])
        self._entries = {0x8000 + index: (id, kind) for id, kind, index in numbered}

    def number(self, name: Name) -> int:
        """The number of a property that is named by a text; 0 where it has none."""
        texts = (number for number, (_, kind) in self._entries.items() if kind & 1)
        return next((number for number in texts if self.key(number) == name), 0)

    def key(self, number: int) -> Key:
        """The name of a property, or its number where it has none."""
        if number not in self._entries:
            return number
        id, kind = self._entries[number]
        owner = self._sets.get(kind >> 1, "")
        if not kind & 1:
            return Name(owner, id)
        length = int.from_bytes(self._texts[id : id + 4], "little")
        return Name(owner, self._texts[id + 4 : id + 4 + min(length, 1024)].decode("utf-16-le", "replace"))
