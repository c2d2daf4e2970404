"""A terminal that a test types into and looks at: a pseudo-terminal, its screen kept by pyte."""

from __future__ import annotations

import codecs
import fcntl
import os
import pty
import re
import select
import signal
import struct
import subprocess
import termios
import time
from collections.abc import Callable
from pathlib import Path

import pyte

KEYS = {
    "down": "\x1b[B",
    "up": "\x1b[A",
    "pagedown": "\x1b[6~",
    "f2": "\x1bOQ",
    "f3": "\x1bOR",
    "f4": "\x1bOS",
    "f5": "\x1b[15~",
    "f6": "\x1b[17~",
    "f7": "\x1b[18~",
    "f8": "\x1b[19~",
    "f9": "\x1b[20~",
    "enter": "\r",
    "tab": "\t",
    "escape": "\x1b",
    "c-end": "\x1b[1;5F",
    "c-home": "\x1b[1;5H",
    "c-d": "\x04",
}
_PATIENCE = 60.0


class Terminal:
    """A program at a terminal of so many columns and lines. Its standard output is the terminal, or a file."""

    def __init__(
        self,
        command: list[str],
        folder: Path,
        environment: dict[str, str],
        columns: int = 80,
        lines: int = 24,
        output: Path | None = None,
    ) -> None:
        self.screen = pyte.Screen(columns, lines)
        self._stream = pyte.Stream(self.screen)
        self._decoder = codecs.getincrementaldecoder("utf-8")("replace")  # what is read may end inside a character
        self._master, slave = pty.openpty()
        self._size(columns, lines)
        out = os.open(output, os.O_WRONLY | os.O_CREAT) if output is not None else slave
        self._process = subprocess.Popen(
            command,
            stdin=slave,
            stdout=out,
            stderr=slave,
            cwd=folder,
            env={**environment, "TERM": "xterm-256color"},
            preexec_fn=lambda: (os.setsid(), fcntl.ioctl(0, termios.TIOCSCTTY, 0)),  # its controlling terminal
        )
        os.close(slave)
        if output is not None:
            os.close(out)

    def _size(self, columns: int, lines: int) -> None:
        fcntl.ioctl(self._master, termios.TIOCSWINSZ, struct.pack("HHHH", lines, columns, 0, 0))

    def resize(self, columns: int, lines: int) -> None:
        """Make the window larger or smaller."""
        self._size(columns, lines)
        self.screen.resize(lines, columns)
        self._process.send_signal(signal.SIGWINCH)

    def press(self, *keys: str) -> None:
        """Type keys by their names, or letters."""
        for key in keys:
            os.write(self._master, KEYS.get(key, key).encode())

    def click(self, column: int, line: int) -> None:
        """Click with the mouse (SGR 1006)."""
        os.write(self._master, f"\x1b[<0;{column + 1};{line + 1}M\x1b[<0;{column + 1};{line + 1}m".encode())

    def text(self) -> str:
        """The whole screen, also when it is drawn half way and a wide character has lost one of its halves."""
        cells = ((self.screen.buffer[y][x].data for x in range(self.screen.columns)) for y in range(self.screen.lines))
        return "\n".join("".join(line).rstrip() for line in cells)

    def until(self, *words: str, gone: str = "", holds: Callable[[], bool] = lambda: True) -> str:
        """Wait until the screen shows these words (and not what is to be gone), and something holds; gives the screen.

        A screen may come in pieces: what else is to be looked at is part of what is waited for.
        """
        end = time.monotonic() + _PATIENCE
        while not (all(word in self.text() for word in words) and (not gone or gone not in self.text()) and holds()):
            if not self._feed(end):
                break
        shown = self.text()
        missing = [word for word in words if word not in shown]
        assert not missing and (not gone or gone not in shown), f"{missing or gone}:\n{shown}"
        return shown

    def _feed(self, end: float) -> bool:
        """Take what the program has written since; False where it writes no more."""
        left = end - time.monotonic()
        if left <= 0 or not select.select([self._master], [], [], left)[0]:
            return False
        try:
            data = os.read(self._master, 65536)
        except OSError:
            return False
        if b"\x1b[6n" in data:  # it asks where the cursor is
            os.write(self._master, f"\x1b[{self.screen.cursor.y + 1};{self.screen.cursor.x + 1}R".encode())
        # pyte stops at marks of direction, for which no terminal moves its cursor
        self._stream.feed(re.sub("[\u2068\u2069]", "", self._decoder.decode(data)))
        return bool(data)

    def end(self) -> int:
        """Wait until the program has ended; gives its exit code."""
        end = time.monotonic() + _PATIENCE
        while self._feed(end):
            pass
        code = self._process.wait(_PATIENCE)
        os.close(self._master)
        return code

    def close(self) -> None:
        """End what still runs."""
        if self._process.poll() is None:
            self._process.kill()
            self.end()
