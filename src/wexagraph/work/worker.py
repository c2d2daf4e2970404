"""A worker process: takes pickled calls on standard input, gives pickled results on a pipe of its own.

Run as `python -m wexagraph.work.worker`. It ends when its input ends, so it never outlives its parent for long.
"""

from __future__ import annotations

import gc
import os
import pickle
import signal
import struct
import sys
from collections.abc import Callable
from typing import IO, cast

MOST_MEMORY = 3 * 1024**3
"""Bytes that a worker may hold."""
_LENGTH = struct.Struct(">Q")
Call = tuple[Callable[..., object], tuple[object, ...], float]


def send(stream: IO[bytes], value: object) -> None:
    """Write one pickled value behind its length."""
    data = pickle.dumps(value, protocol=pickle.HIGHEST_PROTOCOL)
    stream.write(_LENGTH.pack(len(data)))
    stream.write(data)
    stream.flush()


def receive(stream: IO[bytes]) -> object:
    """Read one value. Raises EOFError where the other side is gone."""
    head = stream.read(_LENGTH.size)
    if len(head) < _LENGTH.size:
        raise EOFError
    data = bytearray(_LENGTH.unpack(head)[0])
    if stream.readinto(data) < len(data):  # type: ignore[attr-defined]
        raise EOFError
    return pickle.loads(data)


def main() -> None:
    """Answer calls of the form (function, arguments, seconds) until the input ends."""
    signal.signal(signal.SIGINT, signal.SIG_IGN)  # the parent decides when to stop
    calls = sys.stdin.buffer
    answers = os.fdopen(os.dup(1), "wb")
    os.dup2(2, 1)  # whatever an engine prints must not fall between the answers
    prepare()
    _limit_memory()
    while True:
        try:
            function, arguments, seconds = cast(Call, receive(calls))
        except EOFError:
            os._exit(0)  # every answer is sent, and taking down what engines loaded takes time
        if hasattr(signal, "alarm"):
            signal.alarm(int(seconds) + 15)  # should the parent be killed, a hanging engine ends too
        try:
            answer: tuple[bool, object] = (True, function(*arguments))
        except Exception as error:  # handed to the parent, which decides
            answer = (False, _portable(error))
        if hasattr(signal, "alarm"):
            signal.alarm(0)
        try:
            send(answers, answer)
        except BrokenPipeError:
            os._exit(0)


def prepare() -> None:
    """Make this process fit for many messages: some nest deeply, and few of their objects stand in circles."""
    sys.setrecursionlimit(5000)
    gc.set_threshold(50_000, 20, 20)


def _limit_memory() -> None:
    """A message that wants more than this fails alone, before the machine does. Mapped mailboxes do not count."""
    if sys.platform == "linux":
        import resource

        hard = resource.getrlimit(resource.RLIMIT_DATA)[1]
        most = MOST_MEMORY if hard == resource.RLIM_INFINITY else min(MOST_MEMORY, hard)
        resource.setrlimit(resource.RLIMIT_DATA, (most, hard))


def _portable(error: Exception) -> Exception:
    try:
        pickle.loads(pickle.dumps(error))
    except Exception:  # an error of a library may raise anything while it is packed; its words are what counts
        return RuntimeError(f"{type(error).__name__}: {error}")
    return error


if __name__ == "__main__":
    main()
