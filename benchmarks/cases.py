"""Filing by plan against an export of the same messages; finding words and listing cases against a start of the program."""

from __future__ import annotations

import random
import shutil
import sqlite3
import tempfile
from collections.abc import Iterator
from datetime import UTC, datetime
from pathlib import Path

from benchmarks.inputs import DATA, html_body, letter, sentence, text_body
from benchmarks.measure import PROGRAM, fresh, paired, ratio, run, seconds, table
from wexagraph.app.cases.records import Records
from wexagraph.records.fileplan import Case
from wexagraph.records.finding import Finder

_MESSAGES, _CASES, _INDEXED, _LISTED = 10_000, 1_000, 500_000, 5_000


def main() -> None:
    with tempfile.TemporaryDirectory(dir=DATA) as folder:
        home = Path(folder)
        rows = [*filing(home), *finding(home), *listing(home)]
    table("Cases", ["what", "Wexagraph", "beside it", "found", "wanted"], rows)


def plan(home: Path, count: int) -> Records:
    """Records with so many cases."""
    records = Records(home, lambda: datetime.now(UTC), "bench")
    with records.changing() as cases:
        for number in range(count):
            match = {"subject": [f"berth {number} of"]} if number % 2 else {"from": [f"*@firm{number}.example"]}
            case = cases.add(Case(f"2026-{number:04}", f"Matter {number}", "", records.today, match))
            records.note(cases, case, "opened", title=case.title)
    return records


def filing(home: Path) -> Iterator[list[str]]:
    rng, box = random.Random(7), home / "in.mbox"
    with open(box, "wb") as file:
        for number in range(_MESSAGES):
            body, kind = (html_body(rng, 3000), "html") if number % 3 else (text_body(rng, 1500), "plain")
            data = letter(rng, number, body, kind)
            subject = b"Subject: 2026-%04d " % rng.randrange(_CASES)
            file.write(b"From x@y.example Sat Mar 14 15:03:00 2026\n" + data.replace(b"Subject: ", subject, 1) + b"\n")
    empty = home / "empty"
    plan(empty, _CASES)

    def file_them() -> None:
        shutil.copytree(empty, fresh(home / "rec"))
        run(PROGRAM, "file", str(box), "--by-plan", "--records", str(home / "rec"))

    def export_them() -> None:
        run(PROGRAM, "export", str(box), "--into", str(fresh(home / "out")), "--as", "pdf,eml")

    ours, theirs = paired(1, file_them, export_them)
    yield [
        f"`file --by-plan`, {_MESSAGES:,} messages, {_CASES:,} cases",
        f"{min(ours):.1f} s",
        f"`export` of them {min(theirs):.1f} s",
        f"{ratio(theirs, ours):.2f} of its rate",
        "at least 0.8",
    ]


def finding(home: Path) -> Iterator[list[str]]:
    records, rng = plan(home / "found", 1), random.Random(3)
    case = next(iter(records.plan().cases.values()))
    finder = Finder(records.folder)
    finder.bring_up([(records.place(case), f"{case.reference} {case.title}")])
    finder.close()
    base = sqlite3.connect(records.folder / ".wexagraph/find.sqlite")
    words = [sentence(rng, 60) for _ in range(2000)]
    with base:
        for number in range(_INDEXED):
            text = f"{words[number % 2000]} {words[rng.randrange(2000)]} w{number}"
            base.execute(
                "INSERT INTO letter VALUES (?,?,?,?,?,?,?,?)",
                (
                    number + 10,
                    case.folder,
                    f"{number:064}",
                    "a.pdf",
                    "2026-03-14T15:03:00+00:00",
                    "Ines",
                    "Survey",
                    "a.pdf",
                ),
            )
            base.execute(
                "INSERT INTO words (rowid, subject, people, body, names, attached, title) VALUES (?,?,?,?,?,?,?)",
                (number + 10, "Survey", "Ines", text, "", "", "Matter"),
            )
    base.close()
    for asked in ("w499123", "w77 survey"):
        command = [PROGRAM, "find", asked, "--records", str(records.folder)]
        searched, start = paired(5, lambda command=command: run(*command), lambda: run(PROGRAM, "find", "--help"))  # type: ignore[misc]
        yield [
            f"`find {asked}` among {_INDEXED:,}",
            f"{min(searched):.2f} s",
            f"`find --help` {min(start):.2f} s",
            f"{min(searched) - min(start):.2f} s beyond it",
            "at most 0.10 s",
        ]


def listing(home: Path) -> Iterator[list[str]]:
    records = plan(home / "listed", _LISTED)
    times = [seconds(lambda: run(PROGRAM, "case", "list", "--records", str(records.folder))) for _ in range(3)]
    start = [seconds(lambda: run(PROGRAM, "case", "list", "--help")) for _ in range(3)]
    yield [
        f"`case list` of {_LISTED:,}",
        f"{min(times):.2f} s",
        f"`case list --help` {min(start):.2f} s",
        f"{min(times):.2f} s",
        "at most 0.50 s",
    ]


if __name__ == "__main__":
    main()
