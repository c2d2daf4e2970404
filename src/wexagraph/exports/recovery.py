"""Making a lost journal again: register and manifest say which message became which files; and taking over what
earlier versions kept elsewhere."""

from __future__ import annotations

import csv
import io
from collections import Counter
from collections.abc import Iterator
from contextlib import closing

from wexagraph.exports.in_hand import FORMAT
from wexagraph.exports.journal.journal import Journal
from wexagraph.exports.journal.records import RECOVERED, FileRecord, packed
from wexagraph.exports.options import FORMATS, ExportOptions, a_message
from wexagraph.exports.register import COLUMNS, recovered
from wexagraph.exports.verify import manifest_entries
from wexagraph.naming.paths import ALL_REGISTERS, ATTACHMENT_LIST, INDEX, INDEX_FILES, MANIFEST, REGISTER
from wexagraph.output.databases import ASIDE, Database, Form
from wexagraph.output.folder import OWN
from wexagraph.output.target import Target
from wexagraph.tables.columns import read_cell
from wexagraph.tables.living.keys import parse_heading

_NAMES = tuple(column.name for column in COLUMNS)
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
        number = journal.add_one(
            source="",
            folder=read_cell(row["folder"]),
            place="",
            stamp="",
            id=row["id"],
            size=int(row["size"]) if row["size"].isdigit() else 0,
            digest=row["sha256"],
            facts=facts,
            attachments=packed(_attachments(row).split("; ")),
            outcome=row["outcome"],
            run=0,
            tags=read_cell(row["tags"]),
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
    lists = {name: digests.get(name) for name in ALL_REGISTERS}
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
    headings = {name: name for name in _NAMES}  # an early register has the names for headings, and no keys
    for text in reader.fieldnames or ():
        headings |= dict(parse_heading(text) or ())
    for row in reader:
        if headings["files"] not in row:
            return  # a list of attachments, as an earlier version called it
        values = {name: row.get(headings[name]) or "" for name in _NAMES}
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


_EARLIER = "attachments.sqlite"
"""Where attachments that were taken out had a record of their own."""
_SCHEMA = """
CREATE TABLE IF NOT EXISTS message (
    number INTEGER PRIMARY KEY, source TEXT NOT NULL, folder TEXT NOT NULL, place TEXT NOT NULL, stamp TEXT NOT NULL,
    id TEXT NOT NULL, date TEXT NOT NULL, sender TEXT NOT NULL, subject TEXT NOT NULL, sha256 TEXT NOT NULL
);
CREATE TABLE IF NOT EXISTS met (message INTEGER NOT NULL, recipe TEXT NOT NULL);
CREATE TABLE IF NOT EXISTS attachment (
    message INTEGER NOT NULL, key TEXT NOT NULL, wish TEXT NOT NULL, name TEXT NOT NULL, type TEXT NOT NULL,
    size INTEGER NOT NULL, sha256 TEXT NOT NULL, path TEXT NOT NULL, modified INTEGER NOT NULL, note TEXT NOT NULL,
    recipe TEXT NOT NULL
);
CREATE TABLE IF NOT EXISTS document (
    message INTEGER NOT NULL, key TEXT NOT NULL, wish TEXT NOT NULL, path TEXT NOT NULL, size INTEGER NOT NULL,
    sha256 TEXT NOT NULL, modified INTEGER NOT NULL, state TEXT NOT NULL, recipe TEXT NOT NULL
);
CREATE TABLE IF NOT EXISTS name (key TEXT PRIMARY KEY);
CREATE TABLE IF NOT EXISTS list (name TEXT PRIMARY KEY, path TEXT NOT NULL, sha256 TEXT NOT NULL);
"""


def take_over(journal: Journal, target: Target) -> None:
    """Take the record that an earlier version had of attachments into the journal. What is damaged is set aside: their
    files are known by their bytes. Raises TargetError."""
    if not target.root.taken(f"{OWN}/{_EARLIER}"):
        return
    path = target.database(_EARLIER)
    with closing(Database(path, Form("the record of attachments", _SCHEMA), ASIDE)) as earlier:
        numbers = {}
        for number, *where, id, date, sender, subject, digest in earlier.ask(
            "SELECT number, source, folder, place, stamp, id, date, sender, subject, sha256 FROM message"
        ).fetchall():
            names = dict(zip(("source", "folder", "place", "stamp"), where, strict=True))
            facts = packed((date, sender, "", "", subject))
            known = journal.known(*where)
            numbers[number] = known or journal.add_one(**names, id=id, size=0, digest=digest, facts=facts, run=0)
        for table in ("met", "attachment", "document"):
            rows = earlier.ask(f"SELECT * FROM {table}").fetchall()
            if rows:
                values = ", ".join("?" * len(rows[0]))
                of_messages = ((numbers[row[0]], *row[1:]) for row in rows if row[0] in numbers)
                journal.ask_many(f"INSERT OR REPLACE INTO {table} VALUES ({values})", of_messages)
        journal.ask_many("INSERT OR REPLACE INTO given VALUES (?)", earlier.ask("SELECT key FROM name").fetchall())
        for name, place, digest in earlier.ask("SELECT name, path, sha256 FROM list"):
            listed = ATTACHMENT_LIST if name == REGISTER else name
            journal.files.record([FileRecord(place, 0, f"list:{listed}", "", "", 0, 0, digest)])
    journal.commit()
    path.unlink(missing_ok=True)
