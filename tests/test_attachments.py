"""Attachments: taken out byte for byte, embedded, beside, zipped, and turned into pages whose words are those of the file."""

from __future__ import annotations

import email
import email.policy
import hashlib
import io
import json
import os
import shutil
import signal
import sqlite3
import stat
import subprocess
import unittest
import zipfile
from collections import Counter
from collections.abc import Callable
from concurrent.futures import Future
from contextlib import closing
from datetime import date, datetime, time, timedelta
from pathlib import Path
from typing import cast
from unittest import mock

import openpyxl
import pikepdf
import pypdfium2

from tests.helpers import ProgramTest, check_with_others, mbox, missing_words, named_rows, pdf_text
from tests.helpers import letter_with as plain_letter_with
from wexagraph.demo import kinds as demo
from wexagraph.demo.build import Piece, file, forwarded, message, multipart, text, when
from wexagraph.demo.files import pdf, zipped
from wexagraph.demo.mailbox import make_mailbox
from wexagraph.exports.attachments.options import ExtractOptions
from wexagraph.exports.attachments.run import extract
from wexagraph.languages import language
from wexagraph.messages.filetypes import DOCX, PROGRAM, contradicts, recognise, settle
from wexagraph.pages.attachments.convert import time_limit
from wexagraph.pages.attachments.office import document_html
from wexagraph.pages.attachments.pictures import frames
from wexagraph.pages.attachments.sheets import shown
from wexagraph.pages.composing.cards import calendar_cards
from wexagraph.pages.make import Job, make
from wexagraph.pages.options import PageOptions
from wexagraph.sources import open_source
from wexagraph.sources.base import Envelope
from wexagraph.work.batches import WorkerLost
from wexagraph.work.pool import ProcessWorkers

HERE = Path(__file__).parent


def letter_with(*parts: Piece | bytes, subject: str = "Files") -> bytes:
    return message(
        "Ines Halden <ines@quaysurvey.example>",
        "records@saltmere.example",
        subject,
        when("2026-03-14", 15, 3),
        multipart("mixed", text("See below.\n"), *parts),
    )


def decoded(data: bytes) -> Counter[bytes]:
    """Digests of the attachments of a message, as Python's own package decodes them."""
    digests: Counter[bytes] = Counter()

    def walk(part: email.message.Message) -> None:
        if part.is_multipart() and part.get_content_maintype() == "multipart":
            for child in part.get_payload():  # type: ignore[union-attr]
                walk(child)  # type: ignore[arg-type]
        elif part.get_content_disposition() == "attachment":
            digests[hashlib.sha256(part.get_payload(decode=True) or b"").digest()] += 1  # type: ignore[arg-type]

    walk(email.message_from_bytes(data, policy=email.policy.compat32))
    return digests


class TakenOut(ProgramTest):
    def attachments(self, source: object, *arguments: object, code: int = 0) -> str:
        done = self.run_program("attachments", source, "--flat", "--into", "att", *arguments, code=code)
        return str(done.stdout)

    def test_every_one_byte_for_byte(self) -> None:
        made = make_mailbox(self.folder / "in")
        wanted: Counter[bytes] = Counter()
        for held in made.messages.values():
            for data in held:
                wanted += decoded(data)
        self.attachments("in")
        digests = Counter(
            hashlib.sha256((self.folder / "att" / name).read_bytes()).digest() for name in self.made("att")
        )
        self.assertEqual(wanted - digests, Counter())
        self.assertIn("0 altered; 0 foreign", self.run_program("verify", "att").stdout)
        with open(self.folder / "att" / "attachments.csv", encoding="utf-8-sig", newline="") as register:
            rows = named_rows(register)
        self.assertEqual(len(rows), sum(digests.values()))
        for row in rows:
            content = (self.folder / "att" / row["file"]).read_bytes()
            self.assertEqual((hashlib.sha256(content).hexdigest(), str(len(content))), (row["sha256"], row["size"]))
        again = self.attachments("in")
        self.assertIn(f"0 written, {len(rows)} already there", again)

    def test_names_times_and_permissions(self) -> None:
        names = [
            "../../up.txt",
            "C:\\boot.ini",
            "NUL",
            "a" * 400 + ".pdf",
            "invoice.pdf.exe",
            "photo\u202egpj.exe",
            "Übersicht.txt",
            "x/y\\z.txt",
        ]
        unnamed = Piece(b"Content-Type: application/pdf\nContent-Disposition: attachment\n", b"%PDF-1.4\n")
        wrong = Piece(b'Content-Type: text/plain; name="Caf\xe9.txt"\nContent-Disposition: attachment\n', b"x")
        pieces = b"Content-Type: text/plain\nContent-Disposition: attachment;\n filename*0*=utf-8''K%C3%A4;\n filename*1=se.txt\n\ny\n"
        self.write(
            "in/a.eml",
            letter_with(
                *[file(n, "application/octet-stream", b"MZ" if "exe" in n else n.encode()) for n in names],
                unnamed,
                wrong,
                pieces,
            ),
        )
        out = self.attachments("in")
        made = self.made("att")
        self.assertEqual(len(made), len(names) + 3)
        self.assertTrue(
            all("/" not in name and len(name.encode()) < 256 and "\u202e" not in name for name in made), made
        )
        for part in ("Übersicht.txt", "Café.txt", "Käse.txt", "invoice.pdf.exe", "photogpj.exe"):
            self.assertTrue(any(part in name for name in made), part)
        self.assertIn("another type than it says", out)
        for name in made:
            about = (self.folder / "att" / name).stat()
            self.assertFalse(about.st_mode & (stat.S_IXUSR | stat.S_IXGRP | stat.S_IXOTH))
            self.assertEqual(int(about.st_mtime), int(when("2026-03-14", 15, 3).timestamp()))

    def test_names_in_bytes_that_nothing_is_said_of(self) -> None:
        """They are in the character set of the text beside them; a subject is in that of an encoded word beside it."""
        for number, (charset, words) in enumerate(
            [("koi8-r", "Приливы"), ("gb2312", "疏浚申请"), ("euc-kr", "준설 작업"), ("iso-8859-2", "Ślip łodzi")]
        ):
            raw, label = words.encode(charset), charset.encode()
            self.write(
                f"in/{number}.eml",
                letter_with(
                    Piece(b"Content-Type: text/plain; charset=" + label + b"\n", raw),
                    Piece(b'Content-Type: application/pdf; name="' + raw + b'.pdf"\n', b"%PDF-1.4\n"),
                ).replace(b"Subject: ", b"Subject: " + raw + b" =?" + label + b"?q?=20?= "),
            )
            with self.subTest(charset):
                self.run_program("attachments", f"in/{number}.eml", "--flat", "--into", charset, "--name", "{filename}")
                self.assertTrue((self.folder / charset / f"{words}.pdf").exists())
                listed = self.run_program("list", f"in/{number}.eml", "--json").stdout
                self.assertTrue(json.loads(listed)[0]["subject"].startswith(words), listed)

    def test_an_id_that_no_message_has(self) -> None:
        self.write("in/a.eml", letter_with(file("a.txt", "text/plain", b"a")))
        for command in ("attachments", "backup", "export"):
            done = self.run_program(command, "in", "--id", "nosuch1234", "--into", command, code=1)
            self.assertIn("Not found: nosuch1234.", done.stdout)

    def test_filters(self) -> None:
        self.write(
            "in/a.eml",
            letter_with(
                file("a.xlsx", "application/x-x", b"1" * 5000),
                file("b.png", "image/png", b"2" * 50),
                file("c.txt", "text/plain", b"3"),
            ),
        )
        for arguments, wanted in [
            (["--attached", "*.xlsx"], ["a.xlsx"]),
            (["--attached", "image/*"], ["b.png"]),
            (["--file-larger", "1KB"], ["a.xlsx"]),
            (["--file-smaller", "10"], ["c.txt"]),
            (["--attached", "*.xlsx", "--attached", "*.txt"], ["a.xlsx", "c.txt"]),
        ]:
            with self.subTest(arguments):
                self.run_program(
                    "attachments", "in", "--flat", "--into", f"out{wanted}", "--name", "{filename}", *arguments
                )
                self.assertEqual(self.made(f"out{wanted}"), wanted)
        self.run_program("attachments", "in", "--flat", "--into", "x", "--file-larger", "much", code=2)

    def test_a_mailbox_that_was_compacted_or_copied(self) -> None:
        letters = [
            letter_with(file(f"plan {n}.txt", "text/plain", b"berth %d" % n), subject=f"Permit {n}") for n in range(5)
        ]
        twice = letters[4]
        self.write("in.mbox", mbox(*letters, twice))
        self.run_program("attachments", "in.mbox", "--into", "out")
        before = self.made("out")
        self.assertEqual(len(before), 6)
        self.write("in.mbox", mbox(*(letters[n] for n in (1, 3, 4)), twice))
        done = self.run_program("attachments", "in.mbox", "--into", "out").stdout
        self.assertIn("0 written, 4 already there", done)
        self.write("copied/in.mbox", mbox(*letters[:4], letter_with(file("new.txt", "text/plain", b"new"))))
        self.assertIn(
            "1 written, 4 already there", self.run_program("attachments", "copied/in.mbox", "--into", "out").stdout
        )
        self.assertEqual(len(self.made("out")), 7)
        self.assertFalse([name for name in set(self.made("out")) - set(before) if "(" in name])
        self.run_program("verify", "out")

    def test_once_and_then_each(self) -> None:
        self.write(
            "in.mbox", mbox(*(letter_with(file("plan.txt", "text/plain", b"berth"), subject=f"{n}") for n in range(4)))
        )
        self.assertIn("1 written", self.run_program("attachments", "in.mbox", "--into", "out", "--once").stdout)
        self.assertIn(
            "0 written, 4 already there", self.run_program("attachments", "in.mbox", "--into", "out", "--once").stdout
        )
        self.assertIn("3 written, 1 already there", self.run_program("attachments", "in.mbox", "--into", "out").stdout)
        self.assertEqual(len(self.made("out")), 4)
        self.assertIn("0 written, 4 already there", self.run_program("attachments", "in.mbox", "--into", "out").stdout)

    def test_inside_others_and_once(self) -> None:
        inner = letter_with(file("deep.txt", "text/plain", b"deep"), subject="Inner")
        archive = zipped({"a/one.txt": b"one", "two.txt": b"one"})
        self.write(
            "in/a.eml",
            letter_with(
                forwarded(inner), file("pack.zip", "application/zip", archive), file("same.txt", "text/plain", b"one")
            ),
        )
        self.run_program("attachments", "in", "--flat", "--into", "plain", "--name", "{filename}")
        self.assertEqual(self.made("plain"), ["Inner.eml", "pack.zip", "same.txt"])
        self.attachments("in", "--name", "{filename}", "--nested", "--open-zips", "--once")
        self.assertEqual(self.made("att"), ["Inner.eml", "deep.txt", "one.txt", "pack.zip"])
        logo = demo.kinds()[-1]
        self.write("logo/a.eml", logo)
        self.assertIn("0 written", self.run_program("attachments", "logo", "--flat", "--into", "l1").stdout)
        self.assertIn("1 written", self.run_program("attachments", "logo", "--flat", "--into", "l2", "--inline").stdout)

    def test_files_of_one_name_in_one_message(self) -> None:
        """In it, in messages inside it, and written into its text: each is kept, and known again."""
        inner = letter_with(file("plan.txt", "text/plain", b"inner"), subject="Inner")
        texts = "".join(f"begin 644 log.txt\n!{chr(32 + n)}0  \n`\nend\n" for n in (16, 17))
        data = letter_with(
            text(texts), file("plan.txt", "text/plain", b"outer"), forwarded(inner), forwarded(inner + b"\n")
        )
        self.write("in/a.eml", data)
        self.assertIn("7 written", self.attachments("in", "--nested", "--name", "{filename}"))
        self.assertIn("8 of 8 listed files are whole", self.run_program("verify", "att").stdout)
        self.assertIn("0 written, 7 already there", self.attachments("in", "--nested", "--name", "{filename}"))

    def test_a_lost_file_is_written_again_and_others_are_left_alone(self) -> None:
        self.write("m.mbox", mbox(*[letter_with(file("plan.txt", "text/plain", b"%d" % n)) for n in range(5)]))
        self.attachments("m.mbox")
        made = self.made("att")
        self.assertEqual(len(made), 5)
        (self.folder / "att" / made[2]).unlink()
        (self.folder / "att" / made[3]).write_bytes(b"changed")
        self.assertIn("2 written, 3 already there", self.attachments("m.mbox"))
        self.assertEqual({(self.folder / "att" / name).read_bytes() for name in made}, {b"%d" % n for n in range(5)})

    def test_beside_an_export_in_one_folder(self) -> None:
        """Each knows its own again, whichever came first, also where the journal was lost; one list proves both."""
        self.write("m.mbox", mbox(*[letter_with(file(f"{n}.txt", "text/plain", b"%d" % n)) for n in range(3)]))
        export = ("export", "m.mbox", "--as", "eml", "--into")
        for first, second in (("attachments", "export"), ("export", "attachments")):
            into = f"{first} first"
            calls = {"export": (*export, into), "attachments": ("attachments", "m.mbox", "--into", into)}
            for command in (first, second):
                self.assertIn("3 written, 0 already there", self.run_program(*calls[command]).stdout)
            made = self.made(into)
            self.assertEqual(len(made), 6)
            for lost in (False, True):
                if lost:
                    shutil.rmtree(self.folder / into / ".wexagraph")
                for command in (first, second):
                    self.assertIn("0 written, 3 already there", self.run_program(*calls[command]).stdout)
                self.assertEqual(self.made(into), made)
                self.assertIn("8 of 8 listed files are whole", self.run_program("verify", into).stdout)
            for table, column in (("register.csv", "files"), ("attachments.csv", "file")):
                with open(self.folder / into / table, encoding="utf-8-sig", newline="") as rows:
                    self.assertEqual(len({row[column] for row in named_rows(rows)}), 3, table)
            listed = (self.folder / into / "manifest-sha256.txt").read_bytes()
            done = subprocess.run(["sha256sum", "-c", "-"], input=listed, cwd=self.folder / into, capture_output=True)
            self.assertEqual(done.returncode, 0, done.stdout)

    def test_what_an_earlier_version_took_out(self) -> None:
        """Its record was one of its own, and its list called as the register of messages. It is known again, by hand and
        before an export; what somebody has changed stays."""
        for then in (("attachments",), ("export", "--as", "eml")):
            for by_hand in (False, True):
                with self.subTest(then=then, by_hand=by_hand):
                    into = self.earlier(by_hand)
                    done = self.run_program(then[0], "in.mbox", *then[1:], "--into", into.name)
                    self.assertIn("0 written, 3" if then[0] == "attachments" else "3 written, 0", done.stdout)
                    again = self.run_program("attachments", "in.mbox", "--into", into.name, "--dry-run")
                    self.assertIn("0 would be written, 3 already there", again.stdout)
                    self.assertIn(
                        "0 written, 3", self.run_program("attachments", "in.mbox", "--into", into.name).stdout
                    )
                    self.assertIn("plan 2.txt", (into / "attachments.csv").read_text("utf-8-sig"))
                    kept = into / "register (changed by hand).csv"
                    self.assertEqual(kept.exists() and kept.read_text(), by_hand and "mine")
                    self.assertFalse((into / ".wexagraph/attachments.sqlite").exists())
                    found = self.run_program("verify", into.name).stdout
                    self.assertIn("0 missing, 0 altered", found)
                    shutil.rmtree(into)

    def earlier(self, by_hand: bool) -> Path:
        """A folder as version 1 of the record left it."""
        files = [(f"plan {n}.txt", "text/plain", b"berth %d\n" % n) for n in range(3)]
        self.write("in.mbox", mbox(*(plain_letter_with(each, subject=f"Permit {n}") for n, each in enumerate(files))))
        for name, _, content in files:
            self.write(f"out/in/2026-03-09 Slipway desk - {name}", content)
        register = (HERE / "attachments-of-version-1.csv").read_bytes()
        self.write("out/register.csv", "mine" if by_hand else register)
        record = self.write("out/.wexagraph/attachments.sqlite", "")
        with closing(sqlite3.connect(record)) as base:
            sql = (HERE / "attachments-of-version-1.sql").read_text().replace("@HERE@", str(self.folder))
            base.executescript(sql)
        return self.folder / "out"

    def test_a_damaged_archive_harms_its_own_message_only(self) -> None:
        for method, first in ((zipfile.ZIP_DEFLATED, 0), (zipfile.ZIP_BZIP2, 4), (zipfile.ZIP_LZMA, 9)):
            out = io.BytesIO()
            with zipfile.ZipFile(out, "w", method) as archive:
                for name in ("mimetype", "lost.txt", "kept.txt"):
                    archive.writestr(name, name * 40)
            packed = bytearray(out.getvalue())
            for name in (b"mimetype", b"lost.txt"):
                at = packed.index(name) + len(name) + first
                packed[at : at + 4] = b"\xee" * 4
            self.write(f"in/{method}.eml", letter_with(file(f"{method}.odt", "application/zip", bytes(packed))))
        self.write("in/whole.eml", letter_with(file("whole.txt", "text/plain", b"whole")))
        self.attachments("in", "--open-zips", "--name", "{filename}")
        wanted = [
            *(f"kept{turn}.txt" for turn in ("", " (2)", " (3)")),
            *(f"{n}.odt" for n in (12, 14, 8)),
            "whole.txt",
        ]
        self.assertEqual(self.made("att"), sorted(wanted))
        for way in ("embed", "pages", "beside"):
            done = self.run_program("export", "in", "--into", way, "--attachments", way)
            self.assertIn("4 messages chosen: 4 written, 0 already there, 0 failed.", done.stdout)

    def test_what_could_not_be_put_is_tried_again(self) -> None:
        self.write("in/a.eml", letter_with(file("one.txt", "text/plain", b"1"), file("two.txt", "text/plain", b"2")))
        (self.folder / "att").mkdir()
        (self.folder / "elsewhere").mkdir()
        (self.folder / "att" / "two").symlink_to(self.folder / "elsewhere")
        pattern = ("--name", "{filename}/x")
        self.assertIn("is a symbolic link", self.attachments("in", *pattern, code=1))
        self.assertIn("is a symbolic link", self.attachments("in", *pattern, code=1), "nor is it forgotten")
        (self.folder / "att" / "two").unlink()
        self.assertIn("1 written, 1 already there", self.attachments("in", *pattern))
        self.assertEqual(list((self.folder / "elsewhere").iterdir()), [])

    def test_a_message_that_breaks_its_worker_fails_alone(self) -> None:
        letters = [letter_with(file("n.txt", "text/plain", b"%d" % n), subject=f"m{n}") for n in range(45)]
        self.write("m.mbox", mbox(*letters))
        submit = ProcessWorkers.submit_lasting

        def breaking(workers: ProcessWorkers, function: Callable[..., object], *arguments: object) -> Future[object]:
            envelopes = cast(list[Envelope], arguments[2])
            if any(envelope.header.subject == "m3" for envelope in envelopes):
                broken: Future[object] = Future()
                broken.set_exception(WorkerLost(False) if len(envelopes) > 1 else MemoryError())
                return broken
            return submit(workers, function, *arguments)

        with (
            mock.patch.object(ProcessWorkers, "submit_lasting", breaking),
            open_source(self.folder / "m.mbox") as source,
        ):
            report = extract(source, self.folder / "att", options=ExtractOptions(jobs=2, flat=True))
        self.assertEqual((report.chosen, report.written, report.failed), (45, 44, 1))
        self.assertIn("more memory", report.failures[0].reason)
        self.assertEqual(report.failures[0].subject, "m3")
        self.assertIn("1 written, 44 already there", self.attachments("m.mbox"))

    def test_hostile_archives(self) -> None:
        bomb = io.BytesIO()
        with zipfile.ZipFile(bomb, "w", zipfile.ZIP_DEFLATED) as archive:
            archive.writestr("zeros", bytes(80_000_000))
            archive.writestr("../../../etc/passwd", b"up")
        self.write(
            "in/a.eml",
            letter_with(
                file("bomb.zip", "application/zip", bomb.getvalue()),
                file("cut.zip", "application/zip", bomb.getvalue()[:900]),
            ),
        )
        self.attachments("in", "--open-zips", "--name", "{filename}")
        self.assertEqual(self.made("att"), ["bomb.zip", "cut.zip", "passwd"])
        self.run_program("export", "in", "--into", "out", "--attachments", "pages", "--open-zips")
        self.assertLess(len(pypdfium2.PdfDocument(next((self.folder / "out").rglob("*.pdf")))), 8)


class Ways(ProgramTest):
    def export(self, ways: str, *parts: Piece | bytes, more: tuple[str, ...] = ()) -> Path:
        self.write("in/a.eml", letter_with(*parts))
        out = f"out-{ways}"
        self.run_program("export", "in", "--into", out, "--attachments", ways, *more)
        return next((self.folder / out).rglob("*.pdf"))

    def embedded(self, path: Path) -> dict[str, bytes]:
        with pikepdf.open(path) as document:
            return {name: bytes(spec.get_file().read_bytes()) for name, spec in document.attachments.items()}

    def test_each_way(self) -> None:
        one = file("one.txt", "text/plain", b"The words of one.\n")
        self.assertEqual(self.embedded(self.export("embed", one)), {"one.txt": b"The words of one.\n"})
        self.assertEqual(self.embedded(self.export("none", one)), {})
        path = self.export("pages", one)
        self.assertEqual((self.embedded(path), len(pypdfium2.PdfDocument(path))), ({}, 2))
        self.assertIn("The words of one.", pdf_text(path))
        path = self.export("pages,embed", one)
        self.assertEqual((len(self.embedded(path)), len(pypdfium2.PdfDocument(path))), (1, 2))
        stem = self.export("beside,zip", one, file("two.bin", "application/x-x", b"2")).with_suffix("")
        self.assertEqual((stem / "two.bin").read_bytes(), b"2")
        with zipfile.ZipFile(f"{stem} attachments.zip") as archive:
            self.assertEqual(archive.read("one.txt"), b"The words of one.\n")
        self.assertIn("0 foreign", self.run_program("verify", "out-beside,zip").stdout)
        (stem / "two.bin").unlink()
        self.assertIn(
            "Made again",
            self.run_program("export", "in", "--into", "out-beside,zip", "--attachments", "beside,zip").stdout,
        )
        self.assertEqual((stem / "two.bin").read_bytes(), b"2")
        for wrong in ("paged", "none,embed", ","):
            self.run_program("export", "in", "--into", "out", "--attachments", wrong, code=2)

    def test_a_way_for_some_alone(self) -> None:
        parts = [
            file("notes.txt", "text/plain", b"The notes.\n"),
            file("plan.pdf", "application/pdf", pdf("Plan of the quay")),
            file("list.csv", "text/csv", b"a,b\n"),
        ]
        path = self.export("pages:*.pdf,text/csv", *parts, more=("--attachments", "embed:*.txt"))
        self.assertEqual(list(self.embedded(path)), ["notes.txt"])
        self.assertEqual(len(pypdfium2.PdfDocument(path)), 3)
        with pikepdf.open(path) as document:
            links = [annotation for annotation in document.pages[0].Annots if annotation.get("/Subtype") == "/Link"]
            targets = [document.pages.index(pikepdf.Page(link.A.D[0])) for link in links]
        self.assertEqual(targets, [1, 2], "the names lead to their own pages")
        stem = self.export("beside:*.pdf", *parts).with_suffix("")
        self.assertEqual([each.name for each in stem.iterdir()], ["plan.pdf"])
        again = ("export", "in", "--into", "out-beside:*.pdf", "--attachments")
        self.assertIn("0 written, 1 already there", self.run_program(*again, "beside:*.pdf").stdout)
        self.assertIn("1 written", self.run_program(*again, "beside").stdout)
        self.assertEqual(len(list(stem.iterdir())), 3)
        for wrong in ("pages:", "*.pdf", "embed,*.pdf", "pages:*.pdf,none"):
            self.run_program("export", "in", "--into", "out", "--attachments", wrong, code=2)
        self.write("wexagraph.toml", "[options.export]\nattachments = 'pages:*.pdf,image/*'\n")
        self.assertIn("pages:*.pdf,image/*", self.run_program("config", "export").stdout)

    def test_pages_where_there_is_no_pdf(self) -> None:
        self.write("in/a.eml", letter_with(file("a.txt", "text/plain", b"words")))
        for formats in ("html", "text", "eml", "mbox"):
            self.run_program("export", "in", "--into", formats, "--as", formats, "--attachments", "pages")

    def test_a_type_that_is_not_so_is_noted_whichever_way(self) -> None:
        for ways, noted in (("embed", True), ("pages", True), ("zip", True), ("none", False)):
            self.export(ways, file("plan.pdf", "application/pdf", b"MZ\x90"))
            register = (self.folder / f"out-{ways}" / "register.csv").read_text("utf-8-sig")
            self.assertEqual("plan.pdf is application/x-executable" in register, noted, ways)

    def test_one_that_is_not_whole_is_noted(self) -> None:
        whole = letter_with(file("plan.pdf", "application/pdf", pdf("Plan of the quay")))
        end = whole.rindex(b"\n--")
        self.write("in/a.eml", whole[: end - 6] + whole[end:])
        self.run_program("export", "in", "--into", "out")
        self.assertIn("encoding is damaged", (self.folder / "out/register.csv").read_text("utf-8-sig"))
        self.run_program("attachments", "in", "--into", "files")
        self.assertIn("encoding is damaged", (self.folder / "files/attachments.csv").read_text("utf-8-sig"))

    def test_the_list_on_the_page_leads_to_pages_and_files(self) -> None:
        parts = [file(f"{name}.txt", "text/plain", name.encode()) for name in ("one", "two")]
        with pikepdf.open(self.export("embed", *parts)) as document:
            annotations = [a for a in document.pages[0].Annots if a.Subtype == "/FileAttachment"]
            self.assertEqual([bytes(a.FS.EF.F.read_bytes()) for a in annotations], [b"one", b"two"])
        with pikepdf.open(self.export("pages", *parts)) as document:
            pages = [page.objgen for page in document.pages]
            self.assertEqual([pages.index(a.A.D[0].objgen) for a in document.pages[0].Annots], [1, 2])
        for ways in ("none", "beside"):
            with pikepdf.open(self.export(ways, *parts)) as document:
                self.assertEqual(len(document.pages[0].get("/Annots", [])), 0)

    def test_pdfs_and_their_bookmarks(self) -> None:
        path = self.export(
            "pages",
            file("plan.pdf", "application/pdf", demo.bookmarked()),
            file("locked.pdf", "application/pdf", demo.locked()),
            file("broken.pdf", "application/pdf", b"%PDF-1.7\nnothing"),
        )
        check_with_others(self, path)
        with pikepdf.open(path) as document, document.open_outline() as outline:
            pages = {page.objgen: number for number, page in enumerate(document.pages)}
            bookmarks = [(str(item.title), [str(child.title) for child in item.children]) for item in outline.root]
            below = [pages[child.destination[0].objgen] for child in outline.root[1].children]
        self.assertEqual(
            bookmarks,
            [("Files", []), ("plan.pdf", ["Inner basin", "East quay"]), ("locked.pdf", []), ("broken.pdf", [])],
        )
        self.assertEqual(below, [1, 2])
        self.assertEqual(set(self.embedded(path)), {"locked.pdf", "broken.pdf"}, "what can't be pages is embedded")
        self.assertIn("locked with a password", pdf_text(path))

    def test_nothing_runs_from_a_pdf(self) -> None:
        with pikepdf.open(io.BytesIO(pdf("Trap", "words"))) as document:
            page = document.pages[0]
            script = pikepdf.Dictionary(S=pikepdf.Name("/JavaScript"), JS="app.alert(1)")
            page.AA = pikepdf.Dictionary(O=script)
            web = pikepdf.Dictionary(S=pikepdf.Name("/URI"), URI="https://saltmere.example/")
            chained = pikepdf.Dictionary(S=pikepdf.Name("/URI"), URI="https://saltmere.example/", Next=script)
            disk = pikepdf.Dictionary(S=pikepdf.Name("/URI"), URI="file://host/share")
            page.Annots = pikepdf.Array(
                pikepdf.Dictionary(
                    Type=pikepdf.Name("/Annot"), Subtype=pikepdf.Name("/Link"), Rect=[0, 0, 9, 9], A=action
                )
                for action in (web, script, chained, disk, 7, pikepdf.Array([script]))
            )
            page.Annots.append(7)
            document.Root.OpenAction = script
            out = io.BytesIO()
            document.save(out)
        path = self.export("pages", file("trap.pdf", "application/pdf", out.getvalue()))
        with pikepdf.open(path) as document:
            self.assertNotIn("/OpenAction", document.Root)
            for page in document.pages:
                self.assertNotIn("/AA", page)
            links = document.pages[1].Annots
            self.assertEqual(
                [dict(link.A) for link in links], [{"/S": pikepdf.Name.URI, "/URI": "https://saltmere.example/"}] * 2
            )

    def test_an_office_suite(self) -> None:
        rtf = file("letter.rtf", "application/rtf", rb"{\rtf1 words}")
        self.write("bin/pdf", pdf("Made by the suite", "The mooring at buoy 14."))
        # a stand-in for the suite: notes how it was called, and makes the PDF it has
        stand_in = self.write(
            "bin/soffice",
            f'#!/bin/sh\necho "$@" > {self.folder}/bin/called\nwhile [ "$1" != --outdir ]; do shift; done\ncp {self.folder}/bin/pdf "$2/attachment.pdf"\n',
        )
        stand_in.chmod(0o755)
        self.write("in/a.eml", letter_with(rtf))
        env = {"PATH": f"{self.folder}/bin:{os.environ['PATH']}"}
        self.run_program("export", "in", "--into", "out", "--attachments", "pages", env=env)
        self.assertIn("The mooring at buoy 14.", pdf_text(next((self.folder / "out").rglob("*.pdf"))))
        called = (self.folder / "bin/called").read_text()
        for word in ("--headless", "-env:UserInstallation=file:///", "--convert-to pdf"):
            self.assertIn(word, called)
        stand_in.write_text("#!/bin/sh\nexit 3\n")
        self.run_program("export", "in", "--into", "out2", "--attachments", "pages", env=env)
        self.assertIn("exit code 3", pdf_text(next((self.folder / "out2").rglob("*.pdf"))))

    def test_what_a_document_holds_beside_its_text(self) -> None:
        """Headers, footers, notes, comments with their authors, and what tracked changes took away, struck through: each
        word that LibreOffice prints of it is there."""
        word = 'xmlns:w="http://schemas.openxmlformats.org/wordprocessingml/2006/main"'
        of = "http://schemas.openxmlformats.org/officeDocument/2006/relationships"
        kinds = ("header", "footer", "footnotes", "comments")
        run = "<w:r><w:t xml:space='preserve'>{}</w:t></w:r>"
        change = 'w:id="{}" w:author="Ines Halden" w:date="2026-03-09T10:00:00Z"'
        parts = {
            "header": f"<w:hdr {word}><w:p>{run.format('Port office letterhead')}</w:p></w:hdr>",
            "footer": f"<w:ftr {word}><w:p>{run.format('Quay road seven')}</w:p></w:ftr>",
            "footnotes": f'<w:footnotes {word}><w:footnote w:id="2"><w:p>{run.format("Measured at ebb")}</w:p></w:footnote>'
            "</w:footnotes>",
            "comments": f'<w:comments {word}><w:comment w:initials="IH" {change.format(0)}><w:p>'
            f"{run.format('Too dear')}</w:p></w:comment></w:comments>",
        }
        text = (
            f"<w:p>{run.format('The fee is ')}<w:del {change.format(5)}><w:r><w:delText>ninety</w:delText></w:r></w:del>"
            f"<w:ins {change.format(6)}>{run.format('eighty')}</w:ins>{run.format(' crowns')}"
            '<w:r><w:footnoteReference w:id="2"/></w:r><w:r><w:commentReference w:id="0"/></w:r></w:p>'
            f"<w:p><w:moveFrom {change.format(7)}>{run.format('Moved away')}</w:moveFrom></w:p>"
            f"<w:p><w:moveTo {change.format(8)}>{run.format('Moved here')}</w:moveTo></w:p>"
            f'<w:sectPr><w:headerReference w:type="default" r:id="rheader"/><w:footerReference w:type="default" r:id="rfooter"/>'
            "</w:sectPr>"
        )
        main = "application/vnd.openxmlformats-officedocument.wordprocessingml"
        types = "".join(f'<Override PartName="/word/{n}.xml" ContentType="{main}.{n}+xml"/>' for n in kinds)
        members = {
            "[Content_Types].xml": '<Types xmlns="http://schemas.openxmlformats.org/package/2006/content-types">'
            '<Default Extension="rels" ContentType="application/vnd.openxmlformats-package.relationships+xml"/>'
            f'<Override PartName="/word/document.xml" ContentType="{main}.document.main+xml"/>{types}</Types>',
            "_rels/.rels": '<Relationships xmlns="http://schemas.openxmlformats.org/package/2006/relationships">'
            f'<Relationship Id="r1" Type="{of}/officeDocument" Target="word/document.xml"/></Relationships>',
            "word/_rels/document.xml.rels": '<Relationships xmlns="http://schemas.openxmlformats.org/package/2006/relationships">'
            + "".join(f'<Relationship Id="r{n}" Type="{of}/{n}" Target="{n}.xml"/>' for n in kinds)
            + "</Relationships>",
            "word/document.xml": f'<w:document {word} xmlns:r="{of}"><w:body>{text}</w:body></w:document>',
            **{f"word/{name}.xml": xml for name, xml in parts.items()},
        }
        content = zipped({name: data.encode() for name, data in members.items()})
        self.write("in/a.eml", letter_with(file("fee.docx", DOCX, content)))
        self.run_program("export", "in", "--into", "out", "--attachments", "pages")
        shown = " ".join(pdf_text(next((self.folder / "out").rglob("*.pdf"))).split())
        for words in (
            "Port office letterhead",
            "Quay road seven",
            "Measured at ebb",
            "Too dear",
            "IH",
            "ninety",
            "eighty crowns",
            "Moved here",
            "Moved away",
        ):
            self.assertIn(words, shown)
        self.assertIn("<s>ninety</s>", document_html(content))
        self.assertIn("<s>Moved away</s>", document_html(content))
        self.assertLess(shown.index("letterhead"), shown.index("The fee"))
        self.assertLess(shown.index("The fee"), shown.index("Quay road"))
        self.write("fee.docx", content)
        home = f"-env:UserInstallation={(self.folder / 'home').as_uri()}"
        call = [shutil.which("soffice") or "true", "--headless", home, "--convert-to", "pdf", "fee.docx"]
        subprocess.run(call, cwd=self.folder, check=False, capture_output=True)
        if (self.folder / "fee.pdf").exists():  # the suite's part for texts is not on every machine
            printed = [word for word in pdf_text(self.folder / "fee.pdf").split() if word.strip(".,").isalpha()]
            self.assertEqual([word for word in printed if word not in shown], [])

    def test_a_form_whose_values_nobody_has_drawn(self) -> None:
        with pikepdf.open(io.BytesIO(pdf("Permit"))) as form:
            font = form.make_indirect(
                pikepdf.Dictionary(Type=pikepdf.Name.Font, Subtype=pikepdf.Name.Type1, BaseFont=pikepdf.Name.Helvetica)
            )
            field = form.make_indirect(
                pikepdf.Dictionary(
                    Type=pikepdf.Name.Annot,
                    Subtype=pikepdf.Name.Widget,
                    FT=pikepdf.Name.Tx,
                    T=pikepdf.String("berth"),
                    V=pikepdf.String("Cormorant"),
                    Rect=[50, 50, 250, 80],
                    F=4,
                    DA=pikepdf.String("/Helv 12 Tf 0 g"),
                )
            )
            form.pages[0].Annots = pikepdf.Array([field])
            form.Root.AcroForm = pikepdf.Dictionary(
                Fields=[field],
                DA=pikepdf.String("/Helv 12 Tf 0 g"),
                DR=pikepdf.Dictionary(Font=pikepdf.Dictionary(Helv=font)),
            )
            out = io.BytesIO()
            form.save(out)
        self.write("in/a.eml", letter_with(file("permit.pdf", "application/pdf", out.getvalue())))
        self.run_program("export", "in", "--into", "out", "--attachments", "pages")
        document = pypdfium2.PdfDocument(next((self.folder / "out").rglob("*.pdf")))
        page = document[len(document) - 1]
        drawn = (
            page.render(may_draw_forms=True)
            .to_pil()
            .convert("L")
            .crop((50, int(page.get_height()) - 80, 250, int(page.get_height()) - 50))
        )
        self.assertLess(drawn.getextrema()[0], 80, "its value is to be seen")

    def test_calendars_as_programs_write_them(self) -> None:
        event = "BEGIN:VCALENDAR\r\nVERSION:2.0\r\nBEGIN:VEVENT\r\nSUMMARY:Dredging of the \r\n east basin\r\nDTSTART:20260309T090000Z\r\nRRULE:FREQ=WEEKLY;BYDAY=MO, TU;COUNT=4\r\nEND:VEVENT\r\nEND:VCALENDAR\r\n"
        for mark in ("", "\ufeff"):
            ((title, rows),) = calendar_cards((mark + event).encode(), None, language("en"))
            self.assertEqual(title, "Appointment: Dredging of the east basin")
            self.assertEqual(dict(rows)["Repeats"], "every week (MO, TU), 4 times")

    def test_what_no_pages_can_be_made_of_is_said_in_a_sentence(self) -> None:
        self.write("in/a.eml", letter_with(file("quay.png", "image/png", b"\x89PNG\r\n\x1a\nnothing")))
        self.run_program("export", "in", "--into", "out", "--attachments", "pages")
        shown = " ".join(pdf_text(next((self.folder / "out").rglob("*.pdf"))).split())
        self.assertIn("it is no picture of a kind that can be read here", shown)
        self.assertNotIn("BytesIO", shown)

    def test_a_lock_that_one_reader_opens(self) -> None:
        """Its PDF is made or not: its own bytes are there."""
        out = io.BytesIO()
        with pikepdf.open(io.BytesIO(pdf("Locked plan of the quay"))) as plan:
            plan.save(out, encryption=pikepdf.Encryption(user="tide", owner="", R=6))
        self.write("in/a.eml", letter_with(file("plan.pdf", "application/pdf", out.getvalue())))
        done = self.run_program(
            "attachments", "in", "--flat", "--into", "att", "--as", "native,pdf", "--name", "{filename}"
        )
        self.assertIn("1 written, 0 already there. 0 failed", done.stdout)
        self.assertEqual((self.folder / "att/plan.pdf").read_bytes()[:5], b"%PDF-")


class Pages(ProgramTest):
    """The demo's attachments of every kind, each against its source."""

    @classmethod
    def setUpClass(cls) -> None:
        import tempfile

        cls.pages: dict[str, str] = {}
        cls.notes: dict[str, set[str]] = {}
        options = PageOptions(attachments=("pages",), open_zips=True)
        for data in demo.kinds():
            made = make(Job(data, ("pdf",), options))
            with tempfile.NamedTemporaryFile(suffix=".pdf") as held:
                held.write(made.files["pdf"])
                held.flush()
                subject = str(email.message_from_bytes(data)["Subject"])
                cls.pages[subject] = pdf_text(Path(held.name))
                cls.notes[subject] = {note.code for note in made.notes}

    def shows(self, subject: str, words: str) -> None:
        self.assertEqual(missing_words(words, self.pages[subject]), [], subject)

    def test_texts_and_cards(self) -> None:
        self.shows(
            "Log and lists",
            "06:00 fog lifting # Rules No paint in the water \"closed\": true, <level unit='m'>3.42</level> Cormorant 1,220.00",
        )
        self.shows("Notice as a page", "Notice Berth 6 closes.")
        self.assertNotIn("x()", self.pages["Notice as a page"])
        self.shows(
            "Pilot's card and meeting",
            "Rasmus Eide Saltmere Pilots rasmus.eide@pilots.example On watch Berthing meeting for April Pilot house, upper room",
        )
        self.shows(
            "Agreement, long form",
            "Agreement on the mooring Parties The buoy is let for one season. Season Fee 480 crowns",
        )
        self.shows(
            "Everything in one archive",
            "readme.txt figures/tides.csv Survey of the north mole high water 03:11"
            if False
            else "readme.txt figures/tides.csv Survey of the north mole",
        )
        self.shows(
            "Files that nobody reads", "track.gpx.bin SHA-256 " + hashlib.sha256(bytes(range(256)) * 8).hexdigest()
        )
        self.assertIn("attachment-other-type", self.notes["Files that nobody reads"])
        self.shows("Drawing of the buoy", "Buoy 14")

    def test_a_workbook_and_its_charts(self) -> None:
        subject = "Dredging, all charts"
        book = openpyxl.load_workbook(io.BytesIO(demo.charts()))
        for row in book["Volumes"].iter_rows(values_only=True):
            self.shows(subject, " ".join(str(value) for value in row[:2]))
        self.shows(subject, "310.50 415.25 290.00 25.0% 31.0% 1 March 2026 18:05 Berthing in spring Column 24 124")
        for kind in ("Bar", "Line", "Area", "Pie", "Scatter"):
            self.shows(subject, f"{kind} of volumes")
        self.shows(subject, "Inner basin East quay Jan (1240) East by inner")
        self.assertNotIn("Secret", self.pages[subject])
        self.assertIn("attachment-hidden", self.notes[subject])

    def test_pictures_are_upright_and_of_a_size(self) -> None:
        for piece in demo.pictures():
            content = email.message_from_bytes(bytes(piece)).get_payload(decode=True)
            ((kind, data, width, height),) = frames(content)  # type: ignore[arg-type]
            with self.subTest(kind):
                self.assertEqual((width, height), (230, 102))
                self.assertIn(recognise(data), ("image/png", "image/jpeg"))
        for broken in (b"", b"GIF89a", b"\x89PNG\r\n\x1a\n" + bytes(40), b"II*\0" + bytes(20)):
            self.assertRaises(ValueError, list, frames(broken))


class Limits(unittest.TestCase):
    def test_time(self) -> None:
        with self.assertRaises(TimeoutError), time_limit(0.1):
            while True:
                pass
        with self.assertRaises(TimeoutError), time_limit(0.1), time_limit(30):
            while True:
                pass
        self.assertEqual(signal.getitimer(signal.ITIMER_REAL)[0], 0)

    def test_memory(self) -> None:
        with ProcessWorkers(1, 60) as pool:
            self.assertRaises(MemoryError, pool.submit(bytearray, 4 * 1024**3).result)
            self.assertEqual(len(pool.submit(bytes, 1000).result()), 1000)

    def test_what_takes_too_long_is_described_and_the_rest_comes_out(self) -> None:
        def slow(*_: object) -> object:
            raise TimeoutError("it took more than 20 seconds")

        data = letter_with(file("slow.csv", "text/csv", b"1,2"), file("quick.txt", "text/plain", b"quick words"))
        with mock.patch("wexagraph.pages.attachments.convert.csv_table", slow):
            made = make(Job(data, ("pdf",), PageOptions(attachments=("pages",))))
        document = pypdfium2.PdfDocument(made.files["pdf"])
        pages = [page.get_textpage().get_text_range() for page in document]
        self.assertIn("it took more than 20 seconds", pages[1])
        self.assertIn("quick words", pages[2])
        self.assertIn("attachment-unconverted", {note.code for note in made.notes})


class Words(unittest.TestCase):
    def test_types(self) -> None:
        for name, declared, content, wanted in [
            ("a.pdf", "application/octet-stream", b"%PDF-1.4", "application/pdf"),
            ("a", "application/octet-stream", b"plain", "application/octet-stream"),
            ("a.csv", "application/octet-stream", b"1,2", "text/csv"),
            ("a.csv", "text/plain", b"1,2", "text/csv"),
            ("x.jpg", "image/jpg", b"\xff\xd8\xff", "image/jpeg"),
            ("x", "text/plain", b"BEGIN:VCARD\r\n", "text/vcard"),
            ("x.docx", "application/zip", zipped({"word/document.xml": b""}), settle("x.docx", "", b"")),
        ]:
            self.assertEqual(settle(name, declared, content), wanted, name)
        for name, declared, content, wanted in [
            ("a.pdf", "application/pdf", b"%PDF-1.4", ""),
            ("a.pdf", "application/pdf", b"\x89PNG\r\n\x1a\n", "image/png"),
            ("a.jpg", "image/jpeg", b"MZ", PROGRAM),
            ("a.txt", "text/plain", b"words", ""),
            ("a.exe", "application/octet-stream", b"MZ", PROGRAM),
            ("a.jar", "application/java-archive", b"PK\x03\x04", ""),
        ]:
            self.assertEqual(contradicts(name, declared, content), wanted, name)

    def test_number_formats(self) -> None:
        moment = datetime(2026, 3, 4, 15, 7, 9)
        for value, form, wanted in [
            (1234.5, "General", "1234.5"),
            (1234.5, "#,##0.00", "1,234.50"),
            (0.256, "0.0%", "25.6%"),
            (-5, "0;(0)", "(5)"),
            (0, '0;-0;"none"', "none"),
            (12, '0 "crowns"', "12 crowns"),
            (12.5, "[$€-407] #,##0.00", "€ 12.50"),
            (7, "000", "007"),
            (1234567, "#,##0,", "1,235"),
            (2.5, "0.##", "2.5"),
            (3, "0.##", "3"),
            (12345, "0.00E+00", "1.23E+04"),
            (True, "General", "TRUE"),
            (None, "0", ""),
            ("text", "0", "text"),
            (5, "@", "5"),
            (moment, "yyyy-mm-dd hh:mm", "2026-03-04 15:07"),
            (moment, "mm-dd-yy", "4 Mar 2026"),
            (moment, "m/d/yy h:mm", "4 Mar 2026 15:07"),
            (timedelta(hours=30, minutes=5, seconds=7), "[h]:mm:ss", "30:05:07"),
            (moment, "d mmm yy", "4 Mar 26"),
            (moment, "h:mm AM/PM", "3:07 PM"),
            (date(2026, 3, 4), "dddd, d mmmm yyyy", "Wednesday, 4 March 2026"),
            (time(6, 5), "hh:mm", "06:05"),
            (moment, "General", "2026-03-04 15:07:09"),
        ]:
            with self.subTest((value, form)):
                self.assertEqual(shown(value, form), wanted)
        for code, wanted in (("de", "04.03.2026 15:07"), ("fr", "04/03/2026 15:07"), ("nl", "04-03-2026 15:07")):
            self.assertEqual(shown(moment, "m/d/yy h:mm", code), wanted)
