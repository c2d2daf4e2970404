"""Mailboxes in files: what is there decides what is read, whether on a disk or in a ZIP."""

from __future__ import annotations

import os
from collections.abc import Callable, Iterable, Iterator
from difflib import get_close_matches
from pathlib import Path
from typing import BinaryIO

from wexagraph.errors import FolderError, MessageError, SourceError
from wexagraph.files import visible
from wexagraph.messages.message import Message, is_one_text
from wexagraph.naming.paths import free_name
from wexagraph.sources.base import WHOLE, Envelope, Leaf, Original, Partition, Source, Trouble, Wanted, listed
from wexagraph.sources.eml import EML
from wexagraph.sources.kinds import CHANGED, Kind, Store
from wexagraph.sources.maildir import MAILDIR
from wexagraph.sources.marked import BABYL, MMDF
from wexagraph.sources.mbox import MBOX
from wexagraph.sources.pst import PST
from wexagraph.sources.trees import DiskTree, File, NamedFiles, OneFile, Tree, ZipTree
from wexagraph.zips import UNREADABLE

KINDS: list[Kind] = [MAILDIR, EML, MBOX, PST, MMDF, BABYL]
"""All kinds of mailbox in files, in the order in which their folders get names. A new kind is a line here."""
_LINKS, _SALVAGE = "links:", "salvage:"
"""Stand before the address of a source whose links are followed, and in which lost messages are looked for."""
_ZIP_MARKS = (b"PK\x03\x04", b"PK\x05\x06")


def looked_for() -> str:
    """What a source in files may be, for people."""
    return ", ".join(kind.looks_like for kind in KINDS) + ", or a ZIP of any of these"


def open_address(address: str, links: bool, salvage: bool) -> LocalSource:
    """Open the mailbox in files of an address, or of a path. Raises SourceError."""
    links, address = links or address.startswith(_LINKS), address.removeprefix(_LINKS)
    salvage, address = salvage or address.startswith(_SALVAGE), address.removeprefix(_SALVAGE)
    return open_local(Path(address).expanduser(), links, salvage)


def open_local(path: Path, links: bool = False, salvage: bool = False) -> LocalSource:
    """Open the mailbox that lies at `path`. Raises SourceError, saying what was looked for.

    Links to files in a folder are followed only with `links`; with `salvage`, messages that no folder lists are looked
    for.
    """
    try:
        if path.is_dir():
            return LocalSource(DiskTree(path, links), path, links, salvage)
        if path.exists() and not path.is_file():
            raise SourceError(f"{path} is a pipe or a device, which can't be read twice. Save it as a file first.")
        with open(path, "rb") as file:
            head = file.read(4096)
    except FileNotFoundError as error:
        raise SourceError(f"{path} does not exist.{_nearest(path)}") from error
    except OSError as error:
        raise SourceError(f"{path} can't be read: {error.strerror or error}. Check its permissions.") from error
    if head.startswith(_ZIP_MARKS):
        return LocalSource(ZipTree(path), path, salvage=salvage)
    if not head.strip(b"\0 \t\r\n") and path.suffix.lower() != ".eml":
        raise SourceError(f"{path} is empty. A source is {looked_for()}.")
    tree = OneFile(path)
    name = next(iter(tree.files())).path
    if not any(kind.claims(name, _Head(tree, name)) for kind in KINDS):
        raise SourceError(f"{path} is not a mailbox that Wexagraph can read. A source is {looked_for()}.")
    return LocalSource(tree, path, salvage=salvage)


def open_files(folder: Path, paths: Iterable[str]) -> LocalSource:
    """Open some messages in files as a source, by their paths in a folder. Raises SourceError."""
    return LocalSource(NamedFiles(folder, paths), folder)


def _nearest(path: Path) -> str:
    try:
        near = get_close_matches(path.name, [p.name for p in path.parent.iterdir()], n=1)
    except OSError:
        return f" The folder {path.parent} is not there either."
    return f" Did you mean {path.parent / near[0]}?" if near else ""


class _Head:
    """The first bytes of a file, read when they are asked for; none where that fails, which `trouble` tells."""

    def __init__(self, tree: Tree, path: str) -> None:
        self._tree, self._path = tree, path
        self._bytes: bytes | None = None
        self.trouble = ""

    def __call__(self) -> bytes:
        if self._bytes is None:
            try:
                self._bytes = self._tree.head(self._path)
            except MessageError as error:
                self._bytes, self.trouble = b"", str(error).removeprefix(f"{self._path}: ")
        return self._bytes

    def holds(self, look: Callable[[BinaryIO], bool]) -> bool:
        """What a closer look at the file says."""
        try:
            with self._tree.open(self._path) as file:
                return look(file)
        except (MessageError, *UNREADABLE):
            return False


class LocalSource(Source):
    """A source in files, found by walking a tree once when it is opened."""

    reopens = True

    def __init__(self, tree: Tree, path: Path, links: bool = False, salvage: bool = False) -> None:
        place = os.path.abspath(path)
        super().__init__(visible(place), "", _LINKS * links + _SALVAGE * salvage + place)
        tree.salvage = salvage
        self._tree, self._path = tree, path
        self._stores: dict[str, Store] = {}
        try:
            self._discover()
        except BaseException:
            tree.close()
            raise
        self.troubles += [Trouble(where, reason) for where, reason in tree.troubles]
        if not self._stores:
            self.close()
            lost = "".join(f" {t.where}: {t.reason}." for t in self.troubles[:3])
            raise SourceError(f"{path} holds no mail.{lost} A source is {looked_for()}.")

    def _discover(self) -> None:
        """Walk through the files once, and let each kind make folders of those that are its own."""
        files: dict[str, list[File]] = {kind.label: [] for kind in KINDS}
        for file in self._tree.files():
            head = _Head(self._tree, file.path)
            kind = next((kind for kind in KINDS if kind.claims(file.path, head)), None)
            if kind is not None:
                files[kind.label].append(file)  # what can't be read will be counted as failed, with the reason
            elif head.trouble:
                self.troubles.append(Trouble(file.path, head.trouble))
            elif head().startswith(_ZIP_MARKS) and file.path.lower().endswith(".zip"):
                what = "a ZIP inside a source is not opened; give it as a source itself"
                self.troubles.append(Trouble(file.path, what))
        itself = Path(os.path.abspath(self._path))
        own = visible(itself.name if itself.is_dir() else itself.stem) or "mail"
        labels = []
        for kind in KINDS:
            count = len(self._stores)
            for wish, store in kind.stores(self._tree, files[kind.label], own):
                store.folder = free_name(wish, "", self._stores.__contains__)
                self._stores[store.folder] = store
            if len(self._stores) > count:
                labels.append(kind.label)
        self.kind = ", ".join(labels)
        if isinstance(self._tree, ZipTree):
            self.kind = f"ZIP of {self.kind}"
        self.kind += "".join(f" ({remark})" for remark in self._tree.remarks[:3])

    def close(self) -> None:
        for store in self._stores.values():
            store.close()
        self._tree.close()

    def folders(self) -> list[str]:
        return sorted(self._stores)

    def settle(self) -> None:
        for name, store in self._stores.items():
            if store.was_rewritten():
                self.troubles.append(Trouble(name, CHANGED))
            self.troubles += [Trouble(name, what) for what in store.damage()]

    def size(self, folder: str) -> int:
        try:
            return self._stores[folder].size()
        except OSError:
            return 0

    def folder_stamp(self, folder: str) -> str:
        try:
            return self._stores[folder].stamp()
        except OSError:
            return ""

    def outline(self, folder: str, share: Partition = WHOLE) -> Iterator[Envelope]:
        try:
            yield from self._stores[folder].outline(share)
        except OSError as error:
            raise self._failed(folder, error) from error

    def envelopes(self, folder: str, share: Partition = WHOLE, wanted: Wanted | None = None) -> Iterator[Envelope]:
        try:
            yield from self._stores[folder].envelopes(share)
        except OSError as error:
            raise self._failed(folder, error) from error

    def _failed(self, folder: str, error: OSError) -> SourceError:
        return self._lost() or FolderError(folder, error.strerror or str(error))

    def _lost(self) -> SourceError | None:
        """What became of the whole source while it was read; None where it is still there."""
        try:
            os.stat(self._path)
        except PermissionError as error:
            return SourceError(f"{error.filename} may not be read any more. Ask for the right to, and run it again.")
        except OSError:
            return SourceError(
                f"{self._path} has gone while it was read. Bring it back and run the same command again."
            )
        return None

    def read(self, envelope: Envelope) -> bytes:
        if envelope.trouble:
            raise MessageError(envelope.trouble)
        try:
            return self._stores[envelope.folder].read(envelope)
        except MessageError as error:
            lost = self._lost()
            if lost is not None:
                raise lost from error
            raise
        except MemoryError as error:
            raise MessageError(f"{envelope.size} bytes are more than this machine's memory can hold") from error

    def original(self, envelope: Envelope) -> Original | None:
        return self._stores[envelope.folder].original(envelope)

    def attachments(self, envelope: Envelope) -> list[Leaf]:
        store = self._stores[envelope.folder]
        try:
            data = b"" if store.bare(envelope) else store.read(envelope)
        except MessageError:
            return []
        return [] if is_one_text(data) else listed(Message(data))
