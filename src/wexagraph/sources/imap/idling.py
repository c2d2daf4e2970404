"""Waiting for mail at an account: IDLE (RFC 2177), over several folders by NOTIFY (RFC 5465), else by asking."""

from __future__ import annotations

import imaplib
import re
import socket
import threading
import time
from contextlib import suppress
from functools import partial
from typing import Any, Protocol

from wexagraph.sources.imap.connection import Refused, quoted
from wexagraph.sources.imap.source import ImapSource

RENEW = 28 * 60.0
"""Seconds of one IDLE: a server may hang up after thirty minutes of silence."""
ASK = 60.0
"""Seconds between two looks at folders that the server does not tell of."""
_NEWS = re.compile(rb"\* (?:\d+ EXISTS|STATUS )", re.IGNORECASE)
_TURN = 0.2


class Stop(Protocol):
    """Says whether it is to end; `wait` waits for that, at most so many seconds."""

    def is_set(self) -> bool: ...

    def wait(self, seconds: float) -> bool: ...


class Waiter:
    """Waits for mail in some folders of an account, on a line of its own. What came meanwhile is not missed."""

    def __init__(self, source: ImapSource, folders: list[str], stop: Stop) -> None:
        self._source, self._line, self._stop = source, source.line, stop
        self._folders = folders
        self._stamps: dict[str, str] = {}
        self._notified = False

    def wait(self) -> bool:
        """Wait for mail, at most until the line should be renewed. Returns whether something may have come.

        Raises SourceError where the line can't be kept, Dropped where it broke.
        """
        capabilities = self._line.capabilities
        if "IDLE" not in capabilities:
            return self._asked(self._folders)
        first, *others = [self._source.folder(name).raw for name in self._folders]
        if others and "NOTIFY" in capabilities and not self._notified:
            with suppress(Refused):
                self._line.once(self._notify)
                self._notified = True
        alone = not others or self._notified
        if self._line.once(lambda client: self._idle(client, RENEW if alone else ASK), first):
            return True
        return not alone and self._changed(self._folders[1:])

    def _asked(self, folders: list[str]) -> bool:
        return not self._stop.wait(ASK) and self._changed(folders)

    def _changed(self, folders: list[str]) -> bool:
        """Whether anything is new in folders, by one STATUS each."""
        changed = False
        for name in folders:
            stamp = self._line.once(partial(self._status, name))
            changed |= self._stamps.get(name, stamp) != stamp
            self._stamps[name] = stamp
        return changed

    def _status(self, name: str, client: imaplib.IMAP4) -> str:
        raw = self._source.folder(name).raw
        kind, data = client.status(quoted(raw), "(MESSAGES UIDNEXT UIDVALIDITY)")  # type: ignore[arg-type]
        return str(self._line.checked(kind, data)).rpartition("(")[2]

    def _notify(self, client: imaplib.IMAP4) -> None:
        names = b" ".join(quoted(self._source.folder(name).raw) for name in self._folders)
        events = b"(MessageNew MessageExpunge)"
        self._command(client, b"NOTIFY SET (selected " + events + b") (mailboxes (" + names + b") " + events + b")")

    def _command(self, client: imaplib.IMAP4, words: bytes) -> None:
        """A command that imaplib does not know. Raises Refused."""
        tag = client._new_tag()
        client.send(tag + b" " + words + b"\r\n")
        while not (line := _line(client)).startswith(tag + b" "):
            continue
        if not line.upper().startswith(tag + b" OK"):
            raise Refused(line.decode("latin-1"))

    def _idle(self, client: imaplib.IMAP4, seconds: float) -> bool:
        """One IDLE. It ends when something came, when it is over, or when it is to stop."""
        sock = client.sock
        sock.setsockopt(socket.SOL_SOCKET, socket.SO_KEEPALIVE, 1)
        for option, value in (("TCP_KEEPIDLE", 60), ("TCP_KEEPINTVL", 20), ("TCP_KEEPCNT", 3)):
            if hasattr(socket, option):  # a line that died while the machine slept is found out in two minutes
                with suppress(OSError):
                    sock.setsockopt(socket.IPPROTO_TCP, getattr(socket, option), value)
        tag = client._new_tag()
        client._begin()
        client.send(tag + b" IDLE\r\n")
        came = ended = False
        over = threading.Event()

        def end() -> None:
            nonlocal ended
            if not ended:
                ended = True
                client.send(b"DONE\r\n")

        def watch() -> None:
            start = time.monotonic()
            while not over.wait(_TURN if self._stop.is_set() else 1.0):
                if self._stop.is_set() or time.monotonic() - start > seconds:
                    with suppress(OSError, imaplib.IMAP4.abort):
                        end()
                    return

        timeout = sock.gettimeout()
        sock.settimeout(seconds + 120)  # silence is what is wanted here
        client._timeout = seconds + 120  # type: ignore[attr-defined]
        watching = threading.Thread(target=watch, daemon=True)
        try:
            while True:
                client._begin()
                line = _line(client)
                if line.startswith(b"+"):
                    watching.start()
                elif line.startswith(tag + b" "):
                    if not line.upper().startswith(tag + b" OK"):
                        raise Refused(line.decode("latin-1"))
                    return came
                elif _NEWS.match(line):
                    came = True
                    end()
        finally:
            over.set()
            sock.settimeout(timeout)
            client._timeout = timeout  # type: ignore[attr-defined]


def _line(client: Any) -> bytes:
    line: bytes = client.readline()
    if not line:
        raise imaplib.IMAP4.abort("the server has hung up")
    return line
