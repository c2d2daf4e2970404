"""What a run still has to make: all that is missing, made otherwise, lost or altered; what has only to be renamed; and
what is safely stored."""

from __future__ import annotations

from collections.abc import Callable, Iterable, Iterator
from contextlib import closing
from dataclasses import replace
from itertools import islice
from pathlib import Path
from typing import NamedTuple

from wexagraph.exports.bound_documents import Binding
from wexagraph.exports.folder_archives import FolderArchives, recorded_archive
from wexagraph.exports.in_hand import FORMAT, WorkItem
from wexagraph.exports.journal.journal import Journal
from wexagraph.exports.journal.records import RECOVERED, UNDER_WAY, FileRecord, MessageRecord
from wexagraph.exports.options import ATTACHMENTS, ExportOptions, suffix
from wexagraph.exports.publisher import Publisher
from wexagraph.output.folder import OWN, OutputFolder
from wexagraph.output.target import Target
from wexagraph.reports import ExportReport
from wexagraph.sources.base import Stored

_BESIDE = "beside"
_AT_ONCE = 500


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
            if file is None or not self._options.is_made(file.recipe, file.notes, self._options.recipe(name)):
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


def stored(journal: Journal, target: Target, options: ExportOptions) -> Iterator[Stored]:
    """The messages of this run whose every wanted file is there with the digest that the journal has of it."""
    archived: dict[str, bool] = {}
    for row, files in journal.chosen(options.naming):
        if row.folder not in archived:
            archives = [recorded_archive(journal, options, row.folder, name) for name in options.archive_formats]
            archived[row.folder] = all(file is not None and _whole(target, file) for file in archives)
        if row.digest and archived[row.folder] and _all_there(row, files, target, options):
            yield Stored(row.folder, row.place, row.stamp, row.digest)


def as_wanted(folder: Path, options: ExportOptions) -> set[str]:
    """The SHA-256 of messages of an export folder of which every wanted file lies there as it was made: in this way, or
    under names that were given in another way, as by a colleague with other settings. Where files are shared by
    messages, or are attachments, only an export tells. Raises TargetError."""
    journal_path = folder / OWN / "journal.sqlite"
    if options.bind or options.archive_formats or ATTACHMENTS in options.formats or not journal_path.is_file():
        return set()
    made: dict[str, set[str]] = {}
    lacking = set[str]()
    with closing(Journal(journal_path, reading=True)) as journal, OutputFolder(folder, make=False) as root:
        for digest, file in journal.files.of_messages():
            name = file.format
            if name in options.single_formats:
                as_asked = options.is_made(file.recipe, file.notes, options.recipe(name))
                ours = as_asked or file.recipe == RECOVERED or file.naming != options.naming
            elif name == "beside":
                ours = True
            else:
                continue
            stamp = root.stamp(file.path)
            whole = stamp == (file.size, file.modified) or (stamp is not None and root.digest(file.path) == file.sha256)
            if whole and ours:
                made.setdefault(digest, set()).add(name)
            elif file.naming == options.naming or not whole:
                lacking.add(digest)
    wanted = set(options.single_formats)
    return {digest for digest, names in made.items() if wanted <= names} - lacking


def _all_there(row: MessageRecord, files: list[FileRecord], target: Target, options: ExportOptions) -> bool:
    if options.bind and not any(
        file.format == FORMAT and file.recipe != UNDER_WAY and _whole(target, file) for file in files
    ):
        return False
    wanted = [(file_of(row, files, name, options.naming), options.recipe(name)) for name in options.single_formats]
    if options.attachments_alone and not any(file.format == "beside" for file in files):
        return False
    if options.beside:
        wanted += [(file, file.recipe) for file in files if file.format == "beside"]
    return all(
        file is not None and options.is_made(file.recipe, file.notes, recipe) and _whole(target, file)
        for file, recipe in wanted
    )


def _whole(target: Target, file: FileRecord) -> bool:
    return target.sha256(file.path) == file.sha256


class Rename(NamedTuple):
    """A file of a message, and the path that it is to have."""

    row: MessageRecord
    file: FileRecord
    path: str


def renames(
    journal: Journal, target: Target, options: ExportOptions, binding: Binding | None = None
) -> Iterator[Rename]:
    """The files of the chosen messages that are asked for under other names. One that is to be made otherwise, too, is
    made again in its place, unless it holds several messages."""
    if options.generation or _say_their_names(options):
        return  # made anew beside the old ones; or a page says its own name
    formats = {*options.single_formats, *((_BESIDE,) if options.beside else ())}
    for row, files in journal.chosen(options.naming):
        if all(file.naming == options.naming for file in files):
            continue
        named = {file.format for file in files if file.naming == options.naming and file.recipe != UNDER_WAY}
        for file in files:
            if file.naming == options.naming or file.format not in formats - named or file.format == FORMAT:
                continue
            if file.recipe == UNDER_WAY:
                continue
            path = _path(journal, row, file)
            there = target.is_intact(file.path, file.size, file.modified, file.sha256)
            if there or (path != file.path and target.sha256(path) == file.sha256):  # a run was killed in between
                named |= {file.format} - {_BESIDE}
                yield Rename(row, file, path)
    if binding is not None:
        yield from (Rename(*one) for one in binding.renames())


def rename_files(journal: Journal, target: Target, options: ExportOptions, binding: Binding | None = None) -> int:
    """Give files that earlier runs have named otherwise the names that are asked for now, so that nothing is there
    twice. Returns how many. What people have renamed is not where the journal has it: it stays, and counts as lost.
    Raises TargetError."""
    moves = ((one.file, one.path) for one in renames(journal, target, options, binding))
    return move(journal, target, moves, options.naming)


def move(journal: Journal, target: Target, moves: Iterable[tuple[FileRecord, str]], naming: str) -> int:
    """Give files of ours other names, of a `naming`, where nobody else's file has them. Returns how many. The journal
    is told before, so that a run that is killed leaves no file that the next one does not know. Raises TargetError."""
    renamed, rest = set[str](), iter(moves)
    while batch := list(islice(rest, _AT_ONCE)):
        news = [(file, replace(file, path=path, naming=naming)) for file, path in batch]
        journal.files.record(replace(new, recipe=UNDER_WAY) for file, new in news if new.path != file.path)
        journal.commit()
        for file, new in news:
            if new.path != file.path:
                if not _renamed(target, file, new.path):
                    journal.files.forget(file.message, new.path)
                    continue
                journal.files.forget(file.message, file.path)
                renamed.add(file.path)
            journal.files.record([new])
        journal.commit()
    return len(renamed)


def _renamed(target: Target, file: FileRecord, path: str) -> bool:
    """Rename a file, unless a run that was killed has done so; False where somebody else's file has the name."""
    try:
        if not target.taken(path) or target.sha256(path) != file.sha256:
            target.root.rename_new(file.path, path)
        elif target.sha256(file.path) == file.sha256:
            target.root.unlink(file.path)
    except FileExistsError:
        return False
    except OSError as error:
        raise target.failed(error) from error
    target.root.remove_empty(file.path)
    return True


def _path(journal: Journal, row: MessageRecord, file: FileRecord) -> str:
    """The path that a file of a message is to have. One that has its number for a name keeps that."""
    if journal.numbers.has(row.number):
        return file.path
    if file.format != _BESIDE:
        return row.stem + suffix(file.format)
    return row.stem + file.path.removeprefix(journal.names.stem(row.number, file.naming))


def _say_their_names(options: ExportOptions) -> bool:
    page = options.page
    texts = (page.header, page.footer, *(pattern.text for _, pattern in page.properties))
    return any("{filename" in text for text in texts)
