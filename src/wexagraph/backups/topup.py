"""A run of a backup: what is new in a source goes into volumes, and what lies where into the list of the run."""

from __future__ import annotations

import os
import time
from collections import deque
from collections.abc import Callable, Iterable, Iterator
from concurrent.futures import Future
from dataclasses import replace
from datetime import UTC, datetime
from itertools import islice
from pathlib import Path
from typing import Any, BinaryIO

from wexagraph.backups import bag, runlists
from wexagraph.backups.encryption import Ask
from wexagraph.backups.opening import open_backup
from wexagraph.backups.packing import Packed, Unread, pack_all, pack_from, pack_share
from wexagraph.backups.report import BackupReport
from wexagraph.backups.runlists import FolderChange, Holding, moment_text
from wexagraph.backups.scans import recognise_scans
from wexagraph.backups.store import NewFile, Store
from wexagraph.backups.volumes import MOST_BYTES, VolumeWriter
from wexagraph.errors import FolderError, MessageError, SourceError
from wexagraph.files import create_private
from wexagraph.naming.paths import folder_path
from wexagraph.output.target import keep_apart
from wexagraph.reports import Failure
from wexagraph.selection import Choice
from wexagraph.sources import Envelope, Partition, Source, Trouble, lend
from wexagraph.sources.base import bounded
from wexagraph.work.batches import Batch
from wexagraph.work.opening import open_workers
from wexagraph.work.workers import WorkerLost, Workers

VOLUME_SIZE = 1_000_000_000
_BATCH_MESSAGES, _BATCH_BYTES = 64, 4 * 1024 * 1024
_SHARE = 4 * 1024 * 1024  # bytes of a folder that a worker takes at once
_FLUSH_BYTES = 64 * 1024 * 1024
_WORTH_WORKERS = 40


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
        run = _Run(
            source,
            store,
            (choice or Choice()).settled(source),
            min(volume_size, MOST_BYTES),
            jobs,
            cluster,
            progress,
            stopped,
            seen,
        )
        try:
            report = run.go(now or datetime.now(UTC))
            if ocr and not report.interrupted:
                report.scans, report.scan_words = recognise_scans(
                    store, ocr, jobs or os.cpu_count() or 1, stopped or (lambda: False)
                )
        except OSError as error:
            raise store.failed(error) from error
    report.seconds = time.monotonic() - started
    return report


_Batch = Batch[tuple[Envelope, Any], Packed | Unread]
"""Messages that are being packed, each with what its packing is told."""


class _Run:
    def __init__(
        self,
        source: Source,
        store: Store,
        choice: Choice,
        volume_size: int,
        jobs: int,
        cluster: str,
        progress: Callable[[int, int], None] | None,
        stopped: Callable[[], bool] | None,
        seen: Callable[[str, str, str, str], None] | None,
    ) -> None:
        self.source, self.store, self.choice, self.limit, self.jobs = source, store, choice, volume_size, jobs
        self.cluster = cluster
        self.shares = source.reopens and not cluster  # whether workers can open the source themselves
        self.catalogue = store.catalogue
        self.progress = progress or (lambda _read, _added: None)
        self.stopped = stopped or (lambda: False)
        self.seen = seen
        self.report = BackupReport(into=str(store.folder))
        self.volume: VolumeWriter | None = None
        self.number = store.next_volume()
        self.new: list[NewFile] = []
        self.workers: Workers | None = None
        self.folder: int | None = None
        self.moved: set[str] = set()
        self.unflushed = 0
        self.unmet: set[str] = set()
        self.list: BinaryIO

    def go(self, now: datetime) -> BackupReport:
        store, report = self.store, self.report
        if self.choice.newest is not None:  # of all folders together
            ids = frozenset(envelope.id for envelope in self.choice.select(self.source))
            self.choice = replace(self.choice, ids=ids, newest=None)
        self.unmet = set(self.choice.ids or ())
        name = report.run = store.free_run(bag.run_name(now.astimezone(UTC)))
        waiting = store.staged / "run.jsonl"
        folders = self.choice.folders_of(self.source)
        try:
            with create_private(waiting) as self.list:
                self.list.write(runlists.head_line(name, self.source.location))
                for folder in folders:
                    if self.stopped():
                        report.interrupted = True
                        break
                    self._folder(folder)
                self._close_volume()
                report.bytes += self.list.tell()
                self.source.settle()
                report.unreadable += [(t.where, t.reason) for t in self.source.troubles]
                report.unknown_ids = sorted(self.unmet) if not report.interrupted else []
                end = {
                    "end": "stopped" if report.interrupted else "whole",
                    "added": report.written,
                    "known": report.already_there,
                    "gone": report.gone,
                    "changed": report.changed,
                    "failed": report.failed,
                    "bytes": report.bytes,
                }
                self.list.write(runlists.line(end))
                self.list.flush()
                os.fsync(self.list.fileno())
        except SourceError:
            self._keep_what_is_there(waiting)
            raise
        finally:
            if self.workers is not None:
                self.workers.shutdown(wait=False, cancel_futures=True)
        self._commit(name, waiting)
        return report

    def _commit(self, name: str, waiting: Path) -> None:
        run = runlists.read(waiting)
        if run.is_quiet:
            store = self.store
            store.quiet.append(run)
        else:
            self.store.untouched = False
            self.catalogue.take_run(run)
        listed = self.store.ready(waiting, bag.run_path(name))
        self.report.volumes = len(self.new)
        self.store.commit([*self.new, listed], without=self._stored_again())
        self.report.messages = self.catalogue.counts()[0]

    def _stored_again(self) -> tuple[str, ...]:
        """Of the volumes that were lost, those whose messages are all stored again: they are needed no more."""
        replaced = []
        for path in self.store.lost:
            missing = self.catalogue.still_lost(bag.volume_number(path))
            if missing:
                reason = (
                    f"it is missing or damaged, and {missing:,} of its messages are not in this source any more. "
                    "`wexagraph verify` with --repair and another copy of the backup mends it"
                )
                self.report.unreadable.append((f"{self.report.into}/{path}", reason))
            else:
                replaced.append(path)
        if self.store.lost:
            count = len(self.store.lost)
            self.store.tell(
                f"{count} volume{'s' * (count != 1)} missing or damaged; what the source has of them was stored again"
            )
        return (*replaced, *self.store.lost_quiet)

    def _keep_what_is_there(self, waiting: Path) -> None:
        """The source has gone: what was stored so far waits below `.wexagraph`, and the next run takes it in."""
        if self.volume is not None:
            self.volume.flush()
            self.volume.abandon()

    # a folder

    def _folder(self, folder: str) -> None:
        source, catalogue, choice = self.source, self.catalogue, self.choice
        whole = not choice.narrows
        stamp = source.folder_stamp(folder)
        state = catalogue.folder_state(source.location, folder)
        self.folder = catalogue.folder(source.location, folder)
        change = FolderChange(folder, stamp if whole else "", state[1] if state else "")
        unchanged = whole and state is not None and stamp and state[0] == stamp
        if unchanged and self.seen is None and not catalogue.relies_on_lost(self.folder or 0):
            self.list.write(runlists.folder_line(change))
            count = catalogue.count_held(self.folder or 0)
            self.report.chosen += count
            self.report.already_there += count
            self.progress(self.report.chosen, self.report.written)
            return
        at = self.list.tell()
        self.list.write(runlists.folder_line(change))
        catalogue.start_seeing()
        self.moved.clear()
        failed = self.report.failed
        envelopes = source.outline(folder) if whole else choice.of_share(source, folder)
        try:
            if whole and self.folder is None and self._is_worth_shares(folder):
                self._take_shares(folder)
            else:
                self._take(self._strange(envelopes))
        except FolderError as error:
            source.troubles.append(Trouble(folder, error.reason))
            self._restamp(at, change, self.list.tell())
            return
        if whole and not self.report.interrupted and self.folder is not None:
            for place, digest in catalogue.unseen(self.folder):
                self.report.gone += digest not in self.moved  # it may lie at another place of the folder now
                self.list.write(runlists.line({"gone": place}))
        if self.report.interrupted or self.report.failed > failed:
            # not all of it is known: the next run has to look again, whatever the stamp says
            end = self.list.tell()
            self._restamp(at, change, end)

    def _restamp(self, at: int, change: FolderChange, end: int) -> None:
        """Write the folder's line anew without its stamp; blanks keep its length."""
        self.list.flush()
        before = len(runlists.folder_line(change))
        change.stamp = ""
        line = runlists.folder_line(change)
        os.pwrite(self.list.fileno(), line[:-1] + b" " * (before - len(line)) + b"\n", at)

    def _strange(self, envelopes: Iterable[Envelope]) -> Iterator[Envelope]:
        """The messages of the folder that are not known; what is known is noted."""
        for envelope in envelopes:
            if self.stopped():
                self.report.interrupted = True
                return
            self.report.chosen += 1
            if self.unmet:
                self.unmet.discard(envelope.id)
            known = None
            if self.folder is not None:  # else nothing of it was ever held
                self.catalogue.see(envelope.place)
                known = self.catalogue.held_at(self.folder, envelope.place)
            if known is None or known.stamp != envelope.fingerprint():
                yield envelope
                continue
            self.report.already_there += 1
            flags = tuple(sorted(envelope.flags))
            if flags != known.flags:
                self.report.changed += 1
                self._write(envelope, known.digest, known.size)
            elif self.seen is not None:
                self.seen(envelope.folder, envelope.place, envelope.fingerprint(), known.digest)
            self.progress(self.report.chosen, self.report.written)

    def _write(self, envelope: Envelope, digest: str, size: int, member: str = "") -> None:
        holding = Holding(
            envelope.folder,
            envelope.place,
            envelope.fingerprint(),
            digest,
            size,
            tuple(sorted(envelope.flags)),
            moment_text(envelope.arrival),
        )
        self.list.write(runlists.line(holding.line(member)))
        if self.folder is not None:
            self.moved.add(digest)
        if self.seen is not None:
            self.seen(envelope.folder, envelope.place, holding.stamp, digest)

    # reading and packing

    def _take(self, envelopes: Iterator[Envelope]) -> None:
        """Read, pack and store messages, in their order, several batches at a time."""
        running: deque[_Batch] = deque()
        for batch in self._batches(envelopes):
            running.append(batch)
            while len(running) > 2 * self.jobs + 1:
                self._put(running.popleft())
        while running:
            self._put(running.popleft())

    def _is_worth_shares(self, folder: str) -> bool:
        return self.shares and self.jobs > 1 and self.source.size(folder) > self.jobs * _SHARE

    def _take_shares(self, folder: str) -> None:
        """Store a folder that no run has seen before: workers look into it and read it, a share each."""
        count = self.source.size(folder) // _SHARE + 1
        running: deque[tuple[Partition, Future[list[tuple[Envelope, Packed | Unread]]]]] = deque()

        def finish() -> None:
            share, future = running.popleft()
            try:
                packed = future.result()
            except (WorkerLost, MemoryError):
                # one message broke the worker: which one, only going through them one by one will tell
                self._take(self._strange(self.source.outline(folder, share)))
                return
            self.report.chosen += len(packed)
            self._store_all(packed)

        for number in range(count):
            share = (number, count)
            running.append((share, self._pool().submit_lasting(pack_share, self.source.address, folder, share)))
            if len(running) > 2 * self.jobs:
                finish()
            if self.stopped():
                self.report.interrupted = True
                break
        while running:
            finish()

    def _batches(self, envelopes: Iterator[Envelope]) -> Iterator[_Batch]:
        if self.shares:
            for batch in bounded(envelopes, _BATCH_MESSAGES, _BATCH_BYTES):
                rows = [(e, (e.folder, e.place, e.stamp, e.size, e.arrival)) for e in batch]
                yield Batch(lambda items: self._submit(items, pack_from, self.source.address), rows)
            return
        read = self.source.read_many(envelopes)
        while pieces := _bounded_read(read):
            for envelope, data in pieces:
                if isinstance(data, MessageError):
                    self._fail(envelope, str(data))
            good = [(e, (data, e.arrival)) for e, data in pieces if not isinstance(data, MessageError)]
            if good:
                yield Batch(lambda items: self._submit(items, pack_all), good)

    def _submit(
        self, items: list[tuple[Envelope, Any]], function: Callable[..., list[Packed | Unread]], *fixed: Any
    ) -> Future[list[Packed | Unread]]:
        inputs = [what for _, what in items]
        if self.workers is not None or (len(items) >= _WORTH_WORKERS and self.jobs > 1) or self.cluster:
            return self._pool().submit_lasting(function, *fixed, inputs)
        future: Future[list[Packed | Unread]] = Future()  # a few messages are not worth starting a process for
        lend(self.source)
        try:
            future.set_result(function(*fixed, inputs))
        except MemoryError as error:
            future.set_exception(error)
        return future

    def _pool(self) -> Workers:
        if self.workers is None:
            self.workers = open_workers(self.jobs, 600, self.cluster)
        return self.workers

    def _put(self, batch: _Batch) -> None:
        packed = batch.results(lambda _, reason: Unread(reason))
        self._store_all((envelope, one) for (envelope, _), one in zip(batch.items, packed, strict=True))

    def _store_all(self, packed: Iterable[tuple[Envelope, Packed | Unread]]) -> None:
        for envelope, one in packed:
            if isinstance(one, Unread):
                self._fail(envelope, one.reason)
                continue
            member = ""
            if self.catalogue.has(one.digest):
                self.report.already_there += 1
                self.report.changed += 1
            else:
                member = self._store(envelope.folder, one)
                self.report.written += 1
            self._write(envelope, one.digest.hex(), one.size, member)
        self.progress(self.report.chosen, self.report.written)

    def _fail(self, envelope: Envelope, reason: str) -> None:
        self.report.fail(Failure(envelope.id, envelope.folder, envelope.header.subject, reason))

    # volumes

    def _store(self, folder: str, packed: Packed) -> str:
        """Put a message into a volume. Returns its name there."""
        self.store.untouched = False
        if self.volume is not None and not self.volume.takes(packed, self.limit):
            self._close_volume()
        if self.volume is None:
            self.volume = VolumeWriter(self.store.staged / f"volume-{self.number:06d}.zip")
        place = folder_path(folder)
        own = f"{packed.stem} {packed.digest.hex()[:12]}.eml"
        name = f"{place}/{own}" if place else own
        member = self.volume.add(name, packed)
        self.catalogue.add_message(packed, self.number, member)
        self.unflushed += len(packed.content)
        if self.unflushed > _FLUSH_BYTES:
            # a run that is killed later loses no more than this
            self.volume.flush()
            self.list.flush()
            os.fsync(self.list.fileno())
            self.unflushed = 0
        return f"{bag.volume_path(self.number)}:{name}"

    def _close_volume(self) -> None:
        if self.volume is None:
            return
        digest = self.volume.close()
        made = self.store.ready(self.volume.path, bag.volume_path(self.number), digest)
        self.report.bytes += made.size
        self.new.append(made)
        self.volume = None
        self.number += 1


def _bounded_read(
    read: Iterator[tuple[Envelope, bytes | MessageError]],
) -> list[tuple[Envelope, bytes | MessageError]]:
    batch, held = [], 0
    for envelope, data in islice(read, _BATCH_MESSAGES):
        batch.append((envelope, data))
        held += len(data) if isinstance(data, bytes) else 0
        if held > _BATCH_BYTES:
            break
    return batch
