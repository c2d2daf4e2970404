"""Words of HTML messages on our pages against where headless Chromium puts them, from the same cleaned HTML."""

from __future__ import annotations

import ctypes
import io
import json
import re
import subprocess
import sys
import unicodedata
from concurrent.futures import ProcessPoolExecutor
from difflib import SequenceMatcher
from html import unescape
from itertools import pairwise
from pathlib import Path
from statistics import median
from tempfile import TemporaryDirectory
from typing import Any, NamedTuple

import pikepdf
import pypdfium2
import pypdfium2.raw as pdfium

from benchmarks.chromium import Chromium
from benchmarks.designs import designs
from benchmarks.measure import table
from wexagraph.messages.message import Message
from wexagraph.pages.composing.compose import Page, compose
from wexagraph.pages.engines import engine
from wexagraph.pages.options import PageOptions

# one endless sheet: a page break in another place moves no word
OPTIONS = PageOptions(zone="UTC", paper="210x5000")
_NEAR = 0.02
# as the samples show pictures that are not in a mail
_GREY = (
    r"""\1"data:image/svg+xml,%3Csvg xmlns='http://www.w3.org/2000/svg' width='120' height='40'%3E"""
    r"""%3Crect width='120' height='40' fill='grey'/%3E%3C/svg%3E" """
)
_MARGIN = 18 / 25.4 * 72
_PAPER = re.compile(r"@page\s*\{(?:[^{}]*\{[^}]*\})*[^{}]*\}")
_RIGHT_TO_LEFT = re.compile("[\u0590-\u08ff]")


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
    return min(word, word[::-1]) if _RIGHT_TO_LEFT.search(word) else word


def compare(name: str, ours: list[Word], theirs: list[Word]) -> Score:
    """How many of their words we have, and how many stand, in the same order, where theirs do.

    A place is right if it is within 2 % of the content's width from theirs, across, and down from the word before it.
    """
    width = OPTIONS.content_width * 0.75
    matched = placed = 0
    matcher = SequenceMatcher(None, [w.text for w in theirs], [w.text for w in ours], autojunk=False)
    before: tuple[Word, Word] | None = None
    for a, b, size in matcher.get_matching_blocks():
        for step in range(size):
            their, our = theirs[a + step], ours[b + step]
            matched += 1
            down = 0.0 if before is None else (their.y - before[0].y) - (our.y - before[1].y)
            before = (their, our)
            placed += abs(their.x - our.x) <= _NEAR * width and abs(down) <= _NEAR * width
    # a word that stands elsewhere, or is cut otherwise, is there all the same
    stream = "".join(w.text for w in ours)
    present = sum(w.text in stream or w.text[::-1] in stream for w in theirs)
    return Score(name, len(theirs), max(matched, present), placed)


def placed_after_fit(ours: list[Word], theirs: list[Word], width: float) -> tuple[int, int]:
    """How many of their words we have in the same order, and how many of those stand in place: across within 2 % of the
    width after one straight fit of the page, and down from the word before within 2 %."""
    pairs = paired(ours, theirs)
    if not pairs:
        return 0, 0
    slope, right, _ = fit(pairs)
    good, before = 0, pairs[0]
    for their, our in pairs:
        step = slope * (our.y - before[1].y) - (their.y - before[0].y)
        good += abs(slope * our.x + right - their.x) <= _NEAR * width and abs(step) <= _NEAR * width
        before = (their, our)
    return len(pairs), good


def paired(ours: list[Word], theirs: list[Word]) -> list[tuple[Word, Word]]:
    """Their words with ours, in the same order."""
    matcher = SequenceMatcher(
        None, [_letters(w.text) for w in theirs], [_letters(w.text) for w in ours], autojunk=False
    )
    blocks = matcher.get_matching_blocks()
    return [(theirs[a + step], ours[b + step]) for a, b, size in blocks for step in range(size)]


def fit(pairs: list[tuple[Word, Word]]) -> tuple[float, float, float]:
    """One straight fit of a page: how much larger theirs is, and how far it lies right and below. Medians, so that words
    that stand elsewhere do not count."""
    steps = [
        ((b[0].x - a[0].x) / (b[1].x - a[1].x))
        for a, b in pairwise(pairs)
        if abs(b[0].y - a[0].y) < 1 and abs(b[1].y - a[1].y) < 1 and b[1].x - a[1].x > 5
    ]
    slope = median(steps) if steps else 1.0
    return slope, median(t.x - slope * o.x for t, o in pairs), median(t.y - slope * o.y for t, o in pairs)


def page_of(html: bytes) -> Page:
    """The page of an HTML body alone: our heading and notes are easy words."""
    data = b"Subject: Fidelity\nFrom: a@saltmere.example\nContent-Type: text/html; charset=utf-8\n\n" + html
    page = compose(Message(data), OPTIONS)
    page.html = re.sub(r"(?s)<header.*?</header>|<aside.*?</aside>", "", page.html)
    return page


def pdf_of(page: Page) -> bytes:
    return engine("plutoprint").render(page, OPTIONS)


def _letters(text: str) -> str:
    """A text in one form, without what has no form of its own."""
    return re.sub("[\ufe00-\ufe0f\u200b-\u200f\u202a-\u202e\u2060-\u2069]", "", unicodedata.normalize("NFKC", text))


def boxed_words(pdf: Path) -> list[Word]:
    """The words of a PDF as `pdftotext -bbox` tells them, which is how the words of the samples were found."""
    printed = subprocess.run(["pdftotext", "-bbox", str(pdf), "-"], capture_output=True, check=True).stdout
    output = printed.decode("utf-8", "replace")  # halves of signs beyond the first plane are told as they are
    boxes = re.findall(r'<word xMin="([-\d.]+)" yMin="([-\d.]+)"[^>]*>(.*?)</word>', output)
    return [Word(unescape(text), float(x), float(y)) for x, y, text in boxes]


def score_of_file(path: Path, known: list[list[Any]], keep: Path | None = None) -> tuple[Score, list[str]]:
    """A document of others against the words of a browser's own page of it; and words that are in no right place."""
    page = page_of(path.read_bytes())
    pdf = pdf_of(page)
    with TemporaryDirectory() as place:
        made = (keep or Path(place)) / f"{path.stem}.ours.pdf"
        made.write_bytes(pdf)
        if keep:
            (keep / f"{path.stem}.ours.html").write_text(page.self_contained())
        ours = [w for w in boxed_words(made) if w.y < 13_900]
    theirs = [Word(word, left, top) for word, left, top, _ in known if word.strip()]
    stream = _letters("".join(w.text for w in ours))
    # `pdftotext` turns the letters of a right-to-left word round in either PDF, but not those of one glyph
    turned = {"".join(sorted(_letters(w.text))) for w in ours if _RIGHT_TO_LEFT.search(w.text)}
    missing = [
        w.text
        for w in theirs
        if _letters(w.text) not in stream
        and _letters(w.text)[::-1] not in stream
        and "".join(sorted(_letters(w.text))) not in turned
    ]
    matched, good = placed_after_fit(ours, theirs, OPTIONS.content_width * 0.75)
    return Score(path.stem, len(theirs), max(matched, len(theirs) - len(missing)), good), missing


def of_folder(folder: Path, keep: Path | None = None) -> None:
    """The table of a folder of HTML files, beside which html-words.json has the words of a browser."""
    known = json.loads((folder.parent / "html-words.json").read_text("utf-8"))
    scores = []
    with ProcessPoolExecutor(2) as pool:
        jobs = {name: pool.submit(score_of_file, folder / f"{name}.html", known[name], keep) for name in sorted(known)}
        for name, job in jobs.items():
            try:
                scores.append(job.result())
            except Exception as error:  # a document that no page can be made of is the worst of all
                scores.append((Score(name, len(known[name]), 0, 0), [f"{type(error).__name__}: {error}"[:60]]))
    scores = [scored for scored in scores if scored[0].words]
    rows = [
        [
            s.name,
            str(s.words),
            f"{100 * s.found / s.words:.1f} %",
            f"{100 * s.placed / s.words:.1f} %",
            " ".join(missing[:6]),
        ]
        for s, missing in sorted(scores, key=lambda one: one[0].placed / one[0].words)
    ]
    total = sum(s.words for s, _ in scores)
    shares = [f"{100 * sum(getattr(s, what) for s, _ in scores) / total:.2f} %" for what in ("found", "placed")]
    bad = sum(s.placed < 0.8 * s.words for s, _ in scores)
    last = [
        [f"all {len(scores)}", str(total), *shares, f"{bad} under 80 %"],
        ["wanted", "", "99.9 %", "97 %", "none under 80 %"],
    ]
    table(
        f"Fidelity: {folder.name}, words where a browser puts them",
        ["document", "words", "found", "in their place", "missing"],
        rows + last,
    )
    by_either([s for s, _ in scores], by_origins(folder, sorted(name for name in known if known[name])))


def by_either(boxes: list[Score], begins: list[Score]) -> None:
    """The table of both judges: each document by the one that places more of its words.

    Each is wrong about letters that the other tells rightly: `pdftotext` about the height of faces that Chromium makes
    bold itself, pypdfium2 about where a word of joined letters begins (Arabic, Bengali, Thai).
    """
    other = {score.name: score.placed / score.words for score in begins if score.words}
    shares = {s.name: (s.words, max(s.placed / s.words, other.get(s.name, 0.0))) for s in boxes}
    total = sum(count for count, _ in shares.values())
    rows = [
        [name, str(count), f"{100 * share:.1f} %"]
        for name, (count, share) in sorted(shares.items(), key=lambda item: item[1][1])
        if share < 0.9
    ]
    placed = 100 * sum(count * share for count, share in shares.values()) / total
    rows.append([f"all {len(shares)}", str(total), f"{placed:.2f} %"])
    table(
        "Fidelity: each document by the judge that tells its letters", ["under 90 %, and all", "words", "placed"], rows
    )


def origins(pdf: bytes) -> list[Word]:
    """The words of a PDF as pypdfium2 tells them, with the point on the line where each begins."""
    out: list[Word] = []
    x, y = ctypes.c_double(), ctypes.c_double()
    for number, page in enumerate(pypdfium2.PdfDocument(pdf)):
        text, height = page.get_textpage(), page.get_height()
        letters: list[tuple[str, float, float]] = []
        for index in range(text.count_chars() + 1):
            letter = text.get_text_range(index, 1) if index < text.count_chars() else " "
            if letter.strip() and letter not in "\ufffe\xad":
                pdfium.FPDFText_GetCharOrigin(text.raw, index, x, y)
                letters.append((letter, x.value, height * (number + 1) - y.value))
            elif letters:
                word = "".join(letter for letter, _, _ in letters)
                out.append(Word(word, min(x for _, x, _ in letters), min(y for _, _, y in letters)))
                letters = []
    return out


class Area(NamedTuple):
    """A rectangle that is live: left, top, right, bottom in points from the left top corner, and where it leads."""

    left: float
    top: float
    right: float
    bottom: float
    target: str


def areas(pdf: bytes) -> list[Area]:
    """The live areas of a PDF on one sheet, but for those without extent."""
    found = []
    with pikepdf.open(io.BytesIO(pdf)) as document:
        page = document.pages[0]
        height = float(page.mediabox[3])
        for annotation in page.get("/Annots", []):
            if annotation.get("/Subtype") == "/Link" and "/A" in annotation and "/URI" in annotation.A:
                left, low, right, high = sorted_box([float(value) for value in annotation.Rect])
                if right - left > 1 and high - low > 1:
                    found.append(Area(left, height - high, right, height - low, str(annotation.A.URI).rstrip("/")))
    return found


def sorted_box(box: list[float]) -> tuple[float, float, float, float]:
    return min(box[0], box[2]), min(box[1], box[3]), max(box[0], box[2]), max(box[1], box[3])


def live_areas(ours: list[Area], theirs: list[Area], place: tuple[float, float, float]) -> int:
    """How many of their areas are live in ours: at 13 of 16 points of each, after one straight fit of the page and moved
    by as much as the same link lies lower or higher in ours, lies a link of ours that leads to the same place."""
    slope, right, below = place
    fitted = [
        Area(s * slope + right, t * slope + below, r * slope + right, b * slope + below, u) for s, t, r, b, u in ours
    ]
    live = 0
    for area in theirs:
        same = [one for one in fitted if one.target == area.target]
        points = [
            (area.left + (area.right - area.left) * x, area.top + (area.bottom - area.top) * y)
            for x in (0.1, 0.37, 0.63, 0.9)
            for y in (0.1, 0.37, 0.63, 0.9)
        ]
        shifts = [0.0, *(one.top - area.top for one in same), *(one.bottom - area.bottom for one in same)]
        live += any(
            sum(any(o.left <= x <= o.right and o.top <= y + shift <= o.bottom for o in same) for x, y in points) >= 13
            for shift in shifts
            if abs(shift) < 400
        )
    return live


def by_origins(folder: Path, names: list[str]) -> list[Score]:
    """The same files by another judge: where letters begin on their lines, in Chromium's PDF of today and in ours.

    Faces that Chromium makes bold by itself are fonts of Type 3, whose height `pdftotext` tells wrongly.
    """
    scores, links = [], list[tuple[str, int, int]]()
    with Chromium() as browser:
        browser.as_on_screen()
        for name in names:
            html = (folder / f"{name}.html").read_bytes()
            shown = re.sub(
                r"""(?i)(<img\b[^>]*?\bsrc\s*=\s*)("[^"]*"|'[^']*'|[^\s>]+)""", _GREY, html.decode("utf-8", "replace")
            )
            begin = re.match(r"(?is)\s*(<!--.*?-->\s*)*<!doctype[^>]*>", shown)
            at = begin.end() if begin else 0
            face = '<style>html{font-family:"Liberation Sans"}</style>'
            their_pdf, our_pdf = browser.sheet(shown[:at] + face + shown[at:], 174, 4960), pdf_of(page_of(html))
            theirs = origins(their_pdf)
            ours = [word for word in origins(our_pdf) if word.y < 13_800]
            matched, placed = placed_after_fit(ours, theirs, OPTIONS.content_width * 0.75)
            scores.append(Score(name, len(theirs), matched, placed))
            place = fit(paired(ours, theirs) or [(Word("", 0, 0), Word("", 0, 0))])
            wanted = areas(their_pdf)
            links.append((name, len(wanted), live_areas(areas(our_pdf), wanted, place)))
    live, count = sum(each[2] for each in links), sum(each[1] for each in links)
    rows = [[name, str(wanted), str(live)] for name, wanted, live in links if live < wanted]
    rows.append(
        [f"all {sum(bool(each[1]) for each in links)} with links", str(count), f"{live} ({live / max(count, 1):.1%})"]
    )
    table(
        f"Fidelity: {folder.name}, live areas of links",
        ["with dead ones, and all", "areas of the browser", "live"],
        rows,
    )
    total = sum(score.words for score in scores)
    rows = [
        [s.name, str(s.words), f"{100 * s.placed / s.words:.1f} %"]
        for s in sorted(scores, key=lambda score: score.placed / score.words)
        if s.placed < 0.9 * s.words
    ]
    rows.append([f"all {len(scores)}", str(total), f"{100 * sum(s.placed for s in scores) / total:.2f} %"])
    table(
        f"Fidelity: {folder.name}, by the origins of letters", ["under 90 %, and all", "words", "in their place"], rows
    )
    return scores


def measure(keep: Path | None = None) -> list[Score]:
    scores = []
    with Chromium() as browser:
        for name, html in designs():
            page = page_of(html.encode())
            ours = engine("plutoprint").render(page, OPTIONS)
            theirs = browser.sheet(_PAPER.sub("", page.self_contained()), 174, 4960)
            if keep:
                (keep / f"{name}.ours.pdf").write_bytes(ours)
                (keep / f"{name}.theirs.pdf").write_bytes(theirs)
                (keep / f"{name}.html").write_text(page.self_contained())
            footer = re.compile(r"Page|of|\d+|Fidelity")
            cut = [
                [w for w in listed if not (w.y > 13_900 and footer.fullmatch(w.text))]
                for listed in (words(ours), [w._replace(x=w.x + _MARGIN) for w in words(theirs)])
            ]
            scores.append(compare(name, *cut))
    return scores


def main(folder: Path | None = None, keep: Path | None = None) -> None:
    """The table of our designs; or of a folder of HTML files. With `keep`, also the pages to look at."""
    if folder is not None:
        of_folder(folder, keep)
        return
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
    main(*map(Path, sys.argv[1:3]))
