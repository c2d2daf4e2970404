"""The register (a row a message) and the checksums of an export folder, written anew after each run."""

from __future__ import annotations

import csv
import io
import json
from collections.abc import Iterator

from wexagraph.exports.journal import FileRow, Journal
from wexagraph.exports.target import Staging, Target
from wexagraph.notes import Note
from wexagraph.text import cell

REGISTER = "register.csv"
MANIFEST = "manifest-sha256.txt"
COLUMNS = (
    "id", "folder", "date", "from", "to", "cc", "subject", "attachments", "size", "sha256", "files", "outcome", "notes",
)  # fmt: skip


def write(target: Target, journal: Journal) -> None:
    """Write `register.csv` (RFC 4180, UTF-8 with a byte order mark) and `manifest-sha256.txt`. Raises TargetError."""
    register = target.open_staging()
    with register.failing():
        text = io.TextIOWrapper(register.file, "utf-8-sig", newline="", write_through=True)
        table = csv.writer(text, lineterminator="\r\n")
        table.writerow(COLUMNS)
        table.writerows(_rows(journal))
        text.flush()
        text.detach()
    _put(target, journal, register, REGISTER)
    manifest = target.open_staging()
    with manifest.failing():
        for path, sha256 in journal.files():
            # our names hold no backslash and no line end, so the escapes of sha256sum are never needed
            manifest.file.write(f"{sha256}  {path}\n".encode("utf-8", "surrogateescape"))
    _put(target, journal, manifest, MANIFEST)
    target.settle()


def _put(target: Target, journal: Journal, staging: Staging, name: str) -> None:
    """Put one of our two lists in its place. What somebody has made of the old one meanwhile is kept beside it."""
    recorded = journal.listing(name)
    if recorded is not None and target.sha256(recorded.path) not in (None, recorded.sha256):
        target.set_aside(recorded.path)
    path = recorded.path if recorded is not None else target.free_path(name)
    staged = staging.finish(path, replaces=recorded is not None)
    target.put([staged])
    stamp = target.stamp(path)
    if stamp is not None:
        journal.record(FileRow(path, None, f"list:{name}", "", "", staged.size, stamp[1], staged.sha256))


def _rows(journal: Journal) -> Iterator[list[str]]:
    for id, folder, facts_text, size, digest, outcome, reason, paths, notes in journal.register():
        facts = json.loads(facts_text)
        found = {Note(code, detail) for notes_of_file in json.loads(notes) for code, detail in notes_of_file}
        texts = [*([reason] if reason else []), *sorted(str(note) for note in found)]
        yield [
            id,
            cell(folder),
            facts.get("date", ""),
            *(cell(facts.get(name, "")) for name in ("from", "to", "cc", "subject")),
            cell("; ".join(facts.get("attachments", []))),
            str(size),
            digest or "",
            cell("; ".join(json.loads(paths))),
            outcome,
            cell("; ".join(texts)),
        ]
