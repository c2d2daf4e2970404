"""Every word of every text part of thousands of messages: on its page, or a note says why not."""

from __future__ import annotations

import email
import io
import re
import sys
import tempfile
import unicodedata
from pathlib import Path

import pikepdf
import pypdfium2

from benchmarks.grammar import Made, generated
from benchmarks.measure import PROGRAM, run, table
from wexagraph.demo.mailbox import make_mailbox
from wexagraph.errors import PageError
from wexagraph.messages.message import Message
from wexagraph.messages.visible_text import visible_texts
from wexagraph.pages.make import Job, make
from wexagraph.pages.options import PageOptions
from wexagraph.work.pool import ProcessWorkers

OPTIONS = PageOptions(zone="UTC")
_EXCUSED = {
    "characters-lost",
    "charset-wrong",
    "charset-guessed",
    "encoding-damaged",
    "encrypted",
    "text-hidden",
    "words-missing",
    "text-unsearchable",
    "letters-missing",
    "body-too-long",
    "nesting-too-deep",
    "content-removed",
}
_EDGES = ".,:;!?()[]<>\"'"


def fixtures() -> list[Made]:
    """The demo's messages; their words are what a search through the text finds."""
    with tempfile.TemporaryDirectory() as folder:
        messages = [data for held in make_mailbox(Path(folder)).messages.values() for data in held]
    return [Made(data, "\n".join(visible_texts(Message(data))).split()) for data in messages]


def squeezed(text: str) -> str:
    text = unicodedata.normalize("NFKC", text)
    return re.sub("[\\s\u00ad\u200b-\u200f\u2060-\u2064\ufe0f\ufeff\ufffe]", "", text)


def missing(words: list[str], pdf: bytes) -> list[str]:
    """The words that are not in the PDF; this comparison shares nothing with the program's own."""
    document = pypdfium2.PdfDocument(pdf)
    stream = squeezed("".join(page.get_textpage().get_text_range() for page in document))
    bare = (squeezed(piece).strip(_EDGES) for word in words for piece in re.split("-", word))
    return [word for word in dict.fromkeys(bare) if word and word not in stream and word[::-1] not in stream]


def of_others(folder: Path) -> None:
    """Raw messages of a folder: every part that the email package sees with a name, or that is neither text nor
    drawn, has to be an attachment of ours, byte for byte, in the list, in the PDF and in the program's own copy."""
    parts = kept = embedded = extracted = failed = 0
    with tempfile.TemporaryDirectory() as place:
        for number, path in enumerate(sorted(p for p in folder.iterdir() if p.is_file())):
            data = path.read_bytes()
            ours = Message(data)
            drawn = {_joined(part.content()) for part in ours.layout_pictures()}
            wanted = [content for content in map(_joined, _files(data)) if content not in drawn]
            parts += len(wanted)
            listed = [_joined(attachment.content()) for attachment in ours.attachments]
            try:
                pdf = make(Job(data, ("pdf",), PageOptions(zone="UTC", attachments=("embed",)))).files["pdf"]
            except PageError as error:
                failed += 1
                print(f"{path.name}: {error}")
                continue
            held = _embedded(pdf)
            copied = _extracted(path, Path(place) / str(number)) if ours.attachments else []
            kept += sum(content in listed for content in wanted)
            embedded += sum(content in held for content in wanted)
            extracted += sum(content in copied for content in wanted)
            for content in wanted:
                if content not in held or content not in copied:
                    print(f"{path.name}: a part of {len(content)} bytes, {content[:30]!r}")
    rows = [
        [
            folder.name,
            str(number + 1),
            str(failed),
            str(parts),
            *(f"{100 * n / max(parts, 1):.2f} %" for n in (kept, embedded, extracted)),
        ]
    ]
    head = ["messages", "number", "without a page", "files that email sees", "attachments", "in the PDF", "extracted"]
    table("Attachments of others' messages", head, rows)


def _files(data: bytes) -> list[bytes]:
    """The files of a message as the email package sees them; not those of messages within it, which are files whole."""
    contents = []
    waiting = [email.message_from_bytes(data)]
    while waiting:
        part = waiting.pop()
        kind = part.get_content_type()
        if kind == "message/rfc822" and isinstance(part.get_payload(), list):
            continue  # compared as a whole it would be written anew by email
        if part.is_multipart() and kind != "message/partial":
            waiting += part.get_payload()  # type: ignore[arg-type]
        elif not part.is_multipart() and (
            part.get_filename() or not kind.startswith(("text/", "message/", "multipart/"))
        ):
            contents.append(part.get_payload(decode=True) or b"")
    return contents  # type: ignore[return-value]


def _joined(content: bytes) -> bytes:
    """Bytes without what line ends at the end of a part make of them."""
    return content.replace(b"\r\n", b"\n").strip(b"\n")


def _embedded(pdf: bytes) -> list[bytes]:
    with pikepdf.open(io.BytesIO(pdf)) as document:
        return [_joined(spec.get_file().read_bytes()) for spec in document.attachments.values()]


def _extracted(path: Path, into: Path) -> list[bytes]:
    run(PROGRAM, "attachments", str(path), "--into", str(into))
    return [_joined(file.read_bytes()) for file in into.rglob("*") if file.is_file() and ".wexagraph" not in file.parts]


def main(*folders: Path) -> None:
    for folder in folders:
        of_others(folder)
    if folders:
        return
    rows = []
    for name, made in (("demo mailbox", fixtures()), ("generated from the grammar", generated(5000))):
        words = lost = excused = 0
        unexplained = []
        with ProcessWorkers(2, 60) as pool:
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
    main(*map(Path, sys.argv[1:]))
