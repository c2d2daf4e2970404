"""Paths below a folder of results: where a mail folder's files go, and names that nothing else bears."""

from __future__ import annotations

import re
import unicodedata
from collections.abc import Callable
from functools import lru_cache
from itertools import count

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
MANIFEST, REGISTER = "manifest-sha256.txt", "register.csv"
SENDER_KEYS = "sender-keys.txt"
REGISTERS = {"csv": REGISTER, "xlsx": "register.xlsx"}
"""The registers of an export by their forms."""
ATTACHMENT_LIST = "attachments.csv"
ATTACHMENT_LISTS = {"csv": ATTACHMENT_LIST, "xlsx": "attachments.xlsx"}
"""The registers of attachments that are files of their own: a row an attachment."""
ALL_REGISTERS = (*REGISTERS.values(), *ATTACHMENT_LISTS.values())
CASE_LOG, FILE_PLAN = "case.log", "fileplan.toml"
SEALS, PROOF = "seals", "HOW-TO-PROVE.txt"
"""Where earlier seals lie, with the lists that they are over; and what lies beside each seal: how it is proved."""
INDEX, INDEX_FILES = "index.html", "index files"
"""The page to browse, and the folder of what it needs."""
SEALED = (f"{MANIFEST}.p7s", f"{MANIFEST}.tsr", "seal-certificates.pem", PROOF)
SEAL_MARK = ".wexagraph/sealed"
"""Lies in a folder that was sealed or stamped: where all signs of that are gone, it is noticed."""
RESERVED = frozenset(
    {MANIFEST, SENDER_KEYS, *ALL_REGISTERS, CASE_LOG, INDEX, INDEX_FILES, *(name.lower() for name in SEALED), SEALS}
)
"""Names in the folder itself that are ours: no message and no attachment gets them."""
RESERVED_STEMS = (
    *("manifest-sha256", "manifest-sha256.txt", "register", *ALL_REGISTERS),
    *("index", "index.html", "index files", *(name.lower() for name in SEALED), SEALS),
)
"""Stems of such names: a message's files, or the folder beside them, would stand for our lists."""


def signs_of_seals(listed: str) -> tuple[str, ...]:
    """What lies in a folder that is sealed, some of it at least; `listed` is the list of checksums that is."""
    return f"{listed}.p7s", f"{listed}.tsr", *SEALED[2:], f"{SEALS}/0001", SEAL_MARK


@lru_cache(maxsize=1024)
def folder_path(folder: str, flat: bool = False) -> str:
    """Where the files of a source's folder go, relative to the target; "" for the target itself."""
    if flat:
        return ""
    path = "/".join(component(level, room=120) for level in folder.split("/") if clean(level).strip(" ."))
    return path + "_" if path.lower() in RESERVED else path


def with_number(stem: str, suffix: str, number: int) -> str:
    """ "stem.suffix" for number 1, "stem (2).suffix" for number 2, and so on."""
    return f"{stem} ({number}){suffix}" if number > 1 else stem + suffix


def free_name(stem: str, suffix: str, taken: Callable[[str], bool]) -> str:
    """The first of the numbered names that is not taken."""
    names = (with_number(stem, suffix, number) for number in count(1))
    return next(name for name in names if not taken(name))


class FreeNames:
    """Safe names for files in one place, each given once in the eyes of any disk."""

    def __init__(self) -> None:
        self._given: set[str] = set()
        self._next: dict[str, int] = {}

    def give(self, wanted: str) -> str:
        """This name made safe, with a number behind its stem where it was given before."""
        stem, suffix = with_extension(clean(wanted))
        stem = component(stem, room=30)
        name = with_number(stem, suffix, number := self._next.get((stem + suffix).casefold(), 1))
        while name.casefold() in self._given:
            name = with_number(stem, suffix, number := number + 1)
        self._given.add(name.casefold())
        self._next[(stem + suffix).casefold()] = number + 1
        return name


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
