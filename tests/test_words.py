"""Looking for words: what a reader sees is found, however it is written, and on every kind of source alike."""

from __future__ import annotations

import unittest

from tests.helpers import ProgramTest, letter, mbox
from wexagraph.demo.build import file, html, message, multipart, text, when
from wexagraph.selection.criteria import folded, holds, is_indexed

SHOWN = "the berth fee is due"
SAME = {
    "plain": "Sir,\nthe berth fee is due.\n",
    "a line end": "Sir, the berth\nfee   is\tdue.\n",
    "no-break spaces": "Sir, the\u00a0berth\u202ffee is due.\n",
    "soft hyphens": "Sir, the be\u00adrth fee is d\u00adue.\n",
    "zero width": "Sir, the ber\u200bth f\u2060ee is due.\n",
    "wide forms": "Sir, the \uff42\uff45\uff52\uff54\uff48 fee is due.\n",
    "accents": "Sir, the b\u00e9rth fee is d\u00fce.\n",
    "capitals": "SIR, THE BERTH FEE IS DUE.\n",
}
RICH = {
    "bold": "<p>Sir, the <b>be</b>rth fee is due.</p>",
    "spans": "<p>the <span>b</span><span>erth</span> <i>fee</i> is du<span>e</span></p>",
    "a link": '<p>the <a href="http://a.example">ber</a>th fee is due</p>',
    "entities": "<p>the be&shy;rth&nbsp;fee is du&#101;</p>",
    "a line break": "<p>the berth<br>fee is due</p>",
}


class Words(unittest.TestCase):
    def test_pieces(self) -> None:
        for value, wanted, other in (
            ("berth", "the berths", "aberth"),
            ("fee berth", "berth fee", "berth"),
            ('"berth fee"', "the berth  fee.", "fee berth"),
            ('"berth fee"', "berth, fee", "berth fees"),
            ("2026/118", "no. 2026/118", "118/2026"),
            ("b*h", "broth", "b th"),
            ("be?th", "berth", "bert"),
            ("Ubersee", "\u00dcbersee", "Uber see"),
            ("\u6e2f", "\u6d77\u6e2f\u5c40", "\u6d77"),
            ("a=b", "x a=b", "a"),
            ("---", "-----", "--"),
        ):
            with self.subTest(value):
                self.assertTrue(holds(value, folded(wanted)))
                self.assertFalse(holds(value, folded(other)))

    def test_what_an_index_knows(self) -> None:
        self.assertTrue(all(map(is_indexed, ("berth fee", '"berth 4"', "ber*"))))
        self.assertFalse(any(map(is_indexed, ("\u6e2f", "b*h", "be?th"))))


class Everywhere(ProgramTest):
    def test_what_a_reader_sees_is_found(self) -> None:
        letters = [
            letter(name, body=body, more="Content-Type: text/plain; charset=utf-8\n") for name, body in SAME.items()
        ]
        letters += [
            message("a@b.example", "c@d.example", name, when("2026-03-14"), html(body)) for name, body in RICH.items()
        ]
        letters.append(letter("other", body="the berth is free, no fee\n"))
        self.write("in.mbox", mbox(*letters))
        self.run_program("backup", "in.mbox", "--into", "bk")
        wanted = [*SAME, *RICH]
        for source in ("in.mbox", "bk"):
            for choice in (
                ("--body", SHOWN),
                ("--text", f'"{SHOWN}"'),
                ("--text", "due fee BERTH"),
                ("--body", '"berth fee"'),
            ):
                with self.subTest(source, choice=choice):
                    self.assertEqual(sorted(self.subjects(source, *choice)), sorted(wanted))

    def test_scripts_without_spaces_and_names_of_attachments(self) -> None:
        body = multipart(
            "mixed",
            text("\u79c1\u306f\u6771\u4eac\u3078\u884c\u304f\n"),
            file("Dredging plan.pdf", "application/pdf", b"x"),
        )
        self.write("in.mbox", mbox(message("a@b.example", "c@d.example", "Tokyo", when("2026-03-14"), body), letter()))
        self.run_program("backup", "in.mbox", "--into", "bk")
        for source in ("in.mbox", "bk"):
            for value in ("\u6771\u4eac", "dredging pl", '"dredging plan"'):
                with self.subTest(source, value=value):
                    self.assertEqual(self.subjects(source, "--text", value), ["Tokyo"])

    def test_a_wildcard_as_itself(self) -> None:
        self.write("in.mbox", mbox(letter("Really?"), letter("Really."), letter("A * B")))
        for value, wanted in (
            ("Really[?]", ["Really?"]),
            ("Really?", ["Really?", "Really."]),
            ("a [*] b", ["A * B"]),
            ("*[?]", ["Really?"]),
        ):
            with self.subTest(value):
                self.assertEqual(self.subjects("in.mbox", "--subject", value), wanted)


if __name__ == "__main__":
    unittest.main()
