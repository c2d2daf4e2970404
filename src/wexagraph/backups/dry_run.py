"""What a run of a backup would store: the same choosing and comparing, with nothing written and no body read."""

from __future__ import annotations

from collections.abc import Callable
from contextlib import nullcontext
from dataclasses import replace
from pathlib import Path

from wexagraph.backups import bag
from wexagraph.backups.encryption import Ask
from wexagraph.backups.opening import open_backup
from wexagraph.backups.place import refuse_other
from wexagraph.backups.report import BackupReport
from wexagraph.backups.store import Store
from wexagraph.errors import TargetError
from wexagraph.output.target import keep_apart
from wexagraph.reports import NEW, PlannedFile
from wexagraph.selection.choice import Choice
from wexagraph.sources.base import Source


def dry_run(
    source: Source,
    into: str | Path,
    choice: Choice | None = None,
    *,
    progress: Callable[[int, int], None] | None = None,
    stopped: Callable[[], bool] | None = None,
    ask: Ask | None = None,
) -> BackupReport:
    """Say which messages a run would read and store. `written` and `bytes` are theirs; one that the backup holds from
    another folder is among them, since only its bytes tell. Raises SourceError, TargetError, CallError."""
    folder = Path(into)
    keep_apart(source.location, folder)
    try:
        refuse_other(folder)
    except OSError as error:
        raise TargetError(f"{folder} can't be read: {error.strerror or error}. Check the disk.") from error
    report = BackupReport(into=str(into), planned=[])
    choice = (choice or Choice()).settled(source)
    if choice.newest is not None:
        ids = frozenset(envelope.id for envelope in choice.select(source))
        choice = replace(choice, ids=ids, newest=None)
    unmet = set(choice.ids or ())
    with open_backup(folder, ask=ask) if bag.is_backup(folder) else nullcontext() as store:
        for name in choice.folders_of(source):
            if stopped is not None and stopped():
                report.interrupted = True
                break
            _look(source, store, choice, name, report, unmet)
            if progress is not None:
                progress(report.chosen, report.written)
        if store is not None:
            report.messages = store.catalogue.counts()[0]
    source.settle()
    report.unreadable = [(trouble.where, trouble.reason) for trouble in source.troubles]
    report.unknown_ids = sorted(unmet) if not report.interrupted else []
    return report


def _look(
    source: Source, store: Store | None, choice: Choice, folder: str, report: BackupReport, unmet: set[str]
) -> None:
    """Compare a folder of the source with what the backup holds of it."""
    number = store.catalogue.folder(source.location, folder) if store is not None else None
    if store is not None and number is not None and not choice.narrows:
        state = store.catalogue.folder_state(source.location, folder)
        stamp = source.folder_stamp(folder)
        if state is not None and stamp and state[0] == stamp:
            count = store.catalogue.count_held(number)
            report.chosen += count
            report.already_there += count
            return
    for envelope in source.readable(folder, choice.of_share(source, folder)):
        report.chosen += 1
        unmet.discard(envelope.id)
        known = store.catalogue.held_at(number, envelope.place) if store is not None and number is not None else None
        if known is not None and known.stamp == envelope.fingerprint():
            report.already_there += 1
            report.changed += tuple(sorted(envelope.flags)) != known.flags
            continue
        report.written += 1
        report.bytes += envelope.size
        assert report.planned is not None
        subject = envelope.header.subject
        report.planned.append(PlannedFile("", NEW, "message", envelope.id, folder, subject, envelope.size))
