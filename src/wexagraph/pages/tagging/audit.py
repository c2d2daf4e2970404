"""What a PDF that says it is PDF/UA-1 promises, looked at again: everything drawn is read or is an artifact, each piece
of content has its one element, the parent tree leads there, each annotation has its element (ISO 14289-1, section
7)."""

from __future__ import annotations

import io
import re
from collections.abc import Iterator
from pathlib import Path
from typing import Any, BinaryIO

_STRING = rb"\((?:[^()\\]|\\.)*+\)|<[0-9A-Fa-f\s]*+>"
_STEP = re.compile(
    rb"(?P<string>" + _STRING + rb")"
    rb"|/(?P<tag>[^\s/<>()\[\]]+)\s*"
    rb"(?:/\S+\s+|<<(?P<about>(?:" + _STRING + rb"|[^<>(])*+)>>\s*)?(?P<begin>BDC|BMC)\b"
    rb"|/(?P<name>[^\s/<>()\[\]]+)\s+Do\b"
    rb"|(?<![^\s\])>])(?P<op>EMC|TJ|Tj|f\*?|F|S|s|B\*?|b\*?|sh)(?![^\s\[(</])",
    re.DOTALL,
)
_DRAWN = re.compile(rb"/([^\s/<>()\[\]]+)\s+Do\b")
_NUMBER = re.compile(rb"/MCID\s+(\d+)")
_DEEPEST = 12
_SAID = b"pdfuaid:part"
_PIECE = 1 << 20


def says_universal(pdf: bytes | Path | BinaryIO) -> bool:
    """Whether a file says that it is PDF/UA; of an open one, no more than a piece is held at a time."""
    if isinstance(pdf, bytes):
        return _SAID in pdf
    if isinstance(pdf, Path):
        with pdf.open("rb") as file:
            return says_universal(file)
    rest = b""
    while piece := pdf.read(_PIECE):
        if _SAID in rest + piece:
            return True
        rest = piece[-len(_SAID) :]
    return False


def audit(pdf: bytes | Path | BinaryIO, password: str = "") -> list[str]:
    """What is not as a PDF/UA-1 promises, in words; nothing where all is. Raises ValueError where it can't be
    opened."""
    import pikepdf

    source = io.BytesIO(pdf) if isinstance(pdf, bytes) else pdf
    try:
        with pikepdf.open(source, password=password) as document:
            return list(dict.fromkeys(_faults(document)))
    except (pikepdf.PdfError, pikepdf.PasswordError) as error:
        raise ValueError(str(error)) from error
    except (AttributeError, KeyError, TypeError, ValueError, RecursionError) as error:
        return [f"its structure can't be read: {error}"]


def _faults(document: Any) -> Iterator[str]:
    root = document.Root
    if "/StructTreeRoot" not in root or not root.get("/MarkInfo", {}).get("/Marked", False):
        yield "it is not tagged"
        return
    if not str(root.get("/Lang", "")):
        yield "it has no language"
    if not root.get("/ViewerPreferences", {}).get("/DisplayDocTitle", False):
        yield "its title is not shown"
    numbers = list(root.StructTreeRoot.ParentTree.Nums)
    rows = {int(key): row for key, row in zip(numbers[::2], numbers[1::2], strict=True)}
    held, linked = _held(root.StructTreeRoot)
    met: set[tuple[Any, int]] = set()
    for number, page in enumerate(document.pages, 1):
        for holder, content in _holders(page.obj):
            yield from (f"page {number}: {fault}" for fault in _of_content(holder, content, rows, held, met))
        for annotation in page.obj.get("/Annots", []):
            element = rows.get(int(annotation.get("/StructParent", -1)))
            if element is None or linked.get(annotation.objgen) != element.objgen:
                yield f"page {number}: an annotation has no element"
    if held.keys() - met:
        yield "an element holds content that is not there"


def _held(root: Any) -> tuple[dict[tuple[Any, int], Any], dict[Any, Any]]:
    """The element of each piece of content (by its page or form, and number), and of each annotation."""
    import pikepdf

    held: dict[tuple[Any, int], Any] = {}
    linked: dict[Any, Any] = {}
    waiting = [root.K]
    while waiting:
        element = waiting.pop()
        page = element.get("/Pg")
        kids = element.get("/K", pikepdf.Array())
        for kid in kids if isinstance(kids, pikepdf.Array) else [kids]:
            if isinstance(kid, int):
                place = page.objgen, kid
            elif "/MCID" in kid:
                place = (kid.Stm if "/Stm" in kid else kid.get("/Pg", page)).objgen, int(kid.MCID)
            elif "/Obj" in kid:
                linked[kid.Obj.objgen] = element.objgen
                continue
            else:
                if kid.P.objgen != element.objgen:
                    raise ValueError("an element does not know what holds it")
                waiting.append(kid)
                continue
            if place in held:
                raise ValueError("two elements hold the same content")
            held[place] = element.objgen
    return held, linked


def _holders(holder: Any, depth: int = 0) -> Iterator[tuple[Any, bytes]]:
    """A page, and the forms that it draws, each with its content."""
    contents = holder.get("/Contents") if holder.get("/Type") == "/Page" else holder
    if contents is None:
        return
    parts = [contents] if contents._type_name == "stream" else list(contents)
    content = b"\n".join(part.read_bytes() for part in parts)
    yield holder, content
    if depth < _DEEPEST:
        drawn = set(_DRAWN.findall(content))
        for name, form in holder.get("/Resources", {}).get("/XObject", {}).items():
            if form.get("/Subtype") == "/Form" and name[1:].encode("latin-1", "replace") in drawn:
                yield from _holders(form, depth + 1)


def _of_content(
    holder: Any, content: bytes, rows: dict[int, Any], held: dict[Any, Any], met: set[tuple[Any, int]]
) -> Iterator[str]:
    """What is wrong in a page or a form: a form without numbers is part of what draws it."""
    if holder.get("/Type") != "/Page" and "/StructParents" not in holder:
        return
    row = rows.get(int(holder.get("/StructParents", -1)))
    forms = holder.get("/Resources", {}).get("/XObject", {})
    open_: list[bool] = []
    for step in _STEP.finditer(content):
        if step["begin"] is not None:
            number = _NUMBER.search(step["about"] or b"")
            open_.append(number is not None or step["tag"] == b"Artifact")
            if number is not None:
                place = holder.objgen, int(number[1])
                element = row[place[1]] if row is not None and place[1] < len(row) else None
                if place in met:
                    yield "a number of content is there twice"
                if element is None or held.get(place) != element.objgen:
                    yield "content has no element, or the parent tree leads elsewhere"
                met.add(place)
        elif step["op"] == b"EMC":
            if not open_:
                yield "marked content ends that did not begin"
                return
            open_.pop()
        elif step["name"] is not None:
            form = forms.get("/" + step["name"].decode("latin-1"), {})
            if not any(open_) and "/StructParents" not in form:
                yield "a picture is neither read nor an artifact"
        elif step["op"] is not None and not any(open_):
            yield "something is drawn that is neither read nor an artifact"
    if open_:
        yield "marked content does not end"
