"""Run lists: what each folder held at a run, a JSON value a line (data/runs/*.jsonl).

The first line tells of the run. A line with "folder" begins a folder; with "base" it held what it held in that run, but
for the lines that follow: "message" lies there now, "gone" lies there no more. The last line, "end", has the sums.
"""

from __future__ import annotations

import json
import os
import re
from collections.abc import Iterator
from dataclasses import dataclass, field
from datetime import datetime
from pathlib import Path
from typing import Any, BinaryIO

from wexagraph.backups.bag import is_run
from wexagraph.errors import MessageError
from wexagraph.files import open_regular, visible

FORM = 1
_MOST_LINE = 1 << 20
_DIGEST = re.compile(r"[0-9a-f]{64}")
_ENCODER = json.JSONEncoder(ensure_ascii=False, separators=(",", ":"))


@dataclass(frozen=True, slots=True)
class Holding:
    """A message in a folder: its place there, the source's stamp on it, its digest in hexadecimal, size, flags, and
    when it arrived (ISO 8601)."""

    folder: str
    place: str
    stamp: str
    digest: str
    size: int
    flags: tuple[str, ...] = ()
    arrived: str = ""

    def line(self, where: str = "") -> dict[str, Any]:
        """The value of its line; `where` is the member that holds its bytes, told where they are new."""
        values: dict[str, Any] = {
            "message": self.digest,
            "size": self.size,
            "place": self.place,
            "stamp": self.stamp,
            "flags": self.flags,
            "arrived": self.arrived,
        }
        if where:
            values["member"] = where
        return values


@dataclass(slots=True)
class FolderChange:
    """What a run says of one folder: what it is based on, and what changed.

    `stamp` is equal as long as nothing changed in the source's folder. Without `base`, `present` is all it held.
    """

    name: str
    stamp: str = ""
    base: str = ""
    present: list[Holding] = field(default_factory=list)
    gone: list[str] = field(default_factory=list)


@dataclass(slots=True)
class RunList:
    """A run list as read: the values of its first and last line, its folders, and the numbers of lines that can't be
    read (-1 for one that makes no sense)."""

    head: dict[str, Any]
    folders: list[FolderChange]
    end: dict[str, Any]
    unreadable: list[int] = field(default_factory=list)

    @property
    def is_whole(self) -> bool:
        """Whether every line of it could be read, the last one too."""
        return bool(self.head and self.end and not self.unreadable)

    @property
    def is_quiet(self) -> bool:
        """Whether the run found nothing changed."""
        return all(change.base and not change.present and not change.gone for change in self.folders)


def line(value: dict[str, Any]) -> bytes:
    """A line of a list."""
    return _ENCODER.encode(value).encode("utf-8", "surrogatepass") + b"\n"


def folder_line(change: FolderChange) -> bytes:
    values = {"folder": change.name, "stamp": change.stamp}
    return line(values | ({"base": change.base} if change.base else {}))


def head_line(run: str, source: str, moment: str = "") -> bytes:
    """The first line. `moment` is when the run was, as a name tells it, where its name had to be later."""
    told = {"moment": moment} if moment and moment != run else {}
    return line({"run": run, "form": FORM, "source": source} | told)


class RunListWriter:
    """A run list being written into an open file: its head, then folder after folder, then the sums."""

    def __init__(self, file: BinaryIO, run: str, source: str, moment: str = "") -> None:
        self._file = file
        self._folder, self._at = FolderChange(""), 0
        file.write(head_line(run, source, moment))

    def folder(self, change: FolderChange) -> None:
        """Begin a folder."""
        self._folder, self._at = change, self._file.tell()
        self._file.write(folder_line(change))

    def holding(self, holding: Holding, where: str = "") -> None:
        """A message lies in the folder now; `where` is the member that holds its bytes, where they are new."""
        self._file.write(line(holding.line(where)))

    def gone(self, place: str) -> None:
        """A message lies in the folder no more."""
        self._file.write(line({"gone": place}))

    def not_all_known(self) -> None:
        """The folder's line loses its stamp, so that the next run looks again; blanks keep the length of the line."""
        self._file.flush()
        before = len(folder_line(self._folder))
        self._folder.stamp = ""
        new = folder_line(self._folder)
        os.pwrite(self._file.fileno(), new[:-1] + b" " * (before - len(new)) + b"\n", self._at)

    def end(self, sums: dict[str, Any]) -> None:
        """The last line."""
        self._file.write(line(sums))
        self.flush()

    @property
    def size(self) -> int:
        """Bytes written so far."""
        return self._file.tell()

    def flush(self) -> None:
        """Bring what was written to the disk."""
        self._file.flush()
        os.fsync(self._file.fileno())


def values(path: Path, unreadable: list[int] | None = None) -> Iterator[dict[str, Any]]:
    """The lines of a list that can be read; the numbers of the others go to `unreadable`. Raises MessageError where the
    file can't be read."""
    try:
        with open_regular(path) as file:
            for number, raw in enumerate(iter(lambda: file.readline(_MOST_LINE), b""), 1):
                try:
                    value = json.loads(raw.decode("utf-8", "surrogatepass"))
                except (ValueError, RecursionError):
                    value = None
                if isinstance(value, dict):
                    yield value
                elif unreadable is not None:
                    unreadable.append(number)
    except OSError as error:
        raise MessageError(f"{path} can't be read: {error.strerror or error}") from error


def read(path: Path, whole: bool = True) -> RunList:
    """Read a list, as far as it can be read. Raises MessageError where its file can't be; with `whole`, also where it
    has no head."""
    run = RunList({}, [], {})
    for value in values(path, run.unreadable):
        try:
            _take(run, value)
        except (KeyError, TypeError, ValueError, IndexError, OverflowError):
            run.unreadable.append(-1)
    if whole and not run.head:
        raise MessageError(f"{path} is no run list")
    return run


def _take(run: RunList, value: dict[str, Any]) -> None:
    if "end" in value:
        sums = {name: _count(value.get(name, 0)) for name in ("added", "known", "gone", "changed", "failed", "bytes")}
        run.end = {"end": _text(value["end"])} | sums
    elif "message" in value:
        digest = value["message"]
        if not (isinstance(digest, str) and _DIGEST.fullmatch(digest)):
            raise ValueError("no digest")
        folder = run.folders[-1]
        flags = tuple(map(_text, value["flags"]))
        arrived = _moment(_text(value["arrived"]))
        place, stamp = _text(value["place"]), _text(value["stamp"])
        folder.present.append(Holding(folder.name, place, stamp, digest, _count(value["size"]), flags, arrived))
    elif "gone" in value:
        run.folders[-1].gone.append(_text(value["gone"]))
    elif "folder" in value:
        base = _text(value.get("base", ""))
        run.folders.append(FolderChange(_text(value["folder"]), _text(value["stamp"]), base))
    elif "run" in value:
        if not is_run(_text(value["run"])):
            raise TypeError("no run")
        run.head = {"run": _text(value["run"]), "source": _text(value.get("source", ""))}
        moment = _text(value.get("moment") or value["run"])
        run.head["moment"] = moment if is_run(moment) else run.head["run"]


def _text(value: Any) -> str:
    """A text that a database and a terminal can hold. Raises TypeError."""
    if not isinstance(value, str):
        raise TypeError("no text")
    return value if value.isprintable() else visible(value).encode("utf-8", "replace").decode("utf-8")


def _count(value: Any) -> int:
    if not isinstance(value, int) or not 0 <= value < 1 << 62:
        raise ValueError("no count")
    return value


def _moment(text: str) -> str:
    """An instant as it is written, or nothing where it is none."""
    try:
        datetime.fromisoformat(text)
    except ValueError:
        return ""
    return text


def moment_text(moment: datetime | None) -> str:
    return moment.isoformat() if moment else ""
