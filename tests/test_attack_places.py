"""Attacks on places: names, links and tampered backups. Nothing leaves its folder, and nothing of others is touched."""

from __future__ import annotations

import io
import json
import os
import shutil
import stat
import threading
import time
import zipfile
from pathlib import Path
from unittest import mock

from tests.helpers import ProgramTest, letter, mbox, named_rows
from wexagraph.backups.catalogue import Catalogue, CatalogueDamaged
from wexagraph.demo.build import file, message, multipart, text, when
from wexagraph.errors import TargetError
from wexagraph.exports import run as exporting
from wexagraph.exports.options import ExportOptions
from wexagraph.output.folder import InTheWay, OutputFolder
from wexagraph.sources import open_source

NAMES = [
    "../../escaped",
    "/etc/escaped",
    "..\\..\\escaped",
    "a/../../escaped",
    "~/escaped",
    ".",
    "..",
    "",
    " ",
    "...",
    "-rf",
    "nul",
    "NUL.txt",
    "con",
    "CON.",
    "aux.pdf",
    "com1",
    "lpt9.eml",
    "a\x00b",
    "a\r\nb",
    "line\nend",
    "tab\tin",
    "a:b",
    "a|b",
    'a"b',
    "a<b>c",
    "a?b*c",
    "x" * 400,
    "é" * 300,
    "漢" * 200,
    "\u202etxt.exe",
    "\ufeffmark",
    "\u200bzero",
    "trailing.",
    "trailing ",
    " leading",
    "$(touch x)",
    "`touch x`",
    "%2e%2e%2f",
    "register.csv",
    "manifest-sha256.txt",
    ".wexagraph",
    "a" * 250 + ".pdf",
    "=cmd",
    "\\\\server\\share",
    "C:\\x",
    "C:x",
    "..%c0%af",
    "🙂" * 80,
    "e\u0301" * 100,
    "A",
    "a",
]


def with_file(name: str, subject: str = "Plan", content: bytes = b"plan") -> bytes:
    """A message with one attachment of that name."""
    parts = multipart("mixed", text("See below.\n"), file(name or "none", "application/pdf", content))
    return message("Ines <i@q.example>", "r@s.example", subject, when("2026-03-14", 15, 3), parts)


class Places(ProgramTest):
    run_program = ProgramTest.call_program  # of so many rows, none needs a start of its own

    def setUp(self) -> None:
        super().setUp()
        self.outside = self.folder / "outside"
        self.outside.mkdir()
        (self.outside / "kept.txt").write_text("kept")

    def assert_nothing_outside(self) -> None:
        """What lies outside is what lay there, and nothing was put beside the folders that were named."""
        self.assertEqual([(p.name, p.read_text()) for p in self.outside.iterdir()], [("kept.txt", "kept")])
        self.assertFalse([p for p in self.folder.parent.iterdir() if "escaped" in p.name])


class HostileNames(Places):
    def test_of_messages_and_attachments(self) -> None:
        mails = []
        for number, name in enumerate(NAMES):
            subject = name.replace("\r", " ").replace("\n", " ").replace("\0", "")
            mails.append(with_file(name, subject, b"%d" % number))
        self.write("in.mbox", mbox(*mails))
        self.call_program(
            "export",
            "in.mbox",
            "--into",
            "out",
            "--as",
            "eml,text",
            "--attachments",
            "beside",
            "--flat",
            "--name",
            "{subject}",
        )
        self.call_program("attachments", "in.mbox", "--flat", "--into", "att", "--name", "{filename}")
        for place in ("out", "att"):
            self.call_program("verify", place)
            again = "export" if place == "out" else "attachments"
            self.assertTrue((self.folder / place / "manifest-sha256.txt").read_text().count("\n") > len(NAMES), again)
        with open(self.folder / "out/register.csv", newline="", encoding="utf-8-sig") as register:
            files = [row["files"] for row in named_rows(register)]
        self.assertEqual(len([names for names in files if ".eml" in names]), len(NAMES))
        self.assertEqual(len(self.made("att")), len(NAMES))
        self.assert_nothing_outside()

    def test_of_folders_in_backups_that_are_given_back(self) -> None:
        folders = [
            "../escaped",
            "/escaped",
            "a/../../escaped",
            "a.mbox/b",
            "a",
            "A",
            "x" * 400,
            "é" * 300,
            "n\x00l",
            "l\nf",
            "con",
            "register.csv",
            "manifest-sha256.txt",
            "deep/" * 40,
            "..",
            ".",
        ]
        for number in range(len(folders)):
            self.write(f"in/f{number}.mbox", mbox(letter(f"Letter {number}")))
        self.call_program("backup", "in", "--into", "bk")
        self._rename_folders("bk", folders)
        for target, more in (
            ("eml", ()),
            ("maildir:md", ()),
            ("one.mbox", ()),
            ("by.mbox", ("--by-folder",)),
            ("z.zip", ()),
        ):
            with self.subTest(target):
                done = self.call_program("restore", "bk", "--into", target, *more, "--json")
                report = json.loads(done.stdout)
                self.assertEqual((report["written"], report["failed"]), (len(folders), 0))
                again = json.loads(self.call_program("restore", "bk", "--into", target, *more, "--json").stdout)
                self.assertEqual((again["written"], again["already_there"]), (0, len(folders)))
        self.assert_nothing_outside()
        for place in ("eml", "md"):
            self.assertFalse(
                [p for p in (self.folder / place).rglob("*") if p.stat().st_mode & 0o077], "for the owner only"
            )
        with zipfile.ZipFile(self.folder / "z.zip") as archive:
            self.assertFalse([n for n in archive.namelist() if n.startswith("/") or ".." in n.split("/")])

    def _rename_folders(self, backup: str, folders: list[str]) -> None:
        """Give the folders of a backup other names, in its lists; its checksums are made again."""
        root = self.folder / backup
        (path,) = (root / "data/runs").iterdir()
        lines = []
        for line in path.read_text("utf-8").splitlines():
            value = json.loads(line)
            if value.get("folder", "").startswith("f") and value["folder"][1:].isdigit():
                value["folder"] = folders[int(value["folder"][1:])]
            lines.append(json.dumps(value))
        path.write_text("\n".join(lines) + "\n", "utf-8")
        Reseal(root).seal()

    def test_of_files_that_are_no_utf8(self) -> None:
        place = os.fsencode(self.folder / "in")
        os.mkdir(place)
        os.mkdir(place + b"/caf\xe9")
        for name, content in (
            (b"/caf\xe9.eml", letter("One")),
            (b"/caf\xe9/two.eml", letter("Two")),
            (b"/box\xff.mbox", mbox(letter("Three"))),
        ):
            with open(place + name, "wb") as out:
                out.write(content)
        self.assertIn("caf\\xe9", self.call_program("folders", "in").stdout)
        self.assertEqual(sorted(row["subject"] for row in self.listed("in")), ["One", "Three", "Two"])
        json.loads(self.call_program("list", "in", "--json").stdout)
        for command in (
            ("export", "in", "--into", "out", "--as", "eml"),
            ("attachments", "in", "--into", "att", "--flat"),
            ("backup", "in", "--into", "bk"),
        ):
            self.call_program(*command)
            self.call_program(*command)
            self.call_program("verify", command[3])
        self.assertEqual(len(self.made("out", ".eml")), 3)
        self.call_program("restore", "bk", "--into", "back")
        self.assertEqual(
            {p.read_bytes() for p in (self.folder / "back").rglob("*.eml")},
            {letter(n) for n in ("One", "Two", "Three")},
        )
        odd = place + b"/../out/od\xe9d"
        open(odd, "wb").close()
        report = json.loads(self.call_program("verify", "out", "--json", code=1).stdout)
        self.assertEqual([(one["path"], one["state"]) for one in report["findings"]], [("od\\xe9d", "foreign")])

    def test_of_members_of_a_zip(self) -> None:
        with zipfile.ZipFile(self.folder / "in.zip", "w") as archive:
            for name, subject in (
                ("a.eml", "First"),
                ("a.eml", "Second"),
                ("../../escaped.eml", "Third"),
                ("/abs.eml", "Fourth"),
            ):
                archive.writestr(name, letter(subject))
        self.assertEqual(sorted(self.subjects("in.zip")), ["First", "Fourth", "Second", "Third"])
        self.call_program("export", "in.zip", "--into", "out", "--as", "eml")
        self.assertEqual(
            sorted(p.read_bytes() for p in (self.folder / "out").rglob("*.eml")),
            sorted(letter(n) for n in ("First", "Second", "Third", "Fourth")),
        )
        self.assert_nothing_outside()

    def test_what_lies_beside_does_not_meet_what_lies_there(self) -> None:
        self.write(
            "in.mbox",
            mbox(
                *(
                    with_file("plan.pdf", s)
                    for s in ("report", "report.pdf", "report attachments", "CON_.txt", "con_.txt")
                )
            ),
        )
        done = self.call_program(
            "export",
            "in.mbox",
            "--into",
            "out",
            "--as",
            "pdf,eml",
            "--attachments",
            "beside,zip",
            "--flat",
            "--name",
            "{subject}",
        )
        self.assertIn("5 written, 0 already there, 0 failed", done.stdout)
        self.call_program("verify", "out")


class Links(Places):
    def links_in_the_way(self) -> list[tuple[str, Path]]:
        """What somebody may have put into a folder that results go to."""
        return [
            (".wexagraph", self.outside),
            (".wexagraph/lock", self.outside / "kept.txt"),
            (".wexagraph/staged", self.outside),
            (".wexagraph/journal.sqlite", self.outside / "kept.txt"),
            (".wexagraph/attachments.sqlite", self.outside / "kept.txt"),
            (".wexagraph/journal.sqlite-journal", self.outside / "kept.txt"),
            ("in", self.outside),
            ("register.csv", self.outside / "kept.txt"),
            ("manifest-sha256.txt", self.outside / "kept.txt"),
            (".wexagraph/replacing", self.outside / "kept.txt"),
            (".wexagraph/sealing", self.outside),
            ("data", self.outside),
            ("data/volumes", self.outside),
            ("data/runs", self.outside),
            ("bagit.txt", self.outside / "kept.txt"),
            ("catalogue.sqlite", self.outside / "kept.txt"),
            ("bag-info.txt", self.outside / "kept.txt"),
        ]

    def test_in_a_folder_that_results_go_to(self) -> None:
        self.write("in/in.mbox", mbox(*(with_file(f"p{n}.pdf", f"Letter {n}") for n in range(4))))
        for name, target in self.links_in_the_way():
            for command in (("export", "--as", "eml"), ("attachments",), ("backup",)):
                with self.subTest(f"{name} {command[0]}"):
                    into = self.folder / "made"
                    (into / name).parent.mkdir(parents=True)
                    if command[0] == "backup":
                        (into / ".wexagraph").mkdir(exist_ok=True) if name != ".wexagraph" else None
                    os.symlink(target, into / name)
                    done = self.call_program(command[0], "in", "--into", into, *command[1:], code=None)
                    self.assertIn(done.returncode, (0, 1, 3), done.stderr)
                    self.assertNotIn("fault in Wexagraph", done.stderr)
                    self.assert_nothing_outside()
                    shutil.rmtree(into)

    def test_in_a_backup_that_is_copied_joined_mended_or_given_back(self) -> None:
        self.write("in.mbox", mbox(*(letter(f"Letter {n}") for n in range(4))))
        self.call_program("backup", "in.mbox", "--into", "first")
        self.write("in.mbox", mbox(*(letter(f"Letter {n}") for n in range(8))))
        self.call_program("backup", "in.mbox", "--into", "first")
        rows = [
            (".wexagraph/mending", self.outside),
            (".wexagraph/staged", self.outside),
            (".wexagraph/lock", self.outside / "kept.txt"),
            ("data/volumes/000001.zip", self.outside / "kept.txt"),
            ("data/volumes", self.outside),
            ("catalogue.sqlite", self.outside / "kept.txt"),
            ("manifest-sha256.txt", self.outside / "kept.txt"),
            ("README.txt", self.outside / "kept.txt"),
        ]
        commands = (
            ("join", "bk"),
            ("verify", "bk", "--repair", "first"),
            ("backup", "in.mbox", "--into", "bk"),
            ("copy", "first", "--into", "bk"),
            ("list", "bk"),
            ("restore", "bk", "--into", "back"),
        )
        for name, target in rows:
            for command in commands:
                with self.subTest(f"{name} {command[0]}"):
                    shutil.copytree(self.folder / "first", self.folder / "bk")
                    place = self.folder / "bk" / name
                    shutil.rmtree(place) if place.is_dir() else place.unlink(missing_ok=True)
                    place.parent.mkdir(exist_ok=True)
                    os.symlink(target, place)
                    done = self.call_program(*command, code=None)
                    self.assertNotIn("fault in Wexagraph", done.stderr)
                    self.assert_nothing_outside()
                    shutil.rmtree(self.folder / "bk")
                    shutil.rmtree(self.folder / "back", ignore_errors=True)

    def test_where_messages_are_given_back_to(self) -> None:
        self.write("in/INBOX.mbox", mbox(letter("One")))
        self.call_program("backup", "in", "--into", "bk")
        for target, name, place in (
            ("back", "back/INBOX", self.outside),
            ("maildir:back", "back/cur", self.outside),
            ("maildir:back", "back/tmp", self.outside),
            ("b.mbox", ".b.mbox.part", self.outside / "kept.txt"),
            ("b.zip", ".b.zip.part", self.outside / "kept.txt"),
            ("b.mbox", "b.mbox.lock", self.outside / "no"),
        ):
            with self.subTest(name):
                (self.folder / name).parent.mkdir(exist_ok=True)
                os.symlink(place, self.folder / name)
                with mock.patch.dict(os.environ, {}):
                    if not name.endswith(".lock"):
                        self.call_program("restore", "bk", "--into", target, code=None)
                self.assert_nothing_outside()
                (self.folder / name).unlink()
                for left in ("back", "b.mbox", "b.zip"):
                    path = self.folder / left
                    shutil.rmtree(path) if path.is_dir() else path.unlink(missing_ok=True)

    def test_a_manifest_that_lists_what_is_behind_a_link(self) -> None:
        self.write("in.mbox", mbox(letter("One")))
        self.call_program("backup", "in.mbox", "--into", "bk")
        for line in (
            "lnk/kept.txt",
            "../outside/kept.txt",
            "/outside/kept.txt",
            "data/lnk/kept.txt",
            "data/volumes/../../lnk/kept.txt",
        ):
            for side in ("bk", "twin"):
                with self.subTest(f"{line} in {side}"):
                    shutil.rmtree(self.folder / "twin", ignore_errors=True)
                    self.call_program("copy", "bk", "--into", "twin")
                    shutil.copytree(self.folder / "bk", self.folder / "bk2")
                    root = self.folder / ("bk2" if side == "bk" else "twin")
                    for name in ("lnk", "data/lnk"):
                        os.symlink(self.outside, root / name)
                    with open(root / "manifest-sha256.txt", "a") as manifest:
                        manifest.write(f"{'0' * 64}  {line}\n")
                    Reseal(root).tags()
                    self.call_program("copy", "bk2", "--into", "twin", code=None)
                    self.assert_nothing_outside()
                    shutil.rmtree(self.folder / "bk2")

    def test_a_folder_exchanged_for_a_link_during_an_export(self) -> None:
        self.write("in.mbox", mbox(*(letter(f"Letter {n}") for n in range(60))))
        source = open_source(self.folder / "in.mbox")
        swapped = threading.Event()

        def swap(progress: object) -> None:
            inner = self.folder / "out/in"
            if inner.is_dir() and not swapped.is_set():
                inner.rename(self.folder / "out/aside")
                os.symlink(self.outside, inner)
                swapped.set()

        with mock.patch("wexagraph.exports.publisher._BATCH_FILES", 5), source:
            report = exporting.export(
                source, self.folder / "out", options=ExportOptions(formats=("eml",)), progress=swap
            )
        self.assertTrue(swapped.is_set())
        self.assertTrue(0 < report.failed < 60, report.failed)
        self.assert_nothing_outside()

    def test_links_in_a_source_are_read_only_when_asked(self) -> None:
        self.write("secret.eml", letter("Secret"))
        self.write("in/a.eml", letter("Open"))
        os.symlink(self.folder / "secret.eml", self.folder / "in/b.eml")
        os.symlink(self.outside, self.folder / "in/c")
        done = self.call_program("list", "in", "--csv", code=1)
        self.assertEqual([row["subject"] for row in named_rows(io.StringIO(done.stdout))], ["Open"])
        self.assertIn("--follow-links", done.stderr)
        done = self.call_program("list", "in", "--follow-links", "--csv", code=1)
        self.assertEqual([row["subject"] for row in named_rows(io.StringIO(done.stdout))], ["Open", "Secret"])

    def test_the_folder_itself(self) -> None:
        """What is promised of each verb of an output folder."""
        root = OutputFolder(self.folder / "root", private=True)
        self.addCleanup(root.close)
        os.symlink(self.outside, self.folder / "root/lnk")
        os.symlink(self.outside / "kept.txt", self.folder / "root/file")
        for verb in (
            lambda: root.create("lnk/x"),
            lambda: root.write("lnk/x", b"x"),
            lambda: root.make_folder("lnk/x"),
            lambda: root.names("lnk"),
        ):
            with self.assertRaises(InTheWay):
                verb()
        for path in ("../outside/kept.txt", "/etc/hosts", "a//b", "a/./b", "", "lnk/kept.txt", "file"):
            self.assertIsNone(root.digest(path))
            self.assertIsNone(root.stamp(path))
        root.unlink("file")
        root.clear("lnk")
        root.write("file", b"x")
        self.assertEqual(stat.S_IMODE((self.folder / "root/file").stat().st_mode), 0o600)
        with self.assertRaises(FileExistsError):
            root.rename_new("file", "file")
        self.assert_nothing_outside()


class Reseal:
    """Makes the checksums of a backup that was tampered with right again, as an attacker would."""

    def __init__(self, root: Path) -> None:
        self.root = root

    def seal(self) -> None:
        from wexagraph.backups import bag

        digests = {
            str(p.relative_to(self.root)): bag.digest_of(p) or ""
            for p in (self.root / "data").rglob("*")
            if p.is_file()
        }
        (self.root / bag.MANIFEST).write_bytes(bag.sums_text(digests))
        (self.root / bag.CATALOGUE).unlink(missing_ok=True)
        self.tags()

    def tags(self) -> None:
        from wexagraph.backups import bag

        for name, kind in bag.TAG_MANIFESTS.items():
            digests = {path: bag.digest_of(self.root / path, kind) for path in bag.TAG_FILES}
            (self.root / name).write_bytes(bag.sums_text({p: d for p, d in digests.items() if d}))


class TamperedBackups(Places):
    def setUp(self) -> None:
        super().setUp()
        self.write("in.mbox", mbox(*(letter(f"Letter {n}") for n in range(5))))
        self.call_program("backup", "in.mbox", "--into", "bk")
        (self.list,) = (self.folder / "bk/data/runs").iterdir()
        (self.volume,) = (self.folder / "bk/data/volumes").iterdir()

    COMMANDS = (
        ("list", "bk"),
        ("list", "bk", "--json"),
        ("runs", "bk"),
        ("restore", "bk", "--into", "back"),
        ("export", "bk", "--into", "out", "--as", "eml"),
        ("verify", "bk", "--deep"),
        ("verify", "bk", "--repair", "in.mbox"),
        ("copy", "bk", "--into", "twin"),
        ("join", "bk"),
        ("backup", "in.mbox", "--into", "bk"),
    )

    def assert_no_fault(self, commands: tuple[tuple[str, ...], ...] = COMMANDS) -> None:
        for command in commands:
            done = self.call_program(*command, code=None)
            self.assertNotIn("fault in Wexagraph", done.stderr, command)
            self.assertIn(done.returncode, (0, 1, 2, 3), command)

    def test_lists(self) -> None:
        lines = self.list.read_text().splitlines()
        message = next(json.loads(line) for line in lines if "message" in line)
        rows: list[str | bytes] = [
            "[" * 100_000,
            '{"a":' * 50_000,
            "null",
            "7",
            '"text"',
            "{}",
            '{"message":"zz"}',
            json.dumps({**message, "message": "z" * 64}),
            json.dumps({**message, "size": -1}),
            json.dumps({**message, "size": 1 << 70}),
            json.dumps({**message, "size": "x"}),
            json.dumps({**message, "flags": 7}),
            json.dumps({**message, "flags": [{}]}),
            json.dumps({**message, "arrived": "never"}),
            json.dumps({**message, "place": None}),
            json.dumps({**message, "place": "\ud800"}),
            json.dumps({**message, "stamp": "\udce9"}),
            '{"folder":"\\ud800","stamp":"x"}',
            '{"gone":{}}',
            '{"run":"../../escaped","source":7}',
            '{"run":"2026","source":"x"}',
            '{"end":"whole","added":"many"}',
            '{"end":null}',
            b"\xff\xfe\x00",
            b"\0" * 1000,
            "x" * 2_000_000,
            '{"folder":7,"stamp":{}}',
        ]
        for number, row in enumerate(rows):
            with self.subTest(number):
                raw = row if isinstance(row, bytes) else row.encode("utf-8", "surrogatepass")
                self.list.write_bytes(
                    "\n".join(lines[:2]).encode() + b"\n" + raw + b"\n" + "\n".join(lines[2:]).encode() + b"\n"
                )
                Reseal(self.folder / "bk").seal()
                self.assert_no_fault(self.COMMANDS[:3] + self.COMMANDS[5:6])
                self.assertGreaterEqual(len(self.listed("bk")), 5, "the messages whose lines can be read are all there")
        self.assert_no_fault()
        self.assert_nothing_outside()

    def test_one_flipped_digit_with_the_catalogue_gone(self) -> None:
        content = self.list.read_text()
        at = content.index('"message":"') + 20
        self.list.write_text(content[:at] + ("0" if content[at] != "0" else "1") + content[at + 1 :])
        (self.folder / "bk/catalogue.sqlite").unlink()
        self.assertEqual(len(self.listed("bk")), 5, "what no line tells of any more lies in the volumes all the same")
        self.assert_no_fault()

    def test_volumes(self) -> None:
        whole = self.volume.read_bytes()
        bomb = io.BytesIO()
        with zipfile.ZipFile(bomb, "w", zipfile.ZIP_DEFLATED) as archive:
            archive.writestr("2026 bomb.eml", b"\0" * 400_000_000)
        rows = {
            "empty": b"",
            "cut": whole[:200],
            "no directory": whole[:-60],
            "text": b"x" * 5000,
            "bomb": bomb.getvalue(),
            "end only": b"PK\x05\x06" + b"\0" * 18,
            "offsets": whole.replace(b"PK\x01\x02", b"PK\x01\x03"),
            "sizes": whole[:18] + b"\xff\xff\xff\xff" + whole[22:],
        }
        for name, content in rows.items():
            with self.subTest(name):
                self.volume.write_bytes(content)
                Reseal(self.folder / "bk").seal()
                self.assert_no_fault()
                shutil.rmtree(self.folder / "bk")
                for place in ("back", "out", "twin"):
                    shutil.rmtree(self.folder / place, ignore_errors=True)
                self.call_program("backup", "in.mbox", "--into", "bk")
                (self.volume,) = (self.folder / "bk/data/volumes").iterdir()

    def test_pipes(self) -> None:
        for name in (
            "data/volumes/000001.zip",
            "manifest-sha256.txt",
            "tagmanifest-sha256.txt",
            "catalogue.sqlite",
            "bagit.txt",
            "README.txt",
        ):
            with self.subTest(name):
                shutil.copytree(self.folder / "bk", self.folder / "kept")
                (self.folder / "bk" / name).unlink()
                os.mkfifo(self.folder / "bk" / name)
                started = time.monotonic()
                self.assert_no_fault(self.COMMANDS[:1] + self.COMMANDS[5:6] + self.COMMANDS[7:8])
                self.assertLess(time.monotonic() - started, 60)
                shutil.rmtree(self.folder / "bk")
                (self.folder / "kept").rename(self.folder / "bk")

    def test_a_catalogue_from_elsewhere(self) -> None:
        import sqlite3

        path = self.folder / "bk/catalogue.sqlite"
        endless = "WITH RECURSIVE n(i) AS (SELECT 1 UNION ALL SELECT i+1 FROM n) SELECT i AS path, 'x' AS sha256, 1 AS size, NULL AS copy FROM n"
        rows = [
            "CREATE TRIGGER t AFTER INSERT ON run BEGIN DELETE FROM message; END",
            f"ALTER TABLE file RENAME TO f; CREATE VIEW file AS {endless}",
            "DROP TABLE holding",
            "CREATE TABLE more (x)",
        ]
        for sql in rows:
            with self.subTest(sql[:40]):
                base = sqlite3.connect(path)
                base.executescript(sql)
                base.close()
                with self.assertRaises(CatalogueDamaged):
                    Catalogue(path)
                self.assert_no_fault(self.COMMANDS[:2])
                self.assertEqual(len(self.listed("bk")), 5)
                self.call_program("verify", "bk", "--repair", "in.mbox", code=None)
                self.call_program("verify", "bk", "--deep")

    def test_what_is_made_is_for_its_owner(self) -> None:
        for path in [self.folder / "bk", *(self.folder / "bk").rglob("*")]:
            self.assertEqual(stat.S_IMODE(path.stat().st_mode) & 0o077, 0, path)

    def test_a_lock_that_another_holds(self) -> None:
        held = OutputFolder(self.folder / "bk")
        self.addCleanup(held.close)
        self.assertIsNone(held.take_lock())
        for command in (("backup", "in.mbox", "--into", "bk"), ("join", "bk")):
            self.assertIn("is in use", self.call_program(*command, code=3).stderr)
        with self.assertRaises(TargetError):
            exporting.export(open_source(self.folder / "in.mbox"), self.folder / "bk")
