"""The mail that breaks tools: hostile, wrong, cut short, empty. Each message says in a word what it is for."""

from __future__ import annotations

import base64
from datetime import datetime, timedelta

from wexagraph.demo import files
from wexagraph.demo.build import Piece, file, html, message, multipart, text, when
from wexagraph.demo.letters import COLE, EIDE, HALDEN, LINDQVIST, OFFICE, OSGOOD, WRAY


def hard() -> list[bytes]:
    """About thirty messages of the hard kind."""
    start = when("2026-08-03", 10, 0)

    def plain(subject: str, number: int, words: str = "See the subject.\n") -> bytes:
        return message(OSGOOD, OFFICE, subject, start + timedelta(hours=26 * number), text(words))

    return [
        # names that a disk refuses
        plain('Berth 3/4: what? <urgent> | "now" * \\ or never', 1),
        plain("../../../etc/passwd", 2),
        plain("CON", 3),
        plain("aux.txt. . .", 4),
        plain("Permit \u202egpj.exe and zero\u200bwidth", 5),
        plain("Long " + "subject of the harbour " * 20, 6),
        plain('=HYPERLINK("http://bad.example/","click")', 7),
        plain("\x1b[31mred\x1b[0m alert \x07", 8),
        # two messages of one name, and one that differs in case only
        plain("Invoice", 9, "The first invoice.\n"),
        plain("Invoice", 9, "The second invoice.\n"),
        plain("INVOICE", 9, "The third invoice.\n"),
        # dates
        message(
            HALDEN,
            OFFICE,
            "No date, but received",
            None,
            text("Only a Received field has a date.\n"),
            extra="Received: from quay.example by mail.saltmere.example; Tue, 18 Aug 2026 07:04:05 +0200",
        ),
        message(HALDEN, OFFICE, "No date at all", None, text("Nothing in the header says when.\n")),
        message(
            HALDEN,
            OFFICE,
            "An absurd date",
            None,
            text("A clock that was never set.\n"),
            extra="Date: Thu, 01 Jan 1970 00:00:00 +0000",
        ),
        message(
            HALDEN,
            OFFICE,
            "An old form of date",
            None,
            text("Two digits and a named zone.\n"),
            extra="Date: Friday, 21-Aug-26 14:15:16 EST",
        ),
        # headers
        b"To: records@saltmere.example\nDate: Sat, 22 Aug 2026 09:00:00 +0000\n\nNo subject and no sender.\n",
        b"From: =?utf-8?B?w4?= =?utf-8?B?lsO2?= <split@words.example>\nTo: records@saltmere.example\n"
        b"Subject: =?utf-8?Q?split =C3?=\n =?utf-8?Q?=A5 inside?= and =?x-unknown?Q?unknown?= set\n"
        b"Date: Sun, 23 Aug 2026 09:00:00 +0000\n\nEncoded words in broken forms.\n",
        "From: Jörg Råw <raw@utf8.example>\nTo: records@saltmere.example\nSubject: Raw UTF-8 – ohne Kodierung\n"
        "Date: Mon, 24 Aug 2026 09:00:00 +0000\n\nRaw letters in the header.\n".encode(),
        b"From: Latin <latin@one.example>\nTo: records@saltmere.example\nSubject: Caf\xe9 \xfcber alles\n"
        b"Date: Tue, 25 Aug 2026 09:00:00 +0000\n\nRaw Latin-1 in the header, and here: d\xe9j\xe0 vu.\n",
        # character sets
        b"From: Wrong <wrong@charset.example>\nTo: records@saltmere.example\nSubject: Declared wrongly\n"
        b"Date: Wed, 26 Aug 2026 09:00:00 +0000\nContent-Type: text/plain; charset=us-ascii\n\n"
        + "Die Möwe kreist über dem Kai. Grüße!\n".encode(),
        b"From: Wrong <wrong@charset.example>\nTo: records@saltmere.example\nSubject: Unknown charset\n"
        b"Date: Wed, 26 Aug 2026 10:00:00 +0000\nContent-Type: text/plain; charset=x-made-up\n\n"
        + "Le quai était fermé à cause de la tempête.\n".encode("cp1252"),
        # broken MIME
        message(
            WRAY,
            OFFICE,
            "Cut short in the middle",
            when("2026-08-27"),
            multipart("mixed", text("The first part is whole.\n"), text("The second part has no end"), closed=False),
        ),
        b"From: Broken <broken@mime.example>\nTo: records@saltmere.example\nSubject: Broken base64\n"
        b"Date: Fri, 28 Aug 2026 09:00:00 +0000\nMIME-Version: 1.0\nContent-Type: text/plain; charset=utf-8\n"
        b"Content-Transfer-Encoding: base64\n\nVGhlIHF1YXkgaXMgY2xvc2VkLiBQbGVhc2UgdXNlIHRoZSBub3J0aCBtb2xlL#g==\nxx!\n",
        b"From: Broken <broken@mime.example>\nTo: records@saltmere.example\nSubject: No boundary named\n"
        b"Date: Fri, 28 Aug 2026 10:00:00 +0000\nMIME-Version: 1.0\nContent-Type: multipart/mixed\n\n"
        b"--lost\n\nText between lost boundaries.\n--lost--\n",
        # bodies
        message(
            WRAY,
            OFFICE,
            "Scripts and forms",
            when("2026-08-29"),
            html(
                '<script>alert("x")</script><p onclick="steal()">Only this line is text.</p><form action="https://bad.example/">'
                '<input type="text" value="Berth 5"><button>Send</button></form><iframe src="https://bad.example/"></iframe>'
                '<p style="position:fixed;top:0;left:0;background:url(https://bad.example/x.png)">From: The King</p>'
                '<img src="file:///etc/passwd"><link rel="stylesheet" href="https://bad.example/x.css">'
            ),
        ),
        message(
            WRAY,
            OFFICE,
            "A very wide table",
            when("2026-08-30"),
            html(
                "<table border=1>"
                + "".join(
                    "<tr>" + "".join(f"<td>{row}.{column}</td>" for column in range(1, 31)) + "</tr>"
                    for row in range(1, 6)
                )
                + "</table>"
            ),
        ),
        message(
            WRAY,
            OFFICE,
            "Deeply nested",
            when("2026-08-31"),
            html("<div>" * 900 + "The innermost words." + "</div>" * 900),
        ),
        message(
            WRAY, OFFICE, "One endless line", when("2026-09-01"), text("knot" * 900 + " end\n" + "a b " * 700 + "\n")
        ),
        message(WRAY, OFFICE, "Empty body", when("2026-09-02"), text("")),
        message(
            WRAY,
            OFFICE,
            "Lines that begin with From",
            when("2026-09-03"),
            text(
                "Dear all,\n\nFrom the first of May the fee is 12 crowns.\n>From that day on, no tick.\n>>From it, none.\n"
            ),
        ),
        # attachments with hostile names
        message(
            OSGOOD,
            OFFICE,
            "Hostile attachments",
            when("2026-09-04"),
            multipart(
                "mixed",
                text("Five files.\n"),
                file("../../up.txt", "text/plain", b"up\n"),
                file("C:\\\\boot.ini", "text/plain", b"boot\n"),
                file("invoice.pdf.exe", "application/octet-stream", b"MZ\x90\x00"),
                file("NUL", "text/plain", b"nul\n"),
                file("photo\u202egpj.exe", "image/jpeg", b"MZ"),
            ),
        ),
    ]


def mislabelled() -> list[bytes]:
    """Ten messages, each with what made attachments, words or their places go wrong."""
    start = when("2026-10-05", 9, 15)

    def day(number: int) -> datetime:
        return start + timedelta(hours=23 * number)

    plan = file("berth plan.pdf", "application/pdf", files.pdf("Berth plan", "Berths 1 to 12, autumn"), cid="1")
    return [
        message(
            HALDEN,
            OFFICE,
            "A plan whose ID stands in a number",
            day(0),
            multipart("related", html("<p>Berths 1 to 12 are surveyed; the plan is with this letter.</p>"), plan),
        ),
        message(
            "Phone of Tomas Wray <tomas.wray@saltmere.example>",
            OFFICE,
            "From a phone",
            day(1),
            multipart(
                "mixed",
                Piece(
                    b'Content-Type: text/plain; charset=utf-8; name="text_0.txt"\n',
                    b"The mooring line at berth 4 is worn through.\n",
                ),
                file("line.png", "image/png", files.logo("#1d5f7a")),
            ),
        ),
        message(
            OSGOOD,
            OFFICE,
            "One bad byte",
            day(2),
            Piece(
                b"Content-Type: text/plain; charset=utf-8\nContent-Transfer-Encoding: 8bit\n",
                "Die Möwe sitzt über der Hafenmauer. Der Lotse grüßt.".encode()
                + b"\xff"
                + " Größe des Bootes: fünf Meter.\n".encode(),
            ),
        ),
        message(
            COLE,
            OFFICE,
            "Words in boxes that are too small",
            day(3),
            html(
                '<div style="height:16px;overflow:hidden"><p>The upper notice.</p><p>The lower notice, which the box hides.</p></div>'
                '<table style="table-layout:fixed"><tr><td style="width:0">Narrow</td><td>Beside it</td></tr></table>'
            ),
        ),
        message(
            EIDE,
            OFFICE,
            "A patch in a part",
            day(4),
            multipart(
                "mixed",
                text("The new tide table program, as a patch.\n"),
                Piece(
                    b'Content-Type: text/x-patch; name="tides.patch"\n',
                    b"From 0f1e2d3c4b5a69788796a5b4c3d2e1f001234567 Mon Sep 17 00:00:00 2001\n"
                    b"Subject: [PATCH] Spring tides\n\n-low = 1\n+low = 0\n",
                ),
            ),
        ),
        message(
            "Tide and Trade <news@tide-and-trade.example>",
            OFFICE,
            "A browser's sizes",
            day(5),
            html(
                '<h2>Sizes in words</h2><p style="font-size:small">Small print.</p><p>Usual print.</p><p style="font-size:x-large">Large print.</p>'
                "<ul><li>One</li><li>Two</li></ul><blockquote>Quoted.</blockquote>"
            ),
        ),
        message(
            WRAY,
            OFFICE,
            "A layout of one long row",
            day(6),
            html(
                '<table width="100%"><tr><td></td><td style="padding:12px"><table width="100%"><tr><td style="padding-top:24px">'
                + "".join(f"<p>Mooring {number} is inspected and free.</p>" for number in range(1, 29))
                + "</td></tr></table></td></tr></table>"
            ),
        ),
        message(
            LINDQVIST,
            OFFICE,
            "Bars with words on them",
            day(7),
            html(
                "".join(
                    f'<p>{name}</p><div style="position:relative;height:20px;background:#dde5ea;overflow:hidden"><div style="width:{share}%;height:100%;'
                    f'background:#7fb2c9"></div><div style="position:absolute;top:50%;left:50%;transform:translate(-50%,-50%);font-size:12px">{share} %</div></div>'
                    for name, share in (("Dredging", 75), ("Quay wall", 40))
                )
            ),
        ),
        message(
            LINDQVIST,
            OFFICE,
            "Pictures that are not here",
            day(8),
            html(
                '<table width="600"><tr><td><img src="https://quay.example/boat.jpg" width="180" height="120" alt="The dredger at work"></td>'
                '<td><p>The dredger works at the east quay until Friday.</p></td></tr></table><img src="https://quay.example/p.gif" width="1" height="1">'
            ),
        ),
        message(
            HALDEN,
            OFFICE,
            "Soundings-" + "0123456789" * 14,
            day(9),
            multipart(
                "mixed",
                Piece(
                    b"Content-Type: text/plain; charset=utf-8\nContent-Transfer-Encoding: base64\n",
                    b"Dear office, this text is labelled as base64, and is not. Ines.\n",
                ),
                Piece(
                    b'Content-Type: image/tiff; name="chart.tif"\nContent-Transfer-Encoding: base64\nContent-Disposition: attachment; filename="chart.tif"\n',
                    base64.encodebytes(files.scan()),
                ),
            ),
        ),
    ]
