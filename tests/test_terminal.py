"""What a person at a terminal sees: colour, widths, progress; and what a pipe gets instead."""

from __future__ import annotations

import csv
import fcntl
import json
import os
import pty
import re
import struct
import subprocess
import termios
import unittest

from tests.helpers import PROGRAM, ProgramTest, letter, mbox, named_rows
from tests.terminal import Terminal as Screen
from wexagraph.demo import build
from wexagraph.demo.build import file, html, message, multipart, when
from wexagraph.tables.columns import csv_row
from wexagraph.text import lines, one_line, size, without_controls


class Texts(unittest.TestCase):
    def test_one_line(self) -> None:
        for text, wanted in [
            ("plain", "plain"),
            ("a\tb\nc", "a b c"),
            ("\x1b[31mred\x1b[0m", "[31mred[0m"),
            ("\x9b31m", "31m"),
            ("a\u202eb\u2066c\u200bd", "abcd"),
            ("bell\x07 back\x08", "bell back"),
            ("x\u2028y", "xy"),
            ("\ud800", ""),
            ("日本語 é 😀", "日本語 é 😀"),
        ]:
            with self.subTest(text):
                self.assertEqual(one_line(text), wanted)

    def test_lines_keep_their_ends(self) -> None:
        self.assertEqual(lines("a\n\tb\r\n\x1bc"), "a\n\tb\nc")

    def test_cells(self) -> None:
        for text in ("=1+1", "+1", "-1", "@x", "\tx", "\rx", "\uff1d1+1", "\uff20x"):
            self.assertEqual(next(csv.reader([csv_row([text])])), ["'" + text])
        self.assertEqual(csv_row(["a=b"]), "a=b\r\n")

    def test_sizes(self) -> None:
        for count, wanted in [
            (0, "0 bytes"),
            (1, "1 byte"),
            (1023, "1023 bytes"),
            (1024, "1.0 KB"),
            (1536, "1.5 KB"),
            (3 * 1024**2, "3.0 MB"),
            (2 * 1024**3, "2.0 GB"),
            (5 * 1024**4, "5.0 TB"),
        ]:
            self.assertEqual(size(count), wanted)

    def test_what_no_markup_may_hold(self) -> None:
        self.assertEqual(without_controls("a\0b\x0bc\ud800d\ufffee\tf\n"), "abcde\tf\n")


class Terminal(ProgramTest):
    started = True

    def on_a_terminal(self, *arguments: object, columns: int = 100) -> tuple[int, str]:
        """Run the program with a terminal of that width for all its streams. Returns the exit code and what it showed."""
        master, slave = pty.openpty()
        fcntl.ioctl(slave, termios.TIOCSWINSZ, struct.pack("HHHH", 40, columns, 0, 0))
        environment = {
            **os.environ,
            "TERM": "xterm-256color",
            "TZ": "UTC",
            "XDG_CONFIG_HOME": str(self.folder / "none"),
        }
        for name in ("COLUMNS", "LINES", "NO_COLOR"):
            environment.pop(name, None)
        process = subprocess.Popen(
            [PROGRAM, *map(str, arguments)], cwd=self.folder, env=environment, stdin=slave, stdout=slave, stderr=slave
        )
        os.close(slave)
        shown = b""
        while True:
            try:
                piece = os.read(master, 65536)
            except OSError:
                break
            if not piece:
                break
            shown += piece
        os.close(master)
        return process.wait(30), shown.decode("utf-8")

    def plain(self, shown: str) -> list[str]:
        return re.sub(r"\x1b\[[0-9;?]*[A-Za-z]", "", shown).replace("\r", "").split("\n")

    def test_a_list_fits_the_width(self) -> None:
        self.write("box", mbox(letter("East quay " * 40), letter("短い", "田中 <t@x.example>"), letter("港" * 90)))
        for columns in (80, 120):
            code, shown = self.on_a_terminal("list", "box", columns=columns)
            self.assertEqual(code, 0)
            self.assertIn("\x1b[", shown)
            for line in self.plain(shown):
                wide = sum(2 if ord(c) > 0x2E80 else 1 for c in line)
                self.assertLessEqual(wide, columns, line)
        self.assertIn("East quay " * 39, self.run_program("list", "box").stdout, "a pipe gets it whole")

    def test_words_that_were_looked_for_stand_out(self) -> None:
        self.write("box", mbox(letter("Tide", body="The harbour. " * 30 + "A fender is lost. " + "The harbour. " * 30)))
        self.run_program("backup", "box", "--into", "bk")
        shown = self.on_a_terminal("list", "bk", "--text", "Fender", columns=80)[1]
        self.assertIn("\x1b[1mfender\x1b[0m", shown)
        self.assertNotIn("\x1b[1m", self.run_program("list", "bk", "--text", "Fender").stdout)

    def test_hostile_text_steers_nothing(self) -> None:
        self.write(
            "box", mbox(letter("\x1b[2J\x1b]0;owned\x07 cleared", "\x1b[31m <a@b.example>", body="\x1b[2J body\n"))
        )
        id = self.listed("box")[0]["id"]
        for arguments in (
            ["list", "box"],
            ["show", "box", id],
            ["folders", "box"],
            ["export", "box", "--into", "out", "--as", "eml"],
        ):
            _, shown = self.on_a_terminal(*arguments)
            self.assertNotIn("\x1b[2J", shown)
            self.assertNotIn("\x1b]0;", shown)
            self.assertNotIn("\x07", shown)

    def test_brackets_and_colons_are_text(self) -> None:
        """What the library for tables takes for styles and signs stands in names of folders and files."""
        plan = message(
            "[/a] <a@b.example>",
            "c@d.example",
            "[bold]s[/] :anchor:",
            when("2026-03-14"),
            multipart("mixed", build.text("[/x]\n"), file("[/x] :anchor:.txt", "text/plain", b"x")),
        )
        self.write("in/[red]dues :anchor:/a.eml", plan)
        self.write("in/[/a].mbox", mbox(letter()))
        shown = "\n".join(self.plain(self.on_a_terminal("folders", "in")[1]))
        self.assertIn("[red]dues :anchor:", shown)
        self.assertIn("[/a]", shown)
        id = self.listed("in", "--folder", "[red]dues :anchor:")[0]["id"]
        code, shown = self.on_a_terminal("show", "in", id)
        self.assertEqual(code, 0)
        self.assertIn("[/x] :anchor:.txt", shown)
        self.run_program("backup", "in", "--into", "bk")
        self.assertEqual(self.on_a_terminal("runs", "bk")[0], 0)

    def test_progress_is_a_bar(self) -> None:
        page = "<table border=1>" + "<tr><td>a<td>b<td>c</tr>" * 150 + "</table>"
        letters = [message("a@b.example", "c@d.example", f"m{n}", when("2026-03-14"), html(page)) for n in range(50)]
        self.write("box", mbox(*letters))
        code, shown = self.on_a_terminal("export", "box", "--into", "out", "--jobs", "1")
        self.assertEqual(code, 0)
        self.assertRegex(shown, r"\d+ of 50 messages")
        self.assertIn("50 written", "\n".join(self.plain(shown)))

    def test_a_mistake_is_a_sentence(self) -> None:
        code, shown = self.on_a_terminal("list", "nowhere")
        self.assertEqual(code, 3)
        self.assertIn("wexagraph: nowhere does not exist", shown)


class Narrow(ProgramTest):
    """Tables at terminals of 80, 100 and 160 columns: nothing that names or dates something is broken."""

    def test_no_name_date_or_address_is_broken(self) -> None:
        self.write(
            "in.mbox",
            mbox(
                letter("Berth", "Aoife Lindqvist <aoife.lindqvist@brackwater-dredging.example>"),
                letter("Tides", "Harbour <harbour@saltmere.example>", "Tue, 17 Mar 2026 09:00:00 +0000"),
            ),
        )
        env = {"WEXAGRAPH_RECORDS": str(self.folder / "records"), "WEXAGRAPH_ORDERS": str(self.folder / "orders")}
        self.run_program(
            "case", "open", "2026-118", "The long quarrel over the lights of buoy 14", "--keep", "7y", env=env
        )
        self.run_program("file", "in.mbox", "--case", "2026-118", env=env)
        self.run_program("case", "close", "2026-118", env=env)
        self.run_program("backup", "in.mbox", "--into", "stick")
        call = ("export", "in.mbox", "--subject", "berth", "--as", "eml", "--into", "berths")
        self.run_program("order", "add", "letters-of-the-dredgers", "--every", "1h", "--", *call, env=env)
        self.run_program("order", "run", "letters-of-the-dredgers", env=env)
        run = json.loads(self.run_program("runs", "stick", "--json").stdout)[0]["name"]
        for columns in (80, 100, 160):
            for command, words in (
                (("order", "list"), ("letters-of-the-dredgers", "every 1h", "nothing runs it", "subject berth")),
                (("order", "log"), ("letters-of-the-dredgers", "done")),
                (("case", "list"), ("2026-118", "The long quarrel over", "closed")),
                (("runs", "stick"), (run, "whole")),
                (
                    ("addresses", "in.mbox"),
                    ("aoife.lindqvist@brackwater-dredging.example", "Aoife Lindqvist", "2026-03-17"),
                ),
            ):
                with self.subTest(columns=columns, command=command):
                    environment = {**os.environ, **env, "TZ": "UTC", "XDG_CONFIG_HOME": str(self.folder / "none")}
                    terminal = Screen([PROGRAM, *command], self.folder, environment, columns, 40)
                    terminal.end()
                    shown = terminal.text()
                    for word in words:
                        self.assertIn(word, shown)


class ForPrograms(ProgramTest):
    def test_what_else_is_json_or_csv(self) -> None:
        self.write("in.mbox", mbox(letter("Größe", more="X-Department: Harbour\n"), letter("Tides")))
        id = self.listed("in.mbox")[0]["id"]
        shown = json.loads(self.run_program("show", "in.mbox", id, "--json", "--headers").stdout)
        self.assertEqual((shown["subject"], shown["date"]), ("Größe", "2026-03-14T15:03:00+00:00"))
        self.assertIn(["X-Department", "Harbour"], [[name, value.strip()] for name, value in shown["headers"]])
        self.assertEqual(shown["parts"][0]["type"], "text/plain")
        self.assertEqual(json.loads(self.run_program("account", "list", "--json").stdout), [])
        self.run_program("backup", "in.mbox", "--into", "stick")
        self.assertEqual(len(self.run_program("runs", "stick", "--csv").stdout.splitlines()), 2)
        found = self.run_program("find", "survey", "--in", "stick", "--csv").stdout.splitlines()
        self.assertEqual(len(found), 3)
        self.run_program("export", "in.mbox", "--as", "eml", "--into", "out")
        self.assertIn("Tides", self.run_program("find", "survey", "--in", "out", "--csv").stdout)
        self.assertEqual(self.run_program("verify", "out", "--quiet").stdout, "")
        next((self.folder / "out").rglob("*Tides.eml")).unlink()
        self.assertIn("missing", self.run_program("verify", "out", "--quiet", code=1).stdout)
        rows = named_rows(self.run_program("verify", "out", "--csv", code=1).stdout.splitlines())
        self.assertEqual([row["state"] for row in rows], ["missing"])
        self.run_program("copy", "stick", "--into", "twin")
        self.assertEqual(self.run_program("copy", "stick", "--into", "twin", "--quiet").stdout, "")
        self.run_program("restore", "stick", "--into", "back.mbox")
        self.assertEqual(self.run_program("restore", "stick", "--into", "back.mbox", "--quiet").stdout, "")
