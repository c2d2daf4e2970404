"""Personal folder files, lowest layer: pages, nodes and blocks, found by two trees ([MS-PST] section 2.2)."""

from __future__ import annotations

import os
import struct
import zlib
from bisect import bisect_right
from collections.abc import Iterator
from dataclasses import dataclass
from functools import lru_cache
from itertools import pairwise
from pathlib import Path
from typing import NamedTuple

from wexagraph.errors import MessageError

_FIRST = bytes.fromhex(
    "41361362a8216ebbf416cc047f64e85d1ef2cb2a74c55e35d295479e962d9a884c7d843fdbac31b6485ff6c4d8398be7"
    "233b388ec8c1df25b120a546604e9cfbaad35651457c550007c92b9d859b09a08fadb30f63ab894bd7a7155a716642bf"
    "264a6b98faea7753b270052cfd593a867ece06eb827857c78d43afb41cd45bcde2e9274fc3087280cfb0eff5286dbe30"
    "4d3492d50e3c2232e5e4f99fc2d10a8112e1ee918376e397e6618a1779a4b7dc907a5c8c02a6ca69de501a1193b95287"
    "58fced1d37491b6ae0293399bd6cd994f340546ff0c673b8d63e6518441fdd6710f10c19ecae03a1147ba90bfff8a3c0"
    "a201f72ebc2468750dfeba2fb5d0da3d"
)
"""The first table of the section; the third is its inverse."""
_SECOND = bytes.fromhex(
    "14530f56b3c87a9ceb65481716159f02cc547c83000d0c0ba262a876dbd9edc7c5a4dcac8574d6d0a79bae9a967166c3"
    "6399b8dd73928e847da55ed15d93b1575150808952944f4e0a6bbc8d7f6e47464140440111cb033ff7f4e1a98f3c3af9"
    "fbf0193082092ec99da08649ee6f4d6dc42d813425871b88aafc06a11238fd4c4272641337246a757743ffe6b44b365c"
    "e4d8353d45b92cecb7312b290768a30e697b189e2139be281a5b78f523ca2ab0af3efe048ce7e5983295d3f64ae8a6ea"
    "e9f3d52f7020f21f0567ad5510cecde3273bdabad7c226d4911dd21c2233f8faf15aefcf90b68bb5bdc0bf08971e6ce2"
    "61e0c6c159abbb58de5fdf60797eb28a"
)
"""The second table, its own inverse."""
PERMUTED = bytes(_FIRST.index(value) for value in range(256))
"""Reads what was permuted: `data.translate(PERMUTED)`."""
_ADDED = [bytes((value + number) % 256 for value in range(256)) for number in range(256)]
MAGIC = b"!BDN"
_NODES, _BLOCKS = 0x81, 0x80
_PERMUTE, _CYCLIC = 1, 2
_MOST_LEVELS = 12
_MOST_BLOCKS = 4_000_000
_MOST_BYTES = 2**31 - 1


@dataclass(frozen=True)
class Layout:
    """Where things stand in one of the three layouts. Sizes and offsets are in bytes.

    `key` is the width of IDs and offsets. A page has its `entries` before `counts`, and a trailer with its kind; a
    block has a trailer of its own and fills whole units of `align`.
    """

    name: str
    key: str
    page: int
    counts: int
    counting: str
    trailer: int
    page_crc: int
    page_bid: int
    block_trailer: int
    align: int
    crc: int
    most: int
    roots: tuple[int, int]
    coding: int
    index_bits: int

    @property
    def width(self) -> int:
        return struct.calcsize(f"<{self.key}")


ANSI = Layout("ANSI", "I", 512, 496, "<BBBB", 500, 8, 4, 12, 64, 8, 8180, (188, 196), 461, 11)
UNICODE = Layout("Unicode", "Q", 512, 488, "<BBBB", 496, 4, 8, 16, 64, 4, 8176, (224, 240), 513, 11)
LARGE = Layout("Unicode, 4K pages", "Q", 4096, 4056, "<HHBB", 4072, 4, 8, 24, 512, 4, 65512, (224, 240), 513, 14)
"""The layouts, by what their files are called."""


class Node(NamedTuple):
    """A node: its number, the blocks of its data and of its subnodes, and the node above."""

    nid: int
    data: int
    sub: int
    parent: int


class Block(NamedTuple):
    """Where a block lies: its offset, its bytes there and as they are meant."""

    offset: int
    stored: int
    size: int


class _Page(NamedTuple):
    level: int
    keys: list[int]
    entries: list[bytes]


def crc(data: bytes) -> int:
    """The checksum of [MS-PST] section 5.3."""
    return zlib.crc32(data, 0xFFFFFFFF) ^ 0xFFFFFFFF


def layout_of(head: bytes) -> Layout:
    """The layout that a file's header names. Raises MessageError where it is none that is known."""
    if len(head) < 564 or not head.startswith(MAGIC):
        raise MessageError("it is no personal folder file, or has no whole header")
    version = int.from_bytes(head[10:12], "little")
    if version in (14, 15):
        return ANSI
    if version < 23:
        raise MessageError(f"it is a personal folder file of version {version}, which is not known")
    return LARGE if version >= 36 else UNICODE


class NodeFile:
    """A personal folder file: nodes by their numbers, and the bytes of their blocks.

    `damage` grows with each page or block whose checksum is wrong or that is not there, once each; `met` with those
    blocks of them that were asked for, each time. Opening raises MessageError where nothing can be read, OSError where
    the file can't.
    """

    def __init__(self, path: Path) -> None:
        self._file = os.open(path, os.O_RDONLY | getattr(os, "O_BINARY", 0))
        try:
            self.size = os.fstat(self._file).st_size
            head = self._at(0, 564)
            self.layout = layout = layout_of(head)
            self.damage: dict[str, None] = {}
            self.met: dict[str, None] = {}
            self._wrong: dict[int, str] = {}
            self.coding = head[layout.coding]
            if self.coding not in (0, _PERMUTE, _CYCLIC):
                raise MessageError(f"it is encrypted in a way ({self.coding}) that only its own computer can undo")
            key = struct.Struct(f"<{layout.key}")
            self._roots = [key.unpack_from(head, at)[0] for at in layout.roots]
            self.declared = key.unpack_from(head, 168 if layout is ANSI else 184)[0]
            wide = layout.width
            self._branch = struct.Struct(f"<{layout.key * 3}")
            self._node = struct.Struct("<IIII" if layout is ANSI else "<QQQI4x")
            self._block = struct.Struct({ANSI: "<IIHH", UNICODE: "<QQHH4x", LARGE: "<QQHHHH"}[layout])
            self._sizes = {_NODES: self._node.size, _BLOCKS: self._block.size}
            self._internal_head = 4 if wide == 4 else 8
        except BaseException:
            os.close(self._file)
            raise
        self._page = lru_cache(maxsize=4096)(self._read_page)
        self._decoded = lru_cache(maxsize=32)(self._read_block)
        self._rescued: dict[int, dict[int, bytes]] | None = None
        if self.declared > self.size:
            self.damage[f"the file ends {self.declared - self.size} bytes before its end"] = None

    def close(self) -> None:
        """Give back the file."""
        os.close(self._file)

    def fileno(self) -> int:
        """The descriptor of the file."""
        return self._file

    def _at(self, offset: int, count: int) -> bytes:
        if offset < 0 or offset > 2**62 or count > _MOST_BYTES:
            return b""
        if hasattr(os, "pread"):
            return os.pread(self._file, count, offset)
        os.lseek(self._file, offset, os.SEEK_SET)  # pragma: no cover  Windows
        return os.read(self._file, count)

    def _damaged(self, what: str) -> None:
        if len(self.damage) < 1000:
            self.damage[what] = None

    def _read_page(self, kind: int, offset: int) -> _Page | None:
        """A page of one of the trees; None where there is none at that place."""
        layout = self.layout
        page = self._at(offset, layout.page)
        if len(page) < layout.page or page[layout.trailer] != kind or page[layout.trailer + 1] != kind:
            self._damaged(f"a page of its index at {offset} can't be read")
            return None
        if crc(page[: layout.trailer]) != int.from_bytes(_u32(page, layout.trailer + layout.page_crc), "little"):
            self._damaged(f"a page of its index at {offset} has a wrong checksum")
        return self._parsed(kind, page)

    def _parsed(self, kind: int, page: bytes) -> _Page:
        layout = self.layout
        count, _, size, level = struct.unpack_from(layout.counting, page, layout.counts)
        least = self._branch.size if level else self._sizes[kind]
        size = max(size, least)
        entries = [page[at : at + size] for at in range(0, min(count * size, layout.counts - size + 1), size)]
        mask = 0xFFFFFFFF if kind == _NODES else ~1
        keys = [int.from_bytes(entry[: layout.width], "little") & mask for entry in entries]
        if any(later < earlier for earlier, later in pairwise(keys)):
            self._damaged("a page of its index is not in order")
            pairs = sorted(zip(keys, entries, strict=True))
            keys, entries = [key for key, _ in pairs], [entry for _, entry in pairs]
        return _Page(level, keys, entries)

    def _find(self, kind: int, key: int) -> bytes | None:
        """The entry of a key in one of the trees."""
        offset = self._roots[kind == _BLOCKS]
        for _ in range(_MOST_LEVELS):
            page = self._page(kind, offset)
            if page is None:
                break
            at = bisect_right(page.keys, key) - 1
            if at < 0:
                return None
            if not page.level:
                return page.entries[at] if page.keys[at] == key else None
            offset = self._branch.unpack_from(page.entries[at])[2]
        return self._rescue()[kind].get(key)

    def _walk(self, kind: int) -> Iterator[bytes]:
        """All entries of a tree that can be read, in order."""
        waiting, seen = [self._roots[kind == _BLOCKS]], set[int]()
        lost = False
        while waiting:
            offset = waiting.pop()
            if offset in seen:
                continue
            seen.add(offset)
            page = self._page(kind, offset)
            if page is None:
                lost = True
            elif page.level:
                waiting += [self._branch.unpack_from(entry)[2] for entry in reversed(page.entries)]
            else:
                yield from page.entries
        if lost:
            yield from self._rescue()[kind].values()

    def _rescue(self) -> dict[int, dict[int, bytes]]:
        """Entries of all pages of the trees that lie anywhere in the file: for files whose trees are broken.

        Where several pages tell of one key, the one that was written last counts.
        """
        if self._rescued is None:
            layout, newest = self.layout, dict[tuple[int, int], int]()
            self._rescued = {_NODES: {}, _BLOCKS: {}}
            for offset in range(layout.page - layout.page % 512, self.size - layout.page + 1, layout.page):
                kind = self._at(offset + layout.trailer, 2)
                if kind not in (b"\x80\x80", b"\x81\x81"):
                    continue
                page = self._at(offset, layout.page)
                stated = int.from_bytes(_u32(page, layout.trailer + layout.page_crc), "little")
                if crc(page[: layout.trailer]) != stated:
                    continue
                parsed = self._parsed(kind[0], page)
                at = layout.trailer + layout.page_bid
                written = int.from_bytes(page[at : at + layout.width], "little")
                for key, entry in zip(parsed.keys, parsed.entries, strict=True) if not parsed.level else ():
                    if newest.get((kind[0], key), -1) < written:
                        newest[kind[0], key] = written
                        self._rescued[kind[0]][key] = entry
        return self._rescued

    def node(self, nid: int) -> Node | None:
        """A node by its number."""
        entry = self._find(_NODES, nid)
        return self._as_node(entry) if entry is not None else None

    def _as_node(self, entry: bytes) -> Node:
        nid, data, sub, parent = self._node.unpack_from(entry)
        return Node(nid & 0xFFFFFFFF, data, sub, parent)

    def nodes(self) -> Iterator[Node]:
        """All nodes, by their numbers."""
        return map(self._as_node, self._walk(_NODES))

    def _place(self, bid: int) -> Block | None:
        entry = self._find(_BLOCKS, bid & ~1)
        if entry is None:
            return None
        fields = self._block.unpack_from(entry)
        return Block(fields[1], fields[2], fields[3] if self.layout is LARGE else fields[2])

    def _read_block(self, bid: int) -> bytes:
        """The bytes of a block as they are meant. Raises MessageError."""
        place, layout = self._place(bid), self.layout
        if place is None:
            raise MessageError(f"block {bid:x} is not in the file's index")
        whole = -(-(place.stored + layout.block_trailer) // layout.align) * layout.align
        data = self._at(place.offset, whole)
        if len(data) < place.stored:
            self._damaged(f"block {bid:x} lies behind the end of the file")
            raise MessageError(f"block {bid:x} lies behind the end of the file")
        at = whole - layout.block_trailer + layout.crc
        content = data[: place.stored]
        if len(data) == whole and crc(content) != int.from_bytes(_u32(data, at), "little"):
            self._wrong[bid] = f"block {bid:x} has a wrong checksum"
            self._damaged(self._wrong[bid])
        if layout is LARGE and place.size != place.stored:
            try:
                content = zlib.decompressobj().decompress(content, place.size)
            except zlib.error as error:
                raise MessageError(f"block {bid:x} can't be unpacked: {error}") from error
        if not bid & 2 and self.coding:
            return content.translate(PERMUTED) if self.coding == _PERMUTE else cyclic(content, bid & 0xFFFFFFFF)
        return content

    def blocks(self, bid: int) -> list[int]:
        """The data blocks below a block, itself where it is one. Raises MessageError."""
        if not bid:
            return []
        if not bid & 2:
            return [bid]
        bids: list[int] = []
        waiting = [(bid, 0)]
        while waiting:
            at, depth = waiting.pop()
            if not at & 2:
                bids.append(at)
                if len(bids) > _MOST_BLOCKS:
                    raise MessageError("a node names more blocks than can be")
                continue
            data = self._decoded(at)
            if len(data) < 8 or data[0] != 1 or depth > 1:
                raise MessageError(f"block {at:x} is no list of blocks")
            count, width = int.from_bytes(data[2:4], "little"), self.layout.width
            numbers = struct.unpack_from(f"<{min(count, (len(data) - 8) // width)}{self.layout.key}", data, 8)
            waiting += [(number, depth + 1) for number in reversed(numbers)]
        return bids

    def block(self, bid: int) -> bytes:
        """The bytes of a data block. Raises MessageError."""
        content = self._decoded(bid)
        if bid in self._wrong:
            self.met[self._wrong[bid]] = None
        return content

    def data(self, bid: int) -> bytes:
        """All data below a block. Raises MessageError."""
        bids = self.blocks(bid)
        return self.block(bids[0]) if len(bids) == 1 else b"".join(map(self.block, bids))

    def subnodes(self, bid: int) -> dict[int, Node]:
        """The nodes in the tree of a node's subnodes. Raises MessageError."""
        nodes: dict[int, Node] = {}
        waiting, seen = [bid] if bid else [], set[int]()
        pair, triple = struct.Struct(f"<{self.layout.key * 2}"), struct.Struct(f"<{self.layout.key * 3}")
        while waiting:
            at = waiting.pop()
            if at in seen:
                continue
            seen.add(at)
            data = self._decoded(at)
            if len(data) < 4 or data[0] != 2:
                raise MessageError(f"block {at:x} is no list of nodes")
            level, count, start = data[1], int.from_bytes(data[2:4], "little"), self._internal_head
            entry = pair if level else triple
            last = min(start + count * entry.size, len(data) - entry.size + 1)
            for place in range(start, last, entry.size):
                fields = entry.unpack_from(data, place)
                if level:
                    waiting.append(fields[1])
                else:
                    nid = fields[0] & 0xFFFFFFFF
                    nodes[nid] = Node(nid, fields[1], fields[2], 0)
        return nodes


def _u32(data: bytes, at: int) -> bytes:
    return data[at : at + 4]


@lru_cache(maxsize=256)
def _middle(high: int) -> bytes:
    """What happens to each byte between the two steps that depend on its place."""
    return bytes(PERMUTED[(_SECOND[(_FIRST[value] + high) % 256] - high) % 256] for value in range(256))


def cyclic(data: bytes, key: int) -> bytes:
    """Data encoded with a key, read; or encoded, since it is its own inverse."""
    counter = (key ^ key >> 16) & 0xFFFF
    low = counter & 255
    shifted = bytearray(len(data))
    places = range(min(256, len(data)))
    for place in places:
        shifted[place::256] = data[place::256].translate(_ADDED[(low + place) & 255])
    at, high = 0, counter >> 8
    while at < len(data):
        end = at + 256 - (low + at) % 256
        shifted[at:end] = shifted[at:end].translate(_middle(high & 255))
        at, high = end, high + 1
    out = bytearray(len(data))
    for place in places:
        out[place::256] = shifted[place::256].translate(_ADDED[-(low + place) & 255])
    return bytes(out)
