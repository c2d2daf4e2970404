"""Files that hang on the demo's messages: plans, tables, letters, pictures. The same bytes at every making."""

from __future__ import annotations

import io
import math
import random
import re
import zipfile
from functools import lru_cache
from pathlib import Path

from PIL import Image, ImageDraw, ImageFont

_FONT = Path(__file__).parent.parent / "fonts" / "LiberationSans-Regular.ttf"
_SEA, _SAND, _QUAY, _INK = (196, 220, 231), (233, 224, 200), (120, 132, 140), (22, 34, 43)


def picture_font(size: int) -> ImageFont.FreeTypeFont:
    """The face in which pictures are lettered."""
    return ImageFont.truetype(str(_FONT), size)


@lru_cache(maxsize=4)
def quay_plan(width: int = 900, height: int = 520) -> bytes:
    """A drawn plan of the east quay, PNG."""
    image = Image.new("RGB", (width, height), _SEA)
    draw = ImageDraw.Draw(image)
    draw.polygon([(0, height), (0, int(height * 0.62)), (width, int(height * 0.5)), (width, height)], fill=_SAND)
    for number in range(5):
        left = 60 + number * (width - 120) // 5
        draw.rectangle([left, height * 0.38, left + 120, height * 0.6], fill=_QUAY, outline=_INK, width=2)
        draw.text((left + 30, height * 0.45), f"Berth {number + 1}", fill="white", font=picture_font(18))
    draw.text((24, 18), "East quay, Saltmere. Depths in metres below chart datum", fill=_INK, font=picture_font(20))
    for number in range(26):
        x, y = 40 + (number * 137) % (width - 80), 70 + (number * 53) % 110
        draw.text((x, y), f"{6 + (number * 7) % 60 / 10:.1f}", fill=(60, 96, 120), font=picture_font(14))
    return _saved(image, "PNG")


@lru_cache(maxsize=2)
def photo() -> bytes:
    """A picture like a photograph of the slipway, JPEG."""
    rng = random.Random(41)
    image = Image.new("RGB", (640, 420))
    pixels = image.load()
    assert pixels is not None
    for y in range(420):
        for x in range(640):
            wave = int(18 * math.sin(x / 23 + y / 9) + rng.randrange(14))
            base = (150 - y // 6, 180 - y // 5, 205 - y // 8) if y < 170 else (58 + wave, 96 + wave, 116 + wave)
            pixels[x, y] = tuple(max(0, min(255, value)) for value in base)
    draw = ImageDraw.Draw(image)
    draw.polygon([(210, 260), (430, 260), (395, 305), (240, 305)], fill=(150, 44, 38))
    draw.rectangle([300, 130, 308, 260], fill=(70, 54, 40))
    return _saved(image, "JPEG", quality=84)


@lru_cache(maxsize=2)
def scan() -> bytes:
    """A scanned permit of two pages, TIFF."""
    pages = []
    for number, lines in enumerate(
        [
            ["PORT OFFICE OF SALTMERE", "Slipway permit 2026/118", "", "Vessel: Cormorant", "Owner: Piet Osgood"],
            ["Conditions", "", "1. The slip is cleared by 18:00.", "2. No paint is scraped into the water."],
        ]
    ):
        page = Image.new("L", (850, 1100), 250)
        draw = ImageDraw.Draw(page)
        for row, line in enumerate(lines):
            draw.text((90, 110 + row * 56), line, fill=30, font=picture_font(34))
        draw.text((700, 1030), f"{number + 1} / 2", fill=60, font=picture_font(22))
        pages.append(page.rotate(0.7 if number else -0.5, fillcolor=250).convert("1"))
    out = io.BytesIO()
    pages[0].save(out, "TIFF", save_all=True, append_images=pages[1:], compression="group4")
    return out.getvalue()


@lru_cache(maxsize=2)
def logo(colour: str = "#0d3b52") -> bytes:
    image = Image.new("RGB", (180, 48), "white")
    draw = ImageDraw.Draw(image)
    draw.polygon([(6, 34), (40, 34), (32, 44), (14, 44)], fill=colour)
    draw.rectangle([21, 8, 24, 34], fill=colour)
    draw.text((52, 12), "SALTMERE", fill=colour, font=picture_font(22))
    return _saved(image, "PNG")


def _saved(image: Image.Image, form: str, **options: int) -> bytes:
    out = io.BytesIO()
    image.save(out, form, **options)
    return out.getvalue()


@lru_cache(maxsize=4)
def pdf(title: str, *lines: str) -> bytes:
    """A one-page PDF of text, made by hand from the standard fonts."""
    shown = [title, "", *lines]
    stream = "BT /F1 12 Tf 72 760 Td 16 TL\n" + "\n".join(f"({_escaped(line)}) Tj T*" for line in shown) + "\nET"
    objects = [
        "<< /Type /Catalog /Pages 2 0 R >>",
        "<< /Type /Pages /Kids [3 0 R] /Count 1 >>",
        "<< /Type /Page /Parent 2 0 R /MediaBox [0 0 595 842] /Contents 4 0 R"
        " /Resources << /Font << /F1 5 0 R >> >> >>",
        f"<< /Length {len(stream)} >>\nstream\n{stream}\nendstream",
        "<< /Type /Font /Subtype /Type1 /BaseFont /Helvetica >>",
    ]
    out, offsets = b"%PDF-1.4\n", []
    for number, content in enumerate(objects, 1):
        offsets.append(len(out))
        out += f"{number} 0 obj\n{content}\nendobj\n".encode("latin-1")
    table = "".join(f"{offset:010d} 00000 n \n" for offset in offsets)
    tail = f"xref\n0 {len(objects) + 1}\n0000000000 65535 f \n{table}"
    tail += f"trailer\n<< /Size {len(objects) + 1} /Root 1 0 R >>\nstartxref\n{len(out)}\n%%EOF\n"
    return out + tail.encode("latin-1")


def _escaped(line: str) -> str:
    return line.replace("\\", r"\\").replace("(", r"\(").replace(")", r"\)")


@lru_cache(maxsize=2)
def workbook() -> bytes:
    """Dredged volumes by berth and month, with a chart, XLSX."""
    from openpyxl import Workbook
    from openpyxl.chart import BarChart, Reference
    from openpyxl.styles import Font, PatternFill

    book = Workbook()
    sheet = book.active
    assert sheet is not None
    sheet.title = "Dredging 2026"
    sheet.append(["Berth", "January", "February", "March", "Sum"])
    for number, row in enumerate([(1240, 980, 1410), (760, 815, 640), (2010, 1875, 1990), (330, 415, 290)], 2):
        sheet.append([f"Berth {number - 1}", *row, f"=SUM(B{number}:D{number})"])
    for cell in sheet[1]:
        cell.font = Font(bold=True)
        cell.fill = PatternFill("solid", fgColor="DDE8EE")
    chart = BarChart()
    chart.title = "Cubic metres by berth"
    chart.add_data(Reference(sheet, min_col=2, max_col=4, min_row=1, max_row=5), titles_from_data=True)
    chart.set_categories(Reference(sheet, min_col=1, min_row=2, max_row=5))
    sheet.add_chart(chart, "A8")
    out = io.BytesIO()
    book.save(out)
    return fixed_times(out.getvalue())


@lru_cache(maxsize=2)
def document() -> bytes:
    """A short agreement, DOCX (ECMA-376)."""
    word = 'xmlns:w="http://schemas.openxmlformats.org/wordprocessingml/2006/main"'
    paragraphs = [
        "Agreement on the mooring at buoy 14",
        "Between the port office of Saltmere and the owner of the yacht Pelican.",
        "The buoy is let from 1 April to 31 October 2026 for a fee of 480 crowns.",
    ]
    body = "".join(f"<w:p><w:r><w:t>{text}</w:t></w:r></w:p>" for text in paragraphs)
    types = (
        '<?xml version="1.0"?><Types xmlns="http://schemas.openxmlformats.org/package/2006/content-types">'
        '<Default Extension="rels" ContentType="application/vnd.openxmlformats-package.relationships+xml"/>'
        '<Override PartName="/word/document.xml" ContentType="application/vnd.openxmlformats-officedocument.'
        'wordprocessingml.document.main+xml"/></Types>'
    )
    relations = (
        '<?xml version="1.0"?><Relationships xmlns="http://schemas.openxmlformats.org/package/2006/relationships">'
        '<Relationship Id="rId1" Type="http://schemas.openxmlformats.org/officeDocument/2006/relationships/'
        'officeDocument" Target="word/document.xml"/></Relationships>'
    )
    return zipped(
        {
            "[Content_Types].xml": types.encode(),
            "_rels/.rels": relations.encode(),
            "word/document.xml": f'<?xml version="1.0"?><w:document {word}><w:body>{body}</w:body></w:document>'.encode(),
        }
    )


def zipped(members: dict[str, bytes]) -> bytes:
    """A ZIP of these members."""
    out = io.BytesIO()
    with zipfile.ZipFile(out, "w", zipfile.ZIP_DEFLATED) as archive:
        for name, content in members.items():
            archive.writestr(zipfile.ZipInfo(name, (2026, 3, 2, 9, 0, 0)), content)
    return out.getvalue()


def fixed_times(content: bytes) -> bytes:
    """A ZIP container with the same time on every member and in its properties."""
    stamp = re.compile(rb"\d{4}-\d\d-\d\dT\d\d:\d\d:\d\dZ")
    with zipfile.ZipFile(io.BytesIO(content)) as archive:
        return zipped({name: stamp.sub(b"2026-03-02T09:00:00Z", archive.read(name)) for name in archive.namelist()})


def tide_table() -> bytes:
    """A week of tides, CSV."""
    rows = ["day,high water,metres,low water,metres"]
    for day in range(1, 8):
        high, low = 3 * 60 + 12 + day * 49, 9 * 60 + 31 + day * 50
        rows.append(
            f"2026-03-{day:02d},{high // 60 % 24:02d}:{high % 60:02d},{3.1 + day / 10:.1f},"
            f"{low // 60 % 24:02d}:{low % 60:02d},{0.9 - day / 20:.2f}"
        )
    return ("\r\n".join(rows) + "\r\n").encode()


def invitation() -> bytes:
    """A meeting, iCalendar (RFC 5545)."""
    lines = [
        "BEGIN:VCALENDAR",
        "VERSION:2.0",
        "PRODID:-//Saltmere//Port office//EN",
        "METHOD:REQUEST",
        "BEGIN:VEVENT",
        "UID:berthing-2026-04@saltmere.example",
        "DTSTAMP:20260320T080000Z",
        "DTSTART:20260402T090000Z",
        "DTEND:20260402T103000Z",
        "SUMMARY:Berthing meeting for April",
        "LOCATION:Pilot house\\, upper room",
        "ORGANIZER;CN=Tomas Wray:mailto:tomas.wray@saltmere.example",
        "ATTENDEE;CN=Ines Halden:mailto:ines.halden@quaysurvey.example",
        "END:VEVENT",
        "END:VCALENDAR",
    ]
    return ("\r\n".join(lines) + "\r\n").encode()
