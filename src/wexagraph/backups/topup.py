"""A run of a backup: what is new in a source goes into volumes, and what lies where into the list of the run."""

from __future__ import annotations

import os
import time
from collections.abc import Callable, Iterable, Iterator
from dataclasses import replace
from datetime import UTC, datetime
from pathlib import Path

from wexagraph.backups import bag, runlists
from wexagraph.backups.encryption import Ask
from wexagraph.backups.opening import open_backup
from wexagraph.backups.packing import Packed, Unread
from wexagraph.backups.reading import PackedMessages, Reader
from wexagraph.backups.report import BackupReport
from wexagraph.backups.runlists import FolderChange, Holding, RunListWriter, moment_text
from wexagraph.backups.scans import read_attached
from wexagraph.backups.store import NewFile, Store
from wexagraph.backups.volumes import MOST_BYTES, VolumeWriter
from wexagraph.errors import FolderError, SourceError
from wexagraph.files import create_private
from wexagraph.naming.paths import folder_path
from wexagraph.output.target import keep_apart
from wexagraph.reports import Failure
from wexagraph.selection.choice import Choice
from wexagraph.sources.base import Envelope, Source, Trouble

_FLUSH_BYTES = 64 * 1024 * 1024
VOLUME_SIZE = 1_000_000_000


def backup(
    source: Source,
    into: str | Path,
    choice: Choice | None = None,
    *,
    volume_size: int = VOLUME_SIZE,
    jobs: int = 1,
    cluster: str = "",
    progress: Callable[[int, int], None] | None = None,
    stopped: Callable[[], bool] | None = None,
    tell: Callable[[str], None] | None = None,
    now: datetime | None = None,
    seen: Callable[[str, str, str, str], None] | None = None,
    ask: Ask | None = None,
    locked: bool = False,
    ocr: tuple[str, ...] = (),
) -> BackupReport:
    """Start or top up the backup in the folder `into`: what it does not hold yet is copied, nothing is ever removed.

    `progress` is told how many messages were looked at and how many were stored. When `stopped` answers true, what is
    there is kept as a run that was stopped. `now` names the run. `seen` is told folder, place, stamp and digest of
    every message that is safe at the end. `ask` gives the passphrase of a locked backup; `locked` makes a new one such.
    `ocr` are the languages in which the words of scans are recognised, for searches; none means that none are.
    Raises SourceError, TargetError, CallError.
    """
    started = time.monotonic()
    keep_apart(source.location, into)
    with open_backup(Path(into), writing=True, tell=tell, ask=ask, locked=locked) as store:
        stop = stopped or (lambda: False)
        wanted = _of_all_folders((choice or Choice()).settled(source), source)
        moment = bag.run_name((now or datetime.now(UTC)).astimezone(UTC))
        name = store.free_run(moment)
        try:
            waiting = store.staged / "run.jsonl"
            with create_private(waiting) as file:
                listed = RunListWriter(file, name, source.location, moment)
                volumes = Volumes(store, min(volume_size, MOST_BYTES), listed.flush)
                reader = Reader(source, jobs, cluster)
                run = _Run(source, store, wanted, reader, volumes, listed, progress or (lambda *_: None), stop, seen)
                report = run.go()
            report.run = name
            _commit(store, waiting, volumes, report)
            if not report.interrupted:
                scans, scan_words = read_attached(store, ocr, jobs or os.cpu_count() or 1, stop)
                if ocr:
                    report.scans, report.scan_words = scans, scan_words
        except OSError as error:
            raise store.failed(error) from error
    report.seconds = time.monotonic() - started
    return report


def _of_all_folders(choice: Choice, source: Source) -> Choice:
    """The choice with the newest messages named, which are those of all folders together."""
    if choice.newest is None:
        return choice
    ids = frozenset(envelope.id for envelope in choice.select(source))
    return replace(choice, ids=ids, newest=None)


class _Run:
    """What is new in each folder is read, put into volumes and noted in the list of the run."""

    def __init__(
        self,
        source: Source,
        store: Store,
        choice: Choice,
        reader: Reader,
        volumes: Volumes,
        listed: RunListWriter,
        progress: Callable[[int, int], None],
        stopped: Callable[[], bool],
        seen: Callable[[str, str, str, str], None] | None,
    ) -> None:
        self.source, self.catalogue, self.choice = source, store.catalogue, choice
        self.reader, self.volumes, self.list = reader, volumes, listed
        self.progress, self.stopped, self.seen = progress, stopped, seen
        self.report = BackupReport(into=str(store.folder))
        self.unmet = set(choice.ids or ())
        self.folder: int | None = None
        self.moved: set[str] = set()
        self.noted: set[str] = set()  # digests of all that lies at another place than before

    def go(self) -> BackupReport:
        """All folders, then the sums. Raises SourceError; what was stored until then waits for the next run."""
        report = self.report
        try:
            for folder in self.choice.folders_of(self.source):
                if self.stopped():
                    report.interrupted = True
                    break
                self._folder(folder)
            self._folders_that_are_gone()
            self.volumes.close()
            report.bytes = sum(volume.size for volume in self.volumes.made) + self.list.size
            self.source.settle()
        except SourceError:
            self.volumes.abandon()
            raise
        finally:
            self.reader.close()
        report.unreadable += [(t.where, t.reason) for t in self.source.troubles]
        report.unknown_ids = sorted(self.unmet) if not report.interrupted else []
        self.list.end(
            {
                "end": "stopped" if report.interrupted else "whole",
                "added": report.written,
                "known": report.already_there,
                "gone": report.gone,
                "changed": report.changed,
                "failed": report.failed,
                "bytes": report.bytes,
            }
        )
        return report

    def _folders_that_are_gone(self) -> None:
        """Note that folders which the source has no more hold nothing: removed, renamed, or emptied so that nothing is
        left of them. What lies in another folder now is not gone."""
        choice, source = self.choice, self.source
        if choice.folders or choice.narrows or self.report.interrupted:
            return
        there, hidden = set(source.folders()), set[str]()
        for trouble in source.troubles:  # of a folder, or of the file that it lies in
            hidden |= {trouble.where, trouble.where.rpartition(".")[0]}
        for number, folder in self.catalogue.folders_held(source.location):
            if folder in there or any(folder == where or folder.startswith(f"{where}/") for where in hidden):
                continue  # what can't be read now may well be there
            state = self.catalogue.folder_state(source.location, folder)
            self.list.folder(FolderChange(folder, "", state[1] if state else ""))
            self.catalogue.start_seeing()
            for place, digest in self.catalogue.unseen(number):
                self.report.gone += digest not in self.noted
                self.list.gone(place)

    def _folder(self, folder: str) -> None:
        source, catalogue, choice = self.source, self.catalogue, self.choice
        whole = not choice.narrows
        stamp = source.folder_stamp(folder)
        state = catalogue.folder_state(source.location, folder)
        self.folder = catalogue.folder(source.location, folder)
        self.list.folder(FolderChange(folder, stamp if whole else "", state[1] if state else ""))
        unchanged = whole and state is not None and stamp and state[0] == stamp
        if unchanged and self.seen is None and not catalogue.relies_on_lost(self.folder or 0):
            count = catalogue.count_held(self.folder or 0)
            self.report.chosen += count
            self.report.already_there += count
            self.progress(self.report.chosen, self.report.written)
            return
        catalogue.start_seeing()
        self.moved.clear()
        failed = self.report.failed
        try:
            if whole and self.folder is None and self.reader.takes_shares(folder):
                self._take_shares(folder)
            else:
                self._take(source.outline(folder) if whole else choice.of_share(source, folder))
        except FolderError as error:
            source.troubles.append(Trouble(folder, error.reason))
            self.list.not_all_known()
            return
        if whole and not self.report.interrupted and self.folder is not None:
            for place, digest in catalogue.unseen(self.folder):
                self.report.gone += digest not in self.moved  # it may lie at another place of the folder now
                self.list.gone(place)
        if self.report.interrupted or self.report.failed > failed:
            self.list.not_all_known()

    def _take(self, envelopes: Iterable[Envelope]) -> None:
        for packed in self.reader.packed(self._strange(envelopes)):
            self._store(packed)

    def _take_shares(self, folder: str) -> None:
        """Store a folder that no run has seen before."""
        for share, packed in self.reader.packed_shares(folder, self.stopped):
            if packed is None:
                self._take(self.source.outline(folder, share))
                continue
            self.report.chosen += len(packed)
            self._store(packed)
        self.report.interrupted = self.report.interrupted or self.stopped()

    def _strange(self, envelopes: Iterable[Envelope]) -> Iterator[Envelope]:
        """The messages of the folder that are not known; what is known is noted."""
        for envelope in envelopes:
            if self.stopped():
                self.report.interrupted = True
                return
            self.report.chosen += 1
            self.unmet.discard(envelope.id)
            known = None
            if self.folder is not None:  # else nothing of it was ever held
                self.catalogue.see(envelope.place)
                known = self.catalogue.held_at(self.folder, envelope.place)
            if known is None or known.stamp != envelope.fingerprint():
                yield envelope
                continue
            self.report.already_there += 1
            if tuple(sorted(envelope.flags)) != known.flags:
                self.report.changed += 1
                self._note(envelope, known.digest, known.size)
            elif self.seen is not None:
                self.seen(envelope.folder, envelope.place, envelope.fingerprint(), known.digest)
            self.progress(self.report.chosen, self.report.written)

    def _store(self, packed: PackedMessages) -> None:
        """Messages that were read go into volumes, those that are held already into the list alone."""
        for envelope, one in packed:
            if isinstance(one, Unread):
                self.report.fail(Failure(envelope.id, envelope.folder, envelope.header.subject, one.reason))
                continue
            member = ""
            if self.catalogue.has(one.digest):
                self.report.already_there += 1
                self.report.changed += 1
                self.report.elsewhere += 1
            else:
                member = self.volumes.add(envelope.folder, one)
                self.report.written += 1
            self._note(envelope, one.digest.hex(), one.size, member)
        self.progress(self.report.chosen, self.report.written)

    def _note(self, envelope: Envelope, digest: str, size: int, member: str = "") -> None:
        holding = Holding(
            envelope.folder,
            envelope.place,
            envelope.fingerprint(),
            digest,
            size,
            tuple(sorted(envelope.flags)),
            moment_text(envelope.arrival),
        )
        self.list.holding(holding, member)
        self.noted.add(digest)
        if self.folder is not None:
            self.moved.add(digest)
        if self.seen is not None:
            self.seen(envelope.folder, envelope.place, holding.stamp, digest)


def _commit(store: Store, waiting: Path, volumes: Volumes, report: BackupReport) -> None:
    """Make a run lasting: its list and its volumes come into the backup together."""
    run = runlists.read(waiting)
    if run.is_quiet:
        store.quiet.append(run)
    else:
        store.untouched = False
        store.catalogue.take_run(run)
    listed = store.ready(waiting, bag.run_path(report.run))
    report.volumes = len(volumes.made)
    store.commit([*volumes.made, listed], without=_stored_again(store, report))
    report.messages = store.catalogue.counts()[0]


def _stored_again(store: Store, report: BackupReport) -> tuple[str, ...]:
    """Of the volumes that were lost, those whose messages are all stored again: they are needed no more."""
    replaced = []
    for path in store.lost:
        missing = store.catalogue.still_lost(bag.volume_number(path))
        if missing:
            reason = (
                f"it is missing or damaged, and {missing:,} of its messages are not in this source any more. "
                "`wexagraph verify` with --repair and another copy of the backup mends it"
            )
            report.unreadable.append((f"{report.into}/{path}", reason))
        else:
            replaced.append(path)
    if store.lost:
        count = len(store.lost)
        store.tell(
            f"{count} volume{'s' * (count != 1)} missing or damaged; what the source has of them was stored again"
        )
    return (*replaced, *store.lost_quiet)


class Volumes:
    """The volumes that a run fills, of `limit` bytes at most. `flushed` is called when what was added is lasting."""

    def __init__(self, store: Store, limit: int, flushed: Callable[[], None]) -> None:
        self.made: list[NewFile] = []
        self._store, self._limit, self._flushed = store, limit, flushed
        self._number = store.next_volume()
        self._volume: VolumeWriter | None = None
        self._unflushed = 0

    def add(self, folder: str, packed: Packed) -> str:
        """Put a message into a volume, and tell the catalogue. Returns its name there."""
        self._store.untouched = False
        if self._volume is not None and not self._volume.takes(packed, self._limit):
            self.close()
        if self._volume is None:
            self._volume = VolumeWriter(self._store.staged / f"volume-{self._number:06d}.zip")
        place = folder_path(folder)
        own = f"{packed.stem} {packed.digest.hex()[:12]}.eml"
        name = f"{place}/{own}" if place else own
        member = self._volume.add(name, packed)
        self._store.catalogue.add_message(packed, self._number, member)
        self._unflushed += len(packed.content)
        if self._unflushed > _FLUSH_BYTES:
            # a run that is killed later loses no more than this
            self._volume.flush()
            self._flushed()
            self._unflushed = 0
        return f"{bag.volume_path(self._number)}:{name}"

    def close(self) -> None:
        """End the volume in hand."""
        if self._volume is None:
            return
        digest = self._volume.close()
        self.made.append(self._store.ready(self._volume.path, bag.volume_path(self._number), digest))
        self._volume = None
        self._number += 1

    def abandon(self) -> None:
        """The source has gone: what is in the volume so far waits below `.wexagraph`, and the next run takes it in."""
        if self._volume is not None:
            self._volume.flush()
            self._volume.abandon()
