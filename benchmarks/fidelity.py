"""Words of HTML messages on our pages against where headless Chromium puts them, from the same cleaned HTML."""

from __future__ import annotations

import re
import sys
import unicodedata
from difflib import SequenceMatcher
from pathlib import Path
from typing import NamedTuple

import pypdfium2

from benchmarks.chromium import Chromium
from benchmarks.designs import designs
from benchmarks.measure import table
from wexagraph.messages import Message
from wexagraph.pages.compose import compose
from wexagraph.pages.engines import engine
from wexagraph.pages.options import PageOptions

# one endless sheet: a page break in another place moves no word
OPTIONS = PageOptions(zone="UTC", paper="210x5000")
_NEAR = 0.02


class Word(NamedTuple):
    text: str
    x: float
    y: float


class Score(NamedTuple):
    name: str
    words: int
    found: int
    placed: int


def words(pdf: bytes) -> list[Word]:
    """The words of a PDF with the left top corner of each, in points from the left top corner of the page."""
    document = pypdfium2.PdfDocument(pdf)
    out: list[Word] = []
    for number, page in enumerate(document):
        height = page.get_height()
        text = page.get_textpage()
        letters: list[str] = []
        boxes: list[tuple[float, float]] = []
        for index in range(text.count_chars() + 1):
            char = text.get_text_range(index, 1) if index < text.count_chars() else " "
            if char.strip() and char not in "\ufffe\xad":
                left, _, _, top = text.get_charbox(index, loose=True)
                boxes.append((left, height * (number + 1) - top))
                letters.append(char)
            elif letters:
                out.append(Word(_logical("".join(letters)), min(x for x, _ in boxes), min(y for _, y in boxes)))
                letters, boxes = [], []
    return out


def _logical(word: str) -> str:
    """A word in one form: no ligatures, no marks around it, right-to-left letters in whichever order sorts first."""
    word = unicodedata.normalize("NFKC", word).strip(".,:;()•") or word
    return min(word, word[::-1]) if re.search("[\u0590-\u08ff]", word) else word


def compare(name: str, ours: list[Word], theirs: list[Word]) -> Score:
    """How many of their words we have, and how many stand, in the same order, where theirs do.

    A place is right if it is within 2 % of the content's width from theirs, across, and down from the word before it.
    """
    width = OPTIONS.content_width * 0.75
    found = placed = 0
    matcher = SequenceMatcher(None, [w.text for w in theirs], [w.text for w in ours], autojunk=False)
    before: tuple[Word, Word] | None = None
    for a, b, size in matcher.get_matching_blocks():
        for step in range(size):
            their, our = theirs[a + step], ours[b + step]
            found += 1
            down = 0.0 if before is None else (their.y - before[0].y) - (our.y - before[1].y)
            before = (their, our)
            placed += abs(their.x - our.x) <= _NEAR * width and abs(down) <= _NEAR * width
    # a word that stands elsewhere, or is cut otherwise, is there all the same
    stream = "".join(w.text for w in ours)
    present = sum(w.text in stream or w.text[::-1] in stream for w in theirs)
    return Score(name, len(theirs), max(found, present), placed)


def measure(keep: Path | None = None) -> list[Score]:
    scores = []
    with Chromium() as browser:
        for name, html in designs():
            data = (
                b"Subject: Fidelity\nFrom: a@saltmere.example\nContent-Type: text/html; charset=utf-8\n\n"
                + html.encode()
            )
            page = compose(Message(data), OPTIONS)
            # the body alone: our heading and notes are easy words
            page.html = re.sub(r"(?s)<header.*?</header>|<aside.*?</aside>", "", page.html)
            ours, theirs = engine("plutoprint").render(page, OPTIONS), browser.pdf(page.self_contained())
            if keep:
                (keep / f"{name}.ours.pdf").write_bytes(ours)
                (keep / f"{name}.theirs.pdf").write_bytes(theirs)
                (keep / f"{name}.html").write_text(page.self_contained())
            footer = re.compile(r"Page|of|\d+|Fidelity")
            cut = [
                [w for w in found if not (w.y > 13_900 and footer.fullmatch(w.text))]
                for found in (words(ours), words(theirs))
            ]
            scores.append(compare(name, *cut))
    return scores


def main(keep: Path | None = None) -> None:
    """The table; with `keep`, all rows, and the pages of both in that folder to look at."""
    scores = measure(keep)
    rows = [
        [s.name, str(s.words), f"{100 * s.found / s.words:.1f} %", f"{100 * s.placed / s.words:.1f} %"]
        for s in sorted(scores, key=lambda s: s.placed / s.words)
    ]
    total = sum(s.words for s in scores)
    shares = [f"{100 * sum(getattr(s, what) for s in scores) / total:.2f} %" for what in ("found", "placed")]
    table(
        "Fidelity: words where Chromium puts them",
        ["message", "words", "found", "in their place"],
        [
            *rows[: 5 if keep is None else 60],
            [f"all {len(scores)}", str(total), *shares],
            ["wanted", "", "99.9 %", "95 %"],
        ],
    )


if __name__ == "__main__":
    main(*map(Path, sys.argv[1:2]))
