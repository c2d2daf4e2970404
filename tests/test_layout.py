"""Where the words of a layout stand: what the rules of browsers say of old documents, names of faces and endless words."""

from __future__ import annotations

import subprocess
import unittest

import pypdfium2

from tests.helpers import ProgramTest, letter_with
from wexagraph.demo.build import html, message, text, when
from wexagraph.pages.cleaning.quirks import escaped
from wexagraph.pages.make import Job, make
from wexagraph.pages.options import PageOptions
from wexagraph.text import without_tabs

_PX = 0.75
_MODERN = "<!doctype html>"
_LIMITED = (
    '<!DOCTYPE html PUBLIC "-//W3C//DTD XHTML 1.0 Transitional//EN"'
    ' "http://www.w3.org/TR/xhtml1/DTD/xhtml1-transitional.dtd">'
)


def corners(body: str) -> dict[str, tuple[float, float]]:
    """The left edge of each letter of the body's text and its line's foot, in CSS pixels down from the first letter."""
    data = message("a@saltmere.example", "b@saltmere.example", "0", when("2026-03-14"), html(body))
    pdf = make(Job(data, ("pdf",), PageOptions(header="", footer=""))).files["pdf"]
    page = pypdfium2.PdfDocument(pdf)[0]
    words = page.get_textpage()
    places = {}
    for index in range(words.count_chars()):
        letter = words.get_text_range(index, 1)
        if letter.isupper() and letter not in "FTD":  # our own labels: From, To, Date
            left, bottom, _, _ = words.get_charbox(index)
            places[letter] = (left / _PX, -bottom / _PX)
    first = places["A"][1]
    return {letter: (round(x, 1), round(y - first, 1)) for letter, (x, y) in places.items()}


class Quirks(unittest.TestCase):
    """Expected lengths are those of Liberation Sans, whose normal line is 1.149 em high, in whole pixels."""

    def test_a_line_is_as_high_as_the_text_that_stands_in_it(self) -> None:
        small = '<div style="font-size:40px"><font size=2>A<br>B</font><br>C<font size=2><br>E</font></div>'
        for doctype, wanted in ((_MODERN, 46), (_LIMITED, 15), ("", 15)):
            with self.subTest(doctype):
                places = corners(doctype + small)
                self.assertAlmostEqual(places["B"][1], wanted, delta=2.5)
                self.assertGreater(places["C"][1] - places["B"][1], 25)  # text of its own makes a line as high as it is
        nested = "<center><font size=7><font size=4>A<br>B</font></font></center>"
        self.assertAlmostEqual(corners(nested)["B"][1], 21, delta=1.5)
        self.assertAlmostEqual(corners(_MODERN + nested)["B"][1], 56, delta=1.5)

    def test_the_margin_of_a_first_and_last_paragraph(self) -> None:
        cells = "<table cellspacing=0 cellpadding=0><tr><td>A</td></tr><tr><td><p>B</p><p>C</p></td></tr><tr><td>E"
        for doctype, wanted in ((_MODERN, (34, 68, 102)), ("", (18, 52, 70))):
            with self.subTest(doctype):
                places = corners(doctype + cells)
                for letter, down in zip("BCE", wanted, strict=True):
                    self.assertAlmostEqual(places[letter][1], down, delta=2.5)

    def test_the_height_of_a_cell_counts_its_padding(self) -> None:
        for attributes in ('style="height:60px;padding:10px"', 'height=60 style="padding:10px"'):
            cells = f"<table cellspacing=0><tr><td {attributes} valign=top>A<tr><td {attributes} valign=top>B</table>"
            with self.subTest(attributes):
                self.assertAlmostEqual(corners(cells)["B"][1], 60, delta=1.5)
                self.assertAlmostEqual(corners(_MODERN + cells)["B"][1], 80, delta=1.5)

    def test_what_stands_in_a_paragraph_and_in_a_form(self) -> None:
        for source, wanted in (
            ("<p>A<table cellspacing=0 cellpadding=0><tr><td>B</table>", 18),
            ("<form>A</form>B", 34),
            ('<table><tr><td style="font:inherit">A<br><br>B</table>', 36),
            ("<div><font size=1>-</font><o:p>A</o:p><br><o:p>B</o:p></div>", 18),
        ):
            with self.subTest(source):
                self.assertAlmostEqual(corners(source)["B"][1], wanted, delta=3)
        self.assertAlmostEqual(corners(_MODERN + "<form>A</form>B")["B"][1], 18, delta=2)

    def test_an_authors_line_height_holds(self) -> None:
        places = corners('<div style="line-height:40px"><font size=1>A<br>B</font></div>')
        self.assertAlmostEqual(places["B"][1], 40, delta=0.5)


class Sheets(unittest.TestCase):
    def test_rules_for_everything_and_for_a_class_reach_the_body(self) -> None:
        plain = corners("<p>A")["A"][0]
        for style, body in (("*{margin:0}", "<body>"), (".page{margin:0}", '<body class="Page page">')):
            with self.subTest(style):
                places = corners(f"<style>{style}</style>{body}<p>A")
                self.assertAlmostEqual(plain - places["A"][0], 8, delta=0.2)
        weaker = corners("<style>body{margin:20px}*{margin:0}</style><body><p>A")
        self.assertAlmostEqual(weaker["A"][0] - plain, 12, delta=0.2)

    def test_a_full_body_without_margin_is_not_made_smaller(self) -> None:
        wide = corners('<style>*{margin:0}body{width:100% !important}</style><body><span style="margin-left:400px">A')
        narrow = corners('<style>*{margin:0}</style><body><span style="margin-left:400px">A')
        self.assertEqual(wide["A"][0], narrow["A"][0])

    def test_a_generic_face_stands_for_itself_wherever_it_is_named(self) -> None:
        for names in ("'Nowhere', sans-serif, sans-serif", '"Nowhere","sans-serif",serif'):
            with self.subTest(names):
                given = corners(
                    f"<p style='font-family:{names.replace(chr(39), chr(34))}'>A mooring B".replace('"', "&quot;")
                )
                wanted = corners("<p style='font-family:Liberation Sans'>A mooring B")
                self.assertAlmostEqual(given["B"][0], wanted["B"][0], delta=0.2)


class Alignment(unittest.TestCase):
    """The left edge of a letter in a sheet whose text goes from 8 to 651 pixels, 18 mm from the paper's edge."""

    def edges(self, source: str) -> dict[str, float]:
        return {letter: x - 18 / 25.4 * 96 for letter, (x, _) in corners(source).items()}

    def test_tables_and_heading_cells(self) -> None:
        table = "<table width=100% cellspacing=0 cellpadding=0>"
        centre, right = 324, 640
        for source, standards, quirks in (
            (f'<div style="text-align:center">{table}<tr><td>A</table></div>', centre, 8),
            (f"<div align=center>{table}<tr><td>A</table></div>", 8, 8),
            (f"<style>body{{text-align:right}}</style>{table}<tr><td>A</table>", right, 8),
            (f"{table}<tr><th>A</table>", centre, centre),
            (f'{table}<tr style="text-align:left"><th>A</table>', 8, 8),
            (f"<style>tr{{text-align:left}}</style>{table}<tr><th>A</table>", 8, 8),
            (f'<div style="text-align:right">{table}<tr><th>A</table></div>', right, centre),
            (f"{table}<tr align=right><th>A</table>", right, right),
        ):
            for doctype, wanted in ((_MODERN, standards), ("", quirks)):
                with self.subTest(doctype + source):
                    self.assertAlmostEqual(self.edges(doctype + source)["A"], wanted, delta=3)

    def test_what_an_alignment_around_it_moves(self) -> None:
        for source, wanted in (
            ("<style>table{margin:0 0 16px 0}</style><center><table width=200><tr><td>A</table></center>", 232),
            ("<style>table{margin:0}</style><table align=center width=200><tr><td>A</table>", 10),
            ('<div align=center><div style="width:100px">A</div></div>', 324),
            ('<center><div style="width:300px;text-align:left">A</div></center>', 179),
            (
                "<style>.menu[align=center]{width:auto}.menu{width:500px}</style><table class=menu align=center><td>A",
                324,
            ),
        ):
            with self.subTest(source):
                self.assertAlmostEqual(self.edges(_MODERN + source)["A"], wanted, delta=6)

    def test_small_things(self) -> None:
        for source, letter, wanted in (
            ("<pre>AAAA B</pre>", "B", 8 + 5 * 7.8),
            ("<pre><code>AAAA B</code></pre>", "B", 8 + 5 * 7.8),
            ("<style>pre{font-family:Courier New}</style><pre>AAAA B</pre>", "B", 8 + 5 * 9.6),
            ("<pre>A<b>A\t</b>B</pre>", "B", 8 + 8 * 7.8),
            ('<p>A<div style="margin-left:10vw">B', "B", 8 + 64.3),
            ("<img src=http://x.example/a.png align=left width=100 height=60>A<br clear=all>B", "B", 8),
            ("<body topmargin=0 leftmargin=30>A", "A", 30),
            ("A<form>B</form>", "B", 8),
            ("A<xmp>B</xmp>", "B", 8),
        ):
            with self.subTest(source):
                self.assertAlmostEqual(self.edges(source)[letter], wanted, delta=1.5)

    def test_columns_of_a_plain_text_stand_below_each_other(self) -> None:
        lines = "A\tB\tZ\nAA\tBB\tZ\n\u6e2f\tB\nAAAAAAAA\tZ\n"
        self.assertEqual(without_tabs(lines).split("\n")[0], "A       B       Z")
        data = message("a@saltmere.example", "b@saltmere.example", "0", when("2026-03-14"), text(lines))
        page = pypdfium2.PdfDocument(make(Job(data, ("pdf",), PageOptions(header="", footer=""))).files["pdf"])[0]
        words = page.get_textpage()
        places = [(words.get_text_range(i, 1), round(words.get_charbox(i)[0])) for i in range(words.count_chars())]
        thirds = [x for letter, x in places if letter == "Z"]
        self.assertEqual(len(thirds), 3)
        self.assertEqual(len(set(thirds)), 1)


class Lines(unittest.TestCase):
    def test_a_word_that_a_browser_keeps_whole_is_kept_whole(self) -> None:
        path = "/usr/lib/perl5/vendor_perl/5.8.0/i386/ModPerl/RegistryCooker.pm:184"
        self.assertEqual(escaped(path, 89), path)
        self.assertIn("<wbr>", escaped(path))  # but not in a narrow column of ours
        address = f"http://www.saltmere.example/{'a' * 40}?{'b' * 40}-{'c' * 20}"
        self.assertEqual(escaped(address, 89).split("<wbr>"), [address[:69], address[69:110], address[110:]])
        self.assertGreater(escaped("x" * 300, 89).count("<wbr>"), 10)

    def test_the_sheet_is_as_wide_as_a_browsers(self) -> None:
        self.assertEqual(PageOptions().content_width, 659)  # 174 mm: 494 whole points, 659 whole pixels
        self.assertEqual(PageOptions().margins_css(), "18mm 17.6396mm 22mm 18mm")
        places = corners('<div style="margin:0 -8px"><span style="float:right">AB')
        self.assertLess(places["B"][0] * _PX + 8, 595.3 - 18 / 25.4 * 72 + 1.1)


SCRIPTS = {
    "Devanagari": "बन्दरगाह के कार्यालय में सभी पत्र सुरक्षित रखे जाते हैं। क्षेत्रीय स्थिति",
    "Bengali": "বন্দরের কার্যালয়ে সকল চিঠিপত্র নিরাপদে রাখা হয়। স্বাগতম ক্লিক",
    "Gujarati": "બંદર કચેરીમાં બધા પત્રો સુરક્ષિત રાખવામાં આવે છે",
    "Gurmukhi": "ਬੰਦਰਗਾਹ ਦਫ਼ਤਰ ਵਿੱਚ ਸਾਰੇ ਪੱਤਰ ਸੁਰੱਖਿਅਤ ਰੱਖੇ ਜਾਂਦੇ ਹਨ",
    "Kannada": "ಬಂದರು ಕಚೇರಿಯಲ್ಲಿ ಎಲ್ಲಾ ಪತ್ರಗಳನ್ನು ಸುರಕ್ಷಿತವಾಗಿ ಇಡಲಾಗುತ್ತದೆ",
    "Malayalam": "തുറമുഖ ഓഫീസിൽ എല്ലാ കത്തുകളും സുരക്ഷിതമായി സൂക്ഷിക്കുന്നു",
    "Tamil": "துறைமுக அலுவலகத்தில் அனைத்து கடிதங்களும் பாதுகாப்பாக வைக்கப்படுகின்றன",
    "Telugu": "ఓడరేవు కార్యాలయంలో అన్ని లేఖలు సురక్షితంగా ఉంచబడతాయి",
    "Sinhala": "වරාය කාර්යාලයේ සියලුම ලිපි ආරක්ෂිතව තබා ඇත ශ්‍රී",
    "Thai": "สำนักงานท่าเรือเก็บรักษาจดหมายทั้งหมดไว้อย่างปลอดภัย ที่นี่ ผู้ใหญ่",
    "Lao": "ຫ້ອງການທ່າເຮືອເກັບຮັກສາຈົດໝາຍທັງໝົດໄວ້ຢ່າງປອດໄພ ຊື່",
    "Khmer": "ការិយាល័យកំពង់ផែរក្សាទុកសំបុត្រទាំងអស់ដោយសុវត្ថិភាព ស្រី",
    "Myanmar": "ဆိပ်ကမ်းရုံးသည် စာအားလုံးကို လုံခြုံစွာ သိမ်းဆည်းထားသည်",
}


class JoinedLetters(ProgramTest):
    def written(self, body: str, subject: str = "x") -> bytes:
        return message("a@saltmere.example", "b@saltmere.example", subject, when("2026-03-14"), text(body))

    def test_words_of_every_script_are_told_as_they_were_written(self) -> None:
        body = "\n".join(SCRIPTS.values()) + "\n" + "".join(SCRIPTS["Thai"].split()) * 3 + "\n"
        self.write(
            "in/scripts.eml",
            message("a@saltmere.example", "b@saltmere.example", "ক্ত স্থ", when("2026-03-14"), text(body)),
        )
        self.run_program(
            "export", "in", "--into", "out", "--archival", "--name", "{id}", "--flat", "--attachments", "none"
        )
        (path,) = (self.folder / "out").glob("*.pdf")
        document = pypdfium2.PdfDocument(path)
        by_pdfium = "".join(page.get_textpage().get_text_bounded() for page in document)
        by_poppler = subprocess.run(["pdftotext", "-raw", path, "-"], capture_output=True, check=True).stdout.decode()
        for letters in (by_pdfium, by_poppler):
            letters = "".join(letters.split()).replace("\ufffe", "")
            for script, line in {**SCRIPTS, "subject": "ক্ত স্থ"}.items():
                with self.subTest(script):
                    for word in line.split():
                        self.assertIn(word, letters)
            self.assertEqual(letters.count("สำนักงานท่าเรือ"), 4)
        # each alone too, where nothing else asks for a closer look
        for script, line in {**SCRIPTS, "greeting": "नमस्ते", "which": "ที่"}.items():
            made = make(Job(self.written(line), ("pdf",), PageOptions()))
            path = self.write("one.pdf", made.files["pdf"])
            letters = subprocess.run(["pdftotext", "-raw", path, "-"], capture_output=True, check=True).stdout.decode()
            with self.subTest(f"{script} alone"):
                self.assertEqual([word for word in line.split() if word not in "".join(letters.split())], [])
        # and on pages of attachments
        self.write(
            "in2/attached.eml",
            letter_with(("tides.txt", "text/plain; charset=utf-8", SCRIPTS["Devanagari"].encode())),
        )
        self.run_program("export", "in2", "--into", "out2", "--flat", "--attachments", "pages")
        (path,) = (self.folder / "out2").glob("*.pdf")
        letters = subprocess.run(["pdftotext", "-raw", path, "-"], capture_output=True, check=True).stdout.decode()
        self.assertEqual([word for word in SCRIPTS["Devanagari"].split() if word not in "".join(letters.split())], [])
        # what nobody could read in a year takes no longer than anything else
        endless = make(Job(self.written("क्ष" * 20_000), ("pdf",), PageOptions()))
        self.assertIn("words-missing", {note.code for note in endless.notes})
        many = make(Job(self.written(f"{SCRIPTS['Devanagari']}\n" * 400), ("pdf",), PageOptions()))
        self.assertEqual([note for note in many.notes if note.code.startswith(("text-", "words-"))], [])
        self.assertNotIn("not found again", (self.folder / "out/register.csv").read_text("utf-8"))


if __name__ == "__main__":
    unittest.main()
