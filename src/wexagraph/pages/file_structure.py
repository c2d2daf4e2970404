"""The file structure of a PDF as the first engine writes it, read and changed in place (ISO 32000-2, section 7.5)."""

from __future__ import annotations

import re
import zlib
from collections.abc import Mapping, Sequence
from typing import NamedTuple

_TRAILER = re.compile(
    rb"<< /Type /XRef\s+/Length \d+\s+/Filter /FlateDecode\s+/Size (\d+)\s+/W \[([\d ]+)\]\s+"
    rb"/Root (\d+) 0 R\s+/Info (\d+) 0 R\s*>>\s*stream\n(.*?)startxref\s+(\d+)\s+%%EOF\s*\Z",
    re.DOTALL,
)
_RESOURCES = re.compile(rb"\n   /(?:Pattern|Shading|XObject) << ((?:/[!-.0-~]+ \d+ 0 R )+)>>")
"""References of one kind in a resource dictionary, on one line."""
_REFERENCE = re.compile(rb"/[!-.0-~]+ \d+ 0 R ")
_HOLDER = re.compile(
    rb"<< /Type /ObjStm\s+/Length \d+ 0 R\s+/N (\d+)\s+/First (\d+)\s+/Filter /FlateDecode\s*>>\s*stream\n"
)


class Trailer(NamedTuple):
    """How many objects there are, which ones are the catalogue and the information, and the cross-reference stream:
    the widths of its fields, its data as stored, and the offset of its object."""

    size: int
    root: int
    info: int
    widths: tuple[int, ...]
    table: bytes
    start: int


def trailer(pdf: bytes) -> Trailer | None:
    """The trailer of a PDF; None where it is not laid out as the engine does."""
    match = _TRAILER.search(pdf, max(0, len(pdf) - 200_000))
    if match is None:
        return None
    widths = tuple(map(int, match[2].split()))
    return Trailer(int(match[1]), int(match[3]), int(match[4]), widths, match[5], int(match[6]))


def with_distinct_names(pdf: bytes) -> bytes:
    """The PDF with each name once in a dictionary of resources (ISO 32000-2, section 7.3.7).

    The engine names a picture as often as a page draws it, and readers differ in what they make of that. Blanks take
    the place of what is said again, so that nothing moves.
    """

    def once(match: re.Match[bytes]) -> bytes:
        references = _REFERENCE.findall(match[1])
        distinct = b"".join(dict.fromkeys(references))
        if len(distinct) == len(match[1]):
            return match[0]
        begin, end = (at - match.start() for at in match.span(1))
        return match[0][:begin] + distinct.ljust(end - begin) + match[0][end:]

    return _RESOURCES.sub(once, pdf)


def object_in_stream(pdf: bytes, number: int) -> bytes | None:
    """An object out of the object streams of a PDF (ISO 32000-2, section 7.5.7), last stream first."""
    for holder in reversed(list(_HOLDER.finditer(pdf))):
        try:
            content = zlib.decompressobj().decompress(pdf[holder.end() :])
        except zlib.error:
            return None
        first = int(holder[2])
        head = list(map(int, content[:first].split()))
        starts = dict(zip(head[::2], head[1::2], strict=False))
        if number in starts:
            end = min((at for at in starts.values() if at > starts[number]), default=len(content) - first)
            return content[first + starts[number] : first + end]
    return None


def appended(pdf: bytes, end: Trailer, objects: Mapping[int, bytes]) -> bytes:
    """The PDF with these objects behind it, new ones or for others of their numbers: an incremental update (ISO
    32000-2, section 7.5.6)."""
    out = bytearray(pdf if pdf.endswith(b"\n") else pdf + b"\n")
    offsets = {}
    for number, content in objects.items():
        offsets[number] = len(out)
        out += b"%d 0 obj\n%s\nendobj\n" % (number, content)
    last = max(end.size, *(number + 1 for number in objects))
    offsets[last] = start = len(out)
    table = b"".join(_row(1, offset, 0) for _, offset in sorted(offsets.items()))
    index = b" ".join(b"%d 1" % number for number in sorted(offsets))
    out += b"%d 0 obj\n<< /Type /XRef /Size %d /W [1 5 2] /Index [%s] " % (last, last + 1, index)
    out += b"/Root %d 0 R /Info %d 0 R /Prev %d " % (end.root, end.info, end.start)
    out += b"/Length %d >>\nstream\n" % len(table) + table + b"\nendstream\nendobj\nstartxref\n%d\n%%%%EOF\n" % start
    return bytes(out)


class Change(NamedTuple):
    """Bytes that come in the place of others: where those begin and end."""

    begin: int
    end: int
    content: bytes


def changed(pdf: bytes, end: Trailer, changes: Sequence[Change], added: Sequence[bytes]) -> bytes:
    """The PDF with whole objects in other words, and with objects `added` under the numbers from `end.size` on.

    Raises ValueError where its cross-reference stream can't be read.
    """
    out, at = bytearray(), 0
    for change in sorted(changes):
        out += pdf[at : change.begin] + change.content
        at = change.end
    out += pdf[at : end.start]
    offsets = []
    for number, content in enumerate(added, end.size):
        offsets.append(len(out))
        out += b"%d 0 obj\n%s\nendobj\n" % (number, content)
    start = len(out)

    def moved(offset: int) -> int:
        if offset == end.start:
            return start
        return offset + sum(len(each.content) - (each.end - each.begin) for each in changes if each.begin < offset)

    rows = [(kind, moved(first) if kind == 1 else first, second) for kind, first, second in _rows(end)]
    rows += [(1, offset, 0) for offset in offsets]
    table = zlib.compress(b"".join(_row(*row) for row in rows))
    out += pdf[end.start : pdf.index(b"<<", end.start)]
    out += b"<< /Type /XRef\n   /Length %d\n   /Filter /FlateDecode\n   /Size %d\n" % (len(table), len(rows))
    out += b"   /W [1 5 2]\n   /Root %d 0 R\n   /Info %d 0 R\n>>\nstream\n" % (end.root, end.info)
    out += table + b"\nendstream\nendobj\nstartxref\n%d\n%%%%EOF\n" % start
    return bytes(out)


def _row(kind: int, first: int, second: int) -> bytes:
    """A row with fields of 1, 5 and 2 bytes."""
    return bytes([kind]) + first.to_bytes(5, "big") + second.to_bytes(2, "big")


def _rows(end: Trailer) -> list[tuple[int, int, int]]:
    """The rows of a cross-reference stream: kind and two fields of each object (ISO 32000-2, table 18)."""
    try:
        data = zlib.decompressobj().decompress(end.table)
    except zlib.error as error:
        raise ValueError(f"the cross-reference stream can't be read: {error}") from error
    first, second, third = end.widths
    length = first + second + third
    if not first or len(data) != end.size * length:
        raise ValueError("the cross-reference stream has other rows than objects")
    rows = (data[at : at + length] for at in range(0, len(data), length))
    return [
        (
            int.from_bytes(row[:first], "big"),
            int.from_bytes(row[first : first + second], "big"),
            int.from_bytes(row[first + second :], "big"),
        )
        for row in rows
    ]
