"""Making a lost journal again: register and manifest say which message became which files."""

from __future__ import annotations

import csv
import io
from collections import Counter
from collections.abc import Iterator

from wexagraph.exports.formats import FORMATS, a_message
from wexagraph.exports.in_hand import FORMAT
from wexagraph.exports.journal.journal import Journal
from wexagraph.exports.journal.records import RECOVERED, FileRecord, packed
from wexagraph.exports.options import ExportOptions
from wexagraph.exports.register import NAMES, recovered
from wexagraph.exports.verify import manifest_entries
from wexagraph.naming.paths import INDEX, INDEX_FILES, MANIFEST, REGISTER, REGISTERS
from wexagraph.output.target import Target
from wexagraph.tables.csvs import read_cell

_BY_SUFFIX = {format.suffix: format.name for format in a_message()}


def recover(journal: Journal, target: Target, options: ExportOptions) -> int:
    """Fill a new journal from the register and the manifest of its folder. Returns how many messages are known again.

    The messages are known by their digests; the next plan finds out where they lie now. Raises TargetError.
    """
    digests = _manifest(target)
    rows = _register(target) if digests else []
    uses = Counter(path for row in rows for path in _paths(row["files"], digests))
    archives: dict[tuple[str, str], str] = {}
    for row in rows:
        paths = _paths(row["files"], digests)
        facts = packed(read_cell(row[name]) for name in ("date", "from", "to", "cc", "subject"))
        number = journal.recover_message(
            row["id"],
            read_cell(row["folder"]),
            int(row["size"]) if row["size"].isdigit() else 0,
            row["sha256"],
            facts,
            packed(_attachments(row).split("; ")),
            row["outcome"],
            read_cell(row["tags"]),
        )
        files = []
        for path in paths:
            kind = _format(path, paths, uses[path] > 1 or bool(options.bind))
            kind = "beside" if options.attachments_alone else kind
            if kind in FORMATS and FORMATS[kind].archive is not None:
                archives[(kind, read_cell(row["folder"]))] = path
                continue
            is_copy = kind == "eml" and digests[path] == row["sha256"]
            recipe = options.recipe("eml") if is_copy else RECOVERED
            size = (target.stamp(path) or (0, 0))[0]
            files.append(FileRecord(path, number, kind, options.naming, recipe, size, 0, digests[path]))
        journal.files.record(files)
    journal.files.record(
        FileRecord(path, 0, f"{kind}:{folder}", options.naming, RECOVERED, 0, 0, digests[path])
        for (kind, folder), path in archives.items()
    )
    lists = {name: digests.get(name) for name in REGISTERS.values()}
    for name, digest in {**lists, MANIFEST: target.sha256(MANIFEST) if digests else None}.items():
        if digest:
            journal.files.record([recovered(name, digest)])
    pages = (path for path in digests if path == INDEX or path.startswith(f"{INDEX_FILES}/"))
    journal.files.record(recovered(path, digests[path]) for path in pages if path not in uses)
    journal.commit()
    return len(rows)


def _attachments(row: dict[str, str]) -> str:
    """The names of attachments; early registers had them where the number of them stands now."""
    early = "" if row["attachments"].isdigit() else row["attachments"]
    return read_cell(row["attachment_names"] or early)


def _manifest(target: Target) -> dict[str, str]:
    """The digest of each file that the manifest lists; empty where there is none that can be read."""
    try:
        with target.root.reader(MANIFEST) as file:
            return {path: digest for digest, path in manifest_entries(file)}
    except OSError:
        return {}


def _register(target: Target) -> list[dict[str, str]]:
    """The rows of the register that tell of a message that was read; none where it is not as an export writes it."""
    try:
        with target.root.reader(REGISTER) as file:
            text = io.TextIOWrapper(file, "utf-8-sig", "surrogateescape", newline="")
            return list(_whole_rows(csv.DictReader(text)))
    except (OSError, csv.Error):
        return []


def _whole_rows(reader: csv.DictReader[str]) -> Iterator[dict[str, str]]:
    for row in reader:
        values = {name: row.get(name) or "" for name in NAMES}
        digest = values["sha256"]
        if len(digest) == 64 and all(letter in "0123456789abcdef" for letter in digest):
            yield values


def _paths(cell: str, digests: dict[str, str]) -> list[str]:
    """The files of a cell, which are joined with semicolons; a name may hold one itself."""
    paths: list[str] = []
    held = ""
    for piece in read_cell(cell).split("; "):
        held = f"{held}; {piece}" if held else piece
        if held in digests:
            paths.append(held)
            held = ""
    return paths


def _format(path: str, paths: list[str], shared: bool) -> str:
    """What kind of file a path is, among all those of its message."""
    stem, dot, suffix = path.rpartition(".")
    stems = {other.rpartition(".")[0] for other in paths if "." + other.rpartition(".")[2] in _BY_SUFFIX}
    if any(path.startswith(f"{other}/") for other in stems if other != stem):
        return "beside"
    if suffix in FORMATS and FORMATS[suffix].archive is not None:
        return "beside" if stem in stems else suffix
    kind = _BY_SUFFIX.get(dot + suffix, "beside")
    return FORMAT if kind == "pdf" and shared else kind
