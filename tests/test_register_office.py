"""`register`, worked in with a real spreadsheet program that writes the file in its own way."""

from __future__ import annotations

import random
import re
import unittest
from typing import Any

from tests.helpers import ProgramTest, names_by_headings, rounds
from tests.office import Office
from tests.test_register import HOSTILE, message


class Histories(ProgramTest):
    office: Office

    @classmethod
    def setUpClass(cls) -> None:
        if not Office.is_there():
            raise unittest.SkipTest("LibreOffice Calc and python3-uno are not installed here")
        cls.office = Office()
        cls.addClassCleanup(cls.office.close)

    def read(self, name: str) -> tuple[list[str], list[dict[str, str]]]:
        headings, *rows = self.office.work(self.folder / name, ["read"])
        names = names_by_headings(headings)
        heading = [names.get(text, text) for text in headings]
        return heading, [dict(zip(heading, row, strict=True)) for row in rows]

    def test_hostile_texts_are_texts(self) -> None:
        for number, text in enumerate(HOSTILE):
            self.write(f"in/{number}.eml", message(number, text))
        self.run_program("register", "in", "--into", "r.xlsx")
        _, rows = self.read("r.xlsx")
        self.assertEqual([row["subject"] for row in rows], [text.replace("\x0b", "") for text in HOSTILE])
        self.assertRegex(rows[3]["date"], r"^2026-03-04 03:15$", "a date looks like one")
        self.assertIn("it is as it was", self.run_program("register", "in", "--into", "r.xlsx").stdout)

    def test_histories(self) -> None:
        for seed in range(rounds(6, 1)):
            for suffix in ("xlsx", "csv") if seed % 4 == 0 else ("xlsx",):
                with self.subTest(seed=seed, suffix=suffix):
                    self.history(random.Random(seed), f"h{seed}{suffix}", suffix)

    def history(self, dice: random.Random, name: str, suffix: str) -> None:
        """A column of their own with a formula and one with words, sorted, moved, coloured; mail comes and goes."""
        path = self.folder / f"{name}.{suffix}"
        there = set(range(1, dice.randint(4, 7)))
        for number in there:
            self.write(f"{name}/{number}.eml", message(number))
        self.call_program("register", name, "--into", path.name, "--column", "Due date")
        notes: dict[str, str] = {}
        columns = ["date", "from", "to", "subject", "attachments", "folder", "Due date", "state"]
        for turn in range(2):
            steps: list[list[Any]] = []
            # a column beside the dates would get their format
            at = dice.choice([n for n in range(4) if not n or columns[n - 1] != "date"])
            if suffix == "xlsx":
                columns.insert(at, f"Length {turn}")
                steps.append(["insert column", at, f"Length {turn}"])
                subject = "ABCDEFGHIJKLM"[columns.index("subject")]
                count = len(self.office.work(path, ["read"]))
                steps += [["set", y, at, f"=LEN({subject}{y + 1})"] for y in range(1, count)]
                steps += [["own sheet", f"Sums {turn}", f"=COUNTA($Messages.{subject}1:{subject}99)"]]
                steps += [["move column", columns.index("folder"), columns.index("to")]]
                columns.remove("folder")
                columns.insert(columns.index("to"), "folder")
            steps.append(["sort", columns.index("subject"), dice.random() < 0.5])
            rows = self.office.work(path, *steps, ["read"])
            y = dice.randint(1, len(rows) - 1)
            notes[rows[y][columns.index("subject")]] = f"turn {turn}"
            steps = [
                ["set", y, columns.index("Due date"), f"turn {turn}"],
                ["colour", y, columns.index("Due date"), 0xFFAA00],
            ]
            before = self.office.work(path, *steps, ["read"])
            gone = dice.choice(sorted(there))
            (self.folder / f"{name}/{gone}.eml").unlink()
            there.discard(gone)
            new = 10 + turn
            self.write(f"{name}/{new}.eml", message(new))
            there.add(new)
            output = self.call_program("register", name, "--into", path.name, "--json").stdout
            self.assertIn('"changed_by_hand": 0', output)
            heading, now = self.read(path.name)
            self.assertEqual([column for column in heading if not column.startswith("key")], columns)
            subjects = [row["subject"] for row in now]
            at = columns.index("subject")
            self.assertEqual(subjects, [*(row[at] for row in before[1:]), f"Berth {new}"], "in their order, each once")
            for row in now:
                number = int(re.sub(r"\D", "", row["subject"]))
                self.assertEqual(row["state"], "here" if number in there else "no longer chosen")
                self.assertEqual(row["Due date"], notes.get(row["subject"], ""))
                for column in heading:
                    if column.startswith("Length"):
                        self.assertEqual(row[column], str(len(row["subject"])), "formulas go on to new rows")
            if suffix == "xlsx":
                self.assertEqual(self.office.work(path, ["sheet", f"Sums {turn}"])[:8], "=COUNTA(")
                colours = self.office.work(path, ["colours", columns.index("Due date")])
                coloured = {row["subject"] for row, colour in zip(now, colours[1:], strict=True) if colour == 0xFFAA00}
                self.assertEqual(coloured, set(notes))


if __name__ == "__main__":
    unittest.main()
