"""Which messages of a run are safely stored: all their files on the disk, and read back whole."""

from __future__ import annotations

from collections.abc import Iterator
from contextlib import closing
from pathlib import Path

from wexagraph.exports.formats import ATTACHMENTS
from wexagraph.exports.in_hand import FORMAT
from wexagraph.exports.journal.journal import Journal
from wexagraph.exports.journal.records import RECOVERED, UNDER_WAY, FileRecord, MessageRecord
from wexagraph.exports.needs import file_of
from wexagraph.exports.options import ExportOptions
from wexagraph.output.folder import OWN, OutputFolder
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
                ours = file.recipe in (options.recipe(name), RECOVERED) or file.naming != options.naming
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
    return all(file is not None and file.recipe == recipe and _whole(target, file) for file, recipe in wanted)


def _whole(target: Target, file: FileRecord) -> bool:
    return target.sha256(file.path) == file.sha256
