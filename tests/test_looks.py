"""The page as its author meant it, and what is said where that could not be."""

from __future__ import annotations

import ctypes
import io
import re
import unittest
from collections.abc import Iterator
from pathlib import Path

import pikepdf
import pypdfium2
import pypdfium2.raw as pdfium
from fontTools.ttLib import TTFont

import wexagraph
from tests.helpers import ProgramTest, check_with_others, letter, mbox, pdf_text, png
from wexagraph.demo.build import file, html, message, multipart, when
from wexagraph.errors import PageError
from wexagraph.pages.checking.content_text import cut_lines, quick_text
from wexagraph.pages.checking.text_check import Written, missing_words, read_back
from wexagraph.pages.cleaning.clean import clean
from wexagraph.pages.cleaning.faces import with_known_fonts
from wexagraph.pages.cleaning.hidden import without_hiding
from wexagraph.pages.cleaning.pictures import Pictures
from wexagraph.pages.cleaning.presentational_hints import Context, colour, present
from wexagraph.pages.cleaning.quirks import escaped, in_quirks_mode
from wexagraph.pages.composing.glyphs import named, without_font
from wexagraph.pages.make import Job, make
from wexagraph.pages.options import PageOptions, paper_size

_FONTS = Path(wexagraph.__file__).parent / "fonts"


def cleaned(source: str, **options: bool) -> tuple[str, str, str, set[str]]:
    result = clean(source, Pictures(lambda _: None, {}), 657, "wx-mail-1", **options)
    return result.html, result.css, " ".join(result.text.split()), {note.code for note in result.notes}


def pdf_of(body: str, **options: object) -> tuple[bytes, set[str]]:
    data = message("a@saltmere.example", "b@saltmere.example", "Looks", when("2026-03-14"), html(body))
    made = make(Job(data, ("pdf",), PageOptions(**options)))  # type: ignore[arg-type]
    return made.files["pdf"], {note.code for note in made.notes}


def places(pdf: bytes) -> Iterator[tuple[str, float, float, float]]:
    """Each character with its left and right edge and its height, in points."""
    for page in pypdfium2.PdfDocument(pdf):
        text = page.get_textpage()
        for index in range(text.count_chars()):
            left, bottom, right, top = text.get_charbox(index)
            yield text.get_text_range(index, 1), left, right, top - bottom


class Presentation(unittest.TestCase):
    def test_attributes_as_the_html_standard_says(self) -> None:
        for tag, attributes, context, wanted in [
            ("td", {"align": "center"}, Context(), "text-align:center"),
            (
                "td",
                {"valign": "top", "bgcolor": "ff0000", "nowrap": None},
                Context(cells="padding:5px"),
                "padding:5px;background-color:#ff0000;vertical-align:top;white-space:nowrap",
            ),
            (
                "table",
                {},
                Context("center"),
                "text-align:start;margin-left:auto!important;margin-right:auto!important",
            ),
            ("table", {"align": "center"}, Context(), "text-align:inherit;margin-left:auto;margin-right:auto"),
            ("table", {"align": "left"}, Context(), "text-align:inherit;float:left"),
            (
                "table",
                {"border": "", "cellspacing": "0", "width": "90%"},
                Context(),
                "border-spacing:0px;border:1px outset #808080;width:90%",
            ),
            ("th", {}, Context(), "text-align:var(--wx-th,center)"),
            ("th", {"align": "left"}, Context(), "text-align:left"),
            ("p", {"align": "evil;color:red"}, Context(), ""),
            ("center", {}, Context(), "text-align:center"),
            (
                "font",
                {"size": "+1", "color": "red", "face": "Arial"},
                Context(),
                'color:red;font-size:1.125rem;font-family:Arial,"Liberation Sans"',
            ),
            ("font", {"size": "7", "face": "x;y:z", "color": "url(x)"}, Context(), "font-size:3rem"),
            (
                "img",
                {"align": "left", "hspace": "4", "width": "50%", "border": "2"},
                Context(),
                "width:50%;float:left;margin-left:4px;margin-right:4px;border:2px solid",
            ),
            (
                "hr",
                {"size": "5", "noshade": None},
                Context(),
                "border-style:solid;border-color:#808080;background-color:#808080;height:3px",
            ),
            ("br", {"clear": "ALL"}, Context(), "clear:both"),
            ("ol", {"type": "A"}, Context(), "list-style-type:upper-alpha"),
            ("td", {"width": "99999999", "height": "-4"}, Context(), ""),
        ]:
            with self.subTest((tag, attributes)):
                self.assertEqual(present(tag, attributes, context)[0], wanted)  # type: ignore[arg-type]
        self.assertEqual(
            present("table", {"cellpadding": "3", "border": "1"}, Context())[1].cells,
            "padding:3px;border:1px inset #808080",
        )

    def test_an_attribute_gives_way_to_a_style_sheet(self) -> None:
        pdf, _ = pdf_of(
            "<style>td{font-size:30px;text-align:right}</style><table width=100%><tr><td align=left>edge</table>"
        )
        left = next(left for char, left, _, _ in places(pdf) if char == "g")
        self.assertGreater(left, 400)

    def test_colours_and_quirks(self) -> None:
        self.assertEqual(
            [colour(v) for v in ("fff", "#abc", "Navy", "rgb(1,2,3)", "x:y", "url(a)", "none", "12345")],
            ["#fff", "#abc", "Navy", "rgb(1,2,3)", "", "", "", ""],
        )
        loose = '<!DOCTYPE html PUBLIC "-//W3C//DTD HTML 4.01 Transitional//EN"'
        for doctype, wanted in [
            ("", True),
            ("<!doctype html>", False),
            (loose + ">", True),
            (loose + ' "http://x">', False),
            ('<!DOCTYPE HTML PUBLIC "-//W3C//DTD HTML 3.2//EN">', True),
        ]:
            self.assertEqual(in_quirks_mode(doctype + "<p>x"), wanted, doctype)

    def test_fonts_that_are_there(self) -> None:
        for name, value, wanted in [
            ("font-family", "Arial,sans-serif", 'Arial,"Liberation Sans"'),
            ("font-family", "'Segoe UI'", "'Segoe UI',\"Liberation Sans\""),
            ("font-family", "Georgia", 'Georgia,"Liberation Serif"'),
            ("font", "italic 12px/1.5 Consolas", 'italic 12px/1.5 Consolas,"Liberation Mono"'),
            ("font", "menu", "menu"),
            ("font-family", "inherit", "inherit"),
            ("color", "serif", "serif"),
        ]:
            self.assertEqual(with_known_fonts(name, value), wanted)


class Hidden(unittest.TestCase):
    def test_what_is_seen(self) -> None:
        for source, seen in [
            ("<p>a<span style='display:none'>b</span></p>", "a"),
            ("<style>.p{display:none}</style><p class=p>b</p>a", "a"),
            ("<style>.p{display:none} .p{display:block}</style><p class=p>b</p>", "b"),
            ("<style>.p{display:block!important} .p{display:none}</style><p class=p>b</p>", "b"),
            ("<style>#i{display:block} .p{display:none}</style><p class=p id=i>b</p>", "b"),
            ("<style>@media(max-width:400px){.p{display:none}}</style><p class=p>b</p>", "b"),
            ("<style>.p{display:none}</style><p class=p style='display:block'>b</p>", "b"),
            ("<div style='max-height:0;overflow:hidden'>b</div>a", "a"),
            ("<div style='font-size:0'>b<span style='font-size:12px'>a</span></div>", "a"),
            ("<div style='opacity:0'>b</div><div style='opacity:0.5'>a</div>", "a"),
            ("<div style='visibility:hidden'>b</div>a", "a"),
        ]:
            with self.subTest(source):
                _, _, text, codes = cleaned(source)
                self.assertEqual(text, seen)
                self.assertEqual("text-hidden" in codes, seen == "a")
                self.assertIn("b", cleaned(source, show_hidden=True)[2])
                _, more = pdf_of(source)
                self.assertNotIn("words-missing", more)

    def test_declarations(self) -> None:
        kept = "color:red;font-size:0.9em;opacity:0.5;height:10px;line-height:1"
        self.assertEqual(without_hiding(kept), kept)
        self.assertEqual(
            without_hiding("display:none;color:transparent;max-height:0;font-size:1px;mso-hide:all;width:5px"),
            "width:5px",
        )

    def test_targets_of_links(self) -> None:
        for text, href, printed in [
            ("www.bank.example", "https://thieves.example/x", True),
            ("https://bank.example/a", "https://www.bank.example/b", False),
            ("bank.example", "https://bank.example.thieves.example/", True),
            ("click here", "https://thieves.example/", False),
            ("report.pdf", "https://files.example/report.pdf", False),
            ("help@bank.example", "mailto:help@bank.example", False),
            ("help@bank.example", "mailto:x@thieves.example", True),
            ("bank.example", "javascript:x", False),
        ]:
            with self.subTest((text, href)):
                self.assertEqual("wx-target" in cleaned(f'<a href="{href}">{text}</a>')[0], printed)


class Fitting(unittest.TestCase):
    def test_wide_designs_are_fitted_and_the_heading_is_not_made_smaller(self) -> None:
        heights = {}
        for width in (500, 700, 840, 1500):
            body = f'<table width={width} cellspacing=0 cellpadding=0><tr><td>left</td><td align=right><a href="https://x.example/">Z</a></td></tr></table>'
            pdf, codes = pdf_of(body)
            self.assertNotIn("words-missing", codes)
            right = max(right for char, _, right, _ in places(pdf) if char == "Z")
            self.assertLess(right, 595 - 50 + 1, width)
            if width >= 700:
                self.assertGreater(right, 595 - 51 - 4, "fitted to the content, not smaller")
            heights[width] = next(height for char, _, _, height in places(pdf) if char == "L")
            with pikepdf.open(io.BytesIO(pdf)) as document:
                page = document.pages[0]
                self.assertAlmostEqual(float(page.mediabox[2]), 595.3, delta=0.2)
                link = [float(value) for value in page.Annots[0].Rect]
                self.assertTrue(right - 25 < link[0] < right < link[2] + 2, (width, link, right))
        self.assertLess(max(heights.values()) - min(heights.values()), 0.6)

    def test_no_page_is_left_empty_before_a_row_that_can_break(self) -> None:
        words = "The harbour office tells all pilots of the tide table. "
        row = f"<table border=1><tr><td>{(words * 12 + '<br>') * 6}</td></tr></table>"
        pdf, codes = pdf_of(f"<p>{words * 30}</p>{row}")
        self.assertEqual(codes, set())
        first = pypdfium2.PdfDocument(pdf)[0]
        text = first.get_textpage().get_text_bounded(0, 0, first.get_width(), first.get_height() / 3)
        self.assertIn("pilots", text)

    def test_endless_words_break(self) -> None:
        self.assertEqual(escaped("short & sweet"), "short &amp; sweet")
        self.assertEqual(re.sub("<wbr>", "", escaped("k" * 400 + "<")), "k" * 400 + "&lt;")
        self.assertNotIn("<wbr>", escaped("\u6771" * 100))
        pdf, codes = pdf_of("<p>" + "knot" * 300 + "</p>")
        self.assertNotIn("words-missing", codes)
        self.assertLess(max(right for _, _, right, _ in places(pdf)), 560)

    def test_paper(self) -> None:
        self.assertEqual(paper_size("100x150"), (100.0, 150.0))
        for wrong in ("a9", "10x10", "99999x10", "axb", ""):
            self.assertRaises(ValueError, paper_size, wrong)


class ReadBack(ProgramTest):
    def test_finds_what_is_missing(self) -> None:
        pdf, codes = pdf_of("<p>One two three. Größe, ﬁn, co\u00adop</p>")
        self.assertEqual(codes, set())
        self.assertEqual(read_back(Written(pdf), "one TWO three größe fin coop")[0], [])
        ((note,), _) = read_back(Written(pdf), "one two anchor one one")
        self.assertEqual(note.code, "words-missing")
        self.assertIn("anchor", note.detail)
        self.assertEqual(missing_words("one two two", ["one two"]), (["two"], []))
        self.assertEqual(missing_words("\u05e9\u05dc\u05d5\u05dd", ["\u05dd\u05d5\u05dc\u05e9"]), ([], []))
        self.assertEqual(missing_words("\u0633\u0644\u0627\u0645", ["\u0645\u0644\u0627\u0633"]), ([], []))

    def test_words_that_a_page_or_a_line_breaks(self) -> None:
        """With the foot of the page between their halves, or on lines of their own among words from right to left."""
        feet = ["the north-\nTides | Page 1 of 2", "Harbour office\neast quay"]
        self.assertEqual(missing_words("the north-east quay", feet), ([], []))
        self.assertEqual(missing_words("the north-west quay", feet), (["north-west"], []))
        address = "https://saltmere.example/permits/2026/slipway?number=1180&place=east"
        lines = [
            "\u05dd\u05d5\u05dc\u05e9 https://saltmere.example/permits/ \u05e0\u05de\u05dc",
            "?2026/slipway \u05e8\u05e6\u05d9\u05e3",
            "number=1180&place=east",
        ]
        self.assertEqual(missing_words(address, ["\n".join(lines)]), ([], []))
        for other in (address.replace("slipway", "pilotage"), address[:-4] + "buoy"):
            self.assertEqual(missing_words(other, ["\n".join(lines)]), ([other], []))
        words = " ".join(f"north-{n}-quay" if n % 9 == 0 else f"tide{n}" for n in range(2400))
        for body in (
            f"<div style='width:500px;border:1px solid'><p>{words}</div>",
            f"<p dir=rtl>{words} {address * 3}</p>",
        ):
            self.assertEqual(pdf_of(body)[1], set())

    def test_a_layout_that_is_given_up_is_noted(self) -> None:
        pdf, codes = pdf_of("<div style='overflow:hidden;height:6px'>Tide table of the east quay</div>")
        self.assertIn("layout-simplified", codes)
        self.assertIn("quay", "".join(char for char, *_ in places(pdf)))

    def test_a_picture_drawn_often_leaves_the_page_to_every_reader(self) -> None:
        rows = "".join(f'<p>buoy {n} <img src="cid:buoy"></p>' for n in range(8))
        picture = file("buoy.png", "image/png", png(20, 20), cid="buoy", disposition="inline")
        body = multipart("related", html(rows), picture)
        self.write("eight.eml", message("a@saltmere.example", "b@saltmere.example", "Buoys", when("2026-03-14"), body))
        for name, options in (("plain", ()), ("bound", ("--bind", "all")), ("archival", ("--archival",))):
            self.run_program("export", "eight.eml", "--into", name, *options)
            (path,) = (self.folder / name).rglob("*.pdf")
            check_with_others(self, path)
            self.assertIn("buoy 7", pdf_text(path))

    def test_a_name_that_leads_nowhere_is_a_fault_of_the_page(self) -> None:
        pdf, _ = pdf_of("<p>One (/x9 Do) /f-9 12 Tf two</p>")
        self.assertEqual(read_back(Written(pdf), "one two")[0], [])
        for kind in ("/Font", "/ExtGState"):
            with pikepdf.open(io.BytesIO(pdf)) as document:
                document.pages[0].Resources[kind] = pikepdf.Dictionary()
                out = io.BytesIO()
                document.save(out)
            with self.assertRaisesRegex(PageError, f"page 1 draws with what it does not have: {kind[1:]} /"):
                read_back(Written(out.getvalue()), "one two")

    def test_words_that_run_to_the_left(self) -> None:
        for words, wanted in (
            ("\u05deSaltmere \u05dc-2024", set()),  # a word of two directions
            ("\u0648\u064e\u0631\u064e\u062d\u0652\u0645\u064e\u0629\u064f", {"text-unsearchable"}),  # with vowel signs
            ("\u05e2\u05b2\u05dc\u05b5\u05d9\u05db\u05b6\u05dd", {"text-unsearchable"}),
        ):
            pdf, codes = pdf_of(f"<p dir=rtl>{words}</p>")
            self.assertEqual(codes, wanted, ascii(words))
            for absent in ("\u05d0\u05d1\u05d2", "\u0641\u064e\u062c\u0652\u0631", "\u0645\u064e\u0648"):
                self.assertIn(
                    "words-missing", {note.code for note in read_back(Written(pdf), f"{words} {absent}")[0]}, absent
                )

    def test_a_box_that_cuts_text_off(self) -> None:
        box = "<div style='overflow:hidden;{}'>{}</div>"
        for body, cut in (
            (box.format("height:6px", "Tide"), True),
            (box.format("height:24px;border-radius:6px", "Tide<br>table"), True),
            (box.format("height:14px", "<p style='margin:0;line-height:40px'>Tide"), True),
            (box.format("height:6px", "<p style='margin:0;opacity:.5'>Tide"), True),
            (
                box.format("height:40px;border-radius:6px", "Tide &ndash; <b>&bull;</b> 3 <i style='opacity:.5'>table"),
                False,
            ),
        ):
            pdf, _ = pdf_of(body, read_back=False)
            with pikepdf.open(io.BytesIO(pdf)) as document:
                self.assertEqual(quick_text(document.pages, cuts=True) is None, cut, body)
            lines = [line for page in pypdfium2.PdfDocument(pdf) for line in cut_lines(page)]
            self.assertEqual(bool(lines), cut, body)

    def test_is_told_and_can_be_left_out(self) -> None:
        self.write("m.mbox", mbox(letter("Signs", body="Sign \U0010fffd\n")))
        report = self.run_program("export", "m.mbox", "--into", "out").stdout
        self.assertIn("no font has some of the letters", report)
        register = (self.folder / "out" / "register.csv").read_text("utf-8-sig")
        self.assertIn("U+10FFFD", register)
        self.run_program("export", "m.mbox", "--into", "out2", "--no-read-back")

    def test_the_list_of_letters_is_that_of_the_fonts(self) -> None:
        letters: set[int] = set()
        for path in _FONTS.glob("*.ttf"):
            with TTFont(path, lazy=True) as font:
                letters |= set(font.getBestCmap())
        lines = (_FONTS / "coverage.txt").read_text("ascii").split()
        listed = {
            code for line in lines for code in range(int(line.split("-")[0], 16), int(line.split("-")[-1], 16) + 1)
        }
        self.assertEqual(listed, letters)
        self.assertEqual(without_font("plain, Größe, 東 \u200b\ufe0f"), [])
        # the last private character of all, which no font of any machine has
        self.assertEqual(without_font("a\U0010fffd"), ["\U0010fffd"])
        self.assertIn("private", named("\ue123"))
        self.assertIn("fonts-noto", named("\U00012000"))


class Links(unittest.TestCase):
    """Live areas, asked of pdfium at points of the page."""

    def lead(self, body: str, points: dict[str, tuple[float, float]]) -> dict[str, str]:
        """Where a reader is led who clicks at points: CSS pixels right and down from the left top corner of the body."""
        pdf, _ = pdf_of(f'<style>body{{margin:0}}</style><div style="color:#00ff01">X</div>{body}')
        document = pypdfium2.PdfDocument(pdf)
        page = document[0]
        text = page.get_textpage()
        mark = next(n for n in range(text.count_chars()) if text.get_text_range(n, 1) == "X")
        left, bottom, _, _ = text.get_charbox(mark, loose=True)
        led = {}
        for name, (x, y) in points.items():
            link = pdfium.FPDFLink_GetLinkAtPoint(page.raw, left + x * 0.75, bottom - y * 0.75)
            buffer = ctypes.create_string_buffer(200)
            if link:
                action = pdfium.FPDFLink_GetAction(link)
                pdfium.FPDFAction_GetURIPath(document.raw, action, buffer, 200)
            led[name] = buffer.value.decode()
        return led

    def test_the_whole_picture_is_live(self) -> None:
        picture = '<img src="https://x.example/a.png" width=200 height=100 alt="Chart"{}>'
        link = '<a href="https://saltmere.example/{}">{}</a>'
        points = {"top": (100, 12), "middle": (100, 50), "foot": (100, 90)}
        whole = dict.fromkeys(points, "https://saltmere.example/a")
        for name, body in (
            ("in a line", link.format("a", picture.format(""))),
            ("a block", link.format("a", picture.format(' style="display:block"'))),
            (
                "by its class",
                "<style>.b img{display:block}</style><div class=b>" + link.format("a", f"<b>{picture.format('')}</b>"),
            ),
            ("a table", link.format("a", "<table width=200 height=100><tr><td>Tide</td></tr></table>")),
            ("a division", link.format("a", '<div style="height:100px">Tide</div>')),
        ):
            with self.subTest(name):
                self.assertEqual(self.lead(f"<div>{body}</div>", points), whole)
        beside = f"<div>{link.format('a', picture.format(''))} {link.format('b', 'other')}</div>"
        self.assertEqual(self.lead(beside, points), whole, "a link of its own beside it changes nothing")
        mixed = f"<div>{link.format('a', 'Words ' + picture.format(''))}</div>"
        self.assertEqual(self.lead(mixed, {"middle": (120, 50)}), {"middle": whole["middle"]})

    def test_the_areas_of_a_map(self) -> None:
        areas = (
            '<map name="harbour"><area shape=rect coords="10,10,60,40" href="https://saltmere.example/quay">'
            '<area shape=circle coords="150,50,20" href="https://saltmere.example/buoy">'
            '<area coords="80,80,90,90" href="javascript:alert(1)"></map>'
        )
        picture = '<img src="https://x.example/a.png" usemap="#harbour" width=200 height=100>'
        points = {"quay": (30, 25), "buoy": (150, 55), "neither": (100, 60), "script": (85, 85)}
        led = self.lead(f"<div>{picture}</div>{areas}", points)
        wanted = {name: f"https://saltmere.example/{name}" for name in ("quay", "buoy")}
        self.assertEqual(led, {**wanted, "neither": "", "script": ""})


class Backgrounds(unittest.TestCase):
    def behind(self, body: str) -> tuple[tuple[int, ...], set[str]]:
        """The colour right of the letter that begins the body, as pdfium draws it, and the codes of notes."""
        pdf, codes = pdf_of(body)
        page = pypdfium2.PdfDocument(pdf)[0]
        text = page.get_textpage()
        mark = next(n for n in range(text.count_chars()) if text.get_text_range(n, 1) == "Q")
        _, bottom, right, _ = text.get_charbox(mark)
        return page.render().to_pil().getpixel((int(right + 40), int(page.get_height() - bottom - 2))), codes

    def test_the_colour_is_there_where_the_picture_is_not(self) -> None:
        dark = (0x2A, 0x34, 0x48)
        for name, style in (
            ("before", "background: #2a3448 url(https://x.example/a.png) no-repeat center"),
            ("behind", "background: url('https://x.example/a.png') #2a3448"),
            ("layers", "background: url(https://x.example/a.png), url(https://x.example/b.png) #2a3448"),
            ("a gradient over it", "background: linear-gradient(#fff, #000), #2a3448"),
            ("a variable", "background: var(--dark)"),
            ("what stands for a variable", "background: var(--none, #2a3448)"),
        ):
            for body in (
                f'<div style="{style};color:#fff">Q</div>',
                f'<style>.d{{{style}}}</style><div class=d style="color:#fff">Q</div>',
            ):
                with self.subTest(name):
                    self.assertEqual(self.behind(f"<style>:root{{--dark:#2a3448}}</style>{body}")[0], dark)
        self.assertEqual(
            self.behind('<div style="background:linear-gradient(90deg,#102030,#304050)">Q</div>')[0], (32, 48, 64)
        )

    def test_words_that_would_not_be_seen(self) -> None:
        lost = "background-image:url(https://x.example/a.png)"
        for ink, noted in (("#fff", True), ("#fdfdf0", True), ("#000", False), ("#777", False)):
            with self.subTest(ink):
                shown, codes = self.behind(f'<div style="{lost};color:{ink}">Q</div>')
                self.assertEqual(("background-missing" in codes, shown == (255, 255, 255)), (noted, not noted))
        shown, codes = self.behind("<div>Q</div><div style='color:#fff'>Tide</div>")
        self.assertEqual((shown, codes), ((255, 255, 255), set()), "what the author hides stays as it is")


class Widths(unittest.TestCase):
    def lines(self, body: str) -> int:
        return len({round(bottom) for bottom in self.feet(body)})

    def feet(self, body: str) -> Iterator[float]:
        text = pypdfium2.PdfDocument(pdf_of(body)[0])[0].get_textpage()
        for index in range(text.count_chars()):
            if text.get_text_range(index, 1) in "qQ":
                yield text.get_charbox(index, loose=True)[1]

    def test_a_table_of_fixed_layout_in_a_box_that_fits_what_it_holds(self) -> None:
        words = "quay quick square quota equal quiet"
        table = f'<table style="table-layout:fixed;width:100%"><tr><td>{words}</td></tr></table>'
        classed = f"<style>.f{{table-layout:fixed}}</style><table width=100% class=f><tr><td>{words}</td></tr></table>"
        for around in ("<table><tr><td>{}</td></tr></table>", '<div style="float:left">{}</div>', "<div>{}</div>"):
            for body in (table, classed):
                with self.subTest(around):
                    self.assertEqual(self.lines(around.format(body)), 1)
        narrow = "<table width=60><tr><td>{}</td></tr></table>"
        self.assertGreater(self.lines(narrow.format(table)), 3, "a width of the author's own holds")

    def test_lengths_out_of_several(self) -> None:
        for value, lines in (
            ("min(100%, 60px)", 5),
            ("max(10px, 600px)", 1),
            ("clamp(60px, 5%, 70px)", 5),
            ("var(--w)", 5),
            ("calc(100% - 20px)", 1),
        ):
            with self.subTest(value):
                body = f'<style>html{{--w:60px}}</style><div style="width:{value}">quay quick squ quota equal</div>'
                self.assertAlmostEqual(self.lines(body), lines, delta=0 if lines == 1 else 1)

    def test_the_direction_of_the_whole_document(self) -> None:
        body = "<!doctype html><html dir=rtl><body><p>Q</p></body></html>"
        pdf, _ = pdf_of(body)
        left = next(left for char, left, _, _ in places(pdf) if char == "Q")
        self.assertGreater(left, 400)
