"""Runs all tests, those named, or the quick ones: `python -m tests [test_naming ... | --quick]`.

The last line counts them.
"""

from __future__ import annotations

import os
import shutil
import sys
import tempfile
import time
import traceback
import unittest
from collections.abc import Iterator
from contextlib import contextmanager, suppress
from pathlib import Path
from typing import IO, NoReturn

from tests.helpers import FORKING, ZYGOTE
from tests.zygote import load

HERE = Path(__file__).parent
_ROOM = 4 * 1024**3
_LONG = (
    "test_servers",
    "test_attack_reading",
    "test_resume",
    "test_house",
    "test_accounts",
    "test_index_page",
    "test_bound",
    "test_backup_harm",
    "test_order_watch",
    "test_scans",
    "test_case_hands",
    "test_mutations",
    "test_readme",
    "test_places",
)
# what a change breaks first: the house, the contracts, reading, choosing and naming
_QUICK = (
    *("test_house", "test_contract_sources", "test_contract_formats", "test_contract_sinks", "test_contract_reports"),
    *("test_headers", "test_mime", "test_reading", "test_choice", "test_words", "test_naming", "test_plain_data"),
    *("test_target", "test_terminal", "test_looks"),
)


class _Quiet(unittest.TextTestResult):
    """Dots, and a sentence for each skipped test."""

    def addSkip(self, test: unittest.TestCase, reason: str) -> None:
        super().addSkip(test, reason)
        self.stream.writeln(f"\nskipped: {test.id()}: {reason}")


def run_module(name: str, output: IO[bytes]) -> NoReturn:
    """In a process of its own: run one module, write what it prints, and its counts in the last line."""
    try:
        for stream in (1, 2):
            os.dup2(output.fileno(), stream)
        FORKING.begin()
        ZYGOTE.begin()
        suite = unittest.defaultTestLoader.loadTestsFromName(f"tests.{name}")
        result = unittest.TextTestRunner(resultclass=_Quiet, verbosity=1).run(suite)
        failed = len(result.failures) + len(result.errors) + len(result.unexpectedSuccesses)
        print(f"COUNT {result.testsRun - failed - len(result.skipped)} {failed} {len(result.skipped)}", flush=True)
    except BaseException:
        traceback.print_exc()
    finally:
        sys.stderr.flush()
        os._exit(0)


def in_processes(names: list[str], at_once: int) -> Iterator[tuple[str, str, list[int], float]]:
    """Run each module in a process of its own, so that a crash of it is a failure and not the end. They are forked from
    this one, which has one thread and has loaded what all need. Yields name, output, counts and seconds."""
    load()
    waiting, running = names[::-1], {}
    while waiting or running:
        while waiting and len(running) < at_once:
            name, output = waiting.pop(), tempfile.TemporaryFile()  # noqa: SIM115  closed when it is read
            sys.stdout.flush()
            child = os.fork()
            if child == 0:
                run_module(name, output)
            running[child] = (name, output, time.monotonic())
        name, output, started = running.pop(os.wait()[0])
        with output:
            output.seek(0)
            lines = output.read().decode("utf-8", "replace").splitlines()
        counted = [line for line in lines if line.startswith("COUNT ")]
        counts = [int(word) for word in counted[-1].split()[1:]] if counted else [0, 1, 0]
        yield name, "\n".join(line for line in lines if line not in counted), counts, time.monotonic() - started


@contextmanager
def in_memory() -> Iterator[None]:
    """Temporary folders lie in memory, where the machine has room there that keeps tags: every file of a test is brought
    to the disk as an office's are, and waiting for a disk would be half of the time."""
    memory, place = Path("/dev/shm"), None
    with suppress(OSError, AttributeError):
        if "TMPDIR" not in os.environ and shutil.disk_usage(memory).free > _ROOM:
            place = Path(tempfile.mkdtemp(prefix="wexagraph-tests-", dir=memory))
            os.setxattr(place, "user.xdg.tags", b"berth")
            place.chmod(0o755)  # a mail server runs as another user
            os.environ["TMPDIR"] = str(place)
    try:
        yield
    finally:
        if place is not None:
            shutil.rmtree(place, ignore_errors=True)


def main() -> int:
    # those that take long first, so that no core waits for one at the end
    modules = sorted(
        HERE.glob("test_*.py"),
        key=lambda p: (_LONG.index(p.stem) if p.stem in _LONG else len(_LONG), -p.stat().st_size),
    )
    names = list(_QUICK) if sys.argv[1:] == ["--quick"] else sys.argv[1:] or [path.stem for path in modules]
    totals = [0, 0, 0]
    with in_memory():
        for name, output, counts, seconds in in_processes(names, (os.cpu_count() or 1) + 1):
            counted = f"{counts[0]} passed, {counts[1]} failed, {counts[2]} skipped"
            print(f"--- {name}: {counted}; {seconds:.0f} s", flush=True)
            if counts[1] or counts[2]:
                print(output)
            totals = [total + count for total, count in zip(totals, counts, strict=True)]
    print(f"{totals[0]} passed, {totals[1]} failed, {totals[2]} skipped")
    return 1 if totals[1] or not totals[0] else 0


if __name__ == "__main__":
    sys.exit(main())
