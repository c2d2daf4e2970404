"""Structure trees of PDFs that are joined: one tree, in which each of them is a document of its own (ISO 32000-2,
14.7)."""

from __future__ import annotations

import io
from collections.abc import Iterable, Iterator
from typing import Any

from wexagraph.pages.checking.content_text import character_table
from wexagraph.pages.composing.properties import Record, describe

_DEEPEST = 8
ARTIFACT = b"/Artifact <</Type/Pagination>>BDC\n", b"\nEMC\n"
"""What stands around running lines, which are not read."""


def is_tagged(document: Any) -> bool:
    """Whether a document open in pikepdf has a structure tree of ours."""
    return "/MarkInfo" in document.Root and "/StructTreeRoot" in document.Root


class Trees:
    """The trees of documents whose pages are taken into one, in the order in which they are read.

    `whole` says that all pages have been tagged so far.
    """

    def __init__(self, document: Any) -> None:
        self._document = document
        self._parts: list[Any] = []
        self._rows: dict[int, Any] = {}
        self._next = 0
        self._notes: list[Any] = []
        self.whole = True

    def begin(self, title: str) -> None:
        """Take what the document has itself as the first part."""
        root = self._document.Root
        if not is_tagged(self._document):
            self.whole = self.whole and not len(self._document.pages)
            return
        self._part(root.StructTreeRoot, title, front=False)

    def take(self, source: Any, pages: Iterable[Any], title: str, front: bool = False, drawn_on: Any = None) -> None:
        """Take over the tree of a source whose `pages`, as they are in the document now, have been copied from it; in
        `front` of the others, or behind them. Its first page may be a form that is `drawn_on` a page of the document.
        The source is open still."""
        import pikepdf

        if not is_tagged(source):
            self.whole = False
            return
        offset = self._next
        for page in pages:
            for holder in _holders(page):
                holder.StructParents = int(holder.StructParents) + offset
            for annotation in page.get("/Annots", []):
                if "/StructParent" in annotation:
                    annotation.StructParent = int(annotation.StructParent) + offset
        root = self._document.copy_foreign(source.Root.StructTreeRoot)
        for element in _elements(_rows(root).values()) if drawn_on is not None else ():
            kids = element.K if isinstance(element.K, pikepdf.Array) else [element.K]
            for kid in kids:
                if not isinstance(kid, int) and "/S" not in kid and "/Pg" not in kid and "/Pg" not in element:
                    kid.Pg = drawn_on
        self._part(root, title, front)

    def _part(self, root: Any, title: str, front: bool) -> None:
        import pikepdf

        offset = self._next
        self._rows |= {key + offset: row for key, row in _rows(root).items()}
        self._next = offset + int(root.ParentTreeNextKey)
        names = root.get("/IDTree", {}).get("/Names", [])
        self._notes += list(names)[1::2]
        part = root.K
        if title:
            part.T = pikepdf.String(title)
        self._parts.insert(0 if front else len(self._parts), part)

    def follow(self, copied: Any) -> None:
        """Give a form or an annotation that was copied by itself its place among those of the source taken next."""
        for holder in _holders(copied):
            holder.StructParents = int(holder.StructParents) + self._next
        if "/StructParent" in copied:
            copied.StructParent = int(copied.StructParent) + self._next

    def write(self, language: str) -> None:
        """Let the document have the tree of all of them."""
        import pikepdf

        if not self._parts:
            return
        document = self._document
        if len(self._parts) == 1:
            top = self._parts[0]
        else:
            top = document.make_indirect(
                pikepdf.Dictionary(
                    Type=pikepdf.Name.StructElem,
                    S=pikepdf.Name.Document,
                    Lang=pikepdf.String(language),
                    K=pikepdf.Array(self._parts),
                )
            )
            for part in self._parts:
                part.P = top
        numbers = [value for key in sorted(self._rows) for value in (key, self._rows[key])]
        root = document.make_indirect(
            pikepdf.Dictionary(
                Type=pikepdf.Name.StructTreeRoot,
                K=top,
                ParentTree=pikepdf.Dictionary(Nums=pikepdf.Array(numbers)),
                ParentTreeNextKey=self._next,
            )
        )
        for number, note in enumerate(self._notes):  # each document has numbered its own
            note.ID = pikepdf.String(f"note-{number:06}")  # as `structure` names them
        if self._notes:
            names = [value for note in self._notes for value in (note.ID, note)]
            root.IDTree = pikepdf.Dictionary(Names=pikepdf.Array(names))
        top.P = root
        document.Root.StructTreeRoot = root
        document.Root.MarkInfo = pikepdf.Dictionary(Marked=True)


def _holders(page: Any) -> Iterator[Any]:
    """The page and the forms that it draws, as far as they have marked content."""
    waiting = [(page, 0)]
    while waiting:
        holder, depth = waiting.pop()
        if "/StructParents" in holder:
            yield holder
        if depth < _DEEPEST:
            forms = holder.get("/Resources", {}).get("/XObject", {})
            waiting += [(form, depth + 1) for form in forms.values() if form.get("/Subtype") == "/Form"]


def as_form(source: Any, page: Any) -> Any:
    """A page of a document as a form of it, to which the tree refers from now on in the place of the page; the page
    that draws it is told to `Trees.take`."""
    import pikepdf

    form = source.make_indirect(page.as_form_xobject())
    if not is_tagged(source) or "/StructParents" not in page.obj:
        return form
    form.StructParents = page.obj.StructParents
    rows = _rows(source.Root.StructTreeRoot)
    keys = [form.StructParents, *(link.StructParent for link in page.obj.get("/Annots", []) if "/StructParent" in link)]
    for element in _elements(rows.get(int(key)) for key in keys):
        kids = element.K if isinstance(element.K, pikepdf.Array) else pikepdf.Array([element.K])
        here = "/Pg" in element and element.Pg.objgen == page.obj.objgen
        for at, kid in enumerate(kids):
            if isinstance(kid, int) and here:
                kids[at] = pikepdf.Dictionary(Type=pikepdf.Name.MCR, Stm=form, MCID=kid)
            elif not isinstance(kid, int) and "/Pg" in kid and kid.Pg.objgen == page.obj.objgen and "/S" not in kid:
                del kids[at].Pg
        element.K = kids
        if here:
            del element.Pg
    return form


def _rows(root: Any) -> dict[int, Any]:
    """The parent tree: what each key leads to."""
    numbers = list(root.ParentTree.Nums)
    return {int(key): row for key, row in zip(numbers[::2], numbers[1::2], strict=True)}


def _elements(rows: Iterable[Any]) -> list[Any]:
    """The elements in rows of a parent tree, each once."""
    import pikepdf

    elements: dict[Any, Any] = {}
    for row in rows:
        for element in row if isinstance(row, pikepdf.Array) else (row,):
            if element is not None:
                elements.setdefault(element.objgen, element)
    return list(elements.values())


class Annotations:
    """The annotations of a tagged document, each in its element."""

    def __init__(self, document: Any) -> None:
        self._rows = _rows(document.Root.StructTreeRoot) if is_tagged(document) else {}

    def exchange(self, old: Any, new: Any) -> None:
        """Let another annotation stand in the place of a link, or none."""
        import pikepdf

        key = int(old.get("/StructParent", -1))
        element = self._rows.get(key)
        if element is None:
            return
        kids = list(element.K) if isinstance(element.K, pikepdf.Array) else [element.K]
        at = next(n for n, kid in enumerate(kids) if not isinstance(kid, int) and "/Obj" in kid and _same(kid.Obj, old))
        if new is None:
            del kids[at]
            element.S = pikepdf.Name.Span
        else:
            kids[at].Obj = new
            new.StructParent = key
            element.S = pikepdf.Name.Annot
        element.K = pikepdf.Array(kids)


def _same(first: Any, second: Any) -> bool:
    return bool(first.objgen == second.objgen)


def as_figure(pdf: bytes, about: Record, said: str) -> bytes:
    """A PDF of one page, drawn elsewhere, tagged as one picture; `said` is what it shows, in words."""
    import pikepdf

    with pikepdf.open(io.BytesIO(pdf)) as document:
        page = document.pages[0]
        page.contents_add(b"/Figure <</MCID 0>>BDC\n", prepend=True)
        page.contents_add(b"\nEMC")
        page.obj.StructParents, page.obj.Tabs = 0, pikepdf.Name.S
        for font in document.objects:
            if isinstance(font, pikepdf.Dictionary) and font.get("/Subtype") == "/Type3" and "/ToUnicode" in font:
                font.ToUnicode.write(_character_map(font.ToUnicode.read_bytes()))
        kind = pikepdf.Name.StructElem
        figure = document.make_indirect(
            pikepdf.Dictionary(Type=kind, S=pikepdf.Name.Figure, Alt=pikepdf.String(said), Pg=page.obj, K=0)
        )
        top = document.make_indirect(pikepdf.Dictionary(Type=kind, S=pikepdf.Name.Document, K=figure))
        figure.P = top
        rows = pikepdf.Dictionary(Nums=pikepdf.Array([0, pikepdf.Array([figure])]))
        root = pikepdf.Dictionary(Type=pikepdf.Name.StructTreeRoot, K=top, ParentTree=rows, ParentTreeNextKey=1)
        document.Root.StructTreeRoot = top.P = document.make_indirect(root)
        document.Root.MarkInfo = pikepdf.Dictionary(Marked=True)
        describe(document, about, universal=True)
        out = io.BytesIO()
        document.save(out, deterministic_id=True)
    return out.getvalue()


def _character_map(cmap: bytes) -> bytes:
    """The map of a font with codes of one byte, which says that they have two, in order (ISO 32000-2, 9.10.3)."""
    lines = [
        f"<{code:02X}> <{text.encode('utf-16-be').hex().upper()}>"
        for code, text in sorted(character_table(cmap).items())
    ]
    parts = [lines[at : at + 100] for at in range(0, len(lines), 100)]
    chars = "".join(f"{len(part)} beginbfchar\n{chr(10).join(part)}\nendbfchar\n" for part in parts)
    return (
        "/CIDInit /ProcSet findresource begin 12 dict begin begincmap\n"
        "/CIDSystemInfo << /Registry (Adobe) /Ordering (UCS) /Supplement 0 >> def\n"
        "/CMapName /Adobe-Identity-UCS def /CMapType 2 def\n"
        f"1 begincodespacerange <00> <FF> endcodespacerange\n{chars}"
        "endcmap CMapName currentdict /CMap defineresource pop end end"
    ).encode("ascii")


def add_paragraph(document: Any, page: Any) -> int | None:
    """A paragraph behind all others for more words of a page; returns the number of its marked content, None where the
    page is not tagged."""
    import pikepdf

    if not is_tagged(document) or "/StructParents" not in page:
        return None
    root = document.Root.StructTreeRoot
    row = _rows(root)[int(page.StructParents)]
    element = document.make_indirect(
        pikepdf.Dictionary(Type=pikepdf.Name.StructElem, S=pikepdf.Name.P, P=root.K, Pg=page, K=len(row))
    )
    kids = root.K.get("/K", pikepdf.Array())
    root.K.K = pikepdf.Array([*(kids if isinstance(kids, pikepdf.Array) else [kids]), element])
    row.append(element)
    return len(row) - 1
