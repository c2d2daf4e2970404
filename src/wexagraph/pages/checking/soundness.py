"""Whether others can read a PDF of ours: its objects, and what its pages draw with (ISO 32000-2, section 7.8.3).

A reader that does not find a font takes another, and one that does not find a picture draws nothing. Neither says so.
"""

from __future__ import annotations

import re
from collections.abc import Iterable
from typing import Any

from wexagraph.errors import PageError
from wexagraph.pages.checking.content_text import contents

_KINDS = {
    b"Tf": "/Font",
    b"Do": "/XObject",
    b"gs": "/ExtGState",
    b"sh": "/Shading",
    b"scn": "/Pattern",
    b"SCN": "/Pattern",
    b"cs": "/ColorSpace",
    b"CS": "/ColorSpace",
}
"""Operators that name a resource, and the dictionaries in which it stands."""
_NAMED = re.compile(rb"/([^\s/<>()\[\]{}%]+)\s+(?:[-\d.]+\s+(?=Tf))?(Tf|Do|gs|sh|scn|SCN|cs|CS)\b")
_STRING = re.compile(rb"\((?:[^()\\]|\\.|\([^()]*\))*\)", re.DOTALL)
_BUILT_IN = {b"DeviceGray", b"DeviceRGB", b"DeviceCMYK", b"Pattern"}
_SHOWN = 3


def check_pages(document: Any, numbers: Iterable[int] | None = None) -> None:
    """Raise PageError where a document open in pikepdf had to be guessed at, or where one of its pages (all, or those
    of these numbers) names what is not among its resources."""
    pages = document.pages
    for number in range(len(pages)) if numbers is None else numbers:
        missing = _missing(pages[number].obj)
        if missing:
            raise PageError(f"page {number + 1} draws with what it does not have: {', '.join(missing[:_SHOWN])}")
    warnings = document.get_warnings()
    if warnings:
        raise PageError(f"the PDF is damaged: {str(warnings[0])[:200]}")


def check_pdf(pdf: bytes) -> bytes:
    """The same PDF, all of whose pages are ours. Raises PageError as `check_pages` does."""
    import io

    import pikepdf

    try:
        with pikepdf.open(io.BytesIO(pdf)) as document:
            check_pages(document)
    except pikepdf.PdfError as error:
        raise PageError(f"the PDF is damaged: {error}") from error
    return pdf


def _missing(page: Any) -> list[str]:
    """What the content of a page, and of the forms that it draws, names and nobody has."""
    missing: list[str] = []
    for content, resources, _ in contents(page):
        if lacking := _lacking(content, resources):
            # words of a mail that look like operators stand in strings
            lacking &= _lacking(_STRING.sub(b"()", content), resources)
        missing += sorted(lacking)
    return missing


def _lacking(content: bytes, resources: Any) -> set[str]:
    lacking = set()
    for name, operator in set(_NAMED.findall(content)):
        kind = _KINDS[operator]
        if kind == "/ColorSpace" and name in _BUILT_IN:
            continue
        key = "/" + name.decode("latin-1")
        if resources.get(kind, {}).get(key) is None:
            lacking.add(f"{kind[1:]} {key}")
    return lacking
