"""Personal folder files, middle layer: heaps, trees in them, property lists and tables ([MS-PST] section 2.3)."""

from __future__ import annotations

import struct
from collections.abc import Callable, Collection, Iterator
from itertools import pairwise
from typing import NamedTuple

from wexagraph.errors import MessageError
from wexagraph.messages.mapi.properties import BOOLEAN, INTEGER16, MULTIPLE, VARIABLE, WIDTHS, Key, Value
from wexagraph.sources.pst.nodes import Node, NodeFile

_MOST_RECORDS = 50_000_000
_RECORD = struct.Struct("<HHI")


class Heap:
    """The heap on a node: small items by their numbers; larger values lie in subnodes. Raises MessageError."""

    def __init__(self, file: NodeFile, node: Node) -> None:
        self.file, self.node = file, node
        self._bids = file.blocks(node.data)
        if not self._bids:
            raise MessageError(f"node {node.nid:x} has no data")
        self._maps: dict[int, tuple[bytes, tuple[int, ...]]] = {}
        self._subnodes: dict[int, Node] | None = None
        head = file.block(self._bids[0])
        if len(head) < 12 or head[2] != 0xEC:
            raise MessageError(f"node {node.nid:x} holds no heap")
        self.kind = head[3]
        self.root = int.from_bytes(head[4:8], "little")
        self._index_bits = file.layout.index_bits

    def item(self, hid: int) -> bytes:
        """An item by its number. Raises MessageError."""
        if not hid:
            return b""
        index, number = (hid >> 5) & ((1 << self._index_bits) - 1), hid >> 5 + self._index_bits
        if number not in self._maps:
            if number >= len(self._bids):
                raise MessageError(f"node {self.node.nid:x} has no block {number} of its heap")
            block = self.file.block(self._bids[number])
            at = int.from_bytes(block[:2], "little")
            count = int.from_bytes(block[at : at + 2], "little")
            count = min(count, max(0, (len(block) - at - 6) // 2))
            self._maps[number] = (block, struct.unpack_from(f"<{count + 1}H", block, at + 4) if count else ())
        block, places = self._maps[number]
        if not 0 < index < len(places):
            raise MessageError(f"node {self.node.nid:x} has no item {index} in its heap")
        return block[places[index - 1] : places[index]]

    def subnodes(self) -> dict[int, Node]:
        """The subnodes of the node."""
        if self._subnodes is None:
            self._subnodes = self.file.subnodes(self.node.sub)
        return self._subnodes

    def value(self, number: int) -> bytes:
        """What a number names: an item of the heap, or the data of a subnode. Raises MessageError."""
        if not number & 0x1F:
            return self.item(number)
        node = self.subnodes().get(number)
        if node is None:
            raise MessageError(f"node {self.node.nid:x} has no subnode {number:x}")
        return self.file.data(node.data)

    def records(self, hid: int) -> tuple[int, bytes]:
        """The records of a tree on the heap, in order: their size, and all of them. Raises MessageError."""
        head = self.item(hid)
        if len(head) < 8 or head[0] != 0xB5:
            raise MessageError(f"node {self.node.nid:x} has no tree where it names one")
        key, data, levels, root = head[1], head[2], head[3], int.from_bytes(head[4:8], "little")
        hids, width = [root] if root else [], key + 4
        for _ in range(min(levels, 8)):
            above, hids = hids, []
            for one in above:
                branch = self.item(one)
                hids += [
                    int.from_bytes(branch[at + key : at + width], "little")
                    for at in range(0, len(branch) // width * width, width)
                ]
                if len(hids) > _MOST_RECORDS:
                    raise MessageError(f"node {self.node.nid:x} has a tree of more leaves than can be")
        size = key + data
        if not size:
            raise MessageError(f"node {self.node.nid:x} has a tree of empty records")
        return size, b"".join(leaf[: len(leaf) // size * size] for leaf in map(self.item, hids))


def property_values(heap: Heap, wanted: Collection[int] | None, key_of: Callable[[int], Key]) -> dict[Key, Value]:
    """The properties of a node, or the `wanted` of their numbers. Raises MessageError."""
    if heap.kind != 0xBC:
        raise MessageError(f"node {heap.node.nid:x} holds no properties")
    values: dict[Key, Value] = {}
    size, records = heap.records(heap.root)
    if size != 8:
        raise MessageError(f"node {heap.node.nid:x} has properties of {size} bytes")
    for number, kind, raw in _RECORD.iter_unpack(records):
        if wanted is None or number in wanted:
            values[key_of(number)] = _value(heap, kind, raw)
    return values


def _value(heap: Heap, kind: int, raw: int) -> Value:
    if kind in WIDTHS and WIDTHS[kind] <= 4:
        return Value(kind, raw.to_bytes(4, "little")[: WIDTHS[kind]])
    if kind & MULTIPLE and kind & ~MULTIPLE in VARIABLE:
        return Value(kind, _several(heap.value(raw)) if raw else [])
    return Value(kind, (lambda: heap.value(raw)) if raw else b"")


def _several(data: bytes) -> list[bytes]:
    """A property of several texts or byte strings: how many, where each begins, and they."""
    if len(data) < 4:
        return []
    count = min(int.from_bytes(data[:4], "little"), len(data) // 4 - 1)
    starts = [*struct.unpack_from(f"<{count}I", data, 4), len(data)]
    return [data[first:last] for first, last in pairwise(starts)]


class _Column(NamedTuple):
    number: int
    kind: int
    offset: int
    width: int
    bit: int


class Table:
    """A table on a node: rows by their IDs. Raises MessageError where it can't be read."""

    def __init__(self, file: NodeFile, node: Node) -> None:
        self.heap = heap = Heap(file, node)
        info = heap.item(heap.root) if heap.kind == 0x7C else b""
        if len(info) < 22 or info[0] != 0x7C:
            raise MessageError(f"node {node.nid:x} holds no table")
        self._bits, self._width = struct.unpack_from("<HH", info, 6)[0:2]
        index, rows = struct.unpack_from("<II", info, 10)
        count = min(info[1], (len(info) - 22) // 8)
        kinds = [struct.unpack_from("<HHHBB", info, 22 + 8 * number) for number in range(count)]
        self.columns = {number: _Column(number, kind, at, width, bit) for kind, number, at, width, bit in kinds}
        size, records = heap.records(index)
        self._row = struct.Struct("<II" if size == 8 else "<IH")
        self._index = records if size == self._row.size else b""
        self._place = rows
        self._bids: list[int] | None = None
        self._each = max(1, file.layout.most // max(1, self._width))
        self._held: bytes | None = None

    def __len__(self) -> int:
        return len(self._index) // self._row.size

    def rows(self, first: int = 0, last: int | None = None) -> Iterator[tuple[int, bytes]]:
        """Rows by their IDs, in the order of these: ID and bytes; b"" where its bytes can't be had."""
        size = self._row.size
        for id, number in self._row.iter_unpack(self._index[first * size : last * size if last is not None else None]):
            try:
                yield id, self._bytes(number)
            except MessageError:
                yield id, b""

    def _bytes(self, number: int) -> bytes:
        """A row by its place; rows fill blocks, none stands in two. Raises MessageError."""
        if not self._width:
            raise MessageError(f"node {self.heap.node.nid:x} has rows of no bytes")
        if self._bids is None:
            self._bids = []
            if self._place & 0x1F:
                node = self.heap.subnodes().get(self._place)
                self._bids = self.heap.file.blocks(node.data) if node is not None else []
            else:
                self._held = self.heap.item(self._place)
        if self._held is not None:
            row = self._held[number * self._width : (number + 1) * self._width]
        else:
            at, within = divmod(number, self._each)
            block = self.heap.file.block(self._bids[at]) if at < len(self._bids) else b""
            row = block[within * self._width : (within + 1) * self._width]
        if len(row) < self._width:
            raise MessageError(f"node {self.heap.node.nid:x} has no row {number}")
        return row

    def number(self, row: bytes, number: int) -> int:
        """An integer of a row; 0 where it has none."""
        column = self.columns.get(number)
        if column is None or not self._has(row, column) or column.width > 8:
            return 0
        return int.from_bytes(row[column.offset : column.offset + column.width], "little")

    def _has(self, row: bytes, column: _Column) -> bool:
        at = self._bits + column.bit // 8
        return at < len(row) and bool(row[at] & (0x80 >> column.bit % 8))

    def values(self, row: bytes, wanted: Collection[int] | None = None) -> dict[Key, Value]:
        """The cells of a row as properties."""
        values: dict[Key, Value] = {}
        for column in self.columns.values():
            if (wanted is not None and column.number not in wanted) or not self._has(row, column):
                continue
            raw = row[column.offset : column.offset + column.width]
            kind = column.kind
            if kind in WIDTHS and (WIDTHS[kind] <= 8 or kind in (INTEGER16, BOOLEAN)):
                values[column.number] = Value(kind, raw[: WIDTHS[kind]])
            elif len(raw) == 4:
                values[column.number] = _value(self.heap, kind, int.from_bytes(raw, "little"))
        return values
