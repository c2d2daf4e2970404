"""Words of scans: how many are right and in their places, and how long it takes, beside the bare engine."""

from __future__ import annotations

import statistics
import time
from collections import Counter
from concurrent.futures import ProcessPoolExecutor
from contextlib import ExitStack
from itertools import product
from typing import Any

import pypdfium2

from benchmarks.measure import seconds, table
from tests.scanned import ENGLISH, GERMAN, Drawn, file_of, page
from tests.test_scans import words_of
from wexagraph.pages.scans import recognise
from wexagraph.pages.scans.engines import recogniser
from wexagraph.pages.scans.recognise import pictures_without_text, with_words

_LANGUAGES = {"eng": ENGLISH, "deu": GERMAN}
_STATES: dict[str, dict[str, Any]] = {
    "clean": {},
    "noisy": {"noise": 60},
    "skewed by 2°": {"skew": 2},
    "fax": {"fax": True},
}
_NEAR = 3 / 25.4 * 72


def main() -> None:
    by_state: dict[str, list[tuple[int, int, int, int]]] = {}
    times, sizes = [], []
    for language, dpi, (state, how) in product(_LANGUAGES, (100, 150, 200, 300), _STATES.items()):
        image, drawn = page(dpi=dpi, words=_LANGUAGES[language], lines=30, seed=dpi, **how)
        content = file_of(image, "PDF", dpi)
        program = recogniser((language,))
        bare = Counter(word.text for word in program.words(image.convert("L"), dpi, 600))
        started = time.perf_counter()
        scanned = with_words(content, (language,))
        taken = time.perf_counter() - started
        with pypdfium2.PdfDocument(content) as document:
            drawn_page = document[0].render(scale=300 / 72, grayscale=True).to_pil()
        level = recognise.levelled(recognise.cleaned(drawn_page, recognise.is_grainy(drawn_page)))[0]
        times.append(taken / seconds(lambda level=level, program=program: program.words(level, 300, 600)))  # type: ignore[misc]
        sizes.append(len(scanned.pdf) - len(content))
        read = words_of(scanned.pdf)
        wanted, text = Counter(word.text for word in drawn), Counter(word.text for word in read)
        near = -1 if "skew" in how else sum(any(_near(a, b) for b in read if a.text == b.text) for a in drawn)
        row = (len(drawn), (wanted & text).total(), (wanted & bare).total(), near)
        by_state.setdefault(f"{dpi} dpi", []).append(row)
        by_state.setdefault(state, []).append(row)
        by_state.setdefault("all", []).append(row)
    rows = [
        [name, _share(its, 1), _share(its, 2), "98 %" if name in ("200 dpi", "300 dpi") else ""]
        for name, its in by_state.items()
    ]
    rows[[row[0] for row in rows].index("all")][3] = "95 %"
    table("Words of scans that are right", ["pages, English and German", "Wexagraph", "bare tesseract", "wanted"], rows)
    level_rows = [row for row in by_state["all"] if row[3] >= 0]
    right = sum(row[1] for row in level_rows)
    pages = [file_of(page(lines=12, seed=number)[0], "PDF") for number in range(8)]
    with ExitStack() as stack:
        one, two = (stack.enter_context(ProcessPoolExecutor(count)) for count in (1, 2))
        for pool in (one, two):
            list(pool.map(_made, pages[:2]))
        rate = seconds(lambda: list(one.map(_made, pages))) / seconds(lambda: list(two.map(_made, pages)))
    typed = _typed(pages[0])
    with pypdfium2.PdfDocument(typed) as document:
        knows = min(seconds(lambda: pictures_without_text(document[0])) for _ in range(20))
    table(
        "What reading a scan takes",
        ["what", "found", "wanted"],
        [
            [
                "words that are right, found again within 3 mm",
                f"{100 * sum(r[3] for r in level_rows) / right:.1f} %",
                "99 %",
            ],
            [
                "time a page, to bare tesseract on the cleaned picture",
                f"{statistics.median(times):.2f} times",
                "at most 1.25",
            ],
            ["two workers", f"{rate:.2f} times one", "1.8"],
            ["size, a page", f"{max(sizes) / 1024:.1f} KB more at most", "15 KB"],
            ["a page that has its text already", f"{knows * 1000:.1f} ms to know", "30 ms"],
        ],
    )


def _made(content: bytes) -> int:
    return with_words(content, ("eng",)).words


def _typed(content: bytes) -> bytes:
    """A page whose picture has its words already."""
    return with_words(content, ("eng",)).pdf


def _near(one: Drawn, other: Drawn) -> bool:
    return all(abs(a - b) < _NEAR for a, b in zip(one.box, other.box, strict=True))


def _share(rows: list[tuple[int, int, int, int]], which: int) -> str:
    return f"{100 * sum(row[which] for row in rows) / sum(row[0] for row in rows):.1f} %"


if __name__ == "__main__":
    main()
