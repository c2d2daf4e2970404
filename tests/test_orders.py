"""Standing orders: when they run, what they deliver (each message once, none forgotten), what is said of them."""

from __future__ import annotations

import contextlib
import json
import os
import re
import shutil
import sqlite3
import subprocess
import sys
import threading
import time
import tomllib
import unittest
from concurrent.futures import ThreadPoolExecutor
from dataclasses import replace
from datetime import datetime, timedelta
from pathlib import Path
from unittest import mock
from zoneinfo import ZoneInfo

from tests.helpers import PROGRAM, ProgramTest, letter, mbox
from wexagraph.app.opening import open_source
from wexagraph.app.orders.running import Orders
from wexagraph.errors import CallError
from wexagraph.records.order import Order, When

NOW = datetime(2026, 3, 20, 9, 0, tzinfo=ZoneInfo("Europe/Lisbon"))  # a Friday
ADDED = NOW - timedelta(days=40)


class Times(unittest.TestCase):
    def test_what_is_due(self) -> None:
        hour, minute, day = timedelta(hours=1), timedelta(minutes=1), timedelta(days=1)
        table = [  # when, last run, did it fail, due
            (When("1h"), None, False, True),
            (When("1h"), NOW - hour, False, True),
            (When("1h"), NOW - hour + minute, False, False),
            (When("1h"), NOW - 30 * day, False, True),  # the machine slept: once
            (When("1h"), NOW + 5 * day, False, True),  # the clock was set back
            (When("1h"), NOW - 20 * minute, True, True),
            (When("1h"), NOW - 5 * minute, True, False),
            (When("", "08:30"), None, False, True),
            (When("", "08:30"), NOW - 20 * minute, False, False),
            (When("", "08:30"), NOW - hour, False, True),
            (When("", "09:30"), NOW - 20 * hour, False, False),
            (When("", "08:30", ("mon", "thu")), NOW - 2 * day, False, True),
            (When("", "08:30", ("mon", "thu")), NOW - 12 * hour, False, False),
            (When("", "08:30", ("1",)), NOW - 18 * day, False, False),
            (When("", "08:30", ("1",)), NOW - 20 * day, False, True),
            (When(on_arrival=True), NOW, False, True),
            (When(), None, False, False),
        ]
        for when, last, failed, due in table:
            self.assertEqual(when.due(last, failed, ADDED, NOW), due, (when, last))
        self.assertFalse(When("", "08:30").due(None, False, NOW - 10 * minute, NOW), "not before it was added")

    def test_when_next(self) -> None:
        table = [
            (When("1h"), NOW - timedelta(minutes=20), NOW + timedelta(minutes=40)),
            (When("", "02:30"), NOW - timedelta(hours=3), NOW.replace(day=21, hour=2, minute=30)),
            (When("", "02:30", ("mon",)), NOW, NOW.replace(day=23, hour=2, minute=30)),
            (When("", "02:30", ("31",)), NOW, NOW.replace(day=31, hour=2, minute=30)),
            (When("", "01:30", ("sun",)), NOW, NOW.replace(day=22, hour=1, minute=30)),
            (When(), NOW, None),
        ]
        for when, last, following in table:
            self.assertEqual(when.next(last, ADDED, NOW), following, when)
        april = When("", "02:30", ("31",)).next(NOW, ADDED, NOW.replace(month=4, day=5))
        self.assertEqual(april, NOW.replace(month=4, day=5), "the last of March was missed: it is due")

    def test_what_can_not_be_meant(self) -> None:
        for values in (
            *({"every": "1h", "at": "02:30"}, {"every": "soon"}, {"every": "0m"}, {"at": "25:00"}, {"on": "mon"}),
            *({"at": "02:30", "on": "someday"}, {"at": "02:30", "on": "32"}),
        ):
            with self.subTest(values), self.assertRaises(CallError):
                When.from_dict(values)


class OrderTest(ProgramTest):
    WORDS, CALL = ("order", "add", "dues"), ("export", "in", "--as", "eml", "--into", "out")

    def setUp(self) -> None:
        super().setUp()
        self.write("in/a/1.eml", letter("Dues 1"))
        self.write("in/b/2.eml", letter("Dues 2"))

    def add(self, *call: object, when: tuple[str, ...] = (), name: str = "dues") -> None:
        call = call or ("export", "in", "--as", "eml", "--into", "out")
        self.run_program("order", "add", name, *when, "--", *call)

    def run_order(self, *more: str, code: int = 0, name: str = "dues") -> tuple[int, int, int]:
        """Run an order. Returns how many were new, already there, and failed."""
        (run,) = json.loads(self.run_program("order", "run", name, "--json", *more, code=code).stdout)["runs"]
        return run["written"], run["already_there"], run["failed"]

    def file(self, name: str = "dues") -> Path:
        return self.folder / f"no-config/wexagraph/orders/{name}.toml"

    def listed(self, name: str = "dues") -> dict[str, object]:
        orders = json.loads(self.run_program("order", "list", "--json", code=None).stdout)["orders"]
        return next(order for order in orders if order["name"] == name)


class Delivering(OrderTest):
    def test_what_is_delivered_is_delivered(self) -> None:
        self.add()
        self.assertEqual(self.run_order(), (2, 0, 0))
        self.assertEqual(self.run_order(), (0, 2, 0))
        first, second = (self.folder / "out" / path for path in self.made("out", ".eml"))
        first.rename(first.with_name("renamed.eml"))
        second.unlink()
        self.assertEqual(self.run_order(), (0, 2, 0))
        self.assertEqual(self.made("out", ".eml"), ["a/renamed.eml"])
        (self.folder / "in/a/1.eml").rename(self.folder / "in/b/1 moved.eml")
        self.write("in/b/3.eml", letter("Dues 3"))
        self.assertEqual(self.run_order(), (1, 2, 0), "a message that changed its folder brings nothing again")
        shutil.rmtree(self.folder / "out")
        self.assertEqual(self.run_order(), (0, 3, 0))
        self.assertFalse((self.folder / "out").exists())

    def test_a_mailbox_that_was_compacted(self) -> None:
        self.write("in.mbox", mbox(*(letter(f"Dues {n}") for n in range(5))))
        self.add("export", "in.mbox", "--as", "eml", "--into", "out")
        self.assertEqual(self.run_order(), (5, 0, 0))
        self.write("in.mbox", mbox(*(letter(f"Dues {n}") for n in (1, 3, 4, 9))))
        self.assertEqual(self.run_order(), (1, 3, 0))
        self.assertEqual(len(self.made("out", ".eml")), 6)

    def test_attachments_and_a_backup(self) -> None:
        from wexagraph.demo.mailbox import make_mailbox

        make_mailbox(self.folder / "mailbox")
        self.add("attachments", "mailbox", "--attached", "*.xlsx", "--into", "files", name="files")
        self.add("backup", "mailbox", "--into", "stick", name="stick", when=("--at", "02:30"))
        new, _, _ = self.run_order(name="files")
        self.assertEqual(new, len(self.made("files", "")))
        self.assertTrue(all(path.endswith(".xlsx") for path in self.made("files", "")), self.made("files", ""))
        for path in self.made("files", ""):
            (self.folder / "files" / path).unlink()
        self.assertEqual(self.run_order(name="files")[0], 0)
        stored = self.run_order(name="stick")[0]
        self.assertEqual(self.run_order(name="stick"), (0, stored, 0))
        self.run_program("verify", "stick")

    def test_bound_documents_grow(self) -> None:
        self.add("export", "in", "--bind", "all", "--into", "out")
        self.run_order()
        (bound,) = self.made("out")
        self.assertEqual(self.run_order(), (0, 2, 0))
        self.write("in/b/3.eml", letter("Dues 3", date="Sat, 21 Mar 2026 15:03:00 +0000"))
        self.run_order()
        self.assertEqual(len(self.made("out")), 1)
        self.assertNotEqual(bound, "")

    def test_a_change_counts_for_what_comes_from_then_on(self) -> None:
        self.write("in/a/5.eml", letter("Tides 5"))
        self.add("export", "in", "--subject", "dues", "--as", "eml", "--into", "out")
        self.assertEqual(self.run_order(), (2, 0, 0))
        path = self.file()
        path.write_text(path.read_text().replace('subject = ["dues"]', 'subject = ["dues", "tides"]'))
        time_of = (self.folder / "in/a/5.eml").stat().st_mtime
        self.assertLess(time_of, time.time())
        later = letter("Tides 6", date="Sun, 01 Jan 2034 15:03:00 +0000")
        self.write("in/a/6.eml", later)
        self.assertEqual(self.run_order()[0], 1)
        self.assertEqual(next(Path(name).name for name in self.made("out", ".eml") if "Tides" in name)[:4], "2034")
        self.assertEqual(self.run_order("--again")[0], 4)
        self.assertTrue(any("(2)" in name for name in self.made("out", ".eml")), self.made("out", ".eml"))
        self.assertEqual(self.run_order(), (0, 4, 0))

    def test_what_came_while_nothing_could_be_done_is_not_forgotten_by_a_change(self) -> None:
        self.add("export", "in", "--subject", "dues", "--as", "eml", "--into", "out")
        self.assertEqual(self.run_order(), (2, 0, 0))
        moment = f"{datetime.now().astimezone():%a, %d %b %Y %H:%M:%S %z}"
        self.write("in/a/8.eml", letter("Tides 8", date=moment))
        (self.folder / "in").rename(self.folder / "away")
        self.assertEqual(self.run_order(code=3), (0, 0, 0))
        (self.folder / "away").rename(self.folder / "in")
        path = self.file()
        path.write_text(path.read_text().replace('subject = ["dues"]', 'subject = ["dues", "tides"]'))
        self.assertEqual(self.run_order(), (1, 2, 0))

    def test_a_changed_order_takes_what_it_has_not_met_however_old(self) -> None:
        self.write("in/a/5.eml", letter("Tides 5"))
        self.add("export", "in", "--subject", "dues", "--as", "eml", "--into", "out")
        self.assertEqual(self.run_order(), (2, 0, 0))
        self.write("in/a/6.eml", letter("Tides 6", date="Mon, 05 Jan 2015 15:03:00 +0000"))
        path = self.file()
        path.write_text(path.read_text().replace('subject = ["dues"]', 'subject = ["dues", "tides"]'))
        self.base("UPDATE run SET started='2044-01-01T00:00:00.000+00:00'")  # the clock was ahead
        self.assertEqual(self.run_order(), (1, 2, 0))
        self.assertEqual(next(name for name in self.made("out", ".eml") if "Tides" in name)[2:6], "2015")

    def base(self, sql: str) -> None:
        """Change the log of orders, as another clock would have written it."""
        with contextlib.closing(sqlite3.connect(self.folder / "no-state/wexagraph/orders.sqlite")) as base, base:
            base.execute(sql)

    def test_what_failed_is_tried_again_and_told_until_it_comes(self) -> None:
        self.add("export", "in", "--engine", "plutoprint", "--into", "out")
        self.write("in/b/9.eml", letter("Dues 9"))
        hook = self.write(
            "hook/sitecustomize.py",
            "import wexagraph.pages.engines.pluto as pluto\n"
            "old = pluto.PlutoPrint.render\n"
            "def render(self, page, options):\n"
            "    if page.record.title == 'Dues 9': raise pluto.PageError('made up')\n"
            "    return old(self, page, options)\n"
            "pluto.PlutoPrint.render = render\n",
        )
        for _ in range(2):
            done = self.run_program("order", "run", "dues", "--json", code=1, env={"PYTHONPATH": str(hook.parent)})
            (run,) = json.loads(done.stdout)["runs"]
            self.assertEqual((run["failed"], run["written"] + run["already_there"]), (1, 2))
            self.assertIn("made up", str(self.listed()["trouble"]))
            self.assertIn("Still to come", self.run_program("order", "show", "dues").stdout)
        self.assertEqual(self.run_order(), (1, 2, 0))
        self.assertEqual(len(self.made("out", ".pdf")), 3)
        self.assertEqual(self.listed()["trouble"], "")

    def test_two_orders_into_one_folder_and_two_runs_at_once(self) -> None:
        for n in range(40):
            self.write(f"in/a/m{n}.eml", letter(f"Letter {n}"))
        self.add()
        self.add("export", "in", "--subject", "dues", "--as", "eml", "--into", "out", name="other")
        environment = {
            "XDG_CONFIG_HOME": str(self.folder / "no-config"),
            "XDG_STATE_HOME": str(self.folder / "no-state"),
        }
        calls = [["dues"], ["dues"], ["other"], ["dues", "other"]]
        runs = [
            subprocess.Popen(
                [PROGRAM, "order", "run", *names],
                cwd=self.folder,
                env={**os.environ, **environment},
                stdout=subprocess.PIPE,
                text=True,
            )
            for names in calls
        ]
        outputs = [run.communicate(timeout=200)[0] for run in runs]
        self.assertEqual([run.returncode for run in runs], [0] * 4, outputs)
        self.assertEqual(len(self.made("out", ".eml")), 42)
        self.assertEqual(sum(int(n) for text in outputs for n in re.findall(r": (\d+) new", text)), 42)

    def test_killed_at_any_step_each_message_comes_once(self) -> None:
        for n in range(6):
            self.write(f"in/a/m{n}.eml", letter(f"Letter {n}"))
        self.add()
        self.run_program("order", "run", "dues", end_before=10**9)
        steps = self.steps
        self.assertGreater(steps, 15)
        shutil.rmtree(self.folder / "out")
        for step in range(1, steps + 1):
            with self.subTest(step):
                shutil.rmtree(self.folder / "no-state")
                shutil.rmtree(self.folder / "out", ignore_errors=True)
                self.run_program("order", "run", "dues", code=None, end_before=step)
                self.run_program("order", "run", "dues")
                self.assertEqual(len(self.made("out", ".eml")), 8)
                self.assertEqual(self.run_order(), (0, 8, 0))


class Adding(OrderTest):
    def test_what_may_not_be_deleted_by_hand_may_not_by_an_order(self) -> None:
        for command in (("export", "--as", "attachments"), ("attachments",)):
            call = (command[0], "imap://u@localhost/", *command[1:], "--into", "out", "--afterwards", "delete", "--yes")
            by_hand = self.run_program(*call, code=2).stderr
            self.assertIn("attachments alone do not keep a message", by_hand)
            self.assertEqual(self.run_program("order", "add", "x", "--", *call, code=2).stderr, by_hand)
        path = self.file("x")
        self.add("export", "imap://u@localhost/", "--into", "out", "--afterwards", "delete", "--yes", name="x")
        path.write_text(path.read_text().replace("[options]", '[options]\nas = ["attachments"]'))
        self.assertIn("attachments alone do not", self.run_program("order", "run", "x", code=None).stderr)

    def test_options_that_stand_without_a_value(self) -> None:
        from tests.helpers import letter_with

        self.write("in/c/3.eml", letter_with(("plan.txt", "text/plain", b"berth 4")))
        self.add("export", "in", "--attached", "--into", "out", name="with")
        self.assertEqual(self.run_order(name="with"), (1, 0, 0))
        self.add("export", "in", "--cover", "--into", "covered", name="covered")
        self.assertEqual(self.run_order(name="covered"), (3, 0, 0))
        self.add("attachments", "in", "--as", "pdf", "--ocr", "--into", "scanned", name="scanned")
        self.assertEqual(self.run_order(name="scanned"), (1, 0, 0))


class Saying(OrderTest):
    def test_the_file_can_be_read_and_edited(self) -> None:
        self.add("export", "in", "--from", "ines", "--except", "subject=fog", "--into", "out", when=("--every", "1h"))
        text = self.file().read_text("utf-8")
        self.assertIn('command = "export"', text)
        self.assertIn(f'into = "{self.folder}/out"', text)
        self.file().write_text("# Receipts of the harbour dues\n" + text)
        self.run_program("order", "pause", "dues")
        self.assertIn("# Receipts of the harbour dues", self.file().read_text("utf-8"), "comments stay")
        self.assertEqual(self.listed()["paused"], True)
        self.run_program("order", "resume", "dues")
        output = self.run_program("order", "show", "dues").stdout
        for words in ("every 1h", "--from ines", "--except subject=fog", f"Into     {self.folder}/out"):
            self.assertIn(words, output)

    def test_each_mistake_in_a_file_is_told_with_its_line_and_stops_no_other(self) -> None:
        self.add(name="good")
        table = [
            ('command = "exprot"', "line 2: 'exprot' is not a command that an order can keep. Did you mean export?"),
            ('comand = "export"', "line 2: 'comand' is nothing that an order has. Did you mean command?"),
            ("into = 5", "into = 5 is of the wrong kind"),
            ("into = out", "Put the value in quotes"),
        ]
        whole = self.file("good").read_text()
        for line, reason in table:
            with self.subTest(line):
                key = "command" if "mand" in line else "into"
                broken = re.sub(rf"(?m)^{key} = .*$", lambda _, line=line: line, whole)
                self.file("bad").write_text(broken)
                done = self.run_program("order", "list", code=1)
                self.assertIn(reason, done.stderr)
                self.assertIn("bad.toml", done.stderr)
                self.assertIn("good", done.stdout)
        for table_name, line, reason in (
            ("options", 'papre = "a4"', "export has no option 'papre'. Did you mean paper?"),
            ("options", 'paper = "a9"', "'a9'"),
            ("choice", 'form = ["ines"]', "a choice has no 'form'. Did you mean from?"),
            ("choice", "newest = 5", "belongs to a single call"),
            ("when", 'ever = "1h"', "'ever' is no time to run. Did you mean every?"),
            ("when", 'every = "soon"', "'soon' is not a span of time"),
            ("options", 'password = "s3cret"', "an order keeps no secret"),
        ):
            with self.subTest(line):
                text = re.sub(r"(?ms)^\[options\].*", "", whole) + f"[{table_name}]\n{line}\n"
                self.file("bad").write_text(text)
                done = self.run_program("order", "list", code=1)
                number = text.splitlines().index(line) + 1
                wanted = number if "soon" not in line else number - 1
                self.assertIn(f"bad.toml, line {wanted}: ", done.stderr)
                self.assertIn(reason, done.stderr)
        done = self.run_program("order", "run", "--due", code=1)
        self.assertIn("bad.toml", done.stderr)

    def test_calls_that_can_not_be_meant(self) -> None:
        self.add()
        for words, said in (
            (("dues", "--", "export", "in", "--into", "x"), "there is an order dues already"),
            (("a/b", "--", "export", "in", "--into", "x"), "can't be the name of an order"),
            (("x", "--", "list", "in"), "is not a command that an order can keep"),
            (("x", "--", "export", "in"), "--into DIR is missing"),
            (("x", "--", "export", "in", "--into", "x", "--papre", "a4"), "no such option '--papre'"),
            (("x", "--", "export", "in", "--into", "x", "--newest", "5"), "belongs to a single call"),
            (("x", "--", "export", "in", "--into", "x", "--dry-run"), "belongs to a single call"),
            (("x", "--", "export", "in", "--into", "x", "--password"), "an order keeps no secret"),
            (("x", "--", "export", "in", "--into", "x", "--afterwards", "move:Done"), "Add --yes"),
            (("x", "--every", "soon", "--", "export", "in", "--into", "x"), "is not a span of time"),
            (("x", "--notify", "me", "--", "export", "in", "--into", "x"), "is nobody to tell"),
        ):
            with self.subTest(words):
                done = self.run_program("order", "add", *words, code=2)
                self.assertIn(said, done.stderr)
        self.assertFalse(self.file("x").exists())
        self.assertIn("Did you mean dues?", self.run_program("order", "show", "due", code=2).stderr)
        self.assertIn("name the orders to run", self.run_program("order", "run", code=2).stderr)

    def test_an_order_is_changed_and_remembers(self) -> None:
        self.add()
        self.assertEqual(self.run_order(), (2, 0, 0))
        self.assertIn("order change dues", self.run_program(*self.WORDS, "--", *self.CALL, code=2).stderr)

        def change(*words: str, code: int = 0) -> str:
            done = self.run_program("order", "change", "dues", *words, code=code)
            return " ".join((done.stdout + done.stderr).split())

        self.assertIn("every 1h", change("--every", "1h"))
        self.assertEqual(self.listed()["total"], 2)
        text = change("--", "export", "in", "--as", "text", "--into", "out", "--subject", "dues")
        self.assertIn("Delivered before: 2.", text)
        self.assertIn("every 1h", text)
        self.write("in/a/3.eml", letter("Dues 3"))
        self.assertEqual(self.run_order(), (1, 2, 0))
        self.assertEqual([Path(name).suffix for name in self.made("out", ".txt")], [".txt"])
        self.assertEqual(self.run_order("--again")[0], 3)
        for words, said in (
            ((), "nothing was said"),
            (("--every", "soon"), "is not a span of time"),
            (("--", "backup", "in", "--into", "out"), "Another command is another order"),
            (("--", "export", "in", "--into", "x", "--afterwards", "move:Done"), "Add --yes"),
        ):
            before = self.file().read_bytes()
            self.assertIn(said, change(*words, code=2))
            self.assertEqual(self.file().read_bytes(), before)
        self.assertIn("there is no order", self.run_program("order", "change", "x", "--at", "02:30", code=2).stderr)

    def test_two_who_change_an_order_at_once(self) -> None:
        """One its time, the other lets it rest: the second changes what the first has made of it."""
        self.add()
        seen: list[Order] = []
        gate = threading.Barrier(2)

        def work(change: dict[str, object]) -> None:
            def alter(order: Order) -> Order:
                seen.append(order)
                with contextlib.suppress(threading.BrokenBarrierError):
                    gate.wait(1)  # the other comes here meanwhile, where nothing keeps it out
                return replace(order, **change)  # type: ignore[arg-type]

            with contextlib.closing(Orders(open_source, lambda: datetime.now().astimezone())) as orders:
                orders.change("dues", alter)

        with mock.patch.dict(os.environ, {"WEXAGRAPH_ORDERS": str(self.file().parent)}):
            with (
                contextlib.closing(Orders(open_source, lambda: datetime.now().astimezone())) as orders,
                orders._held("dues"),
            ):  # as while it runs
                self.run_program("order", "change", "dues", "--every", "2h")
            self.assertEqual(self.listed()["when"], "every 2h")
            with ThreadPoolExecutor(2) as clerks:
                list(clerks.map(work, ({"when": When(every="30m")}, {"paused": True})))
        values = tomllib.loads(self.file().read_text("utf-8"))
        self.assertEqual((values["when"], values["paused"]), ({"every": "30m"}, True))
        self.assertNotEqual(seen[0], seen[1])

    def test_what_changes_the_mailbox_is_said_in_every_view(self) -> None:
        call = ("--", "export", "imaps://ines@mail.example/", "--into", "x", "--afterwards", "move:Done", "--yes")
        self.assertIn("It changes the mailbox: it moves", self.run_program("order", "add", "x", *call).stdout)
        for view in (("list",), ("show", "x")):
            self.assertIn("It changes the mailbox", " ".join(self.run_program("order", *view).stdout.split()))
        self.assertIn("It changes the mailbox", self.run_program("order", "list", "--csv").stdout)

    def test_what_goes_wrong_with_one_stops_no_other(self) -> None:
        self.add(when=("--every", "1h"), name="b")
        self.write("gone/1.eml", letter("Gone"))
        self.add("export", "gone", "--into", "x", when=("--every", "1h"), name="a")
        shutil.rmtree(self.folder / "gone")
        self.write("file", b"a file where a folder is needed")
        self.add("export", "in", "--into", "file", when=("--every", "1h"), name="c")
        self.add(when=("--every", "1h"), name="d")
        self.run_program("order", "pause", "d")
        done = self.run_program("order", "run", "--due", code=3)
        self.assertIn("a: not done:", done.stdout)
        self.assertIn("gone", done.stdout)
        self.assertIn("b: 2 new", done.stdout)
        self.assertIn("c: not done:", done.stdout)
        self.assertNotIn("d:", done.stdout)
        self.assertEqual(self.run_program("order", "run", "--due", "--quiet").stdout, "", "not due yet")
        self.assertIn("gone", str(self.listed("a")["trouble"]))

    def test_a_full_disk_stops_no_other(self) -> None:
        self.add(name="full")
        self.add("export", "in", "--as", "eml", "--into", "other", name="other")
        hook = self.write(
            "hook/sitecustomize.py",
            "import errno\nimport wexagraph.output.folder as folder\nold = folder.OutputFolder.replace\n"
            "def replace(self, waiting, path, *more):\n"
            "    if self.path.name == 'out': raise OSError(errno.ENOSPC, 'no space left on device')\n"
            "    return old(self, waiting, path, *more)\n"
            "folder.OutputFolder.replace = replace\n",
        )
        done = self.run_program("order", "run", "full", "other", code=3, env={"PYTHONPATH": str(hook.parent)})
        self.assertIn("full: not done: no space is left", done.stdout)
        self.assertIn("other: 2 new", done.stdout)
        self.assertEqual(sum(self.run_order(name="full")), 2)
        self.assertEqual(len(self.made("out", ".eml")), 2)

    def test_completion_of_names(self) -> None:
        self.add()
        env = {"_WEXAGRAPH_COMPLETE": "bash_complete", "COMP_WORDS": "wexagraph order show d", "COMP_CWORD": "3"}
        self.assertIn("dues", self.run_program(env=env).stdout)

    def test_log_rename_remove(self) -> None:
        self.add()
        self.run_order()
        self.run_program("order", "rename", "dues", "receipts")
        self.assertEqual(self.run_order(name="receipts"), (0, 2, 0), "what was delivered stays delivered")
        runs = json.loads(self.run_program("order", "log", "receipts", "--json").stdout)["runs"]
        self.assertEqual([(run["written"], run["state"]) for run in runs], [(2, "done"), (0, "done")])
        table = self.run_program("order", "log", "--csv").stdout.splitlines()
        self.assertEqual((len(table), table[0].split(",")[:4]), (3, ["order", "started", "ended", "state"]))
        self.assertIn("No run yet", self.run_program("order", "log", "--since", "2099-01-01").stdout)
        self.run_program("order", "remove", "receipts", "--yes")
        self.assertFalse(self.file("receipts").exists())
        self.assertEqual(len(self.made("out", ".eml")), 2)
        self.assertIn("There is no order yet", self.run_program("order", "list").stdout)

    def test_dry_run_and_quiet(self) -> None:
        self.add()
        done = self.run_program("order", "run", "dues", "--dry-run")
        self.assertIn("2 would be new, 0 delivered before. Nothing was written.", done.stdout)
        self.assertFalse((self.folder / "out").exists())
        self.assertEqual(self.run_order(), (2, 0, 0))
        self.assertIn(
            "0 would be new, 2 delivered before", self.run_program("order", "run", "dues", "--dry-run").stdout
        )
        done = self.run_program("order", "run", "dues", "--quiet")
        self.assertEqual((done.stdout, done.stderr), ("", ""))

    def test_notices(self) -> None:
        script = "import sys; open('told.json', 'ab').write(sys.stdin.buffer.read() + b'\\n')"
        self.write("tell.py", script.encode())
        gone = self.write("gone", b"#!/bin/sh\n")
        gone.chmod(0o755)
        call = ("export", "in", "--as", "eml", "--into", "out")
        self.run_program(
            *("order", "add", "dues", "--notify", f"command:{sys.executable} tell.py,new"),
            *("--notify", "command:./gone,always", "--", *call),
        )
        gone.unlink()
        for wish, words in (("command:no-such-program", "there is no program"), ("command:'", "can't be read")):
            refused = self.run_program("order", "add", "other", "--notify", wish, "--", *call, code=2)
            self.assertIn(words, refused.stderr)
        forgotten = self.run_program("order", "add", "other", "--every", "1h", *call, code=2)
        self.assertIn("put -- in front of the command", forgotten.stderr)
        done = self.run_program("order", "run", "dues")
        self.assertIn("2 new", done.stdout)
        self.assertIn("could not be given", done.stderr, "and nothing is lost by it")
        self.run_program("order", "run", "dues")
        program = f"command:{sys.executable} tell.py"
        self.run_program("export", "in", "--as", "eml", "--into", "by-hand", "--notify", program)
        self.run_program("backup", "in", "--into", "stick", "--notify", f"{program},failed")
        notices = [json.loads(line) for line in (self.folder / "told.json").read_text().splitlines()]
        self.assertEqual(
            [(one["order"], one["written"], one["report"]["written"]) for one in notices],
            [("dues", 2, 2), ("export", 2, 2)],
        )
        self.run_program("export", "in", "--into", "x", "--notify", "me", code=2)
        self.write("bin/notify-send", b"#!/bin/sh\nprintf '%s|' \"$@\" > shown\n").chmod(0o755)
        path = {"PATH": f"{self.folder / 'bin'}:{os.environ['PATH']}"}
        self.run_program("export", "in", "--as", "eml", "--into", "y", "--notify", "desktop", env=path)
        shown = (self.folder / "shown").read_text()
        self.assertTrue(shown.endswith("--|Wexagraph: export|2 new, 0 failed|"), shown)


if __name__ == "__main__":
    unittest.main()
