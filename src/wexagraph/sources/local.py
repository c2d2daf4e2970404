"""Mailboxes in files: what is there decides what is read, whether on a disk or in a ZIP."""

from __future__ import annotations

import os
import re
from collections.abc import Iterator
from difflib import get_close_matches
from pathlib import Path

from wexagraph.errors import FolderError, MessageError, SourceError
from wexagraph.files import visible
from wexagraph.messages import Message
from wexagraph.messages.headers import header_end
from wexagraph.messages.message import is_one_text
from wexagraph.sources.base import WHOLE, Envelope, Leaf, Partition, Source, Trouble, Wanted, listed
from wexagraph.sources.files import CHANGED, Files, Maildir
from wexagraph.sources.mbox import Mbox, is_mbox
from wexagraph.sources.trees import DiskTree, File, OneFile, Tree, ZipTree
from wexagraph.sources.utf7 import decode_utf7

LOOKED_FOR = (
    "an EML message, a folder of EML files, an mbox file or a folder of them, a Maildir, or a ZIP of any of these"
)
LINKS = "links:"
"""Stands before the address of a source whose links are followed."""
_ZIP_MARKS = (b"PK\x03\x04", b"PK\x05\x06")
_FIRST_FIELD = re.compile(rb"(?:\xef\xbb\xbf)?[!-9;-~]+[ \t]*:")
_KNOWN_FIELD = re.compile(
    rb"(?im)^(?:\xef\xbb\xbf)?(?:from|to|cc|date|subject|received|message-id|return-path|mime-version|sender|reply-to|"
    rb"delivered-to|content-type)[ \t]*:"
)
Store = Files | Mbox


def open_local(path: Path, links: bool = False) -> LocalSource:
    """Open the mailbox that lies at `path`. Raises SourceError, saying what was looked for.

    Links to files in a folder are followed only with `links`.
    """
    try:
        if path.is_dir():
            return LocalSource(DiskTree(path, links), path, links)
        if path.exists() and not path.is_file():
            raise SourceError(f"{path} is a pipe or a device, which can't be read twice. Save it as a file first.")
        with open(path, "rb") as file:
            head = file.read(4096)
    except FileNotFoundError as error:
        raise SourceError(f"{path}: there is nothing of that name.{_nearest(path)}") from error
    except OSError as error:
        raise SourceError(f"{path} can't be read: {error.strerror or error}. Check its permissions.") from error
    if head.startswith(_ZIP_MARKS):
        return LocalSource(ZipTree(path), path)
    if not head.strip(b"\0 \t\r\n") and path.suffix.lower() != ".eml":
        raise SourceError(f"{path} is empty. A source is {LOOKED_FOR}.")
    if not _is_mail(path.name, head):
        raise SourceError(f"{path} is no mailbox that is known here: it begins like none. A source is {LOOKED_FOR}.")
    return LocalSource(OneFile(path), path)


def _nearest(path: Path) -> str:
    try:
        near = get_close_matches(path.name, [p.name for p in path.parent.iterdir()], n=1)
    except OSError:
        return f" The folder {path.parent} is not there either."
    return f" Did you mean {path.parent / near[0]}?" if near else ""


def _is_mail(name: str, head: bytes) -> bool:
    return is_mbox(name, head) or name.lower().endswith(".eml") or looks_like_message(head)


def looks_like_message(head: bytes) -> bool:
    """Whether a file with these first bytes is an RFC 5322 message: fields first, and one of the usual ones."""
    if not _FIRST_FIELD.match(head):
        return False
    return _KNOWN_FIELD.search(head[: header_end(head)]) is not None


class LocalSource(Source):
    """A source in files, found by walking a tree once when it is opened."""

    reopens = True

    def __init__(self, tree: Tree, path: Path, links: bool = False) -> None:
        place = os.path.abspath(path)
        super().__init__(location=visible(place), kind="", address=f"{LINKS}{place}" if links else place)
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
            raise SourceError(f"{path} holds no mail.{lost} A source is {LOOKED_FOR}.")

    def _discover(self) -> None:
        maildirs: dict[str, list[File]] = {}
        messages: dict[str, list[File]] = {}
        mboxes: list[File] = []
        for file in self._tree.files():
            folder, _, name = file.path.rpartition("/")
            parent, _, last = folder.rpartition("/")
            if last in ("cur", "new") or folder in ("cur", "new"):
                maildirs.setdefault(parent, []).append(file)
                continue
            if last == "tmp" or folder == "tmp":
                continue  # a Maildir's deliveries under way
            try:
                head = self._tree.head(file.path)
            except MessageError as error:
                if name.lower().endswith(".eml"):
                    messages.setdefault(folder, []).append(file)  # it will be counted as failed, with the reason
                else:
                    self.troubles.append(Trouble(file.path, str(error).removeprefix(f"{file.path}: ")))
                continue
            if is_mbox(name, head):
                mboxes.append(file)
            elif _is_mail(name, head):
                messages.setdefault(folder, []).append(file)
            elif head.startswith(_ZIP_MARKS) and name.lower().endswith(".zip"):
                self.troubles.append(
                    Trouble(file.path, "a ZIP inside a source is not opened; give it as a source itself")
                )
        for place in self._empty_maildirs() - maildirs.keys():
            maildirs[place] = []
        self._add_stores(maildirs, messages, mboxes)
        kinds = {"Maildir": maildirs, "mbox": mboxes, "EML": messages}
        self.kind = " and ".join(kind for kind, found in kinds.items() if found)
        if isinstance(self._tree, ZipTree):
            self.kind = f"ZIP of {self.kind}"

    def _empty_maildirs(self) -> set[str]:
        """Maildir folders without a message, which the walk over files can't see."""
        if not isinstance(self._tree, DiskTree) or isinstance(self._tree, OneFile):
            return set()
        root = self._tree.root
        places = [root, *(p for p in root.glob(".*") if p.is_dir())]
        found = {p for p in places if (p / "cur").is_dir() and (p / "new").is_dir()}
        return {"" if p == root else p.name for p in found}

    def _add_stores(self, maildirs: dict[str, list[File]], messages: dict[str, list[File]], mboxes: list[File]) -> None:
        itself = Path(os.path.abspath(self._path))
        own = visible(itself.name if itself.is_dir() else itself.stem) or "mail"
        for place, files in sorted(maildirs.items()):
            name = self._free(maildir_name(place))
            files.sort(key=lambda file: file.path.rpartition("/")[2])
            self._stores[name] = Maildir(self._tree, name, files)
        for place, files in sorted(messages.items()):
            name = self._free(place or own)
            self._stores[name] = Files(self._tree, name, files)
        for file in mboxes:
            path = own if isinstance(self._tree, OneFile) else file.path
            name = self._free(path[:-5] if path.lower().endswith(".mbox") else path)
            try:
                self._stores[name] = Mbox(self._tree.on_disk(file.path), name)
            except MessageError as error:
                self.troubles.append(Trouble(file.path, str(error).removeprefix(f"{file.path}: ")))

    def _free(self, name: str) -> str:
        found, number = name, 1
        while found in self._stores:
            number += 1
            found = f"{name} ({number})"
        return found

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
        if not self._path.exists():
            return SourceError(
                f"{self._path} has gone while it was read. Bring it back and run the same command again."
            )
        return FolderError(folder, error.strerror or str(error))

    def read(self, envelope: Envelope) -> bytes:
        if envelope.trouble:
            raise MessageError(envelope.trouble)
        try:
            return self._stores[envelope.folder].read(envelope)
        except MessageError as error:
            if not self._path.exists():
                raise SourceError(
                    f"{self._path} has gone while it was read. Bring it back and run the same command again."
                ) from error
            raise
        except MemoryError as error:
            raise MessageError(f"{envelope.size} bytes are more than this machine's memory can hold") from error

    def attachments(self, envelope: Envelope) -> list[Leaf]:
        try:
            data = self._stores[envelope.folder].read(envelope)
        except MessageError:
            return []
        return [] if is_one_text(data) else listed(Message(data))


def maildir_name(place: str) -> str:
    """A Maildir's folder name: INBOX for the root, Maildir++ names (".Berths.East") with `/` between levels."""
    if not place:
        return "INBOX"
    above, _, last = place.rpartition("/")
    if last.startswith("."):
        last = "/".join(decode_utf7(level) for level in last[1:].split("."))
    return f"{above}/{last}" if above else last
