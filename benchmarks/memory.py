"""Peak memory of any process, on 50,000 messages and on ten times as many."""

from __future__ import annotations

import os
import resource
import subprocess
import sys
import threading
import time
from pathlib import Path

from benchmarks.inputs import DATA, mailbox
from benchmarks.measure import PROGRAM, fresh, table


def main() -> None:
    rows = []
    for count, mean in ((50_000, 1_500), (500_000, 1_500), (50_000, 11_300)):
        path = mailbox(count, mean)
        for arguments in (
            ["list", str(path), "--csv"],
            ["export", str(path), "--as", "eml", "--into", str(fresh(DATA / "memory"))],
        ):
            peak = peak_of(arguments)
            rows.append(
                [
                    f"`{arguments[0]}`",
                    f"{count:,}",
                    f"{path.stat().st_size / 1e6:.0f} MB",
                    f"{peak / 1024:.0f} MB",
                    "250 MB",
                ]
            )
            fresh(DATA / "memory")
    path = mailbox(500_000, 1_500)
    for suffix, most in (("csv", "250 MB"), ("xlsx", "400 MB")):
        register = DATA / f"memory.{suffix}"
        register.unlink(missing_ok=True)
        peak = peak_of(["register", str(path), "--into", str(register)])
        cells = [f"`register`, {suffix.upper()}", "500,000", f"{path.stat().st_size / 1e6:.0f} MB"]
        rows.append([*cells, f"{peak / 1024:.0f} MB", most])
        register.unlink()
    table("Peak memory of any process", ["command", "messages", "mailbox", "peak", "at most"], rows)


def peak_of(arguments: list[str], environment: dict[str, str] | None = None) -> int:
    """The largest resident set of the program or any of its children, in KB, looked at ten times a second."""
    call, silent = [PROGRAM, *arguments], subprocess.DEVNULL
    process = subprocess.Popen(call, stdout=silent, stderr=silent, env=environment)
    peaks = [0]
    watcher = threading.Thread(target=_watch, args=(process, peaks))
    watcher.start()
    process.wait()
    watcher.join()
    if process.returncode:
        sys.exit(f"{arguments} ended with {process.returncode}")
    return max(peaks[0], resource.getrusage(resource.RUSAGE_CHILDREN).ru_maxrss if not peaks[0] else 0)


def _watch(process: subprocess.Popen[bytes], peaks: list[int]) -> None:
    while process.poll() is None:
        for pid in [process.pid, *_children(process.pid)]:
            peaks[0] = max(peaks[0], _peak(pid))
        time.sleep(0.1)


def _children(pid: int) -> list[int]:
    try:
        return [int(word) for word in Path(f"/proc/{pid}/task/{pid}/children").read_text().split()] + [
            int(word)
            for task in os.listdir(f"/proc/{pid}/task")
            if int(task) != pid
            for word in Path(f"/proc/{pid}/task/{task}/children").read_text().split()
        ]
    except OSError:
        return []


def _peak(pid: int) -> int:
    try:
        for line in Path(f"/proc/{pid}/status").read_text().splitlines():
            if line.startswith("VmHWM:"):
                return int(line.split()[1])
    except OSError:
        pass  # it has ended
    return 0
