"""The register (a row an attachment) and the checksums of attachments alone, written after each run."""

from __future__ import annotations

from collections.abc import Iterable, Iterator

from wexagraph.exports.attachments.ledger import Ledger
from wexagraph.exports.verify import manifest_entries
from wexagraph.naming.paths import MANIFEST, REGISTER
from wexagraph.notes import CODES
from wexagraph.output.target import Target
from wexagraph.tables.csvs import csv_row

COLUMNS = (
    "id",
    "folder",
    "date",
    "from",
    "subject",
    "attachment",
    "type",
    "size",
    "sha256",
    "file",
    "message_sha256",
    "notes",
    "pdf",
    "pdf_sha256",
    "pdf_state",
)


def write(target: Target, ledger: Ledger) -> None:
    """Write both anew. One that somebody has changed is kept beside the new one. Raises TargetError."""
    _write(target, ledger, REGISTER, _rows(ledger))
    digest = ledger.ask("SELECT sha256, path FROM list WHERE name=?", REGISTER).fetchone()
    paths = ledger.ask(
        "SELECT sha256, path FROM attachment WHERE path<>'' UNION "
        "SELECT sha256, path FROM document WHERE path<>'' ORDER BY path"
    )
    _write(target, ledger, MANIFEST, (f"{sha256}  {path}\n" for sha256, path in [*paths, digest]))
    target.settle()


def recover(target: Target, ledger: Ledger) -> None:
    """Know the lists of an earlier run again, whose record was lost: the manifest proves the register."""
    digest, listed = target.sha256(REGISTER), {}
    try:
        with target.root.reader(MANIFEST) as file:
            listed = {path: sha256 for sha256, path in manifest_entries(file)}
    except OSError:
        return
    if digest and listed.get(REGISTER) == digest:
        for name in (REGISTER, MANIFEST):
            ledger.ask("INSERT OR REPLACE INTO list VALUES (?,?,?)", name, name, target.sha256(name) or "")


def _write(target: Target, ledger: Ledger, name: str, lines: Iterable[str]) -> None:
    old = ledger.ask("SELECT path, sha256 FROM list WHERE name=?", name).fetchone()
    path = str(old[0]) if old else target.free_path(name)
    staging = target.open_staging()
    with staging.failing():
        for line in lines:
            staging.file.write(line.encode("utf-8", "surrogateescape"))
    staged = target.put_list(staging, path, (old[1],) if old else ())
    ledger.ask("INSERT OR REPLACE INTO list VALUES (?,?,?)", name, path, staged.sha256)
    target.put_staged_list(staged)
    ledger.commit()


def _rows(ledger: Ledger) -> Iterator[str]:
    yield "\ufeff" + csv_row(COLUMNS)
    rows = ledger.ask(
        "SELECT m.id, m.folder, m.date, m.sender, m.subject, a.name, a.type, a.size, a.sha256, a.path, m.sha256, "
        "a.note, coalesce(d.path, ''), coalesce(d.sha256, ''), coalesce(d.state, '') "
        "FROM attachment a JOIN message m ON m.number=a.message LEFT JOIN document d USING (message, key, wish) "
        "ORDER BY m.folder, m.place, m.number, a.key"
    )
    for row in rows:
        yield csv_row([*row[:11], CODES.get(row[11], ""), *row[12:]])
