"""A mailbox of 50,000 messages and 780 MB: listing it, and exporting it as EML."""

from __future__ import annotations

from functools import partial
from pathlib import Path

from benchmarks.inputs import DATA, mailbox
from benchmarks.measure import PROGRAM, fresh, paired, ratio, run, seconds, table

COUNT, MEAN = 50_000, 11_300


def main() -> None:
    path = mailbox(COUNT, MEAN)
    path.read_bytes()  # in memory for all alike
    rows = [_listing(path), _export(path), _one_name(path)]
    table("A mailbox of 50,000 messages", ["what", "Wexagraph", "beside it", "ratio", "wanted"], rows)


def _listing(path: Path) -> list[str]:
    ours, theirs = paired(
        5, lambda: run(PROGRAM, "list", str(path), "--csv"), lambda: run("grep", "-c", "^From ", str(path))
    )
    return [
        "`list --csv`",
        f"{min(ours):.2f} s",
        f"`grep -c '^From '` {min(theirs):.2f} s",
        f"{ratio(ours, theirs):.1f}",
        "at most 10",
    ]


def _export(path: Path) -> list[str]:
    ours: list[float] = []
    theirs: list[float] = []
    made = []
    for turn in range(
        3
    ):  # nothing is removed in between: a disk that is busy forgetting is slow for whoever comes next
        out, copy = fresh(DATA / f"eml-{turn}"), fresh(DATA / f"copy-{turn}")
        ours.append(seconds(partial(run, PROGRAM, "export", str(path), "--into", str(out), "--as", "eml")))
        run("sync")
        theirs.append(seconds(partial(run, "sh", "-c", f"cp -r '{out}' '{copy}' && sync")))
        made += [out, copy]
    for folder in made:
        fresh(folder)
    return [
        "export `--as eml`",
        f"{min(ours):.1f} s",
        f"`cp -r` of the result, `sync` {min(theirs):.1f} s",
        f"{ratio(theirs, ours):.2f} of its rate",
        "at least 0.4",
    ]


def _one_name(path: Path) -> list[str]:
    """The plan of an export in which every message would like the same name, beside one of names that differ."""
    names = [
        partial(run, PROGRAM, "export", str(path), "--into", str(DATA / "none"), "--dry-run", "--quiet", "--name", n)
        for n in ("{folder}", "{id}")
    ]
    same, own = paired(3, *names)
    return [
        "plan, 50,000 messages of one name",
        f"{min(same):.1f} s",
        f"each with a name of its own {min(own):.1f} s",
        f"{ratio(same, own):.1f}",
        "at most 5",
    ]
