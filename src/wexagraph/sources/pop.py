"""A POP3 account as a source (RFC 1939): one folder, known by UIDL, listed with TOP. DELE is never sent."""

from __future__ import annotations

import base64
import poplib
import re
import time
from collections.abc import Callable, Iterable, Iterator
from contextlib import suppress
from itertools import islice
from typing import Any, TypeVar

from wexagraph.errors import MessageError, SourceError
from wexagraph.messages.headers import Header
from wexagraph.messages.message import Message
from wexagraph.sources.accounts import GOODBYE, Account, Login, Secret, bearer, line_failed, refused
from wexagraph.sources.base import WHOLE, Envelope, Leaf, Partition, Source, Wanted, bounded, is_of, listed

T = TypeVar("T")
_Answer = list[bytes] | MessageError
_FOLDER = "INBOX"
_TRIES = 4
_HEADERS = 200
_LINE_COST = 64
_BATCH_BYTES, _BATCH_MESSAGES = 4 * 1024 * 1024, 50
_LATER = re.compile(
    # an account that is locked is not meant: more tries would do it no good
    r"\[(?:IN-USE|LOGIN-DELAY|SYS/TEMP)\]|\b(?:mailbox|maildrop)\b.{0,20}\block|\block\b.{0,20}\b(?:mailbox|maildrop)\b",
    re.IGNORECASE,
)

_MOST_ANSWER = 256 * 1024 * 1024
_MOST_LIST = 64 * 1024 * 1024
_LEAST_RATE = 1024  # bytes a second, once the timeout of a connection is over
_OTHER = "the server delivers another message than the one that it has listed"

# poplib refuses lines of more than 2,048 bytes; mail has longer ones
poplib._MAXLINE = 16 * 1024 * 1024  # type: ignore[attr-defined]


class _Client(poplib.POP3):
    """poplib with limits: a server that says too much or takes too long is hung up on."""

    def __init__(self, host: str, port: int, timeout: float) -> None:
        self._timeout = timeout
        self._begin(_MOST_LIST)
        super().__init__(host, port, timeout)

    def _begin(self, most: int) -> None:
        self._most, self._taken, self._since = most, 0, time.monotonic()

    def _putcmd(self, line: str) -> None:
        self._begin(_MOST_ANSWER if line.startswith("RETR") else _MOST_LIST)
        super()._putcmd(line)  # type: ignore[misc]

    def _getline(self) -> tuple[bytes, int]:
        line, size = super()._getline()  # type: ignore[misc]
        self._taken += size + _LINE_COST  # each line is an object of its own
        over = time.monotonic() - self._since - self._timeout
        if self._taken > self._most or (over > 0 and self._taken < over * _LEAST_RATE):
            raise poplib.error_proto("the server's answer has no end")
        return line, size


class _SecureClient(_Client, poplib.POP3_SSL):
    def __init__(self, host: str, port: int, timeout: float, context: Any) -> None:
        self._timeout = timeout
        self._begin(_MOST_LIST)
        poplib.POP3_SSL.__init__(self, host, port, timeout=timeout, context=context)


class PopSource(Source):
    """An account. Raises SourceError where no line can be had."""

    moves = False
    lists_apart = True

    def __init__(self, account: Account, login: Login) -> None:
        super().__init__(location=account.url, kind="POP3")
        self.account, self._login = account, login
        self._client: poplib.POP3 | None = None
        self._secret: Secret | None = None
        self._numbers: dict[str, int] = {}
        self._sizes: dict[str, int] = {}
        self._failures = 0
        self._ahead, self._has_top = False, True
        self._call(lambda client: client.noop())

    def close(self) -> None:
        client, self._client = self._client, None
        if client is not None:
            with suppress(OSError, poplib.error_proto):
                client.sock.settimeout(GOODBYE)
                client.quit()

    def folders(self) -> list[str]:
        return [_FOLDER]

    def size(self, folder: str) -> int:
        return sum(self._sizes.values())

    def envelopes(self, folder: str, share: Partition = WHOLE, wanted: Wanted | None = None) -> Iterator[Envelope]:
        ids = wanted.ids if wanted is not None else None
        chosen = (envelope for envelope in self.outline(folder) if ids is None or envelope.id in ids)
        while some := list(islice(chosen, _HEADERS)):
            for envelope, head in self._heads(some):
                if isinstance(head, MessageError):
                    envelope.trouble = str(head)
                else:
                    envelope.header = head
                yield envelope

    def _heads(self, envelopes: list[Envelope]) -> Iterator[tuple[Envelope, Header | MessageError]]:
        """The headers of messages; a server that has no TOP is asked for all of each."""
        for at in range(0, len(envelopes), size := _HEADERS if self._has_top else 1):
            for envelope, lines in self._answers("TOP {} 0" if self._has_top else "RETR {}", envelopes[at : at + size]):
                if isinstance(lines, MessageError):
                    yield envelope, lines
                    continue
                end = next((number for number, line in enumerate(lines) if not line.strip()), len(lines))
                yield envelope, Header(b"\n".join(lines[:end]) + b"\n\n")

    def outline(self, folder: str, share: Partition = WHOLE) -> Iterator[Envelope]:
        return (self._envelope(uid) for uid in list(self._numbers))

    def _envelope(self, uid: str) -> Envelope:
        return Envelope(_FOLDER, uid, self._sizes.get(uid, 0), Header(b""), stamp="uidl")

    def read(self, envelope: Envelope) -> bytes:
        if envelope.trouble:
            raise MessageError(envelope.trouble)
        ((_, data),) = self.read_many([envelope])
        if isinstance(data, MessageError):
            raise data
        return data

    def read_many(self, envelopes: Iterable[Envelope]) -> Iterator[tuple[Envelope, bytes | MessageError]]:
        """Bytes of many messages in their order, asked for several at a time."""
        for batch in bounded(envelopes, _BATCH_MESSAGES, _BATCH_BYTES):
            # what was not listed with its header is asked for that first: the bytes have to fit it
            blank = [envelope for envelope in batch if self._has_top and not envelope.header.block]
            heads = {envelope.place: head for envelope, head in self._heads(blank)}
            for envelope, lines in self._answers("RETR {}", batch):
                if isinstance(lines, MessageError):
                    yield envelope, lines
                    continue
                head = heads.get(envelope.place, envelope.header)
                data = _joined(lines)
                fits = isinstance(head, MessageError) or is_of(head.block, data)
                yield envelope, data if fits else MessageError(_OTHER)

    def attachments(self, envelope: Envelope) -> list[Leaf]:
        kind = (envelope.header.raw(b"content-type") or b"").lstrip().lower()
        if not kind or kind.startswith(b"text/"):
            return []
        try:
            return listed(Message(self.read(envelope)))
        except MessageError:
            return []

    def may_hide(self, envelope: Envelope) -> bool:
        """All but a page of HTML: a text may hold files, and parts are known when the message is read."""
        return not (envelope.header.raw(b"content-type") or b"").lstrip().lower().startswith(b"text/html")

    def _answers(self, command: str, envelopes: list[Envelope]) -> list[tuple[Envelope, _Answer]]:
        """What the server says to a command about each message: the lines, or why there are none.

        A server that takes commands ahead (PIPELINING, RFC 2449 section 6.6) gets all of them at once.
        """
        if len(envelopes) > 1 and self._ahead:
            try:
                return self._all_at_once(self._ready(), command, envelopes)
            except (OSError, EOFError, ValueError, KeyError, poplib.error_proto):
                self._hang_up()  # one by one, it will show what the line breaks on
        return [(envelope, self._answer(command, envelope.place)) for envelope in envelopes]

    def _all_at_once(
        self, client: poplib.POP3, command: str, envelopes: list[Envelope]
    ) -> list[tuple[Envelope, _Answer]]:
        for envelope in envelopes:
            client._putcmd(command.format(self._numbers[envelope.place]))  # type: ignore[attr-defined]
        answers: list[tuple[Envelope, _Answer]] = []
        for envelope in envelopes:
            try:
                answers.append((envelope, client._getlongresp()[1]))  # type: ignore[attr-defined]
            except poplib.error_proto as error:
                if not _is_refusal(error):
                    raise
                answers.append((envelope, _refusal(error)))
        return answers

    def _answer(self, command: str, uid: str) -> _Answer:
        def ask(client: poplib.POP3) -> list[bytes]:
            if uid not in self._numbers:
                raise MessageError("the server does not have this message any more")
            return client._longcmd(command.format(self._numbers[uid]))[1]  # type: ignore[attr-defined]

        try:
            return self._call(ask)
        except MessageError as error:
            return error

    def _call(self, action: Callable[[poplib.POP3], T]) -> T:
        """Do something on the line, dialling again as needed. Raises MessageError for a refusal, SourceError."""
        tries = 0
        while True:
            stands = False
            try:
                client = self._ready()
                stands = True
                result = action(client)
            except poplib.error_proto as error:
                if _is_refusal(error):
                    raise _refusal(error) from error
                broken: Exception = error
            except (OSError, EOFError, ValueError) as error:
                broken = error
            else:
                self._failures = 0
                return result
            self._hang_up()
            tries, self._failures = tries + stands, self._failures + 1
            if self._failures > self.account.retries:
                raise SourceError(
                    f"the line to {self.account.host} broke {self._failures} times; the last time: {_words(broken)}. "
                    "What was stored stays stored. Run the same command again later, and it goes on."
                ) from broken
            if tries >= _TRIES:
                raise MessageError(f"the line broke on it {tries} times: {_words(broken)}") from broken
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
                self._numbers = _numbered(client.uidl()[1])
                capabilities = _capabilities(client)
                self._ahead = "PIPELINING" in capabilities
                self._has_top = "TOP" in capabilities or _takes_top(client, self._numbers)
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
            return _SecureClient(account.host, account.port, account.timeout, account.tls())
        client = _Client(account.host, account.port, account.timeout)
        if "STLS" in _capabilities(client):
            with suppress(poplib.error_proto):
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
        secret = self._secret or self._login(self.account, False)
        try:
            if secret.token:
                mechanism, response = bearer(self.account, secret, _capabilities(client).get("SASL", []))
                client._shortcmd(f"AUTH {mechanism}")  # type: ignore[attr-defined]
                answer = client._shortcmd(base64.b64encode(response).decode("ascii"))  # type: ignore[attr-defined]
                if not answer.startswith(b"+OK"):  # it tells of an error, and wants an answer
                    client._shortcmd("AQ==")  # type: ignore[attr-defined]
            else:
                client.user(self.account.user)
                client.pass_(secret.value)
        except poplib.error_proto as error:
            if not _is_refusal(error):
                raise
            raise refused(self.account, _words(error)) from error
        self._secret = None if secret.token else secret  # a token may run out

    def _hang_up(self) -> None:
        client, self._client = self._client, None
        if client is not None:
            with suppress(OSError):
                client.close()


def _takes_top(client: poplib.POP3, numbers: dict[str, int]) -> bool:
    """Whether a server that does not say so has TOP, which is optional (RFC 1939 section 7)."""
    for number in list(numbers.values())[:1]:
        try:
            client.top(number, 0)
        except poplib.error_proto as error:
            return not _is_refusal(error)
    return True


def _joined(lines: list[bytes]) -> bytes:
    return b"\r\n".join(lines) + b"\r\n"


def _numbered(lines: list[bytes]) -> dict[str, int]:
    """The messages by their unique IDs. Copies of one message may share an ID (RFC 1939 section 7)."""
    numbers: dict[str, int] = {}
    for number, uid in (line.split()[:2] for line in lines if len(line.split()) > 1):
        name, turn = uid.decode("latin-1"), 1
        while name in numbers:
            turn += 1
            name = f"{uid.decode('latin-1')} {turn}"
        numbers[name] = int(number)
    return numbers


def _capabilities(client: poplib.POP3) -> dict[str, list[str]]:
    try:
        return client.capa()
    except poplib.error_proto:
        return {}


def _is_refusal(error: poplib.error_proto) -> bool:
    """Whether the server means no, not later (RFC 2449 section 8, RFC 3206); what poplib itself says is in letters."""
    answer = error.args[0] if error.args else ""
    return isinstance(answer, bytes) and answer.startswith(b"-ERR") and not _LATER.search(_said(error))


def _refusal(error: poplib.error_proto) -> MessageError:
    return MessageError(f"the server says: {_words(error)}")


def _words(error: Exception) -> str:
    return _said(error).removeprefix("-ERR").strip()


def _said(error: Exception) -> str:
    answer = error.args[0] if error.args else ""
    return answer.decode("utf-8", "replace") if isinstance(answer, bytes) else str(error)
