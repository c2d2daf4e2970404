"""One file, written whole or not at all, wherever a clerk names it."""

from __future__ import annotations

import os
import secrets
import shutil
from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path
from typing import BinaryIO

from wexagraph.errors import TargetError
from wexagraph.output.folder import OutputFolder


def write_whole_file(path: Path, content: bytes) -> None:
    """Write a file; one of that name is replaced. Its folder is made if need be. Raises TargetError."""
    try:
        with OutputFolder(path.parent) as folder:
            folder.write(path.name, content, beside=True)
    except OSError as error:
        raise TargetError(f"{path} can't be written: {error.strerror or error}. Check the disk.") from error


Look = tuple[int, int, int]
"""Size, time (nanoseconds) and number of a file, by which it is known again."""


class Changed(Exception):
    """The file that was to be replaced is not the one that was read any more."""


def look(path: Path) -> Look | None:
    """A file as it now is; None where there is none."""
    try:
        about = os.stat(path)
    except OSError:
        return None
    return about.st_size, about.st_mtime_ns, about.st_ino


@contextmanager
def whole_file(path: Path, keep: str = "", seen: Look | None = None) -> Iterator[BinaryIO]:
    """A file to be written piece by piece, under its name only at the end. One of that name is replaced; with `keep`,
    it stays beside it under that name. Where it was `seen` before, it is looked at again: raises Changed where it is
    another one by now, and TargetError."""
    waiting = f".{path.name[-100:]}.{secrets.token_hex(6)}.part"
    try:
        with OutputFolder(path.parent) as folder:
            try:
                with folder.create(waiting) as file:
                    yield file
                    file.flush()
                    os.fsync(file.fileno())
                if seen is not None and look(path) != seen:
                    raise Changed
                if keep and folder.taken(path.name):
                    with folder.reader(path.name) as old, folder.create(f"{waiting}.old") as copy:
                        shutil.copyfileobj(old, copy, 1 << 20)
                    folder.replace(f"{waiting}.old", keep)
                folder.replace(waiting, path.name)
            except BaseException:
                folder.unlink(waiting)
                folder.unlink(f"{waiting}.old")
                raise
    except OSError as error:
        raise TargetError(f"{path} can't be written: {error.strerror or error}. Check the disk.") from error
