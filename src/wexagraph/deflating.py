"""Deflate (RFC 1951), for volumes and pictures: a fast one where the machine has it, else the standard library's."""

from typing import Any

deflate: Any
try:
    from isal import isal_zlib as deflate  # much faster, and what it packs somewhat larger

    LEVEL = 2
except ImportError:  # a machine that it is not made for
    import zlib as deflate

    LEVEL = 6

__all__ = ["LEVEL", "deflate"]
