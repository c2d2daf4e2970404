"""Archives: the original messages of a folder in one file, mbox (RFC 4155, mboxrd quoting) or ZIP."""

from __future__ import annotations

import re
import zipfile
import zlib
from collections.abc import Iterator
from datetime import UTC, datetime
from typing import Any, BinaryIO, NamedTuple, Protocol

from wexagraph.messages.headers import Header
from wexagraph.naming.paths import free_name

_FROM_LINE = re.compile(rb"^(>*From )", re.MULTILINE)
_QUOTED_LINE = re.compile(rb"^>(>*From )", re.MULTILINE)
_EPOCH = datetime(1980, 1, 1, tzinfo=UTC)


class Kept(NamedTuple):
    """A message of an archive that is there: its bytes as they can be told, what stands in front of them there (a line,
    or the member of a ZIP), and its bytes as that archive has them."""

    data: bytes
    head: Any
    packed: bytes


class ArchiveWriter(Protocol):
    """Takes messages one after the other, into a file open for writing."""

    def __init__(self, file: BinaryIO) -> None: ...

    def add(self, data: bytes, header: Header, moment: datetime | None, name: str) -> None: ...

    def keep(self, kept: Kept) -> None: ...

    def close(self) -> None: ...


class Unreadable(Exception):
    """An archive can't be read to its end."""


class MboxWriter:
    """Writes an mbox; lines that begin with From are quoted so that every message comes back as it was.

    A message without a line end at its end gets one: the format can't hold it otherwise.
    """

    def __init__(self, file: BinaryIO) -> None:
        self._file = file

    def add(self, data: bytes, header: Header, moment: datetime | None, name: str) -> None:
        address = re.sub(r"[^!-~]", "", header.sender.address)[:200] or "MAILER-DAEMON"
        date = (moment or _EPOCH).astimezone(UTC)
        line = f"From {address} {date:%a %b} {date.day:2d} {date:%H:%M:%S %Y}\n"
        if b"\nFrom " in data or data.startswith((b"From ", b">")) or b"\n>" in data:
            data = _FROM_LINE.sub(rb">\1", data)
        self._file.write(line.encode("ascii"))
        self._file.write(data)
        self._file.write(b"\n" if data.endswith(b"\n") else b"\n\n")

    def keep(self, kept: Kept) -> None:
        """Take over a message of another mbox, with the line in front of it."""
        self._file.write(kept.head)
        self._file.write(kept.packed)

    def close(self) -> None:
        """Nothing is held back."""


class ZipWriter:
    """Writes a ZIP of EML files under the names that the messages have in the export, folders and all."""

    def __init__(self, file: BinaryIO) -> None:
        self._zip = zipfile.ZipFile(file, "w", zipfile.ZIP_DEFLATED, compresslevel=6)
        self._names = set[str]()

    def add(self, data: bytes, header: Header, moment: datetime | None, name: str) -> None:
        date = (moment or _EPOCH).astimezone(UTC)
        date = date if 1980 <= date.year <= 2107 else _EPOCH
        info = zipfile.ZipInfo(free_name(name, ".eml", lambda one: one in self._names), date.timetuple()[:6])
        self._names.add(info.filename)
        info.compress_type = zipfile.ZIP_DEFLATED
        info.external_attr = 0o644 << 16
        self._zip.writestr(info, data)

    def keep(self, kept: Kept) -> None:
        """Take over a message of another ZIP, under its name there."""
        self._names.add(kept.head.filename)
        self.copy(kept.head, kept.packed)

    def copy(self, info: zipfile.ZipInfo, data: bytes) -> None:
        """Take over a member of another ZIP."""
        self._zip.writestr(info, data, zipfile.ZIP_DEFLATED)

    def close(self) -> None:
        self._zip.close()


def messages_of_mbox(file: BinaryIO) -> Iterator[Kept]:
    """The messages of an mbox that `MboxWriter` wrote, in their order."""
    head, lines = b"", list[bytes]()

    def kept() -> Kept:
        packed = b"".join(lines)
        data = _QUOTED_LINE.sub(rb"\1", packed[:-1] if packed.endswith(b"\n\n") else packed)
        return Kept(data, head, packed)

    before = b"\n"
    for line in file:
        if line.startswith(b"From ") and before in (b"\n", b"\r\n"):
            if head:
                yield kept()
            head, lines = line, []
        elif not head:
            raise Unreadable("it does not begin with a message")
        else:
            lines.append(line)
        before = line
    if head:
        yield kept()


def messages_of_zip(file: BinaryIO) -> Iterator[Kept]:
    """The messages of a ZIP, in their order. Raises Unreadable."""
    try:
        with zipfile.ZipFile(file) as archive:
            for info in archive.infolist():
                data = archive.read(info)
                yield Kept(data, info, data)
    except (zipfile.BadZipFile, zlib.error, RuntimeError, NotImplementedError, OSError, EOFError, ValueError) as error:
        raise Unreadable(str(error)) from error
