"""The file structure of a PDF as the first engine writes it, read and changed in place (ISO 32000-2, section 7.5)."""

from __future__ import annotations

import io
import re
import zlib
from collections.abc import Iterable, Iterator, Mapping, Sequence
from itertools import accumulate, count
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
    rb"<< /Type /ObjStm\s+/Length \d+(?: 0 R)?\s+/N (\d+)\s+/First (\d+)\s+/Filter /FlateDecode\s*>>\s*stream\n"
)


KIDS = re.compile(rb"/Kids \[([^\]]*)\]")
CONTENTS = re.compile(rb"/Contents (\d+) 0 R")
ANNOTATIONS = re.compile(rb"/Annots \[([^\]]*)\]")
NUMBER = re.compile(rb"(\d+) 0 R")
"""How the engine writes what pages hold and refer to."""
_MOST_IN_STREAM = 20_000
_SAYS_NOTHING, _SAYS_NO_WIDTH = b"> <>", b"> <200b>"


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


class _Held(NamedTuple):
    """An object stream (ISO 32000-2, section 7.5.7): where its own object begins and ends, its number as written, and
    the objects in it by their numbers, in their order."""

    begin: int
    end: int
    number: bytes
    objects: dict[int, bytes]


def _object_streams(pdf: bytes) -> Iterator[_Held]:
    for holder in _HOLDER.finditer(pdf):
        packed = zlib.decompressobj()
        try:
            content = packed.decompress(pdf[holder.end() :])
        except zlib.error:
            return
        first = int(holder[2])
        head = list(map(int, content[:first].split()))
        starts = [*head[1::2], len(content) - first]
        objects = {
            number: content[first + start : first + end]
            for number, start, end in zip(head[::2], starts, starts[1:], strict=False)
        }
        begin = pdf.rindex(b"\n", 0, pdf.rindex(b" 0 obj", 0, holder.start())) + 1
        end = pdf.index(b"endobj", len(pdf) - len(packed.unused_data)) + len(b"endobj")
        yield _Held(begin, end, pdf[begin : pdf.index(b" ", begin)], objects)


def objects_in_streams(pdf: bytes) -> dict[int, bytes]:
    """The objects in the object streams of a PDF, by their numbers; of one that stands twice, the last."""
    return {number: content for held in _object_streams(pdf) for number, content in held.objects.items()}


def stream_of(pdf: bytes, number: int) -> bytes:
    """The data of a stream that is packed by Deflate; nothing where it can't be unpacked."""
    head = re.search(rb"(?:\A|\n)%d 0 obj\s" % number, pdf)
    start = pdf.find(b"stream\n", head.end()) if head is not None else -1
    try:
        return zlib.decompressobj().decompress(pdf[start + 7 :]) if start >= 0 else b""
    except zlib.error:
        return b""


def with_objects(pdf: bytes, end: Trailer, objects: Mapping[int, bytes]) -> bytes:
    """The PDF with other content of objects that stand in object streams.

    Raises ValueError where its cross-reference stream can't be read.
    """
    return changed(pdf, end, _changes_of_objects(_object_streams(pdf), objects), [])


def _changes_of_objects(streams: Iterable[_Held], objects: Mapping[int, bytes]) -> list[Change]:
    """Object streams with other content of some of their objects."""
    changes = []
    for held in streams:
        if not objects.keys() & held.objects.keys():
            continue
        contents = [objects.get(number, content).rstrip() + b"\n" for number, content in held.objects.items()]
        starts = accumulate(map(len, contents[:-1]), initial=0)
        head = b"\n".join(b"%d %d" % pair for pair in zip(held.objects, starts, strict=True)) + b"\n"
        data = zlib.compress(head + b"".join(contents))
        about = b"<< /Type /ObjStm /Length %d /N %d /First %d /Filter /FlateDecode >>" % (
            len(data),
            len(contents),
            len(head),
        )
        stream = b"%s 0 obj\n%s\nstream\n%s\nendstream\nendobj" % (held.number, about, data)
        changes.append(Change(held.begin, held.end, stream))
    return changes


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


class EngineFile:
    """A PDF as the engine writes it, open to be read by the numbers of its objects.

    Raises ValueError where it is laid out otherwise.
    """

    def __init__(self, pdf: bytes) -> None:
        end = trailer(pdf)
        if end is None:
            raise ValueError("the trailer is not as the engine writes it")
        self.pdf, self.end = pdf, end
        self._held = list(_object_streams(pdf))
        self.objects = {number: content for held in self._held for number, content in held.objects.items()}
        self._rows = _rows(end)

    def begin(self, number: int) -> int:
        """Where an object that stands for itself begins."""
        kind, offset, _ = self._rows[number]
        if kind != 1:
            raise ValueError(f"object {number} stands in a stream of objects")
        return offset

    def object(self, number: int) -> bytes:
        """An object that is no stream, as it is written."""
        if number in self.objects:
            return self.objects[number]
        begin = self.begin(number)
        return self.pdf[self.pdf.index(b"obj", begin) + 3 : self.pdf.index(b"endobj", begin)]

    def head(self, number: int) -> bytes:
        """The dictionary of a stream, as it is written."""
        begin = self.begin(number)
        head = self.pdf[begin : self.pdf.index(b"stream", begin)]
        return head[head.index(b"<<") : head.rindex(b">>") + 2]

    def data(self, number: int) -> int:
        """Where the data of a stream begin."""
        return self.pdf.index(b"stream", self.begin(number)) + 7

    def content(self, number: int) -> bytes:
        """The data of a stream that is packed by Deflate, unpacked."""
        try:
            return zlib.decompressobj().decompress(self.pdf[self.data(number) :])
        except zlib.error as error:
            raise ValueError(f"the stream {number} can't be unpacked: {error}") from error

    def changes(self, objects: Mapping[int, bytes]) -> list[Change]:
        """Objects that are no streams, in other words."""
        changes = _changes_of_objects(self._held, objects)
        for number in objects.keys() - self.objects.keys():
            begin = self.begin(number)
            end = self.pdf.index(b"endobj", begin) + len(b"endobj")
            changes.append(Change(begin, end, b"%d 0 obj\n%s\nendobj" % (number, objects[number].strip())))
        return changes

    def replacing(self, number: int, about: bytes, content: bytes) -> Change:
        """A stream in the place of another: `about` is what its dictionary says but for its length and packing."""
        begin = self.begin(number)
        data = zlib.compress(content)
        head = b"%d 0 obj\n<< %s /Filter /FlateDecode /Length %d >>\nstream\n" % (number, about, len(data))
        end = self.pdf.index(b"endobj", self.pdf.index(b"endstream", self.data(number))) + len(b"endobj")
        return Change(begin, end, head + data + b"\nendstream\nendobj")


def changed(
    pdf: bytes, end: Trailer, changes: Sequence[Change], added: Sequence[bytes], packed: Sequence[bytes] = ()
) -> bytes:
    """The PDF with whole objects in other words, and with objects `added` under the numbers from `end.size` on; those
    that are `packed` into object streams have the numbers that `packed_from` gives.

    Raises ValueError where its cross-reference stream can't be read.
    """
    out, at = bytearray(), 0
    for change in sorted(changes):
        out += pdf[at : change.begin] + change.content
        at = change.end
    out += pdf[at : end.start]
    offsets = []
    streams = [packed[at : at + _MOST_IN_STREAM] for at in range(0, len(packed), _MOST_IN_STREAM)]
    first = packed_from(end, len(added), len(packed))
    added = [*added, *(object_stream(some, count(first + at * _MOST_IN_STREAM)) for at, some in enumerate(streams))]
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
    rows += [(2, first - len(streams) + at, index) for at, some in enumerate(streams) for index in range(len(some))]
    number = int(pdf[end.start : pdf.index(b" ", end.start)])
    return bytes(out + _table(number, end.root, end.info, start, rows))


def relaid(pdf: bytes) -> bytes:
    """A PDF of another engine, laid out as the first engine does it: each object as it was, under its number.

    A language that it tells is left out: the properties tell it. Glyphs that are to say nothing say a blank without
    width, since each has to say something (ISO 14289-1, section 7.21.7).
    """
    import pikepdf

    out, rows, held = bytearray(b"%PDF-1.7\n%\xe2\xe3\xcf\xd3\n"), {0: (0, 0, 65535)}, {}
    with pikepdf.open(io.BytesIO(pdf)) as document:
        if "/Lang" in document.Root:
            del document.Root.Lang
        for value in document.objects:
            if not isinstance(value, pikepdf.Dictionary | pikepdf.Stream):
                continue
            resources, mapping = value.get("/Resources"), value.get("/ToUnicode")
            if mapping is not None and _SAYS_NOTHING in (cmap := mapping.read_bytes()):
                cmap = cmap.replace(_SAYS_NOTHING, _SAYS_NO_WIDTH)
                mapping.write(zlib.compress(cmap), filter=pikepdf.Name.FlateDecode)
            for kind in ("/Font", "/XObject"):
                if resources is not None and kind in resources:
                    resources[kind] = pikepdf.Dictionary(dict(resources[kind].items()))
        for value in document.objects:
            number = value.objgen[0]
            if not isinstance(value, pikepdf.Stream):
                held[number] = value.unparse(resolved=True)
            elif value.get("/Type") not in ("/XRef", "/ObjStm"):
                data = value.read_raw_bytes()
                rows[number] = (1, len(out), 0)
                out += b"%d 0 obj\n%s\nstream\n" % (number, value.stream_dict.unparse())
                out += data + b"\nendstream\nendobj\n"
        root, info = document.trailer.Root.objgen[0], document.trailer.Info.objgen[0]
    size = max(*rows, *held) + 1
    for number in range(1, size):
        if number not in rows:
            held.setdefault(number, b"null")
    numbers = sorted(held)
    for at in range(0, len(numbers), _MOST_IN_STREAM):
        some = numbers[at : at + _MOST_IN_STREAM]
        rows[size] = (1, len(out), 0)
        rows |= {number: (2, size, index) for index, number in enumerate(some)}
        out += b"%d 0 obj\n%s\nendobj\n" % (size, object_stream([held[number] for number in some], some))
        size += 1
    start = len(out)
    rows[size] = (1, start, 0)
    return bytes(out + _table(size, root, info, start, [rows[number] for number in range(size + 1)]))


def _table(number: int, root: int, info: int, start: int, rows: Sequence[tuple[int, int, int]]) -> bytes:
    """A cross-reference stream under its number, and the end of the file."""
    data = zlib.compress(b"".join(_row(*row) for row in rows))
    about = b"<< /Type /XRef\n   /Length %d\n   /Filter /FlateDecode\n   /Size %d\n" % (len(data), len(rows))
    about += b"   /W [1 5 2]\n   /Root %d 0 R\n   /Info %d 0 R\n>>" % (root, info)
    end = b"\nendstream\nendobj\nstartxref\n%d\n%%%%EOF\n" % start
    return b"%d 0 obj\n%s\nstream\n" % (number, about) + data + end


def packed_from(end: Trailer, added: int, packed: int) -> int:
    """The number of the first object of so many that `changed` packs behind others that are added."""
    return end.size + added + -(-packed // _MOST_IN_STREAM)


def object_stream(objects: Sequence[bytes], numbers: Iterable[int]) -> bytes:
    """An object stream of objects under these numbers (ISO 32000-2, section 7.5.7)."""
    contents = [content + b"\n" for content in objects]
    starts = accumulate(map(len, contents[:-1]), initial=0)
    head = b" ".join(b"%d %d" % pair for pair in zip(numbers, starts, strict=False)) + b"\n"
    data = zlib.compress(head + b"".join(contents))
    about = b"<< /Type /ObjStm /Length %d /N %d /First %d /Filter /FlateDecode >>"
    return about % (len(data), len(objects), len(head)) + b"\nstream\n" + data + b"\nendstream"


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
