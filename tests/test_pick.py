"""Choosing with the eyes: the list in a terminal as a person uses it, what is kept as a set, and the list by itself."""

from __future__ import annotations

import json
import os
import re
import shutil
import sys
import threading
import unittest
from datetime import UTC, datetime
from pathlib import Path

import pyte
from prompt_toolkit.utils import get_cwidth

from tests.helpers import ProgramTest, letter, letter_with, mbox
from tests.peers import Peer
from tests.terminal import Terminal
from wexagraph.app.picking import FolderTree, Picker, row_of
from wexagraph.cli.picking.cells import cell, wrapped
from wexagraph.demo.mailbox import make_mailbox
from wexagraph.messages.headers import Header
from wexagraph.sources import open_source
from wexagraph.sources.base import Envelope

PROGRAM = str(Path(sys.executable).parent / "wexagraph")


class Picking(ProgramTest):
    """The program at a pseudo-terminal: keys go in, the screen is read."""

    def pick(
        self, *arguments: object, columns: int = 80, lines: int = 24, output: Path | None = None, **more: str
    ) -> Terminal:
        environment = {
            **os.environ,
            "XDG_CONFIG_HOME": str(self.folder / "no-config"),
            "XDG_STATE_HOME": str(self.folder / "no-state"),
            "TZ": "UTC",
            **more,
        }
        terminal = Terminal([PROGRAM, "pick", *map(str, arguments)], self.folder, environment, columns, lines, output)
        self.addCleanup(terminal.close)
        return terminal

    def demo(self) -> None:
        make_mailbox(self.folder / "in")

    def marked(self, terminal: Terminal) -> list[bool]:
        """Whether each of the first four rows is marked."""
        return ["* 20" in row or "*>20" in row for row in self.rows(terminal)[:4]]

    def rows(self, terminal: Terminal) -> list[str]:
        """The lines of the list that is on the screen."""
        return [line for line in terminal.text().splitlines() if re.search(r"[* ][> ](\d{4}-\d\d-\d\d |undated)", line)]

    def test_narrow_mark_and_print(self) -> None:
        """The IDs of what was marked go to standard output, the list to the terminal; they fit `export --id -`."""
        self.demo()
        chosen = self.folder / "ids.txt"
        terminal = self.pick("in", output=chosen)
        terminal.until("117 of 117 messages", "0 marked", "Tab mark", "Enter done", "Soundings", gone="Reading")
        terminal.press(*"from:miriam buoy")
        terminal.until("2 of 117 messages", "Narrow: from:miriam buoy", "From Miriam Cole", "I have the agreement")
        terminal.press("tab")
        terminal.until("1 marked, 904 bytes", "your Cormorant lies on buoy 14")
        terminal.press("escape")
        terminal.until("117 of 117 messages", "1 marked")  # what is marked stays
        terminal.press(*"ice on the inner")
        terminal.until("1 of 117 messages")
        terminal.press("tab")
        terminal.until("2 marked")
        terminal.press("enter")
        self.assertEqual(terminal.end(), 0)
        ids = chosen.read_text()
        self.assertEqual(len(ids.split()), 2)
        done = self.run_program("export", "in", "--id", "-", "--as", "eml", "--into", "out", input=ids)
        self.assertIn("2 written", done.stdout)
        self.assertEqual({Path(name).name[:10] for name in self.made("out", ".eml")}, {"2026-04-02", "2026-01-28"})

    def test_every_way_of_marking(self) -> None:
        self.demo()
        terminal = self.pick("in", columns=130, lines=40)
        terminal.until("117 of 117 messages", "All folders", "Berths")
        for keys, words in (
            (("tab", "down", "down", "f2"), "4 marked"),
            (("f4",), "0 marked"),
            ((*"buoy", "f3"), "10 marked"),
            (("tab", "f5"), "1 marked"),
            (("f4", "down", "down", "f6"), "8 marked"),
            (("f4", "f7"), "marked"),
        ):
            terminal.press(*keys)
            terminal.until(words)
        terminal.press("escape", "f4")
        terminal.until("117 of 117", "0 marked")
        terminal.press("f9", "down", "down")
        terminal.until("in desk/Attachments: 12 of 117")
        terminal.press("enter", "f3")
        terminal.until("12 marked")
        before = self.rows(terminal)
        terminal.press("f8")  # by sender now
        terminal.until("From \N{UPWARDS ARROW}", holds=lambda: self.rows(terminal) != before)
        self.assertNotEqual(self.rows(terminal), before)
        terminal.click(40, 5)  # the third row
        terminal.press("tab")
        wanted = [True, True, False, True]
        terminal.until("11 marked", holds=lambda: self.marked(terminal) == wanted)
        self.assertEqual(self.marked(terminal), wanted)
        terminal.press("escape", "escape")
        self.assertEqual(terminal.end(), 0)

    def test_a_set_and_files_at_once(self) -> None:
        self.demo()
        terminal = self.pick("in", "--subject", "Buoy 14")
        terminal.until("9 of 9 messages")
        terminal.press("f3", "enter")
        terminal.until("9 chosen:", "S keep as a set", "E make files")
        terminal.press("s")
        terminal.until("Name of the set")
        terminal.press(*"buoy/14", "enter")
        terminal.until("can't be the name of a set")
        terminal.press(*([chr(8)] * 3), *"-14", "enter")
        self.assertEqual(terminal.end(), 0)
        self.assertIn("Kept as the set buoy-14: 9 messages", terminal.text())
        self.assertIn("--set buoy-14", terminal.text())
        self.assertEqual(len(self.listed("in", "--set", "buoy-14")), 9)
        (kept,) = json.loads(self.run_program("sets", "--json").stdout)
        self.assertEqual((kept["name"], kept["messages"], kept["source"]), ("buoy-14", 9, "in"))
        refused = self.run_program(
            "order", "add", "dues", "--", "export", "in", "--set", "buoy-14", "--into", "dues", code=2
        )
        self.assertIn("--set belongs to a single call", refused.stderr)
        self.run_program("sets", "--remove", "buoy-14")
        self.assertIn("No set is kept", self.run_program("sets").stdout)
        self.assertIn("there is no set 'buoy-14'", self.run_program("list", "in", "--set", "buoy-14", code=2).stderr)
        # files at once, and the command that does the same
        terminal = self.pick("in", "--subject", "Ice on", columns=110)
        terminal.until("1 of 1 messages")
        terminal.press("enter")
        terminal.until("1 chosen:")
        terminal.press("e")
        terminal.until("wexagraph export", "--into export --as pdf")
        terminal.press(*([chr(8)] * 3), *"eml", "enter")
        self.assertEqual(terminal.end(), 0)
        self.assertIn("$ wexagraph export in --id", terminal.text())
        self.assertIn("1 written", terminal.text())
        self.assertEqual(len(self.made("export", ".eml")), 1)
        self.assertEqual(len(self.listed("in", "--set", "picked")), 1)

    def test_nothing_steers_the_terminal(self) -> None:
        """Hostile, wide, combining and right-to-left subjects: columns stay, the title stays, nothing is cleared."""
        subjects = [
            "\x1b[2J\x1b[31mred\x1b]0;owned\x07 alert",
            "\u202egpj.exe and \u200bzero",
            "港の測量報告書と係留許可証の写し",
            "تقرير الميناء عن الرصيف",
            "e\u0301te\u0301 a\u0300 la mer",
            "\N{WAVING HAND SIGN} boats \N{SHIP}\ufe0f here",
        ]
        self.write("in.mbox", mbox(*(letter(subject, body=subject) for subject in subjects)))
        for environment in ({}, {"NO_COLOR": "1"}):
            terminal = self.pick("in.mbox", **environment)
            terminal.until("6 of 6 messages", "Enter done", gone="Reading")
            for _ in subjects:
                terminal.press("down")
            terminal.until("boats", "港の測量", gone="Reading")
            rows = self.rows(terminal)
            self.assertEqual(len(rows), 6)
            for row in rows:
                self.assertRegex(row, r"Ines Halden {7}.* in$")
            self.assertEqual(terminal.screen.title, "")
            if environment:
                self.assertEqual(
                    {cell.fg for line in terminal.screen.buffer.values() for cell in line.values()}, {"default"}
                )
            terminal.press("escape")
            self.assertEqual(terminal.end(), 0)

    def test_a_small_window_shows_what_tells_messages_apart(self) -> None:
        """Attachments, folder, and of sent mail who it went to."""
        self.write("in/desk/Sent/1.eml", letter("Answer"))
        self.write("in/desk/Permits/2.eml", letter_with(*((f"{n}.txt", "text/plain", b"x") for n in (1, 2))))
        terminal = self.pick("in")
        terminal.until("2 of 2 messages", "Files", "2 desk/Permi", gone="Reading")
        answer, permit = sorted(row.rstrip() for row in self.rows(terminal))[::-1]
        self.assertRegex(answer, r"2026-03-14 \N{RIGHTWARDS ARROW} Records +Answer +desk/Sent$")
        self.assertRegex(permit, r"2026-03-09 Slipway desk +Permit +2 desk/Permits$")
        terminal.press("escape")
        self.assertEqual(terminal.end(), 0)

    def test_a_window_that_changes(self) -> None:
        self.demo()
        terminal = self.pick("in", columns=140, lines=40)
        terminal.until("117 of 117", "All folders")
        terminal.resize(80, 24)
        terminal.until("117 of 117", "Esc leave", gone="All folders")
        self.assertTrue(all(len(line) <= 80 for line in terminal.text().splitlines()))
        terminal.resize(60, 15)
        terminal.until("Enter done")
        terminal.press("c-end")
        terminal.until("2026-01-11")
        terminal.press("escape")
        self.assertEqual(terminal.end(), 0)

    def test_a_slow_account(self) -> None:
        """The first messages are there while the rest are still on their way; they can be marked meanwhile."""
        held = threading.Event()
        self.addCleanup(held.set)

        def mood(word: str, command: str, peer: Peer) -> bytes | None:
            if word in ("EXAMINE", "SELECT") and "Slow" in command:
                held.wait(60)
            return None

        server = Peer([letter(f"Letter {n}").replace(b"\n", b"\r\n") for n in range(20)], mood)
        server.folders = ("INBOX", "Slow")
        self.addCleanup(server.close)
        terminal = self.pick(server.url, WEXAGRAPH_PASSWORD="x")
        terminal.until("20 of 20 messages, more are coming", "Letter 9")
        terminal.press("tab", "tab")
        terminal.until("2 marked")
        held.set()
        terminal.until("40 of 40 messages", "2 marked", gone="more are coming")
        terminal.until("The survey is done")
        terminal.press("escape")
        self.assertEqual(terminal.end(), 0)

    def test_a_source_that_goes_away(self) -> None:
        for number in range(3):
            self.write(f"in/{number}.eml", letter(f"Letter {number}"))
        terminal = self.pick("in")
        terminal.until("3 of 3 messages", "The survey is done")
        shutil.rmtree(self.folder / "in")
        terminal.press("down")
        terminal.until("can't be read", "3 of 3 messages")
        terminal.press("escape")
        self.assertEqual(terminal.end(), 0)

    def test_of_a_backup(self) -> None:
        self.write("in/a.eml", letter("Slipway"))
        self.run_program("backup", "in", "--into", "kept")
        terminal = self.pick("kept", "--save", "slip")
        terminal.until("1 of 1 messages", "Slipway", "The survey is done")
        terminal.press("enter")
        self.assertEqual(terminal.end(), 0)
        self.assertEqual(len(self.listed("kept", "--set", "slip")), 1)

    def test_without_a_terminal(self) -> None:
        self.write("in/a.eml", letter())
        done = self.run_program("pick", "in", code=2)
        self.assertIn("`wexagraph list in`", done.stderr)
        self.assertIn("can't be the name of a set", self.run_program("pick", "in", "--save", "a/b", code=2).stderr)


class TheList(unittest.TestCase):
    """The list by itself, as far as a terminal would make a table of cases long."""

    def picker(self, count: int = 6) -> Picker:
        picker = Picker()
        picker.add(row_of(self.envelope(number), UTC) for number in range(count))
        picker.settle()
        return picker

    def envelope(self, number: int) -> Envelope:
        names = ("Ines Halden", "Tomas Wray", "Miriam Cole")
        header = (
            f"From: {names[number % 3]} <p{number % 3}@saltmere.example>\nTo: Records <records@saltmere.example>\n"
            f"Subject: {'Re: ' * (number % 2)}Berth {number // 2}\nMessage-ID: <m{number}@x>\n"
            f"{f'In-Reply-To: <m{number - 1}@x>' if number % 2 else 'X-Y: z'}\n"
            f"Date: {datetime(2026, 1 + number % 12, 1 + number % 28, tzinfo=UTC):%d %b %Y %H:%M:%S} +0000\n\n"
        )
        flags = frozenset({"seen"} if number % 2 else ())
        folder = ("Berths", "Berths/East", "Letters")[number % 3]
        return Envelope(folder, f"{number:07}", 100 * number, Header(header.encode()), f"s{number}", flags)

    def shown(self, text: str) -> list[int]:
        picker = self.picker()
        picker.narrow(text)
        return sorted(picker.shown)

    def test_what_narrows(self) -> None:
        for text, wanted in (
            ("", [0, 1, 2, 3, 4, 5]),
            ("HALDEN", [0, 3]),
            ('"berth 2"', [4, 5]),
            ("from:cole", [2, 5]),
            ("from:p1@", [1, 4]),
            ("subject:Re", [1, 3, 5]),
            ('subject:"berth 1"', [2, 3]),
            ("folder:berths", [0, 1, 3, 4]),
            ("to:records is:unseen", [0, 2, 4]),
            ("since:2026-05", [4, 5]),
            ("before:2026-02", [0]),
            ("larger:299", [3, 4, 5]),
            ("smaller:1KB from:", [0, 1, 2, 3, 4, 5]),
            ("keyword:seen", [1, 3, 5]),
        ):
            with self.subTest(text):
                self.assertEqual(self.shown(text), wanted)
        picker = self.picker()
        picker.narrow("from:cole")
        picker.narrow("from:cole since:yesterweek")
        self.assertIn("yesterweek", picker.trouble)
        self.assertEqual(len(picker.shown), 2)

    def test_marks_and_conversations(self) -> None:
        picker = self.picker()
        self.assertEqual([picker.rows[n].day[:7] for n in picker.shown], [f"2026-0{n}" for n in (6, 5, 4, 3, 2, 1)])
        picker.mark_conversation()
        self.assertEqual(picker.marked, {4, 5})
        picker.narrow("halden")
        picker.mark_others()
        self.assertEqual(picker.marked, {0, 3, 4, 5})
        self.assertEqual(picker.bytes_marked, 1200)
        picker.mark_none()
        picker.narrow("")
        picker.mark_sender()
        self.assertEqual({picker.rows[n].sender for n in picker.marked}, {picker.rows[picker.under or 0].sender})
        picker.mark_none()
        self.assertEqual([row.id for row in picker.chosen()], [picker.rows[picker.under or 0].id])

    def test_the_ids_are_those_of_the_list(self) -> None:
        from tempfile import TemporaryDirectory

        with TemporaryDirectory() as folder:
            box = Path(folder, "a.mbox")
            box.write_bytes(mbox(letter("One"), letter("Two")))
            with open_source(box) as source:
                envelopes = [each for name in source.folders() for each in source.envelopes(name)]
                self.assertEqual([row_of(each, None).id for each in envelopes], [each.id for each in envelopes])

    def test_many_rows(self) -> None:
        """200,000 rows: narrowed, sorted and gone through; only what is seen is ever made into a line."""
        one = row_of(self.envelope(1), UTC)
        picker = Picker()
        for _ in range(200):
            picker.add([one] * 1000)
        picker.settle()
        picker.narrow("wray")
        self.assertEqual(len(picker.shown), 200_000)
        picker.move(150_000)
        picker.sort_by("size")
        picker.mark_range()
        self.assertEqual(len(picker.marked), 1)

    def test_folders_as_a_tree(self) -> None:
        tree = FolderTree({"Berths/East": 2, "Berths/West/Old": 1, "Letters": 4, "berths": 3})
        self.assertEqual(
            [(depth, label, count) for _, depth, label, count in tree.lines][:5],
            [(0, "All folders", 10), (0, "Berths", 3), (0, "berths", 3), (1, "East", 2), (1, "West", 1)],
        )

    def test_long_lines_are_broken_between_words(self) -> None:
        for text, width, wanted in (
            ("one two three", 7, ["one two", "three"]),
            ("  indented words", 10, ["  indented", "words"]),
            ("x" * 12, 5, ["xxxxx", "xxxxx", "xx"]),
            ("港の測量報告", 4, ["港の", "測量", "報告"]),
            ("a\n\nb", 5, ["a", "", "b"]),
        ):
            with self.subTest(text):
                self.assertEqual(wrapped(text, width).split("\n"), wanted)

    def test_cells_keep_their_width(self) -> None:
        """Judged by a terminal: what stands behind a cell begins in the same column, whatever is in it."""
        texts = [
            "plain",
            "x" * 50,
            "港の測量報告書",
            "تقرير",
            "e\u0301" * 30,
            "\u0301lone",
            "\x1b[31mred",
            "\N{SHIP}\ufe0f go",
            "",
        ]
        screen = pyte.Screen(60, len(texts))
        stream = pyte.Stream(screen)
        cells = (re.sub("[\u2068\u2069]", "", cell(text, 20)) for text in texts)  # pyte stops at them
        stream.feed("\r\n".join(f"{text}|" for text in cells))
        for line, text in zip(screen.display, texts, strict=True):
            with self.subTest(text):
                self.assertEqual(get_cwidth(line.partition("|")[0]), 20)
