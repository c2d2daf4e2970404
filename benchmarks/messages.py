"""Every word of every text part of thousands of messages: on its page, or a note says why not."""

from __future__ import annotations

import re
import tempfile
import unicodedata
from pathlib import Path

import pypdfium2

from benchmarks.grammar import Made, generated
from benchmarks.measure import table
from wexagraph.demo.mailbox import make_mailbox
from wexagraph.exports.pool import Workers
from wexagraph.messages import Message
from wexagraph.pages.make import Job, make
from wexagraph.pages.options import PageOptions
from wexagraph.selection.criteria import body_text

OPTIONS = PageOptions(zone="UTC")
_EXCUSED = {"characters-lost", "charset-wrong", "charset-guessed", "encoding-damaged", "encrypted", "text-hidden", "words-missing", "text-unsearchable",
            
            "letters-missing", "body-too-long", "nesting-too-deep", "content-removed"}  # fmt: skip
_EDGES = ".,:;!?()[]<>\"'"


def fixtures() -> list[Made]:
    """The demo's messages; their words are what a search through the text finds."""
    with tempfile.TemporaryDirectory() as folder:
        messages = [data for held in make_mailbox(Path(folder)).messages.values() for data in held]
    return [Made(data, body_text(Message(data)).split()) for data in messages]


def squeezed(text: str) -> str:
    text = unicodedata.normalize("NFKC", text)
    return re.sub("[\\s\u00ad\u200b-\u200f\u2060-\u2064\ufe0f\ufeff\ufffe]", "", text)


def missing(words: list[str], pdf: bytes) -> list[str]:
    """The words that are not in the PDF; this comparison shares nothing with the program's own."""
    document = pypdfium2.PdfDocument(pdf)
    stream = squeezed("".join(page.get_textpage().get_text_range() for page in document))
    bare = (squeezed(piece).strip(_EDGES) for word in words for piece in re.split("-", word))
    return [word for word in dict.fromkeys(bare) if word and word not in stream and word[::-1] not in stream]


def main() -> None:
    rows = []
    for name, made in (("demo mailbox", fixtures()), ("generated from the grammar", generated(5000))):
        words = lost = excused = 0
        unexplained = []
        with Workers(2, 60) as pool:
            futures = [pool.submit(make, Job(each.data, ("pdf",), OPTIONS)) for each in made]
            for each, future in zip(made, futures, strict=True):
                result = future.result()
                gone = missing(each.words, result.files["pdf"])
                words += len(each.words)
                lost += len(gone)
                if gone and {note.code for note in result.notes} & _EXCUSED:
                    excused += len(gone)
                elif gone:
                    unexplained.append((gone, each.data))
        rows.append(
            [
                name,
                str(len(made)),
                str(words),
                f"{100 * (words - lost) / words:.3f} %",
                str(excused),
                str(lost - excused),
            ]
        )
        for gone, data in unexplained[:5]:
            print(gone, data[:300])
    table(
        "Words on their pages", ["messages", "number", "words", "found", "missing with a note", "missing without"], rows
    )


if __name__ == "__main__":
    main()
