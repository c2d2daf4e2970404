"""Workers that are processes of this machine and can be killed."""

from __future__ import annotations

import contextlib
import os
import queue
import subprocess
import sys
import threading
import time
from collections.abc import Callable
from concurrent.futures import Future
from typing import Any, TypeVar, cast

from wexagraph.work.batches import WorkerLost, Workers
from wexagraph.work.worker import receive, send

T = TypeVar("T")
LASTING = 24 * 3600.0
"""Seconds that a call without a limit may take."""
_JOBS_PER_WORKER = 1000
"""After so many jobs a worker is replaced, so that nothing an engine keeps can pile up."""


class ProcessWorkers(Workers):
    """`count` processes; a job that takes more than `timeout` seconds loses its worker and fails with WorkerLost."""

    def __init__(self, count: int, timeout: float) -> None:
        self._timeout = timeout
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
        return self.submit_within(self._timeout, function, *arguments)

    def submit_lasting(self, function: Callable[..., T], /, *arguments: Any) -> Future[T]:
        return self.submit_within(LASTING, function, *arguments)

    def submit_within(self, timeout: float, function: Callable[..., T], /, *arguments: Any) -> Future[T]:
        """As `submit`, with a limit of its own in seconds."""
        future: Future[T] = Future()
        self._jobs.put((future, function, arguments, timeout))
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
            future, function, arguments, timeout = job
            if not future.set_running_or_notify_cancel():
                continue
            try:
                fine, value = worker.call(function, arguments, timeout)
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


class _Worker:
    def __init__(self) -> None:
        self._deadline: float | None = None
        self._lock = threading.Lock()  # between the thread that serves and the one that watches
        self._process: subprocess.Popen[bytes] | None = None
        self._served = 0
        self._late = False

    def call(self, function: Callable[..., Any], arguments: tuple[Any, ...], timeout: float) -> tuple[bool, Any]:
        if self._process is None or self._served >= _JOBS_PER_WORKER:
            self.end()
            self._start()
        process = self._process
        assert process is not None and process.stdin is not None and process.stdout is not None
        self._served += 1
        self._late = False
        with self._lock:
            self._deadline = time.monotonic() + timeout
        try:
            send(process.stdin, (function, arguments, timeout))
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
