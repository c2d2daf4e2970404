"""What it costs to see that all that pages name is in their resources, beside reading their words with pypdfium2."""

from __future__ import annotations

import io
from pathlib import Path

import pikepdf
import pypdfium2

from benchmarks.inputs import messages
from benchmarks.measure import paired, ratio, table
from wexagraph.pages.checking.soundness import check_pages
from wexagraph.pages.make import Job, make
from wexagraph.pages.options import PageOptions

COUNT, ROUNDS = 60, 5


def main(*folders: Path) -> None:
    mail = [path.read_bytes() for folder in folders for path in sorted(folder.rglob("*.eml"))] or messages(
        "html", COUNT
    )
    pdfs = [make(Job(each, ("pdf",), PageOptions(read_back=False))).files["pdf"] for each in mail]
    fresh = [
        [pikepdf.open(io.BytesIO(pdf)) for pdf in pdfs] for _ in range(ROUNDS)
    ]  # each is looked at once, as it is made
    pages = sum(len(document.pages) for document in fresh[0])

    def read_words() -> None:
        for pdf in pdfs:
            document = pypdfium2.PdfDocument(pdf)
            for page in document:
                page.get_textpage().get_text_range()
            document.close()

    checked, read = paired(ROUNDS, lambda: [check_pages(document) for document in fresh.pop()], read_words)
    row = [
        f"{pages:,} pages of {len(mail):,} messages",
        f"{min(checked) / pages * 1000:.2f} ms a page",
        f"pypdfium2 reads their words, {min(read) / pages * 1000:.2f} ms a page",
        f"{ratio(checked, read):.2f}",
        "at most 1 ms a page",
    ]
    table("Pages that lack nothing", ["what", "Wexagraph", "beside it", "ratio", "wanted"], [row])


if __name__ == "__main__":
    main()
