"""Calls under way ahead of their results, and calls of many items, of which one may break its worker."""

from __future__ import annotations

from collections import deque
from collections.abc import Callable, Iterable, Iterator
from concurrent.futures import Future, wait
from typing import Generic, TypeVar

from wexagraph.work.workers import WorkerLost

T = TypeVar("T")
R = TypeVar("R")


def ahead(started: Iterable[T], most: int) -> Iterator[T]:
    """Hand on what an iterable starts, in order, each when `most` others are under way behind it or none is left."""
    running: deque[T] = deque()
    for one in started:
        running.append(one)
        if len(running) > most:
            yield running.popleft()
    while running:
        yield running.popleft()


class Batch(Generic[T, R]):
    """Items that a worker takes together, under way from the start; `submit` hands a list of them to a worker."""

    def __init__(self, submit: Callable[[list[T]], Future[list[R]]], items: list[T]) -> None:
        self._submit, self.items = submit, items
        self._future = submit(items)

    def wait(self, seconds: float) -> bool:
        """Whether the results are there, after at most so long."""
        return bool(wait([self._future], seconds).done)

    def results(self, broken: Callable[[T, str], R]) -> list[R]:
        """A result for each item, once all are there; one that breaks its worker has what `broken` makes of the reason.

        Raises what the job raises.
        """
        try:
            return self._future.result()
        except (WorkerLost, MemoryError) as error:
            if len(self.items) == 1:
                return [broken(self.items[0], str(error) or "it takes more memory than a worker may hold")]
            # one of them did it: the others must not fail with it
            return [one for item in self.items for one in Batch(self._submit, [item]).results(broken)]
