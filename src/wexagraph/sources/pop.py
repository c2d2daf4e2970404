"""A POP3 account as a source (RFC 1939): one folder, known by UIDL, listed with TOP. DELE is never sent."""

from __future__ import annotations

import poplib
import time
from collections.abc import Callable, Iterator
from contextlib import suppress
from typing import TypeVar

from wexagraph.errors import MessageError, SourceError
from wexagraph.messages import Header
from wexagraph.messages.mime import parse
from wexagraph.sources.accounts import Account, Login, line_failed, refused
from wexagraph.sources.base import WHOLE, Envelope, Leaf, Share, Source, Wanted, listed

T = TypeVar("T")
_FOLDER = "INBOX"
_TRIES = 4

# poplib refuses lines of more than 2,048 bytes; mail has longer ones
poplib._MAXLINE = 16 * 1024 * 1024  # type: ignore[attr-defined]


class PopSource(Source):
    """An account. Raises SourceError where no line can be had."""

    moves = False

    def __init__(self, account: Account, login: Login) -> None:
        super().__init__(location=account.url, kind="POP3")
        self.account, self._login = account, login
        self._client: poplib.POP3 | None = None
        self._numbers: dict[str, int] = {}
        self._sizes: dict[str, int] = {}
        self._failures = 0
        self._call(lambda client: client.noop())

    def close(self) -> None:
        client, self._client = self._client, None
        if client is not None:
            with suppress(OSError, poplib.error_proto):
                client.quit()

    def folders(self) -> list[str]:
        return [_FOLDER]

    def size(self, folder: str) -> int:
        return sum(self._sizes.values())

    def envelopes(self, folder: str, share: Share = WHOLE, wanted: Wanted | None = None) -> Iterator[Envelope]:
        for uid in list(self._numbers):
            envelope = self._envelope(uid)
            if wanted is not None and wanted.ids is not None and envelope.id not in wanted.ids:
                continue
            try:
                lines = self._call(lambda client, uid=uid: client.top(self._numbers[uid], 0)[1])  # type: ignore[misc]
                envelope.header = Header(b"\n".join(lines) + b"\n\n")
            except (MessageError, KeyError) as error:
                envelope.trouble = str(error)
            yield envelope

    def outline(self, folder: str, share: Share = WHOLE) -> Iterator[Envelope]:
        return (self._envelope(uid) for uid in list(self._numbers))

    def _envelope(self, uid: str) -> Envelope:
        return Envelope(_FOLDER, uid, self._sizes.get(uid, 0), Header(b""), stamp="uidl")

    def read(self, envelope: Envelope) -> bytes:
        if envelope.trouble:
            raise MessageError(envelope.trouble)
        uid = envelope.place
        if uid not in self._numbers:
            raise MessageError("the server does not have this message any more")
        lines = self._call(lambda client: client.retr(self._numbers[uid])[1])
        return b"\r\n".join(lines) + b"\r\n"

    def attachments(self, envelope: Envelope) -> list[Leaf]:
        kind = (envelope.header.raw(b"content-type") or b"").lstrip().lower()
        if not kind or kind.startswith(b"text/"):
            return []
        try:
            return listed(parse(self.read(envelope))[0])
        except MessageError:
            return []

    def _call(self, action: Callable[[poplib.POP3], T]) -> T:
        """Do something on the line, dialling again as needed. Raises MessageError for a refusal, SourceError."""
        tries = 0
        while True:
            try:
                result = action(self._ready())
            except poplib.error_proto as error:
                words = _words(error)
                if words.startswith("-ERR"):
                    raise MessageError(f"the server says: {words[4:].strip()}") from error
                broken: Exception = error
            except (OSError, EOFError) as error:
                broken = error
            else:
                self._failures = 0
                return result
            self._hang_up()
            tries, self._failures = tries + 1, self._failures + 1
            if self._failures > self.account.retries:
                raise SourceError(
                    f"the line to {self.account.host} broke {self._failures} times; the last time: {broken}. "
                    "What was stored stays stored. Run the same command again later, and it goes on."
                ) from broken
            if tries >= _TRIES and self._client is not None:
                raise MessageError(f"the line broke on it {tries} times: {broken}") from broken
            time.sleep(min(0.2 * 2 ** (self._failures - 1), 30))

    def _ready(self) -> poplib.POP3:
        if self._client is None:
            try:
                client = self._dial()
            except OSError as error:
                if not self._numbers and self._failures == 0:
                    raise line_failed(self.account, error) from error
                raise
            try:
                self._log_in(client)
                self._numbers = {
                    f[1].decode("latin-1"): int(f[0]) for f in (line.split() for line in client.uidl()[1]) if len(f) > 1
                }
                sizes = {int(f[0]): int(f[1]) for f in (line.split() for line in client.list()[1]) if len(f) > 1}
            except BaseException:
                client.close()
                raise
            self._sizes = {uid: sizes.get(number, 0) for uid, number in self._numbers.items()}
            self._client = client
        return self._client

    def _dial(self) -> poplib.POP3:
        account = self.account
        if account.encrypted_from_the_start:
            return poplib.POP3_SSL(account.host, account.port, timeout=account.timeout, context=account.tls())
        client = poplib.POP3(account.host, account.port, timeout=account.timeout)
        with suppress(poplib.error_proto):
            if "STLS" in client.capa():
                client.stls(account.tls())
                return client
        if not account.may_stay_plain:
            client.close()
            raise SourceError(
                f"{account.host} offers no encryption on port {account.port}, so the password would go over the line "
                "in the open. Use pops://, or ask who runs the server."
            )
        return client

    def _log_in(self, client: poplib.POP3) -> None:
        secret = self._login(self.account, False)
        try:
            client.user(self.account.user)
            client.pass_(secret.value)
        except poplib.error_proto as error:
            raise refused(self.account, _words(error).removeprefix("-ERR").strip()) from error

    def _hang_up(self) -> None:
        client, self._client = self._client, None
        if client is not None:
            with suppress(OSError):
                client.close()


def _words(error: poplib.error_proto) -> str:
    first = error.args[0] if error.args else b""
    return first.decode("utf-8", "replace") if isinstance(first, bytes) else str(first)
