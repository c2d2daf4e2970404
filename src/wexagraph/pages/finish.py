"""A finished PDF: what is embedded in it (ISO 32000-2, section 7.11.4), and bytes that are the same every time."""

from __future__ import annotations

import io
from collections.abc import Sequence
from dataclasses import dataclass
from datetime import UTC, datetime
from typing import TYPE_CHECKING, Any

from wexagraph.naming import clean, component, with_extension

if TYPE_CHECKING:
    from wexagraph.pages.converting import Piece


@dataclass(frozen=True)
class Embedded:
    """A file to embed: its name as it came, media type, bytes, and a description for people."""

    name: str
    type: str
    content: bytes
    description: str = ""


def finish(
    pdf: bytes, files: Sequence[Embedded], moment: datetime | None, title: str = "", pieces: Sequence[Piece] = ()
) -> bytes:
    """The PDF with pages behind it, bookmarks to them, and files embedded under safe names that differ.

    `moment` is written as the files' modification date. The same input gives the same bytes. Raises ValueError or
    RuntimeError where something can't be joined.
    """
    import pikepdf

    with pikepdf.open(io.BytesIO(pdf)) as document:
        if pieces:
            with document.open_outline() as outline:
                outline.root.append(pikepdf.OutlineItem(title[:300] or "Message", 0))
                _append(document, pieces, outline.root)
        taken: set[str] = set()
        for file in files:
            name = free_name(file.name, taken)
            spec = pikepdf.AttachedFileSpec(
                document,
                file.content,
                filename=name,
                mime_type=file.type,
                description=file.description,
                creation_date=_pdf_date(moment),
                mod_date=_pdf_date(moment),
            )
            document.attachments[name] = spec
        out = io.BytesIO()
        document.save(out, deterministic_id=True, object_stream_mode=pikepdf.ObjectStreamMode.generate)
    return out.getvalue()


def _append(document: Any, pieces: Sequence[Piece], bookmarks: list[Any]) -> None:
    """Put pages behind a document, and a bookmark to each piece with the piece's own below it."""
    import pikepdf

    for piece in pieces:
        first = len(document.pages)
        with pikepdf.open(io.BytesIO(piece.pdf)) as source:
            below = _bookmarks(source, first)
            for page in source.pages:
                _disarm(page)
            document.pages.extend(source.pages)
        item = pikepdf.OutlineItem(piece.name[:300], first)
        item.children.extend(below)
        bookmarks.append(item)
        _append(document, piece.below, item.children)


def _disarm(page: Any) -> None:
    """Take from a page what would run or open something: actions on it, and links that are more than links."""
    if "/AA" in page:
        del page["/AA"]
    for annotation in page.get("/Annots", []):
        for key in ("/AA", "/A"):
            action = annotation.get(key)
            if action is not None and (key == "/AA" or action.get("/S") not in ("/URI", "/GoTo")):
                del annotation[key]


def _bookmarks(source: Any, first: int) -> list[Any]:
    """A document's own bookmarks, pointing `first` pages further on."""
    import pikepdf

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
        found = []
        for item in items[:1000]:
            new = pikepdf.OutlineItem(str(item.title)[:300], first + page_of(item))
            if depth < 8:
                new.children.extend(taken(item.children, depth + 1))
            found.append(new)
        return found

    try:
        with source.open_outline() as outline:
            return taken(outline.root, 0)
    except (pikepdf.PdfError, ValueError, KeyError, TypeError, AttributeError, RecursionError):
        return []  # bookmarks that lead in circles or nowhere


def _named(source: Any, name: str) -> Any:
    """A named destination (ISO 32000-2, section 12.3.2.4), or None."""
    import pikepdf

    names = source.Root.get("/Names", {}).get("/Dests")
    found = pikepdf.NameTree(names).get(name) if names is not None else None
    found = found if found is not None else source.Root.get("/Dests", {}).get("/" + name.lstrip("/"))
    return found.get("/D") if isinstance(found, pikepdf.Dictionary) else found


def _pdf_date(moment: datetime | None) -> str:
    moment = (moment or datetime(1980, 1, 1, tzinfo=UTC)).astimezone(UTC)
    return f"D:{moment:%Y%m%d%H%M%S}Z"


def free_name(wanted: str, taken: set[str]) -> str:
    """A safe name for a file that none of `taken` is in the eyes of any disk; it joins them."""
    stem, extension = with_extension(clean(wanted))
    stem, number = component(stem, room=30), 1
    name = stem + extension
    while name.casefold() in taken:
        number += 1
        name = f"{stem} ({number}){extension}"
    taken.add(name.casefold())
    return name
