"""Encoded words of header fields (RFC 2047), and whatever else stands in their place."""

from __future__ import annotations

import binascii
import re

from wexagraph.messages.charsets import codec_for, decode

_FOLD = re.compile(r"[\r\n]+[ \t]*|\t")
_WORD = re.compile(r"=\?([^?\s]{0,60})\?([bBqQ])\?((?:[^?]|\?(?!=)){0,2000})\?=")
_MOST_WORDS = 65536  # characters of a field in which encoded words are looked for
_HEX = re.compile(rb"=([0-9A-Fa-f]{2})")


def decode_words(raw: bytes, hint: str = "") -> str:
    """An unstructured field's value as one line of text (RFC 2047 encoded words, RFC 6532 UTF-8, unknown 8-bit).

    Neighbouring encoded words of one charset are joined before they are decoded, since many programs split a
    character between two. What can't be decoded stays as it was written. `hint` is the likely charset of 8-bit bytes.
    """
    if raw.isascii():
        text = raw.decode("ascii")
    else:
        text = decode(raw, "", hint)[0]
    if not text.isprintable():
        text = _FOLD.sub(" ", text)
    if "=?" in text:
        text = decode_encoded(text)
    elif "  " not in text and text.isprintable():
        return text
    return " ".join(text.split())


def decode_encoded(text: str) -> str:
    """A text with its encoded words decoded; what can't be stays as it was written."""
    out: list[str] = []
    pending: list[tuple[str, bytes]] = []

    def flush() -> None:
        start = 0
        while start < len(pending):
            charset, stop = pending[start][0], start
            while stop < len(pending) and pending[stop][0] == charset:
                stop += 1
            out.append(_decode_run(charset, [data for _, data in pending[start:stop]]))
            start = stop
        pending.clear()

    at = 0
    for match in _WORD.finditer(text, 0, _MOST_WORDS):
        data = _word_bytes(match[2], match[3])
        charset = match[1].partition("*")[0].lower()
        if data is None:
            continue
        between = text[at : match.start()]
        if not (pending and not between.strip()):
            flush()
            out.append(between)
        pending.append((charset, data))
        at = match.end()
    flush()
    out.append(text[at:])
    return "".join(out)


def _decode_run(charset: str, pieces: list[bytes]) -> str:
    """Pieces of one charset: each whole in itself where it can be (a stateful set starts anew in each word)."""
    codec = codec_for(charset)
    if codec is not None and len(pieces) > 1:
        try:
            return "".join(piece.decode(codec) for piece in pieces)
        except UnicodeError:
            pass  # a character was split between two words: the join below mends it
    return decode(b"".join(pieces), charset)[0]


def _word_bytes(encoding: str, payload: str) -> bytes | None:
    data = payload.encode("utf-8", "surrogateescape")
    if encoding in "qQ":
        return _HEX.sub(lambda m: bytes.fromhex(m[1].decode("ascii")), data.replace(b"_", b" "))
    data = re.sub(rb"[^A-Za-z0-9+/]", b"", data)
    if len(data) % 4 == 1:
        data = data[:-1]
    try:
        return binascii.a2b_base64(data + b"=" * (-len(data) % 4))
    except binascii.Error:
        return None
