"""A limit on the time of one conversion, so that it fails alone and not with its message."""

from __future__ import annotations

import signal
import threading
import time
from collections.abc import Iterator
from contextlib import contextmanager
from types import FrameType


@contextmanager
def time_limit(seconds: float) -> Iterator[None]:
    """Raises TimeoutError, an OSError, in what runs longer. A limit outside of it stays, and the sooner one counts.

    Works in the main thread of a process with POSIX signals, as workers are; elsewhere the worker's own limit has to
    do. A call into a library in C is waited for.
    """
    if not hasattr(signal, "setitimer") or threading.current_thread() is not threading.main_thread():
        yield
        return

    def late(_: int, __: FrameType | None) -> None:
        raise TimeoutError(f"it took more than {seconds:g} seconds")

    started = time.monotonic()
    before = signal.getsignal(signal.SIGALRM)
    outer = signal.getitimer(signal.ITIMER_REAL)[0]
    if 0 < outer <= seconds:
        yield
        return
    signal.signal(signal.SIGALRM, late)
    signal.setitimer(signal.ITIMER_REAL, seconds)
    try:
        yield
    finally:
        signal.setitimer(signal.ITIMER_REAL, 0)
        signal.signal(signal.SIGALRM, before)
        if outer:
            signal.setitimer(signal.ITIMER_REAL, max(0.01, outer - (time.monotonic() - started)))
