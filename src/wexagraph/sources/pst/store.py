"""Personal folder files as a kind of mailbox: their folders, and the messages in them ([MS-PST] section 2.4)."""

from __future__ import annotations

import os
from collections.abc import Iterator
from pathlib import Path

from wexagraph.errors import MessageError
from wexagraph.messages.headers import Header
from wexagraph.messages.mapi.fields import flags_of, header_block
from wexagraph.messages.mapi.mail import mail_of
from wexagraph.messages.mapi.properties import Properties
from wexagraph.naming.paths import free_name
from wexagraph.sources.base import WHOLE, Envelope, Original, Partition
from wexagraph.sources.kinds import CHANGED, Head, Kind, Store
from wexagraph.sources.pst.items import Items
from wexagraph.sources.pst.nodes import MAGIC, Node, NodeFile
from wexagraph.sources.pst.tables import Table
from wexagraph.sources.trees import File, OneFile, Tree
from wexagraph.text import one_line

_STORE, _ROOT = 0x21, 0x122
_FOLDER, _MESSAGE = 0x02, 0x04
_HIERARCHY, _CONTENTS = 0x0D, 0x0E
_NAME, _SIZE, _FLAGS, _SUBTREE, _PASSWORD = 0x3001, 0x0E08, 0x0E07, 0x35E0, 0x67FF
_TOP = "IPM_SUBTREE"
_DEEPEST, _MOST_FOLDERS = 50, 100_000
SALVAGED = "Salvaged"
"""The folder of messages that no folder lists any more."""


class PersonalFolders:
    """An open personal folder file: its folders by their paths, and what is wrong with it."""

    def __init__(self, path: Path, salvage: bool = False) -> None:
        self.path = path
        self.file = NodeFile(path)
        about = os.fstat(self.file.fileno())
        self._state = (about.st_size, about.st_mtime_ns)
        self.items = Items(self.file)
        self.troubles: list[str] = []
        self.locked = False
        self._parents: dict[int, list[Node]] | None = None
        self.folders: dict[str, PstFolder] = {}
        self._seen: set[int] = set()
        self._told: set[str] = set()
        try:
            self._find_folders()
            if salvage:
                self._salvage()
        except BaseException:
            self.file.close()
            raise
        self.troubles += self.new_damage()
        if not self.folders:
            self.file.close()

    def new_damage(self) -> list[str]:
        """What of the file was found to be damaged since this was asked last."""
        new = [what for what in self.file.damage if what not in self._told]
        self._told.update(new)
        return new

    def was_rewritten(self) -> bool:
        """Whether the file was changed since it was opened."""
        about = os.stat(self.path)
        return (about.st_size, about.st_mtime_ns) != self._state

    def _find_folders(self) -> None:
        root = self.file.node(_ROOT)
        top = self._top()
        for each in [top] if top is not None else self._tops(root):
            self._walk(each, "", 0, always=True)
        if root is not None:
            self._walk(root, "", 0, always=False)
        else:
            self.troubles.append("its tree of folders can't be read")
        for node in self._below(None) if root is None else ():
            self._walk(node, self._name(node), 0, always=False)

    def _top(self) -> Node | None:
        """The folder below which a person's own folders lie."""
        try:
            store = self.file.node(_STORE)
            properties = self.items.properties(store) if store is not None else Properties({})
        except MessageError as error:
            self.troubles.append(f"what it says of itself can't be read: {error}")
            return None
        self.locked = properties.number(_PASSWORD) != 0
        entry = properties.binary(_SUBTREE)
        return self.file.node(int.from_bytes(entry[20:24], "little")) if len(entry) >= 24 else None

    def _tops(self, root: Node | None) -> list[Node]:
        """The folders below which people's folders lie in a copy of a mailbox on a server, which names none."""
        stores = self._children(root) if root is not None else []
        return [node for store in stores for node in self._children(store) if self._name(node) == _TOP]

    def _walk(self, node: Node, path: str, depth: int, always: bool) -> None:
        """Take in a folder and those below it; one without messages only where `always`."""
        if node.nid in self._seen or depth > _DEEPEST or len(self.folders) >= _MOST_FOLDERS:
            return
        self._seen.add(node.nid)
        if path:
            folder = PstFolder(self, node)
            if always or len(folder):
                self.folders[free_name(path, "", self.folders.__contains__)] = folder
        for child in self._children(node):
            name = self._name(child)
            self._walk(child, f"{path}/{name}" if path else name, depth + 1, always)

    def _children(self, node: Node) -> list[Node]:
        table_node = self.file.node(node.nid & ~0x1F | _HIERARCHY)
        if table_node is not None:
            try:
                rows = list(Table(self.file, table_node).rows())
                children = [self.file.node(nid) for nid, _ in rows if nid & 0x1F == _FOLDER]
                if None not in children:
                    return [child for child in children if child is not None]
            except MessageError as error:
                self.troubles.append(f"the list of folders below {self._name(node) or 'the root'}: {error}")
        return self._below(node)

    def _below(self, node: Node | None) -> list[Node]:
        """The folders whose parent is a node, or whose parent is not there, as they say themselves."""
        parents = self.by_parent()
        if node is not None:
            return [child for child in parents.get(node.nid, ()) if child.nid & 0x1F == _FOLDER and child != node]
        folders = {child.nid for children in parents.values() for child in children if child.nid & 0x1F == _FOLDER}
        lost = (children for nid, children in parents.items() if nid not in folders)
        return [child for children in lost for child in children if child.nid & 0x1F == _FOLDER]

    def by_parent(self) -> dict[int, list[Node]]:
        """Folders and messages by the node above them, as their own entries in the index say."""
        if self._parents is None:
            self._parents = {}
            for node in self.file.nodes():
                if node.nid & 0x1F in (_FOLDER, _MESSAGE):
                    self._parents.setdefault(node.parent, []).append(node)
        return self._parents

    def _name(self, node: Node) -> str:
        try:
            name = self.items.properties(node, (_NAME,)).text(_NAME)
        except MessageError:
            name = ""
        return one_line(name).replace("/", "\N{DIVISION SLASH}").strip() or f"folder {node.nid:x}"

    def _salvage(self) -> None:
        """Find the messages that no folder lists."""
        listed = {nid for folder in self.folders.values() for nid in folder.ids()}
        lost = [node for nodes in self.by_parent().values() for node in nodes]
        ids = sorted(node.nid for node in lost if node.nid & 0x1F == _MESSAGE and node.nid not in listed)
        if ids:
            self.folders[free_name(SALVAGED, "", self.folders.__contains__)] = PstFolder(self, None, ids)


class PstFolder:
    """A folder of a personal folder file, or the messages of some numbers (`ids`)."""

    def __init__(self, own: PersonalFolders, node: Node | None, ids: list[int] | None = None) -> None:
        self.own, self.node, self.folder = own, node, ""
        self._ids = ids
        self._contents = own.file.node(node.nid & ~0x1F | _CONTENTS) if node is not None else None
        self._table: Table | None = None
        if ids is None:
            try:
                self._table = Table(own.file, self._contents) if self._contents is not None else None
            except MessageError as error:
                children = own.by_parent().get(node.nid, ()) if node is not None else ()
                self._ids = sorted(child.nid for child in children if child.nid & 0x1F == _MESSAGE)
                name = own._name(node) if node is not None else SALVAGED
                own.troubles.append(
                    f"the list of messages in {name}: {error}. {len(self._ids)} that name it as theirs are read"
                )

    def __len__(self) -> int:
        return len(self._ids) if self._ids is not None else len(self._table) if self._table is not None else 0

    def ids(self) -> Iterator[int]:
        """The numbers of its messages."""
        return (nid for nid, _ in self._rows())

    def _rows(self, share: Partition = WHOLE) -> Iterator[tuple[int, bytes]]:
        first, last = (len(self) * number // share[1] for number in (share[0], share[0] + 1))
        if self._ids is not None:
            return ((nid, b"") for nid in self._ids[first:last])
        return self._table.rows(first, last) if self._table is not None else iter(())

    def close(self) -> None:
        """The file is closed with the first of its folders."""
        if self.own.folders:
            self.own.folders = {}
            self.own.file.close()

    def size(self) -> int:
        """About the bytes of its messages, as its list says."""
        return sum(self._table.number(row, _SIZE) for _, row in self._rows()) if self._table is not None else 0

    def stamp(self) -> str:
        """Changes with the list of its messages, which is written anew with each change."""
        node = self._contents
        return f"{node.data:x}.{node.sub:x}" if node is not None and self._ids is None else ""

    def was_rewritten(self) -> bool:
        """Whether the file was changed meanwhile."""
        return self.own.was_rewritten()

    def damage(self) -> list[str]:
        """What of the file could not be read since it was asked last."""
        return self.own.new_damage()

    def outline(self, share: Partition = WHOLE) -> Iterator[Envelope]:
        """Envelopes without headers."""
        return self._envelopes(share, headers=False)

    def envelopes(self, share: Partition = WHOLE) -> Iterator[Envelope]:
        """Envelopes by their numbers; no body is read."""
        return self._envelopes(share, headers=True)

    def _envelopes(self, share: Partition, headers: bool) -> Iterator[Envelope]:
        items = self.own.items
        for nid, row in self._rows(share):
            size = self._table.number(row, _SIZE) if row and self._table is not None else 0
            node = self.own.file.node(nid)
            envelope = Envelope(self.folder, f"{nid:08x}", size, Header(b""))
            if node is None:
                envelope.trouble = f"message {nid:x} is listed in its folder, and is not in the file's index"
            else:
                envelope.stamp = f"{node.data:x}.{node.sub:x}"
                try:
                    if headers:
                        item = items.listed(node)
                        properties, envelope.header = item.properties, Header(header_block(item))
                    else:
                        properties = items.flags(node)
                    envelope.flags, envelope.arrived = flags_of(properties), properties.moment(0x0E06)
                except MessageError as error:
                    envelope.trouble = str(error)
            yield envelope

    def read(self, envelope: Envelope) -> bytes:
        """The message's bytes, made of its properties. Raises MessageError."""
        try:
            nid = int(envelope.place, 16)
        except ValueError:
            nid = -1
        node = self.own.file.node(nid) if 0 <= nid < 2**32 else None
        if node is None or (envelope.stamp and envelope.stamp != f"{node.data:x}.{node.sub:x}"):
            raise MessageError(f"{self.own.path}: {CHANGED}")
        self.own.file.met.clear()
        return mail_of(self.own.items.item(node), met=self.own.file.met)

    def bare(self, envelope: Envelope) -> bool:
        """Whether it is a letter in HTML whose list of attachments is empty."""
        try:
            node = self.own.file.node(int(envelope.place, 16))
            return node is not None and self.own.items.is_bare(node)
        except (MessageError, ValueError):
            return False

    def original(self, envelope: Envelope) -> Original | None:
        """It lies in no file of its own."""
        return None


def _claims(path: str, head: Head) -> bool:
    return head().startswith(MAGIC)


def _stores(tree: Tree, files: list[File], own: str) -> Iterator[tuple[str, Store]]:
    for file in files:
        try:
            folders = PersonalFolders(tree.on_disk(file.path), tree.salvage)
        except (MessageError, OSError) as error:
            tree.troubles.append((file.path, str(error).removeprefix(f"{file.path}: ")))
            continue
        tree.troubles += [(file.path, trouble) for trouble in folders.troubles]
        if folders.locked:
            tree.remarks.append(f"{file.path} has a password: only a number that programs ask for")
        stem = file.path.rpartition(".")[0] or file.path
        above = "" if isinstance(tree, OneFile) else f"{stem}/"
        for name, folder in list(folders.folders.items()):
            yield above + name, folder


PST = Kind("PST", "a personal folder file (PST, OST)", _claims, _stores)
