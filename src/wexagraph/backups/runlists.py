"""Run lists: what each folder held at a run, a JSON value a line (data/runs/*.jsonl).

The first line tells of the run. A line with "folder" begins a folder; with "base" it held what it held in that run, but
for the lines that follow: "message" lies there now, "gone" lies there no more. The last line, "end", has the sums.
"""

from __future__ import annotations

import json
from collections.abc import Iterator
from dataclasses import dataclass, field
from datetime import datetime
from pathlib import Path
from typing import Any

from wexagraph.errors import MessageError

FORM = 1
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
        found: dict[str, Any] = {"message": self.digest, "size": self.size, "place": self.place, "stamp": self.stamp,
                                 "flags": self.flags, "arrived": self.arrived}  # fmt: skip
        if where:
            found["member"] = where
        return found


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
    """A run list as read: the values of its first and last line, and its folders."""

    head: dict[str, Any]
    folders: list[FolderChange]
    end: dict[str, Any]

    @property
    def is_quiet(self) -> bool:
        """Whether the run found nothing changed."""
        return all(change.base and not change.present and not change.gone for change in self.folders)


def line(value: dict[str, Any]) -> bytes:
    """A line of a list."""
    return _ENCODER.encode(value).encode("utf-8", "surrogatepass") + b"\n"


def folder_line(change: FolderChange) -> bytes:
    found = {"folder": change.name, "stamp": change.stamp}
    return line(found | ({"base": change.base} if change.base else {}))


def head_line(run: str, source: str, zone: str = "UTC") -> bytes:
    return line({"run": run, "form": FORM, "source": source})


def values(path: Path) -> Iterator[dict[str, Any]]:
    """The lines of a list, as many as are whole. Raises MessageError where one is not."""
    try:
        with open(path, "rb") as file:
            for number, raw in enumerate(file, 1):
                try:
                    value = json.loads(raw.decode("utf-8", "surrogatepass"))
                except ValueError as error:
                    raise MessageError(f"{path}, line {number} can't be read") from error
                if not isinstance(value, dict):
                    raise MessageError(f"{path}, line {number} is no object")
                yield value
    except OSError as error:
        raise MessageError(f"{path} can't be read: {error.strerror or error}") from error


def read(path: Path, whole: bool = True) -> RunList:
    """Read a list. Raises MessageError where it is damaged, or not `whole` though it has to be."""
    found = RunList({}, [], {})
    try:
        for value in values(path):
            _take(found, value)
    except MessageError:
        if whole:
            raise
    except (KeyError, TypeError, ValueError, IndexError) as error:
        if whole:
            raise MessageError(f"{path} is no run list: {type(error).__name__}") from error
    if whole and not (found.head and found.end):
        raise MessageError(f"{path} is not whole")
    return found


def _take(found: RunList, value: dict[str, Any]) -> None:
    if "end" in value:
        found.end = value
    elif "message" in value:
        found.folders[-1].present.append(
            Holding(found.folders[-1].name, str(value["place"]), str(value["stamp"]), str(value["message"]),
                    int(value["size"]), tuple(map(str, value["flags"])), str(value["arrived"]))
        )  # fmt: skip
    elif "gone" in value:
        found.folders[-1].gone.append(str(value["gone"]))
    elif "folder" in value:
        found.folders.append(FolderChange(str(value["folder"]), str(value["stamp"]), str(value.get("base", ""))))
    elif "run" in value:
        found.head = value


def moment_text(moment: datetime | None) -> str:
    return moment.isoformat() if moment else ""
