"""What an export would do: the same choosing, planning and naming, with nothing written below the folder."""

from __future__ import annotations

from collections.abc import Callable
from pathlib import Path

from wexagraph.exports.context import Context, opened
from wexagraph.exports.formats import ATTACHMENTS, FORMATS, suffix
from wexagraph.exports.in_hand import WorkItem
from wexagraph.exports.journal.records import unpacked
from wexagraph.exports.options import ExportOptions
from wexagraph.exports.report import ExportReport
from wexagraph.exports.run import chosen, plan
from wexagraph.naming.paths import folder_path
from wexagraph.reports import AGAIN, NEW, PlannedFile, Progress
from wexagraph.selection import Choice
from wexagraph.sources import Source


def dry_run(
    source: Source,
    into: str | Path,
    choice: Choice | None = None,
    options: ExportOptions | None = None,
    *,
    progress: Callable[[Progress], None] | None = None,
    stopped: Callable[[], bool] | None = None,
) -> ExportReport:
    """Plan an export, and say what it would write: `written` are the messages that it would write, `bytes` are theirs;
    what pages come to is known when they are made. Raises SourceError, TargetError, CallError."""
    options = options or ExportOptions()
    with opened(source, into, options, dry=True) as (target, journal, _):
        run = Context(source, target, journal, options, progress or (lambda _: None), stopped or (lambda: False))
        try:
            plan(run, chosen(source, choice, options))
        finally:
            run.drop_workers(wait=True)
        return _report(run, str(into))


def _report(run: Context, into: str) -> ExportReport:
    planned: list[PlannedFile] = []
    report = ExportReport(into=into, unknown_ids=run.report.unknown_ids, planned=planned)
    folders: set[str] = set()
    for work in (work for work in run.needs.works() if work.kept is None):
        report.written += 1
        report.bytes += work.row.size
        for format, path, replaces in _files(run, work, folders):
            if not path.endswith("/"):
                report.files[format] += 1
            subject = unpacked(work.row.facts)[-1] if work.row.facts else ""
            state = AGAIN if replaces or path in work.replaced else NEW
            row = work.row
            planned.append(PlannedFile(path, state, format, row.id, row.folder, subject, row.size))
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
        (name, work.path(name), False)
        for name in work.missing
        if name in FORMATS and not (name == "pdf" and work.document is not None)
    ]
    if "beside" in work.missing:
        files.append((ATTACHMENTS, f"{work.row.stem}/", False))  # how many are in it, only its bytes tell
    if work.document is not None and work.document.path not in folders:
        folders.add(work.document.path)
        files.append(("pdf", work.document.path, work.document.replaces))
    if run.archives.wants(work.row) and work.row.folder not in folders:
        folders.add(work.row.folder)
        base = folder_path(work.row.folder)
        files += [(name, base + suffix(name), False) for name in run.options.archive_formats]
    return files
