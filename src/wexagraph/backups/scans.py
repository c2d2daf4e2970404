"""Words of attachments in a backup: those of documents, and those that are recognised in scans; read once for each
attachment, and found with those of its message."""

from __future__ import annotations

import hashlib
from collections.abc import Callable, Iterator
from concurrent.futures import Future

from wexagraph.backups.packing import describe
from wexagraph.backups.store import Store
from wexagraph.errors import MessageError
from wexagraph.exports.file_words import has_words, words_of_attachment
from wexagraph.messages.blocks import Attachment
from wexagraph.messages.filetypes import PDF, settle
from wexagraph.messages.message import Message
from wexagraph.messages.mime import made_part
from wexagraph.work.batches import WorkerLost, ahead
from wexagraph.work.pool import ProcessWorkers

_DOCUMENT_PATIENCE, _PATIENCE = 60.0, 4 * 3600.0  # a page of a scan has a limit of its own in pages/scans
DOCUMENTS = "documents"
"""Stands in the catalogue for the words that documents have without being recognised."""
_Words = list[tuple[bytes, str, "Future[str] | str"]]
"""Of each attachment its SHA-256, how its words were read, and the words, or what they are awaited from."""


def read_attached(
    store: Store,
    languages: tuple[str, ...],
    jobs: int,
    stopped: Callable[[], bool] = lambda: False,
) -> tuple[int, int]:
    """Read the attachments of all messages that were not read in this way yet, and put their words into the index:
    documents, and scans in these languages (none: no scans).

    Returns how many scans were read, and how many words were recognised in them. Raises TargetError; what can't be read
    has no words.
    """
    catalogue, together = store.catalogue, "+".join(languages)
    way = f"{DOCUMENTS}+{together}" if together else DOCUMENTS
    read = words = 0

    def started() -> Iterator[tuple[int, bytes, _Words]]:
        for number, digest, leaves in catalogue.unread(way, DOCUMENTS):
            if stopped():
                return
            if not any(has_words(name, kind) or (together and _may_be_scan(kind)) for name, kind, _ in leaves):
                continue
            try:
                data = store.read(digest)
            except MessageError:
                continue  # verify names it
            yield number, data, list(_asked(data))

    def _asked(data: bytes) -> Iterator[tuple[bytes, str, Future[str] | str]]:
        for attachment in Message(data).attachments:
            content = attachment.content()
            kind, key = settle(attachment.name, attachment.type, content), hashlib.sha256(content).digest()
            if has_words(attachment.name, kind):
                known = catalogue.recognised(key, DOCUMENTS)
                asked = pool.submit(words_of_attachment, content, attachment.name, kind) if known is None else known
                yield key, DOCUMENTS, asked
            if together and (kind == PDF or kind.startswith("image/")):
                known = catalogue.recognised(key, together)
                yield key, together, pool.submit(scan_words, content, kind, languages) if known is None else known

    with ProcessWorkers(jobs, _PATIENCE if together else _DOCUMENT_PATIENCE) as pool:
        for number, data, attached in ahead(started(), 2 * jobs):
            texts = []
            for key, how, text in attached:
                if not isinstance(text, str):
                    try:
                        text = text.result()
                    except WorkerLost:
                        text = ""
                    catalogue.recognise(key, how, text)
                    if how != DOCUMENTS:
                        read, words = read + 1, words + len(text.split())
                texts.append(text)
            store.untouched = False
            catalogue.take_scans(number, way, "\n".join(filter(None, texts)), describe(data)[-1])
    if not store.untouched:
        store.commit([])
    return read, words


def _may_be_scan(kind: str) -> bool:
    return not kind.startswith(("text/", "message/"))


def scan_words(content: bytes, kind: str, languages: tuple[str, ...]) -> str:
    """The words that are recognised in a picture, or in pages of a PDF that are pictures. Never fails on content."""
    from wexagraph.messages.headers import Header
    from wexagraph.naming.patterns import Fields
    from wexagraph.pages.attachments.document import document
    from wexagraph.pages.engines import available, engine
    from wexagraph.pages.options import PageOptions

    attachment = Attachment(made_part(content, kind, "scan", "1"))
    options = PageOptions(attachments=("pages",), ocr=languages)
    made = document(attachment, options, engine(available()[0]), Fields(Header(b""), "", "", None))
    return made.piece.scanned.text if made.piece is not None and made.piece.scanned is not None else ""
