"""What messages can become: a file each, or one file a folder. A new format is an entry here."""

from __future__ import annotations

from collections.abc import Callable, Iterator
from dataclasses import dataclass
from typing import BinaryIO

from wexagraph.output.archives import ArchiveWriter, Kept, MboxWriter, ZipWriter, messages_of_mbox, messages_of_zip
from wexagraph.pages.make import Maker, to_html, to_pdf, to_text

ATTACHMENTS = "attachments"


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
