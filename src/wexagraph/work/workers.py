"""What all workers have in common."""

from __future__ import annotations

from abc import abstractmethod
from collections.abc import Callable
from concurrent.futures import Executor, Future
from typing import Any, TypeVar

T = TypeVar("T")


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
