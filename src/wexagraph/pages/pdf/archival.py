"""PDF/A-3 (ISO 19005-3): made, and proved on what was written.

The validator knows level B alone, which level A contains: tags, and words in Unicode. It also refuses the schema that a
PDF/A needs to say that it is PDF/UA too. So what is validated says B; then the XMP that says more takes the place of
its own, which is as long, and nothing else changes.
"""

from __future__ import annotations

import io
import zlib
from typing import Any

from wexagraph.notes import Note
from wexagraph.pages.composing.properties import Record, archival_xmp

_AMBIGUOUS = b"\r\nendstream"


def as_archival(document: Any, record: Record) -> bytes | Note:
    """The document as PDF/A: level A where it says that it is PDF/UA, else level B; else a note on why it is not."""
    import pikepdf.pdfa

    _name_glyph_maps(document)
    universal = _is_universal(document)
    pikepdf.pdfa.prepare(document, "3b")
    # the time of making would make every file another one
    with document.open_metadata(set_pikepdf_as_editor=False, update_docinfo=False) as metadata:
        metadata["xmp:MetadataDate"] = f"{record.instant:%Y-%m-%dT%H:%M:%SZ}"
    made = proved(document, universal)
    return made if isinstance(made, bytes) else Note("archival-failed", made[:200])


def proved(document: Any, universal: bool | None = None) -> bytes | str:
    """An archival document as it is written, approved by the validator; else what that says against it. `universal`
    says whether it is PDF/UA too, where its XMP does not."""
    import pikepdf.pdfa

    if _is_universal(document) if universal is None else universal:
        plain, whole = archival_xmp(document.Root.Metadata.read_bytes())
        document.Root.Metadata.write(plain)
    else:
        plain = whole = b"-"
    how = pikepdf.pdfa.resolve_save_kwargs("3b", deterministic_id=True)
    out = io.BytesIO()
    document.save(out, **how)
    if _AMBIGUOUS in out.getvalue():
        with pikepdf.open(out) as written:
            _pack_twice(written)
            out = io.BytesIO()
            as_is = {"compress_streams": False, "stream_decode_level": pikepdf.StreamDecodeLevel.none}
            written.save(out, **{**how, **as_is})
    report = pikepdf.pdfa.validate_written(out, "3b")
    if report.passed:
        return out.getvalue().replace(plain, whole, 1)
    first = report.findings[0] if report.findings else None
    return f"{first.message} ({first.where})" if first else "not approved"


def _pack_twice(document: Any) -> None:
    """Pack streams whose last byte is CR a second time: readers may take it for a part of the line's end behind it. The
    last byte is a check sum's, so to pack it otherwise would not change it."""
    import pikepdf

    for item in document.objects:
        if isinstance(item, pikepdf.Stream) and item.get("/Filter") == "/FlateDecode" and "/DecodeParms" not in item:
            content = item.read_raw_bytes()
            if content.endswith(b"\r"):
                item.write(zlib.compress(content), filter=pikepdf.Array([pikepdf.Name.FlateDecode] * 2))


def conforms(pdf: bytes) -> bool:
    """Whether the pages of a PDF could stand in an archival one."""
    import pikepdf.pdfa

    with pikepdf.open(io.BytesIO(pdf)) as document:
        out = io.BytesIO()
        try:
            pikepdf.pdfa.save(document, out, "3b")
        except (pikepdf.pdfa.PdfaError, pikepdf.PdfError, ValueError):
            return False
    return True


def _is_universal(document: Any) -> bool:
    return "/Metadata" in document.Root and b"pdfuaid:part" in document.Root.Metadata.read_bytes()


def _name_glyph_maps(document: Any) -> None:
    """Write out what ISO 32000-2 (table 115) takes for granted and ISO 19005-3 (6.2.11.3.2) wants written: identity."""
    import pikepdf

    for item in document.objects:
        if not isinstance(item, pikepdf.Dictionary) or item.get("/Subtype") != "/CIDFontType2":
            continue
        if "/CIDToGIDMap" not in item:
            item.CIDToGIDMap = pikepdf.Name.Identity
