"""The parts of the PDF as a record by themselves: patterns, header and footer, quotes, properties, evidence, binding."""

from __future__ import annotations

import fcntl
import io
import os
import pty
import select
import subprocess
import tempfile
import termios
import unittest
from dataclasses import replace
from datetime import UTC, datetime
from pathlib import Path

import pikepdf
import pypdfium2

from tests.helpers import PROGRAM, ProgramTest, letter
from wexagraph.demo.build import html, message, when
from wexagraph.errors import CallError, PageError
from wexagraph.exports.options import ExportOptions
from wexagraph.languages import Language
from wexagraph.messages.headers import Header
from wexagraph.messages.message import Message
from wexagraph.naming.patterns import Fields, NamePattern, TextPattern
from wexagraph.pages.composing import covers, properties, quotes
from wexagraph.pages.composing.header_footer import HeaderFooter, header_footer
from wexagraph.pages.composing.properties import CREATOR, Record, described
from wexagraph.pages.engines import available
from wexagraph.pages.make import Job, make
from wexagraph.pages.options import Cover, Lock, Margins, PageOptions, line_parts, paper_size
from wexagraph.pages.pdf.binding import BindJob, Part, bind

FIELDS = Fields(Header(letter("A {x} | \ufdd0 Tide")), "Berths/East", "id1", UTC, when("2026-03-14", 15, 3))


class Patterns(unittest.TestCase):
    def test_lines_of_text(self) -> None:
        header = letter("a/b: <c> \u202ed", more="")
        fields = Fields(Header(header), "in/deep", "id1", UTC, when("2026-03-14", 15, 3), number=4)
        table = {
            "{subject}": "a/b: <c> d",
            "{sender} <{sender_address}>": "Ines Halden <ines.halden@quaysurvey.example>",
            "{date:%d.%m.%Y}": "14.03.2026",
            "{date}": "Saturday 14 March 2026, 15:03 (UTC+00:00)",
            "plain": "plain",
            "{folder} {id} {number:03}": "in/deep id1 004",
            "{{x}}": "{x}",
            "{recipient:>10}": "   Records",
        }
        for pattern, wanted in table.items():
            with self.subTest(pattern):
                self.assertEqual(TextPattern(pattern).fill(fields), wanted)
        self.assertEqual(TextPattern("{date:%Y}").fill(replace(fields, moment=None)), "undated")
        self.assertEqual(TextPattern("{page}", "footer", ("page",)).fill(fields, {"page": "7"}), "7")
        self.assertEqual(NamePattern("{subject}").stem(replace(fields, subject="Common")), "Common")

    def test_mistakes_say_what_is_wrong(self) -> None:
        for pattern, said in {
            "{subjekt}": "Did you mean {subject}?",
            "{subject": "can't be read",
            "{subject.x}": "no field",
            "{subject[0]}": "no field",
            "{subject!r}": "only have a format",
            "{date:{x}}": "only have a format",
            "{number:%Y}": "takes no date format",
            "{0}": "no field",
            "{}": "no field",
        }.items():
            with self.subTest(pattern), self.assertRaises(CallError) as caught:
                TextPattern(pattern, "tag")
            self.assertIn(said, str(caught.exception))
            self.assertIn("tag", str(caught.exception))

    def test_papers(self) -> None:
        self.assertEqual(paper_size("a5"), (148.0, 210.0))
        self.assertEqual(paper_size("100x150.5"), (100.0, 150.5))
        for wrong in ("", "a9", "100", "10x100", "100x9999", "100 x 150", "1e3x100", "-100x100"):
            with self.assertRaises(ValueError):
                paper_size(wrong)
        self.assertEqual(PageOptions(paper="100x150", landscape=True).page_size, (150.0, 100.0))
        self.assertAlmostEqual(PageOptions(scale=0.5).content_width, 2 * PageOptions().content_width, delta=1)

    def test_options_that_do_not_go_together(self) -> None:
        for options in (
            {"bind": "all", "formats": ("eml",)},
            {"bind": "all", "formats": ("pdf", "zip")},
            {"unquote": True},
            {"lock": Lock("x"), "page": PageOptions(archival=True)},
        ):
            with self.assertRaises(CallError):
                ExportOptions(**options)  # type: ignore[arg-type]
        for wrong in ("a;b", "x}", '"', "a\nb", " lead", "é" * 100):
            with self.assertRaises(CallError):
                PageOptions(text_font=wrong)

    def test_no_password_is_ever_told(self) -> None:
        lock = Lock("tide", "ebb", ("print",))
        options = ExportOptions(lock=lock)
        for text in (
            repr(lock),
            str(options),
            lock.recipe(),
            options.recipe("pdf"),
            options.naming,
            repr(Job(b"", ("pdf",), PageOptions())),
        ):
            self.assertNotIn("tide", text)
            self.assertNotIn("ebb", text)
        self.assertEqual(options.recipe("pdf"), ExportOptions(lock=Lock("other", "more", ("print",))).recipe("pdf"))
        self.assertNotEqual(options.recipe("pdf"), ExportOptions(lock=Lock("tide", "ebb")).recipe("pdf"))
        self.assertNotEqual(options.recipe("pdf"), ExportOptions().recipe("pdf"))


class RunningLines(unittest.TestCase):
    def test_where_parts_stand(self) -> None:
        for line, places in {
            "{page}": ["left"],
            "a | b": ["left", "right"],
            "a | b | c": ["left", "center", "right"],
            " | | c": ["right"],
            "| b |": ["center"],
            "": [],
        }.items():
            boxes = header_footer(PageOptions(header=line, footer=""), FIELDS, "f.pdf").boxes()
            self.assertEqual([box.place for box in boxes], places, line)
            self.assertTrue(all(box.name == f"top-{box.place}" for box in boxes))
            self.assertLessEqual(sum(box.width for box in boxes), 100)
        with self.assertRaises(CallError):
            line_parts("a|b|c|d")

    def test_numbers_are_counters_on_the_page_and_figures_when_bound(self) -> None:
        line = header_footer(PageOptions(footer="{file} | Page {page} of {pages}"), FIELDS, "f.pdf")
        self.assertIn('" counter(page) "', line.boxes()[1].content)
        self.assertEqual(
            line.lines(3, 17),
            [[], [("left", "f.pdf", 44), ("right", "Page 3 of 17", 56)]]
            if line.lines(3, 17)[1][0][2] == 44
            else line.lines(3, 17),
        )
        self.assertEqual([text for _, text, *_ in line.lines(3, 17)[1]], ["f.pdf", "Page 3 of 17"])

    def test_nothing_of_a_message_gets_out_of_its_string(self) -> None:
        fields = replace(FIELDS, header=Header(letter('"; } body { display:none } \\22 </style>')))
        (box,) = header_footer(PageOptions(footer="{subject}"), fields, "").boxes()
        inside = box.content[1:-1]
        self.assertFalse(set(inside) & set('";{}<>/\n'), inside)


class Quotes(unittest.TestCase):
    FIRST = "The crane on the east quay needs a new cable before the spring tides come in.\nInes\n"

    def known(self, *bodies: str, rich: bool = False) -> list[list[str]]:
        """For each message, the labels of its quotes that stand earlier."""
        said, quoted = quotes.Said(), []
        for number, body in enumerate(bodies):
            data = (
                message("a@b.example", "c@d.example", "S", when("2026-03-14"), html(body))
                if rich
                else letter(body=body)
            )
            quoted.append([label for _, label in said.meet(data, f"m{number}")])
        return quoted

    def test_however_it_was_wrapped(self) -> None:
        for quoted in (
            "> The crane on the east quay needs a new cable before the spring tides come in.\n> Ines\n",
            ">The crane on the east\n>quay needs a new cable\n>before the spring tides come in. Ines\n",
            "> the CRANE on the east quay needs a new cable, before the spring tides come in\n",
        ):
            self.assertEqual(self.known(self.FIRST, f"Yes.\n\n{quoted}"), [[], ["m0"]], quoted)

    def test_nested_and_in_pieces(self) -> None:
        second = "Ordered today.\n\n> The crane on the east quay needs a new cable before the spring tides come in.\n> Ines\n"
        third = "Thanks.\n\n> Ordered today.\n>\n>> The crane on the east quay needs a new cable before the spring\n>> tides come in.\n>> Ines\n"
        self.assertEqual(self.known(self.FIRST, second, third), [[], ["m0"], ["m1"]])
        pieces = "> The crane on the east quay\n\nWhich one?\n\n> needs a new cable\n\nSteel?\n"
        self.assertEqual(self.known(self.FIRST, pieces), [[], ["m0", "m0"]])

    def test_what_was_not_said_stays(self) -> None:
        for quoted in (
            "> The crane on the west quay needs a new cable\n",
            "> never said\n",
            "No quote.\n",
            ">\n> \n",
            "> needs a new cab\n",
        ):
            self.assertEqual(self.known(self.FIRST, f"Yes.\n\n{quoted}"), [[], []], quoted)

    def test_rich_ones(self) -> None:
        first = "<p>The <b>cr</b>ane needs a <i>cable</i>.</p><p>Ines</p>"
        second = f"<p>Yes.</p><blockquote><div>{first}</div></blockquote><blockquote>Never said.</blockquote>"
        self.assertEqual(self.known(first, second, rich=True), [[], ["m0"]])
        data = message("a@b.example", "c@d.example", "S", when("2026-03-14"), html(second))
        said = quotes.Said()
        said.meet(message("a@b.example", "c@d.example", "S", when("2026-03-14"), html(first)), "of Monday")
        left = quotes.without_quotes(second, dict(said.meet(data, "x")), Language())
        self.assertNotIn("crane", left.replace("<b>", "").replace("</b>", ""))
        self.assertIn("stands in the message of Monday", left)
        self.assertIn("Never said.", left)

    def test_the_label_of_a_sender_is_only_text(self) -> None:
        hostile = quotes.without_quotes(
            "<blockquote>said so</blockquote>", {quotes.key("said so"): "<script>x()</script>"}, Language()
        )
        self.assertNotIn("<script>", hostile)


class Properties(unittest.TestCase):
    ABOUT = Record(
        "T (1) \\ <b> \u00fc \u6f6e", 'Ines, "H"', "S ) (", "a, b, a, ", datetime(2026, 3, 14, 16, 3, tzinfo=UTC), "de"
    )

    def test_both_ways_say_the_same(self) -> None:
        plain = make(Job(letter(), ("pdf",), PageOptions())).files["pdf"]
        with pikepdf.open(io.BytesIO(plain)) as document:
            out = io.BytesIO()
            document.save(out, object_stream_mode=pikepdf.ObjectStreamMode.disable)  # laid out as no engine does
        conversations = []
        for pdf in (plain, out.getvalue()):
            made = described(pdf, self.ABOUT)
            self.assertEqual(len(pypdfium2.PdfDocument(made)), 1)
            with pikepdf.open(io.BytesIO(made)) as document, document.open_metadata() as xmp:
                conversations.append(
                    ({k: str(v) for k, v in document.docinfo.items()}, dict(xmp), str(document.Root.Lang))
                )
        self.assertEqual(conversations[0], conversations[1])
        info, xmp, language = conversations[0]
        self.assertEqual(
            (info["/Title"], info["/Author"], info["/Keywords"], language),
            (self.ABOUT.title, self.ABOUT.author, "a, b", "de"),
        )
        self.assertEqual((info["/Producer"], info["/CreationDate"]), (CREATOR, "D:20260314160300Z"))

    def test_added_to_twice(self) -> None:
        pdf = make(Job(letter(), ("pdf",), PageOptions())).files["pdf"]
        twice = described(described(pdf, self.ABOUT), replace(self.ABOUT, title="Second"))
        with tempfile.TemporaryDirectory() as place:
            path = Path(place) / "x.pdf"
            path.write_bytes(twice)
            done = subprocess.run(["qpdf", "--check", path], capture_output=True, text=True)
        self.assertEqual(done.returncode, 0, done.stdout)
        with pikepdf.open(io.BytesIO(twice)) as document:
            self.assertEqual(str(document.docinfo["/Title"]), "Second")

    @unittest.skipUnless("weasyprint" in available(), "WeasyPrint is not installed")
    def test_by_the_second_engine_too(self) -> None:
        made = make(
            Job(letter("Über", more="Content-Language: de-AT\n"), ("pdf",), PageOptions(scale=0.8), "weasyprint")
        )
        with pikepdf.open(io.BytesIO(made.files["pdf"])) as document, document.open_metadata() as xmp:
            self.assertEqual(
                (str(document.docinfo["/Title"]), xmp["dc:title"], str(document.Root.Lang)), ("Über", "Über", "de-AT")
            )
            width = float(document.pages[0].mediabox[2])
        self.assertAlmostEqual(width / 72 * 25.4, 210, delta=1)

    def test_languages_that_are_none(self) -> None:
        for tag in ("", "x", "en_GB", "<b>", "a-" * 40, "de, en"):
            made = make(Job(letter(more=f"Content-Language: {tag}\n"), ("pdf",), PageOptions())).files["pdf"]
            with pikepdf.open(io.BytesIO(made)) as document:
                self.assertEqual(str(document.Root.Lang), "de" if tag == "de, en" else "en")

    def test_a_message_without_anything(self) -> None:
        made = make(Job(b"\n\nonly text\n", ("pdf",), PageOptions(evidence=True, headers=True))).files["pdf"]
        with pikepdf.open(io.BytesIO(made)) as document:
            self.assertEqual(str(document.docinfo["/Title"]), "no subject")
            self.assertNotIn("/Author", document.docinfo)


class TheEvidence(unittest.TestCase):
    def test_the_way_it_came(self) -> None:
        received = [
            "from a by first.example with SMTP; Sat, 14 Mar 2026 15:03:05 +0000",
            "from b by second.example; x",
            "(qmail 1 invoked)",
            "from c by second.example; y",
            "by [192.0.2.7] (x)",
            "from d by <script>; z",
        ]
        block = "".join(f"Received: {line}\n" for line in reversed(received)) + "\n"
        self.assertEqual(properties.servers(Header(block.encode())), ["first.example", "second.example", "[192.0.2.7]"])
        many = "".join(f"Received: by host{n}.example\n" for n in range(500)) + "\n"
        self.assertEqual(len(properties.servers(Header(many.encode()))), 20)

    def test_rows(self) -> None:
        data = letter(more="Message-ID: <x\x1b[31m@y.example>\n")
        arrival = datetime(2026, 3, 15, 8, 0, tzinfo=UTC)
        origin = properties.Provenance("/mail", "in", "abc", arrival)
        rows = dict(properties.evidence(Message(data), origin, PageOptions(zone="Europe/Lisbon")))
        self.assertEqual((rows["Folder"], rows["ID there"]), ("in", "abc"))
        self.assertIn("15 March 2026, 08:00", rows["Arrived"])
        self.assertNotIn("\x1b", "".join(rows.values()))
        self.assertEqual(len(rows["SHA-256 of the original"]), 64)
        self.assertNotIn("Folder", dict(properties.evidence(Message(data), properties.Provenance(), PageOptions())))

    def test_all_fields_as_they_stand(self) -> None:
        header = Header(b"Subject: =?utf-8?q?=C3=BC?=\n folded\nX-Odd: \xff\x1b[1m\nX-Odd: again\n\n")
        self.assertEqual(
            properties.all_fields(header),
            [("Subject", "=?utf-8?q?=C3=BC?= folded"), ("X-Odd", "\ufffd[1m"), ("X-Odd", "again")],
        )


class Covers(unittest.TestCase):
    ENTRY = covers.Entry(
        "S <b>", "Ines <i@q.example>", "R", "Saturday", when="2026-03-14 15:03", name="Ines", pages=2, size=9
    )

    def page(self, template: str, **more: object) -> str:
        contents = covers.Contents("T", (self.ENTRY, replace(self.ENTRY, date="undated", when="undated")), tags=("t",))
        return covers.cover_page(Cover(template, "c.html"), contents, PageOptions(), Record()).html

    def test_fields(self) -> None:
        for template, wanted in {
            "{{ title }}": "T",
            "{{ counts.pages }}": "4",
            "{{ messages | length }}": "2",
            "{{ last_date }}": "Saturday",
            "{{ message.subject }}": "S &lt;b&gt;",
            "{{ message.size | bytes }}": "9 bytes",
            "{{ tags | join }}": "t",
            "{{ exported }}|": "|",
            "{{ case }}|": "|",
        }.items():
            self.assertTrue(self.page(template).endswith(wanted), template)
        self.assertIn("@page", self.page("<html><head></head><body>x</body></html>").partition("<body>")[0])

    def test_mistakes_at_run_time_are_errors_of_the_page(self) -> None:
        with self.assertRaises(PageError) as caught:
            self.page("\n{{ messages[5].subject }}")
        self.assertIn("c.html, line 2", str(caught.exception))

    def test_a_template_can_not_reach_out(self) -> None:
        for template in (
            "{{ ''.__class__.__mro__ }}",
            "{% include '/etc/passwd' %}",
            "{{ self.__init__.__globals__ }}",
            "{% import 'os' as os %}",
            "{{ range(10**9) | list }}",
        ):
            with self.assertRaises(CallError):
                covers.check(Cover(template, "c.html"))


class Binding(unittest.TestCase):
    def setUp(self) -> None:
        place = tempfile.TemporaryDirectory(prefix="wexagraph-test-")
        self.addCleanup(place.cleanup)
        self.folder = Path(place.name)

    def part(self, data: bytes, options: PageOptions, lock: Lock | None = None) -> Part:
        made = make(Job(data, ("pdf",), options, part=True, lock=lock))
        path = self.folder / f"{len(list(self.folder.iterdir()))}.pdf"
        path.write_bytes(made.files["pdf"])
        assert made.entry is not None and made.header_footer is not None
        return Part(str(path), made.entry, made.header_footer, made.marked)

    def bound(self, *parts: Part, options: PageOptions | None = None, key: str = "") -> bytes:
        out = self.folder / "bound"
        contents = HeaderFooter((), ("C", "", "{}"))
        bind(BindJob(parts, str(out), "All", Record("All"), contents, options or PageOptions(), key=key))
        return out.read_bytes()

    def test_what_is_the_same_is_stored_once(self) -> None:
        alike = [self.part(letter("Same", body="The very same words.\n"), PageOptions()) for _ in range(12)]
        one, many = len(self.bound(alike[0])), len(self.bound(*alike))
        self.assertLess(many, one + 11 * 4000, "a font is about 9,000 bytes each time")
        with pikepdf.open(io.BytesIO(self.bound(*alike))) as document:
            fonts = {str(f.BaseFont) for p in document.pages for f in p.Resources.Font.values()}
            files = [o for o in document.objects if isinstance(o, pikepdf.Dictionary) and "/FontFile2" in o]
        self.assertLessEqual(len(files), len(fonts) + 3)

    def test_the_same_bytes_every_time(self) -> None:
        parts = [self.part(letter(f"L{n}"), PageOptions()) for n in range(4)]
        self.assertEqual(self.bound(*parts), self.bound(*parts))

    def test_many_messages_fill_several_pages_of_contents(self) -> None:
        part = self.part(letter("One " + "long " * 30), PageOptions())
        document = pypdfium2.PdfDocument(self.bound(*[part] * 120))
        texts = [page.get_textpage().get_text_range() for page in document]
        first = next(n for n, shown in enumerate(texts) if "From Ines" in " ".join(shown.split()))
        self.assertEqual(len(texts), first + 120)
        self.assertIn(str(first + 120), texts[first - 1])  # the last row names the last page

    def test_parts_that_are_locked_meanwhile(self) -> None:
        part = self.part(letter("Locked"), PageOptions(), Lock("key"))
        with self.assertRaises(pikepdf.PasswordError):
            pikepdf.open(part.path)
        self.assertIn("Locked", pypdfium2.PdfDocument(self.bound(part, key="key"))[1].get_textpage().get_text_range())
        with self.assertRaises(PageError):
            self.bound(part, key="wrong")

    def test_a_part_that_is_broken(self) -> None:
        part = self.part(letter(), PageOptions())
        Path(part.path).write_bytes(b"%PDF-1.7 nothing more")
        with self.assertRaises(PageError):
            self.bound(part)

    def test_other_papers(self) -> None:
        options = PageOptions(paper="120x200", margin=Margins(8, 8, 8, 8))
        made = pypdfium2.PdfDocument(self.bound(self.part(letter("Small"), options), options=options))
        self.assertEqual({tuple(round(side / 72 * 25.4) for side in page.get_size()) for page in made}, {(120, 200)})
        self.assertIn("Page 2 of 2", made[1].get_textpage().get_text_range())


class AtATerminal(ProgramTest):
    def type(self, keys: str, *arguments: str) -> tuple[int, str]:
        """Run the program on a terminal and type into it, a line for each question."""
        master, slave = pty.openpty()
        environment = {**os.environ, "TZ": "UTC", "XDG_CONFIG_HOME": str(self.folder / "none"), "TERM": "xterm"}
        environment.pop("WEXAGRAPH_PASSPHRASE", None)
        # the terminal has to be the program's own, or it would ask at the one that the tests run on
        process = subprocess.Popen(
            [PROGRAM, *arguments],
            stdin=slave,
            stdout=slave,
            stderr=slave,
            cwd=self.folder,
            env=environment,
            start_new_session=True,
            preexec_fn=lambda: fcntl.ioctl(0, termios.TIOCSCTTY, 0),
        )
        os.close(slave)
        shown, lines = b"", keys.split("\n")
        while select.select([master], [], [], 60)[0]:
            try:
                piece = os.read(master, 4096)
            except OSError:
                break
            if not piece:
                break
            shown += piece
            if lines and shown.endswith(b": "):
                os.write(master, lines.pop(0).encode() + b"\n")
        os.close(master)
        return process.wait(60), shown.decode("utf-8", "replace")

    def test_a_password_is_asked_for_twice_and_not_shown(self) -> None:
        self.write("in/a.eml", letter())
        code, shown = self.type("tide and ebb\ntide and ebb", "export", "in", "--into", "out", "--password")
        self.assertEqual(code, 0, shown)
        self.assertNotIn("tide and ebb", shown)
        (path,) = (self.folder / "out").rglob("*.pdf")
        self.assertEqual(len(pypdfium2.PdfDocument(path, password="tide and ebb")), 1)

    def test_a_passphrase_of_a_backup(self) -> None:
        self.write("in/a.eml", letter())
        code, shown = self.type("tide and ebb\ntide and ebb", "backup", "in", "--into", "bk", "--lock")
        self.assertEqual(code, 0, shown)
        code, shown = self.type("tide and ebb", "list", "bk")
        self.assertIn("East quay", shown)
        code, shown = self.type("another one", "list", "bk")
        self.assertEqual(code, 2)
        self.assertIn("does not open", shown)
        self.assertNotIn("another one", shown)


if __name__ == "__main__":
    unittest.main()
