"""Documents that only an office suite reads: what they name elsewhere stays elsewhere, and nothing of them is left."""

from __future__ import annotations

import io
import os
import re
import subprocess
import tempfile
import time
import unittest
import zipfile
from unittest import mock

import pypdfium2

from tests.helpers import ProgramTest, png
from wexagraph.pages.attachments import office
from wexagraph.pages.attachments.office import without_references


def drawn_sheet(at: str) -> bytes:
    """An OpenDocument spreadsheet that draws a picture from an address."""
    namespaces = "".join(
        f' xmlns:{name}="urn:oasis:names:tc:opendocument:xmlns:{what}:1.0"'
        for name, what in (("office", "office"), ("table", "table"), ("text", "text"), ("draw", "drawing"))
    )
    drawn = (
        '<table:shapes><draw:frame draw:z-index="0" svg:width="6cm" svg:height="6cm" svg:x="2cm" svg:y="2cm">'
        f'<draw:image l:href="{at}" l:type="simple" l:show="embed" l:actuate="onLoad"/></draw:frame></table:shapes>'
    )
    content = (
        f'<?xml version="1.0" encoding="UTF-8"?><office:document-content{namespaces} xmlns:l="http://www.w3.org/1999/xlink"'
        ' xmlns:svg="urn:oasis:names:tc:opendocument:xmlns:svg-compatible:1.0" office:version="1.2"><office:body>'
        f'<office:spreadsheet><table:table table:name="Dues">{drawn}<table:table-row><table:table-cell '
        'office:value-type="string"><text:p>Dues of <text:a l:href="https://saltmere.example/">March</text:a></text:p>'
        "</table:table-cell></table:table-row></table:table></office:spreadsheet></office:body></office:document-content>"
    )
    kind, out = "application/vnd.oasis.opendocument.spreadsheet", io.BytesIO()
    entries = ((f"{name}", media) for name, media in (("/", kind), ("content.xml", "text/xml")))
    listed = "".join(f'<m:file-entry m:full-path="{name}" m:media-type="{media}"/>' for name, media in entries)
    with zipfile.ZipFile(out, "w") as new:
        new.writestr("mimetype", kind)
        new.writestr(
            "META-INF/manifest.xml",
            f'<m:manifest xmlns:m="urn:oasis:names:tc:opendocument:xmlns:manifest:1.0">{listed}</m:manifest>',
        )
        new.writestr("content.xml", content)
    return out.getvalue()


class OfficeSuite(ProgramTest):
    """What an attached document names elsewhere is not brought into the page: it is taken out of the document, and the
    suite runs where nothing else is. Each of the two holds alone."""

    def setUp(self) -> None:
        super().setUp()
        self.picture = self.write("own/picture.png", png(300, 300, "red"))

    def reds(self, pdf: bytes) -> int:
        """How many red dots the first page has."""
        shown = pypdfium2.PdfDocument(pdf)[0].render(scale=0.5).to_pil().convert("RGB")
        return sum(count for count, (red, green, _) in shown.getcolors(1 << 20) if red > 200 and green < 80)

    @unittest.skipUnless(office.suite(), "LibreOffice is not installed")
    def test_a_picture_of_the_clerk(self) -> None:
        kind = "application/vnd.oasis.opendocument.spreadsheet"
        content = drawn_sheet(self.picture.as_uri())

        def as_it_is(content: bytes, suffix: str) -> bytes:
            return content

        self.assertTrue(office._runs_apart(), "this machine has namespaces")
        for apart, unlinked, shown in (
            (False, False, True),
            (True, False, False),
            (False, True, False),
            (True, True, False),
        ):
            with (
                self.subTest(apart=apart, unlinked=unlinked),
                mock.patch.object(office, "_runs_apart", lambda apart=apart: apart),
                mock.patch.object(office, "without_references", without_references if unlinked else as_it_is),
            ):
                made = office.suite_pdf(content, kind)
                self.assertEqual(self.reds(made) > 1000, shown)
                self.assertIn("Dues of March", pypdfium2.PdfDocument(made)[0].get_textpage().get_text_range())

    def test_what_is_taken_out(self) -> None:
        for at, stays in (
            ("file:///etc/passwd", False),
            ("../../own/picture.png", False),
            ("/own/picture.png", False),
            ("ftp://saltmere.example/x.png", False),
            ("https://saltmere.example/x.png", False),
            ("&#x66;ile:///own/picture.png", False),
            ("..\\own\\picture.png", False),
            ("Pictures/10000.png", True),
            ("./ObjectReplacements/Object 1", True),
        ):
            for suffix in (".ods", ".odt", ".odp"):
                with zipfile.ZipFile(io.BytesIO(without_references(drawn_sheet(at), suffix))) as made:
                    text = made.read("content.xml").decode()
                self.assertEqual(f'draw:image l:href="{at}"' in text, stays, at)
                self.assertIn('text:a l:href="https://saltmere.example/"', text)
        rtf = rb'{\rtf1 {\field{\*\fldinst INCLUDEPICTURE "file:///own/p.png"}{\fldrslt shown}}{\*\template file:///x}}'
        made_of_rtf = without_references(rtf, ".rtf")
        for word in (rb"\fldinst", rb"\template "):
            self.assertNotIn(word, made_of_rtf)
        self.assertIn(rb"{\fldrslt shown}", made_of_rtf)
        relationship = '<Relationship Id="r{n}" Type="x/{kind}" Target="file:///x" TargetMode="External"/>'
        rels = "".join(
            relationship.format(n=n, kind=kind) for n, kind in enumerate(("image", "hyperlink", "oleObject"))
        )
        out = io.BytesIO()
        with zipfile.ZipFile(out, "w") as new:
            new.writestr("ppt/slides/_rels/slide1.xml.rels", f"<Relationships>{rels}</Relationships>")
        with zipfile.ZipFile(io.BytesIO(without_references(out.getvalue(), ".pptx"))) as made:
            kept = made.read("ppt/slides/_rels/slide1.xml.rels").decode()
        self.assertEqual(re.findall(r"x/(\w+)", kept), ["hyperlink"])
        with zipfile.ZipFile(out, "w", zipfile.ZIP_DEFLATED) as new:
            new.writestr("content.xml", b" " * 400_000_000)
        self.assertRaises(ValueError, without_references, out.getvalue(), ".ods")

    @unittest.skipUnless(office.suite(), "LibreOffice is not installed")
    def test_nothing_is_left_of_one_that_took_too_long(self) -> None:
        place = self.folder / "tmp"
        place.mkdir()
        with (
            mock.patch.dict(os.environ, {"TMPDIR": str(place)}),
            mock.patch.object(tempfile, "tempdir", str(place)),
            mock.patch.object(office, "PATIENCE", 0.4),
            self.assertRaisesRegex(ValueError, "took more than"),
        ):
            office.suite_pdf(drawn_sheet("x"), "application/vnd.oasis.opendocument.spreadsheet")
        self.assertEqual(list(place.iterdir()), [])
        for _ in range(200):  # what was killed is gone a moment later
            running = subprocess.run(["pgrep", "-f", str(place)], capture_output=True, text=True, check=False).stdout
            if not running:
                break
            time.sleep(0.05)
        self.assertEqual(running, "")
