"""The key of a row: which message it is of, and what was written into its cells; and the heading over the keys.

A table that people work in is known again by its keys alone, wherever rows and columns were moved, in any program and
any form. A key holds a short check of each cell as it was written, so that what somebody has changed is seen.
"""

from __future__ import annotations

import hashlib
import re
from collections.abc import Iterable
from functools import lru_cache
from typing import BinaryIO, NamedTuple
from urllib.parse import quote, unquote
from zlib import crc32

HEADING = "key"
_DIGITS = "abcdefghijklmnopqrstuvwxyz234567"
_PAIRS = [first + second for first in _DIGITS for second in _DIGITS]
_KEY = re.compile(r"k([a-z2-7]{12})([a-z2-7]{4})(?:\.([1-9]\d{0,6}))? ((?:[a-z2-7]{4})*)([a-z2-7]{2})")
_LOOKS = re.compile(rb"k([a-z2-7]{12})[a-z2-7]{4}[ .]")
CHECK = 4
"""Letters of a check."""


class RowId(NamedTuple):
    """Which message a row is of: digests of what tells it from others and of its folder, and a number among equals."""

    message: str
    folder: str
    turn: int = 1


def digest(text: bytes, letters: int) -> str:
    """So many letters (an even number) made of bytes."""
    bits = int.from_bytes(hashlib.blake2b(text, digest_size=16).digest(), "big")
    return "".join(_PAIRS[bits >> shift & 1023] for shift in range(0, letters * 5, 10))


@lru_cache(maxsize=4096)
def folder_digest(folder: str) -> str:
    """A folder in a key."""
    return digest(folder.encode("utf-8", "surrogateescape"), 4)


def message_digest(identity: bytes) -> str:
    """A message in a key."""
    return digest(identity, 12)


@lru_cache(maxsize=256)
def _seed(column: str) -> int:
    return crc32(column.encode("utf-8", "surrogateescape"))


def check(column: str, text: str) -> str:
    """What a key remembers of a cell."""
    bits = crc32(text.encode("utf-8", "surrogatepass"), _seed(column))
    return _PAIRS[bits >> 10 & 1023] + _PAIRS[bits & 1023]


def key(row: RowId, checks: str) -> str:
    """The key of a row: with two letters at its end by which a key that was changed is known."""
    text = f"k{row.message}{row.folder}{f'.{row.turn}' if row.turn > 1 else ''} {checks}"
    return text + _PAIRS[crc32(text.encode()) & 1023]


def parse_key(text: str) -> tuple[RowId, str] | None:
    """Row and checks of a key; None for what is none, or was changed."""
    match = _KEY.fullmatch(text.strip())
    if match is None or _PAIRS[crc32(text.strip()[:-2].encode()) & 1023] != match[5]:
        return None
    return RowId(match[1], match[2], int(match[3] or 1)), match[4]


def messages_in(file: BinaryIO) -> frozenset[str]:
    """The messages of all that looks like a key in a file."""
    messages: set[bytes] = set()
    held = b""
    while block := file.read(1 << 20):
        held += block
        messages.update(_LOOKS.findall(held))
        held = held[-40:]
    return frozenset(one.decode() for one in messages)


def heading(columns: Iterable[tuple[str, str]]) -> str:
    """The heading over the keys, which names the columns in the order of their checks: what each holds, and its
    heading where that is another."""
    words = (quote(name, "") + (f"={quote(text, '')}" if text != name else "") for name, text in columns)
    return " ".join([HEADING, *words])


def parse_heading(text: str) -> list[tuple[str, str]] | None:
    """The columns of a heading over keys; None for another heading."""
    first, *words = text.split() or [""]
    if first != HEADING:
        return None
    pairs = (word.partition("=") for word in words)
    return [(unquote(name), unquote(text) if equals else unquote(name)) for name, equals, text in pairs]
