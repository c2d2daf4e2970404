"""PDFs that came with a message, whose pages are to stand among ours: broken, locked or hostile as they may be."""

from __future__ import annotations

import io
from typing import Any

from wexagraph.pages.links import link_target


def checked(content: bytes, most_pages: int) -> bytes:
    """A PDF whose pages can be put behind a message. Raises ValueError for a locked or broken one."""
    import pikepdf

    try:
        with pikepdf.open(io.BytesIO(content)) as document, pikepdf.new() as trial:
            count = len(document.pages)
            if 0 < count <= most_pages:
                for page in document.pages:
                    disarm(page)
                trial.pages.extend(document.pages)  # what can't be copied shows here, before it is too late
    except pikepdf.PasswordError as error:
        raise ValueError("it is locked with a password") from error
    except (pikepdf.PdfError, RuntimeError, ValueError, TypeError, AttributeError, KeyError) as error:
        raise ValueError("the PDF is broken") from error
    if not 0 < count <= most_pages:
        raise ValueError(f"it has {count} pages; at most {most_pages} are put behind a message")
    return content


def disarm(page: Any) -> None:
    """Take from a page what would run or open something: actions on it, and links that are more than links."""
    import pikepdf

    if "/AA" in page:
        del page["/AA"]
    annotations = page.get("/Annots")
    if not isinstance(annotations, pikepdf.Array):
        return
    for annotation in annotations:
        if not isinstance(annotation, pikepdf.Dictionary):
            continue
        if "/AA" in annotation:
            del annotation["/AA"]
        action = annotation.get("/A")
        if action is not None and not _is_link(action):
            del annotation["/A"]


def _is_link(action: Any) -> bool:
    """Whether an action (ISO 32000-2, section 12.6) goes to a page or a place on the web, and does nothing after."""
    import pikepdf

    if not isinstance(action, pikepdf.Dictionary) or "/Next" in action:
        return False
    kind = action.get("/S")
    return kind == "/GoTo" or (kind == "/URI" and link_target(str(action.get("/URI", ""))) != "")


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
        found = []
        for item in items[:1000]:
            new = pikepdf.OutlineItem(str(item.title)[:300], first + page_of(item))
            if depth < 8:
                new.children.extend(taken(item.children, depth + 1))
            found.append(new)
        return found

    try:
        return taken(source.open_outline().root, 0)
    except (pikepdf.PdfError, pikepdf.OutlineStructureError, ValueError, KeyError, TypeError, AttributeError,
            RecursionError):  # fmt: skip
        return []  # bookmarks that lead in circles or nowhere


def _named(source: Any, name: str) -> Any:
    """A named destination (ISO 32000-2, section 12.3.2.4), or None."""
    import pikepdf

    names = source.Root.get("/Names", {}).get("/Dests")
    found = pikepdf.NameTree(names).get(name) if names is not None else None
    found = found if found is not None else source.Root.get("/Dests", {}).get("/" + name.lstrip("/"))
    return found.get("/D") if isinstance(found, pikepdf.Dictionary) else found
