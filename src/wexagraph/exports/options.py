"""What an export does, frozen and made once at the edge; and what messages can become: a new format is an entry."""

from __future__ import annotations

import hashlib
import re
from collections.abc import Callable, Iterable, Iterator
from dataclasses import asdict, dataclass, field, replace
from datetime import datetime, tzinfo
from functools import cached_property
from typing import TYPE_CHECKING, BinaryIO

from wexagraph.errors import CallError
from wexagraph.languages import ENGLISH
from wexagraph.naming.office_names import OfficeNames
from wexagraph.naming.patterns import NamePattern, TextPattern
from wexagraph.notes import PROTECTION, Note
from wexagraph.output.archives import ArchiveWriter, Kept, MboxWriter, ZipWriter, messages_of_mbox, messages_of_zip
from wexagraph.pages import PageOptions
from wexagraph.pages.make import Maker, to_html, to_pdf, to_text
from wexagraph.pages.options import Lock
from wexagraph.reports import Sealing

if TYPE_CHECKING:
    from wexagraph.protection.keys import Keys
from wexagraph.text import one_line

ATTACHMENTS = "attachments"
_KEYS = "+"
"""Stands in a recipe between what a file was made by and the mark of the keys that it was opened with."""
_PREFIX = re.compile(r"[A-Za-z0-9][\w.-]{0,29}")
BINDINGS = ("conversation", "folder", "all")
BOUND_PATTERN = "{date:%Y-%m-%d} {subject}"
NO_LOCKED_ARCHIVE = (
    "a PDF/A must open for everybody, always (ISO 19005-3 forbids encryption): --archival and --password do not go "
    "together. Leave one of them out."
)


@dataclass(frozen=True)
class ExportOptions:
    """How chosen messages become files.

    `formats` are names of FORMATS. `flat` leaves out the source's folders. `jobs` worker processes make
    pages; one page may take `timeout` seconds. `engine` is auto or the name of a page engine. `bind` makes one PDF of
    each conversation, each folder or all, under names of the pattern `bound`, and called `title` or what their messages
    have in common; `unquote` leaves quotes out of it that stand in it already; messages `run_on` in it without a new
    page each. With `remote_images`, pictures on the network are fetched; `remote_hosts` may lie at private addresses.
    `tags` are patterns for keywords. `lock` encrypts PDFs. `exported` is the date of the export; each `generation`
    makes all anew. `cluster` is the address of a Dask scheduler whose workers make and bind pages. `registers` are the
    forms of the table beside the files: csv, xlsx. `index` makes a page to browse in the folder. With `carried`,
    messages that others bring along as files are exported as themselves. `numbered` is what stands before the numbers
    that run through the pages of all PDFs, and that files are named by ("": there are none). `sealing` is done at the
    end. `keys` open and prove what is protected, `senders` marks how the marks of sending domains are looked at.

    Raises CallError where two do not go together.
    """

    formats: tuple[str, ...] = ("pdf",)
    pattern: NamePattern = field(default_factory=NamePattern)
    flat: bool = False
    page: PageOptions = field(default_factory=PageOptions)
    engine: str = "auto"
    jobs: int = 1
    timeout: float = 30.0
    bind: str = ""
    bound: NamePattern = field(default_factory=lambda: NamePattern(BOUND_PATTERN))
    title: TextPattern | None = None
    unquote: bool = False
    run_on: bool = False
    generation: int = 0
    remote_images: bool = False
    remote_hosts: tuple[str, ...] = ()
    tags: tuple[TextPattern, ...] = ()
    lock: Lock | None = None
    exported: datetime | None = None
    cluster: str = ""
    registers: tuple[str, ...] = ("csv",)
    index: IndexOptions | None = None
    carried: bool = False
    numbered: str = ""
    sealing: Sealing | None = None
    keys: Keys | None = None
    senders: str = ""

    def __post_init__(self) -> None:
        if self.numbered and "pdf" not in self.formats:
            raise CallError("--numbered numbers the pages of PDFs: it needs pdf among --as.")
        if self.numbered and not _PREFIX.fullmatch(self.numbered):
            raise CallError(
                f"--numbered {one_line(self.numbered)!r}: at most 30 letters, digits, `-`, `_` and `.`, as HARB-."
            )
        for name in self.formats:
            if name not in FORMATS:
                raise CallError(f"there is no format {name!r}. Formats are: {', '.join(FORMATS)}.")
        if ATTACHMENTS in self.formats and "beside" not in self.page.attachments:
            raise CallError("--as attachments puts attachments beside the messages: it needs --attachments beside.")
        if ATTACHMENTS in self.formats and self.archive_formats:
            raise CallError("attachments go with pdf, eml, html and text. Make mbox and zip by a command of their own.")
        if self.bind and "pdf" not in self.formats:
            raise CallError("--bind makes PDFs, and no PDF is asked for. Add pdf to --as.")
        if self.bind and self.archive_formats:
            raise CallError("--bind goes with pdf, eml, html and text. Make mbox and zip by a command of their own.")
        if self.unquote and not self.bind:
            raise CallError("--unquote leaves out what stands earlier in the same bound PDF: it needs --bind.")
        if self.run_on and not self.bind:
            raise CallError("--run-on lets messages of one bound PDF follow one another on a page: it needs --bind.")
        if self.remote_hosts and not self.remote_images:
            raise CallError("--remote-host names a host that --remote-images may ask: it needs that.")
        if self.index is not None and self.lock is not None:
            raise CallError(
                "--index writes the texts of messages for any browser, which --password locks. Leave one out."
            )
        if self.lock is not None and self.page.archival:
            raise CallError(NO_LOCKED_ARCHIVE)

    def with_names(self, names: OfficeNames) -> ExportOptions:
        """The same with the office's own names for addresses."""
        return replace(self, page=replace(self.page, names=names))

    @cached_property
    def message_formats(self) -> tuple[str, ...]:
        return tuple(format.name for format in a_message() if format.name in self.formats)

    @cached_property
    def single_formats(self) -> tuple[str, ...]:
        """The formats of which each message becomes a file of its own."""
        return tuple(name for name in self.message_formats if not (self.bind and name == "pdf"))

    @property
    def attachments_alone(self) -> bool:
        """Whether files are made of attachments, and none of the message itself."""
        return self.formats == (ATTACHMENTS,)

    @property
    def keeps_messages(self) -> bool:
        """Whether what is made holds the messages themselves, so that they may go at the source."""
        return not (self.attachments_alone or self.carried)

    @property
    def volatile(self) -> bool:
        """Whether the same message does not make the same bytes each time."""
        return self.lock is not None or (self.page.cover is not None and self.exported is not None)

    @cached_property
    def page_formats(self) -> tuple[str, ...]:
        return tuple(name for name in self.message_formats if FORMATS[name].make is not None)

    @cached_property
    def archive_formats(self) -> tuple[str, ...]:
        return tuple(format.name for format in a_folder() if format.name in self.formats)

    @cached_property
    def beside(self) -> tuple[str, ...]:
        """Which files lie beside a message's own: `beside`, its attachments in a folder; `zip`, in a ZIP."""
        return tuple(way for way in ("beside", "zip") if way in self.page.attachments)

    @property
    def zone(self) -> tzinfo | None:
        return self.page.timezone()

    @cached_property
    def naming(self) -> str:
        """Equal for two exports that give the same names."""
        bound = f"|{self.bind}|{self.bound.text}" if self.bind else ""
        title = self.title or self.page.title
        bound += f"|{title.text}" if title else ""
        bound += f"|again {self.generation}" if self.generation else ""
        bound += f"|{self.page.language}" if self.page.language != ENGLISH else ""
        bound += f"|{self.page.names}" if self.page.names else ""
        return _short(f"{self.pattern.text}|{self.flat}|{self.page.zone}{bound}")

    @cached_property
    def _recipes(self) -> dict[str, str]:
        return {}

    def recipe(self, format: str) -> str:
        """Equal for two exports that make the same file of this format from the same message."""
        if format not in self._recipes:
            self._recipes[format] = self._recipe(format)
        return self._recipes[format]

    def with_keys(self, keys: Keys | None) -> ExportOptions:
        """The same for a source with these keys."""
        if keys is None:
            return self
        return replace(self, keys=keys if keys.opens else None, senders=keys.sender_mark)

    def made(self, base: str, notes: Iterable[Note]) -> str:
        """The recipe of a file that was made by a `base`, with these notes: which keys a protected message was opened
        and proved with belongs to it."""
        mark = self.keys.mark if self.keys is not None else ""
        return f"{base}{_KEYS}{mark}" if any(note.code in PROTECTION for note in notes) else base

    def is_made(self, recipe: str, notes: Iterable[Note], base: str) -> bool:
        """Whether a file of this recipe, with these notes, is as this export would make it by a `base`. What was opened
        with keys stays where these are not at hand."""
        made, _, mark = recipe.partition(_KEYS)
        if self.keys is None or made != base:
            return made == base
        codes = {note.code for note in notes}
        if mark == self.keys.mark or not codes & PROTECTION.keys():
            return True
        return "protection-opened" in codes and not self.keys.hold(mark)

    def _narrowed(self, ways: tuple[str, ...]) -> Iterator[str]:
        narrowed = dict(self.page.narrowed)
        return (":".join((way, *narrowed.get(way, ()))) for way in ways)

    def _recipe(self, format: str) -> str:
        beside = "|".join((*self._narrowed(self.beside), *(tag.text for tag in self.tags)))
        if format == "eml":
            return f"eml|{beside}" if beside else "eml"
        page = asdict(self.page)
        if not self.page.narrowed:
            del page["narrowed"]
        if self.page.language == ENGLISH:  # as folders made before there were others have it
            del page["language"]
        if not any(self.page.case):
            del page["case"]
        if self.page.title is None:
            del page["title"]
        if self.page.cover is None or not self.page.names:
            del page["names"]
        if not self.page.ocr:
            del page["ocr"]
        if len(set(self.page.margin)) == 1:  # as folders made before margins could differ have it
            page["margin"] = self.page.margin.top
        if format in FORMATS and FORMATS[format].archive is not None:
            return format
        more = ""
        if format == "pdf":
            lock = self.lock.recipe() if self.lock else ""
            more = f"{self.engine}|{[tag.text for tag in self.tags]}|{lock}|{self.bind}|{self.unquote}"
            more += "|run-on" if self.run_on else ""
        more += "|remote" if self.remote_images else ""
        more += f"|{self.senders}" if self.senders else ""
        return _short(f"{format}|{sorted(page.items())}|{more}")


def _short(text: str) -> str:
    return hashlib.sha256(text.encode("utf-8", "surrogateescape")).hexdigest()[:16]


@dataclass(frozen=True)
class Format:
    """A kind of file.

    `suffix` has its point; `label` is for people. `make` makes the file of one message, in a worker: a function of a
    module. `archive` writes the messages of a folder into one file, `messages` reads such a file. `beside` is not one
    file but what is attached, each in its own bytes, in a folder of the message's name. With none of these, the file is
    the message's own bytes.
    """

    name: str
    suffix: str
    label: str
    make: Maker | None = None
    archive: type[ArchiveWriter] | None = None
    messages: Callable[[BinaryIO], Iterator[Kept]] | None = None
    beside: bool = False


FORMATS: dict[str, Format] = {
    format.name: format
    for format in (
        Format("pdf", ".pdf", "PDF", make=to_pdf),
        Format("eml", ".eml", "EML"),
        Format("html", ".html", "HTML", make=to_html),
        Format("text", ".txt", "text", make=to_text),
        Format("mbox", ".mbox", "mbox", archive=MboxWriter, messages=messages_of_mbox),
        Format("zip", ".zip", "ZIP", archive=ZipWriter, messages=messages_of_zip),
        Format(ATTACHMENTS, "", "files of attachments", beside=True),
    )
}


def a_message() -> list[Format]:
    """The formats of which each message becomes a file."""
    return [format for format in FORMATS.values() if format.archive is None and not format.beside]


def a_folder() -> list[Format]:
    """The formats of which each folder becomes a file."""
    return [format for format in FORMATS.values() if format.archive is not None]


def suffix(name: str) -> str:
    """What the files of a format end with."""
    return FORMATS[name].suffix


@dataclass(frozen=True)
class IndexOptions:
    """The title of a page to browse ("": the folder's name), the office that it is of, its picture (media type and
    bytes), the language of labels, and the order in which it opens (none: the newest first)."""

    title: str = ""
    office: str = ""
    picture: tuple[str, bytes] | None = None
    language: str = ENGLISH
    sort: tuple[str, ...] = ()
