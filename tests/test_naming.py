"""Names: legal everywhere, true, different, and never outside the folder."""

from __future__ import annotations

import json
import os
import random
import re
import sys
import unicodedata
import unittest
from pathlib import Path
from unittest import mock

from tests.helpers import ProgramTest, letter, letter_with, mbox, named_rows, pdf_text
from wexagraph.errors import CallError
from wexagraph.naming.paths import LIMIT, FreeNames, clean, collision_key, component, with_extension, with_number
from wexagraph.naming.patterns import NamePattern

FORBIDDEN = '<>:"/\\|?*'
DEVICES = re.compile(r"(?i)(con|prn|aux|nul|com[0-9¹²³]|lpt[0-9¹²³])$")


def illegal(name: str) -> str:
    """Why a name can't be used somewhere; "" where it can. Written from the systems' documents, not from our code."""
    if not name or name in (".", ".."):
        return "empty"
    if len(name.encode()) > 240:
        return f"{len(name.encode())} bytes"
    if any(c in FORBIDDEN or ord(c) < 32 or ord(c) == 127 for c in name):
        return "forbidden character"
    if name[-1] in " ." or name[0] == " ":
        return "space or dot at an end"
    if DEVICES.match(name.split(".")[0].rstrip()):
        return "device name"
    if unicodedata.normalize("NFC", name) != name:
        return "not NFC"
    if any(unicodedata.category(c) in ("Cc", "Cf", "Cs", "Co", "Zl", "Zp") for c in name):
        return "control"
    if any(0xFDD0 <= ord(c) <= 0xFDEF or ord(c) & 0xFFFE == 0xFFFE for c in name):
        return "noncharacter"
    return ""


class Components(unittest.TestCase):
    def test_cases(self) -> None:
        for text, wanted in [
            ("East quay survey", "East quay survey"),
            ("Berth 3/4: what?", "Berth 3-4- what"),
            ('<a> "b" |c|', "(a) 'b' -c-"),
            ("../../etc/passwd", "etc-passwd"),
            ("CON", "CON_"),
            ("con.txt", "con_.txt"),
            ("Nul .x", "Nul_.x"),
            ("COM¹", "COM¹_"),
            ("CONSOLE", "CONSOLE"),
            ("name. . .", "name"),
            ("  .hidden", "hidden"),
            ("-rf", "rf"),
            ("a\u202eb\u200bc\ufeffd\u2066e", "abcde"),
            ("a\tb\nc\u2028d\u00a0e\u3000f", "a b c d e f"),
            ("e\u0301", "é"),
            ("日本語 한국어 ไทย हिन्दी", "日本語 한국어 ไทย हिन्दी"),
            ("\ud800x", "x"),
            ("\u3164", "unnamed"),
            ("", "unnamed"),
            ("???", "unnamed"),
        ]:
            with self.subTest(text):
                self.assertEqual(component(text), wanted)

    def test_cut_at_a_grapheme(self) -> None:
        family = "👩‍👩‍👧"
        for text in ("é" * 300, "e\u0301\u0323" * 200, "🇵🇹" * 100, "日本" * 200, family * 60):
            with self.subTest(text[:4]):
                name = component(text, room=20)
                self.assertLessEqual(len(name.encode()), LIMIT - 20)
                self.assertGreater(len(name.encode()), LIMIT - 60)
                self.assertTrue(clean(text).startswith(name))
                self.assertFalse(unicodedata.combining(clean(text)[len(name)]))

    def test_extensions(self) -> None:
        for name, wanted in [
            ("a.pdf", ("a", ".pdf")),
            ("a.tar.gz", ("a.tar", ".gz")),
            ("no", ("no", "")),
            (".hidden", (".hidden", "")),
            ("a.not an extension", ("a.not an extension", "")),
            ("a.", ("a.", "")),
            ("x.ελλ", ("x.ελλ", "")),
        ]:
            self.assertEqual(with_extension(name), wanted)

    def test_random_text_of_all_unicode(self) -> None:
        rng = random.Random(5)
        for _ in range(3000):
            text = "".join(chr(rng.randrange(sys.maxunicode + 1)) for _ in range(rng.randrange(1, 40)))
            text += rng.choice(["", FORBIDDEN, "...", " ", "CON", "\u0301" * 300])
            self.assertEqual(illegal(component(text, 20)), "", repr(text))

    def test_free_names(self) -> None:
        names = FreeNames()
        wanted = ["a.txt", "A.TXT", "a (2).txt", "a.txt", "a (2).txt", "b", "../b", ""]
        given = ["a.txt", "A (2).TXT", "a (2) (2).txt", "a (3).txt", "a (2) (3).txt", "b", "b (2)", "unnamed"]
        self.assertEqual([names.give(name) for name in wanted], given)
        with mock.patch("wexagraph.naming.paths.with_number", wraps=with_number) as tried:
            self.assertEqual([names.give("c.txt") for _ in range(99)][-1], "c (99).txt")
        self.assertEqual(tried.call_count, 99, "no number is tried twice")

    def test_collision_keys(self) -> None:
        self.assertEqual(collision_key("A/B.pdf"), collision_key("a/b.PDF"))
        self.assertEqual(collision_key("Straße É"), collision_key("STRASSE e\u0301"))
        self.assertNotEqual(collision_key("a"), collision_key("b"))


class Patterns(unittest.TestCase):
    def test_wrong_ones(self) -> None:
        for pattern, words in [
            ("{subjct}", "Did you mean {subject}?"),
            ("{subject.__class__}", "no field"),
            ("{date[0]}", "no field"),
            ("{subject!r}", "format behind a colon"),
            ("{subject:{date}}", "format behind a colon"),
            ("{subject", "can't be read"),
            ("fixed", "no field"),
            ("{}", "no field"),
            ("{number:%Y}", "{number} takes no date format"),
            ("{subject:d}", "does not fit its field"),
        ]:
            with self.subTest(pattern), self.assertRaisesRegex(CallError, re.escape(words)):
                NamePattern(pattern)


class Names(ProgramTest):
    def names(self, *arguments: object, content: bytes | None = None) -> list[str]:
        if content is not None:
            self.write("box", content)
        self.run_program("export", "box", "--into", "out", "--as", "eml", "--zone", "UTC", "--flat", *arguments)
        return self.made("out", ".eml")

    def test_the_default(self) -> None:
        self.assertEqual(self.names(content=mbox(letter())), ["2026-03-14 1503 Ines Halden - East quay survey.eml"])

    def test_the_zone(self) -> None:
        content = mbox(letter(date="Sat, 14 Mar 2026 23:30:00 -0500"))
        self.write("box", content)
        for zone, start in [
            ("UTC", "2026-03-15 0430"),
            ("Asia/Tokyo", "2026-03-15 1330"),
            ("sender", "2026-03-14 2330"),
        ]:
            self.run_program("export", "box", "--into", zone.replace("/", "-"), "--as", "eml", "--zone", zone)
            self.assertTrue(self.made(zone.replace("/", "-"), ".eml")[0].startswith(f"box/{start}"))

    def test_plain_words_for_what_is_missing(self) -> None:
        content = mbox(b"To: x@y.example\n\nx\n").replace(b"Sat Mar 14 15:03:00 2026", b"")
        self.assertEqual(self.names(content=content), ["undated no sender - no subject.eml"])

    def test_an_address_where_no_name_is(self) -> None:
        self.assertIn("quay@x.example - ", self.names(content=mbox(letter(sender="quay@x.example")))[0])

    def test_all_fields(self) -> None:
        pattern = "{date:%Y}/{folder}/{recipient} {sender_address} {id} {number:03} {subject:.4}"
        name = self.names("--name", pattern, content=mbox(letter()))[0]
        self.assertRegex(name, r"^2026/box/Records ines\.halden@quaysurvey\.example [0-9a-z]{10} 001 East\.eml$")

    def test_what_only_the_message_tells(self) -> None:
        news = letter("Tide and trade", more="List-Id: <news.tide.example>\n")
        plan = letter_with(("plan.pdf", "application/pdf", b"%PDF"), ("b.txt", "text/plain", b"b"), subject="Plan")
        names = self.names("--name", "{kind} {attachments} {subject}", content=mbox(news, plan, letter("Berth")))
        self.assertEqual(names, ["letter 0 Berth.eml", "letter 2 Plan.eml", "newsletter 0 Tide and trade.eml"])
        self.run_program("export", "box", "--into", "pages", "--footer", "{kind}, {attachments}")
        texts = "".join(pdf_text(path) for path in (self.folder / "pages").rglob("*.pdf"))
        self.assertIn("letter, 2", texts)
        self.assertIn("newsletter, 0", texts)

    def test_names_of_the_office(self) -> None:
        """They stand in names of files, registers and on covers, with the true address; the page is as it was sent."""
        table = "Address;Name;Short name\nines.halden@quaysurvey.example;Halden, Ines (surveyor);Halden\n"
        self.write("names.csv", f"\ufeff{table}@saltmere.example;Port of Saltmere;\n")
        self.write("in.mbox", mbox(letter("Berth 4"), letter("Plan", sender="Bo Reed <bo@tide.example>")))
        export = ("export", "in.mbox", "--into", "out", "--flat")
        self.run_program(*export, "--cover", "--name", "{sender} to {recipient} - {subject}")
        names = ["Bo Reed to Port of Saltmere - Plan", "Halden to Port of Saltmere - Berth 4"]
        self.assertEqual([Path(path).stem for path in self.made("out", ".pdf")], names)
        text = pdf_text(self.folder / f"out/{names[1]}.pdf")
        self.assertIn("Halden, Ines (surveyor) <ines.halden@quaysurvey.example>", text, "the cover")
        self.assertIn("Ines Halden <ines.halden@quaysurvey.example>", text, "the message itself")
        self.run_program("register", "in.mbox", "--into", "r.csv", "--columns", "from,to", "--column", "By={sender}")
        for path, columns in (("out/register.csv", ("from", "to")), ("r.csv", ("from", "to", "By={sender}"))):
            rows = named_rows((self.folder / path).read_text("utf-8-sig").splitlines())
            told = next(tuple(row[name] for name in columns) for row in rows if "Halden" in row["from"])
            sender = "Halden, Ines (surveyor) <ines.halden@quaysurvey.example>"
            self.assertEqual(told[:2], (sender, "Port of Saltmere <records@saltmere.example>"), path)
        self.assertEqual(told[2], "Halden")
        said = json.loads(self.run_program("compare", "in.mbox", "out", "--json").stdout)
        self.assertEqual((said["there"], said["missing"]), (2, 0), "a name of the office makes no other message")
        # another name: files are renamed, cells that nobody changed tell it, and covers are made again
        self.write("names.csv", table.replace("Halden, Ines (surveyor);Halden", "Quay Survey;"))
        again = self.run_program(*export, "--cover", "--name", "{sender} to {recipient} - {subject}").stdout
        self.assertIn("Renamed", again)
        self.assertEqual(
            [Path(path).stem[:14] for path in self.made("out", ".pdf")], ["Bo Reed to Rec", "Quay Survey to"]
        )
        self.run_program("register", "in.mbox", "--into", "r.csv")
        for path in ("out/register.csv", "r.csv"):
            self.assertIn("Quay Survey <ines", (self.folder / path).read_text("utf-8-sig"), path)
        self.assertIn("0 missing, 0 altered; 0 foreign", self.run_program("verify", "out").stdout)
        self.write("box/in.mbox", mbox(letter_with(("plan.txt", "text/plain", b"plan"))))
        self.write("box/names.csv", "address\tname\nslip@saltmere.example\tThe slipway\n")
        self.run_program("attachments", "box/in.mbox", "--flat", "--into", "files")
        self.assertEqual(self.made("files", ".txt"), ["2026-03-09 The slipway - plan.txt"])
        self.assertIn("The slipway <slip@", (self.folder / "files/attachments.csv").read_text("utf-8-sig"))
        # an order and a case ask the same place; the user's own names count first
        self.write("no-config/wexagraph/names.csv", "address,name\nines.halden@quaysurvey.example,I. Halden\n")
        self.run_program("order", "add", "daily", "--", "export", "in.mbox", "--as", "eml", "--into", "ordered")
        self.run_program("order", "run", "daily")
        self.run_program("case", "open", "7", "Fog", "--records", "records")
        self.run_program("file", "in.mbox", "--case", "7", "--records", "records", "--as", "eml")
        for place in ("ordered", "records"):
            self.assertTrue([path for path in self.made(place, ".eml") if "I. Halden - Berth 4" in path], place)

    def test_names_that_can_t_be_read(self) -> None:
        self.write("in.mbox", mbox(letter()))
        for table, said in (
            ("address;title\nx@y.example;X\n", "there is no column 'name'. Columns: address, title."),
            ("address,name\nx@y.example,X\n,Y\n", "names.csv, line 3: a row has an address or a domain, and a name"),
            (b"address,name\nx@y.example,M\xfcller\n", "can't be read: it is not UTF-8"),
        ):
            self.write("names.csv", table)
            self.assertIn(said, self.run_program("export", "in.mbox", "--into", "out", code=2).stderr)
        self.assertFalse((self.folder / "out").exists())

    def test_folders_come_from_the_pattern_only(self) -> None:
        names = self.names(
            "--name", "{sender}/{subject}", content=mbox(letter("a/b\\c/../../d", sender="../x <a@b.example>"))
        )
        self.assertEqual(names, ["x/a-b-c-..-..-d.eml"])

    def test_a_number_for_the_second(self) -> None:
        messages = [letter("Invoice", body=f"{n}\n") for n in range(3)] + [letter("INVOICE"), letter("Invoice (2)")]
        names = self.names("--name", "{subject}", content=mbox(*messages))
        self.assertEqual(len(names), 5)
        self.assertEqual(len({name.lower() for name in names}), 5)
        self.assertIn("Invoice (2).eml", names)
        by_name = {name: (self.folder / "out" / name).read_bytes() for name in names}
        self.assertEqual(by_name["Invoice (2).eml"], letter("Invoice (2)"), "a name of its own is nobody else's number")
        self.write("box", mbox(*reversed(messages)))  # read in another order, each still gets the name it had
        self.run_program("export", "box", "--into", "other", "--as", "eml", "--flat", "--name", "{subject}")
        self.assertEqual(
            {name: (self.folder / "other" / name).read_bytes() for name in self.made("other", ".eml")}, by_name
        )

    def test_no_number_is_tried_twice_where_many_have_one_name(self) -> None:
        """It took minutes for some thousands of such messages, and hours for some ten thousands."""
        for count in (60, 90):
            letters = (letter_with(("image001.png", "image/png", b"%d" % n)) for n in range(count))
            self.write("in.mbox", mbox(*letters))
            numbers = ["", *(f" ({n})" for n in range(2, count + 1))]
            for command, pattern, name in (
                (("export", "--as", "eml"), "{sender}", "Slipway desk{}.eml"),
                (("attachments",), "{filename}", "image001{}.png"),
            ):
                module = "exports.plan" if command[0] == "export" else "exports.journal.attachments"
                with mock.patch(f"wexagraph.{module}.with_number", wraps=with_number) as tried:
                    self.call_program(command[0], "in.mbox", "--into", command[0], "--name", pattern, *command[1:])
                self.assertEqual(self.made(command[0]), sorted(f"in/{name.format(n)}" for n in numbers))
                self.assertLess(tried.call_count, 8 * count)

    def test_a_foreign_file_is_not_touched(self) -> None:
        self.write("box", mbox(letter("Invoice")))
        mine = self.write("out/Invoice.eml", "mine")
        self.assertEqual(self.names("--name", "{subject}"), ["Invoice (2).eml", "Invoice.eml"])
        self.assertEqual(mine.read_text(), "mine")
        self.assertEqual(self.names("--name", "{subject}"), ["Invoice (2).eml", "Invoice.eml"])

    def test_a_foreign_register_is_not_touched(self) -> None:
        mine = self.write("out/register.csv", "mine")
        self.names(content=mbox(letter()))
        self.assertEqual(mine.read_text(), "mine")
        self.assertTrue((self.folder / "out/register (2).csv").exists())

    def test_a_symbolic_link_leads_nowhere(self) -> None:
        (self.folder / "elsewhere").mkdir()
        (self.folder / "out").mkdir()
        os.symlink(self.folder / "elsewhere", self.folder / "out/Ines Halden")
        os.symlink(self.folder / "elsewhere/new.eml", self.folder / "out/East quay survey.eml")
        self.write("box", mbox(letter()))
        done = self.run_program(
            "export", "box", "--into", "out", "--as", "eml", "--flat", "--name", "{sender}/{subject}", code=1
        )
        self.assertIn("symbolic link", done.stdout)
        self.run_program("export", "box", "--into", "out", "--as", "eml", "--flat", "--name", "{subject}")
        self.assertEqual(list((self.folder / "elsewhere").iterdir()), [])
        self.assertIn("East quay survey (2).eml", self.made("out"))

    def test_a_thousand_subjects_drawn_from_all_of_unicode(self) -> None:
        rng = random.Random(20260314)
        messages = []
        for number in range(1000):
            subject = "".join(
                rng.choice(FORBIDDEN) if rng.random() < 0.2 else chr(rng.randrange(1, sys.maxunicode + 1))
                for _ in range(rng.randrange(1, 120))
            )
            subject = re.sub(r"[\r\n\ud800-\udfff]", "", subject)
            messages.append(letter(subject, body=f"{number}\n"))
        names = self.names("--name", "{subject}", content=mbox(*messages))
        self.assertEqual(len(names), 1000)
        self.assertEqual(len({collision_key(name) for name in names}), 1000)
        wrong = {name: illegal(name) for name in names if illegal(Path(name).name)}
        self.assertEqual(wrong, {})
