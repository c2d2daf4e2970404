"""Waiting for mail at an account: IDLE (RFC 2177), over several folders by NOTIFY (RFC 5465), else by asking."""

from __future__ import annotations

import imaplib
import re
import select
import socket
import ssl
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
_TURN = 1.0


class Stop(Protocol):
    """Says whether it is to end; `wait` waits for that, at most so many seconds."""

    def is_set(self) -> bool: ...

    def wait(self, seconds: float) -> bool: ...


class Waiter:
    """Waits for mail in some folders of an account, on a line of its own. `begin` comes first; what comes after it is
    not missed."""

    def __init__(self, source: ImapSource, folders: list[str], stop: Stop) -> None:
        self._source, self._line, self._stop = source, source.line, stop
        self._folders = folders
        self._asked = folders
        """The folders that the server does not tell of by itself."""
        self._stamps: dict[str, str] = {}

    def begin(self) -> None:
        """From here on nothing is missed: whoever looks for mail looks after this. Raises as `wait`."""
        capabilities = self._line.capabilities
        if "IDLE" in capabilities:
            self._asked = self._folders[1:]
            if self._asked and "NOTIFY" in capabilities:
                with suppress(Refused):
                    self._line.once(self._notify)
                    self._asked = []
            self._line.once(lambda client: None, self._first)  # what comes to an open folder is told later
        self._changed()

    def wait(self) -> bool:
        """Wait for mail, at most until the line should be renewed. Returns whether something may have come.

        Raises SourceError where the line can't be kept, Dropped where it broke.
        """
        if self._asked == self._folders:
            return not self._stop.wait(ASK) and self._changed()
        came = self._line.once(lambda client: self._idle(client, ASK if self._asked else RENEW), self._first)
        return self._changed() or came

    @property
    def _first(self) -> str:
        return self._source.folder(self._folders[0]).raw

    def _changed(self) -> bool:
        """Whether anything is new in the folders that the server does not tell of, by one STATUS each."""
        before, self._stamps = (
            self._stamps,
            {name: self._line.once(partial(self._status, name)) for name in self._asked},
        )
        return self._stamps != before

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
        client.send(tag + b" IDLE\r\n")
        start, patience = time.monotonic(), sock.gettimeout() or ASK
        begun = came = False
        ended: float | None = None  # when DONE was sent
        while True:
            client._begin()
            now = time.monotonic()
            if begun and ended is None and (came or self._stop.is_set() or now - start > seconds):
                client.send(b"DONE\r\n")
                ended = now
            if now - (ended or (now if begun else start)) > patience:
                raise imaplib.IMAP4.abort("the server takes too long to answer")
            if not _comes(client, _TURN):
                continue
            line = _line(client)
            begun = begun or line.startswith(b"+")
            came = came or _NEWS.match(line) is not None
            if line.startswith(tag + b" "):
                if not line.upper().startswith(tag + b" OK"):
                    raise Refused(line.decode("latin-1"))
                return came


def _comes(client: Any, seconds: float) -> bool:
    """Whether something of a line comes within so many seconds. One thread reads and writes: TLS takes no two."""
    if _read_ahead(client):
        return True
    if not select.select([client.sock], [], [], seconds)[0]:
        return False
    there = _read_ahead(client)
    if there == b"":
        raise imaplib.IMAP4.abort("the server has hung up")
    return bool(there)


def _read_ahead(client: Any) -> bytes | None:
    """What can be read without waiting; b"" where there is nothing, None where a record of TLS is not whole yet."""
    timeout = client.sock.gettimeout()
    client.sock.settimeout(0)
    try:
        there: bytes = client.file.peek(1)
        return there
    except (ssl.SSLWantReadError, BlockingIOError):
        return None
    finally:
        client.sock.settimeout(timeout)


def _line(client: Any) -> bytes:
    line: bytes = client.readline()
    if not line:
        raise imaplib.IMAP4.abort("the server has hung up")
    return line
