"""Addresses and a survey of a mailbox, against a listing of it."""

from __future__ import annotations

import tempfile

from benchmarks.inputs import DATA, mailbox
from benchmarks.measure import PROGRAM, paired, ratio, run, table


def main() -> None:
    box = str(mailbox(50_000, 1000))
    rows = []
    with tempfile.TemporaryDirectory(dir=DATA) as folder:

        def listing() -> None:
            run(PROGRAM, "list", box, "--csv", cwd=folder)

        for name in ("addresses", "survey"):
            ours, theirs = paired(3, lambda name=name: run(PROGRAM, name, box, "--csv", cwd=folder), listing)  # type: ignore[misc]
            rows.append([f"`{name}` of 50,000", f"{min(ours):.2f} s", f"`list --csv` {min(theirs):.2f} s"])
            rows[-1] += [f"{ratio(ours, theirs):.2f} times", "at most 1.5"]
    table("Tables", ["what", "Wexagraph", "beside it", "found", "wanted"], rows)


if __name__ == "__main__":
    main()
