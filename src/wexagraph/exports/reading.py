"""Reading the chosen messages: in this process, or in workers where they are only copied."""

from __future__ import annotations

import hashlib
from collections import deque
from collections.abc import Iterator
from concurrent.futures import Future
from dataclasses import dataclass
from itertools import islice
from typing import TYPE_CHECKING

from wexagraph.errors import MessageError, TargetError
from wexagraph.exports.context import Context
from wexagraph.exports.in_hand import WorkItem
from wexagraph.exports.journal.records import MessageRecord, packed, unpacked
from wexagraph.exports.making import Pages
from wexagraph.exports.plan import written_by
from wexagraph.messages.headers import Header, header_end
from wexagraph.messages.message import Message, is_one_text
from wexagraph.output.staging import Staged, Stager, stager_at
from wexagraph.sources import reopen
from wexagraph.sources.base import Envelope, Source
from wexagraph.text import one_line
from wexagraph.work.batches import Batch, ahead

if TYPE_CHECKING:
    from wexagraph.protection.keys import Keys

_ROWS_PER_CALL = 64
_WORTH_WORKERS = 1000


class Reading:
    """Reads what something has to be made of; what is there already is passed over."""

    def __init__(self, run: Context, pages: Pages) -> None:
        self.run, self.pages = run, pages

    def read_all(self) -> None:
        """Every chosen message: what is there already is passed over, what is missing is read and made."""
        options = self.run.options
        only_copies = not (options.page_formats or options.archive_formats or options.beside)
        elsewhere = self.run.executor is not None or bool(options.cluster)
        many = (self.run.progress.total or 0) >= _WORTH_WORKERS
        if only_copies and many and self.run.source.reopens and options.jobs > 1 and not elsewhere:
            self._copy_in_workers()
        else:
            self._copy_here()

    def _copy_here(self) -> None:
        """Read the messages in this process: for pages, for archives, and from a source that can't be shared out."""
        works: deque[WorkItem] = deque()

        def wanted() -> Iterator[Envelope]:
            for work in self.run.needs.works():
                if work.kept is not None:
                    self._read_earlier(work)
                    continue
                works.append(work)
                yield work.row.envelope()

        for _, data in self.run.source.read_many(wanted()):
            work = works.popleft()
            if isinstance(data, MessageError):
                self._unread(work, str(data))
                continue
            if self.run.source.lists_apart and not _is_listed(work.row, self.run.source.message(data).header):
                self._unread(work, "the server delivers another message than the one that it has listed")
                continue
            stager = self.run.target.stager if "eml" in work.missing else None
            try:
                replaces = work.path("eml") in work.replaced
                copied = copy(work.row, data, stager, work.path("eml"), replaces, self.run.source.keys)
            except OSError as error:
                raise self.run.target.failed(error) from error
            self._copied(work, copied, data)

    def _read_earlier(self, work: WorkItem) -> None:
        """A message that this run has not chosen, for the bound PDF that it stays in."""
        assert self.run.binding is not None and work.kept is not None
        data = self.run.binding.earlier.read(work.row, work.kept)
        if data is None:
            raise TargetError(f"{self.run.target.folder} was changed meanwhile. Run the same command again.")
        self.pages.take(work, data)

    def _copy_in_workers(self) -> None:
        """Have workers read and stage EML files, many messages at a time."""
        location, folder = self.run.source.address, str(self.run.target.work)

        def submit(works: list[WorkItem]) -> Future[list[Copied]]:
            rows = [(work.row, work.path("eml"), work.path("eml") in work.replaced) for work in works]
            return self.run.workers().submit_lasting(copy_rows, location, folder, rows)

        works = self.run.needs.works()
        started = (Batch(submit, items) for items in iter(lambda: list(islice(works, _ROWS_PER_CALL)), []))
        for batch in ahead(started, 16 * self.run.options.jobs):  # enough to go on with while a batch is put
            try:
                copies = batch.results(lambda work, reason: Copied(work.row.number, "", 0, "", trouble=reason))
            except OSError as error:
                raise self.run.target.failed(error) from error
            for work, copied in zip(batch.items, copies, strict=True):
                self._copied(work, copied)

    def _copied(self, work: WorkItem, copied: Copied, data: bytes = b"") -> None:
        """A message was read: its EML is staged, where one is wanted; its pages come next."""
        if copied.trouble:
            self._unread(work, copied.trouble)
            return
        work.row.digest = copied.digest
        self.run.publisher.read(copied.digest, copied.size, copied.attachments, copied.number)
        if copied.staged is not None:
            work.staged.append(("eml", copied.staged, ()))
        if self.run.options.archive_formats and self.run.archives.wants(work.row):
            header = Header(data[: header_end(data)])
            self.run.archives.add(work.row, data, header, header.date(work.row.moment)[0])
        if self.pages.wants(work):
            if self.run.options.page.archival:
                try:
                    work.original = self.run.source.original(work.row.envelope())
                except MessageError as error:
                    self._unread(work, str(error))
                    return
            self.pages.take(work, data)
        else:
            self.pages.done(work)

    def _unread(self, work: WorkItem, reason: str) -> None:
        """A message can't be read: nothing waits for it."""
        self.run.publisher.fail(work.row, reason)
        if work.document is not None:
            self.pages.arrived(work.document)


def _is_listed(row: MessageRecord, header: Header) -> bool:
    """Whether a header is of the message that was listed: people and subject are those of the plan."""
    return unpacked(row.facts)[1:] == written_by(header)


@dataclass(slots=True)
class Copied:
    """A message that was read: the digest of its bytes, the names of its attachments, the EML staged."""

    number: int
    digest: str
    size: int
    attachments: str
    staged: Staged | None = None
    trouble: str = ""


def copy(
    row: MessageRecord, data: bytes, stager: Stager | None, path: str, replaces: bool, keys: Keys | None = None
) -> Copied:
    """Digest a message and stage it as an EML file for `path`, unless `stager` is None. Raises OSError."""
    digest = hashlib.sha256(data).hexdigest()
    copied = Copied(row.number, digest, len(data), _attachments(data, keys))
    if stager is not None:
        copied.staged = stager.stage(path, data, replaces, digest)
    return copied


def copy_rows(location: str, work: str, rows: list[tuple[MessageRecord, str, bool]]) -> list[Copied]:
    """Copy many messages; runs in a worker. Each row comes with the path of its EML, and whether a file of ours gives
    way there. Raises OSError."""
    source = reopen(location)
    stager = stager_at(work)
    return [_copy_row(source, stager, *row) for row in rows]


def _copy_row(source: Source, stager: Stager, row: MessageRecord, path: str, replaces: bool) -> Copied:
    try:
        data = source.read(row.envelope())
    except MessageError as error:
        return Copied(row.number, "", 0, "", None, str(error))
    return copy(row, data, stager, path, replaces)


def _attachments(data: bytes, keys: Keys | None) -> str:
    if is_one_text(data):
        return ""
    return packed(one_line(attachment.name[:400]) for attachment in Message(data, keys=keys).attachments[:500])
