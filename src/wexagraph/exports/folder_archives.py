"""The archives of an export: one file a folder, written while its messages are read."""

from __future__ import annotations

from collections import Counter
from collections.abc import Iterator
from dataclasses import dataclass, field
from datetime import datetime
from hashlib import sha256
from typing import BinaryIO

from wexagraph.exports.journal.journal import Journal
from wexagraph.exports.journal.records import FileRecord, MessageRecord
from wexagraph.exports.options import FORMATS, ExportOptions
from wexagraph.messages.headers import Header
from wexagraph.naming.paths import clean, component, folder_path, free_name
from wexagraph.output.archives import ArchiveWriter, Unreadable
from wexagraph.output.target import Staging, Target
from wexagraph.reports import ExportReport


@dataclass
class _Archive:
    """An archive that is being written: the digests of what it holds so far, and of what it has taken over from the one
    before by what is the same of a message in every form. Where that holds more and is damaged, it is `unread`."""

    staging: Staging
    writer: ArchiveWriter
    held: list[str] = field(default_factory=list)
    kept: dict[bytes, list[int]] = field(default_factory=dict)
    unread: bool = False

    def was_kept(self, data: bytes, digest: str) -> bool:
        """Whether a message was taken over already, though nobody knew its digest; now it is known."""
        places = self.kept.get(_same(data))
        if not places:
            return False
        self.held[places.pop()] = digest
        return True


def recorded_archive(journal: Journal, options: ExportOptions, folder: str, format: str) -> FileRecord | None:
    """The archive of a folder that an earlier run has made; also where its messages had other names, unless all is made
    anew beside what there is."""
    return journal.files.archive(folder, format, options.naming, otherwise=not options.generation)


class FolderArchives:
    """Makes the archives that are asked for and lack something. Messages come in the order of folders and places.

    An archive holds all that it ever held: what this run does not choose is read back from the one before.
    """

    def __init__(self, target: Target, journal: Journal, options: ExportOptions) -> None:
        self._target, self._journal, self._options = target, journal, options
        self._folder: str | None = None
        self._open: dict[str, _Archive] = {}
        self._wanted: dict[str, tuple[str, ...]] = {}
        self._count = 0
        self._finished: list[tuple[str, str, _Archive]] = []

    def wants(self, row: MessageRecord) -> bool:
        """Whether a message has to be read for an archive of its folder."""
        return bool(self._formats(row.folder))

    def _formats(self, folder: str) -> tuple[str, ...]:
        if folder not in self._wanted:
            self._wanted[folder] = tuple(f for f in self._options.archive_formats if not self._is_there(folder, f))
        return self._wanted[folder]

    def _is_there(self, folder: str, format: str) -> bool:
        digests = self._journal.digests(folder, self._options.naming)
        recorded = recorded_archive(self._journal, self._options, folder, format)
        if None in digests or recorded is None:
            return False
        if format == "zip" and recorded.naming != self._options.naming:
            return False  # the names in it are others
        if Counter(digests) - Counter(self._journal.files.held(recorded.path)):
            return False
        return self._target.is_intact(recorded.path, recorded.size, recorded.modified, recorded.sha256)

    def add(self, row: MessageRecord, data: bytes, header: Header, moment: datetime | None) -> None:
        """Add a message to the archives of its folder. Raises TargetError where the disk fails."""
        formats = self._formats(row.folder)
        if not formats:
            return
        if row.folder != self._folder:
            self._close()
            self._folder, self._count = row.folder, 0
        self._count += 1
        name = row.stem.removeprefix(f"{folder_path(row.folder, self._options.flat)}/")
        for format in formats:
            if format not in self._open:
                self._open[format] = self._begun(row.folder, format)
            archive = self._open[format]
            if archive.was_kept(data, row.digest or ""):
                continue
            archive.held.append(row.digest or "")
            with archive.staging.failing():
                archive.writer.add(data, header, moment, name)

    def _begun(self, folder: str, format: str) -> _Archive:
        """A new archive, with what the one before holds and this run does not bring."""
        staging = self._target.open_staging()
        archive = _Archive(staging, _writer(format, staging.file))
        recorded = recorded_archive(self._journal, self._options, folder, format)
        messages = FORMATS[format].messages
        if recorded is None or messages is None or self._target.stamp(recorded.path) is None:
            return archive
        coming = Counter(filter(None, self._journal.digests(folder, self._options.naming)))
        try:
            with self._target.root.reader(recorded.path) as old:
                for kept in messages(old):
                    digest = next((one for one in _digests(kept.data) if coming[one]), None)
                    if digest is not None:
                        coming[digest] -= 1
                        continue
                    archive.kept.setdefault(_same(kept.data), []).append(len(archive.held))
                    archive.held.append(next(_digests(kept.data)))
                    with staging.failing():
                        archive.writer.keep(kept)
        except Unreadable:
            held = self._journal.files.held(recorded.path)
            archive.unread = not held or bool(Counter(held) - Counter(archive.held) - coming)
        except OSError as error:
            raise self._target.failed(error) from error
        return archive

    def _close(self) -> None:
        for format, archive in self._open.items():
            with archive.staging.failing():
                archive.writer.close()
            assert self._folder is not None
            self._finished.append((self._folder, format, archive))
        self._open.clear()

    def finish(self, report: ExportReport) -> None:
        """Put the archives under their names, but for that of a folder that the run did not come to the end of. One
        that could not be read stays beside the new one.

        Raises TargetError.
        """
        if report.interrupted:
            self._drop(report)
        self._close()
        batch = []
        for folder, format, archive in self._finished:
            recorded = recorded_archive(self._journal, self._options, folder, format)
            if recorded is not None and archive.unread:
                self._target.set_aside(recorded.path)
            staged = archive.staging.finish("", replaces=recorded is not None)
            staged.path = recorded.path if recorded else self._free_path(folder, format, staged.sha256)
            batch.append((folder, format, staged, archive.held))
        results = self._target.put([staged for _, _, staged, _ in batch])
        for (folder, format, staged, held), (_, refused) in zip(batch, results, strict=True):
            stamp = self._target.stamp(staged.path)
            if refused or stamp is None:
                report.unreadable.append((staged.path, refused or "it vanished while it was written"))
                continue
            own = (f"{format}:{folder}", self._options.naming, format)
            self._journal.files.record([FileRecord(staged.path, 0, *own, staged.size, stamp[1], staged.sha256)])
            self._journal.files.hold(staged.path, held)
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
        for archive in self._open.values():
            archive.staging.file.close()
        self._open.clear()

    def _free_path(self, folder: str, format: str, sha256: str) -> str:
        """A path for an archive: a free one, or one where a run that was killed has left these very bytes."""
        base = folder_path(folder, flat=False)
        if self._options.flat:
            base = component(clean(folder.replace("/", " - ")), room=20)
        taken = self._target.taken
        return free_name(base, FORMATS[format].suffix, lambda path: taken(path) and self._target.sha256(path) != sha256)


def _digests(data: bytes) -> Iterator[str]:
    """The digests that a message read back may have had: an mbox gives a line end to one that has none."""
    yield sha256(data).hexdigest()
    if data.endswith(b"\n"):
        yield sha256(data[:-1]).hexdigest()


def _same(data: bytes) -> bytes:
    """What is the same of a message in every form of archive."""
    return sha256(data.rstrip(b"\n")).digest()


def _writer(format: str, file: BinaryIO) -> ArchiveWriter:
    archive = FORMATS[format].archive
    assert archive is not None
    return archive(file)
