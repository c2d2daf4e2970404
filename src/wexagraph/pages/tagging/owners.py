"""Whose each drawn string is: the element that says it; what was not owned is its neighbours'."""

from __future__ import annotations

from bisect import bisect_right
from collections.abc import Iterable, Iterator
from dataclasses import dataclass

from wexagraph.pages.tagging.content import UNKNOWN, Show, Span
from wexagraph.pages.tagging.reading_order import FOLDED, Element, Reading, is_sign
from wexagraph.pages.tagging.structure import Order

_MOST_UNNAMED = 40


@dataclass(frozen=True)
class Owner:
    """Whose the letters of a string are: how many of them, the first in the reading (-1 where they were not owned), the
    element and its place in the order of reading, how many letters of the reading they stand for, and what is said of a
    string without letters that does not say it itself."""

    count: int
    first: int
    element: Element
    order: Order
    length: int = 0
    said: str = ""


def owners_of(shows: list[Show], reading: Reading) -> dict[Show, list[Owner]]:
    """Whose each string is. What was not owned is its neighbours'."""
    owners: dict[Show, list[Owner]] = {}
    waiting: list[Show] = []
    last: Owner | None = None
    for show in shows:
        owned = [owner for span in show.placed for owner in _of_span(reading, span)]
        if not owned:
            waiting.append(show)
            continue
        for lost in waiting:
            owners[lost] = [_neighbour(lost, reading, last, owned[0])]
        waiting = []
        owners[show] = _merged(show, reading, owned)
        last = owners[show][-1]
    for lost in waiting:
        owners[lost] = [_neighbour(lost, reading, last, None)]
    return owners


def _of_span(reading: Reading, span: Span) -> Iterator[Owner]:
    first, end = span.first, span.first + span.length
    if span.letters != span.length:  # it can't be told where one ends
        leaf = reading.leaf(first)
        yield Owner(span.letters, first, leaf.element, (leaf.order, first), span.length)
        return
    while first < end:
        until = min(end, reading.end_of_leaf(first))
        leaf = reading.leaf(first)
        yield Owner(until - first, first, leaf.element, (leaf.order, first), until - first)
        first = until


def _merged(show: Show, reading: Reading, owned: list[Owner]) -> list[Owner]:
    """The owners of a string one after another, one where they are the same element; what is between is theirs."""
    spans: list[Owner] = []
    item = owned[0].element.above("LI")
    if item is not None and item.label is not None and owned[0].first == item.first and not item.label.drawn:
        lost = show.spans[0].letters if show.spans[0].first < 0 else 0
        if lost or _has_mark(show, reading, item.first):
            item.label.drawn = True
            spans.append(Owner(lost, -1, item.label, (item.label.order, 0)))
    taken = iter(owned)
    for count, first, _ in show.spans:
        if first < 0:
            if spans and spans[-1].element.kind == "Lbl":
                pass
            elif spans:
                before = spans[-1]
                spans[-1] = Owner(before.count + count, -1, before.element, before.order)
            elif owned:
                spans.append(Owner(count, -1, owned[0].element, owned[0].order))
            continue
        left = count
        while left >= 0:
            owner = next(taken)
            left -= owner.count
            last = spans[-1] if spans else None
            if last is not None and last.element is owner.element:
                joined = last.first >= 0 and last.first + last.length == owner.first
                count, length = last.count + owner.count, last.length + owner.length
                spans[-1] = Owner(count, last.first if joined else -1, owner.element, last.order, length)
            else:
                spans.append(owner)
            if left <= 0:
                break
    return spans


def edges(text: str) -> tuple[str, str, str]:
    """A text in three: what stands before its first letter, from there to its last one, and behind that."""
    first, end = 0, len(text)
    while first < end and not FOLDED[text[first]]:
        first += 1
    while end > first and not FOLDED[text[end - 1]] and not is_sign(text[end - 1]):
        end -= 1
    return text[:first], text[first:end], text[end:]


def _has_mark(show: Show, reading: Reading, first: int) -> bool:
    """Whether a string begins with signs that do not stand in the text: the mark of an item."""
    before, inner, _ = edges(show.text)
    signs = "".join(before.split()) if inner else ""
    begin = reading.places[max(0, bisect_right(reading.starts, first) - 1)]
    return bool(signs) and signs not in "".join(reading.text[begin : reading.at[first]].split())


def _neighbour(show: Show, reading: Reading, last: Owner | None, following: Owner | None) -> Owner:
    """Whose a string is that was not owned: the mark of an item of a list, signs that stand in the text, else what is
    before it, else behind it."""
    if following is not None:
        item = following.element.above("LI")
        if item is not None and item.label is not None and item.first == following.first and not item.label.drawn:
            item.label.drawn = True
            return Owner(len(show.letters), -1, item.label, (item.label.order, 0))
    signs = show.text.strip()
    begin = reading.at[last.first + last.length - 1] + 1 if last is not None and last.first >= 0 else 0
    end = reading.at[following.first] if following is not None and following.first >= 0 else len(reading.text)
    if signs and begin < end and reading.leaves:
        place = reading.text.find(signs, begin, end)
        if place < 0 and UNKNOWN in signs and not show.letters:
            unnamed = "".join(char for char in reading.text[begin:end] if not is_sign(char)).strip()
            place = reading.text.find(unnamed, begin, end) if len(unnamed) <= _MOST_UNNAMED else -1
        else:
            unnamed = ""
        if place >= 0:
            leaf = reading.leaf_at(place)
            if unnamed:
                return Owner(0, -1, leaf.element, (leaf.order, bisect_right(reading.at, place)), 0, unnamed)
            return Owner(len(show.letters), -1, leaf.element, (leaf.order, bisect_right(reading.at, place)))
    near = last or following
    if near is not None:
        return Owner(len(show.letters), -1, near.element, near.order)
    element = reading.elements[-1] if reading.elements[-1].kind == "P" else reading.add("P")
    return Owner(len(show.letters), -1, element, (element.order, 0))


def set_levels(elements: Iterable[Element], drawn: set[Element], figures: Iterable[Element]) -> None:
    """The levels of the headings that are drawn: ours is the first, those of the sender lie below it, and none is
    skipped (ISO 14289-1, section 7.4.2)."""
    held = {above for element in (*drawn, *figures) if (above := _heading(element)) is not None}
    open_: list[tuple[int, int]] = []  # the headings that hold the next one: level in the HTML, and here
    for element in elements:
        if element in held:
            while open_ and open_[-1][0] >= element.level:
                open_.pop()
            level = min(open_[-1][1] + 1 if open_ else 1, 6)
            open_.append((element.level, level))
            element.kind = f"H{level}"


def _heading(element: Element) -> Element | None:
    above: Element | None = element
    while above is not None and not above.level:
        above = above.parent
    return above
