"""The words of a message that was exported, by its files: for `find`, and for the page to browse."""

from __future__ import annotations

import re
import zipfile
from contextlib import closing
from dataclasses import dataclass
from datetime import UTC
from html import unescape
from io import BytesIO
from itertools import islice
from pathlib import Path

from wexagraph.files import open_regular
from wexagraph.messages.charsets import decode
from wexagraph.messages.conversations import Thread, thread
from wexagraph.messages.filetypes import DOCX, EML, ODP, ODS, ODT, PPTX, XLSX
from wexagraph.messages.message import Message, may_be_protected
from wexagraph.messages.visible_text import html_to_text, searched_texts
from wexagraph.pages.attachments.office import document_html
from wexagraph.pages.attachments.sheets import workbook
from wexagraph.zips import UNREADABLE, out_of_proportion

_MOST_TEXT, _MOST_PAGES, _MOST_ATTACHMENTS = 2_000_000, 500, 50
_DOCUMENTS = frozenset({".pdf", ".docx", ".xlsx", ".pptx", ".odt", ".ods", ".odp", ".eml", ".html", ".htm"})
_DOCUMENT_TYPES = frozenset({"application/pdf", DOCX, XLSX, PPTX, ODT, ODS, ODP, EML, "text/html"})
_MARKED_UP = (".pptx", ".odt", ".ods", ".odp")
_WORDS_INSIDE = re.compile(r"content\.xml|ppt/(?:slides|notesSlides)/[^/]+\.xml")
_TAG = re.compile(r"<[^>]*>")


@dataclass(frozen=True)
class FileWords:
    """What the files of a message say: its date in UTC (ISO 8601), its sender and its subject for people; and texts to
    search in: subject, people, body, names of files, and what is attached. `thread` is how it hangs together with
    others, where its original is among the files."""

    date: str = ""
    sender: str = ""
    title: str = ""
    subject: str = ""
    people: str = ""
    body: str = ""
    names: str = ""
    attached: str = ""
    thread: Thread | None = None


def own_files(files: list[str]) -> list[str]:
    """The files of a message itself: not those of attachments, in the folder beside it."""
    folders = {file.rpartition(".")[0] for file in files}
    return [file for file in files if file.rpartition("/")[0] not in folders] or files


def file_to_open(files: list[str]) -> str:
    """The file that a person opens."""
    read_by_people, own = (".pdf", ".html", ".txt", ".eml"), own_files(files)
    return next((file for suffix in read_by_people for file in own if file.endswith(suffix)), own[0])


def words_of(folder: str, files: list[str]) -> FileWords:
    """The words of a message by its files below a folder. Runs in a worker. Raises OSError."""
    files = own_files(files)
    original = next((file for file in files if file.endswith(".eml")), None)
    if original is None:
        file = next((one for suffix in (".txt", ".html", ".pdf") for one in files if one.endswith(suffix)), "")
        text = _text_of(_bytes(folder, file), Path(file).suffix) if file else ""
        parents, stems = {Path(one).parent for one in files}, {Path(one).stem for one in files}
        alone = len(stems) > 1 and len(parents) == 1  # attachments alone lie in a folder of the message's name
        stem = (Path(files[0]).parent.name if alone else "") or Path(files[0]).stem
        others = [one for one in files[:_MOST_ATTACHMENTS] if Path(one).stem != Path(file).stem]
        rest = "\n".join(_text_of(_bytes(folder, one), Path(one).suffix) for one in others)
        inside = [each for one in files if one.endswith(".pdf") for each in _embedded(_bytes(folder, one))]
        rest = "\n".join([rest, *(_text_of(content, Path(name).suffix.lower()) for name, content in inside)])
        names = "\n".join([*(Path(one).name for one in files), *(name for name, _ in inside)])
        return FileWords(
            stem[:10], "", stem, subject=stem, body=text[:_MOST_TEXT], names=names, attached=rest[:_MOST_TEXT]
        )
    data = _bytes(folder, original)
    message = Message(data)
    moment = message.header.date()[0]
    subject, people, body, names = searched_texts(message, message.attachments)
    texts, scans = [], False
    for attachment in message.attachments[:_MOST_ATTACHMENTS]:
        kind = Path(attachment.name).suffix.lower() or attachment.type
        text = _text_of(attachment.content(), kind, attachment.type)
        texts.append(text)
        scans |= not text.strip() and (attachment.type.startswith("image/") or kind == ".pdf")
    pages = next((file for suffix in (".pdf", ".html", ".txt") for file in files if file.endswith(suffix)), "")
    if may_be_protected(data) and pages:  # what was opened with keys stands there alone
        texts.append(_text_of(_bytes(folder, pages), Path(pages).suffix))
    elif scans and pages.endswith(".pdf"):  # what was recognised in them stands in the pages alone
        texts.append(_text_of(_bytes(folder, pages), ".pdf"))
    sender = message.header.sender
    return FileWords(
        moment.astimezone(UTC).isoformat() if moment else "",
        sender.name or sender.address,
        message.header.subject,
        subject,
        people,
        body,
        "\n".join([*dict.fromkeys(Path(file).stem for file in files), names]),  # they hold its title
        "\n".join(texts)[:_MOST_TEXT],
        thread(message.header),
    )


def has_words(name: str, media: str) -> bool:
    """Whether an attachment is a document whose words are read here, and not with those of its message."""
    return Path(name).suffix.lower() in _DOCUMENTS or media in _DOCUMENT_TYPES


def words_of_attachment(content: bytes, name: str, media: str) -> str:
    """The words of an attached document; runs in a worker. What is damaged has none."""
    return _text_of(content, Path(name).suffix.lower(), media)[:_MOST_TEXT]


def _embedded(pdf: bytes) -> list[tuple[str, bytes]]:
    """The files inside a PDF: names and bytes."""
    import pikepdf

    try:
        with pikepdf.open(BytesIO(pdf)) as document:
            named = islice(sorted(document.attachments.items()), _MOST_ATTACHMENTS)
            return [(name, spec.get_file().read_bytes()) for name, spec in named]
    except (pikepdf.PdfError, pikepdf.PasswordError, ValueError, KeyError, RuntimeError):
        return []


def _bytes(folder: str, file: str) -> bytes:
    """A file of an export folder; no link is followed. Raises OSError."""
    with open_regular(Path(folder, file)) as content:
        return content.read()


def _text_of(content: bytes, kind: str, media: str = "") -> str:
    """The words of a file, as far as it is read; "" of a kind that has none, or that is damaged."""
    try:
        if kind == ".pdf" or media == "application/pdf":
            return _pdf_text(content)
        if kind == ".docx" or media == DOCX:
            return html_to_text(document_html(content))
        if kind == ".xlsx" or media == XLSX:
            return html_to_text(workbook(content, None)[0])
        if kind in _MARKED_UP or media in (PPTX, ODT, ODS, ODP):
            return _marked_up(content)
        if kind == ".eml" or media == EML:
            message = Message(content)
            return "\n".join(searched_texts(message, message.attachments))
        if kind in (".html", ".htm") or media == "text/html":
            return html_to_text(decode(content, "")[0])
        if kind in (".txt", ".csv", ".md", ".log", ".ics", ".vcf") or media.startswith("text/"):
            return decode(content, "")[0][:_MOST_TEXT]
    except (ValueError, RuntimeError, *UNREADABLE):  # what PDFium and the readers of documents raise for damage
        return ""
    return ""


def _marked_up(content: bytes) -> str:
    """The words of a presentation or an OpenDocument file, from the XML in it."""
    texts = []
    with zipfile.ZipFile(BytesIO(content)) as archive:
        for info in archive.infolist()[:1000]:
            if _WORDS_INSIDE.fullmatch(info.filename) and not out_of_proportion(info.file_size, info.compress_size):
                texts.append(_TAG.sub(" ", archive.read(info).decode("utf-8", "replace")))
    return unescape("\n".join(texts))[:_MOST_TEXT]


def _pdf_text(content: bytes) -> str:
    import pypdfium2

    with closing(pypdfium2.PdfDocument(BytesIO(content))) as document:
        pages = (document[number].get_textpage().get_text_range() for number in range(min(len(document), _MOST_PAGES)))
        return "\n".join(pages)[:_MOST_TEXT]
