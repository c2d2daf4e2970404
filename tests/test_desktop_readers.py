"""The readers of MSG, TNEF and personal folder files against libraries that did not make them, and against damage."""

from __future__ import annotations

import email
import email.policy
import io
import os
import random
import tempfile
import time
import unittest
from collections.abc import Callable, Iterator
from contextlib import suppress
from pathlib import Path

import compressed_rtf
import olefile
import pypff
import tnefparse
from RTFDE.deencapsulate import DeEncapsulator

from tests.desktop_mail import BINARY, CATEGORIES, Letter, letter, msg, number, packed, pst, tnef, wide
from wexagraph.errors import MessageError, WexagraphError
from wexagraph.messages.mapi import rtf
from wexagraph.messages.mapi.compound import CompoundFile, in_memory
from wexagraph.messages.mapi.fields import subject_of
from wexagraph.messages.mapi.mail import mail_of
from wexagraph.messages.mapi.msg import read_item as read_msg
from wexagraph.messages.mapi.rtf_html import html_of
from wexagraph.messages.mapi.tnef import read_item as read_tnef
from wexagraph.messages.message import Message
from wexagraph.sources import open_source
from wexagraph.sources.pst.store import PersonalFolders

LAYOUTS = ("unicode", "ansi", "large")
_SECONDS = 30.0  # of a processor: what has no end takes longer on any machine
_WORDS = "berth tide pilot mooring ledger 潮位表 Möwe İskele причал".split()
HTML_IN_RTF = (
    r"{\rtf1\ansi\ansicpg1252\fromhtml1 \deff0{\fonttbl{\f0\fswiss Arial;}{\f1\fnil\fcharset204 Arial;}}"
    r"{\*\htmltag64 <html>}{\*\htmltag64 <p>}\htmlrtf {\htmlrtf0 The barge \'e9t\'e9 {\*\htmltag84 <b>}\htmlrtf {\b"
    r"\htmlrtf0 leaves\htmlrtf }\htmlrtf0 {\*\htmltag92 </b>} \u1087?\u1088? at\htmlrtf\line\htmlrtf0 {\*\htmltag84 &nbsp;}"
    r"\htmlrtf ~\htmlrtf0 nine\htmlrtf\par}\htmlrtf0 {\*\htmltag72 </p>}{\*\htmltag64 </html>}}"
).encode("ascii")


def letters(rng: random.Random, count: int) -> list[Letter]:
    """Letters of all kinds: sizes about every border of the forms, files, letters in letters, many people."""

    def words(most: int) -> str:
        return " ".join(rng.choices(_WORDS, k=rng.randrange(most)))

    made = []
    for place in range(count):
        html = f"<p>{words(60)}</p>".encode() * rng.choice([0, 1, 1, 60, 900])
        files = [
            (f"{words(3)} {n}.bin", rng.randbytes(rng.choice([0, 1, 63, 64, 4095, 4096, 30_000]))) for n in range(2)
        ]
        more = {0x1009: (BINARY, packed(HTML_IN_RTF))} if rng.random() < 0.3 else {}
        people = [(words(4) or "X", f"p{n}@saltmere.example", 1 + n % 3) for n in range(rng.choice([0, 1, 3, 60]))]
        inside = [letter(f"inner {words(3)}", words(9), files=files[:1])] if rng.random() < 0.2 else []
        made.append(
            letter(
                f"{place} {words(8)}",
                words(rng.choice([1, 30, 2000])),
                html,
                files=files[: rng.randrange(3)],
                people=people,
                inside=inside,
                more=more,
            )
        )
    return made


class Cut(unittest.TestCase):
    def test_cut_anywhere_what_is_gone_is_told(self) -> None:
        """A file that ends early has a note, wherever it ends: in its directory too, where an attachment is named."""
        whole = msg(letter("Plan", "The plan is attached.", files=[("plan.bin", b"berth" * 3000), ("b.txt", b"b")]))
        names = {each.name for each in Message(mail_of(read_msg(in_memory(whole)))).attachments}
        self.assertEqual(names, {"plan.bin", "b.txt"})
        cut = 0
        for end in range(512, len(whole), 512):
            with suppress(MessageError):
                message = Message(mail_of(read_msg(in_memory(whole[:end]))))
                if {each.name for each in message.attachments if len(each.content()) in (15000, 1)} != names:
                    cut += 1
                    self.assertIn("damaged", str(message.header.block), end)
        self.assertGreater(cut, 3)


class AgainstJudges(unittest.TestCase):
    def test_every_stream_of_a_compound_file(self) -> None:
        rng = random.Random(11)
        for each in letters(rng, 12):
            data = msg(each)
            ours, judge = in_memory(data), olefile.OleFileIO(io.BytesIO(data))
            self.assertFalse(judge.parsing_issues)
            paths = judge.listdir(streams=True, storages=False)
            self.assertGreater(len(paths), 10)
            for path in paths:
                self.assertEqual(_stream(ours, path), judge.openstream(path).read(), path)

    def test_letters_come_out_as_they_went_in(self) -> None:
        rng = random.Random(12)
        for each in letters(rng, 25):
            for form, read in (("msg", _from_msg), ("tnef", _from_tnef)):
                parsed = email.message_from_bytes(read(each), policy=email.policy.default)
                self.assertEqual(parsed["wexagraph-made-from"].split(";")[0], form)
                self.assertFalse([defect for part in parsed.walk() for defect in part.defects])
                self._is(each, parsed)

    def _is(self, each: Letter, parsed: email.message.EmailMessage) -> None:
        """Every property of a letter that a reader sees stands in what the standard library reads."""
        properties = each.properties
        self.assertEqual(parsed["subject"], _text(properties[0x37][1]).strip())
        named = [_text(person[0x3001][1]) for person in each.recipients]
        addresses = [
            one for name in ("to", "cc", "bcc") for field in parsed.get_all(name, []) for one in field.addresses
        ]
        self.assertEqual(
            sorted(one.display_name for one in addresses), sorted(" ".join(name.split()) for name in named)
        )
        plain = parsed.get_body(("plain",))
        html = parsed.get_body(("html",))
        if _text(properties[0x1000][1]):
            assert plain is not None
            self.assertEqual(plain.get_content().replace("\r\n", "\n").strip("\n"), _text(properties[0x1000][1]))
        if 0x1013 in properties:
            assert html is not None
            self.assertEqual(html.get_payload(decode=True), properties[0x1013][1])
        elif 0x1009 in properties:
            assert html is not None
            self.assertIn("<b>leaves</b> пр at&nbsp;nine", html.get_content())
        files = [part for part in parsed.iter_attachments() if part.get_content_type() != "message/rfc822"]
        contents = {" ".join(_text(a[0x3707][1]).split()): a[0x3701][1] for a in each.attachments}
        self.assertEqual({part.get_filename(): part.get_payload(decode=True) for part in files}, contents)
        inner = [
            part.get_content() for part in parsed.iter_attachments() if part.get_content_type() == "message/rfc822"
        ]
        self.assertEqual(len(inner), len(each.inside))
        for letter_, message in zip(each.inside, inner, strict=True):
            self._is(letter_, message)

    def test_rich_text(self) -> None:
        rng = random.Random(13)
        for size in (0, 1, 100, 4095, 4096, 4097, 20_000):
            content = b"{\\rtf1 " + " ".join(rng.choices(_WORDS, k=size)).encode("ascii", "ignore")[:size] + b"}"
            data = packed(content)
            self.assertEqual(rtf.unpacked(data), compressed_rtf.decompress(data))
            self.assertEqual(rtf.unpacked(compressed_rtf.compress(content, False)), content)
        judge = DeEncapsulator(HTML_IN_RTF)
        judge.deencapsulate()
        kind, html = rtf.inside(HTML_IN_RTF)
        self.assertEqual((kind, "".join(html.split())), ("html", "".join(judge.html.decode("utf-8").split())))

    def test_rich_text_of_its_own(self) -> None:
        content = (
            rb"{\rtf1\ansi\ansicpg1252{\fonttbl{\f0 Arial;}}{\colortbl;\red200\green0\blue0;}\pard\b Berth\b0  {\i four}"
            rb'\par{\field{\*\fldinst{HYPERLINK "https://saltmere.example/x"}}{\fldrslt the quay}}\par'
            rb"\trowd\pard\intbl One\cell Two & 3\cell\row\pard{\cf1\fs40 red}\line\u8364?{\v hidden}{\*\generator x}}"
        )
        html = html_of(content)
        for piece in (
            "<b>Berth</b> <i>four</i>",
            '<a href="https://saltmere.example/x">the quay</a>',
            "<td>One</td><td>Two &amp; 3</td>",
            'style="font-size:20pt;color:#c80000;">red</span><br>€',
        ):
            self.assertIn(piece, html)
        self.assertNotIn("hidden", html)
        self.assertNotIn("generator", html)

    def test_wrappers(self) -> None:
        rng = random.Random(14)
        for each in letters(rng, 12):
            data = tnef(each)
            item, judge = read_tnef(data), tnefparse.TNEF(data)
            assert item is not None
            attached = [one for one in item.attachments() if one.item is None]
            self.assertFalse(item.damage)
            theirs = [bytes(one.data) for one in judge.attachments[: len(attached)]]
            self.assertEqual([one.properties.binary(0x3701) for one in attached], theirs)

    def test_personal_folder_files(self) -> None:
        """Each layout and each encoding, against a library that reads them."""
        rng = random.Random(15)
        with tempfile.TemporaryDirectory() as folder:
            for layout in LAYOUTS:
                for coding in (0, 1, 2):
                    path = Path(folder) / f"{layout}{coding}.pst"
                    many = [letter(f"n {n}") for n in range(300)] if coding == 1 else []
                    pst(path, {"Inbox": letters(rng, 8), "Inbox/Berths": many, "Sent": letters(rng, 3)}, layout, coding)
                    self._compare(path, 11 + len(many))

    def _compare(self, path: Path, count: int) -> None:
        judge, own = pypff.file(), PersonalFolders(path)
        judge.open(str(path))
        self.assertEqual(own.troubles, [])
        self.assertEqual(set(own.folders), {"Inbox", "Inbox/Berths", "Sent"})
        met = 0
        for theirs in _messages(judge.root_folder):
            met += 1
            node = own.file.node(theirs.identifier)
            assert node is not None
            item = own.items.item(node)
            properties = item.properties
            self.assertEqual(subject_of(properties), (theirs.subject or "").strip())
            self.assertEqual(properties.text(0x1000), (theirs.plain_text_body or b"").decode())
            html = properties.binary(0x1013)
            if (own.file.layout.name, own.file.coding) != ("Unicode, 4K pages", 1) or len(html) <= 65_512:
                self.assertEqual(
                    html, theirs.html_body or b""
                )  # the judge garbles several permuted blocks that are packed
            attached = list(item.attachments())
            self.assertEqual(len(attached), theirs.number_of_attachments)
            for place, one in enumerate(attached):
                if one.item is None:
                    size = theirs.get_attachment(place).get_size()
                    content = theirs.get_attachment(place).read_buffer(size) if size else b""
                    self.assertEqual(one.properties.binary(0x3701), content)
                else:
                    self.assertTrue(subject_of(one.item().properties).startswith("inner"))
        self.assertEqual(met, count)
        self.assertEqual(sum(map(len, own.folders.values())), count)
        next(iter(own.folders.values())).close()
        judge.close()


def _messages(folder: pypff.folder) -> Iterator[pypff.message]:
    for place in range(folder.number_of_sub_messages):
        yield folder.get_sub_message(place)
    for place in range(folder.number_of_sub_folders):
        yield from _messages(folder.get_sub_folder(place))


def _stream(file: CompoundFile, path: list[str]) -> bytes:
    storage = file.root
    for name in path[:-1]:
        storage = storage.storages[name]
    return file.stream(storage.streams[path[-1]])


def _text(raw: bytes) -> str:
    return raw.decode("utf-16-le")


def _from_msg(each: Letter) -> bytes:
    return mail_of(read_msg(in_memory(msg(each))))


def _from_tnef(each: Letter) -> bytes:
    item = read_tnef(tnef(each))
    assert item is not None
    return mail_of(item)


class UnderAttack(unittest.TestCase):
    """Changed at random, deep, circular, with sizes that lie: no fault, no hang."""

    def _mutate(self, seeds: list[bytes], count: int, read: Callable[[bytes], None], heads: int = 0) -> None:
        rng = random.Random(5000)
        for turn in range(count):
            data = bytearray(rng.choice(seeds))
            for _ in range(rng.randrange(1, 8)):
                at = rng.randrange(min(heads or len(data), len(data)) if rng.random() < 0.5 else len(data))
                kind = rng.randrange(5)
                if kind == 0:
                    data[at : at + 4] = rng.choice([b"\xff\xff\xff\xff", b"\0\0\0\0", b"\xff\xff\xff\x7f", b"\1\0\0\0"])
                elif kind == 1:
                    del data[at:]
                elif kind == 2:
                    source = rng.randrange(len(data))
                    data[at : at + 64] = data[source : source + 64]
                else:
                    data[at] ^= 1 << rng.randrange(8)
                if not data:
                    break
            started = time.process_time()
            with suppress(WexagraphError):
                read(bytes(data))
            self.assertLess(time.process_time() - started, _SECONDS, f"turn {turn}")

    def test_single_message_files(self) -> None:
        seeds = [msg(each) for each in (letter(files=[("a.txt", b"x" * 300)]), letter(inside=[letter("inner")]))]
        self._mutate(seeds, 5000, lambda data: Message(mail_of(read_msg(in_memory(data)), data)).blocks() and None, 512)

    def test_wrappers(self) -> None:
        seeds = [tnef(each) for each in (letter(files=[("a.txt", b"x" * 300)]), letter(inside=[letter("inner")]))]

        def read(data: bytes) -> None:
            item = read_tnef(data)
            if item is not None:
                Message(mail_of(item)).blocks()

        self._mutate(seeds, 5000, read)

    def test_rich_text(self) -> None:
        seeds = [HTML_IN_RTF, packed(HTML_IN_RTF)]

        def read(data: bytes) -> None:
            content = data if data.startswith(b"{") else rtf.unpacked(data)
            rtf.inside(content)
            html_of(content)

        self._mutate(seeds, 3000, read)

    def test_personal_folder_files(self) -> None:
        """A file is written over in turn, so that it is opened from a disk as any other."""
        with tempfile.TemporaryDirectory() as folder:
            path = Path(folder) / "mail.pst"
            seeds = []
            for layout in LAYOUTS:
                pst(path, {"Inbox": [letter(files=[("a.txt", b"x" * 300)], inside=[letter("inner")])]}, layout, 1)
                seeds.append(path.read_bytes())

            def read(data: bytes) -> None:
                start = data.find(b"!BDN")
                path.write_bytes(data if start == 0 else seeds[0][:600] + data[600:])
                with open_source(path, salvage=True) as source:
                    for name in source.folders():
                        for envelope in source.envelopes(name):
                            with suppress(MessageError):
                                source.read(envelope)

            self._mutate(seeds, 2500, read, 600)

    def test_cut_anywhere(self) -> None:
        """What a file without its end still holds is read, the rest is told; it never takes long."""
        with tempfile.TemporaryDirectory() as folder:
            path = Path(folder) / "mail.pst"
            # the trees lie before what they tell of, as in a file that has been in use for years
            pst(
                path, {"Inbox": [letter(f"n {n}", files=[("a.bin", os.urandom(9000))]) for n in range(60)]}, room=90_000
            )
            whole, counts = path.read_bytes(), []
            for part in range(0, 100, 5):
                path.write_bytes(whole[: len(whole) * part // 100])
                try:
                    with open_source(path) as source:
                        read = [_read(source, each) for name in source.folders() for each in source.envelopes(name)]
                        self.assertTrue(any("ends" in trouble.reason for trouble in source.troubles))
                        counts.append(sum(read))
                        self.assertEqual(len(read), 60)
                except WexagraphError:
                    counts.append(0)
            self.assertEqual(counts, sorted(counts))
            self.assertGreater(counts[-1], 50)

    def test_deep_and_circular(self) -> None:
        inner = letter("the innermost", "Found at the bottom.")
        for depth in range(50):
            inner = letter(f"level {depth}", inside=[inner])
        for data in (_from_msg(inner), _from_tnef(inner)):
            self.assertIn(b"Found at the bottom.", data)
        data = bytearray(msg(letter(text="x" * 9000)))
        fat = int.from_bytes(data[76:80], "little")
        for sector in range(128):
            data[(fat + 1) * 512 + sector * 4 :][:4] = b""
            data[(fat + 1) * 512 + sector * 4 : (fat + 1) * 512 + sector * 4] = sector.to_bytes(4, "little")
        with suppress(MessageError):
            mail_of(read_msg(in_memory(bytes(data))))  # each sector follows itself

    def test_what_changes_to_files_of_others_found(self) -> None:
        """A chain of small sectors that runs past its table; a property of several values without their number."""
        data = bytearray(msg(letter()))
        start = 512 * (1 + int.from_bytes(data[60:64], "little"))
        data[start : start + 512] = b"".join((sector + 1).to_bytes(4, "little") for sector in range(128))
        self.assertIn(b"Subject:", mail_of(read_msg(in_memory(bytes(data)))))
        with tempfile.TemporaryDirectory() as folder:
            path = Path(folder) / "mail.pst"
            pst(path, {"Inbox": [letter("Short", more={CATEGORIES: (0x101F, b"\1")})]})
            with open_source(path) as source:
                self.assertEqual([each.header.subject for each in source.envelopes("Inbox")], ["Short"])

    def test_messages_that_hold_one_another(self) -> None:
        """Two attachments a message, both of them the same, forty deep: a trillion messages to whoever follows all."""
        with tempfile.TemporaryDirectory() as folder:
            path = Path(folder) / "mail.pst"
            inner: Letter = letter("the innermost")
            for depth in range(40):
                inner = letter(f"level {depth}", inside=[inner, inner])
            pst(path, {"Inbox": [inner]}, shared=True)
            started = time.process_time()
            with open_source(path) as source:
                data = source.read(next(source.envelopes("Inbox")))
            self.assertLess(time.process_time() - started, _SECONDS)
            self.assertIn(b"damaged=", data)

    def test_strange_values(self) -> None:
        """Lone surrogates, line ends in names, 300 letters, 1,300 people, numbers out of range."""
        each = letter(
            "A\r\nBcc: evil@x.example",
            files=[("ж" * 300 + ".pdf", b"%PDF-"), ("a\r\nX: y.txt", b"1")],
            people=[(f"Person {n}", f"p{n}@saltmere.example", 1) for n in range(1300)],
            sender=("Quay\r\nTo: x", "/o=SALTMERE/cn=quay"),
            more={
                0x1000: (0x1F, b"\x3d\xd8a\0"),
                0x0039: (0x40, b"\xff" * 8),
                0x3FDE: number(-7),
                0x1035: wide("<a b>"),
            },
        )
        for data in (_from_msg(each), _from_tnef(each)):
            message = Message(data)
            header = message.header
            self.assertEqual(len(header.addresses(b"to")), 1300)
            self.assertIsNone(header.raw(b"bcc"))
            self.assertIsNone(header.raw(b"x"))
            self.assertEqual(message.attachments[0].name, "ж" * 300 + ".pdf")
            self.assertEqual((header.sender.name, header.sender.address), ("Quay To: x", ""))
            self.assertIn("address-unkept", {note.code for note in message.notes()})
            self.assertTrue(all(len(line) < 998 for line in header.block.split(b"\r\n")))


def _read(source: object, envelope: object) -> bool:
    try:
        source.read(envelope)  # type: ignore[attr-defined]
    except MessageError:
        return False
    return True


if __name__ == "__main__":
    unittest.main()
