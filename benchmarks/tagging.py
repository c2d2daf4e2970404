"""What tags cost and whether they are right: PDF/UA-1 by page-validation and by the audit, pages the same to the pixel,
words in the order of the structure against that of the HTML; of mail in a folder, or of generated messages."""

from __future__ import annotations

import time
import unicodedata
from dataclasses import replace
from difflib import SequenceMatcher
from pathlib import Path
from typing import NamedTuple

import pypdfium2

from benchmarks.inputs import messages
from benchmarks.measure import table
from benchmarks.messages import fixtures
from tests.tagged_pdf import conforms, heard
from wexagraph.demo.build import html, message, when
from wexagraph.messages.message import Message
from wexagraph.pages.composing.compose import Page, compose
from wexagraph.pages.composing.properties import described
from wexagraph.pages.engines import engine, pluto
from wexagraph.pages.options import PageOptions
from wexagraph.pages.tagging.audit import audit
from wexagraph.pages.tagging.reading_order import reading_order, spoken
from wexagraph.pages.tagging.tag import tagged

OPTIONS = PageOptions(zone="UTC")
HEAD = [
    "mail",
    "PDFs",
    "pages",
    "PDF/UA-1",
    "audit",
    "same pixels",
    "words in order",
    "PDFs over 98 %",
    "ms a page",
    "bytes a page",
]
_ROUNDS = 3
_MOST_WORDS = 8000


class Result(NamedTuple):
    pages: int
    conforms: bool
    sound: bool
    same: bool
    words: int
    right: int
    more: int
    untagged: bytes
    page: Page


def main(*folders: Path) -> None:
    for folder in folders:
        _table(f"Tagged: {folder.name}", {folder.name: _of_others(folder)})
    if not folders:
        kinds = {
            "demo mailbox": [each.data for each in fixtures()],
            "generated HTML": messages("html", 60),
            "generated dense text": messages("text", 60),
        }
        _table("Tagged PDFs", kinds)


def _of_others(folder: Path) -> list[bytes]:
    """Messages, and HTML files each as a message."""
    mails = [path.read_bytes() for path in sorted(folder.glob("*.eml"))]
    texts = (path.read_text("utf-8", "replace") for path in sorted(folder.glob("*.html")))
    day = when("2026-03-14")
    return mails + [message("a@saltmere.example", "r@saltmere.example", "Mail", day, html(text)) for text in texts]


def _table(title: str, kinds: dict[str, list[bytes]]) -> None:
    rows = []
    for name, mails in kinds.items():
        results = [_measured(data) for data in mails]
        pages = sum(one.pages for one in results)
        words, right = sum(one.words for one in results), sum(one.right for one in results)
        cost = min(_seconds(results) for _ in range(_ROUNDS))
        over = sum(one.right >= 0.98 * one.words for one in results)
        rows.append(
            [
                *(name, f"{len(results)}", f"{pages}"),
                *(f"{sum(getattr(one, key) for one in results)}" for key in ("conforms", "sound", "same")),
                *(f"{right / words:.2%}", f"{over}"),
                f"{cost / pages * 1000:.1f}",
                f"{sum(one.more for one in results) / pages:.0f}",
            ]
        )
    table(title, HEAD, rows)


def _measured(data: bytes) -> Result:
    page = compose(Message(data), OPTIONS)
    bare, shown = _untagged(page)
    made = _tagged(bare, shown)
    whole = described(made, page.record)
    written = _words(spoken(reading_order(shown.html, shown.resources, "en").text))
    said = _words(heard(whole))
    blocks = SequenceMatcher(None, written, said, autojunk=False).get_matching_blocks()
    return Result(
        pages=len(pypdfium2.PdfDocument(bare)),
        conforms=not conforms(whole),
        sound=not audit(whole),
        same=_drawn(bare) == _drawn(made),
        words=len(said),
        right=sum(block.size for block in blocks),
        more=len(made) - len(bare),
        untagged=bare,
        page=shown,
    )


def _tagged(bare: bytes, page: Page) -> bytes:
    edges = (OPTIONS.margin.top / OPTIONS.page_size[1],) * 2
    return tagged(bare, page.html, page.resources, page.record.language, OPTIONS.tr("Picture"), edges)


def _seconds(results: list[Result]) -> float:
    """Processor time of tagging all, one after another as a worker does."""
    start = time.process_time()
    for one in results:
        _tagged(one.untagged, one.page)
    return time.process_time() - start


def _words(text: str) -> list[str]:
    """The words of a text, without signs, which labels of lists are too."""
    plain = unicodedata.normalize("NFKC", text).casefold()
    return "".join(c if unicodedata.category(c)[0] in "LNM" else " " for c in plain).split()[:_MOST_WORDS]


def _untagged(page: Page) -> tuple[bytes, Page]:
    """The engine's PDF as it is tagged, and the page as the engine was given it."""
    held: list[tuple[bytes, Page]] = []
    written = pluto.PlutoPrint._written

    def kept(self: pluto.PlutoPrint, book: object, shown: Page, options: PageOptions) -> bytes:
        pdf = written(self, book, replace(shown, tagged=False), options)  # type: ignore[arg-type]
        held.append((pdf, shown))
        return pdf

    pluto.PlutoPrint._written = kept  # type: ignore[method-assign]
    try:
        engine("plutoprint").render(page, OPTIONS)
    finally:
        pluto.PlutoPrint._written = written  # type: ignore[method-assign]
    return held[-1]


def _drawn(pdf: bytes) -> list[bytes]:
    return [bytes(page.render(scale=1).buffer) for page in pypdfium2.PdfDocument(pdf)]


if __name__ == "__main__":
    main()
