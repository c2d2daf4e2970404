"""Work on a Dask cluster: real workers, processes of this machine that share no folder with the program."""

from __future__ import annotations

import json
import os
import signal
import threading
import time
import unittest
from typing import ClassVar

from distributed import Client, LocalCluster

import wexagraph
from tests.helpers import ProgramTest, check_with_others, letter, letter_with, mbox
from tests.running import three_hundred
from wexagraph.errors import CallError, TargetError
from wexagraph.work.cluster import ClusterWorkers


def _other_version() -> None:
    wexagraph.__version__ = "0.0.9"


def _this_version(version: str) -> None:
    wexagraph.__version__ = version


class Cluster(ProgramTest):
    cluster: ClassVar[LocalCluster]

    @classmethod
    def setUpClass(cls) -> None:
        cls.cluster = LocalCluster(n_workers=2, threads_per_worker=1, processes=True, dashboard_address=None)
        cls.addClassCleanup(cls.cluster.close)

    @property
    def address(self) -> str:
        return str(self.cluster.scheduler_address)

    def contents(self, folder: str) -> dict[str, bytes]:
        return {path: (self.folder / folder / path).read_bytes() for path in self.made(folder)}

    def test_the_same_files_as_here(self) -> None:
        self.write("in.mbox", mbox(*three_hundred()[:40]))
        options = ("--as", "pdf,html,text,eml", "--attachments", "embed,pages")
        for into, more in (("here", ()), ("there", ("--cluster", self.address))):
            done = self.run_program("export", "in.mbox", "--into", into, *options, *more)
            self.assertIn("40 messages chosen: 40 written", done.stdout)
        self.assertEqual(self.contents("here"), self.contents("there"))
        again = self.run_program("export", "in.mbox", "--into", "there", *options, "--cluster", self.address)
        self.assertIn("0 written, 40 already there", again.stdout)

    def test_a_bound_document_is_bound_there(self) -> None:
        self.write("in.mbox", mbox(*(letter(f"Berth {n}") for n in range(12))))
        for into, more in (("here", ()), ("there", ("--cluster", self.address))):
            self.run_program("export", "in.mbox", "--into", into, "--bind", "all", *more)
        self.assertEqual(self.contents("here"), self.contents("there"))
        check_with_others(self, next((self.folder / "there").rglob("*.pdf")))

    def test_pdfs_of_attachments_are_made_there(self) -> None:
        letters = [letter_with((f"berth {n}.txt", "text/plain", b"Berth %d\n" % n)) for n in range(4)]
        self.write("in.mbox", mbox(*letters))
        for bind in ((), ("--bind", "type")):
            made = {}
            for more in ((), ("--cluster", self.address)):
                into = f"{bool(bind)}-{bool(more)}"
                done = self.run_program("attachments", "in.mbox", "--into", into, "--as", "native,pdf", *bind, *more)
                self.assertIn(f"PDFs: {1 if bind else 4} written", done.stdout)
                made[more] = (
                    self.contents(into),
                    {os.stat(self.folder / into / p).st_mtime for p in self.made(into, ".txt")},
                )
            self.assertEqual(*made.values())
        again = self.run_program("attachments", "in.mbox", "--into", into, "--as", "native,pdf", *bind, *more)
        self.assertIn("0 written, 4 already there", again.stdout)
        self.assertIn("needs --as pdf", self.run_program("attachments", "in.mbox", *more, "--into", "x", code=2).stderr)

    def test_a_backup_is_packed_there(self) -> None:
        self.write("in.mbox", mbox(*three_hundred()))
        self.run_program("backup", "in.mbox", "--into", "bk", "--cluster", self.address)
        report = json.loads(self.run_program("verify", "bk", "--deep", "--json").stdout)
        self.assertEqual((report["whole"], report["messages"]), (True, len({*three_hundred()})))

    def test_a_worker_that_is_lost_costs_no_message(self) -> None:
        self.write("in.mbox", mbox(*three_hundred()))
        with Client(self.address, set_as_default=False) as client:
            victim = client.run(os.getpid)
            worker, process = next(iter(victim.items()))

            def kill() -> None:
                end = time.monotonic() + 60
                while time.monotonic() < end and not client.processing().get(worker):
                    time.sleep(0.01)  # until it has something in hand
                os.kill(process, signal.SIGKILL)

            killer = threading.Thread(target=kill)
            killer.start()
            done = self.run_program("export", "in.mbox", "--into", "out", "--cluster", self.address)
            killer.join()
        self.assertIn("300 messages chosen: 300 written", done.stdout)
        self.assertEqual(len(self.made("out", ".pdf")), 300)

    def test_another_version_is_refused(self) -> None:
        with Client(self.address, set_as_default=False) as client:
            client.run(_other_version)
            try:
                with self.assertRaisesRegex(CallError, "has Wexagraph 0.0.9.*Install the same version"):
                    ClusterWorkers(self.address, 30)
            finally:
                client.run(_this_version, wexagraph.__version__)

    def test_no_scheduler(self) -> None:
        self.write("in.mbox", mbox(letter()))
        for address, code, reason in (
            ("nowhere", 2, "'nowhere' is none"),
            ("tcp://127.0.0.1:9", 3, "no scheduler answers at tcp://127.0.0.1:9"),
        ):
            done = self.run_program("export", "in.mbox", "--into", "out", "--cluster", address, code=code)
            self.assertIn(reason, done.stderr)
        with (
            self.assertRaisesRegex(TargetError, "no workers"),
            LocalCluster(n_workers=0, processes=True, dashboard_address=None) as empty,
        ):
            ClusterWorkers(str(empty.scheduler_address), 30)


if __name__ == "__main__":
    unittest.main()
