"""Files that hold several messages hold all that they ever held: archives of folders and bound documents, by hand, in an
order and in a case."""

from __future__ import annotations

import json
import mailbox
import re
import shutil
import zipfile

from tests.helpers import ProgramTest, letter, mbox, pdf_text


def mail(name: str, day: int = 1, answers: str = "", body: str = "") -> bytes:
    more = f"Message-ID: <{name}@saltmere.example>\n" + (
        f"In-Reply-To: <{answers}@saltmere.example>\n" if answers else ""
    )
    return letter(f"Letter {name}", date=f"{day} Mar 2026 10:00:00 +0000", body=body or f"Of {name}.\n", more=more)


A, B, C, D = (mail(name, day) for day, name in enumerate("ABCD", 1))
LINES = mail("L", 9, body=">From the quay\nFrom here\n\nFrom there, without an end")


class Growing(ProgramTest):
    def held(self, into: str, suffix: str = ".zip") -> list[str]:
        """The names in the subjects of what the one archive or document of a folder holds, sorted."""
        (path,) = (self.folder / into).rglob(f"*{suffix}")
        if suffix == ".zip":
            with zipfile.ZipFile(path) as archive:
                self.assertIsNone(archive.testzip())
                texts = [archive.read(name).decode() for name in archive.namelist()]
        elif suffix == ".mbox":
            texts = [str(each["subject"]).join(("Subject: ", "\n")) for each in mailbox.mbox(path)]
        else:
            return sorted(set(re.findall(r"Of ([A-Z])\.", pdf_text(path))))
        return sorted(match[1] for text in texts if (match := re.search(r"Subject: Letter (\w)", text)))

    def export(self, *more: object, into: str = "out") -> str:
        return str(self.run_program("export", "in.mbox", "--into", into, *more).stdout)

    def written(self, into: str) -> set[str]:
        """The subjects that the register calls written, and whose files are there."""
        text = (self.folder / into / "register.csv").read_text("utf-8-sig")
        return set(re.findall(r"Letter (\w),", text))


class Archives(Growing):
    WAYS = ("--as", "mbox,zip")

    def test_a_narrower_choice_and_mail_that_is_gone(self) -> None:
        self.write("in.mbox", mbox(A, B, LINES))
        self.export(*self.WAYS)
        before = {path: path.read_bytes() for path in (self.folder / "out").glob("in.*")}
        self.assertIn("1 already there", self.export(*self.WAYS, "--subject", "letter b"))
        self.assertEqual({path: path.read_bytes() for path in before}, before)
        self.write("in.mbox", mbox(B, C))
        self.assertIn("2 written", self.export(*self.WAYS))
        for suffix in (".zip", ".mbox"):
            self.assertEqual(self.held("out", suffix), ["A", "B", "C", "L"])
        self.assertEqual(self.written("out"), {"A", "B", "C", "L"})
        self.run_program("verify", "out")
        with zipfile.ZipFile(self.folder / "out/in.zip") as archive:
            self.assertEqual({archive.read(name) for name in archive.namelist()}, {A, B, C, LINES + b"\n"})
        given_back = self.write("back.mbox", (self.folder / "out/in.mbox").read_bytes())
        self.run_program("export", given_back, "--as", "eml", "--into", "eml")
        made = {path.read_bytes().rstrip() for path in (self.folder / "eml").rglob("*.eml")}
        self.assertEqual(made, {each.rstrip() for each in (A, B, C, LINES)})

    def test_a_lost_journal(self) -> None:
        self.write("in.mbox", mbox(A, B, LINES))
        self.export(*self.WAYS)
        shutil.rmtree(self.folder / "out/.wexagraph")
        self.write("in.mbox", mbox(B, D))
        self.export(*self.WAYS)
        for suffix in (".zip", ".mbox"):
            self.assertEqual(self.held("out", suffix), ["A", "B", "D", "L"])
        self.assertIn("2 already there", self.export(*self.WAYS))

    def test_one_that_can_not_be_read_stays_beside(self) -> None:
        self.write("in.mbox", mbox(A, B))
        self.export("--as", "zip")
        archive = self.folder / "out/in.zip"
        archive.write_bytes(archive.read_bytes()[:200])
        self.write("in.mbox", mbox(C))
        self.export("--as", "zip")
        self.assertEqual(
            sorted(path.name for path in (self.folder / "out").glob("*.zip")), ["in (changed by hand).zip", "in.zip"]
        )

    def test_in_an_order_and_in_a_case(self) -> None:
        """What came is in the archive beside what was there; single files that somebody moved on are not made again."""
        self.write("in.mbox", mbox(A, B))
        self.run_program("case", "open", "1", "Fog", "--records", "rec")
        self.run_program("order", "add", "both", "--", "export", "in.mbox", "--as", "eml", "--into", "single")
        self.run_program("order", "add", "zip", "--", "export", "in.mbox", "--as", "zip", "--into", "ordered")
        filing = ("file", "in.mbox", "--case", "1", "--as", "zip,mbox", "--records", "rec")
        for count, letters in ((2, (A, B)), (1, (B, C)), (0, (C,)), (1, (D,))):
            self.write("in.mbox", mbox(*letters))
            (run,) = json.loads(self.run_program("order", "run", "zip", "--json").stdout)["runs"]
            self.assertEqual(run["written"], count)
            self.run_program(*filing)
        for into in ("ordered", "rec/1 Fog"):
            self.assertEqual(self.held(into), ["A", "B", "C", "D"])
        self.assertEqual(self.held("rec/1 Fog", ".mbox"), ["A", "B", "C", "D"])
        self.run_program("verify", "rec")


class Documents(Growing):
    def test_a_narrower_choice_and_mail_that_is_gone(self) -> None:
        self.write("in.mbox", mbox(A, B))
        ways = ("--as", "pdf,eml", "--bind", "folder")
        self.export(*ways)
        self.assertIn("1 already there", self.export(*ways, "--subject", "letter b"))
        self.assertEqual(self.held("out", ".pdf"), ["A", "B"])
        self.write("in.mbox", mbox(C))
        self.assertIn("1 written", self.export(*ways))
        self.assertEqual(self.held("out", ".pdf"), ["A", "B", "C"])
        self.run_program("verify", "out")
        lines = (self.folder / "out/manifest-sha256.txt").read_text().splitlines()
        self.assertEqual(len(lines), len({line.split("  ", 1)[1] for line in lines}), "a path has one line")
        self.assertIn("1 already there", self.export(*ways))

    def test_what_nobody_has_any_more_stays_where_it_is(self) -> None:
        self.write("in.mbox", mbox(A, B))
        self.export("--bind", "folder")
        (first,) = (self.folder / "out").rglob("*.pdf")
        before = first.read_bytes()
        self.write("in.mbox", mbox(B, C))
        self.export("--bind", "folder")
        self.assertEqual(first.read_bytes(), before)
        second = next(path for path in (self.folder / "out").rglob("*.pdf") if path != first)
        self.assertEqual(sorted(set(re.findall(r"Of ([A-Z])\.", pdf_text(second)))), ["B", "C"])
        self.run_program("verify", "out")
        self.assertIn("2 already there", self.export("--bind", "folder"))

    def test_in_an_order_and_in_a_case(self) -> None:
        answer = mail("E", 5, answers="A")
        self.run_program("case", "open", "1", "Fog", "--records", "rec")
        for bind in ("all", "conversation"):
            self.write("in.mbox", mbox(A))
            call = ("export", "in.mbox", "--as", "pdf,eml", "--bind", bind, "--into", f"{bind} out")
            self.run_program("order", "add", bind, "--", *call)
            self.run_program("order", "run", bind)
            moved = next((self.folder / f"{bind} out").rglob("*.eml"))
            shutil.copy(moved, self.folder / f"{bind}.eml")
            self.write("in.mbox", mbox(answer) if bind == "conversation" else mbox(answer, B))
            (run,) = json.loads(self.run_program("order", "run", bind, "--json").stdout)["runs"]
            self.assertEqual((run["written"], run["already_there"]), (1 if bind == "conversation" else 2, 0))
            wanted = ["A", "E"] if bind == "conversation" else ["A", "B", "E"]
            self.assertEqual(self.held(f"{bind} out", ".pdf"), wanted)
            self.run_program("verify", f"{bind} out")
        for letters in ((A,), (B, answer), (D,)):
            self.write("in.mbox", mbox(*letters))
            self.run_program("file", "in.mbox", "--case", "1", "--bind", "all", "--records", "rec")
        self.assertEqual(self.held("rec/1 Fog", ".pdf"), ["A", "B", "D", "E"])
        self.run_program("verify", "rec")

    def test_what_somebody_moved_on_is_not_made_again(self) -> None:
        """Single files beside an archive or a document, in an order (by hand, an export makes what is missing)."""
        for n, ways in enumerate((("--as", "eml,zip"), ("--as", "pdf,eml", "--bind", "all"))):
            self.write("in.mbox", mbox(A, B))
            self.run_program("order", "add", f"o{n}", "--", "export", "in.mbox", *ways, "--into", f"o{n}")
            self.run_program("order", "run", f"o{n}")
            victim = next((self.folder / f"o{n}").rglob("*A.eml"))
            victim.rename(self.folder / "moved.eml")
            self.write("in.mbox", mbox(A, B, C))
            (run,) = json.loads(self.run_program("order", "run", f"o{n}", "--json").stdout)["runs"]
            self.assertEqual((run["written"], run["already_there"]), (1, 2))
            self.assertFalse(victim.exists())
            self.assertEqual(self.held(f"o{n}", ".zip" if n == 0 else ".pdf"), ["A", "B", "C"])
