"""Numbers that run through the pages of all PDFs: poppler reads them, qpdf and the register agree."""

from __future__ import annotations

import re
import shutil
import subprocess

import pikepdf

from tests.helpers import ProgramTest, letter, letter_with, named_rows, rounds
from tests.tagged_pdf import check_tagged, conforms
from wexagraph.pages.tagging.audit import says_universal


def turned(pages: int) -> bytes:
    """A PDF of another program, whose pages are shown turned and from another corner."""
    import io

    with pikepdf.new() as document:
        shared = document.make_indirect(pikepdf.Dictionary())
        for _ in range(pages):
            page = document.add_blank_page(page_size=(300, 500))
            page.Rotate = 90
            page.obj.MediaBox = [100, 50, 400, 550]
            page.obj.Resources = shared
        out = io.BytesIO()
        document.save(out)
    return out.getvalue()


class Numbered(ProgramTest):
    def setUp(self) -> None:
        super().setUp()
        plan = ("plan.pdf", "application/pdf", turned(2))
        self.write("in/b/1.eml", letter("Second", date="Sat, 14 Mar 2026 15:03:00 +0000"))
        self.write("in/a/2.eml", letter("First", date="Fri, 13 Mar 2026 15:03:00 +0000", body="tide\n" * 90))
        self.write("in/b/3.eml", letter_with(plan, subject="Third").replace(b"Mon, 9 Mar 2026", b"Sun, 15 Mar 2026"))

    def export(self, *more: object, code: int = 0, into: str = "out", step: int | None = None) -> str:
        call = ("export", "in", "--into", into, "--numbered", "HARB-", "--attachments", "pages", *more)
        done = self.run_program(*call, code=code, end_before=step)
        return done.stdout + done.stderr

    def numbers(self, folder: str = "out", password: str = "") -> dict[str, list[str]]:
        """The numbers on the pages of each PDF, as poppler reads them."""
        pages = {}
        for path in sorted((self.folder / folder).rglob("*.pdf")):
            call = ("pdftotext", "-layout", *(("-upw", password) if password else ()), path, "-")
            text = subprocess.run(call, capture_output=True, check=True, text=True).stdout
            pages[path.name] = [
                number for page in text.split("\f")[:-1] for number in re.findall(r"HARB-\d{6}|^$", page.strip()[-11:])
            ]
            subprocess.run(
                ("qpdf", *((f"--password={password}",) if password else ()), "--check", path),
                check=True,
                stdout=subprocess.DEVNULL,
            )
        return pages

    def registered(self) -> list[tuple[str, str, str]]:
        with open(self.folder / "out/register.csv", encoding="utf-8-sig", newline="") as table:
            rows = [(row["subject"], row["first_number"], row["last_number"]) for row in named_rows(table)]
        return sorted(rows, key=lambda row: row[1])

    def test_through_all_of_an_export(self) -> None:
        said = self.export("--as", "pdf,eml")
        self.assertIn("Numbers: HARB-000001 to HARB-000006.", said)
        wanted = {
            "HARB-000001.pdf": ["HARB-000001", "HARB-000002"],
            "HARB-000003.pdf": ["HARB-000003"],
            "HARB-000004.pdf": ["HARB-000004", "HARB-000005", "HARB-000006"],
        }
        self.assertEqual(self.numbers(), wanted)
        self.assertEqual(
            self.made("out"),
            sorted(
                f"{place}.{kind}"
                for place in ("a/HARB-000001", "b/HARB-000003", "b/HARB-000004")
                for kind in ("eml", "pdf")
            ),
        )
        rows = [("First", "HARB-000001", "HARB-000002"), ("Second", *["HARB-000003"] * 2)]
        self.assertEqual(self.registered(), [*rows, ("Third", "HARB-000004", "HARB-000006")])
        self.run_program("verify", "out")
        self.assertIn("0 written, 3 already there", self.export("--as", "pdf,eml"))
        self.write("in/a/4.eml", letter("Earlier", date="Mon, 2 Mar 2026 15:03:00 +0000"))
        self.export("--as", "pdf,eml")
        self.assertEqual(self.numbers(), {**wanted, "HARB-000007.pdf": ["HARB-000007"]})
        self.run_program("verify", "out")

    def test_the_same_again(self) -> None:
        """The same messages and options give the same bytes, also of bound and archival PDFs."""
        for more in ((), ("--archival",), ("--bind", "all")):
            for into in ("one", "two"):
                self.export(*more, into=into)
            for path in (self.folder / "one").rglob("*.pdf"):
                other = self.folder / "two" / path.relative_to(self.folder / "one")
                self.assertEqual(path.read_bytes(), other.read_bytes(), more)
            for into in ("one", "two"):
                shutil.rmtree(self.folder / into)

    def test_never_twice(self) -> None:
        """What is made again keeps its numbers while it has as many pages; else the old ones are a gap, and said."""
        self.export()
        (self.folder / "out/b/HARB-000003.pdf").unlink()
        self.export()
        self.assertEqual(self.numbers()["HARB-000003.pdf"], ["HARB-000003"])
        self.assertIn("on no page now: HARB-000001 to HARB-000002", self.export("--paper", "a5"))
        self.assertEqual(self.numbers()["HARB-000007.pdf"], [f"HARB-{n:06}" for n in range(7, 10)])
        shutil.rmtree(self.folder / "out/.wexagraph")
        self.write("in/a/4.eml", letter("More"))
        self.export("--paper", "a5")
        given = [number for numbers in self.numbers().values() for number in numbers]
        self.assertEqual(len(given), len(set(given)))
        self.assertFalse({"HARB-000001", "HARB-000002"} & set(given))
        self.run_program("verify", "out")

    def test_killed_at_each_step(self) -> None:
        """The next run ends right: each page has a number of its own, and nothing is left over."""
        self.export("--as", "pdf,eml", step=10_000, code=0)
        steps, undisturbed = self.steps, self.made("out")
        for step in range(steps - rounds(60, 24), steps, rounds(1, 2)):
            shutil.rmtree(self.folder / "out")
            self.export("--as", "pdf,eml", step=step, code=None)
            self.export("--as", "pdf,eml")
            self.assertEqual(self.made("out"), undisturbed, step)
            given = [number for numbers in self.numbers().values() for number in numbers]
            self.assertEqual(sorted(given), [f"HARB-{n:06}" for n in range(1, 7)], step)
            self.assertIn("0 foreign", self.run_program("verify", "out").stdout)

    def test_archival_locked_and_bound(self) -> None:
        self.export("--archival", into="archival")
        for path in (self.folder / "archival").rglob("*.pdf"):
            ours = says_universal(path)  # pages that others have made are in it, or none
            self.assertEqual(conforms(path, "3a" if ours else "3b"), [], path)
            if ours:
                check_tagged(self, path)
        self.assertEqual(len([n for numbers in self.numbers("archival").values() for n in numbers]), 6)
        self.write("secret", "tide")
        self.export("--password", "file:secret", into="locked")
        self.assertEqual(len([n for numbers in self.numbers("locked", "tide").values() for n in numbers]), 6)
        self.export("--bind", "all", "--sort=-date", into="bound")
        ((name, numbers),) = self.numbers("bound").items()
        self.assertEqual((name, len(numbers)), ("HARB-000001.pdf", 7))

    def test_by_an_order(self) -> None:
        self.export()
        call = ("export", "in", "--into", "kept", "--numbered", "HARB-", "--attachments", "pages")
        self.run_program("order", "add", "exhibits", "--", *call)
        self.run_program("order", "run", "exhibits")
        self.assertEqual(self.numbers("kept"), self.numbers())
        self.write("in/a/4.eml", letter("More"))
        self.run_program("order", "run", "exhibits")
        self.assertEqual(self.numbers("kept")["HARB-000007.pdf"], ["HARB-000007"])

    def test_files_of_others_stay(self) -> None:
        theirs = self.write("out/b/HARB-000003.pdf", b"theirs")
        self.export()
        self.assertEqual(theirs.read_bytes(), b"theirs")
        theirs.unlink()
        self.assertEqual(self.numbers()["HARB-000003 (2).pdf"], ["HARB-000003"])
        self.assertIn("0 written", self.export())

    def test_refused(self) -> None:
        for more in (("--as", "eml"), ("--numbered", "../x"), ("--numbered", "")):
            with self.subTest(more):
                self.assertEqual(more == ("--numbered", ""), not self.export(*more, code=None).startswith("wexagraph"))
