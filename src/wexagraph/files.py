"""Opening files that somebody else may have put there: no link is followed, no pipe waited for."""

from __future__ import annotations

import errno
import os
import stat
from io import BufferedReader
from pathlib import Path
from typing import BinaryIO

NO_LINK = sum(getattr(os, name, 0) for name in ("O_NOFOLLOW", "O_NONBLOCK", "O_BINARY", "O_CLOEXEC"))
"""How a file is opened whose name is not enough to know what lies there."""


def open_regular(path: str | Path, above: int | None = None, follow: bool = False) -> BufferedReader:
    """Open a regular file for reading; with `above`, a name in the folder of that descriptor. Links only on `follow`.

    Raises OSError, also where a link, a pipe or a folder lies there.
    """
    flags = NO_LINK & ~getattr(os, "O_NOFOLLOW", 0) if follow else NO_LINK
    descriptor = os.open(path, os.O_RDONLY | flags, dir_fd=above)
    if not stat.S_ISREG(os.fstat(descriptor).st_mode):
        os.close(descriptor)
        raise OSError(errno.EINVAL, "it is not a regular file", str(path))
    return open(descriptor, "rb")


def create_private(path: str | Path, buffering: int = -1) -> BinaryIO:
    """Open a file of ours for writing anew, for its owner only; a link in its place is not followed. Raises OSError."""
    flags = os.O_RDWR | os.O_CREAT | os.O_TRUNC | NO_LINK
    return open(os.open(path, flags, 0o600), "w+b", buffering)


def visible(name: str) -> str:
    r"""A name from a disk as text: bytes that are no UTF-8 are shown as \xe9."""
    if name.isprintable():
        return name
    return "".join(f"\\x{ord(c) - 0xDC00:02x}" if "\udc80" <= c <= "\udcff" else c for c in name)
