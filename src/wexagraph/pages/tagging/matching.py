"""Each drawn string found in the reading, by its letters alone: no place on the page and no style is asked.

What is drawn comes mostly in the order of the HTML: a cursor follows it. What was drawn elsewhere is looked for with
what follows it, in places that no other string has taken; a short word is never taken by chance.
"""

from __future__ import annotations

import re
from collections import Counter
from collections.abc import Iterable, Iterator
from itertools import groupby

from wexagraph.pages.tagging.content import UNKNOWN, Show, Span
from wexagraph.pages.tagging.reading_order import Reading, letters_of

_CONTEXTS = (40, 20, 10)
_LEAST_ALONE = 6
_SHORT = 4
_LOOK_AHEAD = 12
_MOST_OF_MARK = 6
_MOST_MISSES = 3000
_MOST_PLACES = 40
_MOST_IN_GAP = 400
_MOST_OF_GLYPH = 6
_ANYTHING = f".{{0,{_MOST_OF_GLYPH}}}?"
_LIKELY = 3
_SEVERAL = f"{UNKNOWN}+"
_WINDOW = 600
_SAME_ROW = 3.0  # points
_RUNNING = re.compile(r"@(?:top|bottom)-\w+ \{ content: ((?:\"(?:[^\"\\]|\\.)*\"|[^;\"])*);")
_QUOTED = re.compile(r"\"((?:[^\"\\]|\\.)*)\"")
_ESCAPE = re.compile(r"\\([0-9a-fA-F]{1,6})\s?|\\(.)")
_DIGITS = re.compile(r"\d+")


def match(shows: list[Show], reading: Reading) -> None:
    """Give every string its `spans` in the reading."""
    _Matcher(list(_in_order(shows, reading.letters)), reading).go()


def _in_order(shows: list[Show], wanted: str) -> Iterator[Show]:
    """Strings in the order of speech: those of a line with words from right to left come from the left of the page."""
    for row in _rows(shows):
        if not any(show.leftwards for show in row):
            yield from row
            continue
        if (whole := _spoken_line(row, wanted)) is not None:
            yield from whole
            continue
        for _, some in groupby(row, key=lambda show: show.line):  # cells of a table, side by side
            line = list(some)
            more = sum(len(show.letters) if show.leftwards else -len(show.letters) for show in line) > 0
            yield from _spoken_line(line, wanted) or (_turned(line[::-1], False) if more else _turned(line, True))


def _rows(shows: list[Show]) -> Iterator[list[Show]]:
    """Strings that stand beside each other, with signs a little above and below."""
    row: list[Show] = []
    for show in shows:
        if row and (show.holder != row[-1].holder or abs(show.y - row[-1].y) > _SAME_ROW):
            yield row
            row = []
        row.append(show)
    if row:
        yield row


def _spoken_line(line: list[Show], wanted: str) -> list[Show] | None:
    """The strings of a line in the order in which they stand in the text; None where they do not stand together."""
    for show in line:
        show.turned = True
    for order in (_turned(line[::-1], False), _turned(line, True)):
        if "".join(show.letters for show in order) in wanted:
            return order
    return None


def _turned(line: list[Show], leftwards: bool) -> list[Show]:
    """A line in which the strings of one direction that stand together are turned round."""
    runs = [(key, list(run)) for key, run in groupby(line, key=lambda show: show.leftwards or not show.letters)]
    return [show for key, run in runs for show in (run[::-1] if key == leftwards else run)]


class _Matcher:
    def __init__(self, shows: list[Show], reading: Reading) -> None:
        self.shows, self.reading, self.wanted = shows, reading, reading.letters
        self.taken = bytearray(len(reading.letters))
        self.cursor = self.misses = 0
        self.loose = False
        self.drawn = "".join(show.letters for show in shows)
        self.items = {element.first for element in reading.elements if element.kind == "LI"}

    def go(self) -> None:
        at = 0
        for show in self.shows:
            end = at + len(show.letters)
            if at < end and UNKNOWN in show.text and (span := self._with_unknown(show)) is not None:
                self._take(show, span)
                at = end
            while at < end:
                first, count = self._next(at, end)
                self._take(show, Span(count, first, count))
                at += count
            if show.letters:
                self.loose = UNKNOWN in show.text
        self._take_what_is_left()
        self._stretch()
        self._fill_gaps()

    def _take(self, show: Show, span: Span) -> None:
        show.spans.append(span)
        if span.first >= 0:
            self.cursor = span.first + span.length
            self.taken[span.first : self.cursor] = b"\1" * span.length

    def _with_unknown(self, show: Show) -> Span | None:
        """Where a string stands of which some glyphs tell nothing: each may stand for several letters, or for none."""
        if not any(map(str.isspace, show.text.strip())) and self.cursor < len(self.wanted):
            end = self._word_end(self.cursor + 1)
            letters, word = Counter(show.letters), Counter(self.wanted[self.cursor : end])
            free = self._free(self.cursor, end - self.cursor) == end - self.cursor
            if free and letters <= word and (word - letters).total() <= _MOST_OF_GLYPH * show.text.count(UNKNOWN):
                return Span(len(show.letters), self.cursor, end - self.cursor)
        signs = "".join(char if char == UNKNOWN else letters_of(char) for char in show.text)
        pattern = "".join(
            _ANYTHING if sign == UNKNOWN else re.escape(sign) for sign in re.sub(_SEVERAL, UNKNOWN, signs)
        )
        match = re.compile(pattern).search(self.wanted, self.cursor, self.cursor + _WINDOW)
        known = len(signs) - signs.count(UNKNOWN)
        if match is None or len(match[0]) > known + _LIKELY * signs.count(UNKNOWN):
            return None
        if self._free(match.start(), len(match[0])) < len(match[0]):
            return None
        return Span(len(show.letters), match.start(), len(match[0]))

    def _stretch(self) -> None:
        """Letters between two strings belong to the one of them whose glyphs do not tell all."""
        before: Show | None = None
        for show in self.shows:
            if not show.spans or show.spans[0].first < 0:
                continue
            if before is not None:
                end = before.spans[-1].first + before.spans[-1].length
                gap = show.spans[0].first - end
                if 0 < gap <= _MOST_OF_GLYPH and self._free(end, gap) == gap:
                    if UNKNOWN in before.text:
                        self.taken[end : end + gap] = b"\1" * gap
                        before.spans[-1] = before.spans[-1]._replace(length=before.spans[-1].length + gap)
                    elif UNKNOWN in show.text:
                        self.taken[end : end + gap] = b"\1" * gap
                        show.spans[0] = Span(show.spans[0].letters, end, show.spans[0].length + gap)
            before = show if show.spans[-1].first >= 0 else None

    def _next(self, at: int, end: int) -> tuple[int, int]:
        """Where the drawn letters from `at` on stand, and how many of them; none found takes all up to `end`."""
        drawn, wanted, cursor = self.drawn, self.wanted, self.cursor
        count = _common(drawn, at, end, wanted, cursor)
        if count and not self.taken[cursor] and (count == end - at or count >= _SHORT) and self._likely(at, count):
            return cursor, self._free(cursor, count)
        if cursor in self.items and (mark := self._mark(at, end)):
            return -1, mark
        if self.loose and end - at > 1:  # glyphs before it stand for more letters than they tell
            first = wanted.find(drawn[at:end], cursor, cursor + _MOST_OF_GLYPH + end - at)
            if first >= 0 and self._free(first, end - at) == end - at:
                return first, end - at
        if self.misses < _MOST_MISSES:
            first = self._look(at, end)
            if first >= 0:
                return first, self._free(first, _common(drawn, at, end, wanted, first))
            self.misses += 1
        return -1, end - at

    def _mark(self, at: int, end: int) -> int:
        """How many letters are the number of an item of a list, which the HTML does not tell."""
        for count in range(1, min(_MOST_OF_MARK, end - at) + 1):
            rest = self.drawn[at + count : end] or self.drawn[end : end + _SHORT]
            if rest and self.wanted.startswith(rest[:_LOOK_AHEAD], self.cursor):
                return count
        return 0

    def _likely(self, at: int, count: int) -> bool:
        """Whether a short word at the cursor is not there by chance: what follows it does not tell otherwise."""
        if count >= _LOOK_AHEAD:
            return True
        cursor = self.cursor
        ahead = self.drawn[at + count : at + count + _LOOK_AHEAD]
        if not ahead or self.wanted.startswith(ahead[:_SHORT], cursor + count):
            return True
        return not self.wanted.startswith(ahead, cursor)

    def _look(self, at: int, end: int) -> int:
        """The first free place where the drawn letters stand with what follows them, from the cursor on, else
        before."""
        tried = 0
        for length in (*_CONTEXTS, end - at):
            context = self.drawn[at : at + length]
            if len(context) == tried or len(context) < min(_LEAST_ALONE, length):
                continue
            tried = len(context)
            if tried < _LEAST_ALONE and length != end - at:
                continue
            if length == end - at and length < _LEAST_ALONE:
                return -1
            for start in (self.cursor, 0):
                first = self.wanted.find(context, start)
                for _ in range(_MOST_PLACES):
                    if first < 0 or not self.taken[first]:
                        break
                    first = self.wanted.find(context, first + 1)
                if first >= 0 and not self.taken[first]:
                    return first
        return -1

    def _free(self, first: int, count: int) -> int:
        """How many letters from a place on no other string has taken, at most `count`."""
        other = self.taken.find(1, first, first + count)
        return count if other < 0 else other - first

    def _take_what_is_left(self) -> None:
        """Short strings that were not found: each takes what is whole and free, first behind the string before it."""
        before = 0
        for show in self.shows:
            for number, (letters, first, length) in enumerate(show.spans):
                if first < 0 and letters == len(show.letters):
                    first = self._whole(show.letters, before)
                    if first >= 0:
                        show.spans[number] = Span(letters, first, letters)
                        self.taken[first : first + letters] = b"\1" * letters
                before = first + length if first >= 0 else before

    def _whole(self, letters: str, start: int) -> int:
        for begin in (start, 0):
            first = self.wanted.find(letters, begin)
            for _ in range(_MOST_PLACES):
                end = first + len(letters)
                if first < 0 or (self._free(first, len(letters)) == len(letters) and self._is_edge(first, end)):
                    break
                first = self.wanted.find(letters, first + 1)
            else:
                first = -1
            if first >= 0:
                return first
        return -1

    def _is_edge(self, first: int, end: int) -> bool:
        """Whether letters are all that is free where they stand, or all that a text of the HTML has."""
        leaf = self.reading.leaf(first) if first < len(self.wanted) else None
        begins = first == 0 or self.taken[first - 1] or self.reading.leaf(first - 1) is not leaf
        ends = end >= len(self.wanted) or self.taken[end] or self.reading.leaf(end) is not leaf
        return bool(begins and ends)

    def _fill_gaps(self) -> None:
        """What lies between two strings that were found was drawn by those between them that were not: glyphs that tell
        no letters, or others."""
        before = 0
        waiting: list[Show] = []
        for show in self.shows:
            if not show.letters and UNKNOWN not in show.text:
                continue
            placed = show.placed
            if not placed:
                waiting.append(show)
                continue
            if waiting:
                self._fill(waiting, before, placed[0].first)
                waiting = []
            before = placed[-1].first + placed[-1].length
        if waiting:
            self._fill(waiting, before, len(self.wanted))

    def _fill(self, shows: list[Show], first: int, end: int) -> None:
        free = self._free(first, max(0, end - first)) if first < end else 0
        room = sum(len(show.text.strip()) for show in shows)
        if not 0 < free <= min(_MOST_IN_GAP, room * _MOST_OF_GLYPH) or not any(UNKNOWN in s.text for s in shows):
            return
        sizes = [len(show.text.strip()) for show in shows]
        at, given = first, 0
        for number, (show, size) in enumerate(zip(shows, sizes, strict=True)):
            given += size
            until = first + free * given // max(1, room)
            if any(map(str.isspace, self.reading.slice(first, first + free))):
                until = self._word_end(until)
            until = first + free if number == len(shows) - 1 else min(max(at, until), first + free)
            if until > at:
                show.spans = [Span(len(show.letters), at, until - at)]
                self.taken[at:until] = b"\1" * (until - at)
            at = until

    def _word_end(self, letter: int) -> int:
        """The end of the word in which a letter stands."""
        while letter < len(self.wanted) and not any(map(str.isspace, self.reading.behind(letter - 1))):
            letter += 1
        return letter


def _common(drawn: str, at: int, end: int, wanted: str, first: int) -> int:
    """How many letters of `drawn[at:end]` stand in `wanted` from `first` on."""
    if wanted.startswith(drawn[at:end], first):
        return end - at
    low, high = 0, end - at
    while low < high:
        middle = (low + high + 1) // 2
        if wanted.startswith(drawn[at : at + middle], first):
            low = middle
        else:
            high = middle - 1
    return low


def running_lines(html: str) -> list[str]:
    """The letters of each running line of a page, without its digits: page numbers are counted later."""
    lines = []
    for content in _RUNNING.findall(html):
        text = "".join(_ESCAPE.sub(_escaped, quoted) for quoted in _QUOTED.findall(content))
        lines.append(_DIGITS.sub("", letters_of(text)))
    return lines


def _escaped(match: re.Match[str]) -> str:
    return chr(int(match[1], 16)) if match[1] else match[2]


def is_running(show: Show, lines: Iterable[str]) -> bool:
    """Whether a string is (a piece of) a running line."""
    letters = _DIGITS.sub("", show.letters)
    return any(letters in line for line in lines)
