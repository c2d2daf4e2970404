"""Worker processes that can be killed: an Executor whose jobs have a limit of time."""

from __future__ import annotations

import contextlib
import os
import queue
import subprocess
import sys
import threading
import time
from collections.abc import Callable
from concurrent.futures import Executor, Future
from typing import Any, Generic, TypeVar, cast

from wexagraph.work.worker import receive, send

T = TypeVar("T")
R = TypeVar("R")
_LASTING = 24 * 3600.0
_JOBS_PER_WORKER = 1000
"""After so many jobs a worker is replaced, so that nothing an engine keeps can pile up."""


class WorkerLost(Exception):
    """A worker was killed by its job, or because its job took too long (`patience_over`)."""

    def __init__(self, patience_over: bool) -> None:
        super().__init__("it took too long" if patience_over else "it killed the worker")
        self.patience_over = patience_over


class Workers(Executor):
    """`count` processes; a job that takes more than `patience` seconds loses its worker and fails with WorkerLost."""

    def __init__(self, count: int, patience: float) -> None:
        self._patience = patience
        self._jobs: queue.SimpleQueue[tuple[Future[Any], Callable[..., Any], tuple[Any, ...], float] | None] = (
            queue.SimpleQueue()
        )
        self._workers = [_Worker() for _ in range(count)]
        self._threads = [threading.Thread(target=self._serve, args=(w,), daemon=True) for w in self._workers]
        self._closed = threading.Event()
        for thread in self._threads:
            thread.start()
        threading.Thread(target=self._watch, daemon=True).start()

    def submit(self, function: Callable[..., T], /, *arguments: Any, **named: Any) -> Future[T]:
        """Run `function(*arguments)` in a worker; both have to be picklable."""
        if named:
            raise TypeError("a job takes positional arguments only")
        return self._put(function, arguments, self._patience)

    def submit_lasting(self, function: Callable[..., T], /, *arguments: Any) -> Future[T]:
        """As `submit`, for work over many messages that no engine takes part in: it may last."""
        return self._put(function, arguments, _LASTING)

    def _put(self, function: Callable[..., T], arguments: tuple[Any, ...], patience: float) -> Future[T]:
        future: Future[T] = Future()
        self._jobs.put((future, function, arguments, patience))
        return future

    def shutdown(self, wait: bool = True, *, cancel_futures: bool = False) -> None:
        """End the workers: after the jobs under way, or with `wait` false at once."""
        self._closed.set()
        if cancel_futures:
            with contextlib.suppress(queue.Empty):
                while (job := self._jobs.get_nowait()) is not None:
                    job[0].cancel()
        for _ in self._threads:
            self._jobs.put(None)
        if wait:
            for thread in self._threads:
                thread.join()
        for worker in self._workers:
            worker.kill()

    def _serve(self, worker: _Worker) -> None:
        while (job := self._jobs.get()) is not None:
            future, function, arguments, patience = job
            if not future.set_running_or_notify_cancel():
                continue
            try:
                fine, value = worker.call(function, arguments, patience)
            except Exception as error:
                future.set_exception(error)
                continue
            if fine:
                future.set_result(value)
            else:
                future.set_exception(value)
        worker.end()

    def _watch(self) -> None:
        while not self._closed.wait(0.2):
            now = time.monotonic()
            for worker in self._workers:
                worker.check(now)


class Batch(Generic[T, R]):
    """Items that a worker takes together, under way from the start; `submit` hands a list of them to a worker."""

    def __init__(self, submit: Callable[[list[T]], Future[list[R]]], items: list[T]) -> None:
        self._submit, self.items = submit, items
        self._future = submit(items)

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


class _Worker:
    def __init__(self) -> None:
        self._deadline: float | None = None
        self._lock = threading.Lock()  # between the thread that serves and the one that watches
        self._process: subprocess.Popen[bytes] | None = None
        self._served = 0
        self._late = False

    def call(self, function: Callable[..., Any], arguments: tuple[Any, ...], patience: float) -> tuple[bool, Any]:
        if self._process is None or self._served >= _JOBS_PER_WORKER:
            self.end()
            self._start()
        process = self._process
        assert process is not None and process.stdin is not None and process.stdout is not None
        self._served += 1
        self._late = False
        with self._lock:
            self._deadline = time.monotonic() + patience
        try:
            send(process.stdin, (function, arguments, patience))
            return cast(tuple[bool, Any], receive(process.stdout))
        except (EOFError, OSError):
            self.kill()
            raise WorkerLost(self._late) from None
        finally:
            with self._lock:
                self._deadline = None

    def _start(self) -> None:
        self._served = 0
        self._process = subprocess.Popen(
            [sys.executable, "-m", "wexagraph.work.worker"],
            stdin=subprocess.PIPE,
            stdout=subprocess.PIPE,
            stderr=subprocess.DEVNULL,
            start_new_session=os.name == "posix",
        )

    def check(self, now: float) -> None:
        """Kill the process if the job it is at has taken too long."""
        with self._lock:
            if self._deadline is not None and now > self._deadline and self._process is not None:
                self._late = True
                self._deadline = None
                self._process.kill()

    def kill(self) -> None:
        process, self._process = self._process, None
        if process is not None:
            process.kill()
            self._reap(process)

    def end(self) -> None:
        process, self._process = self._process, None
        if process is not None:
            self._reap(process)

    @staticmethod
    def _reap(process: subprocess.Popen[bytes]) -> None:
        for stream in (process.stdin, process.stdout):
            if stream is not None:
                with contextlib.suppress(OSError):
                    stream.close()
        try:
            process.wait(5)
        except subprocess.TimeoutExpired:
            process.kill()
            process.wait()
