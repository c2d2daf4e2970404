"""Stopped, failing or repeated, the same command goes on where it was; and every message is accounted for."""

from __future__ import annotations

import io
import json
import os
import re
import shutil
import signal
import subprocess
import sys
import time
from collections.abc import Iterator
from pathlib import Path
from unittest import mock

from tests.helpers import letter, mbox, named_rows
from tests.running import ALL, RunTest, three_hundred
from wexagraph.app.registers import listings
from wexagraph.demo.build import html, message, when


class Stopping(RunTest):
    """Ctrl-C at any instant: no traceback, and what is said of the next run is so."""

    def test_while_the_program_is_loaded(self) -> None:
        """Ctrl-C as it imports a module, from the first of ours on; what Python does before is its own."""
        self.write("in.mbox", mbox(letter()))
        program = """if True:
            import builtins, os, signal, sys
            real, stop = builtins.__import__, sys.argv[1]
            def load(name, *rest):
                if name == stop:
                    os.kill(os.getpid(), signal.SIGINT)
                return real(name, *rest)
            builtins.__import__ = load
            from wexagraph.cli.start import run
            sys.argv = ["wexagraph", "list", "in.mbox"]
            run()
        """
        for name in ("wexagraph.cli.main", "click", "wexagraph.cli.help", "wexagraph.app.configuration", "csv"):
            done = subprocess.run(
                [sys.executable, "-c", program, name],
                cwd=self.folder,
                capture_output=True,
                text=True,
                check=False,
            )
            self.assertIn(done.returncode, (-signal.SIGINT, 130), (name, done.stderr))
            self.assertNotIn("Traceback", done.stderr, name)

    def test_what_begins_anew(self) -> None:
        self.write("in.mbox", mbox(letter()))
        for command in (["list", "in.mbox", "--json"], ["survey", "in.mbox"], ["addresses", "in.mbox"]):
            with mock.patch("wexagraph.selection.choice.Choice.select", side_effect=KeyboardInterrupt):
                said = self.call_program(*command, code=130).stderr
            self.assertEqual(said.strip(), "wexagraph: interrupted. The same command begins anew.", command)

    def test_a_register_that_is_not_complete(self) -> None:
        self.write("in.mbox", mbox(*(letter(f"Berth {n}") for n in range(40))))

        def stopping(*arguments: object) -> Iterator[object]:
            for number, each in enumerate(listings(*arguments)):
                if number == 5:
                    os.kill(os.getpid(), signal.SIGINT)
                yield each

        with mock.patch("wexagraph.app.registers.listings", stopping):
            said = self.call_program("register", "in.mbox", "--into", "r.csv", code=130).stdout
        self.assertIn("5 rows", said)
        self.assertIn("not in it yet", said)
        self.run_program("register", "in.mbox", "--into", "r.csv")
        rows = named_rows(io.StringIO((self.folder / "r.csv").read_text("utf-8-sig")))
        self.assertEqual(len(rows), 40)
        self.assertEqual({row["state"] for row in rows}, {"here"}, "none is taken for one that is chosen no longer")


class Interrupted(RunTest):
    def setUp(self) -> None:
        super().setUp()
        # pages that take a while, so that the run is still at work when it is interrupted
        page = "<table border=1>" + "<tr><td>a<td>b<td>c</tr>" * 40 + "</table>"
        letters = [
            message("a@b.example", "c@d.example", f"m{n:03}", when("2026-03-14"), html(page)) for n in range(100)
        ]
        self.write("box", mbox(*letters))
        self.command = ("export", "box", "--into", "out", "--as", "pdf,eml", "--jobs", "1")

    def test_once(self) -> None:
        process = self.start(*self.command)
        self.wait_for_files(process, self.folder / "out", 20)
        process.send_signal(signal.SIGINT)
        output, errors = process.communicate(timeout=60)
        self.assertEqual(process.returncode, 130, output + errors)
        self.assertIn("finishing the messages in hand", errors)
        self.assertIn("Stopped. The same command goes on where it was.", output)
        sums = re.search(r"(\d+) of 100 messages done: (\d+) written, (\d+) already there, (\d+) failed", output)
        assert sums is not None
        self.assertEqual(int(sums[1]), int(sums[2]))
        self.assertEqual(len(list((self.folder / "out").rglob("*.pdf"))), int(sums[2]))
        self.assertLess(int(sums[2]), 100)
        self.assert_clean(self.folder / "out")
        done = self.run_program(*self.command)
        self.assertIn(
            f"100 messages chosen: {100 - int(sums[2])} written, {sums[2]} already there, 0 failed", done.stdout
        )

    def test_twice(self) -> None:
        process = self.start(*self.command)
        self.wait_for_files(process, self.folder / "out", 20)
        process.send_signal(signal.SIGINT)
        time.sleep(0.005)
        process.send_signal(signal.SIGINT)
        output, errors = process.communicate(timeout=60)
        self.assertEqual(process.returncode, 130, output + errors)
        self.assertNotIn("Traceback", errors)
        self.assertFalse((self.folder / "out/.wexagraph/staged").exists())
        self.assertIn("0 failed", self.run_program(*self.command).stdout)
        self.assert_clean(self.folder / "out")

    def test_progress_where_there_is_no_terminal(self) -> None:
        done = self.run_program(*self.command)
        self.assertRegex(done.stderr, r"pdf, eml: \d+ of 100 messages")
        self.assertNotIn("\x1b", done.stderr)


class Left(RunTest):
    def test_no_worker_outlives_a_killed_export(self) -> None:
        page = "<table border=1>" + "<tr><td>a<td>b<td>c</tr>" * 75 + "</table>"
        letters = [message("a@b.example", "c@d.example", f"m{n}", when("2026-03-14"), html(page)) for n in range(150)]
        self.write("box", mbox(*letters))
        process = self.start("export", "box", "--into", "out", "--jobs", "2")
        self.wait_for_files(process, self.folder / "out", 5)
        tasks = Path(f"/proc/{process.pid}/task").iterdir()
        workers = [pid for task in tasks for pid in (task / "children").read_text().split()]
        self.assertEqual(len(workers), 2)
        process.kill()
        process.communicate()
        end = time.monotonic() + 20
        while time.monotonic() < end and any(Path(f"/proc/{pid}").exists() for pid in workers):
            time.sleep(0.1)
        self.assertEqual([pid for pid in workers if Path(f"/proc/{pid}").exists()], [])


class Failing(RunTest):
    def disk(self, size: str) -> Path:
        place = self.folder / "disk"
        place.mkdir()
        done = subprocess.run(
            ["mount", "-t", "tmpfs", "-o", f"size={size}", "none", place], capture_output=True, check=False
        )
        if done.returncode:
            self.skipTest("no small disk can be made here: mount is not permitted")
        self.addCleanup(subprocess.run, ["umount", "-l", str(place)], check=False)
        return place

    def test_a_disk_that_becomes_read_only(self) -> None:
        place = self.disk("200m")
        self.write("box", mbox(*(letter(f"m{n:04}", body=f"{n}\n" * 5000) for n in range(1200))))
        command = ("export", "box", "--into", place / "out", "--as", "eml,text")
        process = self.start(*command)
        self.wait_for_files(process, place / "out", 10)
        while subprocess.run(["mount", "-o", "remount,ro", place], capture_output=True, check=False).returncode:
            if process.poll() is not None:
                break  # open files keep a disk writable; the next try may find a moment without one
        output, errors = process.communicate(timeout=120)
        subprocess.run(["mount", "-o", "remount,rw", place], check=True)
        if process.returncode != 0:
            self.assertEqual(process.returncode, 3, output + errors)
            self.assertIn("can't be written", errors)
            self.assertNotIn("Traceback", errors)
        self.assertIn("0 failed", self.run_program(*command).stdout)
        self.assertEqual(len(list((place / "out").rglob("*.eml"))), 1200)
        self.assert_clean(place / "out")

    def test_a_target_that_cannot_be_written_any_more(self) -> None:
        """A folder below the target becomes a file while the run is on: its messages fail, the others come out."""
        self.write("in/a/1.eml", letter("one"))
        self.write("in/b/2.eml", letter("two"))
        self.write("out/b", "in the way")
        done = self.run_program("export", "in", "--into", "out", "--as", "eml", code=1)
        self.assertIn("2 messages chosen: 1 written, 0 already there, 1 failed", done.stdout)
        (self.folder / "out/b").unlink()
        done = self.run_program("export", "in", "--into", "out", "--as", "eml")
        self.assertIn("1 written, 1 already there, 0 failed", done.stdout)

    def test_a_source_that_disappears(self) -> None:
        page = "<table border=1>" + "<tr><td>a<td>b<td>c</tr>" * 75 + "</table>"
        for n in range(50):
            self.write(f"in/{n:03}.eml", message("a@b.example", "c@d.example", f"m{n}", when("2026-03-14"), html(page)))
        command = ("export", "in", "--into", "out", "--as", "pdf,eml", "--jobs", "1")
        process = self.start(*command)
        self.wait_for_files(process, self.folder / "out", 10)
        os.rename(self.folder / "in", self.folder / "gone")
        output, errors = process.communicate(timeout=60)
        self.assertEqual(process.returncode, 3, output + errors)
        self.assertIn("has gone while it was read", errors)
        os.rename(self.folder / "gone", self.folder / "in")
        done = self.run_program(*command)
        self.assertIn("50 messages chosen", done.stdout)
        self.assertIn("0 failed", done.stdout)
        self.assert_clean(self.folder / "out")

    def test_an_mbox_that_is_cut_while_it_is_read(self) -> None:
        self.write("box", mbox(*(letter(f"m{n:03}", body=f"{n}\n" * 3000) for n in range(400))))
        process = self.start("export", "box", "--into", "out", "--as", "pdf,eml", "--jobs", "1")
        self.wait_for_files(process, self.folder / "out", 10)
        os.truncate(self.folder / "box", 2_000_000)
        output, errors = process.communicate(timeout=60)
        self.assertIn(process.returncode, (0, 1), errors)
        if process.returncode == 1:
            self.assertIn("was changed while it was read", output)

    def test_two_exports_into_one_folder(self) -> None:
        self.write("box", mbox(*(letter(f"m{n:04}", body=f"{n}\n" * 3000) for n in range(600))))
        first = self.start("export", "box", "--into", "out", "--as", "eml,text", "--jobs", "1")
        self.wait_for_files(first, self.folder / "out", 1)
        first.send_signal(signal.SIGSTOP)
        self.assertIsNone(first.poll(), "the first one is at it")
        done = self.run_program("export", "box", "--into", "out", "--as", "eml", code=3)
        self.assertIn("is in use by process", done.stderr, "after a while it says so")
        self.assertIn(str(first.pid), done.stderr)
        first.send_signal(signal.SIGCONT)
        self.assertEqual(first.communicate(timeout=120)[0].count("600 written"), 1)
        self.assert_clean(self.folder / "out")

    def test_a_lock_that_nobody_holds(self) -> None:
        self.write("box", mbox(letter()))
        self.write("out/.wexagraph/lock", "4194303")
        self.write("out/.wexagraph/staged/1/1", "left by a run that was killed")
        self.run_program("export", "box", "--into", "out", "--as", "eml")
        self.assert_clean(self.folder / "out")


class Sameness(RunTest):
    def test_workers_and_order_change_no_byte(self) -> None:
        letters = three_hundred()
        results = []
        for turn, jobs in enumerate(("1", "3")):
            shutil.rmtree(self.folder / "in", ignore_errors=True)
            order = list(enumerate(letters))
            for number, data in order if turn else reversed(order):  # the disk lists them in the order of making
                self.write(f"in/post/{number:03}.eml", data)
                os.utime(self.folder / f"in/post/{number:03}.eml", (1_770_000_000, 1_770_000_000))
            self.run_program("export", "in", "--into", f"out{jobs}", "--as", ALL, "--jobs", jobs)
            results.append(self.contents(self.folder / f"out{jobs}"))
        self.assertEqual(results[0].keys(), results[1].keys())
        self.assertEqual(results[0], results[1])

    def test_a_large_mailbox_by_shares(self) -> None:
        """Read by several processes, a share each, a mailbox gives the same as read by one."""
        body = "knots and bends and hitches\n" * 3000
        letters = [letter(f"m{n:04}", body=f"{n}\n{body}\nFrom the quay\n") for n in range(750)]
        self.write("box", mbox(*letters))
        self.assertGreater((self.folder / "box").stat().st_size, 55_000_000)
        rows = [
            self.run_program("list", "box", "--csv").stdout,
            self.run_program("list", "box", "--newest", 5000, "--csv").stdout,
        ]
        self.assertEqual(rows[0], rows[1])
        self.assertEqual(rows[0].count("\n"), 751)
        results = []
        for jobs in ("1", "2"):
            # the patience is for pages; reading a share may take longer
            self.run_program(
                "export",
                "box",
                "--into",
                f"out{jobs}",
                "--as",
                "eml",
                "--jobs",
                jobs,
                "--patience",
                "1",
                "--body",
                "knots",
            )
            results.append(self.contents(self.folder / f"out{jobs}"))
        self.assertEqual(results[0], results[1])
        self.assertEqual(sorted(v for k, v in results[1].items() if k.endswith(".eml")), sorted(letters))
        self.assert_clean(self.folder / "out2")


class Verify(RunTest):
    def setUp(self) -> None:
        super().setUp()
        self.write("box", mbox(letter("One"), letter("Two")))
        self.run_program("export", "box", "--into", "out", "--as", "eml,text")

    def test_whole(self) -> None:
        self.assertIn("5 of 5 listed files are whole", self.run_program("verify", "out").stdout)

    def test_what_is_wrong_is_named(self) -> None:
        out = self.folder / "out"
        (out / "box/2026-03-14 1503 Ines Halden - One.eml").unlink()
        (out / "box/2026-03-14 1503 Ines Halden - Two.txt").write_bytes(b"other words")
        (out / "box/more.txt").write_text("mine")
        os.symlink("/etc/passwd", out / "link")
        done = self.run_program("verify", "out", code=1)
        for words in (
            "Missing: box/2026-03-14 1503 Ines Halden - One.eml",
            "Altered: box/2026-03-14 1503 Ines Halden - Two.txt",
            "Foreign: box/more.txt",
            "Foreign: link",
            "3 of 5 listed files are whole",
        ):
            self.assertIn(words, done.stdout)

    def test_a_link_in_the_place_of_a_file(self) -> None:
        path = self.folder / "out/box/2026-03-14 1503 Ines Halden - One.eml"
        os.rename(path, self.folder / "elsewhere")
        os.symlink(self.folder / "elsewhere", path)
        self.assertIn("Altered", self.run_program("verify", "out", code=1).stdout)

    def test_a_pipe_in_the_place_of_a_file(self) -> None:
        path = self.folder / "out/box/2026-03-14 1503 Ines Halden - One.eml"
        path.unlink()
        os.mkfifo(path)
        self.assertIn("Altered", self.run_program("verify", "out", code=1).stdout)
        self.run_program("export", "box", "--into", "out", "--as", "eml,text")
        self.assertIn("5 of 5 listed files are whole", self.run_program("verify", "out").stdout)

    def test_a_list_that_leads_out(self) -> None:
        manifest = self.folder / "out/manifest-sha256.txt"
        manifest.write_text(manifest.read_text() + f"{'0' * 64}  ../box\nnonsense\n")
        self.assertIn("Unreadable line", self.run_program("verify", "out", code=1).stdout)

    def test_no_export_folder(self) -> None:
        self.assertIn("holds no manifest-sha256.txt", self.run_program("verify", self.folder, code=3).stderr)
        self.assertIn("nowhere does not exist", self.run_program("verify", "nowhere", code=3).stderr)

    def test_a_changed_list_shows_in_json(self) -> None:
        (self.folder / "out/register.csv").write_text("other")
        report = json.loads(self.run_program("verify", "out", "--json", code=1).stdout)
        self.assertEqual([(one["state"], one["path"]) for one in report["findings"]], [("altered", "register.csv")])
