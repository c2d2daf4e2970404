"""The structure of messages: our reading against the email package's, damage, depth, and what is shown."""

from __future__ import annotations

import base64
import email
import email.policy
import random
import re
import unittest

from tests.helpers import png
from wexagraph.demo.build import file, forwarded, html, message, multipart, text, when
from wexagraph.messages.blocks import HtmlBlock, MessageBlock, PictureBlock, TextBlock
from wexagraph.messages.enriched import paragraphs
from wexagraph.messages.message import Message
from wexagraph.messages.mime import decode_transfer, parse


def mail(body: object) -> bytes:
    return message("a@b.example", "c@d.example", "x", when("2026-03-14"), body)  # type: ignore[arg-type]


class Structure(unittest.TestCase):
    def test_against_the_email_package(self) -> None:
        """Random trees: every leaf's type and bytes as the standard library has them."""
        rng = random.Random(11)

        def piece(depth: int) -> object:
            kind = rng.choice(["text", "html", "file", "multi", "multi"] if depth < 4 else ["text", "file"])
            if kind == "text":
                return text(rng.choice(["plain\n", "Möwe\nund mehr\n", "", "--almost\n-- a boundary--\n"]))
            if kind == "html":
                return html("<p>x</p>\n")
            if kind == "file":
                return file(
                    rng.choice(["a.pdf", "ü.txt", "x y.bin"]), "application/pdf", rng.randbytes(rng.randrange(300))
                )
            return multipart(
                rng.choice(["mixed", "related", "alternative"]), *(piece(depth + 1) for _ in range(rng.randrange(1, 4)))
            )

        for _ in range(150):
            data = mail(piece(0))
            if rng.random() < 0.5:
                data = data.replace(b"\n", b"\r\n")
            theirs = [
                (part.get_content_type(), part.get_payload(decode=True))
                for part in email.message_from_bytes(data, policy=email.policy.compat32).walk()
                if not part.is_multipart()
            ]
            ours = [(part.type, part.content()) for part in parse(data)[0].walk() if not part.children]
            self.assertEqual([kind for kind, _ in ours], [kind for kind, _ in theirs])
            for (_, mine), (_, other) in zip(ours, theirs, strict=True):
                self.assertEqual(mine.replace(b"\r\n", b"\n").rstrip(), other.replace(b"\r\n", b"\n").rstrip())

    def test_a_missing_end(self) -> None:
        root, notes = parse(mail(multipart("mixed", text("one\n"), text("two"), closed=False)))
        self.assertEqual([part.content().strip() for part in root.children], [b"one", b"two"])
        self.assertEqual([note.code for note in notes], ["boundary-missing"])

    def test_a_boundary_that_the_header_does_not_name(self) -> None:
        whole = mail(multipart("mixed", text("one\n"), file("a.pdf", "application/pdf", b"%PDF-")))
        named = Message(whole).root.parameters["boundary"].encode()
        for other in (b"other", b"'" + named + b"'", b""):
            root, notes = parse(whole.replace(named, other, 1))
            self.assertEqual([part.content().strip() for part in root.children], [b"one", b"%PDF-"], other)
            self.assertEqual([note.code for note in notes], ["boundary-wrong"])
        for words in ("-- \nInes", "--\nInes", "-----\none\n-----\n--------\n", "--note\none\n--note\n"):
            plain = mail(text(words)).replace(b"text/plain", b'multipart/mixed; boundary="x"', 1)
            root, notes = parse(plain)
            self.assertEqual((root.children, root.type, notes), ([], "text/plain", []), words)

    def test_an_inner_end_missing_ends_with_its_parent(self) -> None:
        inner = multipart("alternative", text("inner\n"), closed=False)
        root, _ = parse(mail(multipart("mixed", inner, text("outer\n"))))
        self.assertEqual(len(root.children), 2)
        self.assertEqual(root.children[1].content().strip(), b"outer")

    def test_five_hundred_levels(self) -> None:
        body = text("innermost\n")
        for number in range(500):
            body = multipart(f"mixed; level={number}", body)
        root, notes = parse(mail(body))
        self.assertIn("nesting-too-deep", [note.code for note in notes])
        self.assertIn(b"innermost", list(root.walk())[-1].content())

    def test_no_header_at_all(self) -> None:
        for data in (b"just words\nand more\n", b"", b"\n\nwords", b"\0\0\0"):
            with self.subTest(data):
                root, _ = parse(data)
                self.assertEqual(root.content().strip(), data.strip())

    def test_the_first_delimiter_ends_a_header_that_has_no_empty_line(self) -> None:
        whole = mail(multipart("mixed", text("one\n"), file("a.pdf", "application/pdf", b"%PDF-")))
        wanted = [(part.type, part.content()) for part in Message(whole).root.walk()]
        habit = b"This is a multi-part message in MIME format.\n"
        for empty, end in ((b"", b"\n"), (b" \n", b"\n"), (b"\t \n", b"\n"), (b" \n", b"\r\n"), (habit, b"\n")):
            read = Message(whole.replace(b"\n\n", b"\n" + empty, 1).replace(b"\n", end))
            parts = [(part.type, part.content().replace(b"\r\n", b"\n")) for part in read.root.walk()]
            self.assertEqual(parts, wanted, (empty, end))
            self.assertEqual((read.header.subject, [note.code for note in read.notes()]), ("x", []))
        read = Message(b"From: a@b.example\nSubject: x\nHere is the multipart form.\n")
        self.assertIn(
            "Here is the multipart form.", [b.text.strip() for b in read.blocks() if isinstance(b, TextBlock)]
        )

    def test_a_parameter_that_begins_a_line_as_a_field_does(self) -> None:
        letter = mail(multipart("mixed", text("Words."), file("a.zip", "application/zip", b"PK\x05\x06" + bytes(18))))
        broken = re.sub(rb";\s+(?=boundary=|name=)", b";\n", letter)
        self.assertNotEqual(broken, letter)
        message = Message(broken)
        self.assertEqual([(a.name, a.content()[:2]) for a in message.attachments], [("a.zip", b"PK")])
        self.assertEqual(message.notes(), [])
        inside = b"Content-Type: text/plain;\ncharset=utf-8\nno field; but\nx;\ny=1\nz;\nw=2\n\nmore\n"
        part = parse(b"Content-Type: multipart/mixed; boundary=q\n\n--q\n" + inside + b"--q--\n")[0].children[0]
        self.assertEqual(part.content().strip(), inside[inside.index(b"no field") :].strip())

    def test_the_last_delimiter_with_something_behind_it(self) -> None:
        letter = mail(multipart("mixed", text("One."), text("Two.")))
        mark = b"--" + parse(letter)[0].parameters["boundary"].encode() + b"--"
        for more, left in ((b">", b">"), (b"> what?", b"> what?"), (b"\x00", b"\x00"), (b"x", None), (b" x", None)):
            root, notes = parse(letter.replace(mark, mark + more))
            codes = [note.code for note in notes]
            self.assertEqual(codes, ["boundary-missing"] if left is None else [], more)
            if left is not None:
                start, end = root.outside[-1]
                self.assertEqual((len(root.children), root.data[start:end].strip()), (2, left))

    def test_sizes_without_decoding(self) -> None:
        for length in range(0, 200, 7):
            part = parse(mail(file("x", "a/b", b"x" * length)))[0]
            self.assertLessEqual(abs(part.size() - length), 1)


class Transfer(unittest.TestCase):
    def test_damage(self) -> None:
        for data, encoding, wanted, whole in [
            (b"aGVsbG8=", "base64", b"hello", True),
            (b"aGVs\r\nbG8=\r\n", "Base64", b"hello", True),
            (b"aGVsbG8", "base64", b"hello", False),
            (b"aGV#sb*G8=", "base64", b"hello", True),
            (b"aGVsbG8=aGVsbG8=", "base64", None, False),
            (b"=48=65llo=\n", "quoted-printable", b"Hello", True),
            (b"a=\r\nb  \nc", "quoted-printable", b"ab\nc", True),
            (b"50=% of =ZZ", "quoted-printable", b"50=% of =ZZ", False),
            (b"begin 644 x\n%:&5L;&\\\n`\nend\n", "x-uuencode", b"hello", True),
            (
                b'begin 644 x\n":&D_\n`\nend\n',
                "x-uuencode",
                b"hi",
                True,
            ),  # its last group is filled up with another sign
            (b"as it is", "8bit", b"as it is", True),
            (b"as it is", "made-up", b"as it is", True),
        ]:
            with self.subTest((data, encoding)):
                decoded, is_whole = decode_transfer(data, encoding)
                if wanted is not None:
                    self.assertEqual(decoded, wanted)
                self.assertEqual(is_whole, whole)

    def test_spaces_without_end_take_no_endless_time(self) -> None:
        decode_transfer(b"=20" + b" " * 3_000_000 + b"x", "quoted-printable")


class Shown(unittest.TestCase):
    def blocks(self, body: object, plain: bool = False) -> list[str]:
        return [type(block).__name__ for block in Message(mail(body)).blocks(plain)]

    def names(self, body: object) -> list[str]:
        return [attachment.name for attachment in Message(mail(body)).attachments]

    def test_alternatives(self) -> None:
        both = multipart("alternative", text("t\n"), html("<p>h</p>"))
        self.assertEqual(self.blocks(both), ["HtmlBlock"])
        self.assertEqual(self.blocks(both, plain=True), ["TextBlock"])
        self.assertEqual(self.names(both), [])
        self.assertEqual(self.blocks(multipart("alternative", text("t\n"), html(""))), ["TextBlock"])

    def test_related_inside_and_outside(self) -> None:
        picture = file("p.png", "image/png", png(), cid="p@x")
        page = html('<img src="cid:p@x">')
        for body in (
            multipart("alternative", text("t"), multipart("related", page, picture)),
            multipart("related", multipart("alternative", text("t"), page), picture),
            multipart("mixed", page, picture),
        ):
            with self.subTest(bytes(body)):
                parsed = Message(mail(body))
                self.assertEqual([type(b) for b in parsed.blocks()], [HtmlBlock])
                self.assertEqual(parsed.attachments, [])
                self.assertIsNotNone(parsed.picture("cid:p@x"))

    def test_a_picture_nobody_refers_to_is_an_attachment(self) -> None:
        body = multipart("related", html("<p>no picture</p>"), file("p.png", "image/png", b"png", cid="p@x"))
        self.assertEqual(self.names(body), ["p.png"])

    def test_texts_in_their_order(self) -> None:
        body = multipart("mixed", text("one\n"), file("p.jpg", "image/jpeg", b"x", disposition="inline"), text("two\n"))
        blocks = Message(mail(body)).blocks()
        self.assertEqual([type(block) for block in blocks], [TextBlock, PictureBlock, TextBlock])

    def test_a_forwarded_message_is_shown_and_attached(self) -> None:
        inner = message("e@f.example", "g@h.example", "inner subject", when("2026-03-13"), text("inner words\n"))
        parsed = Message(mail(multipart("mixed", text("see below\n"), forwarded(inner))))
        block = parsed.blocks()[1]
        assert isinstance(block, MessageBlock)
        self.assertEqual(Message(block.data).header.subject, "inner subject")
        self.assertEqual([a.name for a in parsed.attachments], ["inner subject.eml"])
        self.assertEqual(parsed.attachments[0].content().strip(), inner.strip())

    def test_files_that_are_text(self) -> None:
        self.assertEqual(self.names(multipart("mixed", text("x\n"), file("a.txt", "text/plain", b"y"))), ["a.txt"])

    def test_encrypted(self) -> None:
        parsed = Message(
            mail(
                multipart("encrypted", file("", "application/pgp-encrypted", b"Version: 1"), file("m.asc", "a/b", b"?"))
            )
        )
        self.assertIn("encrypted", [note.code for note in parsed.notes()])
        self.assertEqual(len(parsed.attachments), 2)

    def test_base64_of_text(self) -> None:
        data = b"Content-Type: text/plain; charset=utf-8\nContent-Transfer-Encoding: base64\n\n" + base64.b64encode(
            "Möwe".encode()
        )
        block = Message(data).blocks()[0]
        assert isinstance(block, TextBlock)
        self.assertEqual(block.text, "Möwe")


class Flowed(unittest.TestCase):
    def test_cases(self) -> None:
        for source, flowed, delsp, wanted in [
            ("a \nb\nc", True, False, [(0, "a b\nc")]),
            ("a \nb", True, True, [(0, "ab")]),
            ("a \nb", False, False, [(0, "a \nb")]),
            ("> a \n> b\nc", True, False, [(1, "a b"), (0, "c")]),
            (">> a\n> b\nc", False, False, [(2, "a"), (1, "b"), (0, "c")]),
            ("> > a\nb", False, False, [(2, "a"), (0, "b")]),
            ("-- \nname", True, False, [(0, "-- \nname")]),
            (" >stuffed", True, False, [(0, ">stuffed")]),
        ]:
            with self.subTest(source):
                self.assertEqual([tuple(p) for p in paragraphs(source, flowed, delsp)], wanted)
