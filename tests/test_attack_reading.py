"""Attacks on what reads: each message within 10 seconds and 1 GB, or ended by its limit with a note; the others go on."""

from __future__ import annotations

import base64
import io
import json
import re
import socket
import socketserver
import struct
import subprocess
import sys
import threading
import time
import unittest
import zipfile
import zlib
from collections.abc import Iterator
from concurrent.futures import ThreadPoolExecutor
from importlib import import_module
from pathlib import Path
from pkgutil import walk_packages

import openpyxl
import pikepdf

import wexagraph
from tests.helpers import ProgramTest, letter, mbox, rounds
from wexagraph.demo import files
from wexagraph.demo.build import file, html, message, multipart, when
from wexagraph.messages.filetypes import DOCX, XLSX

MOST_SECONDS, MOST_MEGABYTES = 10.0, 1000  # seconds of a processor
SLACK = 3.0  # of a slower machine


def rich(body: str) -> bytes:
    return message("Ines <i@q.example>", "r@s.example", "Long", when("2026-03-14", 15, 3), html(body))


def attached(name: str, kind: str, content: bytes) -> bytes:
    parts = multipart("mixed", html("<p>See below.</p>"), file(name, kind, content))
    return message("Ines <i@q.example>", "r@s.example", "Long", when("2026-03-14", 15, 3), parts)


def png(width: int, height: int) -> bytes:
    """A PNG that says so many pixels and has few bytes."""

    def chunk(kind: bytes, data: bytes) -> bytes:
        return struct.pack(">I", len(data)) + kind + data + struct.pack(">I", zlib.crc32(kind + data))

    return (
        b"\x89PNG\r\n\x1a\n"
        + chunk(b"IHDR", struct.pack(">IIBBBBB", width, height, 8, 2, 0, 0, 0))
        + chunk(b"IDAT", zlib.compress(b"\0" * 1000))
        + chunk(b"IEND", b"")
    )


def tiff_loop() -> bytes:
    """A TIFF whose second page is its first."""
    entries = [
        (256, 3, 1, 1),
        (257, 3, 1, 1),
        (258, 3, 1, 8),
        (259, 3, 1, 1),
        (262, 3, 1, 1),
        (273, 4, 1, 8),
        (277, 3, 1, 1),
        (278, 3, 1, 1),
        (279, 4, 1, 1),
    ]
    directory = (
        struct.pack("<H", len(entries)) + b"".join(struct.pack("<HHII", *e) for e in entries) + struct.pack("<I", 16)
    )
    return b"II*\0" + struct.pack("<I", 16) + b"\0" * 8 + directory


def sheet(change: str) -> bytes:
    book = openpyxl.Workbook()
    book.active["A1"] = "words"
    if change == "merge":
        book.active.merge_cells("A1:B2")
    out = io.BytesIO()
    book.save(out)
    made = io.BytesIO()
    with zipfile.ZipFile(out) as old, zipfile.ZipFile(made, "w", zipfile.ZIP_DEFLATED) as new:
        for name in old.namelist():
            data = old.read(name)
            if name.endswith("sheet1.xml"):
                data = data.replace(b'"A1:B2"', b'"A1:XFD1048576"')
                if change == "far":
                    data = data.replace(b'<c r="A1"', b'<c r="XFD1048576" t="n"><v>1</v></c><c r="A1"')
                if change == "entities":
                    data = (
                        b'<!DOCTYPE x [<!ENTITY a "'
                        + b"x" * 100_000
                        + b'">]>'
                        + data.replace(b"words", b"&a;" * 10_000)
                    )
            new.writestr(name, data)
    return made.getvalue()


def pdf_of(pages: int) -> bytes:
    with pikepdf.new() as document:
        for _ in range(pages):
            document.add_blank_page(page_size=(100, 100))
        out = io.BytesIO()
        document.save(out)
    return out.getvalue()


def zip_bomb() -> bytes:
    out = io.BytesIO()
    with zipfile.ZipFile(out, "w", zipfile.ZIP_DEFLATED) as archive:
        archive.writestr("a.txt", b"\0" * 200_000_000)
    return out.getvalue()


def zips(depth: int) -> bytes:
    content = b"words"
    for level in range(depth):
        out = io.BytesIO()
        with zipfile.ZipFile(out, "w", zipfile.ZIP_DEFLATED) as archive:
            for twin in range(2):
                archive.writestr(f"{level}-{twin}.{'zip' if level else 'txt'}", content if twin == 0 else b"")
        content = out.getvalue()
    return content


def pdf_with_a_font() -> bytes:
    """A PDF whose font says widths, letters and a file that are not so."""
    with pikepdf.new() as document:
        page = document.add_blank_page(page_size=(200, 200))
        program = document.make_stream(b"OTTO" + b"\xff" * 4000)
        descriptor = pikepdf.Dictionary(
            Type=pikepdf.Name.FontDescriptor,
            FontName=pikepdf.Name.Lie,
            Flags=4,
            FontBBox=[-(2**31), -(2**31), 2**31 - 1, 2**31 - 1],
            ItalicAngle=0,
            Ascent=10**9,
            Descent=-(10**9),
            CapHeight=0,
            StemV=0,
            FontFile2=program,
        )
        letters = document.make_stream(b"begincmap 1 beginbfrange <00> <ffffffff> <0041> endbfrange endcmap")
        page.Resources = pikepdf.Dictionary(
            Font=pikepdf.Dictionary(
                F=document.make_indirect(
                    pikepdf.Dictionary(
                        Type=pikepdf.Name.Font,
                        Subtype=pikepdf.Name.TrueType,
                        BaseFont=pikepdf.Name.Lie,
                        FirstChar=0,
                        LastChar=2**31 - 1,
                        Widths=[10**9],
                        FontDescriptor=document.make_indirect(descriptor),
                        ToUnicode=letters,
                    )
                )
            )
        )
        page.Contents = document.make_stream(b"BT /F 99999 Tf (words) Tj ET")
        out = io.BytesIO()
        document.save(out)
    return out.getvalue()


def referring(kind: str, at: str) -> bytes:
    """A document or workbook whose pictures, template and links lie at an address elsewhere."""
    made, out = (files.document() if kind == "docx" else sheet("")), io.BytesIO()
    main = "word/document.xml" if kind == "docx" else "xl/workbook.xml"
    above, _, name = main.rpartition("/")
    office = "http://schemas.openxmlformats.org/officeDocument/2006/relationships"
    relationships = "".join(
        f'<Relationship Id="rIdX{n}" Type="{office}/{what}" Target="{at}/{what}" TargetMode="External"/>'
        for n, what in enumerate(("image", "attachedTemplate", "externalLinkPath", "oleObject", "subDocument", "frame"))
    )
    drawn = (
        '<w:p><w:r><w:pict><v:shape xmlns:v="urn:schemas-microsoft-com:vml"><v:imagedata r:id="rIdX0" '
        f'xmlns:r="{office}"/></v:shape></w:pict></w:r></w:p>'
    )
    with zipfile.ZipFile(io.BytesIO(made)) as old, zipfile.ZipFile(out, "w", zipfile.ZIP_DEFLATED) as new:
        for member in old.namelist():
            data = old.read(member)
            if member == f"{above}/_rels/{name}.rels":
                data = data.replace(b"</Relationships>", relationships.encode() + b"</Relationships>")
            if member == "word/document.xml":
                data = data.replace(b"<w:body>", b"<w:body>" + drawn.encode())
            new.writestr(member, data)
        if f"{above}/_rels/{name}.rels" not in old.namelist():
            package = "http://schemas.openxmlformats.org/package/2006/relationships"
            new.writestr(
                f"{above}/_rels/{name}.rels", f'<Relationships xmlns="{package}">{relationships}</Relationships>'
            )
    return out.getvalue()


def nested_svg(kind: str) -> bytes:
    if kind == "use":
        levels = "".join(f'<g id="l{n}">' + f"<use href='#l{n - 1}'/>" * 10 + "</g>" for n in range(1, 9))
        return f'<svg xmlns="http://www.w3.org/2000/svg"><g id="l0"><rect width="1" height="1"/></g>{levels}<use href="#l8"/></svg>'.encode()
    if kind == "itself":
        return b'<svg xmlns="http://www.w3.org/2000/svg"><g id="a"><use href="#a"/></g></svg>'
    if kind == "entities":
        return b'<!DOCTYPE svg [<!ENTITY a "aaaaaaaaaa"><!ENTITY b "&a;&a;&a;&a;">]><svg xmlns="http://www.w3.org/2000/svg"><text>&b;</text></svg>'
    return b'<svg xmlns="http://www.w3.org/2000/svg">' + b"<g>" * 50_000 + b"</g>" * 50_000 + b"</svg>"


def rows() -> Iterator[tuple[str, bytes]]:
    head = letter("Long").partition(b"\n\n")[0] + b"\n"
    words = "Die Gezeiten am Kai sind heute hoch. " * 30
    yield (
        "50,000 parts",
        head + b'Content-Type: multipart/mixed; boundary="b"\n\n' + b"--b\n\nx\n" * 50_000 + b"--b--\n",
    )
    yield (
        "parts that nest",
        head
        + b"".join(b'Content-Type: multipart/mixed; boundary="b%d"\n\n--b%d\n' % (n, n) for n in range(3000))
        + b"\nx\n",
    )
    yield "messages that nest", b"Content-Type: message/rfc822\n\n" * 3000 + letter("In")
    yield "100,000 fields", head + b"X-A: b\n" * 100_000 + b"\nx\n"
    yield "a field of 10 MB", head + b"X-A: " + b"b" * 10_000_000 + b"\n\nx\n"
    yield "a subject of 1 MB", b"Subject: " + b"Re: [x] " * 125_000 + b"\n" + head + b"\nx\n"
    yield "encoded words", b"Subject: " + b"=?utf-8?q?a?= " * 200_000 + b"\n" + head + b"\nx\n"
    yield (
        "200,000 recipients",
        head + b"Cc: " + b", ".join(b"P%d <p%d@q.example>" % (n, n) for n in range(200_000)) + b"\n\nx\n",
    )
    yield "parameters", head + b"Content-Type: text/plain" + b"; a*0*=x" * 100_000 + b"\n\nx\n"
    yield "quotes that nest", letter("Long", body=">" * 100_000 + " x\n" + "> " * 50_000 + "\n")
    yield "quotes up and down", letter("Long", body="".join(">" * (n % 40) + " x\n" for n in range(10_000)))
    yield "one line of a quarter of a MB", letter("Long", body="word " * 50_000)
    yield "one word of half a MB", letter("Long", body="w" * 500_000)
    yield (
        "East Asian text",
        letter("Long", more="Content-Type: text/plain; charset=utf-8\n", body="\u6f6e\u6c50\u8868" * 60_000),
    )
    yield (
        "Arabic text",
        letter(
            "Long", more="Content-Type: text/plain; charset=utf-8\n", body="\u0645\u064a\u0646\u0627\u0621 " * 8_000
        ),
    )
    yield "uuencode", letter("Long", body="begin 644 x\n" * 25_000)
    yield "elements that nest", rich("<div>" * 100_000 + "x")
    yield "tables that nest", rich("<table><tr><td>" * 1000 + "x")
    yield "inline elements that nest", rich("<b><i>" * 30_000 + "x")
    yield "one paragraph of a quarter of a MB", rich(f"<p>{words * 212}</p>")
    yield "East Asian HTML", rich("<p>" + "\u6f6e\u6c50\u8868" * 30_000 + "</p>")
    yield "Arabic HTML", rich("<p>" + "\u0645\u064a\u0646\u0627\u0621 " * 8_000 + "</p>")
    yield "200,000 attributes", rich("<p " + " ".join(f"a{n}=b" for n in range(200_000)) + ">x</p>")
    yield "100,000 classes", rich(f'<p class="{" ".join(f"c{n}" for n in range(100_000))}">x</p>')
    yield (
        "style sheet of a quarter of a MB",
        rich("<style>" + ".a .b>c{color:red;margin:1px}" * 9_000 + "</style><p class=a>x</p>"),
    )
    yield (
        "brackets in CSS",
        rich("<style>" + "(" * 100_000 + "{" * 100_000 + "</style><p style='" + "(" * 50_000 + "'>x</p>"),
    )
    yield "media that nest", rich("<style>" + "@media all{" * 5000 + "p{color:red}" + "</style><p>x</p>")
    yield (
        "selectors",
        rich(
            "<style>"
            + ",".join(f"div div div div div div p.c{n % 9}, p" for n in range(2000))
            + "{color:red}</style>"
            + "<div>" * 60
            + "<p>x</p>" * 2000
        ),
    )
    yield "comments", rich("<!--" * 200_000 + "x" + "<!" * 200_000)
    yield "entities", rich("&amp" * 150_000 + "&#x" * 50_000)
    yield "rows and columns", rich('<table><tr><td colspan="10000" rowspan="65534">x</td></tr></table>' * 200)
    yield "cells", rich("<table><tr>" + "<td>x" * 25_000 + "</table>")
    yield (
        "pictures named again and again",
        message(
            "a@b.example",
            "c@d.example",
            "Long",
            when("2026-03-14", 15, 3),
            multipart(
                "related",
                html('<img src="cid:p">' * 6000),
                b"Content-Type: image/png\nContent-ID: <p>\nContent-Transfer-Encoding: base64\n\n"
                + base64.encodebytes(png(10, 10) + b"\0" * 100_000),
            ),
        ),
    )
    yield "the name of a picture", rich("<p>wx:picture-9 wx:picture-1</p><img src='wx:picture-1'>")
    yield "a picture of 50,000 by 50,000", attached("p.png", "image/png", png(50_000, 50_000))
    yield "a TIFF in a loop", attached("p.tif", "image/tiff", tiff_loop())
    for kind in ("use", "itself", "entities", "nesting"):
        yield f"an SVG: {kind}", attached("p.svg", "image/svg+xml", nested_svg(kind))
    for kind in ("merge", "far", "entities"):
        yield (
            f"a sheet: {kind}",
            attached("p.xlsx", XLSX, sheet(kind)),
        )
    yield "a table of 100,000 cells", attached("p.csv", "text/csv", (b"1," * 20 + b"\n") * 5_000)
    yield "a PDF of 20,000 pages", attached("p.pdf", "application/pdf", pdf_of(20_000))
    yield "ZIPs in ZIPs", attached("p.zip", "application/zip", zips(60))
    yield "a PDF with fonts that lie", attached("p.pdf", "application/pdf", pdf_with_a_font())
    yield "a ZIP out of proportion", attached("p.zip", "application/zip", zip_bomb())
    yield (
        "a calendar that repeats for ever",
        attached(
            "p.ics",
            "text/calendar",
            b"BEGIN:VCALENDAR\r\nBEGIN:VEVENT\r\nDTSTART:20260314T150300Z\r\nRRULE:FREQ=SECONDLY\r\nSUMMARY:x\r\nEND:VEVENT\r\nEND:VCALENDAR\r\n",
        ),
    )
    yield (
        "a calendar of 4,000 events",
        attached(
            "p.ics",
            "text/calendar",
            b"BEGIN:VCALENDAR\r\n"
            + b"BEGIN:VEVENT\r\nDTSTART:20260314T150300Z\r\nSUMMARY:x\r\nEND:VEVENT\r\n" * 4_000
            + b"END:VCALENDAR\r\n",
        ),
    )


class Messages(ProgramTest):
    def taken(self, table: list[tuple[str, bytes]]) -> list[dict[str, object]]:
        """What it takes to make everything of each message, each in a process of its own."""
        paths = [self.write(f"{id(table)}-{number}.eml", data) for number, (_, data) in enumerate(table)]
        done = subprocess.run(
            [sys.executable, "-m", "tests.one_message", *map(str, paths)],
            cwd=Path(__file__).parent.parent,
            stdout=subprocess.PIPE,
            stderr=subprocess.DEVNULL,
            check=True,
        )
        return [json.loads(line) for line in done.stdout.splitlines()]

    def test_each_within_its_bounds(self) -> None:
        table = list(rows())[:: rounds(1, 2)]
        with ThreadPoolExecutor(2) as pool:
            halves = list(pool.map(self.taken, (table[::2], table[1::2])))
        self.assertEqual(sum(map(len, halves)), len(table))
        results = [halves[number % 2][number // 2] for number in range(len(table))]
        for (name, _), taken in zip(table, results, strict=True):
            with self.subTest(name):
                self.assertLess(taken["seconds"], MOST_SECONDS * SLACK, taken)
                self.assertLess(taken["megabytes"], MOST_MEGABYTES, taken)
                self.assertFalse([note for note in taken["notes"] if ": " in note or note.startswith("it ")], taken)  # type: ignore[attr-defined]

    def test_the_others_go_on(self) -> None:
        data = dict(rows())
        picked = [
            data[name]
            for name in ("elements that nest", "a sheet: merge", "an SVG: use", "parts that nest", "encoded words")
        ]
        self.write(
            "in.mbox", mbox(letter("First"), *(one.replace(b"\nFrom ", b"\n>From ") for one in picked), letter("Last"))
        )
        done = self.run_program("export", "in.mbox", "--into", "out", "--attachments", "pages")
        self.assertIn("7 written, 0 already there, 0 failed", done.stdout)


class Elsewhere(ProgramTest):
    def test_no_attachment_asks_for_what_lies_elsewhere(self) -> None:
        asked: list[bytes] = []

        class Listening(socketserver.BaseRequestHandler):
            def handle(self) -> None:
                asked.append(self.request.recv(100))

        with socketserver.ThreadingTCPServer(("127.0.0.1", 0), Listening) as server:
            threading.Thread(target=server.serve_forever, daemon=True).start()
            at = f"http://127.0.0.1:{server.server_address[1]}"
            parts = [
                file("a.docx", DOCX, referring("docx", at)),
                file("b.xlsx", XLSX, referring("xlsx", at)),
                file(
                    "c.svg",
                    "image/svg+xml",
                    f'<svg xmlns="http://www.w3.org/2000/svg"><image href="{at}/s"/></svg>'.encode(),
                ),
                file(
                    "d.html",
                    "text/html",
                    f'<link rel=stylesheet href="{at}/c"><img src="{at}/i"><iframe src="{at}/f">'.encode(),
                ),
            ]
            body = multipart("mixed", html("<p>See below.</p>"), *parts)
            self.write("in.eml", message("i@q.example", "r@s.example", "Elsewhere", when("2026-03-14", 15, 3), body))
            done = self.call_program("export", "in.eml", "--into", "out", "--attachments", "pages,embed")
            self.assertIn("1 written", done.stdout)
            notes = (self.folder / "out/register.csv").read_text("utf-8-sig")
            self.assertNotIn("could not be made into pages", notes)
            with socket.create_connection(server.server_address[:2]) as line:
                line.sendall(b"heard")
            while not asked:
                time.sleep(0.01)
            server.shutdown()
        self.assertEqual(asked, [b"heard"], "nothing but our own call")


class Patterns(unittest.TestCase):
    """Every regular expression of the program, fed with what makes such slow."""

    MATCHED_ONLY = ("wexagraph.messages.headers._SIMPLE",)

    def patterns(self) -> Iterator[tuple[str, re.Pattern[str] | re.Pattern[bytes]]]:
        for module in walk_packages(wexagraph.__path__, "wexagraph."):
            if ".demo" in module.name or module.name.endswith("weasy"):
                continue
            for name, value in vars(import_module(module.name)).items():
                if isinstance(value, re.Pattern):
                    yield f"{module.name}.{name}", value

    @staticmethod
    def feeds(pattern: str) -> Iterator[str]:
        """Long runs of the letters and pieces that stand in a pattern, with an end that fits nothing."""
        pieces = set(re.findall(r"[A-Za-z]{2,12}", pattern)) | set(re.sub(r"\\.", "", pattern))
        classes = {
            "a",
            "1",
            " ",
            "\n",
            "\t",
            "-",
            "=",
            '"',
            "'",
            "<",
            "\\",
            ".",
            "@",
            "a ",
            "1 ",
            "a=",
            '""',
            "<a ",
            "\n ",
            ": ",
            "; a=",
            "Re: ",
            "=?",
            "(",
            "[x] ",
        }
        for piece in sorted(pieces | classes):
            yield piece * (1_000 // len(piece)) + "\x01"

    def test_none_is_slow(self) -> None:
        count = 0
        for name, pattern in self.patterns():
            count += 1
            text = pattern.pattern if isinstance(pattern.pattern, str) else pattern.pattern.decode("latin-1")
            for feed in self.feeds(text):
                given = feed if isinstance(pattern.pattern, str) else feed.encode("utf-8")
                started = time.process_time()
                pattern.match(given)  # type: ignore[arg-type]
                if name not in self.MATCHED_ONLY:
                    pattern.search(given)  # type: ignore[arg-type]
                self.assertLess(time.process_time() - started, 1.0, f"{name} on {feed[:20]!r}")
        self.assertGreater(count, 100)
