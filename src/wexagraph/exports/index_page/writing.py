"""Writing a page to browse into an export folder, among the files that its manifest proves."""

from __future__ import annotations

from collections.abc import Callable
from contextlib import closing
from pathlib import Path

from wexagraph.errors import SourceError
from wexagraph.exports import register
from wexagraph.exports.index_page.entries import entries_of
from wexagraph.exports.index_page.options import IndexOptions
from wexagraph.exports.index_page.page import files_of
from wexagraph.exports.journal import Journal
from wexagraph.naming.paths import INDEX_FILES
from wexagraph.output.folder import OWN
from wexagraph.output.target import Target


def index_folder(folder: Path, options: IndexOptions, tell: Callable[[int], None] = lambda count: None) -> int:
    """Write the page to browse of an export folder. Returns how many messages it shows.

    Raises SourceError where the folder holds no export, TargetError where it can't be written.
    """
    if not (folder / OWN / "journal.sqlite").is_file():
        raise SourceError(f"{folder} holds no export. Name an export folder, a case's folder, or a backup with --into.")
    with closing(Target(folder)) as target, closing(Journal(target.database("journal.sqlite"))) as journal:
        count = write_index(target, journal, options, tell)
        register.write_manifest(target, journal)
        journal.commit()
    return count


def write_index(
    target: Target, journal: Journal, options: IndexOptions, tell: Callable[[int], None] = lambda count: None
) -> int:
    """Write the page and its data; the manifest is to be written after it. What somebody else has put under the name of
    the page is left alone. Returns how many messages it shows. Raises TargetError."""
    entries = entries_of(target.folder, register.rows_in(journal), tell=tell)
    written = set()
    for path, content in files_of(entries, options, target.folder.resolve().name):
        staging = target.open_staging()
        with staging.failing():
            staging.file.write(content)
        register.put_list(target, journal, staging, path)
        written.add(path)
    for path in journal.listings(f"{INDEX_FILES}/"):
        if path not in written:
            journal.forget_listing(path)
            target.root.unlink(path)
    return len(entries)
