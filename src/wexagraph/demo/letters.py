"""The everyday mail of the port office: letters, notices, newsletters, a quarrel, attachments, many scripts."""

from __future__ import annotations

from datetime import datetime, timedelta

from wexagraph.demo import files
from wexagraph.demo.build import file, forwarded, html, identifier, message, multipart, text, when

OFFICE = '"Records, Port of Saltmere" <records@saltmere.example>'
WRAY = "Tomas Wray <tomas.wray@saltmere.example>"
HALDEN = "Ines Halden <ines.halden@quaysurvey.example>"
LINDQVIST = "Aoife Lindqvist <aoife@brackwater-dredging.example>"
OSGOOD = '"Osgood, Piet" <piet.osgood@cormorant.example>'
COLE = "Miriam Cole <miriam.cole@pelican-sailing.example>"
EIDE = "Rasmus Eide <eide@saltmere-pilots.example>"


def notices() -> list[bytes]:
    """Notices to mariners: fixed plain text."""
    subjects = [
        "Light at the north mole extinguished",
        "Soundings off the east quay",
        "Regatta: fairway closed",
        "New buoy 14 laid",
        "Dredger at work, berths 2 and 3",
        "Gale warning lifted",
        "Tide gauge out of order",
        "Fog signal changed",
    ]
    letters = []
    for number, subject in enumerate(subjects, 1):
        moment = when("2026-01-05", 7, 30) + timedelta(days=9 * number)
        body = (
            f"NOTICE TO MARINERS No. {number} of 2026\n\n{subject}.\n\n"
            f"    Position        54 12.{number}0 N   007 5{number}.20 E\n"
            f"    From            {moment:%d %b %Y}\n    Until           further notice\n"
            f"    Chart           Saltmere Roads, sheet {number % 3 + 1}\n\n"
            "Masters are asked to pass at slow speed and to keep a listening watch on channel 12.\n\n"
            "-- \nTomas Wray, harbour master\n"
        )
        letters.append(
            message(WRAY, "Mariners <notices@saltmere.example>", f"Notice {number}/2026: {subject}", moment, text(body))
        )
    return letters


def berthing() -> list[bytes]:
    """The weekly berth list: an HTML table with a text alternative."""
    ships = ["Astrid K", "Borealis", "Cape Wrack", "Dunlin", "Elvira", "Fulmar", "Gannet", "Halcyon"]
    letters = []
    for week in range(1, 9):
        moment = when("2026-01-04", 16, 5) + timedelta(weeks=week)
        rows, lines = [], []
        for berth in range(1, 6):
            ship = ships[(week * 3 + berth) % len(ships)]
            cells = (
                str(berth),
                ship,
                f"{60 + 7 * berth} m",
                f"{5 + berth / 2:.1f} m",
                "Mon-Thu" if berth % 2 else "all week",
            )
            colour = "#eef4f7" if berth % 2 else "#ffffff"
            rows.append(f'<tr bgcolor="{colour}">' + "".join(f"<td>{cell}</td>" for cell in cells) + "</tr>")
            lines.append("  ".join(cells))
        table = (
            '<table border="0" cellpadding="6" cellspacing="0" width="560"><tr bgcolor="#0d3b52">'
            + "".join(
                f'<th align="left"><font color="#ffffff">{head}</font></th>'
                for head in ("Berth", "Ship", "Length", "Draught", "Stay")
            )
            + f"</tr>{''.join(rows)}</table>"
        )
        page = (
            f"<html><body><p>Dear all,</p><p>the berths for week {week + 2} of 2026:</p>{table}"
            '<p>Changes by Friday noon to <a href="mailto:berths@saltmere.example">berths@saltmere.example</a>.</p>'
            "<p>Kind regards<br><b>Berthing desk</b></p></body></html>"
        )
        plain = f"Dear all,\n\nthe berths for week {week + 2} of 2026:\n\n" + "\n".join(lines) + "\n"
        body = multipart("alternative", text(plain), html(page))
        letters.append(
            message("Berthing desk <berths@saltmere.example>", OFFICE, f"Berths, week {week + 2}", moment, body)
        )
    return letters


def quarrel() -> list[bytes]:
    """A conversation about a mooring: replies that quote replies, some flowed."""
    turns = [
        (
            COLE,
            OSGOOD,
            "your Cormorant lies on buoy 14 again, which is let to my Pelican. Please move her by Saturday.",
        ),
        (OSGOOD, COLE, "buoy 14 has been mine since my father's day. I have no intention of moving an inch."),
        (COLE, OSGOOD, "I have the agreement of 3 March in front of me. It names buoy 14 and it names me."),
        (OSGOOD, COLE, "An agreement with whom? The office has never answered a letter of mine in eleven years."),
        (
            WRAY,
            COLE,
            "the register of moorings shows buoy 14 for Pelican, 1 April to 31 October. I attach the agreement.",
        ),
        (OSGOOD, WRAY, "then the register is wrong, and I ask for a copy of every page of it that names my family."),
        (
            WRAY,
            OSGOOD,
            "you will have it by post. Until then, Cormorant can lie at the visitors' pontoon, free of charge.",
        ),
        (OSGOOD, WRAY, "Free of charge is a language I understand. But this is not over."),
    ]
    letters, history = [], ""
    ids: list[str] = []
    moment = when("2026-04-02", 8, 12, 1)
    for number, (sender, to, words) in enumerate(turns):
        subject = ("Re: " if number else "") + "Buoy 14"
        first = sender.split("<")[0].strip(' "').split(",")[-1].strip().split()[0]
        wrapped = words.replace(". ", ".\n") if number % 2 else words.replace(", ", ", \n")
        body = f"{wrapped}\n\n{first}\n"
        if history:
            body += f"\nOn {moment - timedelta(hours=7):%d %B %Y} the other side wrote:\n" + history
        part = text(body, flowed=number % 2 == 0)
        if number == 4:
            part = multipart("mixed", part, file("Agreement buoy 14.docx", _DOCX, files.document()))
        letters.append(message(sender, to, subject, moment, part, cc=OFFICE, reference=ids))
        history = "".join(f">{'' if line.startswith('>') else ' '}{line}\n" for line in body.rstrip("\n").split("\n"))
        ids = [*ids, identifier(subject, moment)]
        moment += timedelta(hours=7, minutes=23)
    return letters


_DOCX = "application/vnd.openxmlformats-officedocument.wordprocessingml.document"
_XLSX = "application/vnd.openxmlformats-officedocument.spreadsheetml.sheet"


def newsletters() -> list[bytes]:
    """A newsletter in table layout: nested tables, a style sheet, spacers, remote and inline pictures, a button."""
    letters = []
    for number, (month, lead, colour) in enumerate(
        [
            ("January", "Ice on the inner basin", "#2f6f8f"),
            ("February", "The old crane comes down", "#8a5a2b"),
            ("March", "Spring tides and a new pontoon", "#3d7a5a"),
        ],
        1,
    ):
        cards = "".join(
            f'<td width="33%" valign="top" style="padding:10px;background-color:#f4f7f9">'
            f'<h3 style="margin:0 0 6px;color:{colour};font-size:15px">{head}</h3>'
            f'<p style="margin:0;font-size:13px;line-height:18px">{words}</p></td>'
            for head, words in [
                ("Berths", "Berth 4 is closed for new fenders until the end of the month."),
                ("Pilotage", "Rates rise by two per cent; the table is on the notice board."),
                ("Slipway", "Bookings for the spring cradle open on Monday at eight."),
            ]
        )
        page = f"""<html><head><style type="text/css">
body {{ margin: 0; background: #dfe8ec; }}
.wrap {{ background-color: #ffffff; }}
.lead {{ font-family: Georgia, "Times New Roman", serif; font-size: 26px; color: {colour}; }}
@media only screen and (max-width: 480px) {{ .wrap {{ width: 100% !important; }} }}
</style></head><body bgcolor="#dfe8ec">
<div style="display:none;max-height:0;overflow:hidden">What the harbour did in {month}.</div>
<table width="100%" border="0" cellspacing="0" cellpadding="0"><tr><td align="center">
<table class="wrap" width="600" border="0" cellspacing="0" cellpadding="0">
<tr><td style="padding:16px 20px"><img src="cid:logo-{number}" width="180" height="48" alt="Saltmere"></td>
<td align="right" style="padding:16px 20px;font-size:12px;color:#667">Tide and Trade, {month} 2026</td></tr>
<tr><td colspan="2" style="padding:0 20px"><img src="https://pictures.tide-and-trade.example/{month}.jpg" width="560"
height="150" alt="The harbour in {month}"></td></tr>
<tr><td colspan="2" style="padding:20px"><div class="lead">{lead}</div>
<p style="font-size:14px;line-height:21px">The office thanks all who helped. The quay is safe, the lamps are lit, and
the kettle in the pilot house is on. Read what happened below, and write to us if we forgot something.</p>
<table border="0" cellspacing="0" cellpadding="0"><tr><td bgcolor="{colour}" style="padding:10px 22px;border-radius:4px">
<a href="https://www.tide-and-trade.example/{month.lower()}" style="color:#ffffff;text-decoration:none"><b>Read on</b></a>
</td></tr></table></td></tr>
<tr><td colspan="2" style="padding:0 20px 20px"><table width="100%" cellspacing="8"><tr>{cards}</tr></table></td></tr>
<tr><td colspan="2" bgcolor="#0d3b52" style="padding:14px 20px;color:#cfe0e8;font-size:11px">You receive this because you
moor with us. <a href="https://www.tide-and-trade.example/leave" style="color:#cfe0e8">Leave the list</a>.
<img src="https://count.tide-and-trade.example/{number}.gif" width="1" height="1"></td></tr>
</table></td></tr></table></body></html>"""
        body = multipart(
            "alternative",
            text(f"{lead}\n\nThe office thanks all who helped. Berth 4 is closed for new fenders.\n"),
            multipart("related", html(page), file("logo.png", "image/png", files.logo(colour), cid=f"logo-{number}")),
        )
        moment = when(f"2026-0{number}-28", 6, 45)
        sender = "Tide and Trade <news@tide-and-trade.example>"
        letters.append(
            message(
                sender, OFFICE, f"Tide and Trade: {lead}", moment, body, extra="List-Id: <news.tide-and-trade.example>"
            )
        )
    return letters


def with_files() -> list[bytes]:
    """Letters whose attachment is the record: one of each common kind."""
    plan = file("East quay plan.png", "image/png", files.quay_plan(), cid="plan@quaysurvey.example")
    survey = html(
        "<p>Dear Tomas,</p><p>the survey of the <b>east quay</b> is done. Plan and figures:</p>"
        '<p><img src="cid:plan@quaysurvey.example" width="600" alt="Plan of the east quay"></p>'
        "<p>The fender at berth 4 has to go.</p><p>Ines Halden</p>"
    )
    report = file(
        "East quay survey.pdf",
        "application/pdf",
        files.pdf("East quay survey, March 2026", "Berth 4: fender broken at bollard 11.", "Depth alongside: 6.2 m."),
    )
    survey_body = multipart("mixed", multipart("related", survey, plan), report)
    permit = when("2026-03-09", 11, 2)
    letters = [
        message(HALDEN, WRAY, "East quay survey", when("2026-03-14", 15, 3), survey_body, cc=OFFICE),
        message(
            LINDQVIST,
            WRAY,
            "Dredged volumes, first quarter",
            when("2026-04-01", 10, 20, 2),
            multipart(
                "mixed",
                text("Figures attached, chart on the sheet.\n\nAoife\n"),
                file("Dredging 2026.xlsx", _XLSX, files.workbook()),
            ),
        ),
        message(
            "Slipway desk <slipway@saltmere.example>",
            OSGOOD,
            "Permit 2026/118 (scan)",
            permit,
            multipart(
                "mixed",
                text("The signed permit as a scan, and a photograph of the slip.\n"),
                file("permit-118.tiff", "image/tiff", files.scan()),
                file("slipway.jpg", "image/jpeg", files.photo(), disposition="inline"),
            ),
        ),
        message(
            WRAY,
            OFFICE,
            "Tides for March",
            when("2026-02-27", 8, 0),
            multipart(
                "mixed",
                text("The table for the notice board.\n"),
                file("tides-march.csv", "text/csv", files.tide_table()),
            ),
        ),
        message(
            WRAY,
            HALDEN,
            "Invitation: Berthing meeting for April",
            when("2026-03-20", 8, 0),
            multipart(
                "alternative",
                text("Please come to the berthing meeting on 2 April at nine.\n"),
                text(files.invitation().decode(), kind="calendar"),
            ),
        ),
        message(
            HALDEN,
            WRAY,
            "Old drawings of the north mole",
            when("2026-05-11", 9, 40),
            multipart(
                "mixed",
                text("All sheets in one archive.\n"),
                file(
                    "north-mole.zip",
                    "application/zip",
                    files.zipped({"sheet-1.txt": b"Section A-A\n", "plan/quay.png": files.quay_plan()}),
                ),
            ),
        ),
        message(
            EIDE,
            WRAY,
            "Pilotage bill, signed",
            when("2026-05-12", 13, 15, 2),
            multipart(
                'signed; protocol="application/pkcs7-signature"; micalg=sha-256',
                text("The bill for April stands at 14,220 crowns.\n"),
                file("smime.p7s", "application/pkcs7-signature", b"0\x82\x01not a real signature"),
            ),
        ),
    ]
    inner = message(
        COLE, WRAY, "Noise at the boatyard", when("2026-05-20", 22, 48, 1), text("They are sanding at night again.\n")
    )
    letters.append(
        message(
            WRAY,
            OFFICE,
            "Fwd: Noise at the boatyard",
            when("2026-05-21", 7, 30, 1),
            multipart("mixed", text("For the file, please.\n"), forwarded(inner)),
        )
    )
    return letters


def scripts() -> list[bytes]:
    """Letters in other scripts and character sets."""
    start = when("2026-06-01", 9, 0)

    def day(number: int) -> datetime:
        return start + timedelta(days=number)

    arabic = (
        '<div dir="rtl"><p>إلى مكتب ميناء سالتمير،</p><p>نود حجز الرصيف رقم 3 للسفينة '
        "<b>Al Marsa</b> يوم 14 يونيو 2026.</p><p>مع التحية، ليلى حداد</p></div>"
    )
    return [
        message("ليلى حداد <layla@almarsa-lines.example>", OFFICE, "حجز رصيف", day(0), html(arabic)),
        message(
            "דנה לוי <dana@levant-yachts.example>",
            OFFICE,
            "עגינה ביוני",
            day(1),
            text("שלום,\n\nנשמח לדעת אם יש מקום עגינה לסירה Pelican ב-12 ביוני.\n\nתודה, דנה\n", "windows-1255"),
        ),
        message(
            "田辺由紀 <tanabe@kitsune-lines.example>",
            OFFICE,
            "サルトミア港への入港予定",
            day(2),
            text(
                "港湾事務所 御中\n\n6月20日に「北風丸」が入港いたします。\n喫水は6.2メートルです。\n\n田辺\n",
                "iso-2022-jp",
            ),
        ),
        message(
            "王芳 <wang@haifeng-shipping.example>",
            OFFICE,
            "泊位申请",
            day(3),
            text("您好：\n\n请为“海风”号安排4号泊位，时间为6月25日。\n\n王芳\n", "gb2312"),
        ),
        message(
            "김민지 <kim@badaro.example>",
            OFFICE,
            "선석 배정 문의",
            day(4),
            text("안녕하세요.\n\n6월 28일 2번 선석을 사용할 수 있을까요?\n\n김민지\n", "euc-kr"),
        ),
        message(
            "Олег Краев <kraev@severny-flot.example>",
            OFFICE,
            "Заход в порт",
            day(5),
            text("Уважаемые господа!\n\nТеплоход Север прибудет 30 июня.\n\nО. Краев\n", "koi8-r"),
        ),
        message(
            "Ελένη Παππά <eleni@aigaio-ferries.example>",
            OFFICE,
            "Δρομολόγια Ιουλίου",
            day(6),
            text("Καλημέρα σας,\n\nσας στέλνω τα δρομολόγια του Ιουλίου.\n\nΕλένη\n", "iso-8859-7"),
        ),
        message(
            "Jürgen Größ <groess@watt-und-meer.example>",
            OFFICE,
            "Anfrage: Liegeplatz für die „Möwe“",
            day(7),
            text(
                "Sehr geehrte Damen und Herren,\n\nwir möchten vom 3. bis 9. Juli anlegen. Grüße aus Büsum!\n",
                "iso-8859-1",
            ),
        ),
        message(
            "สมชาย ใจดี <somchai@andaman-boats.example>",
            OFFICE,
            "ขอจอดเรือ",
            day(8),
            text("เรียนสำนักงานท่าเรือ\n\nขอจอดเรือวันที่ 5 กรกฎาคม ขอบคุณครับ\n", "tis-620"),
        ),
        message(
            "Priya नायर <priya@konkan-sail.example>",
            OFFICE,
            "नौका के लिए स्थान",
            day(9),
            text("नमस्ते,\n\nक्या 8 जुलाई को एक नौका के लिए स्थान उपलब्ध है?\n"),
        ),
        message(
            "Café du Phare <phare@cafe-du-phare.example>",
            OFFICE,
            "Regatta 🎉⛵ Saturday!",
            day(10),
            html("<p>See you at the quay 😀⚓ – bring friends! 🚢🌊</p>"),
        ),
    ]
