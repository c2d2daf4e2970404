"""Messages of personal folder files as items: properties, recipients, attachments ([MS-PST] section 2.4.5)."""

from __future__ import annotations

from collections.abc import Collection, Iterator
from functools import cached_property

from wexagraph.errors import MessageError
from wexagraph.messages.mapi.fields import CATEGORIES, FLAGS, LISTED
from wexagraph.messages.mapi.item import DEEPEST, Attached, Item
from wexagraph.messages.mapi.properties import OBJECT, Key, Names, Properties
from wexagraph.sources.pst.nodes import Node, NodeFile
from wexagraph.sources.pst.tables import Heap, Table, property_values

_NAMES = 0x61
_RECIPIENTS, _ATTACHMENTS = 0x692, 0x671
_DATA, _CLASS, _HTML = 0x3701, 0x001A, 0x1013
_MOST_INNER = 2000
"""Messages within a message: a damaged or hostile file may let many name one another."""
_RECIPIENT = frozenset({0x0C15, 0x3001, 0x3002, 0x3003, 0x39FE, 0x5FF6})


class Items:
    """The items of a personal folder file."""

    def __init__(self, file: NodeFile) -> None:
        self.file = file
        self._left = _MOST_INNER

    @cached_property
    def _names(self) -> Names:
        """The names of its named properties."""
        node = self.file.node(_NAMES)
        if node is None:
            return Names(b"", b"", b"")
        try:
            values = property_values(Heap(self.file, node), None, lambda number: number)
        except MessageError:
            return Names(b"", b"", b"")
        properties = Properties(values)
        return Names(*(properties.binary(number) for number in (2, 3, 4)))

    @cached_property
    def _listed(self) -> frozenset[int]:
        """The numbers of the properties of which a header is made."""
        return LISTED | self._flags

    @cached_property
    def _flags(self) -> frozenset[int]:
        """The numbers of the properties that tell flags."""
        return FLAGS | {self._names.number(CATEGORIES)}

    def flags(self, node: Node) -> Properties:
        """The properties that tell a message's flags, and when it was delivered. Raises MessageError."""
        return Properties(property_values(Heap(self.file, node), self._flags, self._names.key))

    def properties(self, node: Node, wanted: Collection[int] | None = None, codepage: int = 0) -> Properties:
        """The properties of a node. Raises MessageError."""
        return Properties(property_values(Heap(self.file, node), wanted, self._names.key), codepage)

    def listed(self, node: Node) -> Item:
        """A message with the properties of which its header is made, and no attachments. Raises MessageError."""
        return self._item(node, self._listed, 0)

    def item(self, node: Node, depth: int = 0) -> Item:
        """A message with all that belongs to it. Raises MessageError."""
        self._left = _MOST_INNER if not depth else self._left - 1
        if self._left < 0:
            raise MessageError(f"more than {_MOST_INNER} messages lie in it")
        return self._item(node, None, depth)

    def is_bare(self, node: Node) -> bool:
        """Whether a message is a letter in HTML with no attachment. Raises MessageError."""
        heap = Heap(self.file, node)
        properties = Properties(property_values(heap, (_CLASS, _HTML), self._names.key))
        kind = properties.text(_CLASS).lower()
        if not kind.startswith("ipm.note") or "smime" in kind or not properties.raw(_HTML).strip():
            return False
        table = heap.subnodes().get(_ATTACHMENTS)
        return table is None or not len(Table(self.file, table))

    def _item(self, node: Node, wanted: Collection[int] | None, depth: int) -> Item:
        heap = Heap(self.file, node)
        properties = Properties(property_values(heap, wanted, self._names.key))
        item = Item("pst", properties, depth=depth)
        codepage = properties.number(0x3FFD) or properties.number(0x3FDE)
        item.recipients = lambda: self._recipients(heap, item, codepage)
        if wanted is None:
            item.attachments = lambda: self._attachments(heap, item, codepage)
        return item

    def _table(self, heap: Heap, nid: int, item: Item) -> Table | None:
        try:
            node = heap.subnodes().get(nid)
            return Table(self.file, node) if node is not None else None
        except MessageError as error:
            item.damage.append(str(error))
            return None

    def _recipients(self, heap: Heap, item: Item, codepage: int) -> list[Properties]:
        table = self._table(heap, _RECIPIENTS, item)
        rows = table.rows() if table is not None else ()
        return [Properties(table.values(row, _RECIPIENT), codepage) for _, row in rows if row] if table else []

    def _attachments(self, heap: Heap, item: Item, codepage: int) -> Iterator[Attached]:
        table = self._table(heap, _ATTACHMENTS, item)
        for nid, _ in table.rows() if table is not None else ():
            try:
                node = heap.subnodes().get(nid)
                if node is None:
                    raise MessageError(f"attachment {nid:x} is not there")
                yield self._attached(node, item.depth, codepage)
            except MessageError as error:
                item.damage.append(str(error))

    def _attached(self, node: Node, depth: int, codepage: int) -> Attached:
        heap = Heap(self.file, node)
        properties = Properties(property_values(heap, None, self._names.key), codepage)
        attached = Attached(properties)
        value = properties.values.get(_key(_DATA))
        if value is not None and value.type == OBJECT:
            raw = properties.raw(_DATA)
            inner = heap.subnodes().get(int.from_bytes(raw[:4], "little"))
            if inner is not None and properties.number(0x3705) == 5 and depth < DEEPEST:
                attached.item = lambda: self._inner(inner, depth + 1)
            elif inner is not None:
                attached.object = lambda: self.file.data(inner.data)
        return attached

    def _inner(self, node: Node, depth: int) -> Item:
        try:
            return self.item(node, depth)
        except MessageError as error:
            return Item("pst", Properties({}), depth=depth, damage=[str(error)])


def _key(number: int) -> Key:
    return number
