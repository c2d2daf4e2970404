"""The archives of an export: one file a folder, written while its messages are read."""

from __future__ import annotations

from datetime import datetime
from hashlib import sha256
from typing import BinaryIO

from wexagraph.exports.formats import FORMATS
from wexagraph.exports.journal.journal import Journal
from wexagraph.exports.journal.records import FileRecord, MessageRecord
from wexagraph.exports.options import ExportOptions
from wexagraph.exports.report import ExportReport
from wexagraph.messages import Header
from wexagraph.naming import clean, component
from wexagraph.naming.paths import folder_path, free_name
from wexagraph.output.archives import ArchiveWriter
from wexagraph.output.target import Staging, Target


class FolderArchives:
    """Makes the archives that are asked for and not there yet. Messages come in the order of folders and places."""

    def __init__(self, target: Target, journal: Journal, options: ExportOptions) -> None:
        self._target, self._journal, self._options = target, journal, options
        self._folder: str | None = None
        self._open: dict[str, tuple[Staging, ArchiveWriter]] = {}
        self._wanted: dict[str, tuple[str, ...]] = {}
        self._bound = sha256()
        self._count = 0
        self._finished: list[tuple[str, str, Staging, str]] = []

    def wants(self, row: MessageRecord) -> bool:
        """Whether a message has to be read for an archive of its folder."""
        return bool(self._formats(row.folder))

    def _formats(self, folder: str) -> tuple[str, ...]:
        if folder not in self._wanted:
            self._wanted[folder] = tuple(f for f in self._options.archive_formats if not self._is_there(folder, f))
        return self._wanted[folder]

    def _is_there(self, folder: str, format: str) -> bool:
        digests = self._journal.digests(folder, self._options.naming)
        recorded = self._journal.files.archive(folder, format, self._options.naming)
        if digests is None or recorded is None or recorded.recipe != _signature(digests):
            return False
        return self._target.is_intact(recorded.path, recorded.size, recorded.modified, recorded.sha256)

    def add(self, row: MessageRecord, data: bytes, header: Header, moment: datetime | None) -> None:
        """Add a message to the archives of its folder. Raises TargetError where the disk fails."""
        formats = self._formats(row.folder)
        if not formats:
            return
        if row.folder != self._folder:
            self._close()
            self._folder, self._bound, self._count = row.folder, sha256(), 0
        self._count += 1
        self._bound.update(bytes.fromhex(row.digest or ""))
        name = row.stem.removeprefix(f"{folder_path(row.folder, self._options.flat)}/")
        for format in formats:
            if format not in self._open:
                staging = self._target.open_staging()
                self._open[format] = (staging, _writer(format, staging.file))
            staging, writer = self._open[format]
            with staging.failing():
                writer.add(data, header, moment, name)

    def _close(self) -> None:
        for format, (staging, writer) in self._open.items():
            with staging.failing():
                writer.close()
            assert self._folder is not None
            self._finished.append((self._folder, format, staging, self._bound.hexdigest()))
        self._open.clear()

    def finish(self, report: ExportReport) -> None:
        """Put the archives under their names, but for that of a folder that the run did not come to the end of.

        Raises TargetError.
        """
        if report.interrupted:
            self._drop(report)
        self._close()
        batch = []
        for folder, format, staging, signature in self._finished:
            recorded = self._journal.files.archive(folder, format, self._options.naming)
            staged = staging.finish("", replaces=recorded is not None)
            staged.path = recorded.path if recorded else self._free_path(folder, format, staged.sha256)
            batch.append((folder, format, staged, signature))
        results = self._target.put([staged for _, _, staged, _ in batch])
        for (folder, format, staged, signature), (_, refused) in zip(batch, results, strict=True):
            stamp = self._target.stamp(staged.path)
            if refused or stamp is None:
                report.unreadable.append((staged.path, refused or "it vanished while it was written"))
                continue
            own = (f"{format}:{folder}", self._options.naming, signature)
            self._journal.files.record([FileRecord(staged.path, 0, *own, staged.size, stamp[1], staged.sha256)])
            report.files[format] += 1
            report.bytes += staged.size
        self._target.settle()

    def _drop(self, report: ExportReport) -> None:
        if self._open and self._folder is not None:
            report.unfinished.append(self._folder)
            if not self._options.message_formats:
                report.chosen, report.written = report.chosen - self._count, report.written - self._count
                if self._folder not in self._journal.files.archives():
                    self._journal.unsay(self._folder)
        for staging, _ in self._open.values():
            staging.file.close()
        self._open.clear()

    def _free_path(self, folder: str, format: str, sha256: str) -> str:
        """A path for an archive: a free one, or one where a run that was killed has left these very bytes."""
        base = folder_path(folder, flat=False)
        if self._options.flat:
            base = component(clean(folder.replace("/", " - ")), room=20)
        taken = self._target.taken
        return free_name(base, FORMATS[format].suffix, lambda path: taken(path) and self._target.sha256(path) != sha256)


def _signature(digests: list[str]) -> str:
    """One digest for a sequence of messages."""
    bound = sha256()
    for digest in digests:
        bound.update(bytes.fromhex(digest))
    return bound.hexdigest()


def _writer(format: str, file: BinaryIO) -> ArchiveWriter:
    archive = FORMATS[format].archive
    assert archive is not None
    return archive(file)
