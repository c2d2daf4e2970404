"""The demo, and the whole main job on its mailbox, judged by pypdfium2, qpdf, sha256sum and the email package."""

from __future__ import annotations

import email
import email.policy
import hashlib
import subprocess
import unittest
from collections import Counter
from collections.abc import Iterator
from pathlib import Path

import pikepdf

from tests.helpers import ProgramTest, check_with_others, missing_words, named_rows, pdf_text
from wexagraph.demo import make_mailbox
from wexagraph.messages.message import Message
from wexagraph.messages.visible_text import visible_texts


class Demo(ProgramTest):
    started = True

    """One run of the demo serves all its tests."""

    @classmethod
    def setUpClass(cls) -> None:
        cls.first = Demo("run_it")
        cls.first.setUp()
        cls.first.run_it()
        cls.root = cls.first.folder
        cls.export = cls.root / "saltmere" / "export"
        cls.mailbox = make_mailbox(cls.root / "again")

    @classmethod
    def tearDownClass(cls) -> None:
        cls.first.doCleanups()

    def run_it(self) -> None:
        self.output = self.run_program("demo").stdout

    def test_it_says_what_it_did(self) -> None:
        output = self.first.output
        for words in ("wexagraph folders", "wexagraph export", "0 failed", "117 already there", "register.csv"):
            self.assertIn(words, output)
        self.assertNotIn("\x1b", output, "colour went into a pipe")

    def test_it_is_the_same_every_time(self) -> None:
        for path in (self.root / "again").rglob("*"):
            if path.is_file():
                twin = self.root / "saltmere" / "mailbox" / path.relative_to(self.root / "again")
                self.assertEqual(path.read_bytes(), twin.read_bytes(), path)

    def test_as_many_files_as_messages(self) -> None:
        self.assertEqual(len(list(self.export.rglob("*.pdf"))), self.mailbox.count)
        self.assertEqual(len(list(self.export.rglob("*.eml"))), self.mailbox.count)

    def test_each_eml_is_a_message_of_the_source_byte_for_byte(self) -> None:
        made = Counter(hashlib.sha256(path.read_bytes()).hexdigest() for path in self.export.rglob("*.eml"))
        given = Counter(
            hashlib.sha256(data).hexdigest() for messages in self.mailbox.messages.values() for data in messages
        )
        self.assertEqual(made, given)

    def test_each_pdf_opens_and_holds_every_word(self) -> None:
        for path in sorted(self.export.rglob("*.pdf")):
            with self.subTest(path.name):
                check_with_others(self, path)
                message = Message(path.with_suffix(".eml").read_bytes())
                text = pdf_text(path)
                wanted = "\n".join([message.header.subject, "\n".join(visible_texts(message))])
                missing = [w for w in missing_words(_seen(wanted), text) if w not in _HIDDEN]
                self.assertEqual([word for word in missing if not _complex(word)], [])

    def test_attachments_are_embedded_byte_for_byte(self) -> None:
        for path in sorted(self.export.rglob("*.pdf")):
            parsed = email.message_from_bytes(path.with_suffix(".eml").read_bytes(), policy=email.policy.compat32)
            given = {
                part.get_payload(decode=True)
                for part in _own_parts(parsed)
                if part.get_content_disposition() == "attachment"
            }
            with pikepdf.open(path) as document:
                embedded = {bytes(spec.get_file().read_bytes()) for spec in document.attachments.values()}
            self.assertLessEqual(given, embedded, path.name)

    def test_the_sums_agree_with_sha256sum(self) -> None:
        done = subprocess.run(
            ["sha256sum", "--strict", "-c", "manifest-sha256.txt"], cwd=self.export, capture_output=True, text=True
        )
        self.assertEqual(done.returncode, 0, done.stderr)
        browsed = len(list((self.export / "index files").iterdir())) + 1
        self.assertEqual(len(done.stdout.splitlines()), 2 * self.mailbox.count + 1 + browsed)

    def test_openssl_proves_seal_and_stamp(self) -> None:
        keys, name = self.export.parent / "keys", "manifest-sha256.txt"
        seal = (
            "cms",
            "-verify",
            "-binary",
            "-inform",
            "DER",
            "-in",
            f"{name}.p7s",
            "-content",
            name,
            "-purpose",
            "any",
        )
        stamp = ("ts", "-verify", "-data", name, "-in", f"{name}.tsr", "-CAfile", keys / "stamps-root.pem")
        for call in ((*seal, "-CAfile", keys / "office-root.pem", "-out", "/dev/null"), stamp):
            done = subprocess.run(["openssl", *map(str, call)], cwd=self.export, capture_output=True, text=True)
            self.assertEqual(done.returncode, 0, done.stderr)
        self.assertIn("Its certificate is known through stamps-root.pem", self.first.output)

    def test_the_lawyer_gets_a_draft(self) -> None:
        """As the stand-in account has it, read by Python's own package."""
        (draft,) = (self.export.parent / "account").iterdir()
        mail = email.message_from_bytes(draft.read_bytes(), policy=email.policy.default)
        self.assertEqual(
            (mail["to"], mail["from"].addresses[0].domain), ("Ana Prior <prior@court.example>", "saltmere.example")
        )
        (bound,) = mail.iter_attachments()
        self.assertEqual(bound.get_content_type(), "application/pdf")
        self.assertIn("a draft in records@", self.first.output)

    def test_the_register_has_a_row_a_message(self) -> None:
        with open(self.export / "register.csv", encoding="utf-8-sig", newline="") as file:
            rows = named_rows(file)
        self.assertEqual(len(rows), self.mailbox.count)
        for row in rows:
            eml = next(name for name in row["files"].split("; ") if name.endswith(".eml"))
            data = (self.export / eml).read_bytes()
            self.assertEqual(row["sha256"], hashlib.sha256(data).hexdigest())
            self.assertEqual(int(row["size"]), len(data))
            self.assertEqual(row["outcome"], "written")
        self.assertTrue(all(not cell.startswith(("=", "+", "-", "@")) for row in rows for cell in row.values()))

    def test_names_of_the_first_page(self) -> None:
        names = {path.name for path in self.export.rglob("*.pdf")}
        self.assertIn("2026-03-14 1503 Ines Halden - East quay survey.pdf", names)
        self.assertIn("2026-06-03 1000 田辺由紀 - サルトミア港への入港予定.pdf", names)
        self.assertIn("undated Ines Halden - An absurd date.pdf", names)
        self.assertIn("2026-08-22 1000 no sender - no subject.pdf", names)

    def test_a_second_demo_in_the_same_place(self) -> None:
        self.run_program("demo", "--into", self.root / "saltmere")

    def test_a_folder_with_other_things_is_left_alone(self) -> None:
        mine = self.write("mine/letter.txt", "keep me")
        done = self.run_program("demo", "--into", "mine", code=3)
        self.assertIn("holds something else", done.stderr)
        self.assertEqual(mine.read_text(), "keep me")


# the newsletters' preview text, a fraud's hidden words, and letters that no font has (a note says so)
_HIDDEN = set("What the harbour did in January. February. March. Invoice parcel lottery winner statement".split())
_HIDDEN |= {"\U00012000", "\U00012001", "\ue123"}


def _own_parts(part: email.message.Message) -> Iterator[email.message.Message]:
    """The leaves of a message, without those of messages inside it: they come along in theirs."""
    if part.is_multipart() and part.get_content_maintype() == "multipart":
        for child in part.get_payload():
            yield from _own_parts(child)
    elif part.get_content_maintype() != "message":
        yield part


def _seen(text: str) -> str:
    """Text without what is no word on any page: quote marks, controls, emoji sequences."""
    return "".join(" " if c == ">" or ord(c) < 32 or ord(c) in (0x202E, 0x200B, 0xFFFD) else c for c in text)


def _complex(word: str) -> bool:
    """Whether a word is in a script whose glyphs are no longer its letters, in the order in which they were typed."""
    return any(0x590 <= ord(c) <= 0xE7F or 0x1F000 <= ord(c) <= 0x1FAFF or c in "⛵⚓" for c in word)


class Screens(unittest.TestCase):
    def test_every_picture_is_linked(self) -> None:
        root = Path(__file__).parent.parent
        documents = "".join(path.read_text("utf-8") for path in [root / "README.md", *(root / "docs").glob("*.md")])
        for picture in (root / "docs" / "screenshots").glob("*.png"):
            self.assertIn(picture.name, documents)
