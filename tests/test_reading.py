"""Mail of rare kinds: what of it is shown, what is attached, and what is noted."""

from __future__ import annotations

import base64
import binascii
import random
import unittest
import zlib

from tests.helpers import ProgramTest, letter, mbox, pdf_text
from wexagraph.demo.build import file, html, message, multipart, text, when
from wexagraph.demo.unusual import unusual
from wexagraph.languages import Language
from wexagraph.messages.blocks import CalendarBlock, HtmlBlock, TextBlock
from wexagraph.messages.enriched import enriched_to_html
from wexagraph.messages.inlined import InlinedFile, split
from wexagraph.messages.message import Message
from wexagraph.messages.smime import read_signed
from wexagraph.pages.composing.cards import calendar_cards

DEMO = {Message(data).header.subject: data for data in unusual()}


def texts(data: bytes) -> str:
    blocks = Message(data).blocks()
    return "\n".join(
        b.text if isinstance(b, TextBlock) else b.html for b in blocks if isinstance(b, TextBlock | HtmlBlock)
    )


def codes(data: bytes) -> set[str]:
    parsed = Message(data)
    parsed.blocks()
    return {note.code for note in parsed.notes()}


def names(data: bytes) -> list[str]:
    return [attachment.name for attachment in Message(data).attachments]


class FilesInTheText(unittest.TestCase):
    def test_uuencode(self) -> None:
        content = bytes(range(256)) * 3
        lines = b"".join(binascii.b2a_uu(content[at : at + 45]) for at in range(0, len(content), 45))
        for written, end in ((lines, b"\n"), (lines, b"\r\n"), (lines.replace(b" ", b"`"), b"\n")):
            body = (b"before\nbegin 644 all bytes.bin\n" + written + b"`\nend\nafter\n").replace(b"\n", end)
            before, files, after = split(body)
            assert isinstance(files, InlinedFile)
            self.assertEqual((files.name, files.content, files.whole), (b"all bytes.bin", content, True))
            self.assertEqual((before.strip(), after.strip()), (b"before", b"after"))
        cut = split(b"begin 644 cut.bin\n" + lines[:200])[0]
        assert isinstance(cut, InlinedFile)
        self.assertFalse(cut.whole)
        self.assertTrue(content.startswith(cut.content[:45]))

    def test_prose_stays_prose(self) -> None:
        for words in (
            b"begin 644 words with care\nand go on\nend\n",
            b"we begin 644\n",
            b"=ybegin nothing\n",
            b"begin\n",
        ):
            self.assertEqual(split(words), [words])

    def test_yenc(self) -> None:
        content = random.Random(5).randbytes(4000)
        encoded = b"".join(
            b"=" + bytes([(v + 106) % 256]) if (v + 42) % 256 in (0, 10, 13, 61) else bytes([(v + 42) % 256])
            for v in content
        )
        lines = b"\r\n".join(encoded[at : at + 128] for at in range(0, len(encoded), 128))
        end = b"\r\n=yend size=4000 crc32=%08x\r\n" % binascii.crc32(content)
        # a line end inside an escape would be another text; this seed has none
        decoded = split(b"=ybegin line=128 size=4000 name=a b.bin\r\n" + lines + end)[0]
        assert isinstance(decoded, InlinedFile)
        self.assertEqual((decoded.name, decoded.content, decoded.whole), (b"a b.bin", content, True))
        damaged = split(b"=ybegin line=128 size=4000 name=x\r\n" + lines.replace(b"ab", b"a", 1)[:-9] + end)[0]
        assert isinstance(damaged, InlinedFile)
        self.assertFalse(damaged.whole)

    def test_on_the_page(self) -> None:
        for subject, name, words in [
            ("Old program, old file", "log.txt", "Piet"),
            ("Picture from a news reader", "gull.gif", "gull again"),
        ]:
            self.assertEqual(names(DEMO[subject]), [name])
            self.assertIn(words, texts(DEMO[subject]))
            self.assertNotIn("begin", texts(DEMO[subject]))


class Kinds(unittest.TestCase):
    def test_enriched(self) -> None:
        for source, wanted in [
            ("<bold>b</bold> << x", "<b>b</b> &lt; x"),
            ("one\ntwo\n\nthree\n\n\nfour", "one two<br>three<br><br>four"),
            ("<color><param>red</param>r</color>", '<span style="color:red">r</span>'),
            ("<color><param>FFFF,0000,8080</param>r</color>", '<span style="color:#FF0080">r</span>'),
            ("<nofill>a\nb</nofill>", "<pre>a\nb</pre>"),
            ("<x-unknown>kept</x-unknown> & <script>", "kept &amp; "),
        ]:
            with self.subTest(source):
                self.assertEqual(enriched_to_html(source), wanted)
        self.assertEqual(enriched_to_html("a<nl>b<lt>c\nd", rich=True), "a<br>b&lt;c d")

    def test_reports_and_references(self) -> None:
        report = texts(DEMO["Undelivered: Dues for August"])
        for words in ("could not be delivered", "5.1.1 No such berth holder", "Subject: Dues for August"):
            self.assertIn(words, report)
        self.assertIn("files.quaysurvey.example/soundings.zip", texts(DEMO["Soundings kept on our server"]))
        self.assertEqual(codes(DEMO["Soundings kept on our server"]), {"kept-elsewhere"})

    def test_signatures(self) -> None:
        data = DEMO["Payment, signed and sealed in one file"]
        self.assertIn("Der Liegeplatz ist bezahlt. Gr\u00fc\u00dfe", texts(data))
        self.assertEqual((codes(data), names(data)), ({"signed"}, ["smime.p7m"]))
        self.assertIn("Aoife Lindqvist", str(Message(data).notes()[0]))
        sealed = Message(data).attachments[0].content()
        for damage in (
            b"",
            b"0",
            sealed[:40],
            sealed[:-200],
            b"\x30\x80" * 400,
            sealed.replace(b"\x06\x09", b"\x06\xff", 1),
        ):
            read_signed(damage)  # whatever comes back, nothing is raised
        pem = b"-----BEGIN PKCS7-----\n" + base64.encodebytes(sealed) + b"-----END PKCS7-----\n"
        signature = read_signed(pem)
        assert signature is not None
        self.assertEqual(signature.signers, ["Aoife Lindqvist"])

    def test_what_a_note_tells_steers_nothing(self) -> None:
        sealed = Message(DEMO["Payment, signed and sealed in one file"]).attachments[0].content()
        steering = sealed.replace(b"Aoife Lindqvist", b"Ao\x00fe \x1b[2Jqvist")
        data = b"Content-Type: application/pkcs7-mime; smime-type=signed-data\nContent-Transfer-Encoding: base64\n\n"
        notes = Message(data + base64.encodebytes(steering)).notes()
        self.assertEqual(
            [note.detail.partition(";")[0] for note in notes if note.code == "signed"], ["by Aofe [2Jqvist"]
        )

    def test_what_would_take_minutes(self) -> None:
        """Elements that nest without bound, and beginnings of files that none follow: read in an instant."""
        deep = Message(b"Content-Type: text/html\n\n" + b"<div>" * 100_000 + b"words")
        self.assertIn("words", texts(bytes(deep.data)))
        self.assertIn("body-too-deep", {note.code for note in deep.notes()})
        many = b"Content-Type: text/html\n\n" + b"<p>a<br><b>b</b><li>c" * 8000
        self.assertNotIn("body-too-deep", {note.code for note in Message(many).notes()})
        lines = b"begin 644 x\n" * 100_000
        self.assertEqual(names(b"Content-Type: text/plain\n\n" + lines), [])

    def test_encrypted_is_said_and_kept(self) -> None:
        data = DEMO["Encrypted bill"]
        self.assertEqual((codes(data), len(names(data))), ({"encrypted"}, 2))
        self.assertIn(
            "encrypted", codes(letter(body="-----BEGIN PGP MESSAGE-----\n\nhQEMA\n-----END PGP MESSAGE-----\n"))
        )

    def test_openpgp_within_a_text(self) -> None:
        sealed = "-----BEGIN PGP MESSAGE-----\n\nhQEMA\n-----END PGP MESSAGE-----\n"
        signed = "-----BEGIN PGP SIGNED MESSAGE-----\nHash: SHA256\n\nGood morning\n"
        for before in ("", "Good morning,\n\nbelow is the bill.\n\n", "\r\n"):
            self.assertEqual(codes(letter(body=before + sealed)), {"encrypted"}, before)
            self.assertEqual(codes(letter(body=before + signed)), {"signed"}, before)
        html = f"Content-Type: text/html\n\n<p>Hello<br>{sealed.replace(chr(10), '<br>')}</p>"
        self.assertEqual(codes(html.encode()), {"encrypted"})
        said = "> they wrote: -----BEGIN PGP MESSAGE----- and what follows is nothing\n"
        self.assertEqual(codes(letter(body=said)), set(), "a text about it is none")

    def test_compressed_data_is_unpacked(self) -> None:
        """CMS CompressedData (RFC 3274), written here octet by octet."""

        def der(tag: int, *parts: bytes) -> bytes:
            body = b"".join(parts)
            size = len(body).to_bytes(4, "big").lstrip(b"\0") or b"\0"
            length = size if len(body) < 128 else bytes([0x80 | len(size)]) + size
            return bytes([tag]) + length + body

        def packed(entity: bytes) -> bytes:
            kinds = [bytes.fromhex(f"2a864886f70d01{end}") for end in ("0701", "09100109", "09100308")]
            data, compressed, zlib_alg = (der(6, kind) for kind in kinds)
            inner = der(0x30, data, der(0xA0, der(4, zlib.compress(entity))))
            return der(0x30, compressed, der(0xA0, der(0x30, der(2, b"\0"), der(0x30, zlib_alg), inner)))

        by_name = "application/octet-stream; name=smime.p7"
        enveloped = der(0x30, der(6, bytes.fromhex("2a864886f70d010703")), der(0xA0, der(0x30, der(2, b"\0"))))
        for kind, content, wanted in (
            (f"{by_name}m", enveloped, {"encrypted"}),
            (f"{by_name}m", b"notes on berths", set()),
            ("application/octet-stream; name=smime.bin", enveloped, set()),
        ):
            head = f"Content-Type: {kind}\nContent-Transfer-Encoding: base64\n\n".encode()
            self.assertEqual(codes(head + base64.encodebytes(content)), wanted, kind)
        mime = "application/pkcs7-mime"
        for kind in (f"{by_name}z", f"{by_name}m", f"{mime}; smime-type=compressed-data", mime):
            head = f"Content-Type: {kind}\nContent-Transfer-Encoding: base64\n\n".encode()
            whole = packed(b"Content-Type: text/plain\n\nThe tide table of March.\n" * 20)
            data = head + base64.encodebytes(whole)
            self.assertIn("The tide table of March.", texts(data))
            self.assertEqual(codes(data), {"unpacked"})
            self.assertEqual(len(names(data)), 1, "the file is kept too")
        bomb = packed(b"Content-Type: text/plain\n\n" + b"a" * (257 << 20))
        for damage in (whole[:60], whole[:-40], bomb):
            self.assertEqual(codes(head + base64.encodebytes(damage)), {"encrypted"})

    def test_calendar(self) -> None:
        data = DEMO["Moved: Berthing meeting"]
        cards = [b for b in Message(data).blocks() if isinstance(b, CalendarBlock)]
        self.assertEqual(len(cards), 1, "the same invitation, sent twice, is one card")
        ((title, rows),) = calendar_cards(cards[0].part.content(), None, Language())
        fields = dict(rows)
        self.assertEqual(title, "Invitation: Berthing meeting, autumn")
        self.assertRegex(fields["When"], r" 09:00 .*\(UTC\+01:00\)\nto .* 10:30 .*\(UTC\+01:00\)$")
        self.assertEqual(fields["Repeats"], "every month, 3 times")
        self.assertIn("Tomas Wray <tomas.wray@saltmere.example>, accepted", fields["Invited"])
        self.assertIn("2. Winter berths", fields["Text"])
        for broken in (
            b"",
            b"BEGIN:VCALENDAR\r\nBEGIN:VEVENT\r\nDTSTART:rubbish\r\nEND:VEVENT\r\n",
            b"\xff\xfe\0\0",
            b"BEGIN:VEVENT",
        ):
            calendar_cards(broken, None, Language())

    def test_whole_days(self) -> None:
        event = b"BEGIN:VCALENDAR\r\nBEGIN:VEVENT\r\nSUMMARY:Regatta\r\nDTSTART;VALUE=DATE:20260703\r\nDTEND;VALUE=DATE:20260705\r\nEND:VEVENT\r\nEND:VCALENDAR\r\n"
        self.assertEqual(
            calendar_cards(event, None, Language())[0][1], [("When", "Friday 3 July 2026 to Saturday 4 July 2026")]
        )

    def test_alternatives(self) -> None:
        for parts, wanted, unwanted in [
            ([text("plain"), html("<p>rich</p>")], "rich", "plain"),
            ([html("<p>rich</p>"), text("plain")], "rich", "plain"),
            ([text("plain"), html("<html><head><title>x</title></head><body>&nbsp;<br></body></html>")], "plain", "x"),
            (
                [text("plain"), multipart("related", html("<p>rich</p>"), file("a.png", "image/png", b"x", cid="a"))],
                "rich",
                "plain",
            ),
            (
                [text("plain"), multipart("mixed", html("<p>rich</p>"), file("a.pdf", "application/pdf", b"x"))],
                "rich",
                "plain",
            ),
        ]:
            data = message(
                "a@saltmere.example", "b@saltmere.example", "s", when("2026-03-14"), multipart("alternative", *parts)
            )
            with self.subTest(wanted):
                self.assertIn(wanted, texts(data))
                self.assertNotIn(unwanted, texts(data))

    def test_nothing_is_left_out(self) -> None:
        data = DEMO["Words outside the parts"]
        for words in ("fax was received twice", "The part itself.", "answers go to the list"):
            self.assertIn(words, texts(data))
        self.assertEqual((codes(data), len(names(data))), ({"left-over"}, 2))
        usual = multipart("mixed", text("the part"))
        quiet = b"Subject: x\n" + usual.header + b"\nThis is a multi-part message in MIME format.\n" + usual.body
        self.assertEqual((texts(quiet).strip(), names(quiet)), ("the part", []))
        twice = DEMO["One subject"]
        self.assertIn("This line is no field", texts(twice))
        self.assertEqual(codes(twice), {"left-over", "field-repeated"})
        self.assertIn("kept", texts(b"Content-Type: text/x-unknown\n\nkept\n"), "an unknown text is plain text")


class Shown(ProgramTest):
    def test_a_page_of_each(self) -> None:
        self.write("rare.mbox", mbox(*DEMO.values()))
        self.run_program("export", "rare.mbox", "--into", "out", "--zone", "Europe/Lisbon")
        texts = {path.name: pdf_text(path) for path in (self.folder / "out").rglob("*.pdf")}
        for name, words in [
            ("Undelivered", "No such berth holder"),
            ("signed and sealed", "Der Liegeplatz ist bezahlt"),
            ("Digest", "It is a harbour."),
            ("coloured ink", "All buoys are painted in May."),
            ("Words outside", "the log of the night watch"),
            ("Moved", "every month, 3 times"),
            ("One subject", "Another subject"),
            ("confirm", "[https://login.thieves.example/saltmere]"),
            ("confirm", "[mailto:fish@thieves.example]"),
            ("three in one", "It drifts."),
        ]:
            page = next(text for file, text in texts.items() if name in file)
            self.assertIn(words, " ".join(page.split()), name)
        phish = next(text for file, text in texts.items() if "confirm" in file)
        self.assertNotIn("lottery", phish)
        self.assertNotIn("[https://www.saltmere-savings.example/terms]", phish)
        self.run_program("export", "rare.mbox", "--subject", "confirm", "--into", "all", "--show-hidden")
        self.assertIn("lottery", pdf_text(next((self.folder / "all").rglob("*.pdf"))))
