"""The structure tree of a PDF as bytes (ISO 32000-2, section 14.7)."""

from __future__ import annotations

from collections.abc import Callable, Iterable, Iterator, Mapping
from dataclasses import dataclass, field
from typing import NamedTuple

from wexagraph.pages.tagging.reading_order import Element

Order = tuple[float, float]
_KEPT_EMPTY = frozenset({"TD", "TH", "Document"})


class Piece(NamedTuple):
    """Marked content of an element: the holder that it stands in, and its number there."""

    holder: int
    number: int


@dataclass(frozen=True)
class Holder:
    """A page or a form that has marked content: the object number of the page, of the form where it is one, and its key
    in the parent tree."""

    page: int
    form: int | None
    key: int


@dataclass(eq=False, slots=True)
class Contents:
    """What the elements hold: marked content in the order of reading, and annotations, as object numbers with the page
    and the key in the parent tree."""

    pieces: dict[Element, list[tuple[Order, Piece]]] = field(default_factory=dict)
    annotations: dict[Element, list[tuple[int, int, int]]] = field(default_factory=dict)

    def add(self, element: Element, order: Order, piece: Piece) -> None:
        """Let an element hold marked content."""
        self.pieces.setdefault(element, []).append((order, piece))


def tree(
    elements: Iterable[Element], contents: Contents, holders: Mapping[int, Holder], start: Callable[[int], int]
) -> tuple[int, list[bytes]]:
    """The elements that hold something as objects, and behind them the root of the tree; with it the number of the
    first one, which `start` gives for so many objects."""
    kept = _kept(elements, contents)
    first = start(len(kept) + 1)
    numbers = {element: first + place for place, element in enumerate(kept)}
    below: dict[Element, list[tuple[Order, bytes]]] = {element: [] for element in kept}
    pages: dict[Element, int] = {}
    parents: dict[int, dict[int, int]] = {holder.key: {} for holder in holders.values()}
    annotations: dict[int, int] = {}
    for element in kept:
        for order, piece in contents.pieces.get(element, ()):
            holder = holders[piece.holder]
            parents[holder.key][piece.number] = numbers[element]
            pages.setdefault(element, holder.page)
            if holder.form is not None:
                said = b"<</Type/MCR/Pg %d 0 R/Stm %d 0 R/MCID %d>>" % (holder.page, holder.form, piece.number)
            elif pages[element] != holder.page:
                said = b"<</Type/MCR/Pg %d 0 R/MCID %d>>" % (holder.page, piece.number)
            else:
                said = b"%d" % piece.number
            below[element].append((order, said))
        for number, page, key in contents.annotations.get(element, ()):
            annotations[key] = numbers[element]
            pages.setdefault(element, page)
            said = b"<</Type/OBJR/Obj %d 0 R/Pg %d 0 R>>" % (number, page)
            below[element].append(((float("inf"), number), said))
        if element.parent is not None:
            below[element.parent].append(((element.order, 0), b"%d 0 R" % numbers[element]))
    notes = [element for element in kept if element.kind == "Note"]
    for number, note in enumerate(notes):
        note.attributes = f"/ID ({note_id(number)})"
    root = first + len(kept)
    objects = [
        _object(
            element, root if element.parent is None else numbers[element.parent], pages.get(element), below[element]
        )
        for element in kept
    ]
    rows = {key: b"[%s]" % b" ".join(_row(held)) for key, held in parents.items()}
    rows |= {key: b"%d 0 R" % number for key, number in annotations.items()}
    named = b" ".join(b"(%s) %d 0 R" % (note_id(n).encode(), numbers[note]) for n, note in enumerate(notes))
    nums = b" ".join(b"%d %s" % (key, rows[key]) for key in sorted(rows))
    said = b"<</Type/StructTreeRoot/K %d 0 R/ParentTree<</Nums[%s]>>/ParentTreeNextKey %d%s>>"
    ids = b"/IDTree<</Names[%s]>>" % named if notes else b""
    return first, [*objects, said % (numbers[kept[0]], nums, max(rows, default=-1) + 1, ids)]


def note_id(number: int) -> str:
    """The identifier of a note (ISO 14289-1, section 7.9); identifiers stand in their order."""
    return f"note-{number:06}"


def _row(parents: Mapping[int, int]) -> Iterator[bytes]:
    """The elements of a holder's marked content in the order of its numbers; a page and its forms share these."""
    for number in range(max(parents, default=-1) + 1):
        yield b"%d 0 R" % parents[number] if number in parents else b"null"


def _kept(elements: Iterable[Element], contents: Contents) -> list[Element]:
    """The elements that hold something, and cells of tables that do, each behind the one that holds it."""
    every = list(elements)
    needed: set[Element] = set()
    tables: set[Element] = set()
    for element in every:
        if contents.pieces.get(element) or contents.annotations.get(element) or element.parent is None:
            above: Element | None = element
            while above is not None and above not in needed:
                needed.add(above)
                tables |= {above} if above.kind == "Table" else set()
                above = above.parent
    for element in every:  # the grid of a table stays regular where a cell is empty
        if element.kind in ("TR", *_KEPT_EMPTY) and element.parent in needed and element.above("Table") in tables:
            needed.add(element)
    return [element for element in every if element in needed]


def _object(element: Element, parent: int, page: int | None, below: list[tuple[Order, bytes]]) -> bytes:
    said = b"<</S/%s/P %d 0 R" % (element.kind.encode("ascii"), parent)
    if page is not None:
        said += b"/Pg %d 0 R" % page
    if below:
        kids = [kid for _, kid in sorted(below, key=lambda kid: kid[0])]
        said += b"/K %s" % kids[0] if len(kids) == 1 else b"/K[%s]" % b" ".join(kids)
    if element.language:
        said += b"/Lang(%s)" % element.language.encode("ascii")
    if element.alternative is not None:
        said += b"/Alt%s" % text_string(element.alternative)
    return said + element.attributes.encode("ascii") + b">>"


def text_string(text: str) -> bytes:
    """A text string (ISO 32000-2, section 7.9.2.2) in UTF-16, as hexadecimal digits."""
    return b"<feff%s>" % text.encode("utf-16-be", "replace").hex().encode("ascii")
