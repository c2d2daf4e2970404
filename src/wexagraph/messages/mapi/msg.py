"""Single-message files ([MS-OXMSG]): a message in a compound file."""

from __future__ import annotations

import re
import struct
from collections.abc import Collection, Iterator
from functools import lru_cache

from wexagraph.messages.mapi.compound import CompoundFile, Storage, tree_of, written
from wexagraph.messages.mapi.fields import CATEGORIES, LISTED
from wexagraph.messages.mapi.item import DEEPEST, Attached, Item
from wexagraph.messages.mapi.properties import MULTIPLE, OBJECT, WIDTHS, Key, Names, Properties, Raw, Value

_PROPERTIES = "__properties_version1.0"
_NAMES = "__nameid_version1.0"
_DATA = 0x3701
_HEAD, _INNER_HEAD, _PART_HEAD = 32, 24, 8  # bytes before the list of properties: of the file, of messages in it, else
_MOST_PARTS, _MOST_OF_SEVERAL = 20_000, 16 * 1024 * 1024
_FIXED = struct.Struct("<HH4x8s")
_STREAM = re.compile(r"__substg1\.0_([0-9A-Fa-f]{4})([0-9A-Fa-f]{4})")


def is_message(file: CompoundFile) -> bool:
    """Whether a compound file is a single-message file."""
    return _PROPERTIES in file.root.streams


def read_item(file: CompoundFile, listed: bool = False) -> Item:
    """The message of a single-message file; `listed`, with what its header is made of. Never fails; what can't be read
    is in its `damage`."""
    storage = file.root.storages.get(_NAMES, Storage())
    names = Names(*(_stream(file, storage, f"__substg1.0_{tag}0102") for tag in ("0002", "0003", "0004")))
    wanted = LISTED | {names.number(CATEGORIES)} if listed else None
    return _Reader(file, names).item(file.root, _HEAD, 0, wanted)


def _stream(file: CompoundFile, storage: Storage, name: str) -> bytes:
    place = storage.streams.get(name)
    return file.stream(place) if place is not None else b""


class _Reader:
    def __init__(self, file: CompoundFile, names: Names) -> None:
        self.file, self.names = file, names

    def item(self, storage: Storage, head: int, depth: int, wanted: Collection[int] | None = None) -> Item:
        properties = self.properties(storage, head, wanted=wanted)
        codepage = properties.number(0x3FFD) or properties.number(0x3FDE)
        return Item(
            "msg",
            properties,
            lambda: [self.properties(part, _PART_HEAD, codepage) for part in _parts(storage, "__recip_version1.0_")],
            lambda: self.attachments(storage, codepage, depth),
            depth,
            self.file.damage,
        )

    def properties(
        self, storage: Storage, head: int, codepage: int = 0, wanted: Collection[int] | None = None
    ) -> Properties:
        """Properties of fixed width from their list, the others from a stream each; or the `wanted` of them."""
        values: dict[Key, Value] = {}
        fixed = _stream(self.file, storage, _PROPERTIES)[head:]
        for kind, number, raw in _FIXED.iter_unpack(fixed[: len(fixed) // 16 * 16]):
            if kind in WIDTHS and (wanted is None or number in wanted):
                values[self.names.key(number)] = Value(kind, raw[: WIDTHS[kind]])
        for name, place in storage.streams.items():
            number, kind = _tag(name)
            if kind and (wanted is None or number in wanted):
                values[self.names.key(number)] = Value(kind, self._value(storage, name, kind, place))
        return Properties(values, codepage)

    def _value(self, storage: Storage, name: str, kind: int, place: tuple[int, int]) -> Raw:
        if kind & MULTIPLE and kind & ~MULTIPLE not in WIDTHS:
            lengths = self.file.stream(place)
            count = min(len(lengths) // (8 if kind & 0x100 else 4), 10_000)
            return self._several([f"{name}-{number:08X}" for number in range(count)], storage)
        return lambda: self.file.stream(place)

    def _several(self, names: list[str], storage: Storage) -> list[bytes]:
        """The streams of a property of several values, bounded together: many may name one stream."""
        values, left = [], _MOST_OF_SEVERAL
        for name in names:
            values.append(_stream(self.file, storage, name))
            left -= len(values[-1])
            if left < 0:
                self.file.damage.append("a property of several values is too large")
                break
        return values

    def attachments(self, storage: Storage, codepage: int, depth: int) -> Iterator[Attached]:
        for part in _parts(storage, "__attach_version1.0_"):
            attached = Attached(self.properties(part, _PART_HEAD, codepage))
            inner = part.storages.get(f"__substg1.0_{_DATA:04X}{OBJECT:04X}")
            if inner is not None and _PROPERTIES in inner.streams and depth < DEEPEST:
                attached.item = lambda inner=inner: self.item(inner, _INNER_HEAD, depth + 1)
            elif inner is not None:
                attached.object = lambda inner=inner: written(tree_of(self.file, inner))
            yield attached


@lru_cache(maxsize=8192)
def _tag(name: str) -> tuple[int, int]:
    """The number and the type of a property by the name of its stream; zeros where it is none."""
    match = _STREAM.fullmatch(name)
    return (int(match[1], 16), int(match[2], 16)) if match else (0, 0)


def _parts(storage: Storage, name: str) -> list[Storage]:
    """The storages of recipients or attachments, in the order of their numbers."""
    return [storage.storages[each] for each in sorted(storage.storages) if each.startswith(name)][:_MOST_PARTS]
