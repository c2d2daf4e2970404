"""Workers of a Dask cluster, through the executor that its client gives.

Bytes go there and come back: no disk is shared. On each of its machines a call runs in a process of ours, so that it
can be killed when it takes too long or too much.
"""

from __future__ import annotations

import re
import socket
import threading
from collections.abc import Callable
from concurrent.futures import CancelledError, Future
from typing import Any, TypeVar

import wexagraph
from wexagraph.errors import CallError, TargetError
from wexagraph.work.batches import Borrowed, WorkerLost
from wexagraph.work.pool import LASTING, ProcessWorkers

T = TypeVar("T")
_ADDRESS = re.compile(r"(?:tcp|tls)://([\w.-]+|\[[0-9a-fA-F:]+\]):(\d{1,5})")
_RETRIES = 2
_SECONDS_TO_CONNECT = 15


class ClusterWorkers(Borrowed):
    """The workers behind a scheduler, such as tcp://scheduler:8786. `timeout` is the limit of a call in seconds.

    Raises CallError where the address is none, the extra is not installed, or a worker has another version of this
    program; TargetError where the scheduler can't be reached.
    """

    def __init__(self, address: str, timeout: float) -> None:
        try:
            from distributed import Client
        except ImportError as error:
            raise CallError("--cluster needs the extra: pip install 'wexagraph[cluster]'.") from error
        _look_for_scheduler(address)  # a client that never connects ends with words of its own
        try:
            self._client = Client(address, timeout=_SECONDS_TO_CONNECT, set_as_default=False)
        except (OSError, ValueError) as error:
            raise _silent(address, error) from error
        self._timeout = timeout
        try:
            self._check_versions(address)
        except BaseException:
            self._client.close()
            raise
        super().__init__(self._client.get_executor(pure=False, retries=_RETRIES))

    def _check_versions(self, address: str) -> None:
        try:
            versions = self._client.run(version)
        except Exception as error:  # whatever a worker without this program raises on the way
            raise CallError(
                f"a worker at {address} can't run this program ({type(error).__name__}: {error}). Install Wexagraph "
                f"{wexagraph.__version__} there."
            ) from error
        if not versions:
            raise TargetError(f"the cluster at {address} has no workers. Start some, and run the same command again.")
        for worker, other in versions.items():
            if other != wexagraph.__version__:
                raise CallError(
                    f"the worker {worker} has Wexagraph {other}, and this is {wexagraph.__version__}. Install the same "
                    "version on all machines."
                )

    def submit(self, function: Callable[..., T], /, *arguments: Any, **named: Any) -> Future[T]:
        if named:
            raise TypeError("a job takes positional arguments only")
        return self._in_our_words(self._executor.submit(run_there, function, arguments, self._timeout))

    def submit_lasting(self, function: Callable[..., T], /, *arguments: Any) -> Future[T]:
        return self._in_our_words(self._executor.submit(run_there, function, arguments, LASTING))

    def _in_our_words(self, future: Future[T]) -> Future[T]:
        """The future, with the errors of a cluster in our words: a task that lost its workers too often is lost."""
        from distributed.scheduler import KilledWorker

        result: Future[T] = Future()
        result.set_running_or_notify_cancel()

        def tell(done: Future[T]) -> None:
            try:
                result.set_result(done.result())
            except (KilledWorker, CancelledError):
                result.set_exception(WorkerLost(False))
            except Exception as error:
                result.set_exception(error)

        future.add_done_callback(tell)
        return result

    def shutdown(self, wait: bool = True, *, cancel_futures: bool = False) -> None:
        """Leave the cluster; what is under way there comes to nothing."""
        self._executor.shutdown(wait=wait and not cancel_futures)
        self._client.close()


def _look_for_scheduler(address: str) -> None:
    match = _ADDRESS.fullmatch(address)
    if not match:
        raise CallError(f"--cluster takes the address of a scheduler, tcp://host:8786; {address!r} is none.")
    try:
        socket.create_connection((match[1].strip("[]"), int(match[2])), _SECONDS_TO_CONNECT).close()
    except (OSError, OverflowError) as error:
        raise _silent(address, error) from error


def _silent(address: str, error: Exception) -> TargetError:
    return TargetError(
        f"no scheduler answers at {address} ({type(error).__name__}). Is it running, and is the address right?"
    )


def version() -> str:
    """The version of this program; asked of each worker."""
    return wexagraph.__version__


_here: ProcessWorkers | None = None
_lock = threading.Lock()


def run_there(function: Callable[..., T], arguments: tuple[Any, ...], timeout: float) -> T:
    """Run a call in a process of ours on a worker's machine. Raises WorkerLost, and what the call raises."""
    global _here
    with _lock:
        if _here is None:
            from distributed import get_worker

            _here = ProcessWorkers(get_worker().state.nthreads, timeout)
    return _here.submit_within(timeout, function, *arguments).result()
