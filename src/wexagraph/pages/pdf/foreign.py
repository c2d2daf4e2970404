"""PDFs that came with a message, whose pages are to stand among ours: broken, locked or hostile as they may be."""

from __future__ import annotations

import io
from contextlib import suppress
from typing import Any

from wexagraph.pages.cleaning.quirks import link_target


def checked(content: bytes, most_pages: int) -> bytes:
    """A PDF whose pages can be put behind a message, less a lock that opens without a password. Raises ValueError for
    one that is locked, or broken."""
    import pikepdf

    opened = None
    try:
        with pikepdf.open(io.BytesIO(content)) as document, pikepdf.new() as trial:
            count = len(document.pages)
            if 0 < count <= most_pages:
                disarm(document)
                trial.pages.extend(document.pages)  # what can't be copied shows here, before it is too late
            if document.is_encrypted:  # not every reader opens what this one does
                opened = io.BytesIO()
                document.save(opened, encryption=False, deterministic_id=False, static_id=True)
    except pikepdf.PasswordError as error:
        raise ValueError("it is locked with a password") from error
    except (pikepdf.PdfError, RuntimeError, ValueError, TypeError, AttributeError, KeyError) as error:
        raise ValueError("the PDF is broken") from error
    if not 0 < count <= most_pages:
        raise ValueError(f"it has {count} pages; at most {most_pages} are put behind a message")
    return opened.getvalue() if opened is not None else content


_PAGE_KEYS = frozenset(
    "/Type /Parent /MediaBox /CropBox /BleedBox /TrimBox /ArtBox /Rotate /Resources /Contents /Group /UserUnit".split()
)
_LINK_KEYS = ("/Rect", "/Border", "/BS", "/C", "/QuadPoints", "/H")
_OUTSIDE = (
    "/F",
    "/FFilter",
    "/FDecodeParms",
    "/Ref",
    "/OPI",
    "/AF",
    "/PieceInfo",
    "/Metadata",
    "/StructParent",
    "/StructParents",
)
"""What a stream may name outside its own file, or beside its pages (ISO 32000-2, sections 7.3.8.2 and 8.10.4)."""
_MOST_ANNOTATIONS = 10_000
_HIDDEN = 0b100010  # ISO 32000-2, table 167: hidden, no view


def disarm(document: Any) -> None:
    """Leave of the pages of a document what is known to be still: their content, links to the web and to pages, and the
    looks of annotations. All else goes, whatever it is: what runs, plays, opens, or fetches."""
    import pikepdf

    _draw_values(document)
    for item in document.objects:
        if isinstance(item, pikepdf.Stream):
            for key in _OUTSIDE:
                if key in item:
                    del item[key]
    pages = {page.objgen: page for page in document.pages}
    for page in document.pages:
        for key in set(page.keys()) - _PAGE_KEYS - {"/Annots"}:
            del page[key]
        annotations = page.get("/Annots")
        if annotations is None:
            continue
        held = list(annotations)[:_MOST_ANNOTATIONS] if isinstance(annotations, pikepdf.Array) else []
        still = (_still(document, annotation, pages) for annotation in held)
        page.Annots = pikepdf.Array([annotation for annotation in still if annotation is not None])


def _draw_values(document: Any) -> None:
    """Draw the values of form fields that have no looks: their viewers were to draw them (ISO 32000-2, 12.7.3)."""
    import pikepdf

    form = document.Root.get("/AcroForm")
    if not isinstance(form, pikepdf.Dictionary) or "/XFA" in form:
        return
    for page in document.pages:
        annotations = page.get("/Annots")
        for annotation in annotations if isinstance(annotations, pikepdf.Array) else ():
            if isinstance(annotation, pikepdf.Dictionary) and annotation.get("/Subtype") == "/Widget":
                holder = annotation if "/V" in annotation else annotation.get("/Parent")
                if "/AP" not in annotation and isinstance(holder, pikepdf.Dictionary) and "/V" in holder:
                    form.NeedAppearances = True
                    with suppress(pikepdf.PdfError, RuntimeError, ValueError):
                        document.generate_appearance_streams()
                    return


def _still(document: Any, annotation: Any, pages: dict[Any, Any]) -> Any:
    """An annotation made anew of what in it does nothing: a link, or a picture of its looks. None for all others."""
    import pikepdf

    if not isinstance(annotation, pikepdf.Dictionary) or not isinstance(annotation.get("/Rect"), pikepdf.Array):
        return None
    if annotation.get("/Subtype") == "/Link":
        leads = _leads_to(annotation, pages)
        if leads is None:
            return None
        kept = {key: annotation[key] for key in _LINK_KEYS if key in annotation}
        return document.make_indirect(
            pikepdf.Dictionary({"/Type": pikepdf.Name.Annot, "/Subtype": pikepdf.Name.Link, **kept, **leads})
        )
    looks = _looks(annotation)
    flags = annotation.get("/F", 0)
    if looks is None or not isinstance(flags, int) or flags & _HIDDEN:
        return None
    return document.make_indirect(
        pikepdf.Dictionary(
            Type=pikepdf.Name.Annot,
            Subtype=pikepdf.Name.Stamp,
            Rect=annotation.Rect,
            F=4,
            AP=pikepdf.Dictionary(N=looks),
        )
    )


def _looks(annotation: Any) -> Any:
    """The stream that draws an annotation as it is now; None where there is none."""
    import pikepdf

    appearance = annotation.get("/AP")
    normal = appearance.get("/N") if isinstance(appearance, pikepdf.Dictionary) else None
    if isinstance(normal, pikepdf.Dictionary) and not isinstance(normal, pikepdf.Stream):
        normal = normal.get(str(annotation.get("/AS", "/Off")))
    return normal if isinstance(normal, pikepdf.Stream) and normal.get("/Subtype", "/Form") == "/Form" else None


def _leads_to(annotation: Any, pages: dict[Any, Any]) -> dict[str, Any] | None:
    """Where a link goes, as keys of a new one: to a page of its document, or to a place on the web."""
    import pikepdf

    action, target = annotation.get("/A"), annotation.get("/Dest")
    if isinstance(action, pikepdf.Dictionary):
        if action.get("/S") == "/URI":
            link = link_target(str(action.get("/URI", "")))
            return {"/A": pikepdf.Dictionary(S=pikepdf.Name.URI, URI=pikepdf.String(link))} if link else None
        target = action.get("/D") if action.get("/S") == "/GoTo" else None
    if isinstance(target, pikepdf.Array) and len(target) and isinstance(target[0], pikepdf.Dictionary):
        page = pages.get(target[0].objgen)
        return {"/Dest": pikepdf.Array([page.obj, pikepdf.Name.Fit])} if page is not None else None
    return None


def bookmarks_of(source: Any, first: int) -> list[Any]:
    """A document's own bookmarks, pointing `first` pages further on."""
    import pikepdf

    if "/Outlines" not in source.Root:
        return []
    places = {page.objgen: number for number, page in enumerate(source.pages)}

    def page_of(item: Any) -> int:
        target = item.destination
        if target is None and item.action is not None:
            target = item.action.get("/D")
        if isinstance(target, int):
            return target
        if target is not None and not isinstance(target, list | pikepdf.Array):
            target = _named(source, str(target))
        return places.get(target[0].objgen, 0) if isinstance(target, list | pikepdf.Array) and len(target) else 0

    def taken(items: list[Any], depth: int) -> list[Any]:
        bookmarks = []
        for item in items[:1000]:
            new = pikepdf.OutlineItem(str(item.title)[:300], first + page_of(item))
            if depth < 8:
                new.children.extend(taken(item.children, depth + 1))
            bookmarks.append(new)
        return bookmarks

    try:
        return taken(source.open_outline().root, 0)
    except (
        pikepdf.PdfError,
        pikepdf.OutlineStructureError,
        ValueError,
        KeyError,
        TypeError,
        AttributeError,
        RecursionError,
    ):
        return []  # bookmarks that lead in circles or nowhere


def _named(source: Any, name: str) -> Any:
    """A named destination (ISO 32000-2, section 12.3.2.4), or None."""
    import pikepdf

    names = source.Root.get("/Names", {}).get("/Dests")
    destination = pikepdf.NameTree(names).get(name) if names is not None else None
    destination = destination if destination is not None else source.Root.get("/Dests", {}).get("/" + name.lstrip("/"))
    return destination.get("/D") if isinstance(destination, pikepdf.Dictionary) else destination
