"""Paths below a folder of results: where a mail folder's files go, and names that nothing else bears."""

from __future__ import annotations

from collections.abc import Callable
from functools import lru_cache
from itertools import count

from wexagraph.naming.safe import clean, component, with_extension

MANIFEST, REGISTER = "manifest-sha256.txt", "register.csv"
REGISTERS = {"csv": REGISTER, "xlsx": "register.xlsx"}
"""The registers of an export by their forms."""
ATTACHMENT_LIST = "attachments.csv"
"""The register of attachments that are files of their own: a row an attachment."""
CASE_LOG = "case.log"
INDEX, INDEX_FILES = "index.html", "index files"
"""The page to browse, and the folder of what it needs."""
RESERVED = frozenset({MANIFEST, *REGISTERS.values(), ATTACHMENT_LIST, CASE_LOG, INDEX, INDEX_FILES})
"""Names in the folder itself that are ours: no message and no attachment gets them."""
RESERVED_STEMS = (
    *("manifest-sha256", "manifest-sha256.txt", "register", "register.csv", "register.xlsx", ATTACHMENT_LIST),
    *("index", "index.html", "index files"),
)
"""Stems of such names: a message's files, or the folder beside them, would stand for our lists."""


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
