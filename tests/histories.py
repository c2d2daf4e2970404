"""Random histories: mail comes, goes and moves, clerks export, back up, order and file, and plain dicts say what must be.

A history is a list of steps, each a name with numbers, so that it can be done again and made shorter. By hand, for an
hour: python -m tests.histories 3600
"""

from __future__ import annotations

import json
import mailbox
import random
import re
import shutil
import sys
import time
import zipfile
from collections.abc import Callable, Iterable
from contextlib import closing
from pathlib import Path
from typing import Any

from tests.helpers import ProgramTest, letter, pdf_text

FOLDERS = ("Dues", "Berths")
WAYS = {  # of an export or an order: the options, and the suffix of what holds the messages
    "single": (("--as", "eml"), ".eml"),
    "zip": (("--as", "zip"), ".zip"),
    "mbox": (("--as", "mbox,eml"), ".mbox"),
    "bound": (("--as", "pdf,eml", "--bind", "folder"), ".pdf"),
}
CHOICES: dict[str, tuple[str, ...]] = {"all": (), "odd": ("--subject", "odd"), "dues": ("--folder", "Dues")}
CASES = ("1", "2", "3")

Step = tuple[str, ...]
Held = set[tuple[str, int]]
"""Messages by folder and number."""


class Fault(Exception):
    """What the program did is not what the model says."""


class History(ProgramTest):
    """A folder with a mailbox and all that was made of it, and the model: what each of them must hold."""

    def runTest(self) -> None:
        """One that is used by itself."""

    def setUp(self) -> None:
        super().setUp()
        self.mail: Held = set()
        self.exports: dict[str, Held] = {}  # by way
        self.moved_on: dict[str, Held] = {}  # of an order with single files: what a clerk has taken away
        self.orders: dict[str, Held] = {}  # by way: what it has delivered
        self.runs: list[tuple[str, Held]] = []  # of the backup: its name, and what was there
        self.cases: dict[str, set[int]] = {}
        self.closed: set[str] = set()
        self.on_hold: set[str] = set()
        self.gone: set[str] = set()  # references of cases that were merged away
        (self.folder / "in").mkdir()
        for name in FOLDERS:
            (self.folder / "in" / name).mkdir()
        self.put("Dues", 0)  # which stays: a mailbox has mail

    # what may happen

    def offered(self, rng: random.Random) -> Step:
        """A step, as it may come next."""
        name = rng.choice([*STEPS, "arrive", "arrive", "file", "export", "order"])
        number = str(rng.choice([*sorted({n for _, n in self.mail}), len(self.mail) + rng.randrange(40)]))
        case, other = rng.sample(CASES, 2)
        way, choice = rng.choice([*WAYS]), rng.choice([*CHOICES])
        given = {
            "arrive": (number, rng.choice(FOLDERS)),
            "leave": (number,),
            "move": (number,),
            "empty": (rng.choice(FOLDERS),),
            "export": (way, choice),
            "order": (way,),
            "backup": (),
            "as_of": (str(rng.randrange(4)),),
            "tidy": (rng.choice(["exports", "orders"]), number),
            "open": (case,),
            "file": (case, choice, rng.choice(["", "", "reopen"])),
            "close": (case,),
            "hold": (case,),
            "merge": (case, other),
            "pack": (case,),
            "prove": (),
        }
        return (name, *given[name])

    def do(self, step: Step) -> None:
        """Do a step, where it can be done now. Raises Fault, AssertionError."""
        name, *given = step
        STEPS[name](self, *given)

    def must(self, wanted: object, found: object, what: str) -> None:
        """Raise Fault where what was found is not what is wanted."""
        if wanted != found:
            raise Fault(f"{what}: {found!r}, and not {wanted!r}")

    # mail

    def put(self, folder: str, number: int) -> None:
        parity = "odd" if number % 2 else "even"
        data = letter(
            f"Letter {number} {parity}",
            date=f"{number % 28 + 1} Mar 2026 10:00:00 +0000",
            body=f"Of {number}.\n>From the quay\n",
            more=f"Message-ID: <{number}@saltmere.example>\n",
        )
        self.write(f"in/{folder}/{number}.eml", data)
        self.mail.add((folder, number))

    def arrive(self, number: str, folder: str) -> None:
        """A message comes, or comes back."""
        if int(number) not in {n for _, n in self.mail}:
            self.put(folder, int(number))

    def leave(self, number: str) -> None:
        for folder, n in sorted(self.mail):
            if n and n == int(number):
                (self.folder / f"in/{folder}/{n}.eml").unlink()
                self.mail.remove((folder, n))

    def move(self, number: str) -> None:
        for folder, n in sorted(self.mail):
            other = (next(one for one in FOLDERS if one != folder), n)
            if n and n == int(number) and other not in self.mail:
                (self.folder / f"in/{folder}/{n}.eml").rename(self.folder / f"in/{other[0]}/{n}.eml")
                self.mail = self.mail - {(folder, n)} | {other}
                return

    def empty(self, folder: str) -> None:
        for name, n in sorted(self.mail):
            if n and name == folder:
                (self.folder / f"in/{name}/{n}.eml").unlink()
        self.mail = {each for each in self.mail if each[0] != folder or not each[1]}

    def chosen(self, choice: str) -> Held:
        return {
            (folder, n)
            for folder, n in self.mail
            if (choice != "odd" or n % 2) and (choice != "dues" or folder == "Dues")
        }

    # exports and orders

    def export(self, way: str, choice: str) -> None:
        done = self.program("export", "in", "--into", f"x-{way}", *WAYS[way][0], *CHOICES[choice], "--json")
        held, now = self.exports.setdefault(way, set()), self.chosen(choice)
        away = self.moved_on.get(f"exports {way}", set())
        again = away & now  # by hand, what is missing is made again
        self.moved_on[f"exports {way}"] = away - now
        self.must(len(now), done["written"] + done["already_there"], f"written and there in an export as {way}")
        new = len(now - held | again)
        if way == "single" or not new:  # a file that grows is written as a whole
            self.must(new, done["written"], f"new in an export as {way}")
        held |= now
        self.see(f"x-{way}", way, held - self.moved_on[f"exports {way}"])

    def order(self, way: str) -> None:
        if way not in self.orders:
            self.orders[way] = set()
            call = ("export", "in", "--into", f"o-{way}", *WAYS[way][0])
            self.run_program("order", "add", way, "--", *call)
        (done,) = self.program("order", "run", way, "--json")["runs"]
        held = self.orders[way]
        known = {n for _, n in held}  # what was delivered is not delivered again from another folder
        new = {each for each in self.mail if each[1] not in known}
        self.must(len(new), done["written"], f"new in an order as {way}")
        held |= new
        self.see(f"o-{way}", way, held - self.moved_on.get(f"orders {way}", set()))

    def see(self, into: str, way: str, wanted: Held) -> None:
        """What files hold, by readers that did not make them."""
        found: list[tuple[str, int]] = []
        for path in sorted((self.folder / into).rglob(f"*{WAYS[way][1]}")):
            if ".wexagraph" in path.parts:
                continue
            place = path.relative_to(self.folder / into)
            folder = next(name for name in FOLDERS if name in (*place.parts, path.stem) or name in path.stem)
            found += [(folder, number) for number in _numbers(path)]
        self.must(sorted(wanted), sorted(found), f"held by {into}")

    def tidy(self, whose: str, number: str) -> None:
        """A clerk takes a single file away."""
        held, into = (self.exports, "x-single") if whose == "exports" else (self.orders, "o-single")
        for path in sorted((self.folder / into).rglob("*.eml")):
            if ".wexagraph" not in path.parts and _numbers(path) == [int(number)]:
                path.unlink()
                away = {each for each in held["single"] if each[1] == int(number) and each[0] in path.parts}
                self.moved_on.setdefault(f"{whose} single", set()).update(away)

    # backups

    def backup(self) -> None:
        self.run_program("backup", "in", "--into", "bk")
        self.runs.append((self.program("runs", "bk", "--json")[-1]["name"], set(self.mail)))
        self.as_of(str(len(self.runs) - 1))

    def as_of(self, number: str) -> None:
        if self.runs:
            name, wanted = self.runs[int(number) % len(self.runs)]
            listed = self.program("list", "bk", "--as-of", name, "--json")
            found = [(row["folder"].rpartition("/")[2], _number(row["subject"])) for row in listed]
            self.must(sorted(wanted), sorted(found), f"the backup as of {name}")

    # cases

    def open(self, case: str) -> None:
        if case not in self.cases and case not in self.gone:
            self.run_program("case", "open", case, f"Case {case}", "--records", "rec", "--keep", "1y")
            self.cases[case] = set()

    def file(self, case: str, choice: str, reopen: str) -> None:
        if case not in self.cases:
            return
        numbers = {n for _, n in self.chosen(choice)}
        more = ("--reopen",) if reopen else ()
        refused = case in self.closed and not reopen and bool(numbers - self.cases[case])
        command = ("file", "in", "--case", case, *CHOICES[choice], "--as", "eml,zip", *more, "--records", "rec")
        self.run_program(*command, code=1 if refused else 0)
        if not refused:
            if numbers - self.cases[case]:
                self.closed.discard(case)
            self.cases[case] |= numbers
        self.see_case(case)

    def see_case(self, case: str) -> None:
        rows = {row["reference"]: row for row in self.program("case", "list", "--records", "rec", "--json")}
        self.must(sorted(self.cases), sorted(rows), "the cases")
        self.must(len(self.cases[case]), rows[case]["messages"], f"messages of case {case}")
        place = self.folder / "rec" / rows[case]["folder"]
        found = [n for path in place.rglob("*.eml") if ".wexagraph" not in path.parts for n in _numbers(path)]
        self.must(sorted(self.cases[case]), sorted(found), f"letters of case {case}")
        for path in place.glob("*.zip"):
            self.must(sorted(self.cases[case]), sorted(_numbers(path)), f"the archive of case {case}")

    def close(self, case: str) -> None:
        if case in self.cases and case not in self.closed:
            self.run_program("case", "close", case, "--records", "rec")
            self.closed.add(case)

    def hold(self, case: str) -> None:
        if case in self.cases and case not in self.on_hold:
            self.run_program("case", "hold", case, "--why", "court", "--records", "rec")
            self.on_hold.add(case)

    def merge(self, case: str, into: str) -> None:
        if case in self.cases and into in self.cases and not {case, into} & (self.closed | self.on_hold):
            self.run_program("case", "merge", case, into, "--records", "rec")
            self.cases[into] |= self.cases.pop(case)
            self.gone.add(case)
            self.see_case(into)

    def pack(self, case: str) -> None:
        if case in self.cases:
            shutil.rmtree(self.folder / "other", ignore_errors=True)
            self.run_program("case", "pack", case, "--into", "p.zip", "--records", "rec")
            self.run_program("case", "unpack", "p.zip", "--records", "other")
            (row,) = self.program("case", "list", "--records", "other", "--json")
            self.must(
                (len(self.cases[case]), case in self.on_hold), (row["messages"], row["state"] == "on hold"), "packed"
            )
            (self.folder / "p.zip").unlink()

    def prove(self) -> None:
        """All that is there is whole."""
        for name in ("bk", "rec", *(f"x-{way}" for way in self.exports)):
            if (self.folder / name).exists():
                missing = name == "x-single" and self.moved_on.get("exports single")
                self.run_program("verify", name, code=1 if missing else 0)

    def program(self, *words: object) -> Any:
        return json.loads(self.run_program(*words).stdout)


STEPS: dict[str, Callable[..., None]] = {
    name: getattr(History, name)
    for name in (
        *("arrive", "leave", "move", "empty", "export", "order", "tidy", "backup", "as_of"),
        *("open", "file", "close", "hold", "merge", "pack", "prove"),
    )
}


def _number(subject: str) -> int:
    return int(subject.split()[1])


def _numbers(path: Path) -> list[int]:
    """The numbers of the letters in a file."""
    if path.suffix == ".pdf":
        return sorted({int(number) for number in re.findall(r"Of (\d+)\.", pdf_text(path))})
    if path.suffix == ".mbox":
        with closing(mailbox.mbox(path, create=False)) as box:
            return [_number(str(each["subject"])) for each in box]
    if path.suffix == ".zip":
        with zipfile.ZipFile(path) as archive:
            texts = [archive.read(name).decode() for name in archive.namelist()]
    else:
        texts = [path.read_text("utf-8")]
    return [_number(text.partition("Subject: ")[2]) for text in texts]


def fault_of(steps: Iterable[Step]) -> str:
    """What goes wrong when these steps are done from the beginning; "" where nothing does."""
    history = History()
    history.setUp()
    done: list[Step] = []
    try:
        for step in steps:
            done.append(step)
            history.do(step)
    except (Fault, AssertionError, KeyError, OSError) as error:
        return f"{error}"
    finally:
        history.doCleanups()
    return ""


def grown(seed: int, length: int) -> tuple[list[Step], str]:
    """A history of a seed, as far as it goes well; and what goes wrong at its last step."""
    rng, history, steps = random.Random(seed), History(), list[Step]()
    history.setUp()
    try:
        for _ in range(length):
            steps.append(history.offered(rng))
            history.do(steps[-1])
    except (Fault, AssertionError, KeyError, OSError) as error:
        return steps, str(error)
    finally:
        history.doCleanups()
    return steps, ""


def shortened(steps: list[Step], fault: Callable[[list[Step]], str] = fault_of) -> list[Step]:
    """The fewest of these steps that still go wrong, by leaving out ever smaller pieces."""
    size = len(steps) // 2
    while size:
        place = 0
        while place < len(steps):
            fewer = steps[:place] + steps[place + size :]
            if fewer and fault(fewer):
                steps = fewer
            else:
                place += size
        size //= 2
    return steps


def script(steps: list[Step], fault: str) -> str:
    """A short history, to be put into a test: what to do, and what goes wrong."""
    return "\n".join(["fault_of([", *(f"    {step!r}," for step in steps), f"])  # {fault[:2000]}"])


def main(seconds: float, seed: int = 0) -> int:
    """Play histories for so long. Returns how many went wrong; each is printed as a script."""
    end, wrong, played, taken = time.monotonic() + seconds, 0, 0, 0
    while time.monotonic() < end:
        steps, fault = grown(seed, 60)
        played, taken, seed = played + 1, taken + len(steps), seed + 1
        if fault:
            wrong += 1
            short = shortened(steps)
            print(f"# seed {seed - 1}\n{script(short, fault_of(short))}\n", flush=True)
    print(f"{played} histories, {taken} steps, {wrong} went wrong")
    return wrong


if __name__ == "__main__":
    sys.exit(min(main(float(sys.argv[1]), int(sys.argv[2]) if len(sys.argv) > 2 else 0), 100))
