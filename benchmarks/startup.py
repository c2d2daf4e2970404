"""How long the shortest command takes."""

from __future__ import annotations

import sys

from benchmarks.measure import PROGRAM, paired, table
from benchmarks.measure import run as start


def main() -> None:
    ours, python = paired(10, lambda: start(PROGRAM, "--help"), lambda: start(sys.executable, "-c", "pass"))
    table(
        "Start",
        ["what", "seconds", "beside it", "wanted"],
        [["`wexagraph --help`", f"{min(ours):.2f}", f"`python -c pass` {min(python):.2f}", "at most 0.30"]],
    )
