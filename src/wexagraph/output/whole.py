"""One file, written whole or not at all, wherever a clerk names it."""

from __future__ import annotations

import os
import secrets
from pathlib import Path

from wexagraph.errors import TargetError
from wexagraph.output.folder import OutputFolder


def write_whole_file(path: Path, content: bytes) -> None:
    """Write a file; one of that name is replaced. Its folder is made if need be. Raises TargetError."""
    try:
        with OutputFolder(path.parent) as folder:
            waiting = f".{path.name[-100:]}.{secrets.token_hex(6)}.part"
            try:
                with folder.create(waiting) as file:
                    file.write(content)
                    file.flush()
                    os.fsync(file.fileno())
                folder.replace(waiting, path.name)
            except BaseException:
                folder.unlink(waiting)
                raise
    except OSError as error:
        raise TargetError(f"{path} can't be written: {error.strerror or error}. Check the disk.") from error
