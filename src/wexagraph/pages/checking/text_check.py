"""Reading back: what a written PDF really says, against what it was to say."""

from __future__ import annotations

import io
import re
import unicodedata
from bisect import bisect_left
from collections import Counter
from dataclasses import dataclass, field
from itertools import pairwise

from wexagraph.errors import PageError
from wexagraph.notes import Note
from wexagraph.pages.checking.content_text import cut_lines, quick_text
from wexagraph.pages.checking.soundness import check_pages

# what never has a form of its own on paper, and marks with which the reader joins lines
_UNSEEN = re.compile(
    "[\u00ad\u034f\u061c\u115f\u1160\u17b4\u17b5\u180b-\u180e\u200b-\u200f\u202a-\u202e\u2060-\u206f"
    "\ufe00-\ufe0f\ufeff\ufffe\U000e0000-\U000e0fff\x02]"
)
# vowels of Khmer of which a part stands before the letter; Unicode gives those of other scripts as decompositions
_SPLIT = {code: "\u17c1" + chr(code) for code in (0x17BE, 0x17BF, 0x17C0, 0x17C4, 0x17C5)}
_MOST_LETTERS = 6
_UNMAPPED = "\N{REPLACEMENT CHARACTER}"
_MARKS = ".,:;!?()[]{}<>\"'\u00ab\u00bb\u2018\u2019\u201c\u201d\u2026\u060c\u061b\u061f"
_LEFTWARDS = re.compile("([\u0590-\u08ff\ufb1d-\ufdff\ufe70-\ufefc]+)")
# of Hebrew and Arabic, which are told in an order and in lines of their own
_VOWEL_SIGNS = re.compile("[\u0591-\u05bd\u05bf-\u05c7\u0610-\u061a\u064b-\u065f\u0670\u06d6-\u06ed]")
_LAM_ALEF = re.compile("([\u0622\u0623\u0625\u0627])\u0644")
_NO_LETTERS = re.compile(r"[\W_]+")
_EDGES = re.compile(r"^\W+|\W+$")
_PIECE = 12
_EDGE = 600
"""Characters at the edges of a page among which a broken word is looked for."""
_BREAKS = re.compile(r"[-/?&=._,;:\u2010\u2013\u2014](?=\w)")
_TOLD = 8
_BEGINNING = 30
_MOST_SHAPES = 400


@dataclass(frozen=True)
class Written:
    """A PDF as it is put on the disk, what opens it, and which of its pages are a message's own: `count` from `first`
    on, all where there is no count. Pages of others may stand behind them."""

    pdf: bytes = field(repr=False)
    key: str = field(default="", repr=False)
    first: int = 0
    count: int | None = None

    def own(self, pages: int) -> range:
        """The numbers of the message's pages, of so many."""
        return range(self.first, pages if self.count is None else self.first + self.count)


def read_back(written: Written, text: str | None, cuts: bool = False) -> tuple[list[Note], list[str]]:
    """Notes on words of `text` that the message's pages do not hold, and the text of these pages; neither where no text
    is given.

    With `cuts`, lines that are cut off at an edge for the most part count as not there.

    Words are compared without case, compatibility forms and line breaks. Raises PageError where the PDF can't be read
    by everyone (`pages/checking/soundness.py`).
    """
    quick = _first_look(written, text is not None, cuts)
    if text is None:
        return [], []
    # the real reader takes long: it is asked where the quick one is in doubt
    lost, drawn = missing_words(text, quick) if quick else ([], [])
    if quick and not lost and not drawn and not _VOWEL_SIGNS.search(text):
        return [], quick
    import pypdfium2

    try:
        document = pypdfium2.PdfDocument(written.pdf, password=written.key or None)
        own = [document[number] for number in written.own(len(document))]
        if not own:
            raise PageError("the PDF has no page")
        cut = [line for page in own for line in cut_lines(page)] if cuts else []
        pages = [page.get_textpage().get_text_bounded() for page in own]
    except pypdfium2.PdfiumError as error:
        raise PageError(f"the PDF can't be read back: {error}") from error
    notes = []
    missing, unsearchable = missing_words(text, pages)
    if quick:  # it does not look where vowel signs stand, so that it sees that these words are drawn
        unsearchable += [word for word in missing if _VOWEL_SIGNS.search(word) and word not in lost]
        missing = [word for word in missing if word not in unsearchable]
    if cut:
        wanted = set(_normal(text).split())
        missing += [word for line in cut for word in _normal(line).split() if word in wanted]
    if unsearchable:
        notes.append(Note("text-unsearchable", ", ".join(word[:40] for word in unsearchable[:_TOLD])))
    if missing:
        more = f" and {len(missing) - _TOLD} more" if len(missing) > _TOLD else ""
        shown = ", ".join(word[:40] for word in missing[:_TOLD])
        notes.append(Note("words-missing", f"{len(missing)}: {shown}{more}"))
    return notes, pages


def _first_look(written: Written, wanted: bool, cuts: bool) -> list[str] | None:
    """The text of a message's pages, where it is wanted and can be told quickly. Raises PageError."""
    import pikepdf

    try:
        with pikepdf.open(io.BytesIO(written.pdf), password=written.key) as document:
            own = written.own(len(document.pages))
            quick = quick_text((document.pages[number] for number in own), cuts) if wanted else None
            check_pages(document, [*range(written.first), *own])
            return quick
    except pikepdf.PdfError as error:
        raise PageError(f"the PDF can't be read back: {error}") from error


def starts_late(text: str, pages: list[str]) -> bool:
    """Whether a text begins on the second page, though nothing of it stands on the first."""
    if len(pages) < 2:
        return False
    beginning = [word for word in _normal(text).split() if len(word) > 3][:_BEGINNING]
    first, second = (set(_normal(page).split()) for page in pages[:2])
    return sum(word in first for word in beginning) * 3 < sum(word in second for word in beginning)


def missing_words(text: str, pages: list[str]) -> tuple[list[str], list[str]]:
    """The words of a text that the pages hold less often than the text does, and those only drawn, not told.

    The second are words with letters drawn as one sign that has no character (Indic conjuncts, stacked Thai vowels),
    and those of Arabic and Hebrew with vowel signs, which the letters are told between.
    """
    wanted = Counter(_normal(text).split())
    shown = _normal("\n".join(pages))
    words = Counter(shown.split())
    rest = [(word, count) for word, count in wanted.items() if words[word] < count]
    if not rest:
        return [], []
    stream = "".join(shown.split())
    ends = _page_ends(pages)
    lost = [word for word, count in rest if not (_stands(word, count, stream) or _is_broken(word, stream, ends))]
    drawn = []
    if any(map(_VOWEL_SIGNS.search, lost)):
        runs = [_letters(run) for run in _LEFTWARDS.findall(shown.replace("\n", "").replace(_UNMAPPED, ""))]
        drawn += [word for word in lost if _VOWEL_SIGNS.search(word) and any(_drawn_in(run, word) for run in runs)]
    if lost and _UNMAPPED in shown:
        shapes = [word for word in words if _UNMAPPED in word and _has_letters(word)][:_MOST_SHAPES]
        drawn += [word for word in lost[:_MOST_SHAPES] if any(_fits(shape, word) for shape in shapes)]
    return [word for word in lost if word not in drawn], drawn


def _fits(characters: str, word: str) -> bool:
    """Whether glyphs may stand for a word: each letter they tell is in it, and the rest is what is not told."""
    if len(word) > _MOST_LETTERS * len(characters):
        return False
    known = Counter(characters)
    unknown = known.pop(_UNMAPPED, 0)
    letters = Counter(unicodedata.normalize("NFKD", word).translate(_SPLIT))
    more = known - letters
    rest = sum((letters - known).values())
    if not unknown:
        rest -= letters["\u200c"] + letters["\u200d"]
        return not more and rest <= 0
    return not more and unknown <= rest <= unknown * _MOST_LETTERS


def _orders(word: str) -> set[str]:
    """A word as it is written, and as its signs stand from left to right, of which lam and alef may be one."""
    backwards = word[::-1]
    return {word, backwards, _LAM_ALEF.sub("\u0644\\1", backwards)}


def _drawn_in(run: Counter[str], word: str) -> bool:
    """Whether the letters of a run are those of a word, and at most as many more: of a neighbour on another line."""
    letters = _letters(word)
    return letters <= run and run.total() <= 2 * letters.total()


def _letters(word: str) -> Counter[str]:
    return Counter(char for char in word if unicodedata.category(char)[0] in "LN")


def _has_letters(word: str) -> bool:
    return any(unicodedata.category(char)[0] == "L" for char in word)


def _page_ends(pages: list[str]) -> list[tuple[str, str]]:
    """What stands around the end of each page but the last: running lines stand between the halves of a word there."""
    edges = [("".join(_normal(page[:_EDGE]).split()), "".join(_normal(page[-_EDGE:]).split())) for page in pages]
    return [(end, beginning) for (_, end), (beginning, _) in pairwise(edges)]


def _is_broken(word: str, stream: str, ends: list[tuple[str, str]]) -> bool:
    """Whether a word stands in pieces: the end of a page or of a line is inside it, and other text between its halves.

    A word may break behind marks, as in a compound or an address; one that is longer than a line anywhere. Pieces of an
    address that stands in text from right to left lie on lines of their own among words of their neighbours.
    """
    breaks = [match.end() for match in _BREAKS.finditer(word)]
    if any(word[:at] in end and word[at:] in beginning for at in breaks for end, beginning in ends):
        return True
    rest = _NO_LETTERS.sub("", word)  # marks where a line ends change their side in text from right to left
    if len(rest) <= 2 * _PIECE or any(unicodedata.category(sign)[0] == "M" for sign in word):
        return False
    letters = _NO_LETTERS.sub("", stream)
    for _ in range(1 + len(rest) // 8):  # a line of a narrow column holds no more
        if rest in letters or rest[::-1] in letters:
            return True
        length = bisect_left(range(1, len(rest)), True, key=lambda n: rest[:n] not in letters)
        if not length:
            return False
        rest = rest[length:]
    return False


def _stands(word: str, count: int, stream: str) -> bool:
    # a line may end inside the word, and right-to-left words may be told in the order of the page
    if stream.count(word) >= count:
        return True
    bare = word.strip(_MARKS)  # marks at the edge of a run of another direction change their side
    if bare != word and stream.count(bare) >= count:
        return True
    if not word.isascii():
        runs = [run for part in _LEFTWARDS.split(word) if (run := _EDGES.sub("", part))]
        if len(runs) > 1:  # each direction is told for itself
            return all(_stands(run, count, stream) for run in runs)
        if sum(map(stream.count, _orders(word))) >= count:
            return True
        # vowel signs may be told beside their letters where these run to the left; in other scripts they count
        kept = "LN" if _LEFTWARDS.search(word) else "LNM"
        letters = "".join(c for c in word if unicodedata.category(c)[0] in kept)
        if sum(map(stream.count, _orders(letters))) >= count:
            return True
        halves = _VOWEL_SIGNS.split(word)
        if len(halves) == 2:  # what stands before and behind a sign is told for itself
            bare = _VOWEL_SIGNS.sub("", stream)
            told = {first + second for first in _orders(halves[0]) for second in _orders(halves[1])}
            return sum(map(bare.count, told)) >= count
    return False


def _normal(text: str) -> str:
    if not text.isascii():
        text = _UNSEEN.sub("", unicodedata.normalize("NFKC", text))
    return text.casefold()
