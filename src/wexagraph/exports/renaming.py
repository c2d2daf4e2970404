"""Files that earlier runs have named otherwise: they get the names that are asked for now, and are not made twice.

What people have renamed is not there under the name that the journal has; it stays, and counts as lost.
"""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import replace
from typing import NamedTuple

from wexagraph.exports.context import Context
from wexagraph.exports.in_hand import FORMAT
from wexagraph.exports.journal.journal import Journal
from wexagraph.exports.journal.records import UNDER_WAY, FileRecord, MessageRecord
from wexagraph.exports.options import ExportOptions, suffix
from wexagraph.output.target import Target

_BESIDE = "beside"


class Rename(NamedTuple):
    """A file of a message, and the path that it is to have."""

    row: MessageRecord
    file: FileRecord
    path: str


def renames(run: Context) -> Iterator[Rename]:
    """The files of the chosen messages that are asked for under other names. One that is to be made otherwise, too, is
    made again in its place."""
    options, journal, target = run.options, run.journal, run.target
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


def rename_files(run: Context) -> None:
    """Give files the names that are asked for now. Raises TargetError."""
    for one in list(renames(run)):
        if move(run.journal, run.target, one.file, one.path, run.options.naming):
            run.report.renamed += one.path != one.file.path
    run.journal.commit()


def move(journal: Journal, target: Target, file: FileRecord, path: str, naming: str) -> bool:
    """Give a file of ours another name, of a `naming`; False where somebody else's has it. The journal is told before,
    so that a run that is killed leaves no file that the next one does not know. Raises TargetError."""
    new = replace(file, path=path, naming=naming)
    if path != file.path:
        journal.files.record([replace(new, recipe=UNDER_WAY)])
        journal.commit()
        try:
            if not target.taken(path) or target.sha256(path) != file.sha256:
                target.root.rename_new(file.path, path)
            elif target.sha256(file.path) == file.sha256:
                target.root.unlink(file.path)
        except FileExistsError:
            journal.files.forget(file.message, path)
            return False
        except OSError as error:
            raise target.failed(error) from error
        journal.files.forget(file.message, file.path)
        target.root.remove_empty(file.path)
    journal.files.record([new])
    journal.commit()
    return True


def _path(journal: Journal, row: MessageRecord, file: FileRecord) -> str:
    """The path that a file of a message is to have. One that has its number for a name keeps that."""
    if journal.numbers.has(row.number):
        return file.path
    if file.format != _BESIDE:
        return row.stem + suffix(file.format)
    return row.stem + file.path.removeprefix(journal.names.stem(row.number, file.naming))


def _say_their_names(options: ExportOptions) -> bool:
    return any("{filename" in text for text in (options.page.header, options.page.footer))
