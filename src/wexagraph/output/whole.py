"""One file, written whole or not at all, wherever a clerk names it."""

from __future__ import annotations

from pathlib import Path

from wexagraph.errors import TargetError
from wexagraph.output.folder import OutputFolder


def write_whole_file(path: Path, content: bytes) -> None:
    """Write a file; one of that name is replaced. Its folder is made if need be. Raises TargetError."""
    try:
        with OutputFolder(path.parent) as folder:
            folder.write(path.name, content, beside=True)
    except OSError as error:
        raise TargetError(f"{path} can't be written: {error.strerror or error}. Check the disk.") from error
