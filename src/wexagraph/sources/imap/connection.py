"""A line to an IMAP server that mends itself: it waits, dials again, and goes on where it broke."""

from __future__ import annotations

import imaplib
import re
import socket
import threading
from collections.abc import Callable
from contextlib import suppress
from typing import Any, TypeVar

from wexagraph.errors import SourceError
from wexagraph.sources.accounts import (
    GOODBYE,
    Account,
    Login,
    Secret,
    bearer,
    line_failed,
    refused,
    steers_no_line,
)
from wexagraph.sources.imap.client import Client, SecureClient
from wexagraph.text import one_line

T = TypeVar("T")

_WAIT = re.compile(
    r"\[(?:THROTTLED|UNAVAILABLE|INUSE|LIMIT|SERVERBUG|OVERQUOTA)\]|too many|rate limit|try again|temporar"
    r"|authenticated but not connected",
    re.IGNORECASE,
)
_FIRST_PAUSE, _LONGEST_PAUSE = 0.2, 30.0


class Refused(Exception):
    """The server said NO or BAD; its words are the message."""


class Dropped(Exception):
    """The line broke, or the server asked for patience."""


class Connection:
    """One connection, logged in, with one folder open for reading at a time; whoever comes second waits."""

    def __init__(self, account: Account, login: Login) -> None:
        self.account, self._login = account, login
        self._mine = threading.Lock()  # a batch may be on its way while its reader asks for something else
        self._closed = threading.Event()
        self._client: imaplib.IMAP4 | None = None
        self._secret: Secret | None = None
        self._folder: tuple[str, bool] | None = None
        self._failures = 0
        self.validity = ""
        self.lasting_flags: list[str] = []
        self.capabilities: frozenset[str] = frozenset()

    def call(self, action: Callable[[imaplib.IMAP4], T], folder: str | None = None, writing: bool = False) -> T:
        """Do something on the line, in a folder (as the server writes it) where one is named; dial again as needed.

        Raises SourceError when the line can't be kept, Refused when the server does not want to.
        """
        while True:
            try:
                result = self.once(action, folder, writing)
            except Dropped as error:
                self.wait(error)
            else:
                self._failures = 0
                return result

    def once(self, action: Callable[[imaplib.IMAP4], T], folder: str | None = None, writing: bool = False) -> T:
        """As `call`, but a line that breaks is the caller's to mend. Raises Dropped."""
        with self._mine:
            if self._closed.is_set():
                raise SourceError("the line was closed.")
            try:
                client = self._ready()
                if folder is not None:
                    self._open(client, folder, writing)
                return action(client)
            except imaplib.IMAP4.readonly as error:
                raise Refused("the folder can only be read there") from error
            except (imaplib.IMAP4.abort, OSError, EOFError, ValueError, MemoryError) as error:
                self.hang_up()
                raise Dropped(str(error) or type(error).__name__) from error
            except imaplib.IMAP4.error as error:
                self.checked("BAD", [_words(error).encode()])
                raise

    def wait(self, error: Exception) -> None:
        """Pause before the next try, longer each time. Raises SourceError when there were too many."""
        self._failures += 1
        if self._failures > self.account.retries:
            raise SourceError(
                f"the line to {self.account.host} broke {self._failures} times without a message coming through; "
                f"the last time: {error}. What was stored stays stored. Run the same command later, and it goes on."
            ) from error
        if self._closed.wait(min(_FIRST_PAUSE * 2 ** (self._failures - 1), _LONGEST_PAUSE)):
            raise SourceError("the line was closed.") from error

    def progress(self) -> None:
        """Something came through: the count of failures begins anew."""
        self._failures = 0

    def ask(self, client: imaplib.IMAP4, command: str, *arguments: Any) -> list[Any]:
        """A UID command's untagged answers. Raises Refused, Dropped."""
        kind, data = client.uid(command, *arguments)
        return self.checked(kind, data)

    def search(self, client: imaplib.IMAP4, *arguments: Any) -> list[Any]:
        """The answers to a search, which may take a server longer than all else. Raises Refused, also where it takes
        too long; Dropped."""
        assert isinstance(client, Client)
        try:
            with client.patient(self.account.search_timeout):
                return self.ask(client, "SEARCH", *arguments)
        except (TimeoutError, imaplib.IMAP4.abort):
            if not client.is_slow:
                raise
            self.hang_up()
            raise Refused(f"searching takes longer than {self.account.search_timeout:g} seconds") from None

    def checked(self, kind: str, data: list[Any]) -> list[Any]:
        """The data of a command that ended well. Raises Refused, Dropped."""
        if kind == "OK":
            return data
        words = _words(data[0] if data else b"")
        if _WAIT.search(words):
            self.hang_up()
            raise Dropped(words)
        raise Refused(words)

    def _ready(self) -> imaplib.IMAP4:
        if self._client is None:
            client = self._dial()
            try:
                self._log_in(client)
            except BaseException:
                with suppress(OSError, imaplib.IMAP4.error):
                    client.shutdown()
                raise
            self._client, self._folder = client, None
        return self._client

    def _dial(self) -> imaplib.IMAP4:
        account = self.account
        try:
            if account.encrypted_from_the_start:
                return SecureClient(account.host, account.port, account.timeout, account.tls())
            client = Client(account.host, account.port, account.timeout)
            if "STARTTLS" in client.capabilities:
                client.starttls(account.tls())
            elif not account.may_stay_plain:
                client.shutdown()
                raise SourceError(
                    f"{account.host} offers no encryption on port {account.port}, so the password would go over the "
                    "line in the open. Use imaps://, or ask who runs the server."
                )
            return client
        except OSError as error:
            from ssl import SSLCertVerificationError

            if (self._failures == 0 and self._secret is None) or isinstance(error, SSLCertVerificationError):
                raise line_failed(account, error) from error  # the first call of all: host or port may be wrong
            raise

    def _log_in(self, client: imaplib.IMAP4) -> None:
        again = False
        while True:
            secret = self._secret or self._login(self.account, again)
            try:
                self._authenticate(client, secret)
                break
            except imaplib.IMAP4.abort:
                raise
            except imaplib.IMAP4.error as error:
                words = _words(error)
                if _WAIT.search(words):
                    raise Dropped(words) from error
                if again or not (secret.token or self._secret is not None):
                    raise refused(self.account, words) from error
                again, self._secret = True, None  # a token may have run out since
        self._secret = secret
        client.response("CAPABILITY")
        kind, data = client.capability()
        capabilities = b" ".join(item for item in data if isinstance(item, bytes)).decode("latin-1").upper().split()
        self.capabilities = frozenset(capabilities if kind == "OK" and capabilities else client.capabilities)

    def _authenticate(self, client: imaplib.IMAP4, secret: Secret) -> None:
        user = self.account.user
        if secret.token:
            offered = [word.removeprefix("AUTH=") for word in client.capabilities]
            mechanism, response = bearer(self.account, secret, offered)
            client.authenticate(mechanism, _once(response))
        elif "AUTH=PLAIN" in client.capabilities:
            client.authenticate("PLAIN", _once(f"\0{user}\0{secret.value}".encode()))
        elif "LOGINDISABLED" in client.capabilities:
            raise SourceError(
                f"{self.account.host} takes no password on this line (LOGINDISABLED). Use imaps://, or a token "
                "(token-command in wexagraph.toml)."
            )
        elif f"{user}{secret.value}".isascii():
            client.login(quoted(user).decode("ascii"), secret.value)
        else:
            raise SourceError(
                f"{self.account.host} takes passwords in ASCII letters only (it does not offer AUTH=PLAIN), and user "
                "or password has others. Ask who runs the server, or use an app password."
            )

    def _open(self, client: imaplib.IMAP4, folder: str, writing: bool) -> None:
        if self._folder == (folder, writing):
            return
        self._folder = None
        kind, data = client.select(quoted(folder), readonly=not writing)  # type: ignore[arg-type]
        self.checked(kind, data)
        flags = (client.response("PERMANENTFLAGS")[1] or [None])[0]
        self.lasting_flags = _words(flags).lower().strip("()").split() if flags is not None else ["\\*"]
        self.validity = _words((client.response("UIDVALIDITY")[1] or [b""])[0] or b"")
        self._folder = (folder, writing)

    def leave(self, client: imaplib.IMAP4, folder: str) -> None:
        """Close a folder that is open for reading: some servers do not append to one (nothing is expunged by that, RFC
        9051 section 6.4.1)."""
        if self._folder == (folder, False):
            self._folder = None
            client.close()

    def hang_up(self) -> None:
        """Let go of a line that is no good any more."""
        client, self._client, self._folder = self._client, None, None
        if client is not None:
            with suppress(OSError, imaplib.IMAP4.error):
                client.shutdown()

    def close(self) -> None:
        """Say goodbye. What is still under way on the line, such as a batch that nobody waits for, is cut off."""
        self._closed.set()
        client = self._client
        if client is None:
            return
        if not self._mine.acquire(blocking=False):
            with suppress(OSError):
                client.sock.shutdown(socket.SHUT_RDWR)
            return
        try:
            self._client = None
            with suppress(OSError, imaplib.IMAP4.error, ValueError):
                client.sock.settimeout(GOODBYE)
                client.logout()
        finally:
            self._mine.release()


def quoted(text: str) -> bytes:
    """A string as IMAP quotes it; a character is a byte (some servers have raw UTF-8 in names).

    Raises Refused for a text with a line end, which would begin a command of its own.
    """
    if not steers_no_line(text):
        raise Refused(f"{one_line(text)[:80]!r} holds characters that no name has")
    return ('"' + text.replace("\\", "\\\\").replace('"', '\\"') + '"').encode("latin-1")


def _once(response: bytes) -> Callable[[bytes], bytes]:
    """Answers the server's first challenge; a second one tells of an error, and is answered with nothing."""
    answers = iter([response])
    return lambda _: next(answers, b"")


def _words(answer: object) -> str:
    if isinstance(answer, Exception):
        answer = answer.args[0] if answer.args else ""
    text = answer.decode("utf-8", "replace") if isinstance(answer, bytes) else str(answer)
    match = re.fullmatch(r"b(['\"])(.*)\1", text, re.DOTALL)  # imaplib puts the repr of bytes into its errors
    return match[2] if match else text
