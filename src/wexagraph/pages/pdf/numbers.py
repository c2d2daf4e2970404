"""Running numbers on the pages of a finished PDF, also on pages of others."""

from __future__ import annotations

import io
from dataclasses import dataclass, field, replace
from typing import Any

from wexagraph.errors import PageError
from wexagraph.pages.composing.compose import Page, templates
from wexagraph.pages.composing.properties import Record
from wexagraph.pages.engines import engine
from wexagraph.pages.options import Lock, PageOptions
from wexagraph.pages.pdf.archival import proved
from wexagraph.pages.pdf.finish import save
from wexagraph.pages.tagging.joining import ARTIFACT

_PAGES_A_SHEET = 200


@dataclass(frozen=True)
class NumberJob:
    """A finished PDF, and the numbers that its pages get, in their order."""

    pdf: bytes
    numbers: tuple[str, ...]
    options: PageOptions
    engine: str
    lock: Lock | None = field(default=None, repr=False)


def page_count(pdf: bytes, lock: Lock | None) -> int:
    """How many pages a PDF has. Raises PageError where it can't be opened."""
    import pikepdf

    try:
        with pikepdf.open(io.BytesIO(pdf), password=lock.user if lock else "") as document:
            return len(document.pages)
    except (pikepdf.PdfError, pikepdf.PasswordError) as error:
        raise PageError(f"its pages can't be counted: {error}") from error


def number_pages(job: NumberJob) -> bytes:
    """The PDF with a number at the lower right of each page; what was archival is so again, proved. The same job gives
    the same bytes, but for a locked one. Raises PageError."""
    import pikepdf

    try:
        with pikepdf.open(io.BytesIO(job.pdf), password=job.lock.user if job.lock else "") as document:
            _put(job, document)
            out = io.BytesIO()
            if not document.open_metadata().pdfa_status:  # opened for writing, it would note the time
                save(document, out, job.lock)
                return out.getvalue()
            made = proved(document)
            if isinstance(made, str):
                raise PageError(f"with its numbers it would be no PDF/A: {made}")
            return made
    except (pikepdf.PdfError, pikepdf.PasswordError, ValueError, RuntimeError, MemoryError) as error:
        raise PageError(f"its pages can't be numbered: {error}") from error


def _put(job: NumberJob, document: Any) -> None:
    import pikepdf

    setter, options = engine(job.engine), replace(job.options, scale=1.0)
    sheets: dict[tuple[float, float], list[tuple[int, Any, str]]] = {}
    for place, (page, number) in enumerate(zip(document.pages, job.numbers, strict=True)):
        sheets.setdefault(_shown_size(page), []).append((place, page, number))
    template = templates(options.tr).get_template("page_numbers.html")
    for (width, height), wanted in sheets.items():
        for at in range(0, len(wanted), _PAGES_A_SHEET):
            some = wanted[at : at + _PAGES_A_SHEET]
            html = template.render(width=width, height=height, numbers=[number for *_, number in some])
            with pikepdf.open(io.BytesIO(setter.render(Page(html, {}, Record(), tagged=False), options))) as overlay:
                for (place, page, _), over in zip(some, overlay.pages, strict=True):
                    _draw(document, page, over, f"/WxNumber{place}")


def _draw(document: Any, page: Any, over: Any, name: str) -> None:
    """Draw a page over another, upright as that is shown. The `name` is one that no other page has: pages of others may
    share their resources."""
    import pikepdf

    form, called = document.copy_foreign(over.as_form_xobject()), pikepdf.Name(name)
    page.add_resource(form, pikepdf.Name.XObject, called)
    placed = page.calc_form_xobject_placement(form, called, pikepdf.Rectangle(page.trimbox))
    page.contents_add(b"q\n", prepend=True)
    page.contents_add(b"\nQ\nq\n%s%s%sQ\n" % (ARTIFACT[0], placed, ARTIFACT[1]))


def _shown_size(page: Any) -> tuple[float, float]:
    """Width and height of a page as it is shown, in points."""
    left, bottom, right, top = (float(value) for value in page.trimbox)
    width, height = round(abs(right - left), 2), round(abs(top - bottom), 2)
    turned = int(page.get("/Rotate", 0)) % 180 != 0
    return (height, width) if turned else (width, height)
