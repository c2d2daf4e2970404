"""Compound files: a small file system in a file ([MS-CFB])."""

from __future__ import annotations

import struct
from array import array
from codecs import utf_16_le_decode
from collections.abc import Callable
from dataclasses import dataclass, field

from wexagraph.errors import MessageError

MAGIC = b"\xd0\xcf\x11\xe0\xa1\xb1\x1a\xe1"
_END, _FREE, _FAT_SECTOR, _NONE = 0xFFFFFFFE, 0xFFFFFFFF, 0xFFFFFFFD, 0xFFFFFFFF
_STORAGE, _STREAM, _ROOT = 1, 2, 5
_MOST_ENTRIES, _DEEPEST = 1_000_000, 100
_ENTRY = struct.Struct("<64sHBBIII16sI8s8sIQ")
_CUTOFF = 4096  # shorter streams lie in the mini stream
Reading = Callable[[int, int], bytes]
"""Gives so many bytes of a file (the second number) from an offset on; fewer at its end."""


@dataclass(slots=True)
class Storage:
    """A folder of a compound file: storages and streams by their names; a stream is its first sector and its size."""

    storages: dict[str, Storage] = field(default_factory=dict)
    streams: dict[str, tuple[int, int]] = field(default_factory=dict)


class CompoundFile:
    """A compound file, read by what is asked for. Raises MessageError where it is none, or broken at its root."""

    def __init__(self, read: Reading, size: int) -> None:
        self._read, self._size = read, size
        head = read(0, 512)
        if len(head) < 512 or not head.startswith(MAGIC):
            raise MessageError("it is no compound file, or has no whole header")
        shift, mini_shift = struct.unpack_from("<HH", head, 30)
        if shift not in (9, 12) or mini_shift != 6:
            raise MessageError(f"its header names sectors of 2^{shift} and 2^{mini_shift} bytes")
        self._sector, self._wide = 1 << shift, shift == 12
        first_directory, cutoff, first_mini, _, first_more, _ = struct.unpack_from("<I4xIIIII", head, 48)
        self._cutoff = min(cutoff, 1 << 20)
        self._most = size // self._sector + 1
        self._fat = self._allocation(head, first_more)
        self._mini_fat = _numbers(self._chain_bytes(first_mini)) if first_mini < _FAT_SECTOR else array("I")
        self.root = Storage()
        self.damage: list[str] = []
        self._mini: bytes | None = None
        self._mini_place = (_END, 0)
        self._walk(self._chain_bytes(first_directory))

    def _allocation(self, head: bytes, first_more: int) -> array[int]:
        """The allocation table: which sector follows which."""
        sectors = list(struct.unpack_from("<109I", head, 76))
        more, met = first_more, 0
        while more < _FAT_SECTOR and met < self._most:
            numbers = _numbers(self._sector_bytes(more))
            if not numbers:
                break
            sectors += numbers[:-1]
            more, met = numbers[-1], met + 1
        table = array("I")
        for sector in sectors:
            if sector >= _FAT_SECTOR or len(table) > self._most:
                break
            numbers = _numbers(self._sector_bytes(sector))
            numbers.extend([_FREE] * (self._sector // 4 - len(numbers)))
            table += numbers
        return table

    def _sector_bytes(self, sector: int, count: int = 1) -> bytes:
        return self._read((sector + 1) * self._sector, count * self._sector)

    def _chain_bytes(self, sector: int, most: int = 1 << 62) -> bytes:
        """The bytes of a chain of sectors, or the first `most` of them and a few more; neighbours are read at once."""
        fat, pieces, held, steps = self._fat, [], 0, 0
        while sector < _FAT_SECTOR and held < most and steps <= self._most:
            first, count = sector, 1
            while True:
                following = fat[sector] if sector < len(fat) else _END
                steps += 1
                if following != sector + 1 or held + count * self._sector >= most or steps > self._most:
                    break
                sector, count = following, count + 1
            pieces.append(self._sector_bytes(first, count))
            held += count * self._sector
            sector = following
        return b"".join(pieces)

    def _walk(self, directory: bytes) -> None:
        """The tree of storages, from the directory: siblings form a tree of their own, which may be broken."""
        entries = list(_ENTRY.iter_unpack(directory[: min(len(directory) // 128, _MOST_ENTRIES) * 128]))
        if not entries:
            raise MessageError("its directory can't be read")
        seen: set[int] = set()
        _, _, _, _, _, _, child, _, _, _, _, start, size = entries[0]
        self._mini_place = (start, size if self._wide else size & 0xFFFFFFFF)
        waiting = [(child, self.root)]
        while waiting:
            number, parent = waiting.pop()
            if number in seen or number == _NONE:
                continue
            if number >= len(entries) or not any(entries[number][0]):
                self.damage.append("entries of its directory are not there")
                continue
            seen.add(number)
            raw, length, kind, _, left, right, child, _, _, _, _, start, size = entries[number]
            if left != _NONE:
                waiting.append((left, parent))
            if right != _NONE:
                waiting.append((right, parent))
            name = utf_16_le_decode(raw[: max(0, min(length, 64) - 2)], "replace")[0]
            if kind == _STREAM:
                parent.streams.setdefault(name, (start, size if self._wide else size & 0xFFFFFFFF))
            elif kind == _STORAGE:
                waiting.append((child, parent.storages.setdefault(name, Storage())))

    def stream(self, place: tuple[int, int]) -> bytes:
        """The bytes of a stream; what there is of it where the file does not hold all, which `damage` tells."""
        start, size = place
        if size >= self._cutoff:
            data = self._chain_bytes(start, min(size, self._size))[:size]
        else:
            data = self._mini_stream(start, size) if size else b""
        if len(data) < size:
            self.damage.append(f"{len(data)} of {size} bytes of a stream are there")
        return data

    def _mini_stream(self, sector: int, size: int) -> bytes:
        if self._mini is None:
            start, length = self._mini_place
            self._mini = self._chain_bytes(start, min(length, self._size))
        pieces, wanted, fat = [], size, self._mini_fat
        while sector < len(fat) and wanted > 0:
            first, last = sector, sector
            while len(fat) > last and fat[last] == last + 1 and (last - first + 1) * 64 < wanted:
                last += 1
            pieces.append(self._mini[first * 64 : (last + 1) * 64])
            wanted -= (last - first + 1) * 64
            sector = fat[last] if last < len(fat) else _END
        return b"".join(pieces)[:size]


def _numbers(data: bytes) -> array[int]:
    numbers = array("I", data[: len(data) // 4 * 4])
    if struct.pack("=H", 1) != b"\1\0":  # pragma: no cover  a machine whose numbers begin with their high byte
        numbers.byteswap()
    return numbers


def in_memory(data: bytes) -> CompoundFile:
    """A compound file whose bytes are at hand. Raises MessageError."""
    return CompoundFile(lambda offset, size: data[offset : offset + size], len(data))


Tree = dict[str, "bytes | Tree"]
"""What is to lie in a compound file: streams and storages by their names."""


def tree_of(file: CompoundFile, storage: Storage, depth: int = 0) -> Tree:
    """A storage with all that is in it, but what lies below a hundred storages."""
    tree: Tree = {name: file.stream(place) for name, place in storage.streams.items()}
    for name, inner in storage.storages.items() if depth < _DEEPEST else ():
        tree[name] = tree_of(file, inner, depth + 1)
    return tree


def written(tree: Tree) -> bytes:
    """A compound file of version 3 that holds a tree; the same bytes for the same tree."""
    entries = [bytearray(_entry("Root Entry", _ROOT))]
    big, mini = bytearray(), bytearray()
    chains: list[tuple[int, int]] = []  # sectors of the file: first, count
    mini_chains: list[tuple[int, int]] = []

    def add(tree: Tree) -> int:
        """Entries for what is in a storage. Returns the one at the root of their tree."""
        numbers = []
        for name, content in sorted(tree.items(), key=lambda item: (len(item[0]), item[0].upper())):
            number = len(entries)
            numbers.append(number)
            if isinstance(content, dict):
                entries.append(bytearray(_entry(name, _STORAGE)))
                struct.pack_into("<I", entries[number], 76, add(content))
                continue
            start, size, sector = _END, len(content), 512 if len(content) >= _CUTOFF else 64
            if size:
                into, places = (big, chains) if sector == 512 else (mini, mini_chains)
                start = len(into) // sector
                into += content + bytes(-size % sector)
                places.append((start, len(into) // sector - start))
            entries.append(bytearray(_entry(name, _STREAM, start, size)))
        return _balanced(entries, numbers)

    struct.pack_into("<I", entries[0], 76, add(tree))
    mini_fat = _table(mini_chains, -(-len(mini) // 64 // 128) * 128)
    pieces = [bytes(big)]
    starts = []

    def put(data: bytes) -> tuple[int, int]:
        start = sum(map(len, pieces)) // 512
        pieces.append(data + bytes(-len(data) % 512))
        starts.append((start, len(pieces[-1]) // 512))
        return starts[-1]

    mini_start = put(bytes(mini))[0] if mini else _END
    mini_fat_start, mini_fat_count = put(mini_fat) if mini else (_END, 0)
    struct.pack_into("<IQ", entries[0], 116, mini_start, len(mini))
    entries += [bytearray(_entry("", 0))] * (-len(entries) % 4)
    directory_start = put(b"".join(entries))[0]
    used = sum(map(len, pieces)) // 512
    fats = more = 0
    while fats * 128 < used + fats + more:
        fats = -(-(used + fats + more) // 128)
        more = max(0, -(-(fats - 109) // 127))
    fat = bytearray(_table([*chains, *starts], fats * 128))
    for sector in range(used, used + fats):
        struct.pack_into("<I", fat, sector * 4, _FAT_SECTOR)
    for sector in range(used + fats, used + fats + more):
        struct.pack_into("<I", fat, sector * 4, 0xFFFFFFFC)
    numbers = [*range(used, used + fats)]
    tail = numbers[109:]
    blocks = b""
    for block in range(more):
        its = tail[block * 127 : block * 127 + 127]
        following = used + fats + block + 1 if block + 1 < more else _END
        blocks += struct.pack("<128I", *its, *[_FREE] * (127 - len(its)), following)
    head = struct.pack(
        "<8s16xHHHHH6x9I",
        *(MAGIC, 0x3E, 3, 0xFFFE, 9, 6, 0, fats, directory_start, 0, _CUTOFF),
        *(mini_fat_start, mini_fat_count, used + fats if more else _END, more),
    )
    head += struct.pack("<109I", *numbers[:109], *[_FREE] * (109 - len(numbers[:109])))
    return head + b"".join(pieces) + bytes(fat) + blocks


def _balanced(entries: list[bytearray], numbers: list[int]) -> int:
    """Make entries that are in order a tree of siblings without long branches. Returns its root."""
    if not numbers:
        return _NONE
    middle = len(numbers) // 2
    left, right = _balanced(entries, numbers[:middle]), _balanced(entries, numbers[middle + 1 :])
    struct.pack_into("<II", entries[numbers[middle]], 68, left, right)
    return numbers[middle]


def _entry(name: str, kind: int, start: int = 0, size: int = 0) -> bytes:
    raw = name.encode("utf-16-le", "surrogatepass")[:62]
    length = len(raw) + 2 if kind else 0
    return _ENTRY.pack(raw, length, kind, 1, _NONE, _NONE, _NONE, b"", 0, b"", b"", start, size)


def _table(chains: list[tuple[int, int]], length: int) -> bytes:
    """An allocation table in which each chain is a run of neighbours."""
    table = array("I", [_FREE]) * length
    for start, count in chains:
        for sector in range(start, start + count - 1):
            table[sector] = sector + 1
        table[start + count - 1] = _END
    if struct.pack("=H", 1) != b"\1\0":  # pragma: no cover
        table.byteswap()
    return table.tobytes()
