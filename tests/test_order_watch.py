"""`order watch` and `order timetable`: mail that arrives comes once, whatever happens to lines, files and processes."""

from __future__ import annotations

import json
import os
import plistlib
import random
import shutil
import signal
import subprocess
import sys
import threading
import time
import unittest
from collections import Counter
from collections.abc import Callable
from dataclasses import replace
from datetime import UTC, datetime
from hashlib import sha256
from pathlib import Path
from unittest import mock
from xml.etree import ElementTree

from tests.dovecot import INSTALLED, PASSWORD, USER, Dovecot
from tests.helpers import PROGRAM, ProgramTest, letter, mbox, rounds
from tests.peers import Proxy
from wexagraph.app.orders.timetables import KINDS, timetable_of
from wexagraph.app.orders.watching import Watch
from wexagraph.records.calls import Call
from wexagraph.records.order import Order, When
from wexagraph.records.order_log import DONE, FAILED, UNDONE, Run
from wexagraph.reports import Report
from wexagraph.sources import open_source
from wexagraph.sources.accounts import Secret, parse_url
from wexagraph.sources.imap import ImapSource
from wexagraph.sources.imap.idling import Waiter

NOW = datetime(2026, 3, 20, 9, 0, tzinfo=UTC)


class Retries(unittest.TestCase):
    """What could not be done is tried again, later each time, and nothing spins meanwhile."""

    def test_when_it_is_tried_again(self) -> None:
        order = Order("mail", Call("export", "@office", "out"), When(on_arrival=True))
        orders = mock.Mock()
        watch = Watch(orders, mock.Mock(), lambda event: None, threading.Event())
        watch._known = [order]

        def run(state: str, arrived: set[str]) -> None:
            orders.run.side_effect = lambda due, stopped: [
                (each, Run(1, each.name, NOW, NOW, state), Report()) for each in due
            ]
            watch._run(arrived)

        run(UNDONE, {"@office"})
        first = watch._retries["mail"] - time.monotonic()
        watch._retries["mail"] = time.monotonic() - 1
        run(UNDONE, set())
        self.assertGreater(watch._retries["mail"] - time.monotonic(), first, "later each time")
        watch._retries["mail"] = time.monotonic() - 1
        run(FAILED, set())
        self.assertEqual(watch._retries, {}, "it was done; what failed waits for the next mail")
        run(UNDONE, {"@office"})
        watch._retries["mail"] = time.monotonic() - 1
        watch._known = [replace(order, paused=True)]
        run(DONE, set())
        self.assertEqual(watch._retries, {}, "a paused order is waited for no more")


class WatchTest(ProgramTest):
    def setUp(self) -> None:
        super().setUp()
        self.watching: list[subprocess.Popen[str]] = []
        self.addCleanup(self.end_all)

    def end_all(self) -> None:
        for process in self.watching:
            if process.poll() is None:
                process.kill()
                process.communicate()

    def start(self) -> subprocess.Popen[str]:
        """A watch that is up: it has said that it watches, or has looked once."""
        environment = {
            **os.environ,
            "XDG_CONFIG_HOME": str(self.folder / "no-config"),
            "XDG_STATE_HOME": str(self.folder / "no-state"),
            "WEXAGRAPH_PASSWORD": PASSWORD,
            "WEXAGRAPH_TRACE": "1",
        }
        process = subprocess.Popen(
            [PROGRAM, "order", "watch", "--json"],
            cwd=self.folder,
            env=environment,
            stdout=subprocess.PIPE,
            stderr=subprocess.PIPE,
            text=True,
        )
        self.watching.append(process)
        assert process.stdout is not None
        json.loads(process.stdout.readline())
        threading.Thread(target=process.stdout.read, daemon=True).start()
        return process

    def stop(self, process: subprocess.Popen[str]) -> None:
        process.send_signal(signal.SIGTERM)
        self.assertEqual(process.wait(30), 0)
        assert process.stderr is not None
        self.assertNotIn("Traceback", process.stderr.read())

    def until(self, reached: Callable[[], bool], what: str) -> None:
        end = time.monotonic() + 90
        while not reached():
            self.assertLess(time.monotonic(), end, what)
            time.sleep(0.05)

    def files(self) -> list[Path]:
        """The letters that have come; what is staged does not count."""
        return [
            Path(folder) / name
            for folder, _, names in os.walk(self.folder / "out")
            for name in names
            if name.endswith(".eml") and ".wexagraph" not in folder
        ]

    def order(self, source: str, *more: str) -> None:
        self.run_program(
            *("order", "add", "mail", "--on-arrival", "--", "export", source, "--as", "eml", "--into", "out", *more)
        )


class Runners(WatchTest):
    def test_an_order_that_nothing_runs_says_so(self) -> None:
        self.write("in/1.eml", letter())
        self.write("bin/crontab", b"#!/bin/sh\nexit 1\n").chmod(0o755)
        environment = {"PATH": f"{self.folder / 'bin'}:{os.environ['PATH']}"}

        def said(*words: str) -> str:
            return " ".join(self.run_program("order", *words, env=environment).stdout.split())

        call = ("--", "export", "in", "--as", "eml", "--into", "out")
        for name, when, how in (("mail", ["--on-arrival"], "order watch"), ("hourly", ["--every", "1h"], "timetable")):
            for text in (said("add", name, *when, *call), said("show", name)):
                self.assertIn(f"Run by hand only, as things are: {name}.", text)
                self.assertIn(how, text)
        self.assertNotIn("as things are", said("add", "by-hand", *call))
        self.assertIn("nothing runs it", said("list"))
        self.assertIsNone(json.loads(said("show", "hourly", "--json"))["next_run"])
        process = self.start()
        self.assertNotIn("as things are", said("list"))
        self.assertEqual(json.loads(said("show", "mail", "--json"))["run_by"], "watch")
        self.stop(process)
        self.assertIn("as things are: hourly, mail.", said("list"))


class Files(WatchTest):
    def test_a_maildir(self) -> None:
        for name in ("cur", "new", "tmp"):
            (self.folder / "mail" / name).mkdir(parents=True)
        self.order("mail")
        process = self.start()
        for n in range(20):
            self.write(f"mail/tmp/{n}.x", letter(f"Letter {n}"))
            (self.folder / f"mail/tmp/{n}.x").rename(self.folder / f"mail/new/{n}.x")
        self.until(lambda: len(self.files()) == 20, "twenty letters")
        (self.folder / "mail/new/3.x").rename(self.folder / "mail/cur/3.x:2,S")
        self.write("mail/tmp/half.x", letter("Half")[:90])
        self.write("mail/new/21.x", letter("Letter 21"))
        self.until(lambda: len(self.files()) == 21, "one more, and none of the others again")
        self.stop(process)
        self.assertEqual(len(self.files()), 21)

    def test_an_mbox_that_grows_is_not_read_half(self) -> None:
        path = self.write("in.mbox", mbox(letter("First")))
        self.order("in.mbox")
        process = self.start()
        self.until(lambda: len(self.files()) == 1, "the first letter")
        more = mbox(letter("Second", body="line\n" * 400))
        lock = self.write("in.mbox.lock", b"")
        with path.open("ab") as file:
            for at in range(0, len(more), 300):
                file.write(more[at : at + 300])
                file.flush()
        time.sleep(1.6)  # longer than the watch waits where nobody holds the mailbox
        self.assertEqual(len(self.files()), 1)
        lock.unlink()
        self.until(lambda: len(self.files()) == 2, "the second letter")
        self.stop(process)
        second = next(file for file in self.files() if "Second" in file.name)
        self.assertEqual(second.read_bytes().count(b"line"), 400)

    def test_orders_that_are_added_and_paused_while_it_watches(self) -> None:
        self.write("in/1.eml", letter("First"))
        self.run_program("order", "add", "hourly", "--every", "1h", "--", "export", "in", "--as", "eml", "--into", "x")
        process = self.start()
        self.until(lambda: len(self.made("x", ".eml")) == 1, "what is due")
        self.order("in")
        self.until(lambda: len(self.files()) == 1, "a new order")
        self.write("in/2.eml", letter("Second"))
        self.until(lambda: len(self.files()) == 2, "its mail")
        self.stop(process)

    def test_killed_again_and_again(self) -> None:
        for name in ("cur", "new", "tmp"):
            (self.folder / "mail" / name).mkdir(parents=True)
        self.order("mail")
        chance = random.Random(18)
        for round_ in range(3):
            process = self.start()
            for n in range(12):
                self.write(f"mail/new/{round_}-{n}.x", letter(f"Letter {round_} {n}"))
            least = len(self.files()) + chance.randint(0, 11)
            self.until(lambda least=least: len(self.files()) >= least, "some letters")
            process.kill()
            process.wait()
        process = self.start()
        self.until(lambda: len(self.files()) == 36, "all letters")
        self.stop(process)
        digests = Counter(sha256(path.read_bytes()).hexdigest() for path in self.files())
        self.assertEqual((len(digests), max(digests.values())), (36, 1))


@unittest.skipUnless(INSTALLED, "Dovecot can't be installed or run here")
class Account(WatchTest):
    def setUp(self) -> None:
        super().setUp()
        self.server = Dovecot()
        self.addCleanup(self.server.close)
        self.write("no-config/wexagraph/.keep", b"")

    def account(self, port: int) -> None:
        self.write(
            "no-config/wexagraph/wexagraph.toml",
            f'[accounts.office]\nurl = "imaps://{USER}@localhost:{port}/"\nauthority = "{self.server.authority}"\n',
        )

    def test_many_messages_while_the_line_is_cut(self) -> None:
        proxy = Proxy(self.server.imaps)
        self.addCleanup(proxy.close)
        self.account(proxy.port)
        self.server.fill("Berths", [])
        self.order("@office")
        process = self.start()
        bursts, wanted = rounds(20, 10), 0
        for burst in range(bursts):
            count = 1 if burst % 2 else 29
            wanted += count
            self.server.fill("Berths" if burst % 3 else "INBOX", [letter(f"Letter {burst} {n}") for n in range(count)])
            if burst % 2:  # as mail arrives; else while it is being fetched
                self.until(lambda: bool(proxy.lines), "a line")
            else:
                least = len(self.files()) + 1
                self.until(lambda least=least: len(self.files()) >= least, "some letters")
            proxy.cut()
        self.until(lambda: len(self.files()) == wanted, "all letters")
        self.stop(process)
        self.assertEqual(proxy.cuts, bursts)
        digests = Counter(sha256(path.read_bytes()).hexdigest() for path in self.files())
        self.assertEqual((len(digests), max(digests.values())), (wanted, 1))

    def test_an_order_that_is_added_for_the_same_account(self) -> None:
        self.account(self.server.imaps)
        self.server.fill("Berths", [letter("Old")])
        self.run_program(
            *("order", "add", "first", "--on-arrival", "--", "export", "@office"),
            *("--folder", "INBOX", "--as", "eml", "--into", "first"),
        )
        process = self.start()
        self.order("@office", "--folder", "Berths")
        self.until(lambda: len(self.files()) == 1, "what lies there")
        self.server.fill("Berths", [letter("New")])
        self.until(lambda: len(self.files()) == 2, "what arrives in a folder that only the second one takes from")
        self.stop(process)

    def test_servers_that_offer_less(self) -> None:
        account = replace(
            parse_url(f"imaps://{USER}@localhost:{self.server.imaps}/"), authority=str(self.server.authority)
        )
        self.server.fill("Berths", [letter("Old")])
        for lacking in (set(), {"NOTIFY"}, {"NOTIFY", "IDLE"}):
            for folder in ("INBOX", "Berths"):
                with (
                    self.subTest(lacking, folder=folder),
                    open_source(account, lambda account, again: Secret(PASSWORD)) as source,
                    mock.patch("wexagraph.sources.imap.idling.ASK", 0.2),
                ):
                    assert isinstance(source, ImapSource)
                    source.folder_stamp(folder)  # by now the line stands
                    source.line.capabilities -= lacking
                    waiter = Waiter(source, ["INBOX", "Berths"], threading.Event())
                    waiter.begin()
                    self.server.fill(folder, [letter(f"Without {lacking}")])
                    self.assertTrue(any(waiter.wait() for _ in range(20)), "what came before the first wait")
                    if lacking:  # else it would wait for half an hour
                        self.assertFalse(waiter.wait(), "nothing has come")

    def test_one_login_for_all_orders_and_little_to_ask(self) -> None:
        self.account(self.server.imaps)
        self.server.fill("INBOX", [letter(f"Letter {n}") for n in range(30)])
        names = [f"order-{n}" for n in range(12)]
        for name in names:
            self.run_program(
                *("order", "add", name, "--", "export", "@office", "--folder", "INBOX", "--as", "eml", "--into", name)
            )
        secret = {"WEXAGRAPH_PASSWORD": PASSWORD}
        for _ in range(2):  # the second look knows how many there are
            self.run_program("order", "run", *names, env=secret)
        self.server.forget_commands()
        done = self.run_program("order", "run", *names, "--json", env=secret)
        runs = json.loads(done.stdout)["runs"]
        self.assertEqual({(run["written"], run["already_there"]) for run in runs}, {(0, 30)})
        self.assertEqual(len(self.server.sessions()), 1)
        asked = [line.split(" ")[1].upper() for line in self.server.commands() if len(line.split(" ")) > 1]
        self.assertLessEqual(asked.count("STATUS"), 3)
        self.assertNotIn("UID", asked)
        self.server.fill("INBOX", [letter("New")])
        self.server.forget_commands()
        (run,) = json.loads(self.run_program("order", "run", names[0], "--json", env=secret).stdout)["runs"]
        self.assertEqual((run["written"], run["already_there"]), (1, 30))

    def test_a_password_that_was_changed_stops_no_other(self) -> None:
        self.account(self.server.imaps)
        self.order("@office")
        self.write("in/1.eml", letter("First"))
        self.run_program("order", "add", "files", "--", "export", "in", "--as", "eml", "--into", "x")
        done = self.run_program("order", "run", "mail", "files", code=3, env={"WEXAGRAPH_PASSWORD": "changed"})
        self.assertIn("mail: not done:", done.stdout)
        self.assertIn("files: 1 new", done.stdout)


class Timetables(ProgramTest):
    def test_each_text_is_what_its_system_reads(self) -> None:
        for kind in KINDS:
            output = self.run_program("order", "timetable", "--print", "--kind", kind).stdout
            self.assertIn("run", output)
            with self.subTest(kind), mock.patch.dict(os.environ, {"XDG_CONFIG_HOME": str(self.folder)}):
                made = timetable_of(kind, 5)
                for path, text in made.files:
                    self.check(kind, path, text)
        self.assertIn("say --print", self.run_program("order", "timetable", code=2).stderr)

    def check(self, kind: str, path: Path, text: str) -> None:
        if kind == "systemd":
            self.write(f"systemd/{path.name}", text.encode())
            if shutil.which("systemd-analyze"):
                done = subprocess.run(
                    ["systemd-analyze", "--user", "verify", str(self.folder / "systemd" / path.name)],
                    capture_output=True,
                    text=True,
                    env={**os.environ, "XDG_RUNTIME_DIR": str(self.folder)},
                    check=False,
                )
                self.assertNotIn(path.name, done.stderr, "nothing is said against it")
            self.assertRegex(text, r"ExecStart=/.* order run --due --quiet\n|OnCalendar=\*:0/5\n")
        elif kind == "cron":
            self.assertRegex(text, r"(?m)^\*/5 \* \* \* \* /.* order run --due --quiet$")
        elif kind == "launchd":
            values = plistlib.loads(text.encode())
            self.assertEqual((values["StartInterval"], values["ProgramArguments"][-2:]), (300, ["--due", "--quiet"]))
        else:
            task = ElementTree.fromstring(text.partition("?>")[2])
            space = "{http://schemas.microsoft.com/windows/2004/02/mit/task}"
            self.assertEqual(task.findtext(f".//{space}Interval"), "PT5M")
            self.assertEqual(task.findtext(f".//{space}Arguments"), "order run --due --quiet")

    def test_cron_keeps_the_lines_of_others(self) -> None:
        table = self.write("table", b"MAILTO=ines@saltmere.example\n0 4 * * * tides\n")
        script = f"#!{sys.executable}\nimport sys\npath = {str(table)!r}\n"
        script += (
            "print(open(path).read(), end='') if sys.argv[1] == '-l' else open(path, 'w').write(sys.stdin.read())\n"
        )
        self.write("bin/crontab", script.encode()).chmod(0o755)
        env = {"PATH": f"{self.folder / 'bin'}:{os.environ['PATH']}"}
        before = table.read_text()
        for _ in range(2):
            self.run_program("order", "timetable", "--install", "--kind", "cron", env=env)
        added = ("order", "add", "tides", "--every", "1h", "--", "export", "in", "--into", "out")
        self.assertNotIn("as things are", self.run_program(*added, env=env).stdout)
        self.assertEqual(
            json.loads(self.run_program("order", "show", "tides", "--json", env=env).stdout)["run_by"], "cron"
        )
        self.assertEqual(table.read_text().count("order run --due"), 1)
        self.assertTrue(table.read_text().startswith(before))
        self.run_program("order", "timetable", "--remove", "--kind", "cron", env=env)
        self.assertEqual(table.read_text(), before)
        self.run_program("order", "timetable", "--install", "--kind", "cron", env=env)
        theirs = "5 5 * * * backup\n6 6 * * * tides\n"
        table.write_text(
            "".join(line for line in table.read_text().splitlines(True) if "end" not in line.lower()) + theirs
        )
        self.run_program("order", "timetable", "--remove", "--kind", "cron", env=env)
        self.assertEqual(table.read_text(), before + theirs, "what stands below our block stays where its end is gone")


if __name__ == "__main__":
    unittest.main()
