"""Letters placed by the file plan: a chain of answers, beside one of half its length and beside letters that stand alone."""

from __future__ import annotations

from datetime import date

from benchmarks.measure import paired, ratio, table
from wexagraph.messages.headers import Header
from wexagraph.records.fileplan import Case
from wexagraph.records.placing import Placer
from wexagraph.selection.choice import Choice
from wexagraph.selection.criteria import Subject
from wexagraph.sources.base import Envelope

LONG, CASES, LETTERS = 8000, 3000, 100
_REFERENCES = 10


def _letter(number: int, subject: str, answers: int) -> Envelope:
    """A letter that names the ten before it, where it `answers` so many."""
    before = "".join(f"<{id}@saltmere.example> " for id in range(max(answers - _REFERENCES, 0), answers))
    header = (
        f"From: Ines <i{number}@saltmere.example>\nSubject: {subject}\nMessage-ID: <{number}@saltmere.example>\n"
        f"References: {before}\n\n"
    )
    return Envelope("in", str(number), len(header), Header(header.encode()))


def main() -> None:
    plan = [Case(f"2026/{n:04}", f"Berth {n}", f"f{n}", date(2026, 1, 1)) for n in range(CASES)]
    chains = [
        [_letter(n, "Re: Dues" if n < length - 1 else "2026/0001", n) for n in range(length)]
        for length in (LONG, LONG // 2)
    ]
    apart = [_letter(n, "Re: Dues" if n < LONG - 1 else "2026/0001", 0) for n in range(LONG)]
    long, short, alone = paired(
        5,
        *(lambda each=each: Placer(plan[:2], lambda _: ()).place_all(each, lambda _: []) for each in (*chains, apart)),
    )
    choices = [(case.reference, Choice.from_dict({"from": [f"j{n}@saltmere.example"]})) for n, case in enumerate(plan)]
    letters = [_letter(n, f"Of berth {n}", 0) for n in range(LETTERS)]

    class Nowhere:
        finds = False

    def matching(envelope: Envelope) -> list[str]:
        subject = Subject(Nowhere(), envelope, None)  # type: ignore[arg-type]
        return [reference for reference, choice in choices if choice.meets(subject)]

    (many,) = paired(3, lambda: Placer(plan, lambda _: ()).place_all(letters, matching))
    rows = [
        [
            f"a chain of {LONG:,}",
            f"{min(long):.2f} s",
            f"one of {LONG // 2:,}, {min(short):.2f} s",
            f"{ratio(long, short):.1f}",
            "at most 2.5",
        ],
        [
            f"a chain of {LONG:,}",
            f"{min(long):.2f} s",
            f"as many alone, {min(alone):.2f} s",
            f"{ratio(long, alone):.1f}",
            "",
        ],
        [
            f"{LETTERS} letters, {CASES:,} cases with criteria",
            f"{min(many) / LETTERS * 1000:.1f} ms a letter",
            "",
            "",
            "at most 44 ms",
        ],
    ]
    table("Letters placed by the plan", ["what", "Wexagraph", "beside it", "ratio", "wanted"], rows)


if __name__ == "__main__":
    main()
