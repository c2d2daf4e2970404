"""Delivering to a place: a mirror that others may lie beside; judged by sha256sum and by `verify` of what lies there."""

from __future__ import annotations

import json
import os
import shutil
import subprocess
from collections.abc import Iterable, Iterator
from concurrent.futures import ThreadPoolExecutor
from contextlib import closing
from http.server import BaseHTTPRequestHandler, ThreadingHTTPServer
from pathlib import Path
from threading import Thread
from typing import Any, ClassVar
from unittest import mock
from urllib.parse import unquote, urlsplit

from tests.helpers import ProgramTest, letter, mbox, named_rows
from tests.webdav import PASSWORD, Apache
from wexagraph.output.target import Target
from wexagraph.sending.delivery import deliver
from wexagraph.sending.places import FolderPlace


class Killed(BaseException):
    """The process is gone: nothing is tidied."""


class Dying(FolderPlace):
    """A folder at which the process ends before its step of that number."""

    def __init__(self, path: Path, end: int) -> None:
        super().__init__(path)
        self.end, self.steps = end, 0

    def _step(self) -> None:
        if self.steps == self.end:
            raise Killed
        self.steps += 1

    def sizes(self, path: str) -> dict[str, int]:
        self._step()
        return super().sizes(path)

    def digest(self, path: str) -> str | None:
        self._step()
        return super().digest(path)

    def write(self, path: str, chunks: Iterable[bytes], size: int, start: int = 0) -> None:
        self._step()

        def half() -> Iterator[bytes]:
            for chunk in chunks:
                yield chunk[: len(chunk) // 2]
                self._step()
                yield chunk[len(chunk) // 2 :]

        super().write(path, half(), size)

    def put(self, part: str, path: str, replaces: bool) -> None:
        self._step()
        super().put(part, path, replaces)

    def settle(self) -> None:
        self._step()
        super().settle()


class Delivering(ProgramTest):
    def setUp(self) -> None:
        super().setUp()
        self.write("in.mbox", mbox(*(letter(f"Berth {n}") for n in range(5))))
        self.export()
        (self.folder / "share").mkdir()

    def export(self, *more: str) -> None:
        self.run_program("export", "in.mbox", "--as", "eml,text", "--into", "out", *more)

    def deliver(self, *more: str, code: int | None = 0) -> dict[str, Any]:
        done = self.run_program("deliver", "out", "--into", "share", "--json", *more, code=code)
        report: dict[str, Any] = json.loads(done.stdout)
        return report

    def prove(self) -> None:
        """The place holds the mirror and nothing else of ours, by the list that lies there."""
        command = ("sha256sum", "--check", "--strict", "--quiet", "manifest-sha256.txt")
        subprocess.run(command, cwd=self.folder / "share/out", check=True)
        self.run_program("verify", "share/out")
        self.run_program("verify", "out", "--at", "share", "--deep")

    def test_a_mirror(self) -> None:
        planned = self.deliver("--dry-run")
        self.assertEqual((planned["written"], len(planned["planned"])), (12, 12))
        self.assertEqual(list((self.folder / "share").iterdir()), [])
        self.assertEqual(self.deliver()["written"], 12)
        self.prove()
        self.assertEqual((self.deliver()["written"], self.deliver()["already_there"]), (0, 12))
        (self.folder / "in.mbox").write_bytes(mbox(*(letter(f"Berth {n}") for n in range(6))))
        self.export()
        again = self.deliver()  # two files, the register, the list
        self.assertEqual((again["written"], again["failed"]), (4, 0))
        self.prove()
        self.assertIn("file://", self.run_program("deliver", "out", "--into", "share", "--links").stdout)

    def test_the_register_tells_the_addresses(self) -> None:
        """Where a folder was delivered with links, its register has them from then on, in its own language; what a
        colleague wrote there stays."""
        self.export("--register", "csv,xlsx", "--language", "de")
        self.run_program("deliver", "out", "--into", "share", "--links", "--dry-run")
        self.assertNotIn("file:", (self.folder / "out/register.csv").read_text("utf-8-sig"))
        register = (self.folder / "out/register.csv").read_text("utf-8-sig").splitlines()
        register[1] = register[1].replace(",Berth 0,", ",Liegeplatz 0,")
        self.write("out/register.csv", "\ufeff" + "".join(f"{line}\r\n" for line in register))
        self.deliver("--links")
        self.write("in.mbox", mbox(*(letter(f"Berth {n}") for n in range(6))))
        for _ in range(2):
            self.prove()
            lines = (self.folder / "share/out/register.csv").read_text("utf-8-sig").splitlines()
            self.assertIn("Betreff", lines[0])
            self.assertIn("Liegeplatz 0", lines[1])
            for row in named_rows(lines):
                links = [unquote(urlsplit(address).path) for address in row["link"].split("; ")]
                self.assertEqual(
                    [Path(link).read_bytes() for link in links],
                    [(self.folder / "out" / file).read_bytes() for file in row["files"].split("; ")],
                )
            self.export("--register", "csv,xlsx", "--language", "de")
            self.deliver()
        self.assertEqual(len(named_rows(lines)), 6)

    def test_links_beside_others(self) -> None:
        """Whoever has the register open, or exports meanwhile, keeps no file from its place; it is said."""
        self.write("out/.~lock.register.csv#", b"Miriam Cole,miriam,desk4")
        done = self.run_program("deliver", "out", "--into", "share", "--links", code=1)
        self.assertIn("Without links: register.csv: it is open by Miriam Cole on desk4", done.stderr)
        (self.folder / "out/.~lock.register.csv#").unlink()
        with closing(Target(self.folder / "out")), mock.patch("wexagraph.output.folder.PATIENCE", 0.1):
            (self.folder / "stick").mkdir()
            done = self.call_program("deliver", "out", "--into", "stick", "--links", code=1)
        self.assertIn("another run is writing to it", done.stderr)
        self.assertEqual(len(list((self.folder / "stick/out").rglob("*.eml"))), 5)
        self.run_program("deliver", "out", "--into", "share", "--links")
        self.run_program("export", "in.mbox", "--as", "eml,text", "--into", "out")
        self.assertIn(",Link,", (self.folder / "out/register.csv").read_text("utf-8-sig"))

    def test_places_used_before_are_offered(self) -> None:
        self.assertIn("used: none yet", self.run_program("deliver", "out", code=2).stderr)
        self.run_program("place", "add", "court", str(self.folder / "share"))
        (self.folder / "stick").mkdir()
        self.run_program("deliver", "out", "--into", "stick")
        stick = str((self.folder / "stick").resolve())
        self.assertIn(f"used: @court, {stick}.", self.run_program("deliver", "out", code=2).stderr)
        for begun, offered in (
            ("", f"plain,@court\nplain,{stick}\n"),
            (stick[:4], f"plain,{stick}\n"),
            ("x", "file,x\n"),
        ):
            words = {"COMP_WORDS": f"wexagraph deliver out --into {begun}", "COMP_CWORD": "4"}
            done = self.run_program(env={"_WEXAGRAPH_COMPLETE": "bash_complete", **words})
            self.assertEqual(done.stdout, offered)

    def test_what_is_no_longer_here(self) -> None:
        """It goes there too; what somebody has changed there stays."""
        self.export("--as", "eml,text,html")
        self.deliver()
        listed = (self.folder / "out/manifest-sha256.txt").read_text("utf-8").splitlines(keepends=True)
        gone = [line for line in listed if line.rstrip().endswith(".html")]
        (self.folder / "out/manifest-sha256.txt").write_text("".join(line for line in listed if line not in gone))
        worked_in = self.folder / "share/out" / gone[0].strip().split("  ", 1)[1]
        worked_in.write_text("a colleague's words")
        self.assertEqual(self.deliver()["removed"], len(gone) - 1)
        self.assertEqual(list((self.folder / "share").rglob("*.html")), [worked_in])

    def test_what_others_have_put_there(self) -> None:
        """The same bytes count as there, others are left and named; the rest goes on."""
        first, second, *_ = sorted((self.folder / "out/in").glob("*.eml"))
        there = self.folder / "share/out/in"
        there.mkdir(parents=True)
        shutil.copy(first, there)
        (there / second.name).write_bytes(b"somebody else's")
        (there / "notes.txt").write_bytes(b"a colleague's")
        report = self.deliver(code=1)
        self.assertEqual((report["written"], report["already_there"], report["failed"]), (10, 1, 1))
        self.assertIn("another file lies there", report["failures"][0]["reason"])
        self.assertEqual((there / second.name).read_bytes(), b"somebody else's")
        said = self.run_program("verify", "out", "--at", "share", code=1).stdout
        self.assertIn(f"Altered: in/{second.name}", said)
        self.assertIn("Foreign: in/notes.txt", said)
        (there / second.name).unlink()
        (there / "notes.txt").unlink()
        self.assertEqual(self.deliver()["written"], 1)
        self.prove()

    def test_what_is_not_as_it_was_made(self) -> None:
        first, second, *_ = sorted((self.folder / "out/in").glob("*.eml"))
        first.write_bytes(b"altered")
        second.unlink()
        report = self.deliver(code=1)
        self.assertEqual(
            [one["reason"][:20] for one in report["failures"]], ["it is in the list, a", "its bytes are not th"]
        )
        self.assertFalse((self.folder / "share/out/in" / first.name).exists())
        self.export()
        self.deliver()
        self.prove()

    def test_a_list_that_grows_meanwhile(self) -> None:
        """A colleague's export ends while files are sent: no list gets there that is not true of the place."""
        list_here = self.folder / "out/manifest-sha256.txt"

        class Slow(FolderPlace):
            def sizes(self, path: str) -> dict[str, int]:  # after the list was read
                list_here.write_bytes(list_here.read_bytes() + b"0" * 64 + b"  in/later.eml\n")
                return super().sizes(path)

        with Slow(self.folder / "share") as place:
            report = deliver(self.folder / "out", place, self.folder)
        self.assertEqual([one.id for one in report.failures], ["manifest-sha256.txt"])
        self.assertIn("Deliver again", report.failures[0].reason)
        self.assertFalse((self.folder / "share/out/manifest-sha256.txt").exists())

    def test_names_that_are_no_text(self) -> None:
        """Of the folder, of the place, and in a list that somebody else has written."""
        with (self.folder / "out/manifest-sha256.txt").open("ab") as manifest:
            manifest.write(b"0" * 64 + b"  caf\xe9.eml\n")
        report = self.deliver(code=1)
        self.assertEqual((report["written"], report["failed"]), (12, 1))
        self.assertIn("no UTF-8", report["failures"][0]["reason"])
        odd = Path(os.fsdecode(bytes(self.folder) + b"/caf\xe9"))
        odd.mkdir()
        self.run_program("deliver", "out", "--into", odd, code=1)
        self.assertEqual(len(list((odd / "out/in").iterdir())), 10)
        (self.folder / "out").rename(self.folder / os.fsdecode(b"c\xe9"))
        done = self.run_program("deliver", self.folder / os.fsdecode(b"c\xe9"), "--into", "share", code=1)
        self.assertIn("no UTF-8", done.stderr)

    def test_links_lead_nowhere(self) -> None:
        (self.folder / "elsewhere").mkdir()
        (self.folder / "share/out").symlink_to(self.folder / "elsewhere")
        self.deliver(code=1)
        self.assertEqual(list((self.folder / "elsewhere").iterdir()), [])

    def test_a_colleague_delivers_the_same(self) -> None:
        """From the same folder, and from one of their own; both at once."""
        self.run_program("export", "in.mbox", "--as", "eml,text", "--into", "desk/out")
        calls = [("deliver", folder, "--into", "share", "--json") for folder in ("out", "desk/out", "out")]
        with ThreadPoolExecutor(3) as clerks:
            done = [each.result() for each in [clerks.submit(self.run_program, *c, code=None) for c in calls]]
        reports = [json.loads(each.stdout) for each in done]
        self.assertEqual(
            [report["written"] + report["already_there"] + report["failed"] for report in reports], [12] * 3
        )
        self.deliver(code=None)
        files = sorted(path.name for path in (self.folder / "share/out").rglob("*") if path.is_file())
        self.assertEqual(len(files), 12, files)

    def test_clerks_work_on_meanwhile(self) -> None:
        """An export into the folder, a new case and one that is disposed of, while the folder is delivered: none waits, and the
        place has what is true of it the next time."""
        records = self.folder / "records"
        env = {"WEXAGRAPH_RECORDS": str(records)}
        for reference, title in (("7", "Piers"), ("8", "Sheds")):
            self.run_program("case", "open", reference, title, env=env)
            self.run_program("file", "in.mbox", "--case", reference, env=env)
        (self.folder / "more.mbox").write_bytes(mbox(letter("Berth 9")))
        test = self

        class Slow(FolderPlace):
            def sizes(self, path: str) -> dict[str, int]:  # the list was read, and nothing is sent yet
                test.run_program("file", "more.mbox", "--case", "7", env=env)
                test.run_program("case", "open", "9", "Cranes", env=env)
                test.run_program("case", "merge", "8", "7", env=env)
                return super().sizes(path)

        with Slow(self.folder / "share") as place:
            report = deliver(records, place, self.folder)
        self.assertFalse(report.complete)
        self.assertTrue(report.failures)
        self.run_program("deliver", "records", "--into", "share")
        self.run_program("verify", "share/records")
        self.run_program("verify", "records", "--at", "share", "--deep")

        class Exporting(FolderPlace):
            def settle(self) -> None:
                test.run_program("export", "more.mbox", "--as", "eml,text", "--into", "out")
                super().settle()

        with Exporting(self.folder / "share") as place:
            deliver(self.folder / "out", place, self.folder)
        self.deliver()
        self.prove()

    def test_killed_at_each_step(self) -> None:
        """Each file is there once and whole or not there, and the same command goes on: before each step at the place, and
        within each file that is written."""
        counting = Dying(self.folder / "share", 10_000)
        deliver(self.folder / "out", counting, self.folder)
        self.assertGreater(counting.steps, 48, "each of twelve files is written, read back and named")
        for step in range(counting.steps):
            with self.subTest(step=step):
                shutil.rmtree(self.folder / "share")
                (self.folder / "share").mkdir()
                (self.folder / "out/.wexagraph/delivered.sqlite").unlink()
                with self.assertRaises(Killed):
                    deliver(self.folder / "out", Dying(self.folder / "share", step), self.folder)
                for path in (self.folder / "share").rglob("*"):
                    if path.is_file() and not path.name.endswith(".part"):
                        ours = self.folder / path.relative_to(self.folder / "share")
                        self.assertEqual(path.read_bytes(), ours.read_bytes())
                with FolderPlace(self.folder / "share") as place:
                    self.assertTrue(deliver(self.folder / "out", place, self.folder).complete)
                self.assertEqual(list((self.folder / "share").rglob("*.part")), [])
                command = ("sha256sum", "--check", "--strict", "--quiet", "manifest-sha256.txt")
                subprocess.run(command, cwd=self.folder / "share/out", check=True)
        self.prove()

    def test_cases_backups_and_single_files(self) -> None:
        env = {"WEXAGRAPH_RECORDS": str(self.folder / "records")}
        self.run_program("case", "open", "7", "Piers", env=env)
        self.run_program("file", "in.mbox", "--case", "7", env=env)
        self.run_program("backup", "in.mbox", "--into", "stick")
        for name in ("records", "stick"):
            self.run_program("deliver", name, "--into", "share")
            self.run_program("verify", f"share/{name}")
            self.run_program("verify", name)
        self.run_program("case", "close", "7", env=env)
        self.run_program("case", "pack", "7", "--into", "piers.zip", env=env)
        packed = self.folder / "piers.zip"
        self.run_program("deliver", packed, "--into", "share")
        self.assertEqual((self.folder / "share" / packed.name).read_bytes(), packed.read_bytes())
        self.assertIn("1 already there", self.run_program("deliver", packed, "--into", "share").stdout)

    def test_what_is_no_place(self) -> None:
        self.write("own.toml", f'[places]\nshare = "{self.folder / "share"}"\n')
        self.run_program("--config", "own.toml", "deliver", "out", "--into", "@share")
        self.prove()
        for into, words in (
            ("nowhere", "is the share mounted?"),
            ("@none", "no place is called @none"),
            ("dav://ines@share.example/", "is in the open"),
            ("ftp://x.example/", "is not a place"),
            ("out/in", "is inside"),
        ):
            with self.subTest(into):
                self.assertIn(
                    words, " ".join(self.run_program("deliver", "out", "--into", into, code=2).stderr.split())
                )
        (self.folder / "mail").mkdir()
        done = self.run_program("deliver", "mail", "--into", "share", code=2)
        self.assertIn("holds nothing that this program made", done.stderr)
        self.write("wexagraph.toml", '[places]\nshare = "/tmp"\n')
        done = self.run_program("deliver", "out", "--into", "@share", code=2)
        self.assertIn("user's own configuration folder", " ".join(done.stderr.split()))

    def test_a_place_without_rights(self) -> None:
        if os.getuid() == 0:
            full = "/dev/full"
            self.write("wexagraph.toml", "")
            done = self.run_program("deliver", "out", "--into", full, code=2)
            self.assertIn("can't be delivered to", done.stderr)
            return
        (self.folder / "share").chmod(0o500)
        self.assertEqual(self.deliver(code=1)["failed"], 12)


class Lying(BaseHTTPRequestHandler):
    """A server that speaks WebDAV badly: what it answers to a method, by its status, headers and body."""

    protocol_version = "HTTP/1.1"
    answers: ClassVar[dict[str, tuple[int, dict[str, str], bytes]]] = {}
    asked: ClassVar[list[tuple[str, str]]] = []

    def answer(self) -> None:
        self.asked.append((self.command, self.path))
        self.rfile.read(int(self.headers.get("Content-Length") or 0))
        held = "<d:multistatus xmlns:d='DAV:'><d:response><d:href>/x/</d:href></d:response></d:multistatus>"
        is_there = self.path.rstrip("/") == "/x"
        usual = {"PROPFIND": (207 if is_there else 404, {}, held.encode()), "GET": (404, {}, b"")}
        usual["HEAD"] = (404, {}, b"")
        status, headers, body = self.answers.get(self.command) or usual.get(self.command, (201, {}, b""))
        self.send_response(status)
        for name, value in {"Content-Length": str(len(body)), **headers}.items():
            self.send_header(name, value)
        self.end_headers()
        self.wfile.write(body)

    do_HEAD = do_PROPFIND = do_GET = do_PUT = do_MOVE = do_MKCOL = do_DELETE = answer

    def log_message(self, *arguments: object) -> None:
        """Nobody reads it."""


class AtAServer(ProgramTest):
    """WebDAV at Apache, judged by what lies on its disk; and a server that can't be trusted."""

    apache: Apache

    @classmethod
    def setUpClass(cls) -> None:
        cls.apache = Apache()
        cls.addClassCleanup(cls.apache.close)

    def setUp(self) -> None:
        super().setUp()
        self.write("in.mbox", mbox(letter("Größe & 100 % #1"), letter("Berth 4"), letter("Berth 5")))
        self.run_program("export", "in.mbox", "--as", "eml,text", "--into", "out")
        self.write(
            "own.toml",
            f'[places.court]\nurl = "{self.apache.url}"\nauthority = "{self.apache.authority}"\n[places]\nplain = "/nowhere"\n',
        )
        for path in self.apache.root.iterdir():
            if path.name == "out":
                shutil.rmtree(path)

    def deliver(self, *more: str, code: int = 0, password: str = PASSWORD, into: str = "@court") -> Any:
        call = ("--config", "own.toml", "deliver", "out", "--into", into, *more)
        return self.run_program(*call, env={"WEXAGRAPH_PASSWORD": password}, code=code)

    def prove(self) -> None:
        command = ("sha256sum", "--check", "--strict", "--quiet", "manifest-sha256.txt")
        subprocess.run(command, cwd=self.apache.root / "out", check=True)
        call = ("--config", "own.toml", "verify", "out", "--at", "@court", "--deep")
        self.run_program(*call, env={"WEXAGRAPH_PASSWORD": PASSWORD})

    def test_a_mirror(self) -> None:
        self.assertIn("8 files delivered", self.deliver().stdout)
        self.prove()
        self.assertIn("0 files delivered, 8 already there", self.deliver().stdout)
        with (self.folder / "in.mbox").open("ab") as file:
            file.write(mbox(letter("Berth 6")))
        self.run_program("export", "in.mbox", "--as", "eml,text", "--into", "out")
        said = self.deliver("--links").stdout
        self.assertIn("4 files delivered", said)
        self.assertIn("https://localhost:", said)
        self.assertIn("100%20%25", said)
        self.prove()
        theirs = next((self.apache.root / "out").rglob("*Berth 4.eml"))
        theirs.write_bytes(b"another's")
        self.assertIn("another file lies there", self.deliver(code=1).stderr)
        self.assertEqual(theirs.read_bytes(), b"another's")

    def test_a_wrong_login_or_server(self) -> None:
        self.assertIn("refused the login", self.deliver(password="ebb", code=3).stderr)
        self.write("own.toml", f'[places.court]\nurl = "{self.apache.url}"\n')
        self.assertIn("certificate can't be trusted", " ".join(self.deliver(code=3).stderr.split()))
        self.write(
            "own.toml", f'[places.court]\nurl = "{self.apache.url}none"\nauthority = "{self.apache.authority}"\n'
        )
        self.assertIn("make the folder at the server first", " ".join(self.deliver(code=2).stderr.split()))
        self.write("own.toml", f'[places.court]\nurl = "{self.apache.url}"\npassword = "tide"\n')
        self.assertIn("does not belong in this file", " ".join(self.deliver(code=2).stderr.split()))

    def test_what_a_server_may_answer(self) -> None:
        elsewhere = {"Location": "https://evil.example/"}
        huge = b"<!DOCTYPE x [<!ENTITY a 'b'>]><d:multistatus xmlns:d='DAV:'/>"
        for answers, code, words in (
            ({"PUT": (302, elsewhere, b"")}, 1, "sends elsewhere, which is not followed: https://evil.example/"),
            ({"PUT": (423, {}, b"")}, 1, "has locked it"),
            ({"PUT": (507, {}, b"")}, 3, "is full"),
            ({"PUT": (403, {}, b"\x1b[31m")}, 1, "does not allow it"),
            ({"GET": (200, {}, b"other bytes")}, 1, "the place gave other bytes back"),
            ({"PROPFIND": (207, {}, huge)}, 3, "of no known form"),
            ({"PROPFIND": (207, {}, b"<")}, 3, "can't be read"),
            ({"PROPFIND": (500, {}, b"")}, 3, "the server says 500"),
            ({"MKCOL": (409, {}, b"")}, 1, "has no folder for it"),
        ):
            with self.subTest(words):
                Lying.answers, Lying.asked = answers, []
                server = ThreadingHTTPServer(("127.0.0.1", 0), Lying)
                Thread(target=server.serve_forever, daemon=True).start()
                try:
                    done = self.deliver(into=f"dav://ines@localhost:{server.server_port}/x", code=code)
                finally:
                    server.shutdown()
                    server.server_close()
                self.assertIn(words, " ".join((done.stderr + done.stdout).split()))
                self.assertNotIn("MOVE", [method for method, _ in Lying.asked])
