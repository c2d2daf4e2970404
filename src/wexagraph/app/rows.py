"""The options of commands, a row each: from it come the option on the command line, its place in help and manual, its
default in an order, and whether the file of a working folder may set it."""

from __future__ import annotations

from collections.abc import Callable, Iterable
from dataclasses import dataclass
from typing import Any

from wexagraph.languages import LANGUAGES

CHOICE, FILES, PAGE, RECORD, RUN = SECTIONS = (
    "Which messages",
    "Which files",
    "The page",
    "The PDF as a record",
    "The run",
)
"""The sections of help, in their order."""
BUILT_IN = "built-in"
"""The cover sheet that comes with the program."""


@dataclass(frozen=True)
class Flag:
    """It stands alone; `off` is the name of its contrary, where that has one."""

    off: str = ""


@dataclass(frozen=True)
class Words:
    """Words out of a list, several with commas; `what` one of them is, and `alone` goes with no other."""

    known: tuple[str, ...]
    what: str
    alone: str = ""


@dataclass(frozen=True)
class OneOf:
    """One word out of a list."""

    words: tuple[str, ...]


@dataclass(frozen=True)
class Number:
    """A number of that range, whole or (`whole` False) with a fraction."""

    least: float
    most: float | None = None
    whole: bool = True


@dataclass(frozen=True)
class Checked:
    """A text that a function reads; it raises CallError. `what` it is called where that is not known."""

    what: str
    read: Callable[[Any], Any]


@dataclass(frozen=True)
class Option:
    """An option: its name without the dashes, and what is said of it.

    `takes` says what stands behind it (None: any text), called by `metavar`; it may be given `many` times. `bare` is
    its value where nothing stands behind it. `shown` is what help calls the default: True for the value itself, or
    words. It is `safe` in the file of a working folder where it names no place, server, file elsewhere or program: who
    fills a folder with mail for a clerk must not send a password anywhere by it.
    """

    name: str
    help: str = ""
    default: Any = None
    takes: Flag | Words | OneOf | Number | Checked | None = None
    metavar: str = ""
    section: str = RUN
    many: bool = False
    bare: Any = None
    shown: bool | str = False
    safe: bool = False


ZONE = Option(
    "zone",
    "Time zone for dates in names and pages: an IANA name such as Europe/Lisbon, or `sender` for the "
    "message's own offset.  [default: this machine's]",
    None,
    None,
    "ZONE",
    PAGE,
    safe=True,
)
JOBS = Option("jobs", "Worker processes.  [default: the machine's cores]", None, Number(1, 256), "N", safe=True)
INDEX_PAGE = Option(
    "index", "A page to browse in the folder: index.html, for any browser.", False, Flag(), section=FILES, safe=True
)
OFFICE_NAME = Option("office", "The office's name, on the page to browse.", "", None, "NAME", FILES, safe=True)
OFFICE_PICTURE = Option("office-picture", "Its picture there: PNG, JPEG, GIF or WebP.", None, None, "FILE", FILES)
RECORDS = Option("records", "The records folder; else WEXAGRAPH_RECORDS, or as configured.", None, None, "DIR")
LANGUAGE = Option(
    "language",
    "Of labels and dates on pages, and of the fixed words in names.",
    None,
    OneOf(LANGUAGES),
    section=PAGE,
    shown="the system's",
    safe=True,
)
VOLUME_SIZE = Option(
    "volume-size", "A volume is at most this large.", "1GB", None, "SIZE", FILES, safe=True, shown=True
)
"""Options of commands of many kinds."""


def defaults(rows: Iterable[Option]) -> dict[str, Any]:
    """The defaults of options as plain data, by their names."""
    return {row.name: row.default for row in rows}
