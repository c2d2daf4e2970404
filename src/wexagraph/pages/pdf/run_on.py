"""Messages that follow one another on a page: what is left of it below one takes the next, where that fits whole."""

from __future__ import annotations

from typing import Any

from wexagraph.pages.options import PageOptions
from wexagraph.pages.tagging.joining import Trees, as_form

MESSAGE = "/WxMessage"
"""How the names of messages begin among the resources of a page that others share."""
GAP = 24.0
"""Points between two messages, with a line in their middle."""
_POINT = 72 / 25.4  # of a millimetre
_SCALE = 0.5  # pixels a point


def lowest_ink(pdf: str | bytes, password: str = "") -> tuple[float, float]:
    """For the first and the last page, how far above its lower edge what is drawn on it ends, in points.

    The height of a page that is empty.
    """
    import pypdfium2

    with pypdfium2.PdfDocument(pdf, password=password or None) as document:
        first = _lowest(document[0])
        return first, _lowest(document[len(document) - 1]) if len(document) > 1 else first


def _lowest(page: Any) -> float:
    height = float(page.get_height())
    bitmap = page.render(scale=_SCALE, grayscale=True)
    rows = len(bytes(bitmap.buffer).rstrip(b"\xff")) / bitmap.stride
    bitmap.close()
    return max(0.0, height - (rows + 1) / _SCALE) if rows else height


class Stack:
    """The last page of a bound document, and how far down it is taken."""

    def __init__(self, document: Any, options: PageOptions) -> None:
        self._document = document
        self._top = options.margin.top * _POINT
        self._floor = (options.margin.bottom + 4) * _POINT
        self._page: Any = None
        self._low = 0.0
        self._count = 0

    def begin(self, page: Any, low: float) -> None:
        """The page of the document that is the last now, with its lowest ink; None where nothing may follow on it."""
        self._page, self._low = page, low

    def takes(self, page: Any, low: float) -> bool:
        """Whether a page of another document fits below what is on the last one. Whatever leads to its other pages
        would lead nowhere, so such a page stands for itself."""
        if self._page is None or _box(page.obj) != _box(self._page):
            return False
        used = _box(page.obj)[3] - self._top - low
        if self._low - GAP - used < self._floor:
            return False
        return not any("/Dest" in note or _leads_inside(note.get("/A")) for note in page.obj.get("/Annots", []))

    @property
    def page(self) -> Any:
        """The page of the document that is the last now."""
        return self._page

    def put(self, source: Any, low: float, trees: Trees) -> float:
        """Put what is on the first page of another document below what is on the last one.

        Returns where it begins, in points above the lower edge.
        """
        import pikepdf

        page = source.pages[0]
        begin = self._low - GAP
        shift = begin - (_box(page.obj)[3] - self._top)
        self._count += 1
        name = f"{MESSAGE}{self._count}"
        target = self._page
        if "/XObject" not in target.Resources:
            target.Resources.XObject = pikepdf.Dictionary()
        form = self._document.copy_foreign(as_form(source, page))
        trees.follow(form)
        target.Resources.XObject[name] = form
        held = target.Contents
        own = list(held) if isinstance(held, pikepdf.Array) else [held]
        left, _, right, _ = _box(page.obj)
        line = self._low - GAP / 2
        drawn = (
            "\nQ q /Artifact BMC\n"
            f"0.7 G 0.5 w {left + self._top:.2f} {line:.2f} m {right - self._top:.2f} {line:.2f} l S\nEMC Q "
            f"q 1 0 0 1 0 {shift:.2f} cm {name} Do Q"
        )
        before, after = self._document.make_stream(b"q\n"), self._document.make_stream(drawn.encode())
        target.Contents = pikepdf.Array([before, *own, after])
        self._take_links(page, source, shift, trees)
        self._low = low + shift
        return begin

    def _take_links(self, page: Any, source: Any, shift: float, trees: Trees) -> None:
        """Take over the annotations of a page, as far down as what is on it."""
        import pikepdf

        target = self._page
        if "/Annots" not in target:
            target.Annots = pikepdf.Array()
        for annotation in page.obj.get("/Annots", []):
            if "/P" in annotation:
                del annotation["/P"]
            own = annotation if annotation.is_indirect else source.make_indirect(annotation)
            copied = self._document.copy_foreign(own)
            trees.follow(copied)
            for key in ("/Rect", "/QuadPoints"):
                if key in copied:
                    copied[key] = pikepdf.Array(
                        round(float(value) + shift * (at % 2), 3) for at, value in enumerate(copied[key])
                    )
            target.Annots.append(copied)


def _box(page: Any) -> list[float]:
    import pikepdf

    return [round(float(value), 1) for value in pikepdf.Page(page).mediabox]


def _leads_inside(action: Any) -> bool:
    return action is not None and action.get("/S") == "/GoTo"
