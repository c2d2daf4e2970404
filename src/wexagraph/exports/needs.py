"""What a run still has to make: all that is missing, made otherwise, lost or altered."""

from __future__ import annotations

from collections.abc import Callable, Iterator

from wexagraph.exports.bound_documents import Binding
from wexagraph.exports.folder_archives import FolderArchives
from wexagraph.exports.formats import ATTACHMENTS, suffix
from wexagraph.exports.in_hand import WorkItem
from wexagraph.exports.journal.journal import Journal
from wexagraph.exports.journal.records import FileRecord, MessageRecord
from wexagraph.exports.options import ExportOptions
from wexagraph.exports.publisher import Publisher
from wexagraph.exports.report import ExportReport
from wexagraph.output.target import Target


def file_of(row: MessageRecord, files: list[FileRecord], name: str, naming: str) -> FileRecord | None:
    """The file of a format that a message has under names given in one way."""
    expected = row.stem + suffix(name)
    named = [file for file in files if file.path == expected or (file.format == name and file.naming == naming)]
    return min(named, key=lambda file: file.path != expected, default=None)


class Needs:
    """Compares what the journal has of each chosen message with what is asked for and with what lies in the folder."""

    def __init__(
        self,
        target: Target,
        journal: Journal,
        options: ExportOptions,
        report: ExportReport,
        publisher: Publisher,
        archives: FolderArchives,
        binding: Binding | None,
        stopped: Callable[[], bool],
    ) -> None:
        self._target, self._journal, self._options, self._report = target, journal, options, report
        self._publisher, self._archives, self._binding, self._stopped = publisher, archives, binding, stopped

    def works(self) -> Iterator[WorkItem]:
        """The messages that something has to be made of, until the run is asked to stop."""
        if self._binding is not None:
            yield from self._needed_to_bind(self._binding)
            return
        for row, files in self._journal.chosen(self._options.naming):
            if self._stopped():
                self._report.interrupted = True
                return
            missing = self._missing(row, files)
            if missing or self._archives.wants(row):
                yield WorkItem(row, missing, self._ours(files), paths=self._paths(row, files))
            else:
                self._publisher.count_already()

    def _needed_to_bind(self, binding: Binding) -> Iterator[WorkItem]:
        """The same in the order of binding: of each group all messages, where its PDF has to be made."""
        for group, document in binding.groups():
            for row, files in group.rows:
                if self._stopped():
                    self._report.interrupted = True
                    return
                if row.number in group.kept:
                    if document is not None:
                        yield WorkItem(row, ("pdf",), frozenset(), document=document, kept=files)
                    continue
                missing = self._missing(row, files)
                if document is not None:
                    missing += ("pdf",)
                if missing:
                    yield WorkItem(row, missing, self._ours(files), document=document, paths=self._paths(row, files))
                else:
                    self._publisher.count_already()

    def _missing(self, row: MessageRecord, files: list[FileRecord]) -> tuple[str, ...]:
        """The formats that have to be made: never made, made otherwise, or lost and altered since."""
        alone = ("beside",) if ATTACHMENTS in self._options.formats else ()
        if not files:
            return self._options.single_formats or alone
        missing = []
        for name in self._options.single_formats:
            file = file_of(row, files, name, self._options.naming)
            if file is None or file.recipe != self._options.recipe(name):
                missing.append(name)
            elif not self._intact(file):
                missing.append(name)
                self._remake(file)
        beside = [f for f in files if f.format == "beside" and f.recipe == self._options.recipe("beside")]
        if alone and not beside and not self._options.single_formats:
            missing += alone
        for file in beside:
            if not self._intact(file):
                missing = list(self._options.single_formats) or ["beside"]
                self._remake(file)
        return tuple(missing)

    def _paths(self, row: MessageRecord, files: list[FileRecord]) -> dict[str, str]:
        """Where files lie that are not where the name of the message says."""
        options = self._options
        known = {name: file_of(row, files, name, options.naming) for name in options.single_formats}
        return {name: file.path for name, file in known.items() if file and file.path != row.stem + suffix(name)}

    def _ours(self, files: list[FileRecord]) -> frozenset[str]:
        return frozenset(file.path for file in files if file.is_ours(self._target))

    def _remake(self, file: FileRecord) -> None:
        self._report.made_again.append(file.path)
        self._report.notes["remade"] += 1

    def _intact(self, file: FileRecord) -> bool:
        return self._target.is_intact(file.path, file.size, file.modified, file.sha256)
