"""Attacks on secrets and by configuration: nothing is told, nothing is left open, and a folder of others sets nothing."""

from __future__ import annotations

import os
import shutil
import signal
import stat
import subprocess
import tempfile
import time
from pathlib import Path
from unittest import mock

from tests.helpers import PROGRAM, ProgramTest, letter, mbox
from wexagraph.temporary import TemporaryFolder, clear_abandoned

SECRET = "tidal-4471-mooring"


class WorkingFolder(ProgramTest):
    """`wexagraph.toml` in a folder that somebody else has filled."""

    def test_what_it_may_not_set(self) -> None:
        self.write("in.mbox", mbox(letter("One")))
        self.run_program("backup", "in.mbox", "--into", "bk")
        self.write("secret.txt", SECRET)
        rows = [
            '[sources]\noffice = "imap://victim@127.0.0.1:1/"\n',
            '[sources]\noffice = "/etc"\n',
            '[sources]\noffice = "../x"\n',
            '[sources]\noffice = "~/.ssh"\n',
            '[sources]\noffice = "@other"\n',
            '[options]\nrepair = "imap://victim@127.0.0.1:1/"\n',
            '[options]\ncover = "secret.txt"\n',
            '[options]\ncover = "~/.ssh/id"\n',
            '[options]\npassword = "file:secret.txt"\n',
            '[options]\npassword = "command:touch ran"\n',
            '[options]\nowner-password = "env:HOME"\n',
            "[options]\nlock = true\n",
            "[options]\nfollow-links = true\n",
            '[options]\nallow = "none"\n',
            '[options]\nas-of = "ever"\n',
            '[options]\nkey = ["~/.ssh/id"]\n',
            '[options]\nkey-password = "command:touch ran"\n',
            '[options]\nknown = ["mine.pem"]\n',
            '[options]\nsender-keys = "mine.txt"\n',
            '[options]\nask-dns = "203.0.113.5"\n',
            '[options]\nseal = "mine.p12"\n',
            '[keys.office]\nfile = "mine.p12"\npassword-command = "touch ran"\n',
            '[accounts.a]\nurl = "imap://a@b.example/"\n',
            '[accounts.a]\nurl = "imap://a@b.example/"\npassword-command = "touch ran"\n',
        ]
        for row in rows:
            for command in (("list", "in.mbox"), ("verify", "bk"), ("export", "in.mbox", "--into", "out")):
                with self.subTest(f"{row} {command[0]}"):
                    self.write("wexagraph.toml", row)
                    done = self.call_program(*command, code=2)
                    self.assertIn("wexagraph.toml, line", done.stderr)
        self.assertFalse((self.folder / "ran").exists())
        self.assertFalse((self.folder / "out").exists())

    def test_what_it_may_set(self) -> None:
        self.write("in/in.mbox", mbox(letter("One")))
        self.write(
            "wexagraph.toml",
            '[sources]\noffice = "in"\n[options]\nzone = "Asia/Tokyo"\nas = "eml"\ncover = "built-in"\n',
        )
        self.call_program("export", "@office", "--into", "out")
        self.assertEqual(len(self.made("out", ".eml")), 1)


class Told(ProgramTest):
    def test_nothing_of_a_password(self) -> None:
        """No output, no file, no child and no argument shows it."""
        self.write("in.mbox", mbox(letter("One")))
        spy = self.write(
            "bin/soffice",
            '#!/bin/sh\nenv > "$(dirname "$0")/env.txt"; echo "$@" >> "$(dirname "$0")/env.txt"; exit 1\n',
        )
        spy.chmod(0o755)
        rtf = self.write(
            "rtf.eml",
            letter(
                "Rtf",
                more='Content-Type: application/rtf; name="a.rtf"\nContent-Disposition: attachment; filename="a.rtf"\n',
                body="{\\rtf1 x}",
            ),
        )
        env = {
            "WEXAGRAPH_PASSWORD": SECRET,
            "WEXAGRAPH_PASSPHRASE": SECRET,
            "OFFICE_SECRET": SECRET,
            "PATH": f"{self.folder}/bin:{os.environ['PATH']}",
        }
        done = [
            self.run_program("backup", "in.mbox", "--into", "bk", "--lock", env=env),
            self.run_program(
                "export", rtf, "--into", "out", "--attachments", "pages", "--password", "env:OFFICE_SECRET", env=env
            ),
            self.run_program("list", "bk", env=env),
            self.run_program("restore", "bk", "--into", "back", env=env),
            self.run_program("list", "imap://records@127.0.0.1:1/", code=3, env=env),
            self.run_program("list", "in.mbox", "--key", rtf, "--key-password", "env:OFFICE_SECRET", code=2, env=env),
            self.run_program(
                "export",
                "in.mbox",
                "--into",
                "x",
                "--seal",
                rtf,
                "--seal-password",
                "env:OFFICE_SECRET",
                code=2,
                env=env,
            ),
        ]
        for one in done:
            self.assertNotIn(SECRET, one.stdout + one.stderr)
        environment = (self.folder / "bin/env.txt").read_text()
        self.assertNotIn("WEXAGRAPH_PASS", environment)
        self.assertNotIn(SECRET, environment)
        for path in self.folder.rglob("*"):
            if path.is_file():
                self.assertNotIn(SECRET.encode(), path.read_bytes(), path)

    def test_what_a_program_keeps_is_for_its_owner(self) -> None:
        self.write("in.mbox", mbox(letter("One")))
        self.run_program("export", "in.mbox", "--into", "out", "--as", "eml")
        self.run_program("attachments", "in.mbox", "--flat", "--into", "att")
        for own in ("out/.wexagraph", "att/.wexagraph"):
            place = self.folder / own
            self.assertEqual(stat.S_IMODE(place.stat().st_mode), 0o700)
            for path in place.rglob("*"):
                self.assertEqual(stat.S_IMODE(path.stat().st_mode) & 0o077, 0, path)
        place.chmod(0o755)
        self.run_program("attachments", "in.mbox", "--flat", "--into", "att")
        self.assertEqual(stat.S_IMODE(place.stat().st_mode), 0o700, "that of an earlier version, too")


class LeftOpen(ProgramTest):
    """What a locked backup lies open in is cleared, whatever ends the run."""

    def setUp(self) -> None:
        super().setUp()
        self.write("in.mbox", mbox(*(letter(f"Letter {n}", body="words\n" * 3000) for n in range(400))))
        self.env = {"WEXAGRAPH_PASSPHRASE": SECRET, "TMPDIR": str(self.folder / "tmp")}
        (self.folder / "tmp").mkdir()
        self.run_program("backup", "in.mbox", "--into", "bk", "--lock", env=self.env)

    def open_files(self) -> list[str]:
        return [
            path.name
            for path in (self.folder / "tmp").glob("wexagraph-*/**/*")
            if path.is_file() and path.name != "held"
        ]

    def test_after_a_signal(self) -> None:
        for number in (signal.SIGTERM, signal.SIGHUP, signal.SIGINT, signal.SIGKILL):
            with self.subTest(number.name):
                process = subprocess.Popen(
                    [PROGRAM, "restore", "bk", "--into", f"back-{number.name}"],
                    cwd=self.folder,
                    stdout=subprocess.DEVNULL,
                    stderr=subprocess.DEVNULL,
                    env={**os.environ, **self.env},
                )
                while not self.open_files() and process.poll() is None:
                    time.sleep(0.005)
                process.send_signal(number)
                if number == signal.SIGINT:
                    process.send_signal(number)
                process.wait(30)
                if number != signal.SIGKILL:
                    self.assertEqual(self.open_files(), [])
                self.run_program("--version", env=self.env)
                self.assertEqual(self.open_files(), [], "the next run clears what was left")

    def test_what_another_holds_stays(self) -> None:
        held = TemporaryFolder()
        self.addCleanup(held.close)
        (held.path / "open").write_text("x")
        left = Path(tempfile.mkdtemp(prefix="wexagraph-"))
        (left / "held").touch()
        (left / "open").write_text("x")
        clear_abandoned()
        self.assertTrue((held.path / "open").exists())
        self.assertFalse(left.exists())
        shutil.rmtree(left, ignore_errors=True)
        held.close()
        self.assertFalse(held.path.exists())


class Templates(ProgramTest):
    def test_nothing_gets_out_of_one_and_none_runs_on(self) -> None:
        self.write("in.mbox", mbox(letter("One")))
        rows = [
            "{{ ''.__class__.__mro__ }}",
            "{{ message.__init__.__globals__ }}",
            "{{ self.__init__ }}",
            "{% for a in range(99999) %}{% for b in range(99999) %}x{% endfor %}{% endfor %}",
            "{{ 'a' * 1000000000 }}",
            "{{ 9 ** 9 ** 9 ** 9 }}",
            "{% include '/etc/passwd' %}",
            "{% import 'os' as os %}",
            "{{ lipsum.__globals__ }}",
            "{{ cycler.__init__ }}",
            "{% set x = namespace(v='a') %}{% for i in range(60) %}{% set x.v = x.v ~ x.v %}{% endfor %}{{ x.v }}",
            "{{ '%999999999d' % 1 }}",
            "{{ [].append }}",
            "{% macro m() %}{{ m() }}{% endmacro %}{{ m() }}",
            "{{ request }}",
            "{{ config }}",
            "{{ url_for }}",
            "{{ get_flashed_messages }}",
        ]
        for number, row in enumerate(rows):
            with self.subTest(row[:50]):
                self.write("cover.html", f"<h1>{row}</h1>")
                started = time.monotonic()
                with mock.patch("wexagraph.app.options._COVER_TIMEOUT", 6.0):
                    done = self.call_program(
                        "export", "in.mbox", "--into", f"out{number}", "--cover", "cover.html", code=None
                    )
                self.assertLess(time.monotonic() - started, 24)
                if done.returncode == 0:
                    continue  # it is text like another
                self.assertEqual(done.returncode, 2)
                self.assertIn("cover.html", done.stderr)
                self.assertNotIn("fault in Wexagraph", done.stderr)

    def test_no_pipe_is_waited_for(self) -> None:
        self.write("in.mbox", mbox(letter("One")))
        os.mkfifo(self.folder / "cover.html")
        self.assertIn(
            "can't be read",
            self.call_program("export", "in.mbox", "--into", "out", "--cover", "cover.html", code=2).stderr,
        )
        self.write("c.html", '<img src="p.png"><h1>Cover</h1>')
        os.mkfifo(self.folder / "p.png")
        self.assertIn(
            "p.png", self.call_program("export", "in.mbox", "--into", "out", "--cover", "c.html", code=2).stderr
        )
