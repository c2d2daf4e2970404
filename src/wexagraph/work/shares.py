"""A large source read by several processes, a share of a folder each; what they make of it comes in order."""

from __future__ import annotations

import os
from collections import deque
from collections.abc import Callable, Iterator
from concurrent.futures import Future
from itertools import islice
from typing import Any, TypeVar

from wexagraph.selection.choice import Choice
from wexagraph.sources.base import Source
from wexagraph.work.pool import ProcessWorkers

T = TypeVar("T")
_LARGE = 48 * 1024 * 1024  # bytes of a source that are worth starting processes for
_SHARE = 16 * 1024 * 1024


def is_worth_shares(source: Source, choice: Choice) -> bool:
    """Whether processes of their own would read the chosen messages sooner."""
    if (os.cpu_count() or 1) == 1 or not source.reopens or choice.newest is not None or choice.sort:
        return False
    return sum(map(source.size, choice.folders_of(source))) >= _LARGE


def in_shares(source: Source, choice: Choice, function: Callable[..., T], *more: Any) -> Iterator[T]:
    """Call `function(address, choice, folder, share, *more)` for each share, in workers, which begin at once.

    The function opens the source again. The results come in the order of the shares.
    """
    cores = os.cpu_count() or 1
    shares = (
        (source.address, choice, folder, (number, count))
        for folder in choice.folders_of(source)
        for count in [source.size(folder) // _SHARE + 1]
        for number in range(count)
    )
    pool = ProcessWorkers(cores, timeout=0)
    running = deque(pool.submit_lasting(function, *share, *more) for share in islice(shares, 2 * cores))
    return _results(pool, running, shares, lambda share: pool.submit_lasting(function, *share, *more))


def _results(
    pool: ProcessWorkers, running: deque[Future[T]], shares: Iterator[Any], submit: Callable[[Any], Future[T]]
) -> Iterator[T]:
    with pool:
        while running:
            result = running.popleft().result()
            running.extend(submit(share) for share in islice(shares, 1))
            yield result
