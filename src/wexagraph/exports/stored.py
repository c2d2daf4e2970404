"""Which messages of a run are safely stored: all their files on the disk, and read back whole."""

from __future__ import annotations

from collections.abc import Iterator

from wexagraph.exports.formats import suffix
from wexagraph.exports.in_hand import FORMAT
from wexagraph.exports.journal.journal import Journal
from wexagraph.exports.journal.records import UNDER_WAY, FileRecord, MessageRecord
from wexagraph.exports.options import ExportOptions
from wexagraph.output.target import Target
from wexagraph.sources import Stored


def stored(journal: Journal, target: Target, options: ExportOptions) -> Iterator[Stored]:
    """The messages of this run whose every wanted file is there with the digest that the journal has of it."""
    archived: dict[str, bool] = {}
    for row, files in journal.chosen(options.naming):
        if row.folder not in archived:
            archives = [journal.files.archive(row.folder, name, options.naming) for name in options.archive_formats]
            archived[row.folder] = all(file is not None and _whole(target, file) for file in archives)
        if row.digest and archived[row.folder] and _all_there(row, files, target, options):
            yield Stored(row.folder, row.place, row.stamp, row.digest)


def _all_there(row: MessageRecord, files: list[FileRecord], target: Target, options: ExportOptions) -> bool:
    there = {file.path: file for file in files}
    if options.bind and not any(
        file.format == FORMAT and file.recipe != UNDER_WAY and _whole(target, file) for file in files
    ):
        return False
    wanted = [(there.get(row.stem + suffix(name)), options.recipe(name)) for name in options.single_formats]
    if options.attachments_alone and not any(file.format == "beside" for file in files):
        return False
    if options.beside:
        wanted += [(file, file.recipe) for file in files if file.format == "beside"]
    return all(file is not None and file.recipe == recipe and _whole(target, file) for file, recipe in wanted)


def _whole(target: Target, file: FileRecord) -> bool:
    return target.sha256(file.path) == file.sha256
