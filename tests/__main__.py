"""Runs all tests, those named, or the quick ones: `python -m tests [test_naming ... | --quick]`.

The last line counts them.
"""

from __future__ import annotations

import os
import shutil
import subprocess
import sys
import tempfile
import time
import unittest
from collections.abc import Iterator
from concurrent.futures import ThreadPoolExecutor
from contextlib import contextmanager, suppress
from pathlib import Path

HERE = Path(__file__).parent
_ROOM = 4 * 1024**3
_LONG = (
    "test_house",
    "test_killed",
    "test_accounts",
    "test_attack_reading",
    "test_resume",
    "test_mutations",
    "test_backup_harm",
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


def run_module(name: str) -> int:
    """Run one module in this process, print its counts for the parent, return the number of failures."""
    suite = unittest.defaultTestLoader.loadTestsFromName(f"tests.{name}")
    result = unittest.TextTestRunner(resultclass=_Quiet, verbosity=1).run(suite)
    failed = len(result.failures) + len(result.errors) + len(result.unexpectedSuccesses)
    passed = result.testsRun - failed - len(result.skipped)
    print(f"COUNT {passed} {failed} {len(result.skipped)}")
    return failed


def in_a_process(name: str) -> tuple[str, str, list[int], float]:
    """Run one module in a process of its own, so that a crash of it is a failure and not the end."""
    started = time.monotonic()
    done = subprocess.run(
        [sys.executable, "-m", "tests", "--module", name], cwd=HERE.parent, capture_output=True, text=True, check=False
    )
    lines = [line for line in done.stdout.splitlines() if line.startswith("COUNT ")]
    counts = [int(word) for word in lines[-1].split()[1:]] if lines else [0, 1, 0]
    return (
        name,
        done.stderr + "".join(f"{li}\n" for li in done.stdout.splitlines() if li not in lines),
        counts,
        time.monotonic() - started,
    )


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
    if sys.argv[1:2] == ["--module"]:
        run_module(sys.argv[2])
        return 0
    # those that take long first, so that no core waits for one at the end
    modules = sorted(HERE.glob("test_*.py"), key=lambda p: (p.stem not in _LONG, -p.stat().st_size))
    names = list(_QUICK) if sys.argv[1:] == ["--quick"] else sys.argv[1:] or [path.stem for path in modules]
    totals = [0, 0, 0]
    with in_memory(), ThreadPoolExecutor((os.cpu_count() or 1) + 1) as pool:
        for name, output, counts, seconds in pool.map(in_a_process, names):
            counted = f"{counts[0]} passed, {counts[1]} failed, {counts[2]} skipped"
            print(f"--- {name}: {counted}; {seconds:.0f} s", flush=True)
            if counts[1] or counts[2]:
                print(output)
            totals = [total + count for total, count in zip(totals, counts, strict=True)]
    print(f"{totals[0]} passed, {totals[1]} failed, {totals[2]} skipped")
    return 1 if totals[1] or not totals[0] else 0


if __name__ == "__main__":
    sys.exit(main())
