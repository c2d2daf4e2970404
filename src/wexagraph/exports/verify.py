"""Proving an export folder whole: every file against the checksums that the export has written."""

from __future__ import annotations

import hashlib
import os
import re
import stat
from collections.abc import Callable, Iterator
from concurrent.futures import ThreadPoolExecutor
from dataclasses import dataclass, field
from itertools import islice
from pathlib import Path

from wexagraph.errors import SourceError
from wexagraph.exports.register import MANIFEST
from wexagraph.exports.target import OWN, READING

_LINE = re.compile(r"\\?([0-9a-f]{64}) [ *](.+)")


@dataclass
class Verification:
    """What was found: files that agree, and paths that are missing, altered or in no list. `lines` can't be read."""

    whole: int = 0
    missing: list[str] = field(default_factory=list)
    altered: list[str] = field(default_factory=list)
    foreign: list[str] = field(default_factory=list)
    lines: list[str] = field(default_factory=list)

    @property
    def complete(self) -> bool:
        return not (self.missing or self.altered or self.foreign or self.lines)


def verify(folder: str | Path, progress: Callable[[int], None] | None = None) -> Verification:
    """Compare an export folder with its `manifest-sha256.txt`. Nothing is changed.

    Raises SourceError where there is no manifest, or the folder can't be read.
    """
    root = Path(folder)
    found = Verification()
    listed: set[str] = {MANIFEST}
    tell = progress or (lambda _: None)
    try:
        with (
            open(root / MANIFEST, encoding="utf-8", errors="surrogateescape", newline="\n") as manifest,
            ThreadPoolExecutor(os.cpu_count() or 1) as pool,
        ):
            entries = _entries(manifest, found)
            while batch := list(islice(entries, 512)):  # a bounded number at a time, however long the manifest
                for (_, path), state in zip(batch, pool.map(lambda entry: _state(root, *entry), batch), strict=True):
                    listed.add(path)
                    if state == "whole":
                        found.whole += 1
                    else:
                        getattr(found, state).append(path)
                tell(len(listed) - 1)
    except FileNotFoundError as error:
        if not root.exists():
            raise SourceError(f"{root}: there is nothing of that name.") from error
        raise SourceError(
            f"{root} holds no {MANIFEST}, so there is nothing to prove it by. An export folder has one."
        ) from error
    except OSError as error:
        raise SourceError(f"{root / MANIFEST} can't be read: {error.strerror or error}.") from error
    found.foreign += [path for path in _files(root) if path not in listed]
    return found


def _entries(manifest: Iterator[str], found: Verification) -> Iterator[tuple[str, str]]:
    for line in manifest:
        match = _LINE.fullmatch(line.rstrip("\r\n"))
        # a list that leads out of its folder was not written by an export
        if match and not match[2].startswith("/") and ".." not in match[2].split("/"):
            yield match[1], match[2]
        else:
            found.lines.append(line.rstrip("\r\n")[:200])


def _state(root: Path, digest: str, path: str) -> str:
    """ "whole", "missing" or "altered". A link or a folder in the place of a file is no file."""
    try:
        descriptor = os.open(root / path, READING)
    except FileNotFoundError:
        return "missing"
    except OSError:
        return "altered"
    with open(descriptor, "rb") as file:
        try:
            if not stat.S_ISREG(os.fstat(descriptor).st_mode):
                return "altered"
            return "whole" if hashlib.file_digest(file, "sha256").hexdigest() == digest else "altered"
        except OSError:
            return "altered"


def _files(root: Path, below: str = "") -> Iterator[str]:
    try:
        with os.scandir(root / below) as scan:
            entries = sorted(scan, key=lambda entry: entry.name)
    except OSError:
        return
    for entry in entries:
        path = f"{below}/{entry.name}" if below else entry.name
        if path == OWN:
            continue
        if entry.is_dir(follow_symlinks=False):
            yield from _files(root, path)
        else:
            yield path
