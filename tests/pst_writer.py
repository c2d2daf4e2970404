"""Writes small personal folder files ([MS-PST]) of every layout and encoding, for tests and benchmarks."""

from __future__ import annotations

import struct
import zlib
from collections.abc import Iterable, Sequence
from pathlib import Path

from wexagraph.sources.pst.nodes import PERMUTED, cyclic

_ENCODE = bytes(PERMUTED.index(value) for value in range(256))
_FIXED = {0x02: 2, 0x03: 4, 0x0B: 1, 0x14: 8, 0x40: 8, 0x05: 8}
Properties = dict[int, tuple[int, bytes]]
"""Values by their number: type and bytes."""


def crc(data: bytes) -> int:
    return zlib.crc32(data, 0xFFFFFFFF) ^ 0xFFFFFFFF


class _Items:
    """The items of a heap, in its blocks as they come; the first two may be put again in the same length."""

    def __init__(self, writer: PstWriter) -> None:
        self.blocks: list[list[bytes]] = [[]]
        self._most, self._bits = writer.most, writer.index_bits
        self._room = self._most - 12 - 6

    def head(self, number: int) -> int:
        """Bytes before the first item of a block."""
        return 12 if not number else 66 if number % 128 == 8 else 2

    def add(self, item: bytes) -> int:
        """Put an item behind the others. Returns its number."""
        if len(item) + 2 + len(item) % 2 > self._room:
            self.blocks.append([])
            self._room = self._most - self.head(len(self.blocks) - 1) - 6
        self.blocks[-1].append(item)
        self._room -= len(item) + 2 + len(item) % 2
        return len(self.blocks[-1]) << 5 | len(self.blocks) - 1 << 5 + self._bits

    def put(self, place: int, item: bytes) -> None:
        """The content of one of the first two."""
        assert len(item) == len(self.blocks[0][place])
        self.blocks[0][place] = item


class PstWriter:
    """A file that grows by blocks; `layout` is ansi, unicode or large, `coding` 0, 1 or 2. `gap` bytes between blocks
    make a file large without filling a disk; the trees lie in `room` bytes before all blocks, or at the end."""

    def __init__(self, path: Path, layout: str = "unicode", coding: int = 0, gap: int = 0, room: int = 0) -> None:
        self.layout, self.coding, self.gap = layout, coding, gap
        self.ansi, self.large = layout == "ansi", layout == "large"
        self.key = "I" if self.ansi else "Q"
        self.most = {"ansi": 8180, "unicode": 8176, "large": 65512}[layout]
        self.index_bits = 14 if self.large else 11
        self.file = path.open("wb")
        self.at = 0x4600 if not self.large else 0x6000
        self.trees_at, self.room = self.at, room
        self.at += room
        self.next_bid = 4
        self.blocks: list[tuple[int, int, int, int]] = []
        self.nodes: list[tuple[int, int, int, int]] = []

    # nodes and blocks

    def block(self, data: bytes, internal: bool = False) -> int:
        bid = self.next_bid | (2 if internal else 0)
        self.next_bid += 4
        stored = data
        if not internal and self.coding:
            stored = data.translate(_ENCODE) if self.coding == 1 else cyclic(data, bid & 0xFFFFFFFF)
        size = len(stored)
        if self.large and size > 600:
            packed = zlib.compress(stored)
            stored = packed if len(packed) < size else stored
        trailer, align = {"ansi": (12, 64), "unicode": (16, 64), "large": (24, 512)}[self.layout]
        whole = -(-(len(stored) + trailer) // align) * align
        signature = (self.at ^ bid) & 0xFFFFFFFF
        signature = (signature >> 16 ^ signature) & 0xFFFF
        end = struct.pack("<HH", len(stored), signature)
        end += struct.pack("<II", bid, crc(stored)) if self.ansi else struct.pack("<IQ", crc(stored), bid)
        if self.large:
            end += struct.pack("<HHI", 0, size, 0)
        self.file.seek(self.at)
        self.file.write(stored + bytes(whole - len(stored) - trailer) + end)
        self.blocks.append((bid, self.at, len(stored), size))
        self.at += whole + self.gap
        return bid

    def data(self, data: bytes | Sequence[bytes]) -> int:
        """Data of any length; pieces are blocks of their own."""
        pieces = (
            [data[at : at + self.most] for at in range(0, len(data), self.most)] if isinstance(data, bytes) else data
        )
        if len(pieces) <= 1:
            return self.block(pieces[0] if pieces else b"")
        return self._lists([(self.block(piece), len(piece)) for piece in pieces], 1)

    def _lists(self, bids: list[tuple[int, int]], level: int) -> int:
        each = (self.most - 8) // struct.calcsize(self.key)
        lists = []
        for at in range(0, len(bids), each):
            its = bids[at : at + each]
            total = sum(size for _, size in its)
            head = struct.pack("<BBHI", 1, level, len(its), total)
            lists.append((self.block(head + b"".join(struct.pack(f"<{self.key}", bid) for bid, _ in its), True), total))
        return lists[0][0] if len(lists) == 1 else self._lists(lists, level + 1)

    def subnodes(self, nodes: dict[int, tuple[int, int]]) -> int:
        if not nodes:
            return 0
        head = 4 if self.ansi else 8
        each = (self.most - head) // struct.calcsize(self.key * 3)
        items = sorted(nodes.items())
        lists = []
        for at in range(0, len(items), each):
            its = items[at : at + each]
            start = struct.pack("<BBH", 2, 0, len(its)).ljust(head, b"\0")
            entries = b"".join(struct.pack(f"<{self.key * 3}", nid, *bids) for nid, bids in its)
            lists.append((its[0][0], self.block(start + entries, True)))
        if len(lists) == 1:
            return lists[0][1]
        start = struct.pack("<BBH", 2, 1, len(lists)).ljust(head, b"\0")
        return self.block(start + b"".join(struct.pack(f"<{self.key * 2}", *entry) for entry in lists), True)

    def node(self, nid: int, data: int, sub: int = 0, parent: int = 0) -> None:
        self.nodes.append((nid, data, sub, parent))

    # heaps, properties, tables

    def _heap(self, items: _Items, kind: int) -> int:
        """A heap of items; the first of them is its root."""
        pieces = []
        for number, its in enumerate(items.blocks):
            head = items.head(number)
            starts, body = [head], b"".join(its)
            for item in its:
                starts.append(starts[-1] + len(item))
            body += bytes(len(body) % 2)
            at = head + len(body)
            map_ = struct.pack("<HH", len(its), 0) + struct.pack(f"<{len(starts)}H", *starts)
            if not number:
                first = struct.pack("<HBBI4x", at, 0xEC, kind, 1 << 5)
            else:
                first = struct.pack("<H", at).ljust(head, b"\0")
            pieces.append(first + body + map_)
        return self.data(pieces)

    def properties(self, values: Properties, sub: dict[int, tuple[int, int]] | None = None) -> tuple[int, int]:
        """A list of properties: the blocks of its data and of its subnodes."""
        nodes = dict(sub or {})
        items, records = _Items(self), []
        items.add(bytes(8))
        leaf = items.add(bytes(8 * len(values)))
        for number, (kind, raw) in sorted(values.items()):
            if kind in _FIXED and _FIXED[kind] <= 4:
                value = int.from_bytes(raw[:4], "little")
            elif not raw:
                value = 0
            elif len(raw) > 3500:
                value = 0x8001F + len(nodes) * 0x20
                nodes[value] = (self.data(raw), 0)
            else:
                value = items.add(raw)
            records.append(struct.pack("<HHI", number, kind, value))
        items.put(0, struct.pack("<BBBBI", 0xB5, 2, 6, 0, leaf if values else 0))
        items.put(1, b"".join(records))
        return self._heap(items, 0xBC), self.subnodes(nodes)

    def table(self, columns: Sequence[tuple[int, int]], rows: Iterable[tuple[int, Properties]]) -> tuple[int, int]:
        """A table: rows by their IDs. Texts are short. Columns are (number, type)."""
        columns = [(0x67F2, 0x03), (0x67F3, 0x03), *columns]
        wide = sorted(columns, key=lambda c: -max(4, _FIXED.get(c[1], 4)) if _FIXED.get(c[1], 4) > 2 else 0)
        wide = [*columns[:2], *[c for c in wide if c not in columns[:2]]]
        at, places = 0, {}
        ends = [0, 0, 0]
        for number, kind in wide:
            width = _FIXED.get(kind, 4)
            places[number] = (kind, at, width, len(places))
            at += width
            for step, least in enumerate((4, 2, 1)):
                if width >= least:
                    ends[step] = at
        ends = [ends[0], max(ends[0], ends[1]), at]
        width = at + (len(places) + 7) // 8
        items = _Items(self)
        items.add(bytes(22 + 8 * len(places)))
        tree = items.add(bytes(8))
        matrix: list[bytes] = []
        block = b""
        index = []
        each = self.most // width
        for place, (id, values) in enumerate(rows):
            row = bytearray(width)
            values = {0x67F2: (3, struct.pack("<I", id)), 0x67F3: (3, struct.pack("<I", place)), **values}
            for number, (kind, raw) in values.items():
                _, offset, size, bit = places[number]
                if kind not in _FIXED:
                    raw = struct.pack("<I", items.add(raw)) if raw else bytes(4)
                row[offset : offset + size] = raw[:size].ljust(size, b"\0")
                row[at + bit // 8] |= 0x80 >> bit % 8
            index.append(struct.pack("<IH" if self.ansi else "<II", id, place))
            block += row
            if (place + 1) % each == 0:
                matrix.append(block.ljust(self.most, b"\0"))
                block = b""
        if block:
            matrix.append(block)
        index.sort(key=lambda record: int.from_bytes(record[:4], "little"))
        count = 3500 // len(index[0]) if index else 1
        leaves = [b"".join(index[at : at + count]) for at in range(0, len(index), count)]
        keys = [leaf[:4] for leaf in leaves]
        levels, above = 0, [items.add(leaf) for leaf in leaves]
        while len(above) > 1:
            levels += 1
            pairs = [key + struct.pack("<I", hid) for key, hid in zip(keys, above, strict=True)]
            branches = [b"".join(pairs[at : at + 400]) for at in range(0, len(pairs), 400)]
            keys = [branch[:4] for branch in branches]
            above = [items.add(branch) for branch in branches]
        items.put(1, struct.pack("<BBBBI", 0xB5, 4, 2 if self.ansi else 4, levels, above[0] if above else 0))
        nodes, rows_at = {}, 0
        if matrix:
            rows_at = 0x1F | 0x100000
            nodes[rows_at] = (self.data(matrix), 0)
        info = struct.pack("<BBHHHH", 0x7C, len(places), ends[0], ends[1], ends[2], width)
        info += struct.pack("<III", tree, rows_at, 0)
        for number, (kind, offset, size, bit) in sorted(places.items()):
            info += struct.pack("<HHHBB", kind, number, offset, size, bit)
        items.put(0, info)
        return self._heap(items, 0x7C), self.subnodes(nodes)

    # the end

    def _tree(self, entries: list[bytes], kind: int) -> tuple[int, int]:
        """The pages of a tree. Returns the number and the place of its root."""
        page = 4096 if self.large else 512
        counts = {"ansi": 496, "unicode": 488, "large": 4056}[self.layout]
        width = struct.calcsize(self.key)
        level = 0
        while True:
            size = len(entries[0]) if entries else 24
            each = counts // size
            above, places = [], []
            for at in range(0, max(1, len(entries)), each):
                its = entries[at : at + each]
                self.at = -(-self.at // page) * page
                bid, self.next_bid = self.next_bid | 2, self.next_bid + 4
                body = b"".join(its).ljust(counts, b"\0")
                counting = (len(its), each, size, level)
                body += struct.pack("<HHBB", *counting) if self.large else bytes(counting)
                body = body.ljust({"ansi": 500, "unicode": 496, "large": 4072}[self.layout], b"\0")
                signature = (self.at ^ bid) & 0xFFFFFFFF
                tail = struct.pack("<BBH", kind, kind, (signature >> 16 ^ signature) & 0xFFFF)
                tail += struct.pack("<II", bid, crc(body)) if self.ansi else struct.pack("<IQ", crc(body), bid)
                self.file.seek(self.at)
                self.file.write((body + tail).ljust(page, b"\0"))
                key = its[0][:width] if its else bytes(width)
                above.append(key + struct.pack(f"<{self.key * 2}", bid, self.at))
                places.append((bid, self.at))
                self.at += page
            if len(places) == 1:
                return places[0]
            entries, level = above, level + 1

    def finish(self) -> None:
        """Write the trees and the header."""
        key = self.key
        nodes = [
            struct.pack("<IIII", *node) if self.ansi else struct.pack("<QQQI4x", *node) for node in sorted(self.nodes)
        ]
        blocks = []
        for bid, at, stored, size in sorted(self.blocks):
            if self.large:
                blocks.append(struct.pack("<QQHHHH", bid, at, stored, size, 2, 0))
            else:
                blocks.append(struct.pack("<IIHH" if self.ansi else "<QQHH4x", bid, at, stored, 2))
        end = self.at
        if self.room:
            self.at = self.trees_at
        node_root, block_root = self._tree(nodes, 0x81), self._tree(blocks, 0x80)
        assert not self.room or self.at <= self.trees_at + self.room
        self.at = max(end, self.at)
        root = bytes(4)
        root += struct.pack(f"<{key * 4}", self.at, 0, 0, 0)
        root += struct.pack(f"<{key * 4}", *node_root, *block_root) + b"\2" + bytes(3)
        version = {"ansi": 15, "unicode": 23, "large": 36}[self.layout]
        head = struct.pack("<HHBBII", version, 19, 1, 1, 0, 0)
        if self.ansi:
            body = b"SM" + head + struct.pack("<III", self.next_bid, self.next_bid, 1) + bytes(128) + root
            body = body.ljust(204 - 8, b"\0") + b"\xff" * 256
            body += bytes([0x80, self.coding]) + bytes(2)
            head = b"!BDN" + struct.pack("<I", crc(body.ljust(471, b"\0")[:471])) + body
        else:
            body = b"SM" + head + struct.pack("<QQI", 0, self.next_bid, 1) + bytes(128) + bytes(8) + root
            body = body.ljust(256 - 8, b"\0") + b"\xff" * 256 + bytes([0x80, self.coding]) + bytes(2)
            body += struct.pack("<Q", self.next_bid)
            body = body.ljust(524 - 8, b"\0")
            head = b"!BDN" + struct.pack("<I", crc(body.ljust(471, b"\0")[:471])) + body
            head += struct.pack("<I", crc(head[8:524]))
        self.file.seek(0)
        self.file.write(head.ljust(0x400, b"\0"))
        self.file.truncate(self.at)
        self.file.close()
