"""What a PDF as a record costs: archival beside ordinary, and 1,000 messages bound beside one by one."""

from __future__ import annotations

import os
from collections.abc import Iterable
from itertools import chain
from pathlib import Path

from benchmarks.inputs import DATA, messages
from benchmarks.measure import PROGRAM, fresh, paired, ratio, run, table
from benchmarks.memory import peak_of
from wexagraph.pages.make import Job, make
from wexagraph.pages.options import PageOptions

COUNT = 1000
PLAIN, ARCHIVAL = PageOptions(zone="UTC"), PageOptions(zone="UTC", archival=True)


def main() -> None:
    rows = []
    for kind, count in (("text", 40), ("html", 20)):
        data = messages(kind, count)
        make(Job(data[0], ("pdf",), ARCHIVAL))
        with_it, without = paired(
            3,
            lambda: [make(Job(one, ("pdf",), ARCHIVAL)) for one in data],  # noqa: B023
            lambda: [make(Job(one, ("pdf",), PLAIN)) for one in data],  # noqa: B023
        )
        one, other = min(with_it) / count * 1000, min(without) / count * 1000
        rows.append(
            [
                f"{kind} messages as PDF/A",
                f"{one:.0f} ms",
                f"as PDF {other:.0f} ms",
                f"{one - other:.0f} ms more",
                "at most 60 ms more",
            ]
        )
    rows += _binding()
    rows += [_memory(count) for count in (200, 2000)]
    table("The PDF as a record", ["what", "Wexagraph", "beside it", "found", "wanted"], rows)


def _binding() -> list[list[str]]:
    """Half text, half HTML, from an mbox: by one worker, and by all."""
    half = COUNT // 2
    path = mbox_of("bound", chain(*zip(messages("text", half), messages("html", half), strict=True)))
    rows, outs = [], []
    for jobs in sorted({1, os.cpu_count() or 1}):

        def made(*more: str, jobs: int = jobs) -> None:
            outs.append(fresh(DATA / f"record-{len(outs)}"))
            run(PROGRAM, "export", str(path), "--into", str(outs[-1]), "--jobs", str(jobs), *more)

        bound, single = paired(3, lambda: made("--bind", "all"), made)
        rows.append(
            [
                f"{COUNT:,} messages in one PDF, {jobs} at work",
                f"{min(bound):.1f} s",
                f"one by one {min(single):.1f} s",
                f"{ratio(bound, single) - 1:.0%} more",
                "at most 25 % more",
            ]
        )
    sizes = [sum(file.stat().st_size for file in out.rglob("*.pdf")) for out in outs]
    for out in outs:
        fresh(out)
    rows.append(
        [
            "its size",
            f"{min(sizes) / 1e6:.1f} MB",
            f"one by one {max(sizes) / 1e6:.1f} MB",
            f"{min(sizes) / max(sizes):.2f}",
            "at most 1",
        ]
    )
    return rows


def _memory(count: int) -> list[str]:
    path = mbox_of("bound", messages("text", count))
    peak = peak_of(["export", str(path), "--bind", "all", "--into", str(fresh(DATA / "record-memory"))])
    fresh(DATA / "record-memory")
    return [f"{count:,} texts in one PDF, memory of any process", f"{peak / 1024:.0f} MB", "", "", ""]


def mbox_of(name: str, messages: Iterable[bytes]) -> Path:
    DATA.mkdir(exist_ok=True)
    path = DATA / f"{name}.mbox"
    with open(path, "wb") as box:
        for data in messages:
            box.write(b"From bench@saltmere.example Thu Jan  1 00:00:00 2026\n" + data + b"\n")
    return path


if __name__ == "__main__":
    main()
