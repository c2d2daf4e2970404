"""Messages that others bring along: filed and exported as themselves; judged by Python's own mail package."""

from __future__ import annotations

import hashlib
import imaplib
import json
from email.message import EmailMessage
from pathlib import Path

import pypdfium2

from tests import desktop_mail
from tests.dovecot import PASSWORD, USER
from tests.helpers import ProgramTest, letter, named_rows, pdf_text
from tests.test_accounts import AccountTest

CLERK = "Ines Halden <ines.halden@saltmere.example>"
OFFER = letter("Repair of the quay wall", "Ana Prior <ana@slipway.example>", "Mon, 2 Mar 2026 09:12:00 +0000")
ANSWER = letter("Second offer", "Bo Reed <bo@slipway.example>", "Tue, 3 Mar 2026 10:00:00 +0000", more="X-Odd:  two\n")


def forward(subject: str, *carried: bytes, words: str = "", sender: str = CLERK, kind: str = "") -> bytes:
    """A message that brings others along, as programs make it."""
    mail = EmailMessage()
    mail["From"], mail["To"], mail["Subject"] = sender, "records@saltmere.example", subject
    mail["Date"], mail["Message-ID"] = (
        "Thu, 05 Mar 2026 08:00:00 +0000",
        f"<{hashlib.md5(subject.encode()).hexdigest()}@saltmere.example>",
    )
    mail.set_content(f"{words}\n-- \nInes Halden\nPort office\n")
    for number, data in enumerate(carried):
        mail.add_attachment(data, "application", "octet-stream", filename=f"letter {number}{kind or '.eml'}")
    return mail.as_bytes()


def as_message(subject: str, carried: bytes) -> bytes:
    """The same in the form of RFC 2046, where the message stands in the mail as it is."""
    head = f"From: {CLERK}\nTo: records@saltmere.example\nSubject: {subject}\nDate: Thu, 05 Mar 2026 08:00:00 +0000\n"
    head += "MIME-Version: 1.0\nContent-Type: multipart/mixed; boundary=Q\n\n--Q\nContent-Type: text/plain\n\n\n"
    return head.encode() + b"--Q\nContent-Type: message/rfc822\n\n" + carried + b"\n--Q--\n"


def digest(data: bytes) -> str:
    return hashlib.sha256(data).hexdigest()


def title_of(path: Path) -> str:
    return str(pypdfium2.PdfDocument(path).get_metadata_value("Title"))


class Exported(ProgramTest):
    def digests(self, folder: str) -> dict[str, Path]:
        return {digest(path.read_bytes()): path for path in (self.folder / folder).rglob("*.eml")}

    def test_each_as_itself(self) -> None:
        """Bytes as they came, under their own dates and senders; who sent them on is in the register."""
        self.write("in/a.eml", forward("Fwd: offers", OFFER, ANSWER))
        self.write("in/b.eml", as_message("Fwd: one", OFFER.rstrip(b"\n")))
        self.write("in/c.eml", letter("Nothing inside"))
        call = ("export", "in", "--as", "eml,pdf", "--into", "out")
        planned = json.loads(self.run_program(*call, "--carried", "--dry-run", "--json").stdout)
        self.assertEqual(planned["written"], 4)
        self.run_program(*call, "--carried")
        there = self.digests("out")
        self.assertEqual(set(there), set(map(digest, (OFFER, ANSWER, OFFER.rstrip(b"\n"), letter("Nothing inside")))))
        self.assertTrue(there[digest(ANSWER)].name.startswith("2026-03-03 1000 Bo Reed - Second offer"))
        self.assertIn("The survey is done", pdf_text(there[digest(ANSWER)].with_suffix(".pdf")))
        with (self.folder / "out/register.csv").open(encoding="utf-8-sig", newline="") as file:
            notes = {row["subject"]: row["notes"] for row in named_rows(file)}
        self.assertIn(f"{CLERK}, 2026-03-05 08:00", notes["Second offer"])
        self.assertEqual(notes["Nothing inside"], "")
        again = json.loads(self.run_program(*call, "--carried", "--json").stdout)
        self.assertEqual((again["written"], again["already_there"]), (0, 4))
        there[digest(ANSWER)].unlink()
        self.assertEqual(json.loads(self.run_program(*call, "--carried", "--json").stdout)["written"], 1)
        self.assertEqual(set(self.digests("out")), set(there))
        self.run_program("verify", "out")

    def test_what_says_more_is_kept_besides(self) -> None:
        for number, wrapper in enumerate((forward("Fwd: 1", OFFER, words="Urgent."), forward("Fwd: 2", OFFER))):
            self.write(f"in{number}/a.eml", wrapper)
            self.run_program("export", f"in{number}", "--as", "eml", "--carried", "--into", f"out{number}")
            wanted = {digest(OFFER), digest(wrapper)} if number == 0 else {digest(OFFER)}
            self.assertEqual(set(self.digests(f"out{number}")), wanted)

    def test_what_is_no_letter_stays_a_file(self) -> None:
        """What a server sends back, text under the name of a message, and a damaged single-message file."""
        bounce = as_message("Undelivered", OFFER).replace(b"multipart/mixed", b"multipart/report")
        kept = [bounce, forward("Fwd: list", b"berth,ship\n4,Ada\n"), forward("Fwd", b"\xd0\xcf\x11\xe0", kind=".msg")]
        for number, data in enumerate(kept):
            self.write(f"in/{number}.eml", data)
        self.run_program("export", "in", "--as", "eml", "--carried", "--into", "out")
        self.assertEqual(set(self.digests("out")), set(map(digest, kept)))

    def test_a_single_message_file(self) -> None:
        self.write(
            "in/a.eml",
            forward("Fwd: from a desk", desktop_mail.msg(desktop_mail.letter("Berth 4", "At noon.")), kind=".msg"),
        )
        self.run_program("export", "in", "--as", "pdf", "--carried", "--into", "out")
        (pdf,) = (self.folder / "out").rglob("*.pdf")
        self.assertIn("Berth 4", pdf.name)
        self.assertIn("At noon.", pdf_text(pdf))

    def test_chosen_by_what_brought_it(self) -> None:
        self.write("in/a.eml", forward("Fwd: offers", OFFER))
        self.write("in/b.eml", letter("Other"))
        call = ("export", "in", "--as", "eml", "--carried", "--subject", "offers", "--into", "out")
        self.assertEqual(json.loads(self.run_program(*call, "--json").stdout)["written"], 1)
        self.assertEqual(set(self.digests("out")), {digest(OFFER)})
        done = self.run_program(*call[:-2], "--into", "other", "--id", "zzzzzzzzzz", code=1)
        self.assertIn("Not found: zzzzzzzzzz", done.stdout + done.stderr)


class FiledByForwarding(ProgramTest):
    def setUp(self) -> None:
        super().setUp()
        self.env = {"WEXAGRAPH_RECORDS": str(self.folder / "records")}
        self.run_program("case", "open", "2026-118", "Repair negotiations", env=self.env)

    def file(self, *more: str) -> str:
        done = self.run_program("file", "in", "--by-plan", "--carried", *more, env=self.env)
        return done.stdout + done.stderr

    def originals(self) -> set[str]:
        return {digest(path.read_bytes()) for path in (self.folder / "records").rglob("*.eml")}

    def test_where_the_subject_says(self) -> None:
        self.write("in/a.eml", forward("Fwd: #2026-118 Repair negotiations", OFFER, ANSWER))
        self.assertIn("2 new", self.file())
        self.assertEqual(self.originals(), {digest(OFFER), digest(ANSWER)})
        self.assertIn("0 new, 2 there already", self.file())
        self.write("in/b.eml", forward("#2026-118", OFFER, words="Again."))  # the same letter from a second colleague
        self.file()
        self.assertEqual(len(self.originals()), 3)
        self.run_program("verify", "records", env=self.env)

    def test_what_stands_behind_the_reference_is_the_title(self) -> None:
        self.write("in/a.eml", forward("Fwd: [#2026-118] - Offers {of} May:", OFFER, ANSWER))
        self.write("in/b.eml", letter("#2026-118", CLERK))
        self.file()
        names = sorted(path.name for path in (self.folder / "records").rglob("*.pdf"))
        self.assertEqual([name.partition(" - ")[2] for name in names], ["Offers {of} May.pdf"] * 2 + ["#2026-118.pdf"])
        first = next((self.folder / "records").rglob("* - Offers*.pdf"))
        self.assertEqual(title_of(first), "Offers {of} May")
        self.assertIn(" 0 new, 3 there already", self.file("--title", "Another"))
        row = json.loads(self.run_program("file", "in", "--by-plan", "--dry-run", "--json", env=self.env).stdout)
        self.assertEqual({each["title"] for each in row["messages"]}, {"Offers {of} May", ""})

    def test_as_one(self) -> None:
        self.write("in/a.eml", forward("#2026-118 The offers", OFFER, ANSWER))
        self.file("--as-one")
        (path,) = (self.folder / "records").rglob("*.pdf")
        self.assertIn("The offers", path.name)
        self.assertEqual(title_of(path), "The offers")
        self.assertEqual(self.originals(), {digest(OFFER), digest(ANSWER)})
        self.run_program("file", "in", "--by-plan", "--as-one", "--bind", "all", env=self.env, code=2)
        self.run_program("verify", "records", env=self.env)

    def test_a_mistyped_reference_is_asked_about(self) -> None:
        """Also where the conversation would know better: the sender has said where to."""
        self.write(
            "in/a.eml", forward("#2026-118 offers", OFFER.replace(b"\nTo:", b"\nMessage-ID: <1@x.example>\nTo:"))
        )
        self.file()
        wrong = letter("#2026-181 offers", CLERK, more="In-Reply-To: <1@x.example>\n")
        self.write("in/b.eml", wrong)
        self.assertIn("#2026-181 offers (nearest: 2026-118)", self.file())
        self.assertNotIn(digest(wrong), self.originals())
        right = letter("Re: offers", CLERK, more="In-Reply-To: <1@x.example>\n")
        self.write("in/c.eml", right)
        self.file()
        self.assertIn(digest(right), self.originals())

    def test_who_may_file(self) -> None:
        self.write("in/a.eml", forward("#2026-118", OFFER))
        self.write("in/b.eml", letter("#2026-118 prize", "Somebody <else@court.example>"))
        said = self.file("--clerk", "Ines.Halden@saltmere.example")
        self.assertIn("#2026-118 prize (not sent by one who may file)", said)
        self.assertEqual(self.originals(), {digest(OFFER)})
        self.write("own.toml", '[options.file]\nclerk = ["nobody@saltmere.example"]\n')  # for all runs
        call = ("--config", "own.toml", "file", "in", "--dry-run")
        self.assertIn("0 would be filed, 2 unfiled", self.run_program(*call, "--by-plan", env=self.env).stdout)
        by_hand = self.run_program(*call, "--case", "2026-118", env=self.env).stdout
        self.assertIn("2 would be filed", by_hand, "whoever names the case decides")


class Afterwards(AccountTest):
    def test_what_is_filed_is_moved(self) -> None:
        """By hand and by an order: what was filed goes, with all that it brought; what fits no case stays."""
        with imaplib.IMAP4("localhost", self.server.imap) as line:
            line.login(USER, PASSWORD)
            line.create("Desk")
            at_hand = (forward("#2026-118 Offers", OFFER, ANSWER), letter("Lunch", CLERK), letter("#2026-118", CLERK))
            for data in at_hand:
                line.append("Desk", "", "", data.replace(b"\n", b"\r\n"))  # type: ignore[arg-type]
            records = ("--records", self.folder / "records")
            self.run_program("case", "open", "2026-118", "Repair", *records)
            call = ("file", "@office", "--folder", "Desk", "--by-plan", "--carried", *records)
            self.assertIn("delete", self.run_program(*call, "--afterwards", "delete", "--yes", code=2).stderr)
            dry = self.run_program(*call, "--afterwards", "move:Filed", "--dry-run").stdout
            self.assertIn("2 would be filed, 1 unfiled", dry)
            done = self.run_program(*call, "--afterwards", "move:Filed", "--yes").stdout
            self.assertIn("2 messages moved to Filed", done)
            self.assertEqual(self.subjects("@office", "--folder", "Desk"), ["Lunch"])
            self.assertEqual(sorted(self.subjects("@office", "--folder", "Filed")), ["#2026-118", "#2026-118 Offers"])
            line.append("Desk", "", "", letter("#2026-118 More", CLERK).replace(b"\n", b"\r\n"))  # type: ignore[arg-type]
            self.run_program("order", "add", "clerk", "--yes", "--", *call, "--afterwards", "move:Filed")
            self.run_program("order", "run", "clerk")
            self.assertEqual(self.subjects("@office", "--folder", "Desk"), ["Lunch"])
            self.run_program("verify", "records")

    def test_moved_when_all_that_it_brought_is_there(self) -> None:
        with imaplib.IMAP4("localhost", self.server.imap) as line:
            line.login(USER, PASSWORD)
            line.create("Desk")
            for data in (forward("Fwd: offers", OFFER, ANSWER), letter("Alone")):
                line.append("Desk", "", "", data.replace(b"\n", b"\r\n"))  # type: ignore[arg-type]
            call = ("export", "@office", "--folder", "Desk", "--as", "eml", "--carried", "--into", "out")
            done = self.run_program(*call, "--afterwards", "delete", "--yes", code=2)
            self.assertIn("delete", done.stderr)
            order = (*call[:-1], self.folder / "out", "--afterwards", "move:Done")
            self.run_program("order", "add", "desk", "--yes", "--", *order)
            self.assertIn("3 new", self.run_program("order", "run", "desk").stdout)
            line.select("Done", readonly=True)
            self.assertEqual(line.search(None, "ALL")[1], [b"1 2"])
            line.append("Desk", "", "", forward("Fwd: more", OFFER).replace(b"\n", b"\r\n"))  # type: ignore[arg-type]
            self.assertIn("1 new", self.run_program("order", "run", "desk").stdout)
            self.assertIn("0 new", self.run_program("order", "run", "desk").stdout)
