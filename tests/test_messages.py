"""What other people's programs write: parts that are files though a text seems to name them, texts with names, wrong
labels. Judged by what was put in, and by the email package."""

from __future__ import annotations

import base64
import email
import io
import json
import unittest

import pikepdf
import pypdfium2

from tests.helpers import ProgramTest, letter, mbox, missing_words, named_rows, pdf_text, png, squeezed
from wexagraph.demo.build import Piece, file, html, message, multipart, text, when
from wexagraph.messages.blocks import TextBlock
from wexagraph.messages.charsets import decode
from wexagraph.messages.message import Message


def mail(body: Piece | bytes, subject: str = "Tide table") -> bytes:
    return message("Ines <i@quay.example>", "r@saltmere.example", subject, when("2026-03-14", 15, 3), body)


def raw(*parts: bytes, kind: str = "mixed") -> bytes:
    head = letter("Raw").partition(b"\n\n")[0] + b"\nMIME-Version: 1.0\n"
    body = b"".join(b"--b\n" + part + b"\n" for part in parts)
    return head + b'Content-Type: multipart/%s; boundary="b"\n\n' % kind.encode() + body + b"--b--\n"


PICTURE = png()
NAMED = b'Content-Type: text/plain; charset=us-ascii; name="text_0.txt"\n\nHigh water at noon.\n'
ROWS: dict[str, tuple[bytes, list[str]]] = {
    "a picture that the text draws": (
        mail(multipart("related", html('<img src="cid:p@x">'), file("p.png", "image/png", PICTURE, cid="p@x"))),
        [],
    ),
    "an ID that stands in a number": (
        mail(multipart("mixed", html("<p>12 berths</p>"), file("p.jpg", "image/jpeg", png(kind="JPEG"), cid="1"))),
        ["p.jpg"],
    ),
    "a PDF beside a text, with an ID": (
        mail(multipart("related", html("<p>See it.</p>"), file("p.pdf", "application/pdf", b"%PDF-1.4\n", cid="p@x"))),
        ["p.pdf"],
    ),
    "a PDF that is linked": (
        mail(
            multipart("related", html('<a href="cid:p@x">it</a>'), file("p.pdf", "application/pdf", b"%PDF", cid="p@x"))
        ),
        ["p.pdf"],
    ),
    "a PDF that is said to be a picture of the text": (
        mail(multipart("related", html('<img src="cid:p@x">'), file("p.pdf", "application/pdf", b"%PDF", cid="p@x"))),
        ["p.pdf"],
    ),
    "a picture that nobody can draw": (
        mail(
            multipart(
                "related", html('<img src="cid:p@x">'), file("p.wmf", "image/wmf", b"\xd7\xcd\xc6\x9a" * 9, cid="p@x")
            )
        ),
        ["p.wmf"],
    ),
    "a TIFF that the text draws": (
        mail(
            multipart("related", html('<img src="cid:p@x">'), file("p.tif", "image/tiff", png(kind="TIFF"), cid="p@x"))
        ),
        [],
    ),
    "a picture named in a comment": (
        mail(
            multipart(
                "related", html('<p>x</p><!-- <img src="cid:p@x"> -->'), file("p.png", "image/png", PICTURE, cid="p@x")
            )
        ),
        ["p.png"],
    ),
    "a picture in what is hidden": (
        mail(
            multipart(
                "related",
                html('<p>x</p><div style="display:none"><img src="cid:p@x"></div>'),
                file("p.png", "image/png", PICTURE, cid="p@x"),
            )
        ),
        ["p.png"],
    ),
    "a background, an escaped ID": (
        mail(
            multipart(
                "related",
                html('<table background="CID:p%40x"><tr><td>x</table>'),
                file("p.png", "image/png", PICTURE, cid="p@x"),
            )
        ),
        [],
    ),
    "a picture of a style sheet, by its place": (
        raw(
            b"Content-Type: text/html\n\n<style>td{background:url('wave.png')}</style><table><td>x",
            b"Content-Type: image/png\nContent-Location: wave.png\nContent-Transfer-Encoding: base64\n\n"
            + base64.encodebytes(PICTURE),
            kind="related",
        ),
        [],
    ),
    "a film with an ID": (
        mail(multipart("mixed", text("See it.\n"), file("p.mp4", "video/mp4", b"\0\0\0\x18ftypmp42", cid="2"))),
        ["p.mp4"],
    ),
    "a text with a name": (raw(NAMED), ["text_0.txt"]),
    "alternatives with names": (
        raw(NAMED, b'Content-Type: text/html; name="text_1.html"\n\n<p>High water at noon.</p>', kind="alternative"),
        ["text_0.txt", "text_1.html"],
    ),
    "a file in a text": (letter("In", body="See it.\n\nbegin 644 tide.txt\n%4V%L=',\nend\n"), ["tide.txt"]),
    "a message without a name": (
        raw(b"Content-Type: text/plain\n\nSee it.", b"Content-Type: message/rfc822\n\n" + letter("The old one")),
        ["The old one.eml"],
    ),
    "a separator before the header": (b"From i@quay.example Sat Mar 14 15:03:00 2026\n" + raw(NAMED), ["text_0.txt"]),
}


class OneList(ProgramTest):
    """Everything that tells of attachments tells of the same."""

    def test_number_and_names(self) -> None:
        table = list(ROWS.items())
        for number, (name, (data, wanted)) in enumerate(table):
            with self.subTest(name):
                self.write(f"in{number}.eml", data)
                self.assertEqual([a.name for a in Message(data).attachments], wanted)
                listed = json.loads(self.call_program("list", f"in{number}.eml", "--json").stdout)[0]
                self.assertEqual([one["name"] for one in listed["attachments"]], wanted)
                into = f"out{number}"
                self.call_program(
                    "export",
                    f"in{number}.eml",
                    "--into",
                    into,
                    "--as",
                    "pdf,eml",
                    "--attachments",
                    "embed,beside",
                    "--name",
                    "x{number}",
                )
                register = list(named_rows(io.StringIO((self.folder / into / "register.csv").read_text("utf-8-sig"))))
                self.assertEqual([w for w in register[0]["attachment_names"].split("; ") if w], wanted)
                with pikepdf.open(next((self.folder / into).rglob("*.pdf"))) as document:
                    held = {
                        k: v.get_file().read_bytes()
                        for k, v in document.attachments.items()
                        if not k.endswith("message.eml")
                    }
                for file_name in wanted:
                    self.assertIn(file_name, held)
                self.call_program("attachments", f"in{number}.eml", "--into", f"att{number}")
                taken = sorted(
                    p for p in (self.folder / f"att{number}").rglob("*") if p.is_file() and ".wexagraph" not in p.parts
                )
                taken = [p for p in taken if p.name not in ("attachments.csv", "manifest-sha256.txt")]
                self.assertEqual(len(taken), len(wanted), taken)
                content = {a.name: a.content() for a in Message(data).attachments}
                self.assertEqual(sorted(p.read_bytes() for p in taken), sorted(content.values()))
                self.assertLessEqual(set(content.values()), set(held.values()))

    def test_byte_for_byte_as_the_email_package_has_them(self) -> None:
        for name, (data, _) in ROWS.items():
            with self.subTest(name):
                parsed = Message(data)
                ours = [a.content() for a in parsed.attachments] + [p.content() for p in parsed.layout_pictures()]
                for part in email.message_from_bytes(
                    data.partition(b"\n")[2] if data.startswith(b"From ") else data
                ).walk():
                    if not part.is_multipart() and (part.get_filename() or part.get_content_maintype() != "text"):
                        self.assertIn(part.get_payload(decode=True).rstrip(b"\n"), [one.rstrip(b"\n") for one in ours])  # type: ignore[union-attr]

    def test_a_named_text_is_on_the_page(self) -> None:
        self.write("in.eml", raw(NAMED))
        self.call_program("export", "in.eml", "--into", "out", "--name", "x{number}")
        shown = pdf_text(next((self.folder / "out").rglob("*.pdf")))
        self.assertEqual(missing_words("High water at noon. text_0.txt", shown), [])


class Structures(unittest.TestCase):
    def test_a_line_without_a_colon_ends_a_header(self) -> None:
        parsed = Message(
            raw(b"Content-Type: text/plain; charset=utf-8\nHigh water at noon.\nLow at six.\n\nYours, Ines")
        )
        (block,) = parsed.blocks()
        assert isinstance(block, TextBlock)
        self.assertEqual(block.text.split(), "High water at noon. Low at six. Yours, Ines".split())

    def test_plain_text_labelled_base64(self) -> None:
        words = "Dear harbour office, high water is at noon. Yours, Ines.\n"
        parsed = Message(raw(b"Content-Type: text/plain\nContent-Transfer-Encoding: base64\n\n" + words.encode()))
        (block,) = parsed.blocks()
        assert isinstance(block, TextBlock)
        self.assertEqual(block.text.strip(), words.strip())


class Charsets(unittest.TestCase):
    GERMAN = "Die Möwe fliegt über die Hafenmauer, und der Lotse grüßt. "

    def test_rows(self) -> None:
        bad = (self.GERMAN * 5).encode() + b"\xff" + (self.GERMAN * 5).encode()
        korean = "항구의 조석표를 보냅니다. 만조는 정오입니다. " * 4
        rows = (
            (bad, "utf-8", self.GERMAN * 5 + "\ufffd" + self.GERMAN * 5),
            (bad, "", self.GERMAN * 5 + "\ufffd" + self.GERMAN * 5),
            (korean.encode("cp949") + b"\xff" + korean.encode("cp949"), "euc-kr", korean + "\ufffd" + korean),
            (self.GERMAN.encode("cp1252"), "utf-8", self.GERMAN),
            (self.GERMAN.encode("cp1252"), "", self.GERMAN),
            ("Tide – 4 m".encode("cp1252"), "", "Tide – 4 m"),
            (self.GERMAN.encode(), "iso-8859-1", self.GERMAN),
        )
        for data, label, wanted in rows:
            with self.subTest(wanted[:20], label=label):
                self.assertEqual(decode(data, label)[0], wanted)

    def test_what_the_header_names_is_tried_first(self) -> None:
        words = "Прилив в полдень."
        subject = b"Subject: =?koi8-r?b?" + base64.b64encode("Порт".encode("koi8-r")) + b"?=\n"
        parsed = Message(subject + b"Content-Type: text/plain\n\n" + words.encode("koi8-r"))
        (block,) = parsed.blocks()
        assert isinstance(block, TextBlock)
        self.assertEqual(block.text, words)


class Separators(ProgramTest):
    def test_a_patch_in_an_open_part(self) -> None:
        patch = "From " + "0123456789" * 4 + " Mon Sep 17 00:00:00 2001\nSubject: a patch\n\nwords\n"
        whole = raw(
            b"Content-Type: text/plain\n\nSee it.", b"Content-Type: text/x-patch; name=a.patch\n\n" + patch.encode()
        )
        open_end = raw(b"Content-Type: text/plain\n\nNo end.").rpartition(b"--b--")[0]
        self.write("in.mbox", mbox(whole, open_end, letter("Next"), letter("Last")))
        done = self.call_program("list", "in.mbox", "--json")
        rows = json.loads(done.stdout)
        self.assertEqual([one["subject"] for one in rows], ["Raw", "Raw", "Next", "Last"])
        self.assertEqual([one["name"] for one in rows[0]["attachments"]], ["a.patch"])
        self.call_program("export", "in.mbox", "--into", "out", "--as", "eml", "--name", "{number}")
        first = sorted((self.folder / "out").rglob("*.eml"))[0].read_bytes()
        self.assertEqual(squeezed(first.decode()), squeezed(whole.decode()))


class Pages(ProgramTest):
    """What a layout must not do to a page. Judged by what is read off the paper, not out of the file."""

    count = 0

    def page(self, body: str) -> pypdfium2.PdfDocument:
        self.count += 1
        into = f"out{self.count}"
        self.write("in.eml", mail(html(body)))
        self.call_program("export", "in.eml", "--into", into, "--name", "x{number}")
        document = pypdfium2.PdfDocument(next((self.folder / into).rglob("*.pdf")))
        self.addCleanup(document.close)
        return document

    def test_no_text_is_cut_off(self) -> None:
        for number, body in enumerate(
            (
                '<div style="height:6px;overflow:hidden">anchorage</div><p>Below</p>',
                '<div style="height:20px;overflow:hidden"><p>Above</p><p>anchorage</p></div>',
                '<div style="height:20px;overflow:hidden;position:relative"><div style="position:absolute;top:90px">anchorage</div></div>',
                '<table style="table-layout:fixed"><tr><td style="width:0">anchorage</td><td>Beside</td></tr></table>',
                "<style>.m{display:block !important}</style>"
                '<div class=m style="display:none;height:6px;overflow:hidden">anchorage</div>',
                "<style>.m{overflow:hidden}</style><div class=m style='height:6px'><p>anchorage</p></div>",
                "<style>.m{overflow:hidden} @supports (a:b){.x{}} .n{max-height:4px}</style><div class='m n'>anchorage</div>",
            )
        ):
            with self.subTest(body):
                page = self.page(f"<p>Letter {number}</p>{body}")[0]
                words = page.get_textpage()
                place = words.search("anchorage").get_next()
                self.assertIsNotNone(place, words.get_text_range())
                assert place is not None
                boxes = [words.get_charbox(place[0] + n) for n in range(place[1])]
                left, bottom, right, top = (
                    pick(side) for pick, side in zip((min, min, max, max), zip(*boxes, strict=True), strict=True)
                )
                crop = (
                    page.render(scale=4, crop=(left, bottom, page.get_width() - right, page.get_height() - top))
                    .to_pil()
                    .convert("L")
                )
                ink = [min(crop.crop((0, y, crop.width, y + 1)).tobytes()) < 128 for y in range(crop.height)]
                self.assertGreater(sum(ink), 0.8 * len(ink), "every line of the letters is on the paper")

    def test_a_layout_begins_below_the_heading(self) -> None:
        lines = "".join(f"<p>Mooring {n} is free.</p>" for n in range(22))
        nested = f'<table width="100%"><tr><td style="padding-top:24px">{lines}</td></tr></table>'
        body = f'<table><tr><td></td><td style="display:block;padding:10px"><table><tr><td><img width=48 height=48 src="cid:x"></td></tr><tr><td>{nested}</td></tr></table></td></tr></table>'
        self.assertIn("Mooring 0", self.page(body)[0].get_textpage().get_text_range())
        # what is unrolled is as high as what stands in it: nothing that follows is set over it
        low = body.replace("<table>", '<table height="60">').replace("<td>", '<td height="50">') + "<p>Afterwards</p>"
        pages = [page.get_textpage() for page in self.page(low)]
        self.assertIn("Mooring 0", pages[0].get_text_range())
        places = []
        for word in ("Mooring 21", "Afterwards"):
            number = next(number for number, words in enumerate(pages) if word in words.get_text_range())
            places.append((number, -pages[number].get_charbox(pages[number].search(word).get_next()[0])[1]))  # type: ignore[index]
        self.assertLess(places[0], places[1])

    def test_words_for_sizes_are_those_of_browsers(self) -> None:
        for word, pixels in (("xx-small", 9), ("small", 13), ("large", 18), ("xx-large", 32)):
            with self.subTest(word):
                words = self.page(f'<p style="font-size:{word}">Moorings</p><p style="font-size:16px">Mast</p>')[
                    0
                ].get_textpage()
                heights = []
                for letter in ("Moorings", "Mast"):
                    _, bottom, _, top = words.get_charbox(words.search(letter).get_next()[0])  # type: ignore[index]
                    heights.append(top - bottom)
                self.assertAlmostEqual(heights[0] / heights[1], pixels / 16, delta=0.02)

    def test_nothing_gets_over_the_heading(self) -> None:
        middle = "position:absolute;top:50%;left:50%;transform:translate(-50%,-50%)"
        sender = "<span style='font-size:12px;background:#fff'>From the mayor</span>"
        rows = [
            f'<div style="{style}">{sender}</div>'
            for style in (
                "position:absolute;top:-200px",
                "position:relative;top:-200px",
                "margin-top:-200px",
                "position:fixed;top:0",
                "POSITION:Absolute;TOP:-200PX!important",
                "position:absolute;top:calc(10px - 200px)",
                "position:absolute;bottom:90px",
                "position:absolute;inset:-200px auto auto 0",
                "position:relative;bottom:200px",
                "translate:0 -200px",
                f"{middle};font-size:140px",
                "position:absolute;top:0;margin:-200px 0 0",
                "position:/**/absolute;top:/**/-200px",
                "position:sticky;top:-200px",
            )
        ]
        rows.append(f'<div style="{middle};height:0">' * 9 + sender + "</div>" * 9)
        rows.append("<style>.a{position:absolute;top:-200px}</style><div class=a>" + sender + "</div>")
        for row in rows:
            with self.subTest(row):
                words = self.page(f"{row}<p>Words</p>")[0].get_textpage()
                heading, place = (words.search(text).get_next() for text in ("Date", "the mayor"))
                self.assertIsNotNone(place)
                self.assertLess(words.get_charbox(place[0])[3], words.get_charbox(heading[0])[1])  # type: ignore[index]

    def test_nothing_covers_the_notes(self) -> None:
        cover = (
            '<div style="position:absolute;top:0;left:0;width:600px;height:900px;background:#f00;z-index:999999"></div>'
        )
        page = self.page(f'<p>Words</p><img src="http://a.example/p.png" width=90 height=40>{cover}')[0]
        words = page.get_textpage()
        boxes = [
            words.get_charbox(words.search(text).get_next()[0]) for text in ("Date", "Notes on this copy", "Words")
        ]  # type: ignore[index]
        shown = page.render(scale=1).to_pil()
        red = [
            shown.getpixel((int(left), int(page.get_height() - bottom) + 1)) == (255, 0, 0)
            for left, bottom, _, _ in boxes
        ]
        self.assertEqual(red, [False, False, True], "only the message's own words lie below it")

    def test_a_subject_without_a_blank_stays_out_of_the_page_number(self) -> None:
        self.write("in.eml", letter("Soundings" * 30))
        self.call_program("export", "in.eml", "--into", "out", "--name", "x{number}")
        with pypdfium2.PdfDocument(next((self.folder / "out").rglob("*.pdf"))) as document:
            words = document[0].get_textpage()
            *_, top = words.get_charbox(words.search("Page 1 of 1").get_next()[0])  # type: ignore[index]
            foot = words.get_text_bounded(0, 0, document[0].get_width(), top + 6)
            self.assertEqual(len(foot.split()), 5, foot)
