"""Lines to be moved through, of which only those that are seen are ever made."""

from __future__ import annotations

from collections.abc import Callable
from typing import Any

from prompt_toolkit.data_structures import Point
from prompt_toolkit.formatted_text import StyleAndTextTuples
from prompt_toolkit.layout.controls import UIContent, UIControl
from prompt_toolkit.mouse_events import MouseEvent, MouseEventType

_WHEEL = 3


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
