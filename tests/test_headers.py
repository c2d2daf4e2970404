"""Headers as tables of cases: encoded words, addresses, dates, parameters, character sets."""

from __future__ import annotations

import random
import unittest
from datetime import UTC, datetime, timedelta, timezone
from email.message import EmailMessage

from wexagraph.messages.charsets import codec_for, decode
from wexagraph.messages.dates import parse_date, plausible
from wexagraph.messages.encoded_words import decode_words
from wexagraph.messages.headers import Header, header_end, parse_addresses
from wexagraph.messages.mime import parse_parameters


class Words(unittest.TestCase):
    CASES = [
        (b"plain", "plain"),
        (b"=?utf-8?Q?caf=C3=A9?=", "café"),
        (b"=?UTF-8?B?w6TDtsO8?=", "äöü"),
        (b"=?iso-8859-1?q?a_b=5Fc?= tail", "a b_c tail"),
        (b"=?utf-8?Q?one?= =?utf-8?Q?two?=", "onetwo"),
        (b"=?utf-8?Q?one?=\r\n =?utf-8?Q?two?=", "onetwo"),
        (b"=?utf-8?Q?one?= and =?utf-8?Q?two?=", "one and two"),
        (b"=?utf-8?Q?split_=C3?= =?utf-8?Q?=A5?=", "split å"),  # a character between two words
        (b"=?utf-8?B?w4?= =?utf-8?B?lg==?=", "Ö"),
        (b"=?utf-8?Q?with spaces inside?=", "with spaces inside"),  # against the standard, seen in practice
        (b"=?utf-8?Q?question?mark?=", "question?mark"),
        (b"=?x-unknown?Q?abc?=", "abc"),
        (b"=?utf-8*en?Q?language?=", "language"),  # RFC 2231 section 5
        (b"=?utf-8?X?abc?=", "=?utf-8?X?abc?="),  # no such encoding: left as it is
        (b"=?utf-8?Q?unclosed", "=?utf-8?Q?unclosed"),
        (b"=?iso-2022-jp?B?GyRCRnxLXBsoQg==?= =?iso-2022-jp?B?GyRCOGwbKEI=?=", "日本語"),
        (b"=?gb2312?B?1tDOxA==?=", "中文"),
        (b"=?koi8-r?B?8NLJ18XU?=", "Привет"),
        ("roh – utf-8".encode(), "roh – utf-8"),
        (b"caf\xe9", "café"),
        (b"folded\r\n\tline\n again", "folded line again"),
        (b"=?windows-1252?Q?=93quoted=94?=", "“quoted”"),
        (b"=?us-ascii?Q?caf=C3=A9?=", "café"),  # declared wrongly
    ]

    def test_cases(self) -> None:
        for raw, wanted in self.CASES:
            with self.subTest(raw):
                self.assertEqual(decode_words(raw), wanted)

    def test_an_endless_field_takes_no_endless_time(self) -> None:
        self.assertTrue(decode_words(b"=?a?q?" * 40_000))
        self.assertEqual(parse_addresses(b" " * 400_000), [])
        self.assertTrue(parse_addresses(b"(" * 200_000 + b"a@b.example"))


CREW = ("a@[192.0.2.7]", "b@[IPv6:::1]", "c@d.example")


class Addresses(unittest.TestCase):
    CASES = [
        (b"a@b.example", [("", "a@b.example")]),
        (b"Ines Halden <i@q.example>", [("Ines Halden", "i@q.example")]),
        (b'"Osgood, Piet" <p@c.example>, b@c.example', [("Osgood, Piet", "p@c.example"), ("", "b@c.example")]),
        (b"p@c.example (Piet Osgood)", [("Piet Osgood", "p@c.example")]),
        (
            b"Crew: a@b.example, C <c@d.example>;, e@f.example",
            [("", "a@b.example"), ("C", "c@d.example"), ("", "e@f.example")],
        ),
        (b"undisclosed-recipients:;", []),
        (b"=?utf-8?Q?J=C3=B6rg?= <j@x.example>", [("Jörg", "j@x.example")]),
        (b'"=?utf-8?Q?J=C3=B6rg?=" <j@x.example>', [("Jörg", "j@x.example")]),
        ("Jörg <j@x.example>".encode(), [("Jörg", "j@x.example")]),
        (b"J\xf6rg <j@x.example>", [("Jörg", "j@x.example")]),
        (b'"un\\"quoted\\\\" <q@x.example>', [('un"quoted\\', "q@x.example")]),
        (b"Only A Name", [("Only A Name", "")]),
        (b"<@relay.example:a@b.example>", [("", "a@b.example")]),
        (b"a@[IPv6:2001:db8::1]", [("", "a@[IPv6:2001:db8::1]")]),
        (b"Crew: a@[192.0.2.7], b@[IPv6:::1];, c@d.example", [("", address) for address in CREW]),
        (b"Broken <no.close@x.example", [("Broken", "no.close@x.example")]),
        (b'"never closed <a@b.example>', [("never closed <a@b.example>", "")]),
        (b", ,a@b.example,", [("", "a@b.example")]),
        (b"", []),
    ]

    def test_cases(self) -> None:
        for raw, wanted in self.CASES:
            with self.subTest(raw):
                addresses = [tuple(address) for address in parse_addresses(raw)]
                if raw.startswith(b'"never'):  # whatever comes out, nothing of it may be lost
                    self.assertIn("a@b.example", " ".join(map(str, addresses)))
                else:
                    self.assertEqual(addresses, wanted)


class Dates(unittest.TestCase):
    def zone(self, hours: float) -> timezone:
        return timezone(timedelta(hours=hours))

    def test_cases(self) -> None:
        for text, wanted in [
            ("Sat, 14 Mar 2026 15:03:00 +0000", datetime(2026, 3, 14, 15, 3, tzinfo=UTC)),
            ("14 Mar 2026 15:03 +0530", datetime(2026, 3, 14, 15, 3, tzinfo=self.zone(5.5))),
            ("Sat, 14 Mar 26 15:03:09 EST", datetime(2026, 3, 14, 15, 3, 9, tzinfo=self.zone(-5))),
            ("Sat, 14 Mar 99 15:03:09 GMT", datetime(1999, 3, 14, 15, 3, 9, tzinfo=UTC)),
            ("Saturday, 14-Mar-2026 15:03:00 CEST", datetime(2026, 3, 14, 15, 3, tzinfo=self.zone(2))),
            ("Sat Mar 14 15:03:00 2026", datetime(2026, 3, 14, 15, 3, tzinfo=UTC)),
            ("Sat Mar 14 15:03:00 PST 2026", datetime(2026, 3, 14, 15, 3, tzinfo=self.zone(-8))),
            ("Sat Mar 14 15:03:00 2026 +0100", datetime(2026, 3, 14, 15, 3, tzinfo=self.zone(1))),
            ("2026-03-14T15:03:00Z", datetime(2026, 3, 14, 15, 3, tzinfo=UTC)),
            ("2026-03-14 15:03:00 +02:00", datetime(2026, 3, 14, 15, 3, tzinfo=self.zone(2))),
            ("Sat, 14 Mar 2026 3:03:00 PM +0000", datetime(2026, 3, 14, 15, 3, tzinfo=UTC)),
            ("Sat, 14 Mar 2026 15.03.00 +0000", datetime(2026, 3, 14, 15, 3, tzinfo=UTC)),
            ("Sat, 14 Mar 2026 15:03:00 GMT+0100", datetime(2026, 3, 14, 15, 3, tzinfo=self.zone(1))),
            ("Sat, 14 Mar 2026 15:03:00 +0000 (GMT)", datetime(2026, 3, 14, 15, 3, tzinfo=UTC)),
            ("Sat, 14 Mar 2026 15:03:60 +0000", datetime(2026, 3, 14, 15, 3, 59, tzinfo=UTC)),
            ("Sat, (a comment) 14 Mar 2026 15:03 +0000", datetime(2026, 3, 14, 15, 3, tzinfo=UTC)),
            ("yesterday", None),
            ("", None),
            ("Thu, 32 Jan 2026 10:00:00 +0000", None),
        ]:
            with self.subTest(text):
                moment = parse_date(text)
                self.assertEqual(moment, wanted)
                if moment and wanted:
                    self.assertEqual(moment.utcoffset(), wanted.utcoffset())

    def test_what_is_plausible(self) -> None:
        received = datetime(2026, 3, 14, tzinfo=UTC)
        self.assertTrue(plausible(received - timedelta(days=9000), received))
        self.assertFalse(plausible(received + timedelta(days=400), received))
        self.assertFalse(plausible(datetime(1970, 1, 1, tzinfo=UTC), None))
        self.assertFalse(plausible(datetime(2106, 2, 7, tzinfo=UTC), None))

    def test_fallbacks_and_their_notes(self) -> None:
        received = b"Received: from a by b; Sat, 14 Mar 2026 15:03:00 +0000\n"
        older = b"Received: from c by a; Fri, 13 Mar 2026 15:03:00 +0000\n"
        arrival = datetime(2020, 1, 1, tzinfo=UTC)
        for block, wanted, codes in [
            (b"Date: Fri, 13 Mar 2026 15:00:00 +0000\n" + received, "2026-03-13", []),
            (received + older, "2026-03-14", ["date-missing", "date-from-received"]),
            (b"Date: soon\n" + received, "2026-03-14", ["date-unreadable", "date-from-received"]),
            (
                b"Date: Fri, 13 Mar 2037 15:00:00 +0000\n" + received,
                "2026-03-14",
                ["date-absurd", "date-from-received"],
            ),
            (b"Subject: x\n", "2020-01-01", ["date-missing", "date-from-mailbox"]),
        ]:
            with self.subTest(block):
                moment, notes = Header(block).date(arrival)
                assert moment is not None
                self.assertEqual(moment.date().isoformat(), wanted)
                self.assertEqual([note.code for note in notes], codes)
        self.assertEqual(Header(b"Subject: x\n").date()[0], None)


class Fields(unittest.TestCase):
    def test_finding_fields(self) -> None:
        header = Header(
            b"SUBJECT: a\r\nX-Subject: no\r\nTo: b@c.example,\r\n d@e.example\r\nSubject: second\r\nCc : f@g.example\r\n"
        )
        self.assertEqual(header.subject, "a")
        self.assertEqual([a.address for a in header.addresses(b"to")], ["b@c.example", "d@e.example"])
        self.assertEqual(len(header.all_raw(b"subject")), 2)
        self.assertEqual(header.raw(b"cc"), b"f@g.example")  # obsolete syntax, a space before the colon
        self.assertIsNone(header.raw(b"date"))

    def test_where_headers_end(self) -> None:
        for data, end in [
            (b"A: b\n\nc", 6),
            (b"A: b\r\n\r\nc", 8),
            (b"\nc", 1),
            (b"A: b", 4),
            (b"", 0),
            (b"A: b\n\r\nc", 7),
        ]:
            with self.subTest(data):
                self.assertEqual(header_end(data), end)

    def test_against_the_email_package(self) -> None:
        """Random simple headers read the same as the standard library reads them."""
        rng = random.Random(7)
        for _ in range(300):
            words = ["".join(rng.choices("abc dé日ü", k=rng.randrange(1, 9))).strip() or "x" for _ in range(3)]
            message = EmailMessage()
            message["Subject"] = " ".join(" ".join(words).split())
            subject = Header(message.as_bytes()).subject
            self.assertEqual(subject, message["Subject"])


class Parameters(unittest.TestCase):
    def test_cases(self) -> None:
        for raw, value, wanted in [
            (b"text/plain", "text/plain", {}),
            (b"Text/HTML; Charset=UTF-8", "text/html", {"charset": "UTF-8"}),
            (b'a/b; name="x;y.pdf"; z=1', "a/b", {"name": "x;y.pdf", "z": "1"}),
            (b"a/b; filename*=utf-8''caf%C3%A9.pdf", "a/b", {"filename": "café.pdf"}),
            (b"a/b; filename*0*=utf-8''ca; filename*1*=f%C3%A9; filename*2=.pdf", "a/b", {"filename": "café.pdf"}),
            (b"a/b; filename*1=b; filename*0=a", "a/b", {"filename": "ab"}),
            (b'a/b; name="=?utf-8?Q?caf=C3=A9.pdf?="', "a/b", {"name": "café.pdf"}),
            (b"a/b; name=caf\xe9.pdf", "a/b", {"name": "café.pdf"}),
            (b'a/b; name="never closed', "a/b", {"name": "never closed"}),
            (b'a/b; name="C:\\Users\\x.doc"', "a/b", {"name": "C:\\Users\\x.doc"}),
            (b"attachment; filename = spaced.txt", "attachment", {"filename": "spaced.txt"}),
            (b"a/b (comment); x=y", "a/b", {"x": "y"}),
            (b"", "", {}),
        ]:
            with self.subTest(raw):
                self.assertEqual(parse_parameters(raw), (value, wanted))


class Charsets(unittest.TestCase):
    def test_labels(self) -> None:
        for label, codec in [
            ("utf-8", "utf-8"),
            ("UTF8", "utf-8"),
            ("latin1", "cp1252"),
            ("x-sjis", "cp932"),
            ("gb2312", "gb18030"),
            ("ks_c_5601-1987", "cp949"),
            ("windows-1251", "cp1251"),
            ("cp-1250", "cp1250"),
            ("x-mac-roman", "mac-roman"),
            ("unicode-1-1-utf-7", "utf-7"),
            ("made-up", None),
            ("base64", None),
            ("rot13", None),
            ("", None),
            ('"utf-8"', "utf-8"),
            ("iso-8859-8-i", "iso8859-8"),
        ]:
            with self.subTest(label):
                self.assertEqual(codec_for(label), codec)

    def test_decoding(self) -> None:
        for data, label, wanted, code in [
            (b"plain", "", "plain", None),
            ("Möwe".encode(), "utf-8", "Möwe", None),
            ("Möwe".encode("latin-1"), "iso-8859-1", "Möwe", None),
            (b"\x93quoted\x94", "iso-8859-1", "“quoted”", None),
            ("Möwe".encode(), "us-ascii", "Möwe", "charset-wrong"),
            ("Möwe".encode(), "iso-8859-1", "Möwe", "charset-wrong"),
            ("Möwe".encode(), "", "Möwe", "charset-guessed"),
            ("Möwe kreist".encode("cp1252"), "utf-8", "Möwe kreist", "charset-wrong"),
            ("日本語".encode("iso-2022-jp"), "iso-2022-jp", "日本語", None),
            ("日本語".encode("iso-2022-jp"), "us-ascii", "日本語", "charset-wrong"),
            ("Привет".encode("koi8-r"), "koi8-r", "Привет", None),
            ("中文".encode("gb18030"), "gb2312", "中文", None),
            ("한국어".encode("cp949"), "ks_c_5601-1987", "한국어", None),
            ("Grüße".encode("utf-7"), "utf-7", "Grüße", None),
            ("x".encode("utf-16"), "", "x", "charset-guessed"),
        ]:
            with self.subTest((data, label)):
                text, notes = decode(data, label)
                self.assertEqual(text, wanted)
                self.assertEqual([note.code for note in notes], [code] if code else [])

    def test_a_set_for_latin_letters_declared_for_others(self) -> None:
        """Programs write US-ASCII or Latin-1 over whatever their user types; almost any bytes can be read so."""
        for codec, text in [
            ("cp1251", "Причал номер три будет закрыт до вторника."),
            ("koi8-r", "Просим капитанов сообщить, когда придут суда."),
            ("cp1253", "Η προβλήτα τρία θα είναι κλειστή έως την Τρίτη."),
            ("cp1255", "רציף שלוש יהיה סגור לתיקונים עד יום שלישי"),
            ("iso8859-6", "الرصيف الثالث مغلق للإصلاح حتى يوم الثلاثاء"),
            ("cp874", "ท่าเรือหมายเลขสามจะปิดซ่อมจนถึงวันอังคาร"),
            ("gb18030", "三号码头将关闭维修至星期二。请船长通知港口办公室。"),
            ("big5", "三號碼頭將關閉維修至星期二。請船長通知港口辦公室。"),
            ("euc_jp", "第三岸壁は修理のため火曜日まで閉鎖されます。"),
            ("cp949", "3번 부두는 화요일까지 수리를 위해 폐쇄됩니다."),
        ]:
            for label in ("us-ascii", "iso-8859-1", "iso-8859-2", "iso-8859-15"):
                decoded, notes = decode(text.encode(codec), label)
                self.assertEqual((decoded, [note.code for note in notes]), (text, ["charset-wrong"]), label)
                self.assertEqual(decode(text.encode(codec), codec), (text, []), "a true declaration holds")
        text = "Уважаемые коллеги! Причал закрыт до вторника. Просим сообщить, когда придут суда."
        for codec, label in (("koi8-r", "windows-1251"), ("cp1251", "koi8-r")):
            decoded, notes = decode(text.encode(codec), label)
            self.assertEqual((decoded, [note.code for note in notes]), (text, ["charset-wrong"]), label)
            self.assertEqual(decode(text.upper().encode(label), label), (text.upper(), []))
        drawn = "┌──────┬─────┐ │ Tide │ 4 m │ ╞══════╪═════╡ ╚═╩═╝ ░▒▓█▀▄■"
        self.assertEqual(decode(drawn.encode("cp437"), "cp437"), (drawn, []))
        for text in [
            "Der Liegeplatz drei wird für Ausbesserungen geschlossen. Grüße, Jörg Müller",
            "ÜBERGABE DER LIEGEPLÄTZE FÜR GRÖSSERE SCHIFFE. PRÜFUNG MÖGLICH.",
            "þriðja bryggjan verður lokuð vegna viðgerða fram á þriðjudag, ðí",
            "C´est l´avis d´un ami qu´il n´a pas d´heure, jusqu´à l´été; it’s what we don´t know.",
            "“Tide” – 3 °C ± 0,5; § 4; £ 12; ½ berth…",
        ]:
            for label in ("us-ascii", "iso-8859-1"):
                self.assertEqual(decode(text.encode("cp1252"), label), (text, []))

    def test_utf8_declared_as_another_set(self) -> None:
        for (
            label
        ) in "windows-1251 koi8-r iso-8859-2 iso-8859-15 windows-1254 macintosh gb2312 big5 shift_jis euc-kr".split():
            for text in ("Причал номер три закрыт до вторника.", "Grüße aus dem Hafenbüro, schöne Tage!"):
                decoded, notes = decode(text.encode(), label)
                self.assertEqual((decoded, [note.code for note in notes]), (text, ["charset-wrong"]), label)
        for text, codec in (
            ("Ні", "cp1251"),
            ("Вёсла, ещё её", "cp1251"),
            ("联系", "gb18030"),
            ("Â© 2026", "iso8859-15"),
        ):
            self.assertEqual(decode(text.encode(codec), codec), (text, []), "by chance they are UTF-8, or nearly")

    SUBJECTS = [
        ("koi8-r", "Расписание приливов на март"),
        ("koi8-r", "СРОЧНО: дноуглубление у причала 3"),
        ("cp1251", "Причал номер три"),
        ("gb2312", "三号泊位申请"),
        ("gb2312", "来自saltmere的通知"),
        ("gb2312", "关于航道疏浚的通知，请阅。（第３号）"),
        ("big5", "關於航道疏濬的通知"),
        ("big5", "會議紀錄：泊位、疏濬。"),
        ("cp932", "「入港届」をお送りします。ご確認ください。"),
        ("euc_kr", "준설 작업 안내"),
        ("cp932", "三番バースの申請"),
        ("euc_jp", "三番バースの申請"),
        ("iso8859-2", "Zażółć gęślą przystań"),
        ("cp1250", "Nabrzeże nr 3 – ogłoszenie"),
        ("cp1252", "Café à la jetée n° 3"),
        ("cp1252", "ÜBERSICHT DER LIEGEPLÄTZE"),
        ("cp1252", "Preis: 5 € für 20 m³ – “Fähre”"),
        ("cp1253", "Αίτηση για θέση ελλιμενισμού"),
        ("cp1255", "בקשה לעגינה"),
        ("cp874", "ขออนุญาตจอดเรือ"),
    ]

    LINES = [
        (
            "cp1250",
            "Vážený pane, žádáme o povolení kotvení člunu u nábřeží číslo tři. Příliv začíná v šest hodin ráno.",
        ),
        ("iso8859-2", "Tisztelt Hivatal! Kérjük, hogy a kikötőhely díját közölni szíveskedjenek. Üdvözlettel: Győző"),
        ("cp1250", "Szanowni Państwo, prosimy o zgodę na cumowanie łodzi przy nabrzeżu. Z poważaniem, Łukasz Wójcik"),
        ("cp1254", "Sayın Liman Başkanlığı, üç numaralı iskeleye teknemizi bağlamak için izin rica ederiz."),
        ("cp1252", "Kæri herra, við biðjum um leyfi til að leggja bátnum við bryggju þrjú. Virðingarfyllst, Þórður"),
        (
            "cp1252",
            "Nous sollicitons l'autorisation d'amarrer à la jetée numéro trois. La marée débute à six heures, Hélène",
        ),
        ("cp1252", "Solicitamos autorização para atracação da embarcação no cais. A maré começa de manhã. João"),
    ]

    def test_lines_that_nothing_is_said_of(self) -> None:
        for codec, words in self.LINES:
            with self.subTest((codec, words)):
                text, notes = decode(words.encode(codec))
                self.assertEqual((text, [note.code for note in notes]), (words, ["charset-guessed"]))

    def test_headers_in_bytes_that_nothing_is_said_of(self) -> None:
        """A dozen letters have to tell their set; where the header names one, it is that."""
        for codec, words in self.SUBJECTS:
            raw = words.encode(codec)
            with self.subTest((codec, words)):
                header = Header(b'From: "' + raw + b'" <a@b.example>\nSubject: ' + raw + b"\n")
                self.assertEqual((header.subject, header.sender.name), (words, words))
                self.assertEqual([note.code for note in header.notes()], ["charset-guessed"])
        for label, words in (
            ("koi8-r", "Мол"),
            ("gb2312", "会议"),
            ("euc-kr", "회의"),
            ("iso-8859-2", "Ślip"),
            ("euc-jp", "会議の件"),
        ):
            raw = words.encode(label)
            for naming in (
                b"Content-Type: text/plain; charset=" + label.encode(),
                b"To: =?" + label.encode() + b"?q?x?= <c@d.example>",
            ):
                with self.subTest((label, naming)):
                    header = Header(b"From: " + raw + b" <a@b.example>\nSubject: " + raw + b"\n" + naming + b"\n")
                    self.assertEqual((header.subject, header.sender.name), (words, words))
                    self.assertEqual(header.notes(), [])
        self.assertEqual(Header("Subject: Möwe\n".encode()).notes(), [])

    def test_nothing_fails(self) -> None:
        rng = random.Random(3)
        for _ in range(400):
            data = rng.randbytes(rng.randrange(60))
            for label in ("utf-8", "utf-7", "utf-16", "iso-2022-jp", "hz", "made-up", "idna", "utf-8-sig", ""):
                text, _ = decode(data, label)
                text.encode("utf-8")  # no lone surrogate
