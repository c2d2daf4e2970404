"""The content streams of a page with their marks, and what is said in the place of glyphs that say otherwise."""

from __future__ import annotations

import re
import unicodedata
from collections.abc import Iterator

from wexagraph.pages.tagging.content import (
    UNKNOWN,
    Draw,
    Glyph,
    Mark,
    Marked,
    Paint,
    Setting,
    Show,
    in_words,
    written,
)
from wexagraph.pages.tagging.owners import Owner, edges
from wexagraph.pages.tagging.reading_order import Element, Reading, is_sign, letters_of, spoken
from wexagraph.pages.tagging.sheets import Sheet
from wexagraph.pages.tagging.structure import Contents, Order, Piece

_UNNAMED, _BOX = re.compile("[\ue000-\uf8ff\U000f0000-\U0010fffd]"), "\u25a1"
"""Characters that mean what two have agreed on, and what is said in their place (ISO 19005-3, section 6.2.11.7.3)."""
_SAME_ROW = 3.0  # points
_HEADER, _FOOTER = (f"/Type/Pagination/Subtype/{edge}" for edge in ("Header", "Footer"))


class Marking:
    """The content streams with their marks, and with them what each element holds."""

    def __init__(self, reading: Reading, owners: dict[Show, list[Owner]], figures: dict[Draw | Paint, Element]) -> None:
        self.reading, self.owners, self.figures = reading, owners, figures
        self.counts: dict[int, int] = {}
        self.contents = Contents()
        self.points: dict[Element, list[tuple[int, float]]] = {}

    def stream(self, holder: int, sheet: Sheet) -> bytes:
        """The content of a page or a form with its marks."""
        parts = list(self._parts(holder, sheet))
        otherwise = any(isinstance(part, Marked) and part.mark.said is not None for part in parts)
        return written(in_words(parts) if otherwise else parts)

    def _parts(self, holder: int, sheet: Sheet) -> Iterator[Setting | Paint | Draw | Marked]:
        held: tuple[Element, int, Mark] | None = None

        def mark(element: Element, order: Order, y: float, first: int = -1, end: int = -1) -> Mark:
            nonlocal held
            if held is None or held[0] is not element or (first >= 0 and held[1] not in (-1, first)):
                number = self.counts.get(sheet.page, 0)  # a number is there once on a page, also in its forms
                self.counts[sheet.page] = number + 1
                held = element, -1, Mark(number, element.kind)
                self.contents.add(element, order, Piece(holder, number))
            held = element, end if first >= 0 else held[1], held[2]
            self.points.setdefault(element, []).append((sheet.page, y))
            return held[2]

        end, y = -1, 0.0  # of the last string: the letter behind it, and its height
        for token in sheet.tokens:
            if isinstance(token, Setting):
                if token.breaks:
                    held = None
                yield token
            elif isinstance(token, Show) and token.running:
                kind = _HEADER if token.y > sheet.height / 2 else _FOOTER
                yield Marked(token.operator, Mark(None, kind))
                held = None
            elif isinstance(token, Show) and self._is_sign_alone(token):
                # the letters that it stands on say it, or the words beside it
                yield Marked(token.operator, Mark(None, said="") if token.turned else Mark(None, joins=True))
                held = None if token.turned else held
            elif isinstance(token, Show):
                for part, owner in self._cut(token):
                    here = mark(owner.element, owner.order, token.y, owner.first, owner.first + owner.length)
                    operator, said = self._said(part, owner)
                    follows = self._goes_on(part, owner, end) and abs(token.y - y) < _SAME_ROW
                    yield Marked(operator, Mark(here.number, here.kind, said or None), said or part.text, follows)
                    end, y = owner.first + owner.length if owner.first >= 0 else -1, token.y
            elif isinstance(token, Draw) and token in self.figures:
                held = None
                figure = self.figures[token]
                yield Marked(token.operator, mark(figure, (figure.order, 0), token.matrix[5]))
                held = None
            elif isinstance(token, Draw) and token.name in sheet.pictures:
                held = None
                yield Paint(token.operator)
            elif isinstance(token, Paint) and token in self.figures:
                figure = self.figures[token]
                yield Marked(token.operators, mark(figure, (figure.order, 0), 0.0))
            else:
                held = None
                yield token

    def _goes_on(self, show: Show, owner: Owner, end: int) -> bool:
        """Whether a string goes on with the word that ends at a letter."""
        if show.turned or owner.first != end or end <= 0 or not owner.length:
            return False
        return not any(map(str.isspace, self.reading.behind(end - 1)))

    def _is_sign_alone(self, show: Show) -> bool:
        text = show.text.strip()
        if show.letters or any(owner.said or owner.length for owner in self.owners.get(show, ())):
            return False
        if show.turned:
            return True
        return bool(text) and all(char == UNKNOWN or is_sign(char) for char in text)

    def _cut(self, show: Show) -> Iterator[tuple[Show, Owner]]:
        """A string in pieces where one element ends and another begins."""
        owners = self.owners.get(show, [])
        if len(owners) == 1:
            yield show, owners[0]
            return
        glyphs = show.glyphs()
        if show.leftwards:
            glyphs.reverse()
        at, cuts = 0, []
        for owner in owners:
            at += owner.count
            cuts.append(at)
        parts: list[list[Glyph]] = [[] for _ in owners]
        number = letters = 0
        for glyph in glyphs:
            count = len(letters_of(glyph.text))
            if count and letters >= cuts[number] and number < len(owners) - 1:
                number += 1
                moved = _opening(parts[number - 1])
                parts[number] = parts[number - 1][len(parts[number - 1]) - moved :]
                del parts[number - 1][len(parts[number - 1]) - moved :]
            letters += count
            parts[number].append(glyph)
        pieces = []
        for some, owner in zip(parts, owners, strict=True):
            if some:
                part = show.part(some[::-1] if show.leftwards else some, show.leftwards)
                part.ends = False
                pieces.append((part, owner))
        if show.leftwards:
            pieces.reverse()
        if pieces:
            pieces[-1][0].ends = show.ends
        yield from pieces

    def _said(self, show: Show, owner: Owner) -> tuple[bytes, str]:
        """A string as it is to be written, and what is said in its place where its glyphs say otherwise."""
        if owner.said:
            return show.operator, owner.said
        if owner.first < 0 or not owner.length:
            return show.operator, _UNNAMED.sub(_BOX, show.text) if _UNNAMED.search(show.text) else ""
        reading, end = self.reading, owner.first + owner.length
        wanted = reading.slice(owner.first, end)
        behind = reading.behind(end - 1)
        text = show.text
        if text == wanted and text.isascii() and not (show.ends or show.turned):
            return show.operator, ""
        before, inner, after = edges(text)
        hyphen = behind.startswith("\u00ad") and after.rstrip() in ("-", "\u2010", "\u00ad")
        if show.turned:  # signs beside a word change their sides
            before, after = "", reading.signs_behind(end - 1)
        blank = any(map(str.isspace, behind)) and not after[-1:].isspace()
        blank = blank and end < len(reading.letters) and reading.leaf(end).element.block is owner.element.block
        differs = show.turned or hyphen or not _same(inner, wanted) or _UNNAMED.search(text) is not None
        if not differs and not (blank and show.ends):
            return show.operator, ""
        if not differs and show.font.blank:
            return show.with_blank(), ""
        said = _heard(before) + spoken(wanted) + ("" if hyphen else _heard(after))
        return show.operator, _UNNAMED.sub(_BOX, said) + (" " if blank else "")


def _heard(signs: str) -> str:
    """What stands around the letters of a string, without signs that belong to letters of others."""
    return "".join(char for char in signs if char != UNKNOWN and not is_sign(char))


def _opening(glyphs: list[Glyph]) -> int:
    """How many of the last glyphs of a piece belong to what follows: an opening bracket behind a blank."""
    for number, glyph in enumerate(reversed(glyphs)):
        if glyph.text.isspace():
            return number
        if letters_of(glyph.text):
            return 0
    return 0


def _same(drawn: str, wanted: str) -> bool:
    """Whether glyphs say a text, but for blanks, case and signs that no one hears."""
    if drawn == wanted:
        return True
    if any(map(is_sign, wanted)):
        return False  # signs stand beside their letters in many ways, of which readers know one
    return _plain(drawn) == _plain(wanted)


def _plain(text: str) -> str:
    return "".join(unicodedata.normalize("NFKC", spoken(text)).casefold().split())
