"""Files written into the text of a message: uuencode (POSIX.1, uuencode) and yEnc (yEnc draft 1.3)."""

from __future__ import annotations

import binascii
import io
import re
import warnings
from typing import NamedTuple

MOST_PIXELS = 40_000_000
_DRAWN = {
    "PNG": "image/png",
    "JPEG": "image/jpeg",
    "GIF": "image/gif",
    "WEBP": "image/webp",
    "BMP": "image/bmp",
}
_REDRAWN = ("TIFF", "ICO", "TGA", "PPM", "PCX")
"""What no engine opens and Pillow does: it is shown as a PNG of its first page."""
_UU = re.compile(rb"(?m)^begin(?:-base64)? [0-7]{3,4} ([^\r\n]{1,255})\r?\n")
_UU_END = re.compile(rb"(?m)^(?:end|====)[ \t]*\r?(?:\n|\Z)")
_YENC = re.compile(rb"(?m)^=ybegin ([^\r\n]*?)name=([^\r\n]*)\r?\n(=ypart [^\r\n]*\r?\n)?")
_YENC_END = re.compile(rb"(?m)^=yend ([^\r\n]*)\r?(?:\n|\Z)")
_MOST_TRIES = 100
"""So many beginnings that nothing follows are looked behind; who writes more of them does not mean files."""
_YENC_TABLE = bytes((value - 42) % 256 for value in range(256))
_YENC_ESCAPE = re.compile(rb"=(.)", re.DOTALL)


class InlinedFile(NamedTuple):
    """A file found in a text: `name` as raw bytes, its content, and whether all of it was there."""

    name: bytes
    content: bytes
    whole: bool


def split(content: bytes) -> list[bytes | InlinedFile]:
    """A text body as its runs of text and the files that stand between them, in order.

    A line that only looks like the beginning of a file stays text: the next line must be encoded data.
    """
    if b"begin" not in content:
        return [content]
    pieces: list[bytes | InlinedFile] = []
    at = search = tries = 0
    uu, yenc = _UU.search(content), _YENC.search(content)
    while tries < _MOST_TRIES:
        if uu is not None and uu.start() < search:
            uu = _UU.search(content, search)
        if yenc is not None and yenc.start() < search:
            yenc = _YENC.search(content, search)
        match = min((m for m in (uu, yenc) if m), key=lambda m: m.start(), default=None)
        if match is None:
            break
        read = _read_yenc(content, match) if match is yenc else _read_uu(content, match)
        if read is None:
            search, tries = match.end(), tries + 1
            continue
        file, end = read
        if content[at : match.start()].strip():
            pieces.append(content[at : match.start()])
        pieces.append(file)
        at = search = end
    if content[at:].strip() or not pieces:
        pieces.append(content[at:])
    return pieces


def _read_uu(content: bytes, begin: re.Match[bytes]) -> tuple[InlinedFile, int] | None:
    base64 = begin[0].startswith(b"begin-base64")
    first = content[begin.end() : begin.end() + 200].partition(b"\n")[0].rstrip(b"\r")
    if not base64 and not _is_uu(first):
        return None
    last = _UU_END.search(content, begin.end())
    end = last.end() if last else len(content)
    lines = content[begin.end() : last.start() if last else end].splitlines()
    if base64:
        try:
            return InlinedFile(begin[1].strip(), binascii.a2b_base64(b"".join(lines)), last is not None), end
        except binascii.Error:
            return None
    out, whole = [], last is not None
    for line in lines:
        try:
            out.append(binascii.a2b_uu(line))
        except binascii.Error:
            try:
                # some programs write characters behind the data, in the last group of four too; some lose spaces there
                out.append(binascii.a2b_uu(line[: _uu_length(line, 1)]))
            except (binascii.Error, IndexError):
                whole = False
    return InlinedFile(begin[1].strip(), b"".join(out), whole), end


def _uu_length(line: bytes, group: int = 4) -> int:
    """How many characters a line has, filled up to whole groups of so many."""
    return 1 + -(-((line[0] - 32) & 63) * 4 // (3 * group)) * group


def _is_uu(line: bytes) -> bool:
    return (
        bool(line)
        and 32 <= line[0] <= 96
        and 0 <= len(line) - len(line[: _uu_length(line)]) <= 2
        and (len(line.rstrip()) >= _uu_length(line) - 4 and line.rstrip() != b"" and all(32 <= c <= 96 for c in line))
    )


def _read_yenc(content: bytes, begin: re.Match[bytes]) -> tuple[InlinedFile, int] | None:
    if b"size=" not in begin[1]:
        return None
    last = _YENC_END.search(content, begin.end())
    end = last.end() if last else len(content)
    body = content[begin.end() : last.start() if last else end].replace(b"\r", b"").replace(b"\n", b"")
    body = body.replace(b"..", b".", 1) if body.startswith(b"..") else body
    plain = _YENC_ESCAPE.sub(lambda m: bytes(((m[1][0] - 64) % 256,)), body).translate(_YENC_TABLE)
    return InlinedFile(begin[2].strip(), plain, last is not None and _agrees(plain, last[1])), end


def _agrees(plain: bytes, end: bytes) -> bool:
    """Whether the trailer's size and checksum are those of the data."""
    size = re.search(rb"\bsize=(\d+)", end)
    check = re.search(rb"\bpcrc32=([0-9A-Fa-f]{1,8})", end) or re.search(rb"\bcrc32=([0-9A-Fa-f]{1,8})", end)
    return (size is None or int(size[1]) == len(plain)) and (
        check is None or int(check[1], 16) == binascii.crc32(plain)
    )


def picture_type(content: bytes) -> str | None:
    """The media type of a picture that a page can show; None for all others, and for those of too many pixels."""
    kind = _opened(content)
    return None if kind is None else _DRAWN.get(kind, "image/png")


def drawable(content: bytes) -> tuple[str, bytes] | None:
    """A picture as engines open it: its media type and bytes. None where that can't be had."""
    from PIL import Image

    kind = _opened(content)
    if kind is None or kind in _DRAWN:
        return None if kind is None else (_DRAWN[kind], content)
    out = io.BytesIO()
    try:
        with Image.open(io.BytesIO(content), formats=[kind]) as image:
            image.convert("RGBA").save(out, "PNG")
    except (OSError, ValueError, SyntaxError, MemoryError, EOFError, Image.DecompressionBombError):
        return None
    return "image/png", out.getvalue()


def _opened(content: bytes) -> str | None:
    """Pillow's name for what a picture is, from its head alone."""
    from PIL import Image

    try:
        with warnings.catch_warnings():
            warnings.simplefilter("ignore")
            with Image.open(io.BytesIO(content), formats=[*_DRAWN, *_REDRAWN]) as image:
                width, height = image.size
                return image.format if 0 < width * height <= MOST_PIXELS else None
    except (OSError, ValueError, SyntaxError, MemoryError, EOFError, Image.DecompressionBombError):
        return None
