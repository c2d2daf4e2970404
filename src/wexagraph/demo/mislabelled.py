"""Mail as other programs write it: files that a text seems to name, wrong labels, layouts that cut off their own text."""

from __future__ import annotations

import base64
from datetime import datetime, timedelta

from wexagraph.demo import files
from wexagraph.demo.build import Piece, file, html, message, multipart, text, when
from wexagraph.demo.letters import COLE, EIDE, HALDEN, LINDQVIST, OFFICE, OSGOOD, WRAY


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
