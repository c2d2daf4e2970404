"""An export from beginning to end: plan, read, make, put, archive, list; and sums that agree."""

from __future__ import annotations

import time
from collections.abc import Callable, Mapping
from concurrent.futures import Executor
from contextlib import suppress
from dataclasses import replace
from datetime import UTC, datetime
from pathlib import Path

from wexagraph.errors import SourceError, TargetError
from wexagraph.exports import register
from wexagraph.exports.context import Context, opened
from wexagraph.exports.in_hand import WorkItem
from wexagraph.exports.journal.records import unpacked
from wexagraph.exports.making import Pages
from wexagraph.exports.needs import rename_files, renames, stored
from wexagraph.exports.options import ATTACHMENTS, FORMATS, ExportOptions, IndexOptions, suffix
from wexagraph.exports.plan import Planner
from wexagraph.exports.reading import Reading
from wexagraph.exports.register import Wording
from wexagraph.naming.paths import INDEX, MANIFEST, SENDER_KEYS, folder_path
from wexagraph.pages.engines import available
from wexagraph.reports import AGAIN, NEW, RENAMED, ExportReport, PlannedFile, Progress
from wexagraph.selection.apart import TakenApart
from wexagraph.selection.choice import Choice
from wexagraph.sources.base import Source, Stored


def export(
    source: Source,
    into: str | Path,
    choice: Choice | None = None,
    options: ExportOptions | None = None,
    *,
    progress: Callable[[Progress], None] | None = None,
    stopped: Callable[[], bool] | None = None,
    executor: Executor | None = None,
    afterwards: Callable[[list[Stored]], tuple[int, list[tuple[str, str]]]] | None = None,
    patience: float | None = None,
    make: bool = True,
) -> ExportReport:
    """Make files from the chosen messages of a source, below the folder `into`.

    Run again, it makes only what is missing. `progress` is told how far it is; when `stopped` answers true, the
    messages in hand are finished and the report says `interrupted`. `executor` makes the pages, where they are not
    to be made by worker processes of this machine. At the end of a run that was not interrupted, `afterwards` is given
    the messages whose files were read back whole, and says how many it has changed at the source and which it left.
    `patience` is how many seconds to wait for another run into the folder, which without `make` has to be there.

    Raises SourceError, TargetError or CallError; a message that fails is in the report instead.
    """
    options = (options or ExportOptions()).with_keys(source.keys)
    started = time.monotonic()
    engines = available(options.engine) if "pdf" in options.formats else []
    with opened(source, into, options, patience=patience, make=make) as (target, journal, recovered):
        choice = chosen(source, choice, options)
        source = TakenApart(source, choice) if options.carried else source
        run = Context(
            source, target, journal, options, progress or (lambda _: None), stopped or (lambda: False), executor
        )
        _work(run, choice, engines)
        if options.numbered and not run.report.interrupted:
            from wexagraph.exports.numbering import number_files

            number_files(run, engines[0])
        if options.sealing is not None and options.sealing.each and not run.report.interrupted:
            from wexagraph.exports.sealing_each import seal_documents

            seal_documents(run, options.sealing, options.exported or datetime.now(UTC))
        _archive(run)
        _write_lists(run, choice.sort)
        report = run.report
        report.recovered = recovered
        if afterwards is not None and not report.interrupted:
            kept = list(source.in_mailbox(stored(journal, target, options)))
            report.changed_at_the_source, report.left_at_the_source = afterwards(kept)
    if options.sealing is not None and not report.interrupted and (target.folder / MANIFEST).is_file():
        from wexagraph.seals.sealing import seal

        seal(target.folder, options.sealing, options.exported or datetime.now(UTC), report)
    report.seconds = time.monotonic() - started
    return report


def chosen(source: Source, choice: Choice | None, options: ExportOptions) -> Choice:
    """The choice as it holds for this run: where attachments alone become files, of messages that have some."""
    choice = choice or Choice()
    if options.numbered and not choice.sort:
        choice = replace(choice, sort=("date",))
    return (choice.with_attachments() if options.attachments_alone else choice).settled(source)


def plan(run: Context, choice: Choice) -> None:
    """Meet the chosen messages and give each a name; where they are to be bound, put them in their order."""
    planner = Planner(run.source, run.journal, run.target, run.options, run.workers, run.turns)
    apart = run.source if isinstance(run.source, TakenApart) else None
    run.progress.total = planner.plan(choice if apart is None else Choice(sort=choice.sort), run.looking, run.stopped)
    run.progress.done = 0
    run.report.interrupted = run.stopped()
    run.report.total = None if run.report.interrupted else run.progress.total
    has_id = run.journal.has_id if apart is None else apart.has_id
    run.report.unknown_ids = sorted(id for id in choice.ids or () if not has_id(id))
    if run.turns is not None:
        run.turns.arrange(run.options.naming, choice.in_words(run.options.page.tr), choice.sort)


def _work(run: Context, choice: Choice, engines: list[str]) -> None:
    """Plan, read, make and put. Whatever ends it, what was finished is put under its name."""
    pages = Pages(run, engines)
    try:
        plan(run, choice)
        run.report.renamed = rename_files(run.journal, run.target, run.options, run.binding)
        Reading(run, pages).read_all()
        pages.finish()
        run.publisher.put()
        run.target.settle()
    except (SourceError, TargetError):
        run.drop_workers(wait=not pages.pending)
        run.target.give_room()
        with suppress(TargetError):
            run.publisher.put()  # what was finished before a disk failed may still find its place
        raise
    finally:
        run.drop_workers(wait=not pages.pending)


def _archive(run: Context) -> None:
    """Put the archives of folders, whose messages were added while they were read."""
    run.archives.finish(run.report)


def _write_lists(run: Context, sort: tuple[str, ...]) -> None:
    """Write the page to browse, register and checksums, and note what of the source could not be read."""
    if run.journal.is_empty():
        run.source.settle()
        run.report.unreadable += [(trouble.where, trouble.reason) for trouble in run.source.troubles]
        return
    index, renamed = run.options.index, run.report.renamed or run.report.numbered
    if index is None and renamed and run.journal.files.listing(INDEX) is not None:
        index = IndexOptions(language=run.options.page.language)  # its links lead to names that are gone
    if index is not None:
        from wexagraph.exports.index_page.writing import write_index

        run.report.indexed = write_index(run.target, run.journal, replace(index, sort=sort))
    page = run.options.page
    if run.options.keys is not None or run.options.senders:
        run.journal.keep_setting(register.KEYS, "yes")
    if run.source.sender_keys is not None:
        _write_sender_keys(run, run.source.sender_keys.answers)
    left = register.write(run.target, run.journal, run.options.registers, Wording(page.tr, page.names))
    run.journal.commit()
    run.source.settle()
    run.report.unreadable += left
    run.report.unreadable += [(trouble.where, trouble.reason) for trouble in run.source.troubles]


def _write_sender_keys(run: Context, answers: Mapping[str, str | None]) -> None:
    """Add what a name server has answered to `sender-keys.txt`: it can be proved when a domain has taken its key
    back."""
    from wexagraph.protection.sender_keys import written

    recorded, earlier = run.journal.files.listing(SENDER_KEYS), ""
    if recorded is not None and run.target.root.taken(recorded.path):
        with run.target.root.reader(recorded.path) as file:
            earlier = file.read().decode("utf-8", "replace")
    text = written(answers, earlier, f"{datetime.now(UTC):%Y-%m-%d}")
    if text != earlier:
        staging = run.target.open_staging()
        with staging.failing():
            staging.file.write(text.encode("utf-8"))
        register.put_list(run.target, run.journal, staging, SENDER_KEYS)


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
    options = (options or ExportOptions()).with_keys(source.keys)
    with opened(source, into, options, dry=True) as (target, journal, _):
        choice = chosen(source, choice, options)
        source = TakenApart(source, choice) if options.carried else source
        run = Context(source, target, journal, options, progress or (lambda _: None), stopped or (lambda: False))
        try:
            plan(run, choice)
        finally:
            run.drop_workers(wait=True)
        return _report(run, str(into))


def _report(run: Context, into: str) -> ExportReport:
    planned: list[PlannedFile] = []
    report = ExportReport(into=into, unknown_ids=run.report.unknown_ids, planned=planned)
    folders: set[str] = set()
    for one in renames(run.journal, run.target, run.options, run.binding):
        if one.path != one.file.path and all(one.path != file.path for file in planned):
            subject = unpacked(one.row.facts)[-1] if one.row.facts else ""
            about = (one.row.id, one.row.folder, subject, one.row.size)
            planned.append(PlannedFile(one.path, RENAMED, one.file.format, *about))
            report.renamed += 1
        run.journal.files.record([replace(one.file, naming=run.options.naming)])
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
