"""Messages of a source, read and packed: in this process or in workers, handed on in their order."""

from __future__ import annotations

from collections.abc import Callable, Iterator
from concurrent.futures import Future
from itertools import islice
from typing import Any

from wexagraph.backups.packing import Packed, Unread, pack_all, pack_from, pack_share
from wexagraph.errors import MessageError
from wexagraph.sources import lend
from wexagraph.sources.base import Envelope, Partition, Source, bounded
from wexagraph.work.batches import Batch, WorkerLost, Workers, ahead
from wexagraph.work.opening import open_workers

_BATCH_MESSAGES, _BATCH_BYTES = 64, 4 * 1024 * 1024
_SHARE = 4 * 1024 * 1024  # bytes of a folder that a worker takes at once
_WORTH_WORKERS = 40

PackedMessages = list[tuple[Envelope, Packed | Unread]]
_Batch = Batch[tuple[Envelope, Any], Packed | Unread]
"""Messages that are being packed, each with what its packing is told."""


class Reader:
    """Reads and packs messages of a source, by `jobs` workers, several batches at a time."""

    def __init__(self, source: Source, jobs: int, cluster: str) -> None:
        self._source, self._jobs, self._cluster = source, jobs, cluster
        self._shares = source.reopens and not cluster  # whether workers can open the source themselves
        self._workers: Workers | None = None

    def close(self) -> None:
        """Let the workers go; what they have in hand is lost."""
        if self._workers is not None:
            self._workers.shutdown(wait=False, cancel_futures=True)

    def packed(self, envelopes: Iterator[Envelope]) -> Iterator[PackedMessages]:
        """Messages, packed, a batch at a time."""
        yield from map(_results, ahead(self._batches(envelopes), 2 * self._jobs + 1))

    def takes_shares(self, folder: str) -> bool:
        """Whether a folder is worth being looked into by workers, a share each."""
        return self._shares and self._jobs > 1 and self._source.size(folder) > self._jobs * _SHARE

    def packed_shares(
        self, folder: str, stopped: Callable[[], bool]
    ) -> Iterator[tuple[Partition, PackedMessages | None]]:
        """All messages of a folder, packed, a share at a time, until the run is asked to stop; None for a share over
        which a worker was lost: which message broke it, only going through them one by one will tell."""
        count = self._source.size(folder) // _SHARE + 1

        def started() -> Iterator[tuple[Partition, Future[PackedMessages]]]:
            for number in range(count):
                share = (number, count)
                yield share, self._pool().submit_lasting(pack_share, self._source.address, folder, share)
                if stopped():
                    return

        for share, future in ahead(started(), 2 * self._jobs):
            try:
                yield share, future.result()
            except (WorkerLost, MemoryError):
                yield share, None

    def _batches(self, envelopes: Iterator[Envelope]) -> Iterator[_Batch | PackedMessages]:
        if self._shares:
            for batch in bounded(envelopes, _BATCH_MESSAGES, _BATCH_BYTES):
                rows = [(e, (e.folder, e.place, e.stamp, e.size, e.arrival)) for e in batch]
                yield Batch(lambda items: self._submit(items, pack_from, self._source.address), rows)
            return
        read = self._source.read_many(envelopes)
        while pieces := _bounded_read(read):
            unread: PackedMessages = [(e, Unread(str(data))) for e, data in pieces if isinstance(data, MessageError)]
            if unread:
                yield unread
            good = [(e, (data, e.arrival)) for e, data in pieces if not isinstance(data, MessageError)]
            if good:
                yield Batch(lambda items: self._submit(items, pack_all), good)

    def _submit(
        self, items: list[tuple[Envelope, Any]], function: Callable[..., list[Packed | Unread]], *fixed: Any
    ) -> Future[list[Packed | Unread]]:
        inputs = [what for _, what in items]
        if self._workers is not None or (len(items) >= _WORTH_WORKERS and self._jobs > 1) or self._cluster:
            return self._pool().submit_lasting(function, *fixed, inputs)
        future: Future[list[Packed | Unread]] = Future()  # a few messages are not worth starting a process for
        lend(self._source)
        try:
            future.set_result(function(*fixed, inputs))
        except MemoryError as error:
            future.set_exception(error)
        return future

    def _pool(self) -> Workers:
        if self._workers is None:
            self._workers = open_workers(self._jobs, 600, self._cluster)
        return self._workers


def _results(batch: _Batch | PackedMessages) -> PackedMessages:
    if isinstance(batch, list):
        return batch
    results = batch.results(lambda _, reason: Unread(reason))
    return [(envelope, one) for (envelope, _), one in zip(batch.items, results, strict=True)]


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
