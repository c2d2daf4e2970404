"""The log of a case: a line an event, each with the digest of the line before, so that a line taken out is noticed."""

from __future__ import annotations

import hashlib
import json
import os
from collections.abc import Iterable
from dataclasses import dataclass
from datetime import date, datetime
from pathlib import Path
from typing import Any, BinaryIO

from wexagraph.errors import TargetError
from wexagraph.files import open_regular
from wexagraph.naming.paths import CASE_LOG
from wexagraph.output.folder import OutputFolder

_FIRST = "0" * 64


@dataclass(frozen=True)
class Event:
    """What was done to a case: when, by whom, what, and what belongs to it."""

    when: str
    who: str
    what: str
    about: dict[str, Any]


def append(folder: Path, when: datetime, who: str, what: str, **about: Any) -> str:
    """Write a line. Returns its SHA-256. Raises TargetError."""
    path = folder / CASE_LOG
    try:
        with OutputFolder(folder) as root, _opened(root) as file:
            content = file.read()
            whole = content[: content.rfind(b"\n") + 1]  # half a line, which a kill has left, counts as not written
            lines = whole.splitlines()
            values = {"when": when.isoformat(timespec="seconds"), "who": who, "what": what, **about}
            values["before"] = _digest(lines[-1]) if lines else _FIRST
            line = json.dumps(values, ensure_ascii=False).encode("utf-8", "surrogateescape")
            file.seek(len(whole))
            file.truncate()
            file.write(line + b"\n")
            file.flush()
            os.fsync(file.fileno())
    except OSError as error:
        raise TargetError(f"{path} can't be written: {error.strerror or error}. Check the disk.") from error
    return _digest(line)


def _opened(root: OutputFolder) -> BinaryIO:
    """The log of a folder, for reading and writing; no link is followed."""
    try:
        return root.update(CASE_LOG)
    except FileNotFoundError:
        return root.create(CASE_LOG)


def _lines(path: Path) -> list[bytes]:
    """The whole lines of a log. Raises TargetError where it can't be read."""
    try:
        with open_regular(path) as file:
            content = file.read()
    except FileNotFoundError:
        return []
    except OSError as error:
        raise TargetError(f"{path} can't be read: {error.strerror or error}.") from error
    return content[: content.rfind(b"\n") + 1].splitlines()


def _digest(line: bytes) -> str:
    return hashlib.sha256(line).hexdigest()


@dataclass(frozen=True)
class Log:
    """The log of a case as it can be shown: its events, and why it is not whole ("" where it is)."""

    reference: str
    events: list[Event]
    problem: str


def whole(reference: str, path: Path, head: str = "") -> Log:
    """The log in a file, of a case or of one that was disposed of."""
    lines = _lines(path)
    return Log(reference, _events(lines), _broken(lines, head))


def read(folder: Path) -> list[Event]:
    """The events of a case, in their order; lines that can't be read are passed over (`broken` tells of them)."""
    return _events(_lines(folder / CASE_LOG))


def _events(lines: Iterable[bytes]) -> list[Event]:
    events = []
    for line in lines:
        try:
            values = json.loads(line)
            events.append(Event(values.pop("when"), values.pop("who"), values.pop("what"), values))
        except (ValueError, KeyError, AttributeError, TypeError):
            continue
    return events


def filings(folder: Path) -> list[Event]:
    """The events of filing alone, quickly."""
    return _events(line for line in _lines(folder / CASE_LOG) if b'"what": "filed"' in line)


def filed_since_closed(folder: Path) -> date | None:
    """The day on which something was filed last, where the case was closed before that or for an earlier day; None
    where it was not."""
    lines = _lines(folder / CASE_LOG)
    told = _events(line for line in lines if b'"what": "filed"' in line or b'"what": "closed"' in line)
    last: date | None = None
    for event in told:
        if event.what == "filed":
            last = datetime.fromisoformat(event.when).date()
        else:
            closed = date.fromisoformat(event.about["on"])
            last = last if last is not None and last > closed else None
    return last


def filed(folder: Path) -> set[str]:
    """The SHA-256 of each message that was filed."""
    return {digest for event in filings(folder) for digest in event.about.get("sha256", ())}


def broken(folder: Path, head: str = "") -> str:
    """Why a log is not whole; "" where it is. `head` is the digest of a line that must be in it."""
    return _broken(_lines(folder / CASE_LOG), head)


def _broken(lines: list[bytes], head: str) -> str:
    before, digests = _FIRST, set[str]()
    for number, line in enumerate(lines, 1):
        try:
            said = json.loads(line)["before"]
        except (ValueError, KeyError, TypeError):
            return f"line {number} can't be read"
        if said != before:
            return f"line {number} does not follow the line before: one was taken out, put in or changed"
        before = _digest(line)
        digests.add(before)
    return "" if not head or head in digests else "its last lines were taken away, or changed"
