"""Two hands at the same cases: two clerks at once in every pair of commands that write, and a kill at any step of merging
and packing with any other command after it. Whatever happens, each letter lies in one case and every list agrees."""

from __future__ import annotations

import itertools
import json
import random
import re
import shutil
import threading
import unittest
from pathlib import Path

from tests.helpers import ProgramTest, mbox, rounds
from tests.test_cases import mail

WRITING: dict[str, tuple[str, ...]] = {
    "file": ("file", "late.mbox", "--case", "1", "--as", "eml"),
    "file again": ("file", "late.mbox", "--case", "1", "--as", "eml,zip"),
    "file by plan": ("file", "answers.mbox", "--by-plan", "--as", "eml"),
    "reopen and file": ("file", "late.mbox", "--case", "2", "--as", "eml", "--reopen"),
    "open": ("case", "open", "9", "Fog"),
    "close": ("case", "close", "1"),
    "reopen": ("case", "reopen", "2"),
    "hold": ("case", "hold", "1", "--why", "court"),
    "release": ("case", "release", "3"),
    "rename": ("case", "rename", "1", "Buoys"),
    "merge": ("case", "merge", "1", "3"),
    "merge into it": ("case", "merge", "3", "1"),
    "dispose": ("case", "dispose", "2", "--yes"),
    "pack": ("case", "pack", "1", "--into", "one.zip"),
    "unpack": ("case", "unpack", "packed.zip"),
}
"""Commands that write to a case or to the plan: 1 is open, 2 is closed and due, 3 is open and on hold."""


OF_THE_PLAN = {"open", "close", "reopen", "hold", "release", "rename", "file again", "reopen and file"}
"""Those that write the plan alone, or differ from `file` by an option."""


class Hands(ProgramTest):
    def setUp(self) -> None:
        super().setUp()
        for reference, title in (("1", "Buoy"), ("2", "Chain"), ("3", "Dues"), ("4", "East")):
            self.program("case", "open", reference, title, "--keep", "1y")
        self.write("in.mbox", mbox(*(mail(f"a{n}", f"Buoy {n}") for n in range(3))))
        self.write("late.mbox", mbox(*(mail(f"l{n}", f"Late {n}") for n in range(3))))
        self.write("answers.mbox", mbox(*(mail(f"r{n}", f"Re: Buoy {n}", f"a{n}") for n in range(3))))
        self.program("file", "in.mbox", "--case", "1", "--as", "eml,zip")
        for reference in ("2", "3", "4"):
            self.write("x.mbox", mbox(*(mail(f"{reference}-{n}", f"Of {reference}: {n}") for n in range(2))))
            self.program("file", "x.mbox", "--case", reference, "--as", "eml")
        self.program("case", "hold", "3", "--why", "court")
        self.program("case", "close", "2")
        plan = self.rec / "fileplan.toml"
        before, mark, rest = plan.read_text().partition("[cases.2]")
        plan.write_text(before + mark + re.sub(r"(opened|closed) = \d+", r"\1 = 2019", rest, count=2))
        self.program("case", "pack", "4", "--into", "packed.zip")
        self.program("case", "merge", "4", "1")
        shutil.copytree(self.rec, self.folder / "before", symlinks=True)

    @property
    def rec(self) -> Path:
        return self.folder / "rec"

    def program(self, *words: str, code: int | None = 0) -> str:
        done = self.run_program(*words, "--records", "rec", code=code)
        return done.stdout + done.stderr

    def afresh(self) -> None:
        """The records as they were."""
        shutil.rmtree(self.rec)
        shutil.copytree(self.folder / "before", self.rec, symlinks=True)
        (self.folder / "one.zip").unlink(missing_ok=True)

    def letters(self, settled: bool) -> dict[str, list[str]]:
        """The cases, and by their Message-IDs the letters that lie in their folders; where nothing was cut off
        (`settled`), their logs count the same."""
        rows = json.loads(self.program("case", "list", "--json"))
        found = {}
        for row in rows:
            paths = (self.rec / row["folder"]).glob("*.eml")
            ids = [re.search(rb"(?m)^Message-ID: <(\S+)@", path.read_bytes()) for path in paths]
            found[row["reference"]] = sorted(match[1].decode() for match in ids if match)
            counts = (row["messages"], len(found[row["reference"]]))
            self.assertTrue(counts[0] == counts[1] if settled else counts[0] <= counts[1], (counts, row))
        return found

    def check(self, done: list[str], said: str, settled: bool = True) -> None:
        """Each letter lies where one of the commands put it, once where a merging was done, and all lists agree."""
        cases = self.letters(settled)
        lying = [id for ids in cases.values() for id in ids]
        certified = "".join(path.read_text("utf-8") for path in (self.rec / "disposed").glob("*.txt"))
        gone = "2" not in cases
        self.assertEqual(gone, bool(certified), said)
        for id in (*(f"a{n}" for n in range(3)), "3-0", "3-1"):
            self.assertGreaterEqual(lying.count(id), 1, (id, said, cases))
            if "merge" in done or "merge into it" in done:
                self.assertEqual(lying.count(id), 1, (id, said, cases))
        if not gone:
            self.assertEqual([lying.count(id) for id in ("2-0", "2-1")], [1, 1], said)
        for name, ids in (("file", "l"), ("file again", "l"), ("file by plan", "r")):
            if name in done:
                self.assertEqual([lying.count(f"{ids}{n}") >= 1 for n in range(3)], [True] * 3, (name, said, cases))
        if "unpack" in done:
            self.assertEqual(cases.get("4", []), ["4-0", "4-1"], said)
        self.run_program("verify", "rec", code=0 if settled else None)
        for reference in cases:
            self.program("case", "log", reference)


class Pairs(Hands):
    def test_two_clerks_at_once_in_every_pair(self) -> None:
        """Each does a command at the same instant; what is refused is refused in words, and nothing is lost."""
        pairs = [
            pair
            for pair in itertools.combinations_with_replacement(WRITING, 2)
            if pair[0] == pair[1] or not set(pair) <= OF_THE_PLAN
        ]  # those of the plan have one lock and one file: each is tried with itself and with all others
        for first, second in random.Random(15).sample(pairs, rounds(len(pairs), 22)):
            with self.subTest(pair=(first, second)):
                self.afresh()
                said: dict[int, tuple[int, str]] = {}
                gate = threading.Barrier(2)

                def work(
                    clerk: int, name: str, gate: threading.Barrier = gate, said: dict[int, tuple[int, str]] = said
                ) -> None:
                    words = list(WRITING[name])
                    if name == "pack" and clerk:
                        words[-1] = "two.zip"
                    gate.wait(30)
                    done = self.run_program(*words, "--records", "rec", code=None)
                    said[clerk] = (done.returncode, done.stdout + done.stderr)

                clerks = [threading.Thread(target=work, args=pair) for pair in enumerate((first, second))]
                for clerk in clerks:
                    clerk.start()
                for clerk in clerks:
                    clerk.join()
                for code, text in said.values():
                    self.assertIn(code, (0, 1, 2, 3), text)
                    self.assertNotIn("a fault in Wexagraph itself", text)
                done = [name for clerk, name in enumerate((first, second)) if said[clerk][0] == 0]
                self.check(done, str(said))
                for name in ("one.zip", "two.zip"):
                    if (self.folder / name).exists():
                        self.assertIn("all whole", self.run_program("verify", name).stdout)
                        (self.folder / name).unlink()


class Kills(Hands):
    AFTER = (
        *("open", "close", "hold", "rename", "file", "file by plan", "pack", "dispose", "unpack", "reopen and file"),
        *("case list", "case due", "case log 1", "case show 3", "find Buoy", "verify rec"),
    )

    def kill(self, name: str) -> None:
        """Gone at each step of a command; then comes another one, each in turn; then it is done again."""
        command = (*WRITING[name], "--records", "rec")
        self.program("case", "release", "3")
        shutil.rmtree(self.folder / "before")
        shutil.copytree(self.rec, self.folder / "before", symlinks=True)
        self.run_program(*command, end_before=10_000)
        steps = self.steps
        self.assertGreater(steps, 8)
        after = itertools.cycle(self.AFTER)
        for step in sorted(random.Random(9).sample(range(steps), rounds(steps, min(steps, 10)))):
            other = next(after)
            with self.subTest(command=name, step=step, other=other):
                self.afresh()
                self.run_program(*command, code=9, end_before=step)
                words = WRITING.get(other) or tuple(other.split())
                self.run_program(*words, *(() if words[0] == "verify" else ("--records", "rec")), code=None)
                self.check([], other, settled=False)
                again = self.run_program(*command, code=None)
                self.check([name] if again.returncode == 0 else [], other, settled=again.returncode == 0)
                if name == "pack" and (self.folder / "one.zip").exists():
                    self.assertIn("all whole", self.run_program("verify", "one.zip").stdout)

    def test_merging(self) -> None:
        self.kill("merge")

    def test_packing(self) -> None:
        self.kill("pack")


if __name__ == "__main__":
    unittest.main()
