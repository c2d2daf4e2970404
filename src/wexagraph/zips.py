"""Reading a ZIP (APPNOTE 6.3) that may be damaged or hostile."""

from __future__ import annotations

import struct
import zipfile
import zlib

try:
    from lzma import LZMAError
except ImportError:  # a Python that was built without it

    class LZMAError(Exception):  # type: ignore[no-redef]
        """Never raised: what is packed that way can't be read at all."""


_BOMB_SIZE, _BOMB_RATIO = 256 * 1024 * 1024, 200


def out_of_proportion(size: int, packed: int) -> bool:
    """Whether so few bytes would unpack to so many that nobody sent them in good faith."""
    return size > _BOMB_SIZE and size > _BOMB_RATIO * max(packed, 1)


UNREADABLE = (
    zipfile.BadZipFile,
    zlib.error,
    LZMAError,
    struct.error,
    OSError,
    EOFError,
    RuntimeError,
    ValueError,
    LookupError,
)
"""What `zipfile` raises where a file or a member is damaged, locked, or packed in a way that it does not know."""
