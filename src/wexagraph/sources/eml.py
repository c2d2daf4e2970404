"""Messages that are files of their own: EML, or another form of one message (`messages/forms.py`); folders of them."""

from __future__ import annotations

import hashlib
import re
from collections.abc import Iterator
from typing import BinaryIO

from wexagraph.errors import MessageError
from wexagraph.messages.forms import FORMS, Form, form_of
from wexagraph.messages.headers import Header, header_end
from wexagraph.sources.base import WHOLE, Envelope, Original, Partition
from wexagraph.sources.kinds import CHANGED, Head, Kind, Store
from wexagraph.sources.mbox import is_mbox
from wexagraph.sources.trees import File, Tree
from wexagraph.zips import UNREADABLE

_HEAD = 8 * 1024
_MAGIC = max(len(form.magic) for form in FORMS)
_SUFFIXES = (".eml", *(form.suffix for form in FORMS))
_MOST_HEAD = 16 * 1024 * 1024
_FIRST_FIELD = re.compile(rb"(?:\xef\xbb\xbf)?[!-9;-~]+[ \t]*:")
_KNOWN_FIELD = re.compile(
    rb"(?im)^(?:\xef\xbb\xbf)?(?:from|to|cc|date|subject|received|message-id|return-path|mime-version|sender|reply-to|"
    rb"delivered-to|content-type)[ \t]*:"
)


class EmlFolder:
    """A folder whose messages are files in a tree. Subclasses say what a file's name tells."""

    def __init__(self, tree: Tree, files: list[File]) -> None:
        self.tree, self._files, self.folder = tree, files, ""

    def close(self) -> None:
        """Nothing is held open between two messages."""

    def size(self) -> int:
        """Bytes of all its files."""
        return sum(file.size for file in self._files)

    def stamp(self) -> str:
        """Changes with any name, size or time of its files."""
        digest = hashlib.blake2b(digest_size=16)
        for file in self._files:
            digest.update(f"{file.path}\0{file.stamp}\0".encode("utf-8", "surrogateescape"))
        return digest.hexdigest()

    def was_rewritten(self) -> bool:
        """Each message is looked at when it is read."""
        return False

    def damage(self) -> list[str]:
        """Nothing but what reading a message tells."""
        return []

    def outline(self, share: Partition = WHOLE) -> Iterator[Envelope]:
        """Envelopes without headers: no file is opened, but of a form that keeps flags inside."""
        return (self._read(file) if _keeps_flags(file) else self._envelope(file) for file in self._share(share))

    def _share(self, share: Partition) -> list[File]:
        start, stop = (len(self._files) * number // share[1] for number in (share[0], share[0] + 1))
        return self._files[start:stop]

    def envelopes(self, share: Partition = WHOLE) -> Iterator[Envelope]:
        """Envelopes in the order of the file names."""
        return map(self._read, self._share(share))

    def _read(self, file: File) -> Envelope:
        envelope = self._envelope(file)
        try:
            block, flags = _read_head(self.tree, file.path)
            envelope.header = Header(block)
            envelope.flags |= flags if _keeps_flags(file) else frozenset()
        except MessageError as error:
            envelope.trouble = str(error)
        return envelope

    def _envelope(self, file: File) -> Envelope:
        return Envelope(
            folder=self.folder,
            place=self._place(file),
            size=file.size,
            header=Header(b""),
            stamp=file.stamp,
            flags=self._flags(file),
            arrived=file.modified,
        )

    def _place(self, file: File) -> str:
        return file.path

    def _flags(self, file: File) -> frozenset[str]:
        return frozenset()

    def _path(self, envelope: Envelope) -> str:
        return envelope.place

    def read(self, envelope: Envelope) -> bytes:
        """The message's bytes: those of the file, or what is made of them. Raises MessageError."""
        data = self._file(envelope)
        form = form_of(data[:_MAGIC])
        if form is None:
            return data
        try:
            return form.mail(data)
        except MessageError as error:
            raise MessageError(f"{self._path(envelope)}: {error}") from error

    def bare(self, envelope: Envelope) -> bool:
        """Nothing is known of a message that was not read."""
        return False

    def original(self, envelope: Envelope) -> Original | None:
        """The file that the message is made from; None where it is the file. Raises MessageError."""
        data = self._file(envelope)
        form = form_of(data[:_MAGIC])
        return Original(f"original message{form.suffix}", form.type, data) if form is not None else None

    def _file(self, envelope: Envelope) -> bytes:
        path = self._path(envelope)
        with self.tree.open(path) as file:
            try:
                data = file.read()
            except UNREADABLE as error:
                raise MessageError(f"{path}: {error}") from error
            now = self.tree.stamp(file)
        if now and envelope.stamp and now != envelope.stamp:
            raise MessageError(f"{path}: {CHANGED}")
        return data


def _keeps_flags(file: File) -> bool:
    """Whether a file is of a form that keeps flags, by its name."""
    return file.path.lower().endswith(tuple(form.suffix for form in FORMS))


def _read_head(tree: Tree, path: str) -> tuple[bytes, frozenset[str]]:
    """The header block of a message file, up to its empty line, and flags that it keeps. Raises MessageError."""
    with tree.open(path) as file:
        try:
            data, size = file.read(_HEAD), _HEAD
            form = form_of(data)
            if form is not None:
                return _of_form(form, file, path)
            while (end := header_end(data)) >= len(data) and len(data) == size and size < _MOST_HEAD:
                data += file.read(size * 3)
                size *= 4
        except UNREADABLE as error:
            raise MessageError(f"{path}: {error}") from error
    return data[:end], frozenset()


def _of_form(form: Form, file: BinaryIO, path: str) -> tuple[bytes, frozenset[str]]:
    try:
        return form.header(file)
    except MessageError as error:
        raise MessageError(f"{path}: {error}") from error


def looks_like_message(head: bytes) -> bool:
    """Whether a file with these first bytes is an RFC 5322 message: fields first, and one of the usual ones."""
    if not _FIRST_FIELD.match(head):
        return False
    return _KNOWN_FIELD.search(head[: header_end(head)]) is not None


def _claims(path: str, head: Head) -> bool:
    name = path.rpartition("/")[2].lower()
    form = form_of(head())
    if form is not None:
        return name.endswith(form.suffix) or head.holds(form.holds)
    return not is_mbox(name, head()) and (name.endswith(_SUFFIXES) or looks_like_message(head()))


def _stores(tree: Tree, files: list[File], own: str) -> Iterator[tuple[str, Store]]:
    folders: dict[str, list[File]] = {}
    for file in files:
        folders.setdefault(file.path.rpartition("/")[0], []).append(file)
    for place, its in sorted(folders.items()):
        yield place or own, EmlFolder(tree, its)


EML = Kind("EML", "an EML or MSG message or a folder of them", _claims, _stores)
