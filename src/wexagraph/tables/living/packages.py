"""A workbook as what it is, a package of parts (ISO/IEC 29500-2): what nobody has to change keeps its bytes."""

from __future__ import annotations

import io
import posixpath
import re
import zipfile
import zlib
from collections.abc import Iterator
from functools import cached_property
from pathlib import Path
from typing import Any, BinaryIO
from urllib.parse import unquote
from xml.parsers import expat
from xml.sax.saxutils import quoteattr

from wexagraph.errors import TargetError

_WORKBOOK, _STRINGS, _SHEET, _TABLE = "officeDocument", "sharedStrings", "worksheet", "table"
_NUMBERED = re.compile(r"rId(\d{1,9})", re.IGNORECASE)
_MOST_PART = 4_000_000_000
CONTENT_TYPES = "[Content_Types].xml"
RELATIONSHIPS = "http://schemas.openxmlformats.org/officeDocument/2006/relationships"


def elements(xml: bytes) -> Iterator[tuple[str, dict[str, str]]]:
    """The elements of a part in their order: local name, and attributes by their local names. Raises expat errors."""
    starts: list[tuple[str, dict[str, str]]] = []
    parser = new_parser()
    parser.StartElementHandler = lambda name, attributes: starts.append(
        (local(name), {local(key): value for key, value in attributes.items()})
    )
    parser.Parse(xml, True)
    yield from starts


def new_parser() -> Any:
    """A parser that knows no entities but those of XML itself."""
    parser = expat.ParserCreate()
    parser.buffer_text = True

    def refuse(*_: Any) -> None:
        raise expat.ExpatError("a document type has no place in a workbook")

    parser.StartDoctypeDeclHandler = refuse
    return parser


UNREADABLE = (
    *(KeyError, IndexError, ValueError, TypeError, AttributeError, RuntimeError, OverflowError, EOFError),
    *(expat.ExpatError, zipfile.BadZipFile, zlib.error),
)
"""What reading a workbook that somebody has damaged may raise."""


def local(name: str) -> str:
    """A name without its prefix."""
    return name.rpartition(":")[2]


class Package:
    """A package, open for reading. `parts` are those that will be written in place of the old ones, or beside them."""

    def __init__(self, path: Path) -> None:
        """Open a workbook. Raises TargetError where it is none."""
        self.path, self.parts, self._checked = path, dict[str, bytes](), set[str]()
        try:
            self._zip = zipfile.ZipFile(path)
            if any(item.file_size > _MOST_PART for item in self._zip.infolist()):
                raise zipfile.BadZipFile("a part is too large")
            self.workbook = self.related("", _WORKBOOK)[0]
            self.sheets()
        except (*UNREADABLE, OSError) as error:
            raise TargetError(
                f"{path} is no workbook that can be read ({error}). A workbook with a password can't be brought up to "
                "date. Nothing was written: choose another file, or put the version before back."
            ) from error

    def close(self) -> None:
        """Close the file."""
        self._zip.close()

    def read(self, part: str) -> bytes:
        """The bytes of a part as it will be written. Raises KeyError, ValueError."""
        if part in self.parts:
            return self.parts[part]
        self._check_encoding(part)
        return self._zip.read(part)

    def open(self, part: str) -> Any:
        """A part as a stream. Raises KeyError, ValueError."""
        if part in self.parts:
            return io.BytesIO(self.parts[part])
        self._check_encoding(part)
        return self._zip.open(part)

    def _check_encoding(self, part: str) -> None:
        """Raise ValueError for a part in UTF-16, into which nothing in UTF-8 can be put; each is asked once."""
        if part in self._checked:
            return
        with self._zip.open(part) as file:
            start = file.read(200)
        if start.startswith((b"\xff\xfe", b"\xfe\xff")) or b"\0" in start[:4]:
            raise ValueError(f"its part {part} is in UTF-16")
        self._checked.add(part)

    def __contains__(self, part: str) -> bool:
        return part in self.parts or part in self._zip.NameToInfo

    def relationships(self, part: str) -> Iterator[tuple[str, str, str]]:
        """ID, kind and target of what a part is related to; targets outside the package as they are."""
        name = relationships_of(part)
        if name not in self:
            return
        for tag, values in elements(self.read(name)):
            if tag == "Relationship":
                target = values.get("Target", "")
                if values.get("TargetMode") != "External":
                    target = posixpath.normpath(posixpath.join("/", posixpath.dirname(part), unquote(target)))[1:]
                yield values.get("Id", ""), values.get("Type", "").rpartition("/")[2], target

    def related(self, part: str, kind: str) -> list[str]:
        """The parts of a kind that a part is related to."""
        return [target for _, its_kind, target in self.relationships(part) if its_kind == kind]

    def sheets(self) -> list[tuple[str, str]]:
        """Name and part of each worksheet, in their order."""
        targets = {id: target for id, kind, target in self.relationships(self.workbook) if kind == _SHEET}
        listed = (values for tag, values in elements(self.read(self.workbook)) if tag == "sheet")
        return [(one.get("name", ""), targets[one["id"]]) for one in listed if one.get("id") in targets]

    def tables(self, sheet: str) -> list[str]:
        """The parts that make ranges of a sheet tables."""
        return self.related(sheet, _TABLE)

    @cached_property
    def counts_from_1904(self) -> bool:
        """Whether its days are counted from 1904."""
        parts = elements(self.read(self.workbook))
        pr = next((values for tag, values in parts if tag == "workbookPr"), {})
        return pr.get("date1904") in ("1", "true")

    def string_parts(self) -> list[str]:
        """The part with the shared strings, where there is one."""
        return self.related(self.workbook, _STRINGS)

    def strings(self) -> list[str]:
        """The shared strings; text that tells how others are spoken is left out."""
        strings: list[str] = []
        names = self.string_parts()
        if not names:
            return strings
        pieces: list[str] = []
        spoken, in_text = 0, False

        def start(name: str, _: Any) -> None:
            nonlocal spoken, in_text
            name = local(name)
            spoken += name == "rPh"
            in_text = name == "t" and not spoken

        def end(name: str) -> None:
            nonlocal spoken, in_text
            name = local(name)
            spoken -= name == "rPh"
            in_text = False
            if name == "si":
                strings.append("".join(pieces))
                pieces.clear()

        def text(data: str) -> None:
            if in_text:
                pieces.append(data)

        parser = new_parser()
        parser.StartElementHandler, parser.EndElementHandler, parser.CharacterDataHandler = start, end, text
        with self.open(names[0]) as file:
            parser.ParseFile(file)
        return strings

    def relate(self, part: str, kind: str, target: str, outside: bool = False) -> str:
        """Relate a part to something. Returns the ID of the relationship."""
        return self.relate_many(part, kind, [target], outside)[0]

    def relate_many(self, part: str, kind: str, targets: list[str], outside: bool = False) -> list[str]:
        """Relate a part to things of one kind. Returns the IDs of the relationships."""
        name = relationships_of(part)
        xml = self.read(name) if name in self else _NO_RELATIONSHIPS
        numbered = (_NUMBERED.fullmatch(id) for id, _, _ in self.relationships(part))
        used = [int(match[1]) for match in numbered if match]
        first = max(used, default=0) + 1
        ids = [f"rId{number}" for number in range(first, first + len(targets))]
        mode = ' TargetMode="External"' if outside else ""
        lines = "".join(
            f'<Relationship Id="{id}" Type="{RELATIONSHIPS}/{kind}" Target={quoteattr(target)}{mode}/>'
            for id, target in zip(ids, targets, strict=True)
        )
        self.parts[name] = before_end(xml, "Relationships", lines)
        return ids

    def save(self, file: BinaryIO, streams: dict[str, Any]) -> None:
        """Write the package. `streams` write some of the parts themselves, given a file."""
        with zipfile.ZipFile(file, "w", zipfile.ZIP_DEFLATED, compresslevel=6) as out:
            for item in self._zip.infolist():
                name = item.filename
                if name in streams or name in self.parts:
                    continue
                with self._zip.open(item) as old, out.open(_as_it_was(item), "w", force_zip64=True) as new:
                    while block := old.read(1 << 20):
                        new.write(block)
            for name, content in self.parts.items():
                out.writestr(self._item(name), content, zipfile.ZIP_DEFLATED)
            for name, write in streams.items():
                with out.open(self._item(name), "w", force_zip64=True) as new:
                    write(new)

    def _item(self, name: str) -> zipfile.ZipInfo:
        old = self._zip.NameToInfo.get(name)
        item = _as_it_was(old) if old else zipfile.ZipInfo(name, (1980, 1, 1, 0, 0, 0))
        item.compress_type = zipfile.ZIP_DEFLATED
        return item


_NO_RELATIONSHIPS = (
    b'<?xml version="1.0" encoding="UTF-8" standalone="yes"?>\n'
    b'<Relationships xmlns="http://schemas.openxmlformats.org/package/2006/relationships"></Relationships>'
)


def _as_it_was(item: zipfile.ZipInfo) -> zipfile.ZipInfo:
    new = zipfile.ZipInfo(item.filename, item.date_time)
    new.compress_type = item.compress_type if item.compress_type == zipfile.ZIP_STORED else zipfile.ZIP_DEFLATED
    new.external_attr = item.external_attr
    return new


def relationships_of(part: str) -> str:
    """The part that lists what another is related to."""
    folder, name = posixpath.split(part)
    return posixpath.join(folder, "_rels", f"{name}.rels")


def before_end(xml: bytes, tag: str, more: str) -> bytes:
    """Put something in at the end of an element. `more` has no prefixes, and gets that of the element."""
    ends = list(re.finditer(rb"</(?:([\w.-]+):)?" + tag.encode() + rb"\s*>", xml))
    if ends:
        match = ends[-1]
        return xml[: match.start()] + prefixed(more, match[1]) + xml[match.start() :]
    empty = re.search(rb"<(?:([\w.-]+):)?" + tag.encode() + rb"(\s[^<>]*?)?/>", xml)
    if empty is None:
        raise TargetError(f"the workbook has no <{tag}> where one belongs. Nothing was written.")
    name = (empty[1] + b":" if empty[1] else b"") + tag.encode()
    opened = b"<" + name + (empty[2] or b"") + b">"
    return xml[: empty.start()] + opened + prefixed(more, empty[1]) + b"</" + name + b">" + xml[empty.end() :]


def prefixed(xml: str, prefix: bytes | None) -> bytes:
    """XML without prefixes, with one before the name of each element."""
    text = xml.encode("utf-8")
    return re.sub(rb"<(/?)(?=[A-Za-z])", rb"<\1" + prefix + b":", text) if prefix else text
