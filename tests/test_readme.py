"""What the README shows was run as shown: its commands give its output, its library example runs."""

from __future__ import annotations

import re
import shlex
import subprocess
import sys
from pathlib import Path

from tests.helpers import ProgramTest

README = (Path(__file__).parent.parent / "README.md").read_text("utf-8")


def settled(output: str) -> list[str]:
    """Lines without what differs from machine to machine: sizes and seconds, trailing spaces, and the notes below a summary."""
    varying = r"; [\d.]+ (?:[KM]B|bytes) in [\d.]+ s\.|run \S+Z|[\d.]+ (?:[KM]B|bytes) written in [\d.]+ s|[\d.]+ KB(?=, 117|; all|\. Formats|$)"
    lines = [re.sub(varying, "some", line.rstrip()) for line in output.strip().splitlines()]
    end = next((n for n, line in enumerate(lines) if line.startswith("Notes (")), len(lines))
    return lines[:end]


class Readme(ProgramTest):
    started = True

    def test_its_commands_and_its_library_example(self) -> None:
        self.run_program("demo")
        shown = 0
        for block in re.findall(r"```console\n(.*?)```", README, re.DOTALL):
            for command, output in re.findall(r"^\$ (.+)\n((?:(?!\$ ).*\n)*)", block, re.MULTILINE):
                words = shlex.split(command)
                if words[0] != "wexagraph" or "office.mbox" in words:
                    continue
                done = self.run_program(*words[1:])
                if output.strip():
                    shown += 1
                    self.assertEqual(settled(done.stdout), settled(output), command)
        self.assertGreaterEqual(shown, 4)
        code = re.search(r"```python\n(.*?)```", README, re.DOTALL)
        assert code is not None
        done = subprocess.run(
            [sys.executable, "-c", code[1]], cwd=self.folder, capture_output=True, text=True, check=False
        )
        self.assertEqual(done.stdout, "3 chosen, 3 written, 0 failed\n", done.stderr)

    def test_its_links(self) -> None:
        for target in re.findall(r"\]\(([^)#]+)\)", README):
            self.assertTrue((Path(__file__).parent.parent / target).exists(), target)
