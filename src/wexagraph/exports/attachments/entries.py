"""What is known of an attachment: its message, its file, its PDF."""

from __future__ import annotations

from dataclasses import dataclass


@dataclass(slots=True)
class Origin:
    """The message that attachments are from: where it lies, when it is from, what is `written` of people and subject
    (see `written_by`); `sha256` and `size` are of its bytes."""

    folder: str
    place: str
    stamp: str
    id: str
    date: str = ""
    written: tuple[str, ...] = ("",)
    sha256: str = ""
    size: int = 0
    source: str = ""

    @property
    def subject(self) -> str:
        """Its subject."""
        return self.written[-1]


@dataclass(slots=True)
class Document:
    """The PDF of an attachment, or the bound one that it is in: its path ("" where none could be made), and in words
    what happened to the attachment. `recipe` says how it was made."""

    state: str
    path: str = ""
    size: int = 0
    sha256: str = ""
    modified: int = 0
    recipe: str = ""


@dataclass(slots=True)
class Entry:
    """An attachment: the part of its message that it is, the path it would like, its name as it came, its file (no
    path where only a PDF was made of it), and its PDF."""

    origin: Origin
    key: str
    wish: str
    name: str
    type: str
    size: int
    sha256: str
    path: str = ""
    modified: int = 0
    note: str = ""
    recipe: str = ""
    document: Document | None = None
