"""Writing a page to browse into an export folder, among the files that its manifest proves."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from contextlib import closing
from dataclasses import replace
from pathlib import Path

from wexagraph.errors import SourceError, TargetError
from wexagraph.exports import register
from wexagraph.exports.index_page.entries import Entry, in_conversations, read_entries
from wexagraph.exports.index_page.page import MADE_BY, files_of
from wexagraph.exports.journal.journal import Journal
from wexagraph.exports.options import IndexOptions
from wexagraph.naming.paths import INDEX, INDEX_FILES
from wexagraph.output.folder import OWN, OutputFolder
from wexagraph.output.target import Target

_MOST_HEAD = 10_000


def index_folder(folder: Path, options: IndexOptions, tell: Callable[[int], None] = lambda count: None) -> int:
    """Write the page to browse of an export folder. Returns how many messages it shows.

    Raises SourceError where the folder holds no export, TargetError where it can't be written.
    """
    none = SourceError(f"{folder} holds no export. Name an export folder, a case's folder, or a backup with --into.")
    if not (folder / OWN / "journal.sqlite").is_file():
        raise none
    with closing(Target(folder)) as target, closing(Journal(target.database("journal.sqlite"))) as journal:
        if not journal.has_exported():
            raise none  # attachments alone
        count = write_index(target, journal, options, tell)
        register.write_manifest(target, journal)
        journal.commit()
    return count


def write_index(
    target: Target, journal: Journal, options: IndexOptions, tell: Callable[[int], None] = lambda count: None
) -> int:
    """Write the page and its data; the manifest is to be written after it. What somebody else has put under the name of
    the page is left alone. Returns how many messages it shows. Raises TargetError."""
    entries = in_conversations(read_entries(target.folder, register.rows_in(journal), tell=tell), options.sort)
    written = set()
    for path, content in files_of(entries, options, target.folder.resolve().name):
        staging = target.open_staging()
        with staging.failing():
            staging.file.write(content)
        register.put_list(target, journal, staging, path)
        written.add(path)
    for path in journal.files.listings(f"{INDEX_FILES}/"):
        if path not in written:
            journal.files.forget_listing(path)
            target.root.unlink(path)
    return len(entries)


def _is_ours(root: OutputFolder) -> bool:
    """Whether the page in a folder is one that this program has made. Raises OSError."""
    with root.reader(INDEX) as page:
        return MADE_BY.encode() in page.read(_MOST_HEAD)


def index_folders(
    home: Path,
    parts: Sequence[tuple[str, str]],
    options: IndexOptions,
    tell: Callable[[int], None] = lambda count: None,
) -> int:
    """Write one page for several export folders below `home`, each by its name and the case that it is of. Returns how
    many messages it shows. Raises TargetError, also where a page of somebody else lies there."""
    read: list[Entry] = []
    for folder, case in parts:
        place = home / folder
        if (place / OWN / "journal.sqlite").is_file():
            read += [replace(entry, below=folder, case=case) for entry in read_entries(place, register.rows_of(place))]
            tell(len(read))
    entries = in_conversations(read, options.sort)
    try:
        with OutputFolder(home) as root:
            if root.taken(INDEX) and not _is_ours(root):
                raise TargetError(f"{home / INDEX} is somebody else's. Move it away, and run the same command again.")
            written = set()
            for path, content in files_of(entries, options, home.resolve().name):
                root.write(path, content)
                written.add(path)
            for name in root.names(INDEX_FILES):
                if f"{INDEX_FILES}/{name}" not in written:
                    root.unlink(f"{INDEX_FILES}/{name}")
    except OSError as error:
        raise TargetError(f"{home} can't be written to: {error.strerror or error}. Check the disk.") from error
    return len(entries)
