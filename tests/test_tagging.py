"""Tagged PDFs: judged by page-validation, by pdfium along the structure tree, and by an audit that is judged itself by
faults that are planted."""

from __future__ import annotations

import io
import itertools
import unittest
from collections import Counter
from collections.abc import Callable
from dataclasses import replace
from difflib import SequenceMatcher
from typing import Any
from unittest import mock

import pikepdf
import pypdfium2
from PIL import Image
from selectolax.lexbor import LexborHTMLParser

from tests.helpers import ProgramTest, letter, letter_with, mbox, rounds
from tests.newsletters import NEWSLETTERS
from tests.tagged_pdf import check_tagged, conforms, heard, outline
from wexagraph.demo.build import file, html, message, multipart, text, when
from wexagraph.demo.files import pdf
from wexagraph.demo.mailbox import make_mailbox
from wexagraph.messages.message import Message
from wexagraph.pages.composing.compose import compose
from wexagraph.pages.engines import engine
from wexagraph.pages.make import Job, make
from wexagraph.pages.options import PageOptions
from wexagraph.pages.tagging.audit import audit, says_universal

OPTIONS = PageOptions(zone="UTC")


def mail(body: str, *files: Any, language: str = "") -> bytes:
    content = multipart("related", html(body), *files) if files else html(body)
    made = message("a@saltmere.example", "b@saltmere.example", "Notice", when("2026-03-14"), content)
    return (f"Content-Language: {language}\n".encode() if language else b"") + made


def set_as(data: bytes, options: PageOptions = OPTIONS) -> bytes:
    return make(Job(data, ("pdf",), options)).files["pdf"]


def tree(pdf: bytes) -> list[str]:
    """The elements of the sender's text: an indent a level, type and text."""
    rows = outline(pdf)
    begin = next(number for number, (_, kind, _) in enumerate(rows) if kind == "Table")
    body = (number for number in range(begin + 1, len(rows)) if rows[number][0] == 1)
    out: list[str] = []
    at: dict[int, int] = {}
    for depth, kind, said in rows[next(body, len(rows)) :]:
        if kind:
            at[depth] = len(out)
            out.append(f"{' ' * (depth - 1)}{kind}")
        elif said.strip():
            out[at[depth]] += f" {' '.join(said.split())}"
    return out


def attributes(pdf: bytes, kind: str, *keys: str) -> list[tuple[str, ...]]:
    """What the elements of a type have under some keys."""
    with pikepdf.open(io.BytesIO(pdf)) as document:
        elements = [e for e in document.objects if isinstance(e, pikepdf.Dictionary) and e.get("/S") == f"/{kind}"]
        return [tuple(str(element.get(f"/{key}", "")) for key in keys) for element in elements]


class Structure(unittest.TestCase):
    def test_headings_lie_below_ours_and_skip_no_level(self) -> None:
        made = set_as(
            mail(
                "<h3>Tides</h3><p>High.</p><h6>Low</h6><h1>Fog</h1><h2><img src='x' width=1 height=1></h2><h4>Ice</h4>"
            )
        )
        kinds = [row for row in tree(made) if row.strip().startswith("H")]
        self.assertEqual(kinds[:4], ["H2 Tides", "H3 Low", "H2 Fog", "H3 Ice"])
        check_tagged(self, made)

    def test_lists_quotes_and_code(self) -> None:
        made = set_as(
            mail(
                "<ul><li>East<ol><li>Berth 7</li></ol></li><li>West</li></ul>"
                "<blockquote>Please <b>moor</b> there.</blockquote><pre>tide = 4\nfog = 0</pre>"
            )
        )
        self.assertEqual(
            tree(made),
            [
                *("L", " LI", "  Lbl •", "  LBody East", "   L", "    LI", "     Lbl 1.", "     LBody Berth 7"),
                *(" LI", "  Lbl •", "  LBody West", "BlockQuote", " P Please moor there."),
                *("P", " Code tide = 4 fog = 0"),
            ],
        )
        check_tagged(self, made)

    def test_a_plain_text(self) -> None:
        body = text("Dear all,\n\nthe berth is free.\n\n> Is it?\n>> Is what?\n")
        made = set_as(message("a@saltmere.example", "b@saltmere.example", "Re", when("2026-03-14"), body))
        self.assertEqual(
            tree(made),
            ["P Dear all,", "P the berth is free.", "BlockQuote", " P Is it?", " BlockQuote", "  P Is what?"],
        )
        check_tagged(self, made)

    def test_tables_of_data_and_of_layout(self) -> None:
        made = set_as(
            mail(
                "<table><tr><td>Left<td>Right</table>"
                "<table><tr><th>Berth</th><th colspan=2>Fee</th></tr><tr><th>7</th><td>1</td><td></td></tr></table>"
            )
        )
        self.assertEqual(
            tree(made),
            ["P Left", "P Right", "Table", " TR", "  TH Berth", "  TH Fee", " TR", "  TH 7", "  TD 1"],
        )
        scopes = sorted(text for (text,) in attributes(made, "TH", "A") if "Scope" in text)
        self.assertEqual(Counter("Column" in each for each in scopes), {True: 2, False: 3 + 1})
        self.assertEqual(len(attributes(made, "TD")), 3 + 2, "an empty cell keeps its place")
        check_tagged(self, made)

    def test_links_and_pictures(self) -> None:
        out = io.BytesIO()
        Image.new("RGB", (60, 30), "navy").save(out, "PNG")
        quay = file("quay.png", "image/png", out.getvalue(), cid="quay")
        out = io.BytesIO()
        Image.new("RGB", (1, 1), "white").save(out, "PNG")
        spacer = file("spacer.png", "image/png", out.getvalue(), cid="spacer")
        body = (
            "<p>See <a href='https://saltmere.example/tides'>the tables of tides that go on and on until they need two "
            "lines to stand on the page of this letter</a> and <a href='https://saltmere.example/fog'><img src='cid:quay' "
            "alt='The quay in fog'></a><img src='cid:spacer' width=1 height=1><img src='cid:quay'></p>"
        )
        made = set_as(mail(body, quay, spacer))
        self.assertEqual(attributes(made, "Figure", "Alt"), [("The quay in fog",), ("quay.png",)])
        with pikepdf.open(io.BytesIO(made)) as document:
            notes = list(document.pages[0].Annots)
            self.assertEqual([str(note.Contents) for note in notes], [str(note.A.URI) for note in notes])
            rows = dict(zip(*(list(document.Root.StructTreeRoot.ParentTree.Nums)[at::2] for at in (0, 1)), strict=True))
            links = [rows[int(note.StructParent)] for note in notes]
        self.assertEqual(len(notes), 3, "a link over two lines has two rectangles")
        self.assertEqual(len(links), 3)
        check_tagged(self, made)

    def test_charts_and_drawings_say_what_they_are(self) -> None:
        svg = b'<svg xmlns="http://www.w3.org/2000/svg" width="90" height="50"><path d="M0 0L90 50L0 50z" fill="red"/></svg>'
        made = set_as(
            mail(
                "<p>Before <img src='cid:plan' alt='Plan of the quay'> after.</p>",
                file("plan.svg", "image/svg+xml", svg, cid="plan"),
            )
        )
        self.assertEqual(attributes(made, "Figure", "Alt"), [("Plan of the quay",)])
        check_tagged(self, made)

    def test_languages(self) -> None:
        made = set_as(mail("<p>Nebel <span lang=fr>brouillard</span></p><p lang=en>Fog</p>", language="de"))
        with pikepdf.open(io.BytesIO(made)) as document:
            self.assertEqual(str(document.Root.Lang), "de")
        self.assertEqual(attributes(made, "Span", "Lang"), [("fr",)])
        self.assertIn(("en",), attributes(made, "P", "Lang"))
        check_tagged(self, made)
        made = set_as(mail("<p>Die Berths sind für den Winter nicht mit dem Boot zu erreichen und werden geräumt.</p>"))
        self.assertEqual(attributes(made, "Document", "Lang"), [("de",)], "as its words tell")
        self.assertEqual(attributes(made, "Table", "Lang"), [("en",)], "the labels are ours")
        check_tagged(self, made)

    def test_words_are_heard_as_they_were_written(self) -> None:
        """What hangs at the end of a line, what a line broke, what runs to the left, what a font joins."""
        long = "The harbour master of Saltmere gives notice that the dredging of the east basin begins on Monday. " * 4
        cases = {
            long: long,
            "Hafen&shy;meisterei&shy;verordnungs&shy;entwurf " * 9: "Hafenmeistereiverordnungsentwurf " * 9,
            "<p dir=rtl>שלום עולם, נמל 7 סגור ביום שני</p>": "שלום עולם, נמל 7 סגור ביום שני",
            "<p dir=rtl>السلام عليكم ورحمة الله Saltmere Harbour</p>": "السلام عليكم ورحمة الله Saltmere Harbour",
            "<p>नमस्ते बन्दरगाह क्षेत्रीय</p>": "नमस्ते बन्दरगाह क्षेत्रीय",
            "<p style='text-transform:uppercase'>Efficient offices</p>": "EFFICIENT OFFICES",
            "<p>Tide 😀 high</p>": "Tide",
        }
        for body, wanted in cases.items():
            with self.subTest(wanted[:40]):
                made = set_as(mail(body))
                self.assertIn(" ".join(wanted.split()), heard(made))
                check_tagged(self, made)

    def test_footnotes_of_documents(self) -> None:
        """Notes have identifiers that no other has, also where documents are joined."""
        notes = "<p>Text<sup><a href='#note-ref'>1</a></sup></p><ol><li id='{}note-1'>Said by the pilot.</li></ol>"
        made = set_as(mail(notes.format("foot")))
        self.assertEqual(attributes(made, "Note", "ID"), [("note-000000",)])
        check_tagged(self, made)
        files = (file(f"{kind}.html", "text/html", notes.format(kind).encode()) for kind in ("foot", "end"))
        letter = message(
            "a@saltmere.example",
            "b@saltmere.example",
            "Two",
            when("2026-03-14"),
            multipart("mixed", html("<p>See.</p>"), *files),
        )
        made = set_as(letter, replace(OPTIONS, attachments=("pages",)))
        self.assertEqual(sorted(attributes(made, "Note", "ID")), [("note-000000",), ("note-000001",)])
        check_tagged(self, made)

    def test_data_and_lists_of_forty_newsletters(self) -> None:
        self.assertEqual(len(NEWSLETTERS), 40)
        wanted, found, invented = Counter[str](), Counter[str](), list[str]()
        for newsletter in NEWSLETTERS:
            rows = itertools.takewhile(lambda row: "Notes on this copy" not in row, tree(set_as(mail(newsletter.html))))
            kinds = Counter(row.split()[0] for row in rows)
            for kind, count in (("Table", newsletter.data), ("L", newsletter.lists)):
                wanted[kind] += count
                found[kind] += min(count, kinds[kind])
                invented += [newsletter.html[:200]] * (kinds[kind] > count)
        self.assertEqual(invented, [])
        for kind, count in wanted.items():
            self.assertGreaterEqual(found[kind] / count, 0.95, kind)


class Everything(ProgramTest):
    def test_the_whole_demo(self) -> None:
        """Each PDF of ours says that it is PDF/UA-1 and is; its words are heard in the order of the HTML."""
        make_mailbox(self.folder / "in")
        self.run_program("export", "in", "--into", "out", "--as", "pdf,html", "--attachments", "none")
        made = sorted((self.folder / "out").rglob("*.pdf"))
        self.assertGreater(len(made), 100)
        right = total = 0
        for path in made:
            with self.subTest(path.name):
                self.assertTrue(says_universal(path))
                check_tagged(self, path)
            body = LexborHTMLParser(path.with_suffix(".html").read_text("utf-8")).body
            written = [] if body is None else body.text(separator=" ").split()
            words = heard(path).split()
            matches = SequenceMatcher(None, written, words, autojunk=False).get_matching_blocks()
            right, total = right + sum(each.size for each in matches), total + len(words)
        self.assertGreater(right / total, 0.97)  # where an element ends inside a word, they part otherwise
        said = self.run_program("verify", "out").stdout
        self.assertIn(f"Tagged for everyone to read (PDF/UA-1), and found so: {len(made)} of {len(made)} PDFs.", said)

    def test_in_every_form(self) -> None:
        chain = message(
            "a@saltmere.example",
            "b@saltmere.example",
            "Chain",
            when("2026-03-14"),
            html("<p>See <a href='https://saltmere.example/'>it</a></p>"),
        )
        self.write(
            "in.mbox", mbox(letter("Berth 4"), chain, letter_with(("plan.txt", "text/plain", b"quay"), subject="Plan"))
        )
        self.write("word", "tide")
        forms = {
            "plain": ("--evidence", "--headers"),
            "bound": ("--bind", "all"),
            "run-on": ("--bind", "all", "--run-on"),
            "cover": ("--cover", "--paper", "letter"),
            "pages": ("--attachments", "pages", "--paper", "a5", "--language", "de"),
            "numbered": ("--numbered", "HARB-"),
            "archival": ("--archival", "--bind", "all", "--cover"),
            "locked": ("--password", "file:word"),
            "second": ("--engine", "weasyprint", "--attachments", "pages", "--scale", "90%"),
        }
        for name, options in forms.items():
            self.run_program("export", "in.mbox", "--into", name, *options)
            for path in (self.folder / name).rglob("*.pdf"):
                with self.subTest(path.relative_to(self.folder)):
                    check_tagged(self, path, "tide" if name == "locked" else "")
                    self.assertEqual(conforms(path, "3a") if name == "archival" else [], [])
        with pikepdf.open(next((self.folder / "run-on").rglob("*.pdf"))) as document:
            parts = [str(part.T) for part in document.Root.StructTreeRoot.K.K]
        self.assertEqual(
            sorted(parts[1:]), ["Berth 4", "Chain", "Plan"], "a document for each message behind the contents"
        )

    def test_pages_of_others_claim_nothing(self) -> None:
        self.write("in/a.eml", letter_with(("plan.pdf", "application/pdf", pdf("Plan of the quay"))))
        self.run_program("export", "in", "--into", "out", "--attachments", "pages")
        path = next((self.folder / "out").rglob("*.pdf"))
        self.assertFalse(says_universal(path))
        self.assertIn("H1", [kind for _, kind, _ in outline(path)], "ours are tagged all the same")
        self.assertIn("found so: 0 of 1 PDF.", self.run_program("verify", "out").stdout)

    def test_a_pdf_that_goes_while_it_is_proved(self) -> None:
        self.write("in.mbox", mbox(letter("Berth 4")))
        self.run_program("export", "in.mbox", "--into", "out")
        next((self.folder / "out").rglob("*.pdf")).unlink()  # between its digest and the look at its tags
        with mock.patch("wexagraph.exports.verify._state", return_value="whole"):
            self.assertIn("1 missing", self.call_program("verify", "out", code=1).stdout)

    def test_what_is_drawn_stays_as_it_is(self) -> None:
        make_mailbox(self.folder / "in")
        setter = engine("plutoprint")
        for path in sorted((self.folder / "in").rglob("*.eml"))[:: rounds(1, 8)]:
            page = compose(Message(path.read_bytes()), OPTIONS)
            drawn = [
                [bytes(each.render(scale=1).buffer) for each in pypdfium2.PdfDocument(setter.render(one, OPTIONS))]
                for one in (page, replace(page, tagged=False))
            ]
            self.assertEqual(drawn[0], drawn[1], path.name)


class Audit(unittest.TestCase):
    """Each fault is planted in a PDF that has none, and named."""

    def test_each_fault_is_found(self) -> None:
        whole = set_as(
            mail("<h2>Tides</h2><p>See <a href='https://saltmere.example/'>the tables</a></p><ul><li>East</li></ul>")
        )
        self.assertEqual(audit(whole), [])

        def content(old: bytes, new: bytes) -> Callable[[Any], None]:
            def change(document: Any) -> None:
                page = document.pages[0]
                stream = page.Contents.read_bytes()
                assert old in stream, old
                page.Contents = document.make_stream(stream.replace(old, new, 1))

            return change

        def unhooked(document: Any) -> None:
            del document.pages[0].Annots[0].StructParent

        def leads_elsewhere(document: Any) -> None:
            row = document.Root.StructTreeRoot.ParentTree.Nums[1]
            row[0] = row[1]

        def forgotten(document: Any) -> None:
            del document.Root.StructTreeRoot.ParentTree.Nums[1][-1]

        def held_twice(document: Any) -> None:
            row = document.Root.StructTreeRoot.ParentTree.Nums[1]
            row[1].K = row[0].K

        def without(*keys: str) -> Callable[[Any], None]:
            def change(document: Any) -> None:
                for key in keys:
                    del document.Root[key]

            return change

        def unowned(document: Any) -> None:
            row = document.Root.StructTreeRoot.ParentTree.Nums[1]
            row[0].P = row[2]

        faults = {
            "not tagged": without("/MarkInfo"),
            "no tree": without("/StructTreeRoot"),
            "no language": without("/Lang"),
            "title hidden": without("/ViewerPreferences"),
            "text outside": content(b"/H1 <</MCID 0>>BDC", b"/H1 BMC"),
            "lines outside": content(b"/Artifact BMC", b"/Span BMC"),
            "a number twice": content(b"/MCID 1>>", b"/MCID 0>>"),
            "a number without element": content(b"/MCID 1>>", b"/MCID 999>>"),
            "content that ends twice": content(b"EMC", b"EMC EMC"),
            "content that does not end": content(b"EMC", b""),
            "a link without element": unhooked,
            "the parent tree leads elsewhere": leads_elsewhere,
            "the parent tree forgets one": forgotten,
            "two hold the same": held_twice,
            "held by another": unowned,
        }
        for name, plant in faults.items():
            with self.subTest(name), pikepdf.open(io.BytesIO(whole)) as document:
                plant(document)
                out = io.BytesIO()
                document.save(out)
                self.assertNotEqual(audit(out.getvalue()), [])


if __name__ == "__main__":
    unittest.main()
