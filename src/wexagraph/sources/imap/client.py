"""imaplib with limits: a server that promises too much, says too much or takes too long is hung up on."""

from __future__ import annotations

import imaplib
import time
from collections.abc import Iterator
from contextlib import contextmanager, suppress
from typing import Any

MOST_LITERAL = 256 * 1024 * 1024
"""Bytes of one message that are taken; no server of this world delivers a larger one."""
_MOST_ANSWER = MOST_LITERAL + 64 * 1024 * 1024
_MOST_LINES = 64 * 1024 * 1024
_LINE_COST = 120  # bytes: each line is kept as objects of its own
_LONGEST = 3600.0
"""Seconds that a server may say that it is still at it."""
_LEAST_RATE = 1024  # bytes a second, once the timeout of a connection is over

# imaplib refuses lines of more than a million bytes; a SEARCH or a BODYSTRUCTURE may be longer
imaplib._MAXLINE = _MOST_LINES  # type: ignore[attr-defined]


class Client(imaplib.IMAP4):
    """A line that may be encrypted later. After `timeout` seconds of an answer, bytes have to keep coming."""

    is_slow = _listens = False

    def __init__(self, host: str, port: int, timeout: float) -> None:
        self._timeout = timeout
        self._begin()
        super().__init__(host, port, timeout)

    @contextmanager
    def patient(self, seconds: float) -> Iterator[None]:
        """Wait so long for each line that a server says meanwhile; `is_slow` tells whether that was too short."""
        usual, self._timeout, self._listens = self._timeout, seconds, True
        self.sock.settimeout(seconds)
        try:
            yield
        except TimeoutError:
            self.is_slow = True
            raise
        finally:
            self._timeout, self._listens = usual, False
            with suppress(OSError):
                self.sock.settimeout(usual)

    def _begin(self) -> None:
        """Count the answers of a command from here."""
        self._taken = self._taken_in_lines = 0
        self._since = self._begun = time.monotonic()

    def _command(self, name: str, *arguments: Any) -> Any:
        self._begin()
        return super()._command(name, *arguments)  # type: ignore[misc]

    def _count(self, size: int, in_line: bool = False) -> None:
        self._taken += size
        self._taken_in_lines += size + _LINE_COST if in_line else 0
        if self._taken > _MOST_ANSWER or self._taken_in_lines > _MOST_LINES:
            raise imaplib.IMAP4.abort("the server's answer has no end")
        over = time.monotonic() - self._since - self._timeout
        if over > 0 and self._taken < over * _LEAST_RATE:
            self.is_slow = True
            raise imaplib.IMAP4.abort("the server takes too long to answer")

    @property
    def _stream(self) -> Any:
        return self.file

    def read(self, size: int) -> bytes:
        """The bytes of a literal."""
        if size > MOST_LITERAL:
            raise imaplib.IMAP4.abort(f"the server promises {size:,} bytes at once; at most {MOST_LITERAL:,} are taken")
        pieces = []
        while size > 0:
            piece = self._stream.read1(min(size, 1 << 20))
            if not piece:
                break
            self._count(len(piece))
            pieces.append(piece)
            size -= len(piece)
        return b"".join(pieces)

    def readline(self) -> bytes:
        """A line, with its line end."""
        pieces = []
        while True:
            there = self._stream.peek(1)
            end = there.find(b"\n") + 1
            piece = self._stream.read1(end or len(there) or 1)
            self._count(len(piece), in_line=True)
            pieces.append(piece)
            if not piece or piece.endswith(b"\n"):
                if self._listens and time.monotonic() < self._begun + _LONGEST:
                    self._since = time.monotonic()
                return b"".join(pieces)


class SecureClient(Client, imaplib.IMAP4_SSL):
    """A line that is encrypted from the start."""

    def __init__(self, host: str, port: int, timeout: float, context: Any) -> None:
        self._timeout = timeout
        self._begin()
        imaplib.IMAP4_SSL.__init__(self, host, port, ssl_context=context, timeout=timeout)
