"""Attachments of every kind that pages are made of, and some of which none can be."""

from __future__ import annotations

import base64
import io
import json
from typing import Any

from PIL import Image

from wexagraph.demo import files
from wexagraph.demo.build import Piece, file, html, message, multipart, text, when
from wexagraph.demo.files import fixed_times, picture_font, zipped
from wexagraph.demo.letters import COLE, HALDEN, LINDQVIST, OFFICE, OSGOOD, WRAY

_OFFICE = "application/vnd.openxmlformats-officedocument."


def kinds() -> list[bytes]:
    """A dozen messages, each with a few attachments of one sort."""

    def letter(number: int, sender: str, subject: str, *parts: Piece) -> bytes:
        return message(
            sender,
            OFFICE,
            subject,
            when(f"2026-10-{number:02}", 9, number),
            multipart("mixed", text(f"{subject}: see below.\n"), *parts),
        )

    return [
        letter(1, HALDEN, "Pictures from the quay", *pictures()),
        letter(2, HALDEN, "Drawing of the buoy", file("buoy.svg", "image/svg+xml", SVG.encode())),
        letter(
            3,
            OSGOOD,
            "Log and lists",
            file("watch.log", "text/plain", b"06:00 fog\n07:15 fog lifting\n09:40 clear\n"),
            file("rules.md", "text/markdown", b"# Rules of the slip\n\n* No paint in the water\n* Clear by 18:00\n"),
            file(
                "berths.json",
                "application/json",
                json.dumps({"berth": 4, "closed": True, "until": "2026-11-01"}, indent=1).encode(),
            ),
            file("gauge.xml", "application/xml", b"<gauge><level unit='m'>3.42</level></gauge>\n"),
            file("dues.tsv", "text/tab-separated-values", b"vessel\tcrowns\nCormorant\t480.00\nPelican\t1,220.00\n"),
        ),
        letter(
            4,
            WRAY,
            "Notice as a page",
            file("notice.html", "text/html", b"<h1>Notice</h1><p>Berth <b>6</b> closes.</p><script>x()</script>"),
        ),
        letter(
            5,
            LINDQVIST,
            "Dredging, all charts",
            file("Dredging charts.xlsx", f"{_OFFICE}spreadsheetml.sheet", charts()),
        ),
        letter(
            6,
            LINDQVIST,
            "Agreement, long form",
            file("Agreement.docx", f"{_OFFICE}wordprocessingml.document", agreement()),
        ),
        letter(
            7,
            WRAY,
            "Pilot's card and meeting",
            file("rasmus.vcf", "text/vcard", VCARD.encode()),
            file("meeting.ics", "text/calendar", files.invitation()),
        ),
        letter(
            8,
            COLE,
            "Three PDFs",
            file("harbour plan.pdf", "application/pdf", bookmarked()),
            file("locked.pdf", "application/pdf", locked()),
            file("broken.pdf", "application/pdf", b"%PDF-1.7\nnothing more"),
        ),
        letter(
            9,
            OSGOOD,
            "Letter in an old format",
            file("letter.rtf", "application/rtf", rb"{\rtf1\ansi The mooring at buoy 14 is {\b mine}.\par}"),
        ),
        letter(
            10,
            HALDEN,
            "Everything in one archive",
            file(
                "survey.zip",
                "application/zip",
                zipped(
                    {
                        "readme.txt": b"Survey of the north mole\n",
                        "figures/tides.csv": files.tide_table(),
                        "plan/quay.png": files.quay_plan(),
                    }
                ),
            ),
        ),
        letter(
            11,
            COLE,
            "Files that nobody reads",
            file("track.gpx.bin", "application/octet-stream", bytes(range(256)) * 8),
            file("holiday.pdf", "application/pdf", files.logo()),
        ),
        message(
            WRAY,
            OFFICE,
            "A page with a logo in it",
            when("2026-10-12"),
            multipart(
                "related",
                html(
                    '<p><img src="cid:logo" width="180" height="48" alt="Saltmere"></p><p>The logo belongs to the page.</p>'
                ),
                file("logo.png", "image/png", files.logo(), cid="logo"),
            ),
        ),
    ]


SVG = (
    '<svg xmlns="http://www.w3.org/2000/svg" width="300" height="200" viewBox="0 0 300 200"><rect width="300" height="200" fill="#c4dce7"/>'
    '<path d="M130 150 L170 150 L160 60 L140 60 Z" fill="#962c26"/><text x="20" y="30" font-family="sans-serif" font-size="18">Buoy 14</text>'
    "<script>alert(1)</script></svg>"
)
VCARD = "\r\n".join(
    [
        "BEGIN:VCARD",
        "VERSION:4.0",
        "FN:Rasmus Eide",
        "ORG:Saltmere Pilots;Outer station",
        "TEL;TYPE=work:+00 555 0114",
        "EMAIL:rasmus.eide@pilots.example",
        "ADR:;;2 Mole Road;Saltmere;;0417;",
        "NOTE:On watch in odd weeks",
        "END:VCARD",
        "",
    ]
)


def pictures() -> list[Piece]:
    """One picture a format, each with its name on it; the JPEG lies on its side and says so (EXIF)."""
    messages = []
    kinds: list[tuple[str, str, dict[str, Any]]] = [
        ("quay.png", "PNG", {}),
        ("quay.jpg", "JPEG", {"quality": 80}),
        ("quay.gif", "GIF", {}),
        ("quay.bmp", "BMP", {}),
        ("quay.webp", "WEBP", {"lossless": True}),
        ("quay.heic", "HEIF", {"quality": 80}),
    ]
    for name, form, options in kinds:
        image = Image.new("RGB", (360, 160), (233, 224, 200))
        from PIL import ImageDraw

        ImageDraw.Draw(image).text((30, 60), name, fill=(22, 34, 43), font=picture_font(40))
        if form == "JPEG":
            image = image.rotate(90, expand=True)
            exif = Image.Exif()
            exif[0x112] = 6
            options = {**options, "exif": exif}
        if form == "HEIF":
            from pillow_heif import register_heif_opener

            register_heif_opener()
        out = io.BytesIO()
        image.save(out, form, **options)
        messages.append(file(name, f"image/{'heic' if form == 'HEIF' else form.lower()}", out.getvalue()))
    return messages


def charts() -> bytes:
    """A workbook with dates, formats, merged and hidden cells, and a chart of each kind."""
    from openpyxl import Workbook
    from openpyxl.chart import AreaChart, BarChart, LineChart, PieChart, Reference, ScatterChart, Series
    from openpyxl.styles import Font, PatternFill

    book = Workbook()
    sheet = book.active
    assert sheet is not None
    sheet.title = "Volumes"
    sheet.append(["Month", "Inner basin", "East quay", "Share"])
    for values in zip(
        ("Jan", "Feb", "Mar", "Apr"),
        (1240, 980, 1410, 760),
        (310.5, 415.25, 290, 522.75),
        (0.25, 0.2, 0.31, 0.24),
        strict=True,
    ):
        sheet.append(values)
    for cell in sheet[1]:
        cell.font, cell.fill = Font(bold=True), PatternFill("solid", fgColor="DDE8EE")
    for row in range(2, 6):
        sheet.cell(row, 3).number_format = "#,##0.00"
        sheet.cell(row, 4).number_format = "0.0%"
    categories = Reference(sheet, min_col=1, min_row=2, max_row=5)
    for number, kind in enumerate((BarChart, LineChart, AreaChart, PieChart)):
        chart = kind()
        chart.title = f"{kind.__name__.removesuffix('Chart')} of volumes"
        chart.add_data(
            Reference(sheet, min_col=2, max_col=2 if kind is PieChart else 3, min_row=1, max_row=5),
            titles_from_data=True,
        )
        chart.set_categories(categories)
        sheet.add_chart(chart, f"G{2 + 16 * number}")
    scatter = ScatterChart()
    scatter.title = "Scatter of volumes"
    scatter.series.append(
        Series(
            Reference(sheet, min_col=3, min_row=2, max_row=5),
            Reference(sheet, min_col=2, min_row=2, max_row=5),
            title="East by inner",
        )
    )
    sheet.add_chart(scatter, "G70")
    dates = book.create_sheet("Dates")
    dates.merge_cells("A1:C1")
    dates["A1"] = "Berthing in spring"
    for row, (day, hour, name) in enumerate(
        [("2026-03-01", "07:30", "Cormorant"), ("2026-04-15", "18:05", "Pelican"), ("2026-05-02", "06:00", "Secret")], 2
    ):
        from datetime import date, time

        dates.cell(row, 1, date.fromisoformat(day)).number_format = "d mmmm yyyy"
        dates.cell(row, 2, time.fromisoformat(hour)).number_format = "hh:mm"
        dates.cell(row, 3, name)
    dates.row_dimensions[4].hidden = True
    dates.column_dimensions["A"].width = 22
    wide = book.create_sheet("Wide")
    wide.append([f"Column {n}" for n in range(1, 25)])
    wide.append(list(range(101, 125)))
    book.create_sheet("Hidden").sheet_state = "hidden"
    out = io.BytesIO()
    book.save(out)
    return fixed_times(out.getvalue())


def agreement() -> bytes:
    """A DOCX (ECMA-376) with headings, a list, a table and a picture."""
    w = "http://schemas.openxmlformats.org/wordprocessingml/2006/main"
    r = "http://schemas.openxmlformats.org/officeDocument/2006/relationships"

    def paragraph(words: str, style: str = "", bold: bool = False) -> str:
        look = f'<w:pPr><w:pStyle w:val="{style}"/></w:pPr>' if style else ""
        return f"<w:p>{look}<w:r>{'<w:rPr><w:b/></w:rPr>' if bold else ''}<w:t>{words}</w:t></w:r></w:p>"

    item = (
        '<w:p><w:pPr><w:numPr><w:ilvl w:val="0"/><w:numId w:val="1"/></w:numPr></w:pPr><w:r><w:t>{}</w:t></w:r></w:p>'
    )
    cells = "".join(
        f"<w:tr>{''.join(f'<w:tc>{paragraph(cell)}</w:tc>' for cell in row)}</w:tr>"
        for row in (("Season", "Fee"), ("2026", "480 crowns"))
    )
    picture = (
        '<w:p><w:r><w:drawing><wp:inline xmlns:wp="http://schemas.openxmlformats.org/drawingml/2006/wordprocessingDrawing"><a:graphic '
        'xmlns:a="http://schemas.openxmlformats.org/drawingml/2006/main"><a:graphicData><pic:pic '
        'xmlns:pic="http://schemas.openxmlformats.org/drawingml/2006/picture"><pic:blipFill><a:blip r:embed="rId9"/></pic:blipFill></pic:pic>'
        "</a:graphicData></a:graphic></wp:inline></w:drawing></w:r></w:p>"
    )
    body = (
        paragraph("Agreement on the mooring at buoy 14", "Heading1")
        + paragraph("Parties", "Heading2")
        + paragraph("The port office of Saltmere and the owner of the yacht Pelican.", bold=True)
        + item.format("The buoy is let for one season.")
        + item.format("The fee is due in May.")
        + f"<w:tbl>{cells}</w:tbl>"
        + picture
    )
    package = "http://schemas.openxmlformats.org/package/2006"
    main = "application/vnd.openxmlformats-officedocument.wordprocessingml"
    head = '<?xml version="1.0"?>'
    relation = '<Relationship Id="{}" Type="{}/{}" Target="{}"/>'
    return zipped(
        {
            "[Content_Types].xml": (
                f'{head}<Types xmlns="{package}/content-types"><Default Extension="rels" '
                f'ContentType="application/vnd.openxmlformats-package.relationships+xml"/><Default Extension="png" ContentType="image/png"/>'
                f'<Override PartName="/word/document.xml" ContentType="{main}.document.main+xml"/>'
                f'<Override PartName="/word/styles.xml" ContentType="{main}.styles+xml"/></Types>'
            ).encode(),
            "_rels/.rels": f'{head}<Relationships xmlns="{package}/relationships">{relation.format("rId1", r, "officeDocument", "word/document.xml")}</Relationships>'.encode(),
            "word/_rels/document.xml.rels": (
                f'{head}<Relationships xmlns="{package}/relationships">{relation.format("rId9", r, "image", "media/logo.png")}'
                f"{relation.format('rId8', r, 'styles', 'styles.xml')}</Relationships>"
            ).encode(),
            "word/styles.xml": (
                f'{head}<w:styles xmlns:w="{w}"><w:style w:type="paragraph" w:styleId="Heading1"><w:name w:val="heading 1"/></w:style>'
                f'<w:style w:type="paragraph" w:styleId="Heading2"><w:name w:val="heading 2"/></w:style></w:styles>'
            ).encode(),
            "word/media/logo.png": files.logo(),
            "word/document.xml": f'{head}<w:document xmlns:w="{w}" xmlns:r="{r}"><w:body>{body}</w:body></w:document>'.encode(),
        }
    )


def bookmarked() -> bytes:
    """A PDF of two pages with bookmarks of its own."""
    import pikepdf

    with pikepdf.open(io.BytesIO(files.pdf("Harbour plan", "First sheet: the inner basin."))) as plan:
        with pikepdf.open(io.BytesIO(files.pdf("Harbour plan", "Second sheet: the east quay."))) as second:
            plan.pages.extend(second.pages)
        with plan.open_outline() as outline:
            outline.root.append(pikepdf.OutlineItem("Inner basin", 0))
            outline.root.append(pikepdf.OutlineItem("East quay", 1))
        out = io.BytesIO()
        plan.save(out, deterministic_id=True)
    return out.getvalue()


# a PDF locked with the password "tide": kept as it is, since each making of one gives other bytes
_LOCKED = (
    "JVBERi0xLjYKJb/3ov4KMSAwIG9iago8PCAvUGFnZXMgMiAwIFIgL1R5cGUgL0NhdGFsb2cgPj4KZW5kb2JqCjIgMCBvYmoKPDwgL0NvdW50IDEgL0tp"
    "ZHMgWyAzIDAgUiBdIC9UeXBlIC9QYWdlcyA+PgplbmRvYmoKMyAwIG9iago8PCAvQ29udGVudHMgNCAwIFIgL01lZGlhQm94IFsgMCAwIDU5NSA4NDIg"
    "XSAvUGFyZW50IDIgMCBSIC9SZXNvdXJjZXMgPDwgL0ZvbnQgPDwgL0YxIDUgMCBSID4+ID4+IC9UeXBlIC9QYWdlID4+CmVuZG9iago0IDAgb2JqCjw8"
    "IC9MZW5ndGggOTYgL0ZpbHRlciAvRmxhdGVEZWNvZGUgPj4Kc3RyZWFtCinr4IUUwd0wlGwp4v5VRVdVgU9zDPaMeEKHXYS1+a8ifA303j9WhfTnoqOG"
    "yxPjdGDdgrrUDWhDWTuVz9F1ymFbGU6bUnaALL1DkeXUSEj24pN4GEgchMSS75S+XRR4ngplbmRzdHJlYW0KZW5kb2JqCjUgMCBvYmoKPDwgL0Jhc2VG"
    "b250IC9IZWx2ZXRpY2EgL1N1YnR5cGUgL1R5cGUxIC9UeXBlIC9Gb250ID4+CmVuZG9iago2IDAgb2JqCjw8IC9DRiA8PCAvU3RkQ0YgPDwgL0F1dGhF"
    "dmVudCAvRG9jT3BlbiAvQ0ZNIC9BRVNWMiAvTGVuZ3RoIDE2ID4+ID4+IC9GaWx0ZXIgL1N0YW5kYXJkIC9MZW5ndGggMTI4IC9PIDwwZjNjOWRjNmU3"
    "ZjdlZDkxNjg0NzNmYzIwM2U2ZmU3NGZmNzFjNjRhMzRkYWRhOThlNWE2YzMyZmVhOTIzZDc4PiAvT0UgPD4gL1AgLTEwMjggL1IgNCAvU3RtRiAvU3Rk"
    "Q0YgL1N0ckYgL1N0ZENGIC9VIDxjZjZhMDJiZjlkMDVlNGEzNDY3ZWM3ZDNhYWIwOTZjYTAwMjE0NDY5OTBiOWU0MTE0MDcxYTRkOTEwNDk4NGMxPiAv"
    "VUUgPD4gL1YgNCA+PgplbmRvYmoKeHJlZgowIDcKMDAwMDAwMDAwMCA2NTUzNSBmIAowMDAwMDAwMDE1IDAwMDAwIG4gCjAwMDAwMDAwNjQgMDAwMDAg"
    "biAKMDAwMDAwMDEyMyAwMDAwMCBuIAowMDAwMDAwMjUxIDAwMDAwIG4gCjAwMDAwMDA0MTggMDAwMDAgbiAKMDAwMDAwMDQ4OCAwMDAwMCBuIAp0cmFp"
    "bGVyIDw8IC9Sb290IDEgMCBSIC9TaXplIDcgL0lEIFs8M2FmZjJkM2JkYjY3NWVlZjkzM2ExOTNmOTZmNWY1ZDQ+PDNhZmYyZDNiZGI2NzVlZWY5MzNh"
    "MTkzZjk2ZjVmNWQ0Pl0gL0VuY3J5cHQgNiAwIFIgPj4Kc3RhcnR4cmVmCjgwNAolJUVPRgo="
)


def locked() -> bytes:
    """A PDF that opens with a password only."""
    return base64.b64decode(_LOCKED)
