"""Words of scans in a backup: recognised once for each attachment, and found with those of its message."""

from __future__ import annotations

import hashlib
from collections.abc import Callable, Iterator
from concurrent.futures import Future

from wexagraph.backups.packing import describe
from wexagraph.backups.store import Store
from wexagraph.errors import MessageError
from wexagraph.messages import Attachment, Message
from wexagraph.messages.filetypes import PDF, settle
from wexagraph.messages.mime import made_part
from wexagraph.work.batches import ahead
from wexagraph.work.pool import ProcessWorkers
from wexagraph.work.workers import WorkerLost

_PATIENCE = 4 * 3600.0  # a page of its own has a limit in pages/scans


def recognise_scans(
    store: Store,
    languages: tuple[str, ...],
    jobs: int,
    stopped: Callable[[], bool] = lambda: False,
) -> tuple[int, int]:
    """Read the scans of all messages that were not read in these languages, and put their words into the index.

    Returns how many attachments were read, and how many words were recognised in them. Raises TargetError; what can't
    be read has no words.
    """
    catalogue, together = store.catalogue, "+".join(languages)
    read = words = 0

    def started() -> Iterator[tuple[int, bytes, list[tuple[bytes, Future[str] | str]]]]:
        for number, digest, leaves in catalogue.unscanned(together):
            if stopped():
                return
            if not any(_may_be_scan(kind) for _, kind, _ in leaves):
                continue
            try:
                data = store.read(digest)
            except MessageError:
                continue  # verify names it
            scans: list[tuple[bytes, Future[str] | str]] = []
            for attachment in Message(data).attachments:
                content = attachment.content()
                kind = settle(attachment.name, attachment.type, content)
                if kind == PDF or kind.startswith("image/"):
                    key = hashlib.sha256(content).digest()
                    known = catalogue.recognised(key, together)
                    scans.append((key, pool.submit(scan_words, content, kind, languages) if known is None else known))
            if scans:
                yield number, data, scans

    with ProcessWorkers(jobs, _PATIENCE) as pool:
        for number, data, scans in ahead(started(), 2 * jobs):
            texts = []
            for key, text in scans:
                if not isinstance(text, str):
                    try:
                        text = text.result()
                    except WorkerLost:
                        text = ""
                    catalogue.recognise(key, together, text)
                    read, words = read + 1, words + len(text.split())
                texts.append(text)
            store.untouched = False
            catalogue.take_scans(number, together, "\n".join(filter(None, texts)), describe(data)[-1])
    if not store.untouched:
        store.commit([])
    return read, words


def _may_be_scan(kind: str) -> bool:
    return not kind.startswith(("text/", "message/"))


def scan_words(content: bytes, kind: str, languages: tuple[str, ...]) -> str:
    """The words that are recognised in a picture, or in pages of a PDF that are pictures. Never fails on content."""
    from wexagraph.messages import Header
    from wexagraph.naming import Fields
    from wexagraph.pages.attachments.document import document
    from wexagraph.pages.engines import available, engine
    from wexagraph.pages.options import PageOptions

    attachment = Attachment(made_part(content, kind, "scan", "1"))
    options = PageOptions(attachments=("pages",), ocr=languages)
    made = document(attachment, options, engine(available()[0]), Fields(Header(b""), "", "", None))
    return made.piece.scanned.text if made.piece is not None and made.piece.scanned is not None else ""
