"""Archives: the original messages of a folder in one file, mbox (RFC 4155, mboxrd quoting) or ZIP."""

from __future__ import annotations

import re
import zipfile
from datetime import UTC, datetime
from typing import BinaryIO, Protocol

from wexagraph.messages import Header

_FROM_LINE = re.compile(rb"^(>*From )", re.MULTILINE)
_EPOCH = datetime(1980, 1, 1, tzinfo=UTC)


class ArchiveWriter(Protocol):
    """Takes messages one after the other, into a file open for writing."""

    def __init__(self, file: BinaryIO) -> None: ...

    def add(self, data: bytes, header: Header, moment: datetime | None, name: str) -> None: ...

    def close(self) -> None: ...


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

    def close(self) -> None:
        """Nothing is held back."""


class ZipWriter:
    """Writes a ZIP of EML files under the names that the messages have in the export, folders and all."""

    def __init__(self, file: BinaryIO) -> None:
        self._zip = zipfile.ZipFile(file, "w", zipfile.ZIP_DEFLATED, compresslevel=6)

    def add(self, data: bytes, header: Header, moment: datetime | None, name: str) -> None:
        date = (moment or _EPOCH).astimezone(UTC)
        date = date if 1980 <= date.year <= 2107 else _EPOCH
        info = zipfile.ZipInfo(f"{name}.eml", date.timetuple()[:6])
        info.compress_type = zipfile.ZIP_DEFLATED
        info.external_attr = 0o644 << 16
        self._zip.writestr(info, data)

    def copy(self, info: zipfile.ZipInfo, data: bytes) -> None:
        """Take over a member of another ZIP."""
        self._zip.writestr(info, data, zipfile.ZIP_DEFLATED)

    def close(self) -> None:
        self._zip.close()
