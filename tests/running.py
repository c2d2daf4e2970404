"""Tests that start the program and do something to it while it runs."""

from __future__ import annotations

import os
import subprocess
import time
from pathlib import Path

from tests.helpers import PROGRAM, ProgramTest, letter
from wexagraph.demo.build import file, html, message, multipart, when

NEVER = 1 << 60
"""A step that no run comes to: it is only counted."""
ALL = "pdf,eml,html,text,mbox,zip"


def three_hundred() -> list[bytes]:
    """Small letters of several kinds; many share a name, some differ from it in case only."""
    letters = []
    for number in range(300):
        subject = ("Invoice", "INVOICE", f"Berth {number % 40}", "Tide: notice?")[number % 4]
        body = f"Letter {number}.\n" + "From the quay.\n" * (number % 7)
        if number % 10 == 3:
            moment = when("2026-03-14", 15, 3)
            parts = multipart(
                "mixed", html(f"<p>Rich letter {number}</p>"), file("plan.pdf", "application/pdf", b"%d" % number)
            )
            letters.append(message("Ines <i@q.example>", "r@s.example", subject, moment, parts))
        else:
            letters.append(letter(subject, body=body))
    return letters


class RunTest(ProgramTest):
    """A test that starts the program and does something to it while it runs."""

    def start(self, *arguments: object) -> subprocess.Popen[str]:
        return subprocess.Popen(
            [PROGRAM, *map(str, arguments)],
            cwd=self.folder,
            text=True,
            stdout=subprocess.PIPE,
            stderr=subprocess.PIPE,
            env={**os.environ, "TZ": "UTC", "XDG_CONFIG_HOME": str(self.folder / "none")},
        )

    def contents(self, folder: Path) -> dict[str, bytes]:
        """All files but the journal's."""
        return {
            str(path.relative_to(folder)): path.read_bytes()
            for path in folder.rglob("*")
            if path.is_file() and ".wexagraph" not in path.parts
        }

    def assert_clean(self, folder: Path) -> None:
        """Nothing but the journal and the lock lies in our own folder, and all sums agree."""
        left = {path.name for path in (folder / ".wexagraph").iterdir()} - {"journal.sqlite-journal"}
        self.assertEqual(left, {"journal.sqlite", "lock"})
        done = subprocess.run(
            ["sha256sum", "--strict", "--quiet", "-c", "manifest-sha256.txt"], cwd=folder, capture_output=True
        )
        self.assertEqual(done.returncode, 0, done.stdout)
        self.run_program("verify", folder)

    def wait_for_files(self, process: subprocess.Popen[str], folder: Path, count: int) -> None:
        """Until an export under way has put so many files in place."""
        end = time.monotonic() + 60
        while process.poll() is None and time.monotonic() < end:
            if sum(1 for path in folder.rglob("*") if path.is_file() and ".wexagraph" not in path.parts) >= count:
                return
            time.sleep(0.01)
