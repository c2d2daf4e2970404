"""Judges of tagged PDFs: page-validation, and what pdfium reads along the structure tree."""

from __future__ import annotations

import ctypes
import io
import unittest
from collections.abc import Iterator
from pathlib import Path
from typing import Any

import page as page_validation
import pikepdf
import pypdfium2
import pypdfium2.raw as pdfium

from wexagraph.pages.tagging.audit import audit

_IN_TEXT = ("Link", "Code", "Span", "Annot")


def conforms(pdf: bytes | Path, profile: str = "ua1", password: str = "") -> list[str]:
    """What page-validation says against a PDF, by rule; nothing where it conforms to "ua1", "3a" or "3b"."""
    data = pdf if isinstance(pdf, bytes) else pdf.read_bytes()
    if password:  # it opens none that is locked
        out = io.BytesIO()
        with pikepdf.open(io.BytesIO(data), password=password) as document:
            document.save(out, encryption=False)
        data = out.getvalue()
    report = page_validation.validate_pdf_bytes(data, profile=profile)
    return [f"{failure.rule_id}: {failure.message}" for failure in report.failures]


def check_tagged(test: unittest.TestCase, pdf: bytes | Path, password: str = "") -> None:
    """A PDF is PDF/UA-1 for page-validation and for the audit of ours."""
    test.assertEqual(conforms(pdf, password=password), [], pdf if isinstance(pdf, Path) else "")
    test.assertEqual(audit(pdf, password), [], pdf if isinstance(pdf, Path) else "")


def outline(pdf: bytes | Path, password: str = "") -> list[tuple[int, str, str]]:
    """The structure tree as pdfium tells it, page by page: depth and type of each element, and what is read of it in rows
    without a type."""
    document = pypdfium2.PdfDocument(pdf, password=password or None)
    rows: list[tuple[int, str, str]] = []
    for page in document:
        said = marked(page)
        tree = pdfium.FPDF_StructTree_GetForPage(page.raw)
        for number in range(pdfium.FPDF_StructTree_CountChildren(tree)):
            rows += _below(pdfium.FPDF_StructTree_GetChildAtIndex(tree, number), said, 0)
    return rows


def heard(pdf: bytes | Path, password: str = "") -> str:
    """What a PDF says in the order of its structure, a blank between what stands for itself."""
    words, block = "", 0
    for depth, kind, text in outline(pdf, password):
        if (kind and kind not in _IN_TEXT) or (text and depth < block and not words.endswith(" ")):
            words, block = words + " ", depth
        words += text
    return " ".join(words.split())


def _below(element: Any, said: dict[int, str], depth: int) -> Iterator[tuple[int, str, str]]:
    yield depth, kind_of(element), ""
    for number in range(pdfium.FPDF_StructElement_CountChildren(element)):
        child = pdfium.FPDF_StructElement_GetChildAtIndex(element, number)
        if child:
            yield from _below(child, said, depth + 1)
        else:
            content = pdfium.FPDF_StructElement_GetChildMarkedContentID(element, number)
            if content >= 0:
                yield depth, "", said.get(content, "")


def kind_of(element: Any) -> str:
    """The type of an element as pdfium tells it."""
    buffer = ctypes.create_string_buffer(64)
    pdfium.FPDF_StructElement_GetType(element, buffer, 64)
    return buffer.raw.decode("utf-16-le").partition("\0")[0]


def marked(page: Any) -> dict[int, str]:
    """What the content of each number says; what is said in the place of glyphs counts."""
    texts = page.get_textpage()
    said: dict[int, str] = {}
    before = None
    for item in page.get_objects(filter=[pdfium.FPDF_PAGEOBJ_TEXT], max_depth=9):
        raw = getattr(item, "raw", item)
        number = pdfium.FPDFPageObj_GetMarkedContentID(raw)
        text, mark = _actual_text(raw)
        if mark is not None and mark == before:
            continue  # one text is said for several strings
        before = mark
        if text is None:
            length = pdfium.FPDFTextObj_GetText(raw, texts.raw, None, 0)
            letters = (ctypes.c_ushort * (length // 2 + 1))()
            pdfium.FPDFTextObj_GetText(raw, texts.raw, letters, length)
            text = bytes(letters)[: max(0, length - 2)].decode("utf-16-le", "replace")
        said[number] = said.get(number, "") + text
    return said


def _actual_text(item: Any) -> tuple[str | None, int | None]:
    for number in range(pdfium.FPDFPageObj_CountMarks(item)):
        mark, size = pdfium.FPDFPageObj_GetMark(item, number), ctypes.c_ulong()
        get = pdfium.FPDFPageObjMark_GetParamBlobValue
        if get(mark, b"ActualText", None, 0, ctypes.byref(size)) and size.value >= 2:
            blob = (ctypes.c_ubyte * size.value)()
            get(mark, b"ActualText", blob, size.value, ctypes.byref(size))
            return bytes(blob)[2:].decode("utf-16-be", "replace"), ctypes.addressof(mark.contents)
    return None, None
