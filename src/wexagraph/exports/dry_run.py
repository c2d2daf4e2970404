"""What an export would do: the same choosing, planning and naming, with nothing written below the folder."""

from __future__ import annotations

import shutil
from collections.abc import Callable
from dataclasses import asdict, dataclass, field
from pathlib import Path
from typing import Any

from wexagraph.exports.context import Context
from wexagraph.exports.formats import FORMATS, suffix
from wexagraph.exports.in_hand import WorkItem
from wexagraph.exports.journal import Journal
from wexagraph.exports.message_records import unpacked
from wexagraph.exports.options import ExportOptions
from wexagraph.exports.recovery import recover
from wexagraph.exports.report import ExportReport
from wexagraph.exports.run import plan
from wexagraph.naming.paths import folder_path
from wexagraph.output.folder import OWN, OutputFolder
from wexagraph.output.target import Target, keep_apart
from wexagraph.reports import Progress
from wexagraph.selection import Choice
from wexagraph.sources import Source
from wexagraph.temporary import TemporaryFolder

NEW, AGAIN = "new", "again"


@dataclass(frozen=True)
class PlannedFile:
    """A file that would be written: its path below the folder, whether it is `new` or made `again`, and its message (of
    several, the first)."""

    path: str
    state: str
    format: str
    id: str
    folder: str
    subject: str
    size: int


@dataclass
class DryRun(ExportReport):
    """The sums as an export would have them: `written` are the messages that it would write. `bytes` are those of these
    messages; what pages come to is known when they are made. `planned` are the files."""

    planned: list[PlannedFile] = field(default_factory=list)

    def as_dict(self) -> dict[str, Any]:
        return super().as_dict() | {"dry_run": True, "planned": [asdict(file) for file in self.planned]}


class _Untouched(Target):
    """A folder that is only looked at; where there is none, an empty one in its place."""

    def __init__(self, folder: Path, empty: Path) -> None:
        self.folder = folder if folder.is_dir() else empty
        self.root = OutputFolder(self.folder, make=False)

    def close(self) -> None:
        self.root.close()


def dry_run(
    source: Source,
    into: str | Path,
    choice: Choice | None = None,
    options: ExportOptions | None = None,
    *,
    progress: Callable[[Progress], None] | None = None,
    stopped: Callable[[], bool] | None = None,
) -> DryRun:
    """Plan an export, and say what it would write. Raises SourceError, TargetError, CallError."""
    options = options or ExportOptions()
    keep_apart(source.location, into)
    with TemporaryFolder() as place:
        (place / "empty").mkdir()
        target = _Untouched(Path(into), place / "empty")
        try:
            kept = Path(into) / OWN / "journal.sqlite"
            if kept.is_file():
                shutil.copyfile(kept, place / "journal.sqlite")
            journal = Journal(place / "journal.sqlite")
            try:
                if journal.is_new:
                    recover(journal, target, options)
                tell, stop = progress or (lambda _: None), stopped or (lambda: False)
                run = Context(source, target, journal, options, tell, stop)
                try:
                    plan(run, (choice or Choice()).settled(source))
                finally:
                    run.drop_workers(wait=True)
                return _report(run, str(into))
            finally:
                journal.close()
        finally:
            target.close()


def _report(run: Context, into: str) -> DryRun:
    report = DryRun(into=into, unknown_ids=run.report.unknown_ids)
    folders: set[str] = set()
    for work in run.needs.works():
        report.written += 1
        report.bytes += work.row.size
        for format, path, replaces in _files(run, work, folders):
            report.files[format] += 1
            subject = unpacked(work.row.facts)[-1] if work.row.facts else ""
            state = AGAIN if replaces or path in work.replaced else NEW
            row = work.row
            report.planned.append(PlannedFile(path, state, format, row.id, row.folder, subject, row.size))
    report.already_there = run.report.already_there
    report.chosen = report.written + report.already_there
    report.made_again = run.report.made_again
    run.source.settle()
    report.unreadable = [(trouble.where, trouble.reason) for trouble in run.source.troubles]
    return report


def _files(run: Context, work: WorkItem, folders: set[str]) -> list[tuple[str, str, bool]]:
    """Format and path of each file that a message needs, and whether it replaces one of ours. Of what several need, the
    first one tells."""
    files = [
        (name, work.row.stem + suffix(name), False)
        for name in work.missing
        if name in FORMATS and not (name == "pdf" and work.sheaf is not None)
    ]
    if work.sheaf is not None and work.sheaf.path not in folders:
        folders.add(work.sheaf.path)
        files.append(("pdf", work.sheaf.path, work.sheaf.replaces))
    if run.archives.wants(work.row) and work.row.folder not in folders:
        folders.add(work.row.folder)
        base = folder_path(work.row.folder)
        files += [(name, base + suffix(name), False) for name in run.options.archive_formats]
    return files
