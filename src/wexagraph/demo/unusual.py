"""Mail of rare kinds, and pages that are hard to set. Each message says in a word what it is for."""

from __future__ import annotations

import base64
import binascii
from datetime import UTC, datetime, timedelta

from wexagraph.demo import files
from wexagraph.demo.build import Piece, file, forwarded, html, message, multipart, text, when
from wexagraph.demo.letters import COLE, EIDE, HALDEN, LINDQVIST, OFFICE, OSGOOD, WRAY


def unusual() -> list[bytes]:
    """About twenty messages whose kind few programs know, or whose layout goes wrong easily."""
    start = when("2026-09-07", 8, 30)

    def day(number: int) -> datetime:
        return start + timedelta(hours=23 * number)

    def raw(kind: str, body: bytes, more: str = "") -> Piece:
        return Piece(f"Content-Type: {kind}\n{more}".encode(), body)

    report = multipart(
        "report; report-type=delivery-status",
        text("Your message could not be delivered to one of its recipients.\n"),
        raw(
            "message/delivery-status",
            b"Reporting-MTA: dns; mx.saltmere.example\n\nFinal-Recipient: rfc822; nobody@slipway.example\n"
            b"Action: failed\nStatus: 5.1.1\nDiagnostic-Code: smtp; 550 5.1.1 No such berth holder\n",
        ),
        raw(
            "text/rfc822-headers",
            b"From: Records <records@saltmere.example>\nTo: nobody@slipway.example\nSubject: Dues for August\n",
        ),
    )
    signed = base64.encodebytes(
        _signed_data(
            b"Content-Type: text/plain; charset=utf-8\n\n" + "Der Liegeplatz ist bezahlt. Gr\u00fc\u00dfe\n".encode()
        )
    )
    digest = multipart(
        "digest",
        *(
            Piece(b"", message(sender, OFFICE, subject, day(n), text(words)))
            for n, (sender, subject, words) in enumerate(
                [(COLE, "Gulls", "Too many.\n"), (OSGOOD, "Re: Gulls", "It is a harbour.\n")]
            )
        ),
    )
    boundary = multipart("mixed", text("The part itself.\n"))
    outside = Piece(
        boundary.header,
        b"Please note that the fax was received twice, see the log of the night watch.\n"
        + boundary.body
        + b"\nForwarded through the list of the pilots; answers go to the list.\n",
    )
    return [
        message(
            "Mail system <mailer-daemon@mx.saltmere.example>", OFFICE, "Undelivered: Dues for August", day(1), report
        ),
        message(
            LINDQVIST,
            OFFICE,
            "Payment, signed and sealed in one file",
            day(2),
            raw(
                'application/pkcs7-mime; smime-type=signed-data; name="smime.p7m"',
                signed,
                "Content-Transfer-Encoding: base64\n",
            ),
        ),
        message(
            EIDE,
            OFFICE,
            "Encrypted bill",
            day(3),
            multipart(
                'encrypted; protocol="application/pgp-encrypted"',
                raw("application/pgp-encrypted", b"Version: 1\n"),
                raw(
                    'application/octet-stream; name="encrypted.asc"',
                    b"-----BEGIN PGP MESSAGE-----\n\nhQEMA0\n-----END PGP MESSAGE-----\n",
                ),
            ),
        ),
        message("Pilots <list@pilots.example>", OFFICE, "Digest of the pilots' list", day(4), digest),
        message(
            OSGOOD,
            OFFICE,
            "Old program, old file",
            day(5),
            text(
                "The log as my program sends it:\n\n"
                + _uuencoded("log.txt", b"06:00 fog\n07:15 fog\n09:40 clear\n")
                + "\nPiet\n"
            ),
        ),
        message(
            COLE,
            OFFICE,
            "Picture from a news reader",
            day(6),
            raw(
                "text/plain; charset=iso-8859-1",
                b"The gull again.\n" + _yencoded("gull.gif", _DOT) + b"\nEdda Cole\n",
                "Content-Transfer-Encoding: 8bit\n",
            ),
        ),
        message(
            OSGOOD,
            OFFICE,
            "In coloured ink",
            day(7),
            text(
                "<bold>Dear office,</bold>\n\nthe <color><param>red</param>red</color> buoy is <italic>not</italic> red any more.\n\n\n"
                "<fixed>buoy << 14</fixed>\n<excerpt>All buoys are painted in May.</excerpt>\nPiet\n",
                kind="enriched",
            ),
        ),
        message(
            HALDEN,
            OFFICE,
            "Soundings kept on our server",
            day(8),
            multipart(
                "mixed",
                text("Too large to send; fetch it by Friday.\n"),
                raw(
                    'message/external-body; access-type=URL; URL="https://files.quaysurvey.example/soundings.zip"; size=214000123',
                    b"Content-Type: application/zip\nContent-ID: <soundings@quaysurvey.example>\n\n",
                ),
            ),
        ),
        message(WRAY, OFFICE, "Words outside the parts", day(9), outside),
        message(
            OFFICE,
            WRAY,
            "Moved: Berthing meeting",
            day(10),
            multipart(
                "mixed",
                multipart(
                    "alternative",
                    text("The meeting moves to the boat house.\n"),
                    html("<p>The meeting moves to the <b>boat house</b>.</p>"),
                    text(_MOVED, kind="calendar; method=REQUEST"),
                ),
                file("invite.ics", "text/calendar", _MOVED.encode()),
            ),
        ),
        b"From: First <first@quay.example>\nFrom: Second <second@quay.example>\nTo: records@saltmere.example\nSubject: One subject\n"
        b"Subject: Another subject\nThis line is no field\nDate: Thu, 17 Sep 2026 09:00:00 +0000\n\nFields that stand twice.\n",
        message(
            "Saltmere Savings <service@saltmere-savings.example>",
            OFFICE,
            "Please confirm your account",
            day(11),
            html(
                '<p>Dear customer,</p><p>please log in at <a href="https://login.thieves.example/saltmere">www.saltmere-savings.example</a> '
                'or write to <a href="mailto:fish@thieves.example">help@saltmere-savings.example</a>.</p>'
                '<p><a href="https://www.saltmere-savings.example/terms">Our terms</a></p>'
                '<div style="display:none">Invoice parcel lottery winner statement</div>'
            ),
        ),
        message(COLE, OFFICE, "A page of the nineties", day(12), html(_NINETIES)),
        message(
            "Tide and Trade <news@tide-and-trade.example>",
            OFFICE,
            "Tide and Trade, the wide edition",
            day(13),
            html(_WIDE),
        ),
        message("Night watch <watch@saltmere.example>", OFFICE, "Night log (dark)", day(14), html(_DARK)),
        message(
            "Wire office <wire@saltmere.example>",
            OFFICE,
            "Signs that few fonts have",
            day(15),
            text(
                "Cuneiform: \U00012000 \U00012001\nPrivate: \ue123\nFlags and keys: \u2690 \u2328 \u26f5\nLetters: \u0105\u0119\u0142 \u0219\u021b \u01c6 \u1e9e\n"
            ),
        ),
        message(
            WRAY,
            OFFICE,
            "Both directions in one letter",
            day(16),
            html(
                '<p>The ship <b dir="rtl">\u05e1\u05e4\u05d9\u05e0\u05d4 \u05d2\u05d3\u05d5\u05dc\u05d4</b> (IMO 1234567) leaves at 07:30.</p>'
                '<p dir="rtl">\u05d4\u05e1\u05e4\u05d9\u05e0\u05d4 Pelican \u05e2\u05d5\u05d2\u05e0\u05ea \u05d1\u05e8\u05e6\u05d9\u05e3 4, \u05e9\u05e2\u05d4 07:30.</p>'
                "<p>\u0627\u0644\u0631\u0635\u064a\u0641 \u0631\u0642\u0645 3</p>"
            ),
        ),
        message(
            WRAY,
            OFFICE,
            "For the file: three in one",
            day(17),
            multipart(
                "mixed",
                text("The thread, innermost first.\n"),
                forwarded(
                    message(
                        HALDEN,
                        WRAY,
                        "Fwd: Buoy 14",
                        day(16),
                        multipart(
                            "mixed",
                            text("See below.\n"),
                            forwarded(
                                message(
                                    OSGOOD,
                                    HALDEN,
                                    "Buoy 14",
                                    day(15),
                                    multipart(
                                        "mixed",
                                        text("It drifts.\n"),
                                        file("buoy.png", "image/png", files.logo("#8a1f1f")),
                                    ),
                                )
                            ),
                        ),
                    )
                ),
            ),
        ),
    ]


_MOVED = "\r\n".join(
    [
        "BEGIN:VCALENDAR",
        "VERSION:2.0",
        "PRODID:-//Saltmere//Port office//EN",
        "METHOD:REQUEST",
        "BEGIN:VEVENT",
        "UID:berthing-2026-10@saltmere.example",
        "DTSTAMP:20260916T080000Z",
        "DTSTART;TZID=Europe/Lisbon:20261001T090000",
        "DTEND;TZID=Europe/Lisbon:20261001T103000",
        "RRULE:FREQ=MONTHLY;COUNT=3",
        "SUMMARY:Berthing meeting\\, autumn",
        "LOCATION:Boat house",
        "ORGANIZER;CN=Records:mailto:records@saltmere.example",
        "ATTENDEE;CN=Tomas Wray;PARTSTAT=ACCEPTED:mailto:tomas.wray@saltmere.example",
        "ATTENDEE;CN=Ines Halden;PARTSTAT=NEEDS-ACTION:mailto:ines.halden@quaysurvey.example",
        "DESCRIPTION:Agenda:\\n1. Fenders\\n2. Winter berths",
        "END:VEVENT",
        "END:VCALENDAR",
        "",
    ]
)

_DOT = base64.b64decode("R0lGODlhAQABAIAAAAAAAP///yH5BAEAAAAALAAAAAABAAEAAAIBRAA7")

_NINETIES = """<html><body bgcolor="#fffff0" text="#102030" link="#aa0000"><center><font size="+3" face="Georgia" color="navy">Welcome
to the Boatyard</font><br><font size="-1">since 1911</font></center><hr size="4" width="70%" noshade>
<table border="2" cellpadding="6" cellspacing="3" width="85%" align="center" bgcolor="#e0f0ff"><tr bgcolor="#aaccee"><th>Boat</th>
<th width="30%">Work</th><th>Crowns</th></tr><tr><td nowrap>Cormorant</td><td valign="top">Hull</td><td align="right">480.00</td></tr>
<tr><td>Pelican</td><td valign="bottom"><ul type="square"><li>Mast<li>Rigging</ul></td><td align="right">1,220.00</td></tr></table>
<p align="right"><i>All prices in crowns.</i></p><table align="left" width="40%" border="0" cellpadding="5"><tr><td bgcolor="#dddddd">
<font size="2">Closed on Sundays, on feast days and in fog.</font></td></tr></table>The yard takes boats up to fourteen metres. Bring
the papers of the boat, and the keys. <tt>VHF channel 12</tt>.<br clear="all"><blockquote>A boat is a hole in the water.</blockquote>
<ol type="A" start="3"><li>Third<li>Fourth</ol></body></html>"""

_CELL = (
    '<td width="280" valign="top" bgcolor="#eef3f6" style="padding:18px;font:14px/20px Arial,sans-serif;color:#333">'
)
_WIDE = (
    '<!DOCTYPE html><html><body style="margin:0"><table width="840" align="center" cellpadding="0" cellspacing="0"><tr><td colspan="3" '
    'bgcolor="#0d3b52" style="padding:24px;color:#fff;font:bold 28px Arial,sans-serif">The wide edition</td></tr><tr>'
    + "".join(
        f"{_CELL}<b>{head}</b><br>{words}</td>"
        for head, words in [
            ("Berths", "Berth 4 is open again; berth 6 closes for the winter on 1 November."),
            ("Pilotage", "Two new pilots have passed. Their boat is the grey one with the green stripe."),
            ("Slipway", "The spring cradle is booked out. The list for the autumn opens on Monday."),
        ]
    )
    + '</tr><tr><td colspan="3" align="right" style="padding:12px;font:12px Arial,sans-serif">The rightmost words of the wide edition.</td>'
    "</tr></table></body></html>"
)

_DARK = """<!DOCTYPE html><html><head><style>body{background:#101820;color:#e8eef2;font-family:Verdana,sans-serif;font-size:13px}
.bar{background:linear-gradient(#1c3a4a,#0d2330);padding:14px 20px;color:#9fd0e6}@media(prefers-color-scheme:light){body{background:#fff}}
td{border-bottom:1px solid #2c4250;padding:7px 10px}.t{color:#f0c674;white-space:nowrap}</style></head><body><div class="bar">Night log,
20 September</div><table width="100%" cellspacing="0"><tr><td class="t">22:10</td><td>Harbour light checked.</td></tr><tr><td class="t">
01:45</td><td>Tug <b>Otter</b> out, two barges in tow.</td></tr><tr><td class="t">04:30</td><td style="color:#ff8a80">Line across the
fairway, cleared.</td></tr></table><p style="opacity:.7">Kept by the night watch.</p></body></html>"""


def _uuencoded(name: str, content: bytes) -> str:
    lines = [binascii.b2a_uu(content[at : at + 45]).decode("ascii") for at in range(0, len(content), 45)]
    return f"begin 644 {name}\n{''.join(lines)}`\nend\n"


def _yencoded(name: str, content: bytes) -> bytes:
    body = b"".join(
        b"=" + bytes(((value + 106) % 256,)) if (value + 42) % 256 in (0, 10, 13, 61) else bytes(((value + 42) % 256,))
        for value in content
    )
    head = f"=ybegin line=128 size={len(content)} name={name}\r\n".encode()
    return head + body + f"\r\n=yend size={len(content)} crc32={binascii.crc32(content):08x}\r\n".encode()


def _signed_data(content: bytes) -> bytes:
    """A CMS SignedData (RFC 5652) with a certificate and a signature that nobody could verify."""
    from asn1crypto import algos, cms, keys, x509

    name = x509.Name.build({"common_name": "Aoife Lindqvist", "organization_name": "Quay Dredging"})
    moment = datetime(2026, 1, 1, tzinfo=UTC)
    key = keys.PublicKeyInfo(
        {
            "algorithm": {"algorithm": "rsa"},
            "public_key": keys.RSAPublicKey({"modulus": 2**1023 + 9, "public_exponent": 65537}),
        }
    )
    algorithm = algos.SignedDigestAlgorithm({"algorithm": "sha256_rsa"})
    certificate = x509.Certificate(
        {
            "tbs_certificate": {
                "version": "v3",
                "serial_number": 118,
                "signature": algorithm,
                "issuer": name,
                "subject": name,
                "validity": {
                    "not_before": x509.Time({"utc_time": moment}),
                    "not_after": x509.Time({"utc_time": moment + timedelta(days=730)}),
                },
                "subject_public_key_info": key,
            },
            "signature_algorithm": algorithm,
            "signature_value": b"\0" * 128,
        }
    )
    signer = {
        "version": "v1",
        "sid": cms.SignerIdentifier({"issuer_and_serial_number": {"issuer": name, "serial_number": 118}}),
        "digest_algorithm": {"algorithm": "sha256"},
        "signature_algorithm": {"algorithm": "rsassa_pkcs1v15"},
        "signature": b"\0" * 128,
    }
    signed = cms.SignedData(
        {
            "version": "v1",
            "digest_algorithms": [{"algorithm": "sha256"}],
            "certificates": [certificate],
            "encap_content_info": {"content_type": "data", "content": content},
            "signer_infos": [signer],
        }
    )
    data: bytes = cms.ContentInfo({"content_type": "signed_data", "content": signed}).dump()
    return data
