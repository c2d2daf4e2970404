"""The page: what is on it, what is kept off it, and what happens when an engine fails."""

from __future__ import annotations

import contextlib
import io
import os
import re
import socket
import subprocess
import time
import unittest
from pathlib import Path
from unittest import mock

import pikepdf
import pypdfium2

from tests.helpers import ProgramTest, check_with_others, letter, missing_words, pdf_pages, pdf_text, png
from wexagraph.demo.build import file, forwarded, html, message, multipart, text, when
from wexagraph.errors import CallError, PageError
from wexagraph.messages.inlined import picture_type
from wexagraph.messages.message import Message
from wexagraph.messages.visible_text import html_to_text
from wexagraph.pages.cleaning.clean import clean
from wexagraph.pages.cleaning.css import declarations, media_applies, stylesheet
from wexagraph.pages.cleaning.pictures import Pictures
from wexagraph.pages.composing.compose import compose
from wexagraph.pages.composing.plain import is_rtl
from wexagraph.pages.engines import available, engine
from wexagraph.pages.make import Job, make
from wexagraph.pages.options import PageOptions
from wexagraph.work.batches import WorkerLost
from wexagraph.work.pool import ProcessWorkers


def cleaned(source: str) -> str:
    return clean(source, Pictures(lambda _: None, {}), 657, "scope").html


class Cleaning(unittest.TestCase):
    def test_nothing_that_runs_or_fetches(self) -> None:
        source = """<html><head><base href="https://bad.example/"><link rel=stylesheet href="https://bad.example/a.css">
        <meta http-equiv=refresh content="0;url=https://bad.example/"><script>bad()</script>
        <style>@import url(https://bad.example/b.css); @font-face{font-family:x;src:url(https://bad.example/f)}
        p{background:url(https://bad.example/c.png);color:red} @page{size:1px}</style></head>
        <body onload="bad()" background="https://bad.example/d.png"><p onclick="bad()" style="background:url('https://bad.example/e')">
        words</p><iframe src="https://bad.example/"></iframe><object data="https://bad.example/o">inside</object>
        <embed src="https://bad.example/"><svg><image href="https://bad.example/s"/></svg><video src="https://bad.example/v">
        </video><form action="https://bad.example/"><input name=a value="filled"><button formaction="javascript:bad()">go</button>
        </form><a href="javascript:bad()">one</a><a href="java\nscript:bad()">two</a><a href="data:text/html,bad">three</a>
        <img src="https://bad.example/i.png"><img src="file:///etc/passwd"><img srcset="https://bad.example/2x.png 2x">
        <p style="behavior:url(bad);-moz-binding:url(bad);width:expression(bad())">x</p><!-- bad() --></body></html>"""
        pictures = Pictures(lambda _: None, {})
        result = clean(source, pictures, 657, "scope")
        everything = (
            result.html
            + result.css
            + "".join(data.decode() for _, data in pictures.resources.values()).replace("<svg xmlns=", "")
        )
        for word in (
            "bad()",
            "https://bad.example/",
            "javascript",
            "file:",
            "onload",
            "onclick",
            "@import",
            "@page",
            "<form",
            "expression",
            "binding",
            "<script",
            "<iframe",
            "<svg",
            "font-face",
        ):
            self.assertNotIn(word, everything)
        for word in ("words", "inside", "filled", "go", "one", "two", "three", "bad.example"):
            self.assertIn(word, everything)
        self.assertIn("color:red", result.css)
        self.assertLessEqual(
            {"content-removed", "picture-remote", "picture-missing"}, {note.code for note in result.notes}
        )

    def test_a_mail_cannot_reach_our_part_of_the_page(self) -> None:
        css = stylesheet(
            "body{color:red} * {display:none} .wx-head{display:none} html>body td{margin:0} a:hover{color:blue} p,div{margin-top:-400px}",
            ".scope",
            600,
            lambda _: None,
        )
        for rule in filter(None, css.split("\n")):
            self.assertRegex(rule, r"^(div)?\.scope")
        self.assertNotIn("wx-head", css)
        self.assertNotIn("-400px", css)
        self.assertNotIn("position", declarations("position:fixed;top:0;color:red", lambda _: None))
        self.assertEqual(cleaned('<p class="wx-head x">a</p>').count("wx-head"), 0)

    def test_declarations(self) -> None:
        for style, wanted in [
            ("color:red", "color:red"),
            ("COLOR : Red ; Font-Size: 12PX", "color:Red;font-size:12PX"),
            ("height:10000000px", ""),
            ("width:99999px;color:red", "color:red"),
            ("font-family:'Times New Roman', serif", "font-family:'Times New Roman', \"Liberation Serif\""),
            ("background:url(x.png)", ""),
            ("background-image:URL(https://x.example/)", ""),
            ("color:red/**/;width:1px", "color:red;width:1px"),
            ("wid\\74h:1px", "width:1px"),
            ("color:rgb(1,2,3)", "color:rgb(1,2,3)"),
            ("width:calc(100% - 10px)", "width:calc(100% - 10px)"),
            ("width:evil(1)", ""),
            ("color:red}body{display:none", ""),
            ("content:'</style><script>'", None),
            ("margin:-5px", ""),
            ("margin-left:-5px;margin-right:5px", "margin-right:5px"),
            ("overflow:auto;height:20px", "height:20px"),
            ("color:red !important", "color:red !important"),
        ]:
            with self.subTest(style):
                declared = declarations(style, lambda _: None)
                if wanted is None:
                    self.assertNotIn("<", declared)
                else:
                    self.assertEqual(declared, wanted)

    def test_media(self) -> None:
        for query, wanted in [
            ("all", True),
            ("screen", True),
            ("print", False),
            ("only screen and (max-width:480px)", False),
            ("screen and (min-width: 600px)", True),
            ("(max-width:700px)", True),
            ("(min-width:50em)", False),
            ("(prefers-color-scheme: dark)", False),
            ("not screen", False),
            ("tv, screen", True),
            ("(width:657px)", True),
        ]:
            with self.subTest(query):
                self.assertEqual(media_applies(query, 657), wanted)

    def test_bounds(self) -> None:
        deep = cleaned("<div>" * 3000 + "innermost" + "</div>" * 3000)
        self.assertIn("innermost", deep)
        self.assertLess(deep.count("<div"), 200)
        wide = cleaned("<table><tr>" + "".join(f"<td>c{n}</td>" for n in range(1000)) + "</tr></table>")
        self.assertLessEqual(wide.count("<td"), 100)
        self.assertIn("c999", wide)
        self.assertNotIn("999999", cleaned('<table width=999999><tr><td colspan=999999 height="99999999">x'))

    def test_html_to_text(self) -> None:
        for source, wanted in [
            ("<p>a</p><p>b</p>", "a\n\nb"),
            ("a<br>b", "a\nb"),
            ("<ul><li>a<li>b</ul>", "- a\n\n- b"),
            ("<table><tr><td>a</td><td>b</td></tr></table>", "a  b"),
            ("<pre>a\n  b</pre>", "a\n  b"),
            ("a <script>x</script><style>y</style> b", "a b"),
            ("&lt;b&gt; &amp;", "<b> &"),
            ('<img alt="a plan">', "[a plan]"),
        ]:
            with self.subTest(source):
                self.assertEqual(" ".join(html_to_text(source).split()), " ".join(wanted.split()))


class PicturesChecked(unittest.TestCase):
    def test_kinds(self) -> None:
        self.assertEqual(picture_type(png()), "image/png")
        for content in (b"", b"GIF89a", b"<svg/>", b"\x89PNG\r\n\x1a\n" + bytes(40), os.urandom(300)):
            self.assertIsNone(picture_type(content))

    def test_a_picture_of_too_many_pixels(self) -> None:
        data = bytearray(png(2, 2))
        data[16:24] = (60_000).to_bytes(4, "big") * 2
        import zlib

        data[29:33] = zlib.crc32(bytes(data[12:29])).to_bytes(4, "big")
        self.assertIsNone(picture_type(bytes(data)))


OPTIONS = PageOptions(zone="Europe/Lisbon")


class Making(unittest.TestCase):
    def mail(self, body: object, subject: str = "The subject") -> bytes:
        return message("Ines Halden <i@q.example>", "Records <r@s.example>", subject, when("2026-03-14", 15, 3), body)  # type: ignore[arg-type]

    def page(self, data: bytes, **options: object) -> str:
        made = make(Job(data, ("pdf",), PageOptions(zone="UTC", **options)))  # type: ignore[arg-type]
        self.pdf = made.files["pdf"]
        self.codes = {note.code for note in made.notes}
        document = pypdfium2.PdfDocument(self.pdf)
        return "\n".join(page.get_textpage().get_text_range() for page in document)

    def test_the_heading(self) -> None:
        body = multipart("mixed", text("words\n"), file("plan.pdf", "application/pdf", b"x" * 2048))
        shown = self.page(self.mail(body, "East quay – survey"))
        for words in (
            "East quay – survey",
            "Ines Halden <i@q.example>",
            "Records <r@s.example>",
            "plan.pdf",
            "2.0 KB",
            "Saturday 14 March 2026, 15:03 (UTC+00:00)",
            "Page 1 of 1",
        ):
            self.assertIn(words, shown)

    def test_a_spoofed_heading_stays_in_its_place(self) -> None:
        body = html('<div style="position:absolute;top:-90mm;margin-top:-300px;z-index:9">From: The King</div>')
        self.page(self.mail(body))
        page = pypdfium2.PdfDocument(self.pdf)[0].get_textpage()
        places = {}
        for word in ("Ines Halden", "The King"):
            searcher = page.search(word)
            index, _ = searcher.get_next()
            places[word] = page.get_charbox(index)[1]
        self.assertLess(places["The King"], places["Ines Halden"], "it stands above our heading")

    def test_inline_pictures_by_cid_location_and_data(self) -> None:
        picture = file("p.png", "image/png", png(colour="#c80000"), cid="p@x")
        located = file("q.png", "image/png", png(colour="#00c800"))
        located = type(located)(located.header + b"Content-Location: https://q.example/q.png\n", located.body)
        import base64

        data = base64.b64encode(png(colour="#0000c8")).decode()
        page = html(
            f'<img src="cid:p@x"><img src="https://q.example/q.png"><img src="data:image/png;base64,{data}">'
            '<img src="https://remote.example/r.png" alt="remote one">'
        )
        shown = self.page(self.mail(multipart("related", page, picture, located)))
        self.assertIn("remote one", shown)
        self.assertIn("remote.example", shown)
        self.assertIn("picture-remote", self.codes)
        pixels = pypdfium2.PdfDocument(self.pdf)[0].render(scale=1).to_pil().convert("RGB")
        colours = {colour for _, colour in pixels.getcolors(1 << 20)}
        for wanted in [(200, 0, 0), (0, 200, 0), (0, 0, 200)]:
            self.assertIn(wanted, colours)

    def test_long_lines_are_wrapped_and_not_cut(self) -> None:
        long = "knot" * 900 + "end"
        shown = self.page(self.mail(text(f"{long}\n{'word ' * 400}last\n")))
        self.assertEqual(missing_words(f"{long} last", shown), [])
        width = pypdfium2.PdfDocument(self.pdf)[0].get_size()[0]
        page = pypdfium2.PdfDocument(self.pdf)[0].get_textpage()
        self.assertTrue(all(page.get_charbox(n)[2] <= width - 40 for n in range(page.count_chars())))

    def test_a_wide_table_is_fitted(self) -> None:
        cells = "".join(f'<td width="90">cell{n}</td>' for n in range(30))
        self.page(self.mail(html(f"<table width=2700><tr>{cells}</tr></table>")))
        page = pypdfium2.PdfDocument(self.pdf)[0]
        right = max(page.get_textpage().get_charbox(n)[2] for n in range(page.get_textpage().count_chars()))
        self.assertLess(right, page.get_size()[0])

    def test_over_what_is_too_wide_the_heading_keeps_its_size(self) -> None:
        heights = set()
        for wide in (
            "<hr style='width:10em'>",
            "<hr style='width:60em'>",
            f"<table><tr>{'<td width=90>cell' * 40}</table>",
        ):
            self.page(self.mail(html(wide)))
            page = pypdfium2.PdfDocument(self.pdf)[0].get_textpage()
            box = page.get_charbox(page.search("Saturday").get_next()[0], loose=True)  # type: ignore[index]
            heights.add(round(box[3] - box[1], 1))
        self.assertEqual(len(heights), 1, heights)

    def test_quotes_flowed_and_nested_messages(self) -> None:
        inner = message("Deep <d@e.example>", "x@y.example", "Inner subject", when("2026-03-01"), text("inner words\n"))
        body = multipart("mixed", text("a flowed \nline\n> quoted \n> on\n", flowed=True), forwarded(inner))
        shown = self.page(self.mail(body))
        for words in ("a flowed line", "quoted on", "Message inside this message", "Inner subject", "inner words"):
            self.assertIn(words, shown)

    def test_every_script(self) -> None:
        words = "Ελληνικά Кириллица 日本語 中文 한국어 Հայերեն ქართული čeština żółć"
        self.assertEqual(missing_words(words, self.page(self.mail(text(words)))), [])

    def test_a_field_too_long_for_the_heading(self) -> None:
        data = letter("word " * 6000 + "last")
        self.page(data)
        self.assertIn("header-too-long", self.codes)
        with pikepdf.open(io.BytesIO(self.pdf)) as document:
            kept = document.attachments["original message.eml"].get_file().read_bytes()
        self.assertEqual(bytes(kept), data)

    def test_papers(self) -> None:
        for paper, landscape, size in [
            ("a4", False, (595, 842)),
            ("letter", False, (612, 792)),
            ("a5", True, (595, 420)),
        ]:
            self.page(self.mail(text("x")), paper=paper, landscape=landscape)
            drawn = pypdfium2.PdfDocument(self.pdf)[0].get_size()
            self.assertEqual(tuple(round(v) for v in drawn), size)

    def test_properties_and_sameness(self) -> None:
        data = self.mail(multipart("mixed", text("x"), file("a.bin", "a/b", b"1")))
        self.page(data)
        first = self.pdf
        time.sleep(1.1)
        self.page(data)
        self.assertEqual(first, self.pdf)
        with pikepdf.open(io.BytesIO(first)) as document:
            self.assertEqual(str(document.docinfo["/Title"]), "The subject")
            self.assertEqual(str(document.docinfo["/Author"]), "Ines Halden")
            self.assertIn("20260314150300", str(document.docinfo["/CreationDate"]))

    def test_embedded_names_are_safe_and_different(self) -> None:
        names = ["../../up.txt", "a.txt", "A.TXT", "NUL", "x\u202etxt.exe", "n" * 400 + ".pdf"]
        self.page(self.mail(multipart("mixed", *(file(name, "a/b", name.encode()) for name in names))))
        with pikepdf.open(io.BytesIO(self.pdf)) as document:
            embedded = {name: bytes(spec.get_file().read_bytes()) for name, spec in document.attachments.items()}
        self.assertEqual(len(embedded), len(names))
        self.assertEqual(sorted(embedded.values()), sorted(name.encode() for name in names))
        for name in embedded:
            self.assertFalse(any(c in name for c in "/\\\u202e"), name)

    def test_html_and_text_files(self) -> None:
        body = multipart("alternative", text("plain words\n"), html('<p>rich <img src="cid:p@x"> words</p>'))
        made = make(
            Job(
                self.mail(multipart("related", body, file("p.png", "image/png", png(), cid="p@x"))),
                ("html", "text"),
                OPTIONS,
            )
        )
        page = made.files["html"].decode()
        self.assertIn("Content-Security-Policy", page)
        self.assertIn("data:image/png;base64,", page)
        self.assertNotIn("wx:picture", page)
        self.assertIn("plain words", made.files["text"].decode())
        self.assertIn("Subject: The subject", made.files["text"].decode())

    def test_hostile_header_text_on_the_page(self) -> None:
        data = letter(
            "</title><script>bad()</script>\\\" } body { display:none } @import 'x'; </style>",
            "<b>\x1b[31m</b> <a@b.example>",
        )
        page = compose(Message(data), OPTIONS, screen=True).html
        self.assertNotIn("<script", page)
        self.assertEqual(page.count("</style>"), 1)
        self.assertIn("bad()", self.page(data))

    def test_the_second_engine(self) -> None:
        page = html('<table border=1><tr><td align=center>second engine</td></tr></table><img src="cid:p@x">')
        data = self.mail(multipart("related", page, file("p.png", "image/png", png(colour="#c80000"), cid="p@x")))
        made = make(Job(data, ("pdf",), OPTIONS, "weasyprint"))
        first = pypdfium2.PdfDocument(made.files["pdf"])[0]
        self.assertIn("second engine", first.get_textpage().get_text_range())
        colours = {colour for _, colour in first.render(scale=1).to_pil().convert("RGB").getcolors(1 << 20)}
        self.assertIn((200, 0, 0), colours)

    def test_too_many_pages(self) -> None:
        with self.assertRaisesRegex(PageError, "pages"):
            make(Job(self.mail(text("line\n" * 2000)), ("pdf",), PageOptions(most_pages=5)))


class Engines(unittest.TestCase):
    def test_what_is_not_installed_is_said_with_what_to_do(self) -> None:
        for there, wanted, names, words in [
            ({"plutoprint", "weasyprint"}, "auto", ["plutoprint", "weasyprint"], ""),
            ({"weasyprint"}, "auto", ["weasyprint"], ""),
            ({"plutoprint"}, "weasyprint", [], "pip install 'wexagraph[weasyprint]'"),
            (set(), "auto", [], "no page engine is installed"),
        ]:
            with (
                self.subTest((there, wanted)),
                mock.patch("importlib.util.find_spec", lambda name, t=there: name in t or None),
            ):
                if words:
                    with self.assertRaisesRegex(CallError, re.escape(words)):
                        available(wanted)
                else:
                    self.assertEqual(available(wanted), names)

    def test_no_engine_asks_for_anything_but_the_pages_own_pictures(self) -> None:
        """Whatever gets past the cleaning, the engines themselves fetch nothing: no file, no address on this machine."""
        asked = []
        server = socket.create_server(("127.0.0.1", 0))
        server.settimeout(0.5)
        address = f"http://127.0.0.1:{server.getsockname()[1]}/x.png"
        secret = Path(__file__).as_uri()
        page = compose(Message(letter("x")), OPTIONS)
        page.html = page.html.replace(
            "</body>",
            f'<img src="{address}"><img src="{secret}"><link rel="stylesheet" href="{address}"><p style="background:url({address})">x</p></body>',
        )
        with server:
            for name in ("plutoprint", "weasyprint"):
                self.assertTrue(engine(name).render(page, OPTIONS).startswith(b"%PDF"))
                with contextlib.suppress(TimeoutError):
                    asked.append(server.accept())
        self.assertEqual(asked, [])

    def test_direction_of_a_paragraph(self) -> None:
        for words, wanted in [
            ("plain", False),
            ("שלום", True),
            ("مرحبا Pelican", True),
            ("Pelican مرحبا", False),
            ("12 שלום", True),
            ("", False),
        ]:
            self.assertEqual(is_rtl(words), wanted, words)


def fall_asleep(seconds: float) -> str:
    time.sleep(seconds)
    return "awake"


def die() -> None:
    os._exit(7)


def refuse() -> None:
    raise PageError("no")


class Pool(unittest.TestCase):
    def test_jobs_that_hang_or_kill_take_nobody_along(self) -> None:
        with ProcessWorkers(2, timeout=5) as pool:
            futures = [pool.submit(fall_asleep, 60), pool.submit(die), pool.submit(refuse)]
            futures += [pool.submit(fall_asleep, 0.0) for _ in range(6)]
            with self.assertRaisesRegex(WorkerLost, "too long"):
                futures[0].result(30)
            with self.assertRaisesRegex(WorkerLost, "killed"):
                futures[1].result(30)
            with self.assertRaisesRegex(PageError, "no"):
                futures[2].result(30)
            self.assertEqual([future.result(30) for future in futures[3:]], ["awake"] * 6)


HANG = """
import time, wexagraph.pages.engines.pluto as pluto
def slow(self, page, options, render=pluto.PlutoPrint.render):
    if "HANG" in page.record.title and "wx-mail" in page.html.split("</style>")[-1]: time.sleep(60)
    if "KILL" in page.record.title: import os; os._exit(9)
    if "ERROR" in page.record.title: raise pluto.PageError("made up")
    return render(self, page, options)
pluto.PlutoPrint.render = slow
"""


class Failing(ProgramTest):
    """An engine that hangs, dies or refuses, by a worker that is told to."""

    def export(
        self, subject: str, *arguments: object, patience: int = 60, code: int | None = None
    ) -> subprocess.CompletedProcess[str]:
        hook = self.write(
            "hook/sitecustomize.py",
            "import os\nif 'worker' in ' '.join(__import__('sys').orig_argv):\n"
            + "".join(f"    {line}\n" for line in HANG.strip().split("\n")),
        )
        self.write(
            "in/1.eml", message("a@b.example", "c@d.example", subject, when("2026-03-14"), html("<p>rich words</p>"))
        )
        self.write("in/2.eml", letter("Good one"))
        return self.run_program(
            "export",
            "in",
            "--into",
            "out",
            "--patience",
            patience,
            *arguments,
            code=code,
            env={"PYTHONPATH": str(hook.parent)},
        )

    def text_of(self, words: str) -> str:
        return pdf_text(next(path for path in (self.folder / "out").rglob("*.pdf") if words in path.name))

    def test_a_hang_is_made_again_from_the_text(self) -> None:
        done = self.export("HANG here", "--engine", "plutoprint", patience=3, code=0)
        self.assertIn("2 written, 0 already there, 0 failed", done.stdout)
        self.assertIn("the page shows the text alone", done.stdout)
        self.assertIn("rich words", self.text_of("HANG"))

    def test_the_second_engine_is_tried(self) -> None:
        done = self.export("ERROR here", code=0)
        self.assertIn("made by the second engine", done.stdout)
        self.assertIn("rich words", self.text_of("ERROR"))

    def test_nothing_works_and_the_message_is_kept(self) -> None:
        done = self.export("KILL here", "--engine", "plutoprint", code=1)
        self.assertIn("2 messages chosen: 1 written, 0 already there, 1 failed", done.stdout)
        self.assertIn("KILL here", done.stdout)
        self.assertEqual(len(self.made("out", ".eml")), 1)
        self.assertEqual(len(self.made("out", ".pdf")), 1)


class Fonts(ProgramTest):
    started = True  # the fonts that a machine has are asked for once a process

    def fonts_of(self, body: str, into: str, **env: str) -> str:
        """The names of the fonts in the PDF of a message, told by `pdffonts`."""
        self.write("in.eml", letter("Fonts", more="Content-Type: text/html; charset=utf-8\n", body=body))
        self.run_program("export", "in.eml", "--into", into, env=env)
        path = next((self.folder / into).rglob("*.pdf"))
        return subprocess.run(["pdffonts", path], capture_output=True, text=True, check=True).stdout

    def test_faces_that_are_not_here(self) -> None:
        """One with letters of the same widths stands for each, by no rule of the system's; the user's own rules hold."""
        body = "<p style='font-family:Times,Arial'>one</p><p style='font-family:Courier,Arial'>two</p>"
        names = self.fonts_of(body, "out")
        self.assertIn("LiberationSerif", names)
        self.assertIn("LiberationMono", names)
        self.write(
            "config/fontconfig/fonts.conf",
            "<fontconfig><match><test name='family'><string>Courier</string></test><edit name='family' mode='prepend' "
            "binding='strong'><string>Liberation Serif</string></edit></match></fontconfig>",
        )
        self.assertNotIn("LiberationMono", self.fonts_of(body, "theirs", XDG_CONFIG_HOME=str(self.folder / "config")))

    def test_bold_letters_of_a_face_that_has_none(self) -> None:
        """They have more ink, on a machine with rules for that and on one without."""

        def ink(words: str, into: str) -> int:
            self.fonts_of(f"<p>{words}</p>", into)
            page = pypdfium2.PdfDocument(next((self.folder / into).rglob("*.pdf")))[0]
            return sum(255 - shade for shade in page.render(scale=2, grayscale=True).to_pil().tobytes())

        self.assertGreater(ink("<b>水位観測</b>", "bold"), ink("水位観測", "plain") + 2000)

    def test_no_font_on_the_machine(self) -> None:
        """With a font configuration that knows no folder but our own, every letter is still there."""
        fonts = Path(__file__).parent.parent / "src" / "wexagraph" / "fonts"
        conf = self.write(
            "fonts.conf", f"<fontconfig><dir>{fonts}</dir><cachedir>{self.folder}/cache</cachedir></fontconfig>"
        )
        words = "Latin Ελληνικά 日本語 한국어 ⚓"
        self.write("in.eml", letter("Fonts", more="Content-Type: text/plain; charset=utf-8\n", body=words))
        self.run_program("export", "in.eml", "--into", "out", env={"FONTCONFIG_FILE": str(conf)})
        path = next((self.folder / "out").rglob("*.pdf"))
        self.assertEqual(missing_words(words, pdf_text(path)), [])
        check_with_others(self, path)
        self.assertEqual(pdf_pages(path), 1)
