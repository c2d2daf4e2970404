"""What a PDF as a record costs: archival beside ordinary, and 1,000 messages bound beside one by one."""

from __future__ import annotations

import os

from benchmarks.inputs import DATA, messages
from benchmarks.measure import PROGRAM, fresh, paired, ratio, run, table
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
        rows.append([f"{kind} messages as PDF/A", f"{one:.0f} ms", f"as PDF {other:.0f} ms", f"{one - other:.0f} ms more",
                     "at most 60 ms more"])  # fmt: skip
    rows += _binding()
    table("The PDF as a record", ["what", "Wexagraph", "beside it", "found", "wanted"], rows)


def _binding() -> list[list[str]]:
    """Half text, half HTML, from an mbox: by one worker, and by all."""
    path = DATA / "bound.mbox"
    DATA.mkdir(exist_ok=True)
    half = COUNT // 2
    with open(path, "wb") as box:
        for text, rich in zip(messages("text", half), messages("html", half), strict=True):
            for data in (text, rich):
                box.write(b"From bench@saltmere.example Thu Jan  1 00:00:00 2026\n" + data + b"\n")
    rows, outs = [], []
    for jobs in sorted({1, os.cpu_count() or 1}):

        def made(*more: str, jobs: int = jobs) -> None:
            outs.append(fresh(DATA / f"record-{len(outs)}"))
            run(PROGRAM, "export", str(path), "--into", str(outs[-1]), "--jobs", str(jobs), *more)

        bound, single = paired(3, lambda: made("--bind", "all"), made)
        rows.append([f"{COUNT:,} messages in one PDF, {jobs} at work", f"{min(bound):.1f} s",
                     f"one by one {min(single):.1f} s", f"{ratio(bound, single) - 1:.0%} more",
                     "at most 25 % more"])  # fmt: skip
    sizes = [sum(file.stat().st_size for file in out.rglob("*.pdf")) for out in outs]
    for out in outs:
        fresh(out)
    rows.append(["its size", f"{min(sizes) / 1e6:.1f} MB", f"one by one {max(sizes) / 1e6:.1f} MB",
                 f"{min(sizes) / max(sizes):.2f}", "at most 1"])  # fmt: skip
    return rows


if __name__ == "__main__":
    main()
