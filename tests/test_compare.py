"""Whether a folder, a backup or another mailbox holds all of a source."""

from __future__ import annotations

import json
from pathlib import Path
from typing import Any

from tests.helpers import ProgramTest, letter, mbox, pdf_text
from wexagraph.demo.mailbox import make_mailbox


class Compare(ProgramTest):
    def setUp(self) -> None:
        super().setUp()
        make_mailbox(self.folder / "in")

    def compare(self, *words: str | Path, code: int = 0) -> dict[str, Any]:
        found: dict[str, Any] = json.loads(self.run_program("compare", *words, "--json", code=code).stdout)
        return found

    def test_whatever_was_made_of_a_mailbox(self) -> None:
        """Line ends, folders, and dates that only a mailbox knows differ from form to form."""
        self.run_program("export", "in", "--as", "eml", "--into", "out")
        self.run_program("export", "in", "--as", "mbox,zip", "--into", "archives")
        self.run_program("backup", "in", "--into", "stick")
        self.run_program("restore", "stick", "--into", "back.mbox")
        self.run_program("restore", "stick", "--into", "maildir/")
        for folder in ("out", "archives", "stick", "back.mbox", "in"):
            for deep in ((), ("--deep",)):
                with self.subTest(folder, deep=deep):
                    found = self.compare("in", folder, *deep)
                    self.assertEqual((found["missing"], found["changed"], found["more"]), (0, 0, 0))
                    self.assertEqual(found["there"], found["wanted"]["messages"])
        self.assertTrue(self.compare("stick", "out", "--deep")["complete"])
        self.assertTrue(self.compare("back.mbox", "archives")["complete"])

    def test_what_is_missing_changed_or_more(self) -> None:
        berths = [letter(f"Berth {number}", more=f"Message-ID: <{number}@x.example>\n") for number in range(4)]
        self.write("a/one.mbox", mbox(*berths[:3], berths[0]))
        altered = berths[1].replace(b"is done", b"is not done")
        self.write("b/two.mbox", mbox(berths[0], altered, berths[3]))
        found = self.compare("a", "b", code=1)
        self.assertEqual([found[state] for state in ("there", "missing", "changed", "more")], [2, 2, 0, 1])
        found = self.compare("a", "b", "--deep", code=1)
        self.assertEqual([found[state] for state in ("there", "missing", "changed", "more")], [1, 2, 1, 1])
        states = sorted((one["state"], one["subject"]) for one in found["differences"])
        self.assertEqual(
            states, [("changed", "Berth 1"), ("missing", "Berth 0"), ("missing", "Berth 2"), ("more", "Berth 3")]
        )
        self.assertEqual(found["folders"], {"one": {"there": 1, "changed": 1, "missing": 2}})
        self.assertTrue(self.compare("a", "b", "--subject", "Berth 0", "--newest", "1")["complete"])
        done = self.run_program("compare", "a", "b", "--deep", "--into", "c.pdf", code=1)
        self.assertIn("b does not hold all of", done.stdout)
        certificate = " ".join(pdf_text(self.folder / "c.pdf").split())
        for words in ("does not hold all messages of", "1 there, 2 missing, 1 changed, 1 more", "changed: Berth 1"):
            self.assertIn(words, certificate)
        self.run_program("compare", "a", "b", "--deep", "--into", "c.txt", code=1, env={"LC_ALL": "nl_NL.UTF-8"})
        text = (self.folder / "c.txt").read_text("utf-8")
        for words in ("Verklaring van vergelijking", "Uitkomst:", "1 aanwezig, 2 ontbrekend, 1 gewijzigd, 1 extra"):
            self.assertIn(words, text)
        self.run_program("compare", "a", "b", "--deep", "--into", "c.csv", code=1)
        self.assertEqual(len((self.folder / "c.csv").read_text("utf-8-sig").splitlines()), 5)

    def test_an_export_that_has_lost_a_file(self) -> None:
        self.run_program("export", "in", "--as", "eml", "--into", "out")
        lost = next((self.folder / "out").rglob("*buoy 14*.eml"))
        lost.unlink()
        found = self.compare("in", "out", code=1)
        self.assertEqual((found["missing"], found["more"]), (1, 0))
        self.assertIn("buoy 14", found["differences"][0]["subject"])

    def test_wrong_calls(self) -> None:
        self.assertIn("its certificate", self.run_program("compare", "in", "in", "--into", "x.docx", code=2).stderr)
        self.assertIn("nowhere", self.run_program("compare", "in", "nowhere", code=3).stderr)
