"""Timing, pairing and printing, the same for all benchmarks."""

from __future__ import annotations

import os
import platform
import shutil
import statistics
import subprocess
import sys
import time
from collections.abc import Callable
from datetime import date
from pathlib import Path

os.environ.pop("PYTHONDONTWRITEBYTECODE", None)  # a program that was installed is compiled
PROGRAM = str(Path(sys.executable).parent / "wexagraph")


def seconds(action: Callable[[], object]) -> float:
    start = time.perf_counter()
    action()
    return time.perf_counter() - start


def paired(rounds: int, *actions: Callable[[], object], rest: float = 0.0) -> list[list[float]]:
    """Each action's seconds, round by round and side by side, so that a slow moment of the machine meets all; before
    each a rest of so many seconds, which does not count."""
    rounds_of_each: list[list[float]] = [[] for _ in actions]
    for _ in range(rounds):
        for times, action in zip(rounds_of_each, actions, strict=True):
            time.sleep(rest)
            times.append(seconds(action))
    return rounds_of_each


def ratio(numerators: list[float], denominators: list[float]) -> float:
    """The median of the ratios of the rounds."""
    return statistics.median(n / d for n, d in zip(numerators, denominators, strict=True))


def run(*command: str, **options: object) -> subprocess.CompletedProcess[bytes]:
    return subprocess.run(command, check=True, capture_output=True, **options)  # type: ignore[call-overload,no-any-return]


def fresh(folder: Path) -> Path:
    """An empty folder; what was in it is gone from the disk before the clock starts."""
    shutil.rmtree(folder, ignore_errors=True)
    folder.parent.mkdir(parents=True, exist_ok=True)
    os.sync()
    return folder


def table(title: str, heads: list[str], rows: list[list[str]]) -> None:
    """Print a table in Markdown, with the machine and the day."""
    print(
        f"\n### {title}\n\n{os.cpu_count()} cores, {platform.system()}, Python {platform.python_version()}, {date.today()}\n"
    )
    print(f"| {' | '.join(heads)} |\n|{'---|' * len(heads)}")
    for row in rows:
        print(f"| {' | '.join(row)} |")
