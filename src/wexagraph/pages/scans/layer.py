"""An invisible layer of words over a page of a PDF (ISO 32000-2, section 9.3.6: text rendering mode 3)."""

from __future__ import annotations

import io
from collections.abc import Sequence
from functools import lru_cache
from typing import Any, NamedTuple

from wexagraph.pages.tagging.joining import add_paragraph

_ADVANCE = 500  # of the one glyph, in thousandths of the font's size
_NAME = "WexagraphWords"


class Placed(NamedTuple):
    """A word on a page: its text, where its line of letters begins and ends, and the point above its beginning; in
    points of the page."""

    text: str
    start: tuple[float, float]
    end: tuple[float, float]
    above: tuple[float, float]


@lru_cache(maxsize=1)
def _font_file() -> bytes:
    """A TrueType font of one glyph: a line without an area, which draws nothing, and has the box of a letter."""
    from fontTools.fontBuilder import FontBuilder
    from fontTools.pens.ttGlyphPen import TTGlyphPen

    pen = TTGlyphPen(None)
    pen.moveTo((0, 0))
    pen.lineTo((_ADVANCE, 1000))
    pen.closePath()
    glyph = pen.glyph()
    builder = FontBuilder(1000, isTTF=True)
    builder.setupGlyphOrder([".notdef", "word"])
    builder.setupCharacterMap({32: "word"})
    builder.setupGlyf({".notdef": glyph, "word": glyph})
    builder.setupHorizontalMetrics({".notdef": (_ADVANCE, 0), "word": (_ADVANCE, 0)})
    builder.setupHorizontalHeader(ascent=1000, descent=0)
    builder.setupNameTable({"familyName": _NAME, "styleName": "Regular", "psName": _NAME})
    builder.setupOS2(sTypoAscender=1000, sTypoDescender=0)
    builder.setupPost()
    builder.font["head"].created = builder.font["head"].modified = 0
    out = io.BytesIO()
    builder.font.recalcTimestamp = False
    builder.save(out)
    return out.getvalue()


def _unicode_map() -> bytes:
    """Each code stands for the UTF-16 unit of its number (ISO 32000-2, section 9.10.3)."""
    lines = [
        "/CIDInit /ProcSet findresource begin 12 dict begin begincmap",
        "/CIDSystemInfo << /Registry (Adobe) /Ordering (UCS) /Supplement 0 >> def",
        "/CMapName /Adobe-Identity-UCS def /CMapType 2 def",
        "1 begincodespacerange <0000> <FFFF> endcodespacerange",
    ]
    for start in range(0, 256, 64):
        rows = [f"<{high:02X}00> <{high:02X}FF> <{high:02X}00>" for high in range(start, start + 64)]
        lines += [f"{len(rows)} beginbfrange", *rows, "endbfrange"]
    lines.append("endcmap CMapName currentdict /CMap defineresource pop end end")
    return "\n".join(lines).encode("ascii")


def font(document: Any) -> Any:
    """The font of the layer, as an object of a document of pikepdf."""
    from pikepdf import Array, Dictionary, Name, Stream, String

    program = _font_file()
    descriptor = Dictionary(
        Type=Name.FontDescriptor,
        FontName=Name("/" + _NAME),
        Flags=4,
        FontBBox=Array([0, 0, _ADVANCE, 1000]),
        ItalicAngle=0,
        Ascent=1000,
        Descent=0,
        CapHeight=1000,
        StemV=80,
        FontFile2=document.make_indirect(Stream(document, program, Length1=len(program))),
    )
    # every code is drawn by the one glyph
    glyphs = document.make_indirect(Stream(document, b"\0\1" * 65536))
    descendant = Dictionary(
        Type=Name.Font,
        Subtype=Name.CIDFontType2,
        BaseFont=Name("/" + _NAME),
        CIDSystemInfo=Dictionary(Registry=String("Adobe"), Ordering=String("Identity"), Supplement=0),
        FontDescriptor=document.make_indirect(descriptor),
        DW=_ADVANCE,
        CIDToGIDMap=glyphs,
    )
    return document.make_indirect(
        Dictionary(
            Type=Name.Font,
            Subtype=Name.Type0,
            BaseFont=Name("/" + _NAME),
            Encoding=Name("/Identity-H"),
            DescendantFonts=Array([document.make_indirect(descendant)]),
            ToUnicode=document.make_indirect(Stream(document, _unicode_map())),
        )
    )


def add(document: Any, page: Any, words: Sequence[Placed], own: Any) -> None:
    """Put words over a page, unseen, each where it stands; `own` is the font of the layer in this document."""
    from pikepdf import Name

    name = page.add_resource(own, Name.Font)
    number = add_paragraph(document, page.obj)
    begin, end = (b"/P <</MCID %d>>BDC\n" % number, b"\nEMC") if number is not None else (b"", b"")
    page.contents_add(b"q", prepend=True)
    page.contents_add(b"Q\n" + begin + _content(str(name), words) + end)


def _content(name: str, words: Sequence[Placed]) -> bytes:
    """The operators that write words in a font of that name, its slash included."""
    lines = ["q BT 3 Tr"]
    for word in words:
        along = (word.end[0] - word.start[0], word.end[1] - word.start[1])
        up = (word.above[0] - word.start[0], word.above[1] - word.start[1])
        length, size = (along[0] ** 2 + along[1] ** 2) ** 0.5, (up[0] ** 2 + up[1] ** 2) ** 0.5
        codes = (word.text + " ").encode("utf-16-be", "replace")
        if length < 0.1 or size < 0.1:
            continue
        # the word fills its box, the space behind it stands outside
        wide = length / ((len(codes) // 2 - 1) * _ADVANCE / 1000 * size)
        a, b = along[0] / length * wide, along[1] / length * wide
        c, d = up[0] / size, up[1] / size
        x, y = word.start
        lines.append(f"{name} {size:.2f} Tf {a:.5f} {b:.5f} {c:.5f} {d:.5f} {x:.2f} {y:.2f} Tm")
        lines.append(f"<{codes.hex().upper()}> Tj")
    return "\n".join([*lines, "ET Q"]).encode("ascii")
