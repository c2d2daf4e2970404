"""PDFs handed to the printer: a stand-in for `lp` keeps what it gets."""

from __future__ import annotations

import os
from pathlib import Path

from tests.helpers import ProgramTest, letter, mbox, pdf_text

_LP = """#!/bin/sh
for last in "$@"; do :; done
case "$last" in *Berth\\ 2*) echo "lp: out of paper" >&2; exit 1;; esac
echo "$1 $2" >> {folder}/printers
cp -- "$last" "{folder}/paper/$(ls {folder}/paper | wc -l).pdf"
"""


class Printing(ProgramTest):
    def setUp(self) -> None:
        super().setUp()
        program = self.write("bin/lp", _LP.format(folder=self.folder))
        program.chmod(0o755)
        (self.folder / "paper").mkdir()
        days = ("Mon, 16", "Sun, 15", "Sat, 14")
        letters = (letter(f"Berth {n}", date=f"{day} Mar 2026 09:00:00 +0000") for n, day in enumerate(days, 3))
        self.write("in.mbox", mbox(*letters))
        self.env = {"PATH": f"{program.parent}:{os.environ['PATH']}", "WEXAGRAPH_RECORDS": str(self.folder / "records")}

    def call(self, *words: str | Path, code: int = 0) -> str:
        done = self.run_program(*words, env=self.env, code=code)
        return done.stdout + done.stderr

    def printed(self) -> list[str]:
        """The subjects on the paper, in order; it is taken away."""
        papers = sorted((self.folder / "paper").iterdir(), key=lambda path: int(path.stem))
        subjects = [next(line for line in pdf_text(path).splitlines() if line.startswith("Berth")) for path in papers]
        for path in papers:
            path.unlink()
        return subjects

    def test_in_order_and_counted(self) -> None:
        self.assertIn("Printed: 3 PDFs, 0 refused", self.call("export", "in.mbox", "--into", "out", "--print"))
        self.assertEqual(self.printed(), ["Berth 5", "Berth 4", "Berth 3"])
        call = ("export", "in.mbox", "--into", "out", "--sort", "subject", "--print", "Office 2")
        self.assertIn("Printed: 3 PDFs to Office 2", self.call(*call))
        self.assertEqual(self.printed(), ["Berth 3", "Berth 4", "Berth 5"])
        self.assertEqual((self.folder / "printers").read_text().splitlines()[-1], "-d Office 2")
        self.call("export", "in.mbox", "--subject", "Berth 4", "--into", "out", "--print")
        self.assertEqual(self.printed(), ["Berth 4"])
        self.call("export", "in.mbox", "--into", "none", "--print", "--dry-run")
        self.assertEqual(self.printed(), [])

    def test_a_message_and_a_case(self) -> None:
        id = next(row["id"] for row in self.listed("in.mbox") if row["subject"] == "Berth 4")
        self.assertIn("Printed: 1 PDF", self.call("show", "in.mbox", id, "--print"))
        self.assertEqual(self.printed(), ["Berth 4"])
        self.call("case", "open", "7", "Piers")
        self.call("file", "in.mbox", "--case", "7")
        self.call("case", "show", "7", "--print")
        self.assertEqual(self.printed(), ["Berth 5", "Berth 4", "Berth 3"])

    def test_what_is_refused(self) -> None:
        self.write("in.mbox", mbox(letter("Berth 1"), letter("Berth 2")))
        said = self.call("export", "in.mbox", "--into", "out", "--print", code=1)
        self.assertIn("Printed: 1 PDF, 1 refused", said)
        self.assertIn("out of paper", said)
        (self.folder / "bin/lp").unlink()
        self.env["PATH"] = str(self.folder / "bin")
        said = self.call("export", "in.mbox", "--into", "other", "--print", code=2)
        self.assertIn("needs the program lp", said)
        self.assertFalse((self.folder / "other").exists())
        self.call("order", "add", "x", "--", "export", "in.mbox", "--into", "o", "--print", code=2)
