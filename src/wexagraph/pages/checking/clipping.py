"""Text that the box it stands in cuts off, at its top or foot (ISO 32000-2, section 8.5.4).

The content streams are asked first, which is much quicker; where they leave a doubt, a real reader looks.
"""

from __future__ import annotations

import re
from collections.abc import Iterator
from functools import lru_cache
from typing import Any, NamedTuple

# a run of numbers and path operators with what it is for, names with theirs, other operators, and strings
_STEP = re.compile(
    rb"([-\d.](?:[-\d.\s]++|[mlch](?=\s)|re(?=\s))*+)(W\*?\s+n|cm|Tm|Td)?|/(\S+)\s+(?:(Do)|[-\d.]+\s+Tf)\b|\b([qQ])\b"
    rb"|(\((?:[^()\\]|\\.)*+\)|<[0-9A-Fa-f\s]*+>)",
    re.DOTALL,
)
_ROUNDING = 0.5
_DEEPEST = 8


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
