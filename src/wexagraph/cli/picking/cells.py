"""Texts of messages as cells of a terminal, in lines with a cursor: nothing in them steers it, and columns stay."""

from __future__ import annotations

import re
import unicodedata
from collections.abc import Callable
from typing import Any

from prompt_toolkit.data_structures import Point
from prompt_toolkit.formatted_text import StyleAndTextTuples
from prompt_toolkit.layout.controls import UIContent, UIControl
from prompt_toolkit.mouse_events import MouseEvent, MouseEventType
from prompt_toolkit.utils import get_cwidth

from wexagraph.text import one_line

_WHEEL = 3
_RIGHT_TO_LEFT = re.compile("[\u0590-\u08ff\ufb1d-\ufdff\ufe70-\ufefc\U00010800-\U00010fff]")
_CHANGES_WIDTH = re.compile("[\u200c\u200d\ufe00-\ufe0f]")  # joiners, variation selectors: terminals differ in them
_ISOLATE, _END = "\u2068", "\u2069"


def cell(text: str, width: int, right: bool = False) -> str:
    """A text cut or filled to so many columns. One that runs from right to left is isolated (Unicode, annex 9), so that
    a terminal which turns it round does so within its cell."""
    text = _CHANGES_WIDTH.sub("", one_line(text))
    fitted, room = "", width
    for n, letter in enumerate(text):
        needed = get_cwidth(letter)
        if needed > room or (needed == room and n + 1 < len(text) and get_cwidth(text[n + 1 :]) > 0):
            fitted += "\N{HORIZONTAL ELLIPSIS}" if room else ""
            room -= 1 if room else 0
            break
        if unicodedata.combining(letter) and not fitted:
            continue  # it would join the cell before
        fitted += letter
        room -= needed
    blank = " " * max(0, room)
    if _RIGHT_TO_LEFT.search(fitted):
        fitted = f"{_ISOLATE}{fitted}{_END}"
    return blank + fitted if right else fitted + blank


def wrapped(text: str, width: int) -> str:
    """Text of several lines for so many columns: long lines are broken between words, where there are any."""
    return "\n".join(piece for line in text.split("\n") for piece in _pieces(line, max(1, width)))


def _pieces(line: str, width: int) -> list[str]:
    pieces, current, used = [], "", 0
    for word in re.findall(r"\s*\S+|\s+$", line):
        needed = get_cwidth(word)
        if used + needed > width and current:
            pieces.append(current)
            word = word.lstrip()
            current, used, needed = "", 0, get_cwidth(word)
        while needed > width:  # a word that is longer than a line
            head = next(n for n in range(len(word), 0, -1) if n == 1 or get_cwidth(word[:n]) <= width)
            pieces.append(word[:head])
            word = word[head:]
            needed = get_cwidth(word)
        current, used = current + word, used + needed
    return [*pieces, current]


class Lines(UIControl):
    """`count` lines, each made by `line` when it is drawn, with a cursor on one of them. A click calls `clicked` with
    line and column, the wheel `move` with a number of lines."""

    def __init__(
        self,
        line: Callable[[int], StyleAndTextTuples],
        count: Callable[[], int],
        cursor: Callable[[], int],
        clicked: Callable[[int, int], None],
        move: Callable[[int], None],
    ) -> None:
        self._line, self._count, self._cursor, self._clicked, self._move = line, count, cursor, clicked, move

    def create_content(self, width: int, height: int) -> UIContent:
        """What there is to be drawn."""
        count = self._count()
        return UIContent(
            lambda at: self._line(at) if at < count else [],
            line_count=max(1, count),
            cursor_position=Point(0, self._cursor()),
            show_cursor=False,
        )

    def mouse_handler(self, mouse_event: MouseEvent) -> Any:
        """Clicks and the wheel."""
        place, kind = mouse_event.position, mouse_event.event_type
        if kind == MouseEventType.SCROLL_DOWN:
            self._move(_WHEEL)
        elif kind == MouseEventType.SCROLL_UP:
            self._move(-_WHEEL)
        elif kind == MouseEventType.MOUSE_UP and place.y < self._count():
            self._clicked(place.y, place.x)
        return None
