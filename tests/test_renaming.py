"""Another name pattern for a folder that is there: what was made gets the new names, and nothing is made twice."""

from __future__ import annotations

import json
import re
import shutil
import subprocess
from urllib.parse import unquote

from tests.helpers import ProgramTest, letter, letter_with, named_rows, rounds

FIRST, SECOND = "{date:%Y}/{subject}", "{subject} of {sender}"


class Renaming(ProgramTest):
    def setUp(self) -> None:
        super().setUp()
        for number in range(3):
            self.write(f"in/desk/{number}.eml", letter(f"Berth {number}"))
        self.write("in/desk/x.eml", letter_with(("plan.txt", "text/plain", b"plan"), subject="Plan"))

    def export(self, name: str, *more: object, code: int | None = 0, step: int | None = None) -> str:
        call = ("export", "in", "--into", "out", "--as", "pdf,eml,html", "--attachments", "beside", "--name", name)
        done = self.run_program(*call, *more, code=code, end_before=step)
        return done.stdout + done.stderr

    def test_all_that_was_made(self) -> None:
        self.export(FIRST)
        self.assertIn("desk/2026/Berth 0.pdf", self.made("out"))
        numbers = {path.stat().st_ino for path in (self.folder / "out").rglob("*.*") if path.parent.name != "out"}
        planned = json.loads(self.export(SECOND, "--dry-run", "--json"))
        self.assertEqual((planned["written"], planned["already_there"], planned["renamed"]), (0, 4, 13))
        self.assertEqual({each["state"] for each in planned["planned"]}, {"renamed"})
        self.assertIn("desk/2026/Berth 0.pdf", self.made("out"), "a dry run renames nothing")
        said = self.export(SECOND)
        self.assertIn("0 written, 4 already there", said)
        self.assertIn("13 files", said)
        made = self.made("out")
        self.assertEqual(sorted(each["path"] for each in planned["planned"]), made)
        self.assertIn("desk/Plan of Slipway desk/plan.txt", made)
        self.assertEqual(len(made), 13)
        self.assertFalse((self.folder / "out/desk/2026").exists())
        files = {path.stat().st_ino for path in (self.folder / "out").rglob("*.*") if path.parent.name != "out"}
        self.assertEqual(files, numbers, "the same files")
        self.assertIn("0 missing, 0 altered; 0 foreign", self.run_program("verify", "out").stdout)
        with open(self.folder / "out/register.csv", encoding="utf-8-sig", newline="") as table:
            listed = sorted(path for row in named_rows(table) for path in row["files"].split("; "))
        self.assertEqual(listed, made)
        self.assertNotIn("Renamed", self.export(SECOND))

    def test_what_people_have_renamed(self) -> None:
        self.export(FIRST)
        kept = self.folder / "out/desk/2026/Berth 0.pdf"
        kept.rename(kept.with_name("For the mayor.pdf"))
        self.export(SECOND)
        self.assertTrue(kept.with_name("For the mayor.pdf").exists())
        self.assertTrue((self.folder / "out/desk/Berth 0 of Ines Halden.pdf").exists())

    def test_made_otherwise_too(self) -> None:
        self.export(FIRST)
        said = self.export(SECOND, "--paper", "a5")
        self.assertIn("4 written", said)
        self.assertEqual(len(self.made("out")), 13)
        self.run_program("verify", "out")

    def test_a_name_that_is_taken(self) -> None:
        self.export(FIRST)
        theirs = self.write("out/desk/Berth 1 of Ines Halden.pdf", b"theirs")
        self.export(SECOND)
        self.assertEqual(theirs.read_bytes(), b"theirs")
        self.assertTrue((self.folder / "out/desk/Berth 1 of Ines Halden (2).pdf").exists())
        self.assertEqual(len(self.made("out")), 14)

    def test_links_lead_to_files(self) -> None:
        self.export(FIRST, "--index")
        self.export(SECOND)
        text = "".join(path.read_text("utf-8") for path in (self.folder / "out").rglob("*.js"))
        text += (self.folder / "out/index.html").read_text("utf-8")
        self.assertIn("of Ines Halden.pdf", unquote(text))
        self.assertFalse(re.search(r"2026/Berth", unquote(text)))
        self.run_program("verify", "out")

    def test_killed_at_each_step(self) -> None:
        self.export(FIRST)
        shutil.copytree(self.folder / "out", self.folder / "before")
        self.export(SECOND, step=10_000)
        steps, renamed = self.steps, self.made("out")
        for step in range(0, steps, rounds(1, 3)):
            shutil.rmtree(self.folder / "out")
            shutil.copytree(self.folder / "before", self.folder / "out")
            self.export(SECOND, code=None, step=step)
            self.export(SECOND)
            self.assertEqual(self.made("out"), renamed, step)
            self.assertIn("0 missing, 0 altered; 0 foreign", self.run_program("verify", "out").stdout)

    def test_bound_documents(self) -> None:
        """They get their new names with what they are; of another title they are made again."""
        call = ("export", "in", "--into", "out", "--bind", "conversation", "--name")
        self.run_program(*call, "{date:%Y} {subject}")
        before = {path.read_bytes() for path in (self.folder / "out").rglob("*.pdf")}
        planned = json.loads(self.run_program(*call, "{subject} bound", "--dry-run", "--json").stdout)
        self.assertEqual((planned["written"], planned["renamed"]), (0, 4))
        said = self.run_program(*call, "{subject} bound").stdout
        self.assertIn("0 written, 4 already there", said)
        made = self.made("out")
        self.assertEqual(made, [f"desk/{name} bound.pdf" for name in ("Berth 0", "Berth 1", "Berth 2", "Plan")])
        self.assertEqual({path.read_bytes() for path in (self.folder / "out").rglob("*.pdf")}, before)
        self.assertIn("0 missing, 0 altered; 0 foreign", self.run_program("verify", "out").stdout)
        self.assertNotIn("Renamed", self.run_program(*call, "{subject} bound").stdout)
        self.run_program(*call, "{subject}", end_before=10_000)
        names, steps = self.made("out"), self.steps
        for step in range(0, steps, rounds(1, 4)):
            self.run_program(*call, "{subject} bound")
            self.run_program(*call, "{subject}", code=None, end_before=step)
            self.run_program(*call, "{subject}")
            self.assertEqual(self.made("out"), names, step)
            self.assertIn("0 missing, 0 altered; 0 foreign", self.run_program("verify", "out").stdout)

    def test_archives(self) -> None:
        """A folder has one archive of a form: the names in a ZIP are those that are asked for."""
        call = ("export", "in", "--into", "out", "--as", "mbox,zip", "--name")
        self.run_program(*call, "{date:%Y} {subject}")
        mbox = (self.folder / "out/desk.mbox").read_bytes()
        self.run_program(*call, "{subject} of {sender}")
        self.assertEqual(self.made("out"), ["desk.mbox", "desk.zip"])
        self.assertEqual((self.folder / "out/desk.mbox").read_bytes(), mbox)
        listed = subprocess.run(["unzip", "-Z1", self.folder / "out/desk.zip"], capture_output=True, text=True)
        self.assertEqual(sorted(listed.stdout.splitlines())[0], "Berth 0 of Ines Halden.eml")
        self.assertEqual(len(listed.stdout.splitlines()), 4)
        self.assertIn("0 missing, 0 altered; 0 foreign", self.run_program("verify", "out").stdout)

    def test_numbers_stay(self) -> None:
        self.export(FIRST, "--numbered", "HARB-")
        made = self.made("out")
        self.export(SECOND, "--numbered", "HARB-")
        self.assertEqual(
            [name for name in self.made("out") if "/Plan" not in name and "plan.txt" not in name],
            [name for name in made if "/Plan" not in name and "plan.txt" not in name],
        )
        self.run_program("verify", "out")
