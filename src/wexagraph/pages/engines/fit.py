"""Pages made on larger paper than asked for, brought to size: for layouts that are wider than the paper."""

from __future__ import annotations

import io
from decimal import Decimal


def shrink(pdf: bytes, factor: float) -> bytes:
    """The PDF with every page, and every link on it, `factor` times as large (ISO 32000-2, 8.3.4 and 12.5.2)."""
    import pikepdf

    with pikepdf.open(io.BytesIO(pdf)) as document:
        for page in document.pages:
            page.mediabox = pikepdf.Array([_scaled(value, factor) for value in page.mediabox])
            page.contents_add(f"q {factor:.6f} 0 0 {factor:.6f} 0 0 cm".encode(), prepend=True)
            page.contents_add(b"Q")
            for annotation in page.get("/Annots", []):
                for name in ("/Rect", "/QuadPoints"):
                    if name in annotation:
                        annotation[name] = pikepdf.Array([_scaled(value, factor) for value in annotation[name]])
        out = io.BytesIO()
        document.save(out, deterministic_id=True, object_stream_mode=pikepdf.ObjectStreamMode.generate)
    return out.getvalue()


def _scaled(value: object, factor: float) -> Decimal:
    return round(Decimal(str(value)) * Decimal(str(factor)), 3)
