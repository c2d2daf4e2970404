"""Bound PDFs: what stands in them, in which order, where their numbers and links lead; and how they are resumed."""

from __future__ import annotations

import re
import subprocess
import time
import unittest
from itertools import pairwise
from pathlib import Path

import pikepdf
import pypdfium2

from tests.helpers import ProgramTest, check_with_others, letter, mbox, pdf_pages, pdf_text
from tests.running import RunTest
from tests.tagged_pdf import check_tagged, conforms, outline
from wexagraph.demo.build import file, html, message, multipart, text, when
from wexagraph.demo.files import pdf
from wexagraph.demo.mailbox import make_mailbox
from wexagraph.messages.conversations import Conversations, base_subject, thread
from wexagraph.messages.headers import Header


def reply(number: int, *before: int, subject: str = "Re: Berth 4", body: str = "Yes.\n", day: int = 0) -> bytes:
    """A letter that refers to others by their numbers."""
    more = f"Message-ID: <m{number}@saltmere.example>\n"
    if before:
        more += f"References: {' '.join(f'<m{one}@saltmere.example>' for one in before)}\n"
    return letter(subject, date=f"Sat, {day or number:02} Mar 2026 15:03:00 +0000", body=body, more=more)


class Conversation(unittest.TestCase):
    def test_base_subjects(self) -> None:
        table = {
            "Re: Berth": "Berth",
            "RE: AW: Fwd: Berth (fwd)": "Berth",
            "[fwd: Tides]": "Tides",
            "Re[2]: Berth: 4": "Berth: 4",
            "[quay] Re: [quay] Berth": "[quay] Berth",
            "Antw: SV: Tides": "Tides",
            "\u56de\u590d\uff1aTides": "Tides",
        }
        for subject, base in table.items():
            self.assertEqual(base_subject(subject), (base, True), subject)
        for subject in ("Regatta", "Re:", "Notice: fog", "", "Reference: 4"):
            self.assertEqual(base_subject(subject), (subject, False))
        self.assertEqual(base_subject("Re: " * 100_000)[1], True)  # in an instant, not in minutes

    def test_who_belongs_together(self) -> None:
        mails = [
            reply(1, subject="Berth 4"),
            reply(2, 1),
            reply(3, 9),  # answers one that is not here
            reply(4, 9, 3),
            reply(5, subject="Re: Berth 4"),  # names none: by its subject
            reply(6, subject="Tide table"),
            reply(7, subject="Tide table"),  # not an answer: another of the same name
            reply(8, 6, subject="Something else"),
        ]
        conversations = Conversations()
        for number, mail in enumerate(mails, 1):
            conversations.add(number, thread(Header(mail)))
        conversations.finish()
        groups: dict[object, list[int]] = {}
        for number in range(1, len(mails) + 1):
            groups.setdefault(conversations.root(number), []).append(number)
        self.assertEqual(sorted(groups.values()), [[1, 2, 5], [3, 4], [6, 8], [7]])


class Bound(ProgramTest):
    def assert_leads_right(self, path: Path, subjects: list[str]) -> None:
        """Contents page, bookmarks, links and page numbers of a bound PDF all agree with what stands on its pages."""
        check_with_others(self, path)
        document = pypdfium2.PdfDocument(path)
        texts = [page.get_textpage().get_text_range() for page in document]
        for number, shown in enumerate(texts, 1):
            self.assertIn(f"Page {number} of {len(texts)}", shown)
        with pikepdf.open(path) as opened, opened.open_outline() as outline:
            self.assertEqual(str(outline.root[0].title), "Contents")
            marks = outline.root[1:]
            self.assertEqual([str(item.title).partition(": ")[2] for item in marks], subjects)
            pages = {page.objgen: number for number, page in enumerate(opened.pages)}
            starts = [pages[item.destination[0].objgen] for item in marks]
            links = [
                pages[link.A.D[0].objgen] for page in opened.pages for link in page.get("/Annots", []) if "/D" in link.A
            ]
        for start, subject in zip(starts, subjects, strict=True):
            self.assertTrue(texts[start].replace("\r\n", " ").strip().startswith(subject), texts[start][:80])
        self.assertEqual(starts, sorted(starts))
        self.assertTrue(set(starts) <= set(links))
        call = ("pdftotext", "-layout", "-l", str(starts[0]), str(path), "-")
        contents = subprocess.run(call, capture_output=True, check=True, encoding="utf-8").stdout
        listed = [int(printed) for printed in re.findall(r"(?m)^ *\d{4}-\d\d-\d\d .* (\d+)$", contents)]
        self.assertEqual(listed, [start + 1 for start in starts])

    def test_a_conversation_in_order_of_dates(self) -> None:
        self.write("in.mbox", mbox(reply(3, 1, 2), reply(1, subject="Berth 4"), letter("Fog"), reply(2, 1)))
        self.run_program("export", "in.mbox", "--into", "out", "--bind", "conversation")
        self.assertEqual(self.made("out"), ["in/2026-03-01 Berth 4.pdf", "in/2026-03-14 Fog.pdf"])
        self.assert_leads_right(
            self.folder / "out/in/2026-03-01 Berth 4.pdf", ["Berth 4", "Re: Berth 4", "Re: Berth 4"]
        )

    def test_the_whole_demo_in_one(self) -> None:
        make_mailbox(self.folder / "in")
        options = ("--bind", "all", "--attachments", "pages,embed", "--archival", "--as", "pdf,eml")
        done = self.run_program("export", "in", "--into", "out", *options)
        self.assertIn("117 written", done.stdout)
        self.assertNotIn("no PDF/A", done.stdout)
        (path,) = (self.folder / "out").rglob("*.pdf")
        self.assertEqual(conforms(path, "3a"), [])
        check_tagged(self, path)
        parts = [text for depth, kind, text in outline(path) if (depth, kind) == (1, "Document") and not text]
        self.assertGreaterEqual(len(parts), 118, "a document for each message, and one for the contents")
        with pikepdf.open(path) as document:
            originals = {
                spec.get_file().read_bytes()
                for name, spec in document.attachments.items()
                if "original message" in name
            }
        self.assertEqual(originals, {eml.read_bytes() for eml in (self.folder / "out").rglob("*.eml")})
        check_with_others(self, path)
        document = pypdfium2.PdfDocument(path)
        count = len(document)
        numbered = sum(
            f"Page {n} of {count}" in page.get_textpage().get_text_range() for n, page in enumerate(document, 1)
        )
        self.assertGreater(numbered, 0.9 * count)  # pages of others stay as they are

    def test_attachments_hang_below_their_message(self) -> None:
        body = multipart("mixed", text("See the plan.\n"), file("plan.pdf", "application/pdf", pdf("Plan of the quay")))
        for day in ("2026-03-14", "2026-03-15"):
            self.write(f"in/{day}.eml", message("a@saltmere.example", "b@saltmere.example", "Plan", when(day), body))
        self.run_program("export", "in", "--into", "out", "--bind", "folder", "--attachments", "pages,embed")
        (path,) = (self.folder / "out").rglob("*.pdf")
        with pikepdf.open(path) as document:
            with document.open_outline() as outline:
                self.assertEqual(
                    [[str(c.title) for c in item.children] for item in outline.root[1:]], [["plan.pdf"]] * 2
                )
            self.assertEqual(sorted(document.attachments), ["001 plan.pdf", "002 plan.pdf"])
            self.assertEqual(
                {spec.get_file().read_bytes() for spec in document.attachments.values()}, {pdf("Plan of the quay")}
            )

    def test_it_is_not_larger_than_its_parts(self) -> None:
        picture = (make_mailbox(self.folder / "demo"), self.folder / "demo")[1]
        self.run_program("export", picture, "--into", "one", "--flat")
        self.run_program("export", picture, "--into", "many", "--bind", "all")
        parts = sum(path.stat().st_size for path in (self.folder / "one").glob("*.pdf"))
        (bound,) = (self.folder / "many").glob("*.pdf")
        self.assertLess(bound.stat().st_size, parts)

    def test_quotes_are_left_out_where_they_stand_already(self) -> None:
        first = "The crane on the east quay needs a new cable before the spring tides come in.\n"
        wrapped = "> The crane on the east quay needs\n> a new cable before the spring tides\n> come in.\n"
        rich = message(
            "a@b.example",
            "c@d.example",
            "Re: Berth 4",
            when("2026-03-20"),
            html(
                f"<p>Rich answer.</p><blockquote><p>{first}</p></blockquote><blockquote>Not said before.</blockquote>"
            ),
        )
        own = reply(2, 1, body=f"Ordered.\n\n{wrapped}\n> A line that nobody has written.\n")
        rich = b"References: <m1@saltmere.example>\n" + rich
        self.write("in.mbox", mbox(reply(1, subject="Berth 4", body=first), own, rich))
        self.run_program("export", "in.mbox", "--into", "out", "--bind", "conversation", "--unquote")
        shown = " ".join(pdf_text(next((self.folder / "out").rglob("*.pdf"))).split())
        self.assertEqual(shown.count("needs a new cable"), 1)
        self.assertEqual(shown.count("Quoted text left out: it stands in the message of 2026-03-01 15:03 from Ines"), 2)
        for kept in ("A line that nobody has written", "Not said before", "Ordered.", "Rich answer."):
            self.assertIn(kept, shown)

    def test_messages_run_on(self) -> None:
        long = "\n".join(f"Line {n} of the tide table." for n in range(90))
        lively = html('<p>See <a href="https://saltmere.example/tides">the tides</a>.</p>')
        mails = [letter(f"Notice {n}", date=f"Sat, {n:02} Mar 2026 15:03:00 +0000") for n in range(1, 9)]
        mails[5] = letter("Notice 6", date="Fri, 06 Mar 2026 15:03:00 +0000", body=long)
        mails[2] = message("a@b.example", "c@d.example", "Notice 3", when("2026-03-03"), lively)
        plan = file("plan.pdf", "application/pdf", pdf("Plan", "The plan."))
        mails[6] = message(
            "a@b.example",
            "c@d.example",
            "Notice 7",
            when("2026-03-07"),
            multipart("mixed", text("See the plan."), plan),
        )
        self.write("in.mbox", mbox(*mails))
        command = ("export", "in.mbox", "--bind", "all", "--as", "pdf", "--attachments", "pages")
        self.run_program(*command, "--into", "apart")
        self.run_program(*command, "--into", "out", "--run-on", "--cover")
        (apart,), (path,) = ((self.folder / name).rglob("*.pdf") for name in ("apart", "out"))
        self.assertEqual((pdf_pages(apart), pdf_pages(path)), (11, 8))
        check_with_others(self, path)
        document = pypdfium2.PdfDocument(path)
        texts = [page.get_textpage().get_text_range() for page in document]
        starts = [next(n for n, page in enumerate(texts[2:], 3) if f"Notice {of}" in page) for of in range(1, 9)]
        self.assertEqual(starts, [3, 3, 3, 3, 3, 4, 6, 8])
        self.assertEqual([int(n) for n in re.findall(r"Notice \d\s+(\d+)", texts[1])], starts)
        self.assertEqual(sum(page.count("Notice 3") for page in texts[2:]), 1)
        for number, page in enumerate(texts, 1):
            if number > 1 and "The plan." not in page:
                self.assertIn(f"Page {number} of 8", page)
        with pikepdf.open(path) as opened, opened.open_outline() as outline:
            pages = [page.objgen for page in opened.pages]
            led = [(pages.index(mark.destination[0].objgen) + 1, mark.destination) for mark in outline.root[1:]]
            self.assertEqual([number for number, _ in led], starts)
            heights = [float(to[3]) for number, to in led if number == 3 and to[1] == "/XYZ"]
            self.assertEqual(heights, sorted(heights, reverse=True), "each below the one before")
            self.assertEqual(len(heights), 4)
            (link,) = (note for note in opened.pages[2].Annots if "tides" in str(note.get("/A", {}).get("/URI", "")))
            left, low, right, high = map(float, link.Rect)
        at = document[2].get_textpage().get_text_bounded(left, low, right, high)
        self.assertIn("the tides", at, "the link has moved with its words")

    def test_only_what_grew_is_bound_again(self) -> None:
        self.write("in.mbox", mbox(reply(1, subject="Berth 4"), letter("Fog")))
        command = ("export", "in.mbox", "--into", "out", "--bind", "conversation")
        self.run_program(*command)
        fog = self.folder / "out/in/2026-03-14 Fog.pdf"
        before = fog.stat().st_mtime_ns
        self.assertIn("0 written, 2 already there", self.run_program(*command).stdout)
        self.write("in.mbox", mbox(reply(1, subject="Berth 4"), letter("Fog"), reply(2, 1)))
        self.run_program(*command)
        self.assertEqual(self.made("out"), ["in/2026-03-01 Berth 4.pdf", "in/2026-03-14 Fog.pdf"])
        self.assertEqual(fog.stat().st_mtime_ns, before)
        self.assertIn("Re: Berth 4", pdf_text(self.folder / "out/in/2026-03-01 Berth 4.pdf"))
        fog.unlink()
        self.run_program(*command)
        self.assertTrue(fog.exists())
        self.run_program("verify", "out")

    def test_a_message_without_a_page_has_a_page_that_says_so(self) -> None:
        pages = "<p>line</p>" * 10
        self.write("in/a.eml", letter("First"))
        self.write("in/b.eml", message("a@b.example", "c@d.example", "Second", when("2026-03-20"), html(pages)))
        hook = self.write(
            "hook/sitecustomize.py",
            (
                "import wexagraph.pages.engines.pluto as pluto\n"
                "old = pluto.PlutoPrint.render\n"
                "def render(self, page, options):\n"
                "    if page.record.title == 'Second' and 'No page could' not in page.html: raise pluto.PageError('made up')\n"
                "    return old(self, page, options)\n"
                "pluto.PlutoPrint.render = render\n"
            ),
        )
        done = self.run_program(
            "export",
            "in",
            "--into",
            "out",
            "--bind",
            "folder",
            "--engine",
            "plutoprint",
            code=1,
            env={"PYTHONPATH": str(hook.parent)},
        )
        self.assertIn("made up", done.stdout + done.stderr)
        shown = pdf_text(next((self.folder / "out").rglob("*.pdf")))
        self.assertIn("No page could be made of: Second", " ".join(shown.split()))
        self.assertEqual(len(self.made("out", ".eml")), 1)

    def test_calls_that_can_not_be_meant(self) -> None:
        self.write("in/a.eml", letter())
        for arguments, said in (
            (("--bind", "all", "--as", "eml"), "no PDF is asked for"),
            (("--bind", "all", "--as", "pdf,mbox"), "by a command of their own"),
            (("--unquote",), "needs --bind"),
            (("--run-on",), "needs --bind"),
            (("--bind", "month"), "conversation"),
        ):
            done = self.run_program("export", "in", "--into", "out", *arguments, code=2)
            self.assertIn(said, done.stderr)
        self.assertFalse((self.folder / "out").exists())


class Killed(RunTest):
    def test_killed_at_any_instant_the_next_run_ends_right(self) -> None:
        letters = [
            reply(n, *([n - 1] if n % 3 else []), subject=f"Berth {n % 9}", day=1 + n % 28) for n in range(1, 61)
        ]
        self.write("in.mbox", mbox(*letters))
        command = ("export", "in.mbox", "--bind", "conversation", "--as", "pdf,eml", "--into")
        self.run_program(*command, "whole")
        wanted = self.contents(self.folder / "whole")
        for turn in range(8):
            process = self.start(*command, "out")
            time.sleep(0.25 + turn * 0.2)
            process.kill()
            process.communicate()
        self.run_program(*command, "out")
        self.assertEqual(self.contents(self.folder / "out"), wanted)
        self.assert_clean(self.folder / "out")
        pages = [pdf_pages(path) for path in sorted((self.folder / "out").rglob("*.pdf"))]
        self.assertEqual(sum(pages), 60 + len(pages))  # a contents page each
        self.assertTrue(all(first >= 2 for first, _ in pairwise([*pages, 2])))
