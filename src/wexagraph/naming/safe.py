"""File names that are legal on Windows, macOS and Linux at once, and true to what they were made from."""

from __future__ import annotations

import re
import unicodedata

import regex

LIMIT = 240
"""Bytes of UTF-8 that a name may have with its suffix; ext4, APFS and NTFS all hold it."""

_REPLACED = str.maketrans({"/": "-", "\\": "-", ":": "-", "|": "-", "<": "(", ">": ")", '"': "'", "?": None, "*": None})
_DEVICES = frozenset(
    ["CON", "PRN", "AUX", "NUL", "CONIN$", "CONOUT$", "CLOCK$"]
    + [f"{device}{digit}" for device in ("COM", "LPT") for digit in "0123456789¹²³"]
)
_DEVICE_STARTS = frozenset(device[:3] for device in _DEVICES)
# letters, marks, numbers, punctuation and symbols stay; controls, format characters (bidirectional and zero-width
# controls among them), surrogates, private and unassigned code points go; every kind of space is a space
_UNWANTED = regex.compile(r"[\p{C}\u115f\u1160\u3164\uffa0\u034f\u2800]+")
_SPACES = regex.compile(r"[\s\p{Z}]+")
_GRAPHEME = regex.compile(r"\X")
_PLAIN = re.compile(r"[A-Za-z0-9 ,;=_'()+@#!&%$\[\]{}~^`.-]*")


def clean(text: str) -> str:
    """Text with nothing in it that a file name can't hold anywhere; may be empty. No separator survives."""
    if _PLAIN.fullmatch(text):
        return text if "  " not in text else " ".join(text.split())
    text = unicodedata.normalize("NFC", text)
    text = _UNWANTED.sub("", _SPACES.sub(" ", text))
    text = unicodedata.normalize("NFC", text.translate(_REPLACED))
    return text if "  " not in text else " ".join(text.split())


def component(text: str, room: int = 0, fallback: str = "unnamed") -> str:
    """One component of a path: clean, not reserved, and with `room` bytes left of LIMIT for what is put behind it."""
    name = cut(clean(text).lstrip(" .-~"), LIMIT - room).rstrip(" .")
    if not name:
        name = fallback
    if name[:3].upper() in _DEVICE_STARTS and name.split(".")[0].rstrip(" ").upper() in _DEVICES:
        stem, dot, rest = name.partition(".")
        name = cut(f"{stem.rstrip()}_{dot}{rest}", LIMIT - room)
    return name


def cut(text: str, limit: int) -> str:
    """Text cut to `limit` bytes of UTF-8 at a boundary of graphemes (UAX #29), else of characters."""
    if len(text) * 4 <= limit or len(text.encode("utf-8", "replace")) <= limit:
        return text
    used, out = 0, []
    for match in _GRAPHEME.finditer(text):
        size = len(match[0].encode("utf-8", "replace"))
        if used + size > limit:
            break
        used += size
        out.append(match[0])
    if out:
        return "".join(out)
    return text.encode("utf-8", "replace")[:limit].decode("utf-8", "ignore")


def with_extension(name: str) -> tuple[str, str]:
    """A file name in its stem and its extension with the dot; an extension is short, plain and not all of it."""
    stem, dot, extension = name.rpartition(".")
    if dot and stem.strip(" .") and 0 < len(extension) <= 10 and extension.isascii() and extension.isalnum():
        return stem, "." + extension
    return name, ""


def collision_key(path: str) -> str:
    """Equal for two paths that some disk would take for the same: case and Unicode normalization do not count."""
    if path.isascii():
        return path.lower()
    return unicodedata.normalize("NFC", unicodedata.normalize("NFC", path).casefold())
