"""The files in a journal: those of messages, archives of folders, and lists of ours."""

from __future__ import annotations

from collections.abc import Iterable, Iterator

from wexagraph.exports.journal.records import UNDER_WAY, FileRecord, packed_notes
from wexagraph.output.databases import Database


class Files:
    """All methods raise TargetError where the disk fails."""

    def __init__(self, base: Database) -> None:
        self._base = base

    def has(self, number: int, path: str, naming: str | None = None) -> bool:
        """Whether an earlier run has made this file of this message; with a `naming`, one that gave names by that."""
        rows = self._base.ask(
            "SELECT 1 FROM file WHERE message=? AND path=? AND (? IS NULL OR naming=?)", (number, path, naming, naming)
        )
        return rows.fetchone() is not None

    def is_of_an_export(self, path: str) -> bool:
        """Whether a file was made of a message, or is a list."""
        return self._base.ask("SELECT 1 FROM file WHERE path=? LIMIT 1", (path,)).fetchone() is not None

    def forget_announced(self, number: int) -> None:
        """Files of a message that were announced and could not be put."""
        self._base.ask("DELETE FROM file WHERE message=? AND recipe=?", (number, UNDER_WAY))

    def forget_replaced(self, path: str, sha256: str) -> None:
        """A file was replaced by one of these bytes: what is told of the one before goes."""
        self._base.ask("DELETE FROM file WHERE path=? AND sha256<>?", (path, sha256))

    def record(self, files: Iterable[FileRecord]) -> None:
        """These files are on the disk, whole."""
        self._base.ask_many(
            "INSERT OR REPLACE INTO file VALUES (?,?,?,?,?,?,?,?,?)",
            (
                (
                    f.path,
                    f.message,
                    f.format,
                    f.naming,
                    f.recipe,
                    f.size,
                    f.modified,
                    f.sha256,
                    packed_notes(f.notes),
                )
                for f in files
            ),
        )

    def pdfs_of_last_run(self, in_turn: bool) -> list[str]:
        """The PDFs of the messages that the last run has chosen, each once: as these came, or by their names."""
        rows = self._base.ask(
            "SELECT f.path FROM file f JOIN message m ON m.number=f.message WHERE f.format IN ('pdf', 'bound') "
            "AND m.run=(SELECT max(run) FROM message) GROUP BY f.path "
            f"ORDER BY {'min(m.turn), ' if in_turn else ''}f.path"
        )
        return [row[0] for row in rows]

    def pdfs_of_run(self, run: int, naming: str) -> Iterator[list[FileRecord]]:
        """The PDFs of the messages that a run has chosen, in the order in which these came: of a bound one, the record
        of each message that it holds."""
        rows = self._base.ask(
            "SELECT f.path FROM file f JOIN message m ON m.number=f.message WHERE f.format IN ('pdf', 'bound') "
            "AND m.run=? AND f.naming=? AND f.recipe<>? GROUP BY f.path ORDER BY min(m.turn), f.path",
            (run, naming, UNDER_WAY),
        ).fetchall()
        for (path,) in rows:
            held = "SELECT * FROM file WHERE path=? AND recipe<>? ORDER BY message"
            yield [FileRecord.of(row) for row in self._base.ask(held, (path, UNDER_WAY))]

    def beside_pdfs(self, run: int, naming: str) -> Iterator[FileRecord]:
        """The other files of messages that a run has chosen and that have a PDF of their own."""
        rows = self._base.ask(
            "SELECT f.* FROM file f JOIN message m ON m.number=f.message JOIN file p ON p.message=f.message "
            "AND p.format='pdf' AND p.naming=f.naming WHERE f.format IN ('eml', 'html', 'text') AND m.run=? "
            "AND f.naming=? AND f.recipe<>? ORDER BY f.message",
            (run, naming, UNDER_WAY),
        )
        return (FileRecord.of(row) for row in rows)

    def forget(self, number: int, path: str) -> None:
        """A file of a message bears another name now."""
        self._base.ask("DELETE FROM file WHERE message=? AND path=?", (number, path))

    def of_messages(self) -> Iterator[tuple[str, FileRecord]]:
        """Each file of a message of its own, with the SHA-256 of that."""
        rows = self._base.ask(
            "SELECT m.digest, f.* FROM file f JOIN message m ON m.number=f.message WHERE m.digest<>''"
        )
        return ((digest, FileRecord.of(row)) for digest, *row in rows)

    def archive(self, folder: str, format: str, naming: str, otherwise: bool) -> FileRecord | None:
        """The archive of a folder that an earlier run has made under names given in this way, or `otherwise`."""
        row = self._base.ask(
            "SELECT * FROM file WHERE message=0 AND format=? AND (naming=? OR ?) ORDER BY naming=? DESC LIMIT 1",
            (f"{format}:{folder}", naming, otherwise, naming),
        ).fetchone()
        return FileRecord.of(row) if row else None

    def hold(self, path: str, digests: Iterable[str]) -> None:
        """What an archive holds: the SHA-256 of each message, in its order."""
        self._base.ask("DELETE FROM held WHERE path=?", (path,))
        self._base.ask_many(
            "INSERT INTO held VALUES (?,?,?)", ((path, turn, digest) for turn, digest in enumerate(digests))
        )

    def held(self, path: str) -> list[str]:
        """The SHA-256 of the messages that an archive holds, in its order; none of one that an earlier version made."""
        return [row[0] for row in self._base.ask("SELECT digest FROM held WHERE path=? ORDER BY turn", (path,))]

    def archives(self) -> dict[str, list[str]]:
        """The paths of all archives, by the folders whose messages they hold."""
        paths: dict[str, list[str]] = {}
        for format, path in self._base.ask("SELECT format, path FROM file WHERE message=0 ORDER BY path"):
            kind, _, folder = format.partition(":")
            if kind != "list":
                paths.setdefault(folder, []).append(path)
        return paths

    def listing(self, name: str) -> FileRecord | None:
        """The register or the manifest as the last run left it."""
        row = self._base.ask("SELECT * FROM file WHERE message=0 AND format=?", (f"list:{name}",)).fetchone()
        return FileRecord.of(row) if row else None

    def listings(self, start: str) -> list[str]:
        """The names of our own files that begin so, as the last run left them."""
        begin = f"list:{start}"
        rows = self._base.ask("SELECT format FROM file WHERE message=0 AND substr(format, 1, ?)=?", (len(begin), begin))
        return [row[0].partition(":")[2] for row in rows]

    def forget_listing(self, name: str) -> None:
        """A file of ours is gone."""
        self._base.ask("DELETE FROM file WHERE message=0 AND format=?", (f"list:{name}",))

    def checksums(self) -> Iterator[tuple[str, str]]:
        """Path and SHA-256 of all files but the manifest, which can't hold itself, sorted by path."""
        made = "SELECT path, sha256 FROM file WHERE format<>'list:manifest-sha256.txt'"
        taken_out = (f"SELECT path, sha256 FROM {table} WHERE path<>''" for table in ("attachment", "document"))
        return iter(self._base.ask(f"{' UNION '.join((made, *taken_out))} ORDER BY path"))
