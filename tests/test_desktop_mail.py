"""Mail of desktop programs through the program: MSG, winmail.dat, personal folder files, other dialects of mbox."""

from __future__ import annotations

import csv
import email
import email.policy
import hashlib
import io
import mailbox
import shutil
import struct
from datetime import UTC, datetime

import icalendar
import pikepdf

from tests.desktop_mail import CATEGORIES, DUE, EMAIL, REPEATS, letter, meeting, moment, msg, pst, wide, wrapped
from tests.helpers import letter as plain_letter
from tests.helpers import mbox, pdf_text, png
from tests.running import NEVER, RunTest

_SURVEY = b"%PDF-1.4 not really"
_HEADER = (
    "Received: from a.example by mx.saltmere.example; Tue, 4 Mar 2025 09:15:09 +0000\r\n"
    "From: Mara Quill <mara@quillfreight.example>\r\nTo: master@saltmere.example\r\nSubject: Berth 4 until Friday\r\n"
    "Date: Tue, 4 Mar 2025 10:15:00 +0100\r\nMessage-ID: <b4@quillfreight.example>\r\n"
    'Content-Type: multipart/mixed; boundary="gone"\r\n\r\n--gone\r\n'
)


class Killed(RunTest):
    def killed(self, command: tuple[str, ...], into: str, turns: int, same: bool = True) -> None:
        """Kill a command at steps from its first to its last; the same command finishes what it began."""
        self.run_program(*command, end_before=NEVER)
        undisturbed, steps = self.contents(self.folder / into), self.steps
        for turn in range(turns):
            shutil.rmtree(self.folder / into)
            self.run_program(*command, code=9, end_before=turn * steps // turns)
            self.run_program(*command)
            if same:
                self.assertEqual(self.contents(self.folder / into), undisturbed, f"turn {turn}")
            self.run_program("verify", into)


class SingleMessageFiles(Killed):
    def setUp(self) -> None:
        super().setUp()
        self.first = msg(
            letter(header=_HEADER, html=b"<p>The <b>barge</b> leaves.</p>", files=[("Survey.pdf", _SURVEY)])
        )
        self.write("desk/Berth 4.msg", self.first)
        self.write("desk/older/Fog.msg", msg(letter("Fog", sender=("Quay Office", "/o=SALTMERE/cn=quay"))))
        self.write("desk/older/Tide.eml", plain_letter("Tide table"))
        self.write("desk/no suffix", msg(meeting()))
        self.write("desk/ledger.doc", b"\xd0\xcf\x11\xe0\xa1\xb1\x1a\xe1" + bytes(2000))

    def test_a_folder_of_them_is_a_source(self) -> None:
        rows = {row["subject"]: row for row in self.listed("desk")}
        self.assertEqual(set(rows), {"Berth 4 until Friday", "Fog", "Tide table", "Survey of buoy 14"})
        self.assertEqual({row["folder"] for row in rows.values()}, {"desk", "older"})
        self.assertEqual(rows["Berth 4 until Friday"]["attachment_names"], "Survey.pdf")
        self.assertEqual(self.subjects("desk", "--body", "barge"), ["Berth 4 until Friday", "Fog"])
        self.assertEqual(self.subjects("desk", "--from", "quillfreight"), ["Berth 4 until Friday", "Survey of buoy 14"])
        self.assertEqual(self.subjects("desk/Berth 4.msg", "--attached", "*.pdf"), ["Berth 4 until Friday"])

    def test_export_backup_restore(self) -> None:
        self.run_program("export", "desk", "--as", "pdf,eml", "--archival", "--into", "out", "--zone", "UTC")
        made = [name for name in self.made("out", ".pdf") if "Berth 4" in name]
        with pikepdf.open(self.folder / "out" / made[0]) as pdf:
            embedded = {name: file.get_file().read_bytes() for name, file in pdf.attachments.items()}
        self.assertEqual(embedded["original message.msg"], self.first)
        self.assertEqual(embedded["Survey.pdf"], _SURVEY)
        data = (self.folder / "out" / made[0].replace(".pdf", ".eml")).read_bytes()
        message = email.message_from_bytes(data, policy=email.policy.default)
        self.assertIn(hashlib.sha256(self.first).hexdigest(), message["wexagraph-made-from"])
        self.assertEqual(message["date"].datetime.isoformat(), "2025-03-04T10:15:00+01:00")
        self.assertTrue(data.startswith(b"Received: from a.example"))
        self.assertIn("made from", pdf_text(self._pdf("Berth 4", "--evidence")).lower())
        again = self.run_program("export", "desk", "--as", "pdf,eml", "--archival", "--into", "out", "--zone", "UTC")
        self.assertIn("0 written, 4 already there", again.stdout)
        self.run_program("backup", "desk", "--into", "kept")
        self.run_program("verify", "kept")
        self.run_program("restore", "kept", "--into", "back")
        contents = {(self.folder / "out" / name).read_bytes() for name in self.made("out", ".eml")}
        self.assertEqual({(self.folder / "back" / name).read_bytes() for name in self.made("back", ".eml")}, contents)
        self.run_program("attachments", "desk", "--into", "files")
        self.assertEqual(len(self.made("files", ".pdf")), 1)
        self.assertEqual(len(self.made("files", ".ics")), 1)

    def _pdf(self, subject: str, *arguments: str) -> object:
        self.run_program("export", "desk", "--subject", subject, "--into", f"of {subject}", *arguments)
        return self.folder / f"of {subject}" / self.made(f"of {subject}", ".pdf")[0]

    def test_what_was_not_kept_is_said(self) -> None:
        text = pdf_text(self._pdf("Fog"))
        self.assertIn("no address is kept of people whom the message names (1)", text)
        self.assertIn("one was made of what is known of it", text)
        self.assertIn("Quay Office", text)

    def test_a_meeting_is_a_card(self) -> None:
        text = pdf_text(self._pdf("buoy", "--zone", "UTC"))
        for words in ("Invitation: Survey of buoy 14", "East quay", "08:30", "Bring the chart."):
            self.assertIn(words, text)

    def test_what_is_no_letter(self) -> None:
        """A meeting that repeats, a contact, a task, a list of what was signed: each in the form of its standard."""
        weekly = struct.pack("<HHHHHIII", 0x3004, 0x3004, 0x200B, 1, 0, 0, 2, 0) + struct.pack("<I", 0b0010010)
        weekly += struct.pack("<IIIIIII", 0x2022, 6, 0, 0, 0, 0, 0)
        event = meeting("IPM.Appointment")
        event.properties[REPEATS] = (0x102, weekly)
        contact = {0x001A: wide("IPM.Contact"), 0x3001: wide("Mara Quill"), 0x3A16: wide("Quill Freight; Saltmere")}
        contact |= {EMAIL: wide("mara@quillfreight.example"), 0x3A08: wide("555 0114")}
        task = {0x001A: wide("IPM.Task"), DUE: moment(datetime(2025, 4, 1, tzinfo=UTC))}
        signed = (
            b"Content-Type: multipart/signed; boundary=S\r\n\r\n--S\r\n\r\nAs signed. \r\n--S\r\n\r\nsig\r\n--S--\r\n"
        )
        sealed = letter(files=[("smime.p7m", signed)], more={0x001A: wide("IPM.Note.SMIME.MultipartSigned")})
        other = b"MIME-Version: 1.0\r\nSubject: inner\r\n" + signed
        begun = signed.partition(b"\r\n\r\n")[2]
        for number, content in enumerate((other, begun, b"\r\n" + signed)):
            each = letter(files=[("smime.p7m", content)], more={0x001A: wide("IPM.Note.SMIME.MultipartSigned")})
            self.write(f"signed/{number}.msg", msg(each))
        shown = self.run_program("export", "signed", "--as", "text", "--into", "signed out")
        for path in (self.folder / "signed out/signed").glob("*.txt"):
            self.assertIn("As signed.", path.read_text("utf-8"))
        self.assertNotIn("encrypted", shown.stdout)
        self.assertEqual(len(self.made("signed out", ".txt")), 3)
        made = {}
        for name, each in (
            ("event", event),
            ("contact", letter(more=contact)),
            ("task", letter(more=task)),
            ("s", sealed),
        ):
            self.write(f"{name}/one.msg", msg(each))
            self.run_program("export", name, "--as", "eml", "--into", f"{name} out")
            made[name] = (self.folder / f"{name} out" / self.made(f"{name} out", ".eml")[0]).read_bytes()
        calendar = icalendar.Calendar.from_ical(_part(made["event"], "text/calendar"))
        rule = calendar.walk("VEVENT")[0]["RRULE"]
        self.assertEqual(
            (rule["FREQ"], rule["INTERVAL"], rule["BYDAY"], rule["COUNT"]), (["WEEKLY"], [2], ["MO", "TH"], [6])
        )
        card = _part(made["contact"], "text/vcard").decode()
        for line in ("FN:Mara Quill", r"ORG:Quill Freight\; Saltmere", "EMAIL:mara@quillfreight.example"):
            self.assertIn(line + "\r\n", card)
        self.assertIn(b"E-mail: mara@quillfreight.example", made["contact"])
        self.assertIn(b"Due: 2025-04-01", made["task"])
        self.assertTrue(made["s"].endswith(signed), "what was signed is as it came, to the byte")

    def test_damaged_ones_fail_alone(self) -> None:
        self.write("desk/half.msg", self.first[:700])
        self.write("desk/report.msg", b"\xd0\xcf\x11\xe0\xa1\xb1\x1a\xe1" + bytes(4000))
        done = self.run_program("export", "desk", "--as", "eml", "--into", "out", code=1)
        self.assertIn("4 written, 0 already there, 2 failed", done.stdout)
        self.assertIn("half.msg", done.stdout + done.stderr)
        done = self.run_program("list", "desk/ledger.doc", code=3)
        self.assertIn("is not a mailbox", done.stderr)

    def test_killed_and_run_again(self) -> None:
        command = ("export", "desk", "--as", "pdf,eml", "--into", "out")
        self.killed(command, "out", 6)
        self.killed(("backup", "desk", "--into", "kept"), "kept", 4, same=False)


def _part(data: bytes, kind: str) -> bytes:
    """The content of a message's part of a type."""
    message = email.message_from_bytes(data, policy=email.policy.default)
    return next(part.get_payload(decode=True) for part in message.walk() if part.get_content_type() == kind)


class Wrappers(RunTest):
    """winmail.dat in a message of any source."""

    def test_text_once_and_files_as_if_sent_plainly(self) -> None:
        each = letter(
            "Berth 4",
            "The barge leaves berth 4 on Friday.",
            b'<p>The barge <b>leaves</b> berth 4 on Friday.</p><img src="cid:plan@quay">',
            files=[("Survey.pdf", _SURVEY), ("plan.png", png())],
        )
        each.attachments[1][0x3712] = wide("plan@quay")
        self.write("box", mbox(wrapped(each, "The barge leaves berth 4 on Friday."), plain_letter("Tide")))
        self.assertEqual(
            {row["subject"]: row["attachment_names"] for row in self.listed("box")},
            {"Berth 4": "winmail.dat; Survey.pdf", "Tide": ""},
        )
        self.run_program("export", "box", "--subject", "Berth", "--into", "out", "--attachments", "beside")
        text = pdf_text(self.folder / "out" / self.made("out", ".pdf")[0])
        self.assertEqual(text.count("on Friday"), 1)
        self.assertIn("taken out of a wrapper, which is kept too (winmail.dat)", text)
        self.assertEqual((self.folder / "out" / self.made("out", "Survey.pdf")[0]).read_bytes(), _SURVEY)
        self.run_program("attachments", "box", "--into", "files")
        self.assertEqual(len(self.made("files", ".pdf")), 1)
        self.assertEqual(self.subjects("box", "--text", "leaves"), ["Berth 4"])

    def test_a_meeting_and_a_damaged_one(self) -> None:
        self.write("box", wrapped(meeting(), "When: Wednesday"))
        shown = pdf_text(self._page("box"))
        self.assertIn("Invitation: Survey of buoy 14", shown)
        self.assertIn("When: Wednesday", shown)
        whole = letter("Berth 4", "Cut short.", files=[("a.txt", b"x" * 500), ("b.txt", b"y" * 500)])
        content = wrapped(whole, "Text.").replace(b"\n--QUAY--", b"")
        self.write("cut", content[: len(content) - 700] + b"\n--QUAY--\n")
        shown = pdf_text(self._page("cut"))
        self.assertIn("a wrapper of text and attachments is damaged", shown)
        self.assertIn("a.txt", shown)

    def _page(self, name: str) -> object:
        self.run_program("export", name, "--into", f"{name} out")
        return self.folder / f"{name} out" / self.made(f"{name} out", ".pdf")[0]


class PersonalFolderFiles(Killed):
    def setUp(self) -> None:
        super().setUp()
        keyword = "berths".encode("utf-16-le")
        words = {CATEGORIES: (0x101F, struct.pack("<II", 1, 8) + keyword)}
        self.folders = {
            "Inbox": [
                letter(header=_HEADER, files=[("Survey.pdf", _SURVEY)], more=words),
                letter("Fog", "No sailing."),
            ],
            "Inbox/Buoy 14/2025": [letter(f"Mooring {n}", f"Letter {n}") for n in range(5)],
            "Sent": [letter("Re: Fog", people=[("Mara Quill", "mara@quillfreight.example", 3)])],
        }

    def test_folders_list_export(self) -> None:
        for layout, coding in (("unicode", 1), ("ansi", 2), ("large", 0)):
            with self.subTest(layout):
                path = self.folder / f"{layout}.pst"
                pst(path, self.folders, layout, coding, password=12)
                shown = self.run_program("folders", path).stdout
                self.assertIn("has a password: only a number that programs ask for", shown)
                rows = list(csv.DictReader(io.StringIO(self.run_program("folders", path, "--csv").stdout)))
                self.assertEqual(
                    {row["folder"]: row["messages"] for row in rows},
                    {"Inbox": "2", "Inbox/Buoy 14": "0", "Inbox/Buoy 14/2025": "5", "Sent": "1"},
                )
                self.assertEqual(self.subjects(path, "--keyword", "berths"), ["Berth 4 until Friday"])
                self.assertEqual(len(self.subjects(path, "--folder", "Inbox/*")), 5)
                self.run_program("export", path, "--as", "eml", "--into", layout)
                self.assertEqual(len(self.made(layout, ".eml")), 8)
        self.assertEqual(
            *(
                [(self.folder / layout / name).read_bytes() for name in self.made(layout, ".eml")]
                for layout in ("ansi", "large")
            )
        )
        sent = (self.folder / "ansi/Sent" / self.made("ansi/Sent", ".eml")[0]).read_bytes()
        self.assertIn(b"Bcc: Mara Quill <mara@quillfreight.example>", sent)

    def _bytes(self, *path: str) -> bytes:
        return self.folder.joinpath(*path).read_bytes()

    def test_backup_and_what_changed(self) -> None:
        pst(self.folder / "mail.pst", self.folders)
        self.run_program("backup", "mail.pst", "--into", "kept")
        self.run_program("verify", "kept")
        self.assertIn("8 already", self.run_program("backup", "mail.pst", "--into", "kept").stdout)
        self.folders["Sent"].append(letter("Re: Mooring 3"))
        pst(self.folder / "mail.pst", self.folders)
        self.run_program("backup", "mail.pst", "--into", "kept")
        self.assertEqual(len(self.subjects("kept")), 9)
        self.assertEqual(sorted(self.subjects("kept")), sorted(self.subjects("mail.pst")))

    def test_lost_messages_and_broken_tables(self) -> None:
        path = self.folder / "mail.pst"
        pst(path, self.folders, lost=[letter("Lost at sea"), letter("Lost as well")])
        self.assertEqual(len(self.subjects(path)), 8)
        self.assertEqual(self.subjects(path, "--salvage", "--folder", "Salvaged"), ["Lost at sea", "Lost as well"])
        data = bytearray(path.read_bytes())
        table = data.find(b"\x7c\x04", data.find("Fog".encode("utf-16-le")))  # of a folder: its list of messages
        data[table] = 0
        path.write_bytes(data)
        done = self.run_program("list", path, "--csv", code=1)
        self.assertEqual(len(done.stdout.splitlines()), 1 + 8)
        self.assertIn("the list of messages in", done.stderr)

    def test_bad_checksums(self) -> None:
        path = self.folder / "mail.pst"
        pst(path, self.folders)
        data = bytearray(path.read_bytes())
        at = data.find("No sailing".encode("utf-16-le"))
        data[at] ^= 1
        path.write_bytes(data)
        done = self.run_program("export", path, "--into", "out", code=1)
        self.assertIn("8 written", done.stdout)
        self.assertIn("has a wrong checksum", done.stdout + done.stderr)
        page = next(name for name in self.made("out", ".pdf") if "- Fog" in name)
        self.assertIn("the file that the message was kept in is damaged", pdf_text(self.folder / "out" / page))

    def test_killed_and_run_again(self) -> None:
        pst(self.folder / "mail.pst", self.folders)
        self.killed(("export", "mail.pst", "--as", "eml", "--into", "out"), "out", 6)
        self.killed(("backup", "mail.pst", "--into", "kept"), "kept", 4, same=False)


class OtherDialects(RunTest):
    def test_lengths_hide_no_line_and_no_message(self) -> None:
        """mboxcl2: lines that begin with From are not quoted, a length says where a message ends."""
        body = "\nFrom here Mon Mar 3 10:00:00 2025 the channel is narrow.\n\nFrom Tue Mar 4 11:00:00 2025 on it is wide.\n"
        data = plain_letter("Channel", body=body, more=f"Content-Length: {len(body)}\n")
        separator = b"From quay@saltmere.example Sat Mar 14 15:03:00 2026\n"
        self.write("lengths", separator + data + b"\n" + separator + plain_letter("Tide"))
        self.assertEqual(self.subjects("lengths"), ["Channel", "Tide"])
        self.run_program("export", "lengths", "--as", "eml", "--into", "out")
        self.assertIn(data, [(self.folder / "out" / name).read_bytes() for name in self.made("out", ".eml")])
        # a length that spans another message: that one is not lost
        liar = plain_letter("Liar", more=f"Content-Length: {len(data) + 500}\n")
        rest = separator + data + b"\n" + separator + plain_letter("Tide")
        length = len(plain_letter("Liar").partition(b"\n\n")[2]) + 1 + len(rest)
        liar = plain_letter("Liar", more=f"Content-Length: {length}\n")
        self.write("lies", separator + liar + b"\n" + rest)
        self.assertEqual(self.subjects("lies"), ["Liar", "Channel", "Tide"])

    def test_as_the_standard_library_writes_them(self) -> None:
        boxes = {"old.babyl": mailbox.Babyl, "old.mmdf": mailbox.MMDF}
        kinds = {"old.babyl": mailbox.BabylMessage, "old.mmdf": mailbox.MMDFMessage}
        letters = [plain_letter(f"Tide {n}", body=f"Table {n}\n") for n in range(4)]
        for name, kind in boxes.items():
            box = kind(str(self.folder / name), create=True)
            for number_, data in enumerate(letters):
                message = kinds[name](data)
                if isinstance(message, mailbox.BabylMessage):
                    message.update_visible()
                    message.add_label("answered" if number_ else "unseen")
                box.add(message)
            box.flush()
            box.close()
            self.assertEqual(self.subjects(name), [f"Tide {n}" for n in range(4)])
            self.run_program("export", name, "--as", "eml", "--into", f"{name} out")
            made = [
                (self.folder / f"{name} out" / each).read_bytes().strip() for each in self.made(f"{name} out", ".eml")
            ]
            self.assertEqual(sorted(made), sorted(data.strip() for data in letters))
        self.assertEqual(self.subjects("old.babyl", "--unseen"), ["Tide 0"])

    def test_subfolders_beside_their_mbox(self) -> None:
        self.write("Mail/Inbox", mbox(plain_letter("One")))
        self.write("Mail/Inbox.sbd/Berths", mbox(plain_letter("Two")))
        self.write("Mail/Inbox.sbd/Berths.sbd/Old", mbox(plain_letter("Three")))
        self.write("Mail/Inbox.msf", "// an index of its program\n")
        rows = {row["subject"]: row["folder"] for row in self.listed("Mail")}
        self.assertEqual(rows, {"One": "Inbox", "Two": "Inbox/Berths", "Three": "Inbox/Berths/Old"})
