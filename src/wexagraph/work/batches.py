"""Workers, of which a call may lose one; calls under way ahead of their results; calls of many items."""

from __future__ import annotations

from abc import abstractmethod
from collections import deque
from collections.abc import Callable, Iterable, Iterator
from concurrent.futures import Executor, Future, wait
from typing import Any, Generic, TypeVar

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


class WorkerLost(Exception):
    """A worker was killed by its job, or because its job took too long (`timed_out`)."""

    def __init__(self, timed_out: bool) -> None:
        super().__init__("it took too long" if timed_out else "it killed the worker")
        self.timed_out = timed_out

    def __reduce__(self) -> tuple[type[WorkerLost], tuple[bool]]:
        return WorkerLost, (self.timed_out,)


class Workers(Executor):
    """An executor (PEP 3148) of calls that may be lost: `submit` has a limit of time, `submit_lasting` has none."""

    sees_disk = True
    """Whether a call finds the files of this process under their paths."""

    @abstractmethod
    def submit_lasting(self, function: Callable[..., T], /, *arguments: Any) -> Future[T]:
        """As `submit`, for work over many messages that no engine takes part in: it may last."""


class Borrowed(Workers):
    """An executor of somebody else as workers; it is theirs to shut down."""

    sees_disk = False

    def __init__(self, executor: Executor) -> None:
        self._executor = executor

    def submit(self, function: Callable[..., T], /, *arguments: Any, **named: Any) -> Future[T]:
        return self._executor.submit(function, *arguments, **named)

    def submit_lasting(self, function: Callable[..., T], /, *arguments: Any) -> Future[T]:
        return self._executor.submit(function, *arguments)

    def shutdown(self, wait: bool = True, *, cancel_futures: bool = False) -> None:
        """Leave it as it is."""
