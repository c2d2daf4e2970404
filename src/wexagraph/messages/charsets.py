"""Bytes to text: declared character sets, wrong ones, and none at all."""

from __future__ import annotations

import codecs
import re
from functools import lru_cache

from wexagraph.notes import Note

# Labels as mail carries them, to the Python codec that reads what was really written. A label's superset is
# taken where practice does (WHATWG Encoding Standard, section 4.2): Latin-1 is Windows-1252, GB2312 is GB18030.
_ALIASES = {
    "us-ascii": "cp1252",
    "ascii": "cp1252",
    "ansi": "cp1252",
    "x-ansi": "cp1252",
    "iso-8859-1": "cp1252",
    "iso8859-1": "cp1252",
    "latin1": "cp1252",
    "latin-1": "cp1252",
    "iso-8859-9": "cp1254",
    "iso-8859-11": "cp874",
    "tis-620": "cp874",
    "gb2312": "gb18030",
    "gbk": "gb18030",
    "x-gbk": "gb18030",
    "ks_c_5601-1987": "cp949",
    "ks_c_5601": "cp949",
    "euc-kr": "cp949",
    "shift_jis": "cp932",
    "shift-jis": "cp932",
    "x-sjis": "cp932",
    "big5": "big5hkscs",
    "x-big5": "big5hkscs",
    "iso-2022-jp": "iso2022_jp_ext",
    "unicode-1-1-utf-7": "utf-7",
    "unicode-1-1-utf-8": "utf-8",
    "utf8mb4": "utf-8",
    "x-utf-8": "utf-8",
    "x-mac-roman": "mac_roman",
    "macintosh": "mac_roman",
    "iso-8859-8-i": "iso8859-8",
    "iso-8859-8-e": "iso8859-8",
    "x-user-defined": "cp1252",
}
_UNKNOWN = {
    "",
    "unknown",
    "unknown-8bit",
    "x-unknown",
    "default",
    "default_charset",
    "binary",
    "none",
    "_iso-2022",
}
_TEXT_CODECS_ONLY = {
    "base64",
    "hex",
    "bz2",
    "zlib",
    "uu",
    "quopri",
    "rot13",
    "rot_13",
    "idna",
    "punycode",
    "undefined",
}
_OF_SEVERAL_BYTES = frozenset({"utf-8", "gb18030", "cp949", "cp932", "big5hkscs", "euc_jp", "iso2022_jp_ext"})
_LOST = "\N{REPLACEMENT CHARACTER}"
_HIGH = re.compile(rb"[\x80-\xff]")
_WORDED = re.compile(rb"[A-Za-z]")
_C1 = re.compile("[\x80-\x9f]")


@lru_cache(maxsize=256)
def codec_for(label: str) -> str | None:
    """The Python codec for a charset label (RFC 2978, or a habit of practice), or None where there is none."""
    name = label.strip().strip("\"'").lower()
    name = name.split("*")[0]  # RFC 2231 language suffix
    if name in _UNKNOWN:
        return None
    bare = name.removeprefix("x-")
    candidates = [_ALIASES.get(name), _ALIASES.get(bare), name, bare]
    if re.fullmatch(r"(?:windows|cp|x-cp|win)[-_]?\d{3,4}", name):
        candidates.insert(0, "cp" + re.sub(r"\D", "", name))
    for candidate in candidates:
        if not candidate or "\0" in candidate:
            continue
        try:
            codec = codecs.lookup(candidate).name
        except (LookupError, UnicodeError, ValueError):
            continue
        if codec.replace("-", "_") not in _TEXT_CODECS_ONLY and not codec.endswith("_codec"):
            return codec
    return None


def decode(data: bytes, label: str = "", hint: str = "") -> tuple[str, list[Note]]:
    """Decode `data`, declared as `label`, without ever failing. `hint` is a label that stands elsewhere in the message.

    Returns the text and notes on whatever was guessed or lost. A declared set that fits is used in silence, and one
    in which few bytes do not fit is used with U+FFFD for those. One that plainly does not fit gives way to UTF-8
    where the bytes are UTF-8, then to the hint, to Windows-1252 where few bytes are not ASCII, and to a guess.
    """
    codec = codec_for(label)
    if codec in (None, "cp1252", "utf-8") and data.isascii() and b"\x1b" not in data:
        return data.decode("ascii"), []
    if codec in (None, "cp1252", "utf-8") and b"\x1b$" in data:
        codec = None  # ISO-2022 escapes are ASCII to the eye, and to a declaration that was never thought about
    if codec is not None:
        text = _strict(data, codec)
        if text is not None and not (codec == "cp1252" and label and _strict_utf8_letters(data)):
            return text, []
    for likely in dict.fromkeys((codec, "utf-8")):
        text = _mostly(data, likely) if likely in _OF_SEVERAL_BYTES and _strict(data, "utf-8") is None else None
        if text is not None:
            return text, [Note("characters-lost", f"{text.count(_LOST)} as {likely}")]
    guess = _guess(data, codec, hint)
    text = _strict(data, guess) if guess else None
    code = "charset-wrong" if label.strip() else "charset-guessed"
    if text is not None and guess:
        return text, [Note(code, f"{_label(label)}read as {guess}")]
    fallback = codec or "cp1252"
    text = data.decode(fallback, "replace")
    lost = text.count(_LOST)
    return text, [Note("characters-lost", f"{lost} as {fallback}")] if lost else [
        Note(code, f"{_label(label)}read as {fallback}")
    ]


def _mostly(data: bytes, codec: str) -> str | None:
    """The text, where for each byte that does not fit there are five letters beyond ASCII that do; else None."""
    text = data.decode(codec, "replace")
    lost = text.count(_LOST)
    letters = sum(not character.isascii() for character in text) - lost
    return text if letters >= 5 * lost or (letters and lost <= 2 and codec == "utf-8") else None


def _label(label: str) -> str:
    return f"{label.strip()[:40]}, " if label.strip() else ""


def _strict(data: bytes, codec: str) -> str | None:
    try:
        text = data.decode(codec)
    except (UnicodeError, ValueError):
        return None
    if codec == "iso8859-1" and _C1.search(text):
        return None
    # a surrogate from a lenient codec (UTF-7, UTF-16) can be neither printed nor stored
    return None if re.search("[\ud800-\udfff]", text) else text


def _strict_utf8_letters(data: bytes) -> bool:
    """Whether bytes declared as Latin-1 are really UTF-8: at least one multi-byte sequence, and none broken."""
    return not data.isascii() and _strict(data, "utf-8") is not None


def _guess(data: bytes, declared: str | None, hint: str) -> str | None:
    for mark, name in ((b"\xef\xbb\xbf", "utf-8-sig"), (b"\xff\xfe", "utf-16"), (b"\xfe\xff", "utf-16")):
        if data.startswith(mark):
            return name
    if re.search(rb"\x1b\$[@B]", data) and _strict(data, "iso2022_jp_ext") is not None:
        return "iso2022_jp_ext"
    if _strict(data, "utf-8") is not None:
        return "utf-8"
    hinted = codec_for(hint)
    if hinted not in (None, declared) and _strict(data, hinted or "") is not None:
        return hinted
    sample = data if len(data) <= 65536 else data[:65536]
    western = _strict(data, "cp1252") is not None
    if western and len(_HIGH.findall(sample)) * 8 <= len(_WORDED.findall(sample)):
        return "cp1252"  # words of Latin letters with accents in them, or signs between them
    from charset_normalizer import from_bytes

    best = from_bytes(sample, steps=5, chunk_size=512).best() if len(data) >= 24 else None
    if best is not None and best.encoding != declared and _strict(data, best.encoding) is not None:
        return str(best.encoding)
    return "cp1252" if western else None
