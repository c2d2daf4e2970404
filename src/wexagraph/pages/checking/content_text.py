"""The text of a PDF, read from its content streams alone: no layout, no order of lines, but much faster.

Good enough to find that every word is there. Where a font tells no characters, or a word seems to be missing, a real
reader has to look (`pages/checking/text_check.py`).
"""

from __future__ import annotations

import re
from collections.abc import Callable, Iterable, Iterator
from functools import lru_cache
from typing import Any, NamedTuple

# a run of numbers and path operators with what it is for, names with theirs, other operators, and strings
_STEP = re.compile(
    rb"([-\d.](?:[-\d.\s]++|[mlch](?=\s)|re(?=\s))*+)(W\*?\s+n|cm|Tm|Td)?|/(\S+)\s+(?:(Do)|[-\d.]+\s+Tf)\b|\b([qQ])\b"
    rb"|(\((?:[^()\\]|\\.)*+\)|<[0-9A-Fa-f\s]*+>)",
    re.DOTALL,
)
_ROUNDING = 0.5
Decode = Callable[[bytes], str]

# operators of ISO 32000-2, section 9.4.3, and the strings they show
_TOKEN = re.compile(
    rb"/([^\s/<>()\[\]]+)\s+[-\d.]+\s+Tf\b|\(([^()\\]*+(?:\\.[^()\\]*+)*+)\)|<([0-9A-Fa-f\s]*)>(?!>)|\bT[jJ]\b",
    re.DOTALL,
)
_ESCAPE = re.compile(rb"\\([0-7]{1,3}|\r?\n|.)", re.DOTALL)
_ESCAPED = {b"n": b"\n", b"r": b"\r", b"t": b"\t", b"b": b"\b", b"f": b"\f"}
_CHAR = re.compile(rb"<([0-9A-Fa-f]+)>\s*<([0-9A-Fa-f]+)>")
_RANGE = re.compile(rb"<([0-9A-Fa-f]+)>\s*<([0-9A-Fa-f]+)>\s*(?:<([0-9A-Fa-f]+)>|\[([^\]]*)\])")
_TEXT = re.compile(rb"<([0-9A-Fa-f]+)>")
_SECTION = re.compile(rb"begin(bfchar|bfrange)(.*?)endbf", re.DOTALL)
_BLANKS = b"\0\t\n\f\r "
_DEEPEST = 8


def quick_text(pages: Iterable[Any], cuts: bool = False) -> list[str] | None:
    """The text of each of these pages of a document open in pikepdf, a line for each string shown; None where some of
    it can't be told this way, and with `cuts` where some may be cut off."""
    import pikepdf

    fonts: dict[Any, Decode | None] = {}
    texts = []
    try:
        for page in pages:
            pieces: list[str] = []
            for content, resources, form in contents(page.obj):
                doubtful = perhaps_cut(content, resources) if cuts and form is None else ()
                if any(_says_something(*shown, fonts) for shown in doubtful):
                    return None
                if not _shown(content, resources, fonts, pieces):
                    return None
            texts.append("".join(pieces))
        return texts
    except (pikepdf.PdfError, ValueError, LookupError, AttributeError, TypeError):
        return None


def contents(holder: Any, depth: int = 0) -> Iterator[tuple[bytes, Any, Any]]:
    """The content of a page, and of the forms that it draws, each with its resources and the form itself."""
    resources = holder.get("/Resources", {})
    drawn = holder.get("/Contents") if depth == 0 else holder
    if drawn is not None:
        parts = drawn if drawn._type_name == "array" else [drawn]
        yield b"\n".join(part.read_bytes() for part in parts), resources, None if depth == 0 else holder
    if depth < _DEEPEST:
        for form in resources.get("/XObject", {}).values():
            if form.get("/Subtype") == "/Form":
                yield from contents(form, depth + 1)


def _shown(content: bytes, resources: Any, fonts: dict[Any, Decode | None], pieces: list[str]) -> bool:
    held = resources.get("/Font", {})
    decode: Decode | None = None
    current, named = b"", dict[bytes, Decode | None]()
    run: list[bytes] = []
    # text stands between BT and ET only; the rest of a stream is lines and colours
    text = b"\n".join(block.rpartition(b"BT")[2] for block in content.split(b"\nET"))
    for name, literal, packed in _TOKEN.findall(text):
        if name:
            if name == current:
                continue
            if run and decode is not None:
                pieces.append(decode(b"".join(run)))
                run = []
            current = name
            if name not in named:
                named[name] = _known(held["/" + name.decode("latin-1")], fonts)
            decode = named[name]
        elif literal or packed:
            if decode is None:
                return False
            run.append(string_bytes(literal, packed))
        elif decode is _winansi:
            run.append(b"\n")
        elif decode is not None:
            pieces.append(decode(b"".join(run)) + "\n")
            run = []
    if run and decode is not None:
        pieces.append(decode(b"".join(run)))
    return True


def _says_something(string: bytes, font: Any, fonts: dict[Any, Decode | None]) -> bool:
    """Whether a letter or digit is in a string, or it can't be told."""
    decode = _known(font, fonts)
    content = string_bytes(string[1:-1], b"") if string.startswith(b"(") else string_bytes(b"", string[1:-1])
    return decode is None or any(char.isalnum() for char in decode(content))


def string_bytes(literal: bytes, packed: bytes) -> bytes:
    """What a literal or a hexadecimal string holds (ISO 32000-2, section 7.3.4)."""
    if packed:
        return bytes.fromhex(packed.translate(None, _BLANKS).decode("ascii"))  # a line may end within a byte
    return _ESCAPE.sub(_unescaped, literal) if b"\\" in literal else literal


def _winansi(data: bytes) -> str:
    return data.decode("cp1252", "ignore")


def _unescaped(match: re.Match[bytes]) -> bytes:
    code = match[1]
    if code[:1].isdigit():
        return bytes((int(code, 8) & 255,))
    return b"" if code[-1:] == b"\n" else _ESCAPED.get(code, code)


def _known(font: Any, fonts: dict[Any, Decode | None]) -> Decode | None:
    if font.objgen not in fonts:
        fonts[font.objgen] = _decoder(font)
    return fonts[font.objgen]


def _decoder(font: Any) -> Decode | None:
    wide = font.get("/Subtype") == "/Type0"
    if not wide and font.get("/Encoding") == "/WinAnsiEncoding":
        return _winansi
    mapping = font.get("/ToUnicode")
    if mapping is None:
        return None
    table, codec = character_table(mapping.read_bytes()), "utf-16-be" if wide else "latin-1"
    return lambda data: data.decode(codec, "ignore").translate(table)


def character_table(cmap: bytes) -> dict[int, str]:
    """Codes to characters (ISO 32000-2, section 9.10.3)."""
    codes: dict[int, str] = {}
    for kind, body in _SECTION.findall(cmap):
        if kind == b"bfchar":
            for code, text in _CHAR.findall(body):
                codes[int(code, 16)] = _characters(text)
        else:
            for first, last, text, each in _RANGE.findall(body):
                codes |= {int(first, 16) + at: _characters(one) for at, one in enumerate(_TEXT.findall(each))}
                if each:
                    continue
                start = _characters(text)
                for step in range(min(int(last, 16) - int(first, 16), 0xFFFF) + 1):
                    codes[int(first, 16) + step] = start[:-1] + chr(ord(start[-1]) + step) if start else ""
    return codes


def _characters(packed: bytes) -> str:
    return bytes.fromhex(packed.decode("ascii")).decode("utf-16-be", "ignore")


class _State(NamedTuple):
    """What holds for heights in a content stream: what makes them heights on the page, and where the clip begins and
    ends there."""

    scale: float = 1.0
    offset: float = 0.0
    low: float = float("-inf")
    high: float = float("inf")

    def within(self, first: float, last: float) -> _State:
        """The same with a narrower clip."""
        scale, offset, low, high = self
        first, last = scale * first + offset, scale * last + offset
        if first > last:
            first, last = last, first
        return _State(scale, offset, first if first > low else low, last if last < high else high)

    def shows(self, base: float, size: float) -> bool:
        """Whether letters of that size show from their base line to half their height at least."""
        foot = self.scale * base + self.offset
        return self.low - _ROUNDING <= foot and foot + abs(self.scale * size) / 2 <= self.high + _ROUNDING


class Shown(NamedTuple):
    """A string as it stands in a content stream, and its font."""

    string: bytes
    font: Any


def perhaps_cut(content: bytes, resources: Any) -> Iterator[Shown]:
    """The strings that may be cut off, in the content of a page and in the forms that it draws.

    That they show little may be since there is little to show: of a blank, a dash or a bullet. Raises ValueError where
    the page is not laid out as the engine does.
    """
    yield from _perhaps_cut(content, resources, _State(), 0)


def _perhaps_cut(content: bytes, resources: Any, state: _State, depth: int) -> Iterator[Shown]:
    forms = {name: form for name, form in resources.get("/XObject", {}).items() if form.get("/Subtype") == "/Form"}
    kept: list[_State] = []
    base = size = 0.0
    shows, font = True, b""
    for run, operator, name, draws, brace, string in _STEP.findall(content):
        if string:
            if not shows:
                yield Shown(string, resources.Font["/" + font.decode("latin-1")])
        elif brace == b"q":
            kept.append(state)
        elif brace:
            state = kept.pop()
        elif draws:
            form = forms.get("/" + name.decode("latin-1"))
            if form is not None:
                if depth == _DEEPEST:
                    raise ValueError("forms in forms without end")
                _, bottom, _, top = map(float, form.BBox)
                inner = state.within(bottom, top)
                yield from _perhaps_cut(form.read_bytes(), form.get("/Resources", {}), inner, depth + 1)
        elif name:
            font = name
        elif operator[:1] == b"W":
            state = state.within(*_heights(run))
        elif operator == b"Td":
            base += float(run.split()[-1]) * size
            shows = state.shows(base, size)
        elif operator:
            _, turned, slanted, scale, _, offset = map(float, run.split()[-6:])
            if operator == b"Tm":
                size, base = scale, offset
                shows = state.shows(base, size)
            elif turned or slanted:
                raise ValueError("what is drawn is turned")
            else:
                offset = state.scale * offset + state.offset
                state = state._replace(scale=state.scale * scale, offset=offset)


@lru_cache(maxsize=256)
def _heights(path: bytes) -> tuple[float, float]:
    """The least and the greatest height of a path's points; of a rectangle where it begins and ends."""
    heights: list[float] = []
    numbers: list[float] = []
    for token in path.split():
        if not token.isalpha():
            numbers.append(float(token))
            continue
        heights += [numbers[1], numbers[1] + numbers[3]] if token == b"re" else numbers[1::2]
        numbers = []
    return min(heights), max(heights)


def cut_lines(page: Any) -> list[str]:
    """Lines of a page, open in pypdfium2, of which less than half is to be seen."""
    from ctypes import byref, c_float

    import pypdfium2.raw as pdfium

    lines, words = [], None
    x, y = c_float(), c_float()
    at, segment, put = (byref(x), byref(y)), pdfium.FPDFClipPath_GetPathSegment, pdfium.FPDFPathSegment_GetPoint
    for item in page.get_objects(filter=[pdfium.FPDF_PAGEOBJ_TEXT]):
        clip = pdfium.FPDFPageObj_GetClipPath(item)
        paths = max(0, pdfium.FPDFClipPath_CountPaths(clip)) if clip else 0
        left, bottom, right, top = item.get_bounds()
        for path in range(paths):
            heights = []
            for number in range(max(0, pdfium.FPDFClipPath_CountPathSegments(clip, path))):
                put(segment(clip, path, number), *at)
                heights.append(y.value)
            if heights and min(top, max(heights)) - max(bottom, min(heights)) < (top - bottom) / 2:
                words = words or page.get_textpage()
                lines.append(words.get_text_bounded(left, bottom, right, top))
                break
    return lines
