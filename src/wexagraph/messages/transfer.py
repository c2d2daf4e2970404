"""Content transfer encodings (RFC 2045 section 6), read with every kind of damage."""

from __future__ import annotations

import binascii
import re
from collections.abc import Callable

from wexagraph.messages.inlined import InlinedFile, split

_NOT_BASE64 = re.compile(rb"[^A-Za-z0-9+/]+")
_SIGNS, _BLANKS = re.compile(rb"[^A-Za-z0-9+/=\s]"), re.compile(rb"[ \t]")
_SOFT = re.compile(rb"=[ \t]*\r?\n")
_TRAIL = re.compile(rb"(?<![ \t])[ \t]++(?=\r?\n)")
_HEX = re.compile(rb"=([0-9A-Fa-f]{2})")
_BAD_HEX = re.compile(rb"=(?![0-9A-Fa-f]{2})")


def decode_transfer(data: bytes, encoding: str) -> tuple[bytes, bool]:
    """The bytes behind a transfer encoding, and whether the encoding was whole.

    An unknown encoding is taken as identity (RFC 2045 section 6.4 wants it kept opaque; nothing is lost).
    """
    return _DECODERS.get(encoding.strip().strip("\"'").lower(), _identity)(data)


def _identity(data: bytes) -> tuple[bytes, bool]:
    return data, True


def is_unencoded(beginning: bytes) -> bool:
    """Whether what is labelled as base64 is plain text that nobody has encoded: words, with blanks and signs."""
    beginning = beginning.strip()
    signs, blanks = len(_SIGNS.findall(beginning)), len(_BLANKS.findall(beginning))
    return signs > 0 < blanks and (signs + blanks) * 12 > len(beginning)


def _base64(data: bytes) -> tuple[bytes, bool]:
    if is_unencoded(data[:2000]):
        return data, False
    try:
        # binascii skips line ends itself; strict form would refuse them
        return binascii.a2b_base64(data), b"=" not in data.rstrip(b"\r\n\t =")
    except binascii.Error:
        pass  # cut short or damaged: the lenient way below takes what there is
    clean = _NOT_BASE64.sub(b"", data)
    clean = clean[: len(clean) - (1 if len(clean) % 4 == 1 else 0)]
    return binascii.a2b_base64(clean + b"=" * (-len(clean) % 4)), False


def _quoted_printable(data: bytes) -> tuple[bytes, bool]:
    joined = _SOFT.sub(b"", _TRAIL.sub(b"", data)) if b"=" in data else data
    if joined.endswith(b"="):
        joined = joined[:-1]
    whole = _BAD_HEX.search(joined) is None
    return _HEX.sub(lambda m: bytes.fromhex(m[1].decode("ascii")), joined), whole


def _uuencode(data: bytes) -> tuple[bytes, bool]:
    for piece in split(data):
        if isinstance(piece, InlinedFile):
            return piece.content, piece.whole
    return data, False


_DECODERS: dict[str, Callable[[bytes], tuple[bytes, bool]]] = {
    "base64": _base64,
    "quoted-printable": _quoted_printable,
    "x-uuencode": _uuencode,
    "uuencode": _uuencode,
    "x-uue": _uuencode,
    "uue": _uuencode,
}
