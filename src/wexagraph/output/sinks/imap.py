"""An IMAP account."""

from __future__ import annotations

import imaplib
import re
import time
from datetime import datetime
from functools import partial

from wexagraph.errors import MessageError, SourceError, TargetError
from wexagraph.messages.headers import Header
from wexagraph.output.sinks.base import Delivery, Sink
from wexagraph.sources.imap.connection import Refused, quoted
from wexagraph.sources.imap.folders import Folder
from wexagraph.sources.imap.source import ImapSource

_SYSTEM = {
    "seen": "\\Seen",
    "answered": "\\Answered",
    "flagged": "\\Flagged",
    "deleted": "\\Deleted",
    "draft": "\\Draft",
}


_KEYWORD = re.compile(r"[!#$&'+,\-./0-9:;<=>?@A-Z\[^_`a-z|}~]{1,200}")
"""An atom (RFC 9051 section 9): nothing else can be a keyword, whatever a mailbox calls one."""


class ImapSink(Sink):
    """An IMAP account, or one `folder` of it for all (it `lacks_folder` where that is not there yet). A
    message of the same identity and size in the same folder is
    there already."""

    def __init__(self, source: ImapSource, folder: str = "") -> None:
        named = source.all_folders.named(folder) if folder else None
        self._filling, self.folder = Filling(source), named.name if named is not None else ""
        self.lacks_folder = named is not None and not named.exists

    def where(self, delivery: Delivery) -> str:
        return self.folder or delivery.envelope.folder

    def has(self, delivery: Delivery) -> bool:
        return self._filling.has(self.where(delivery), identity(delivery.header), delivery.data)

    def put(self, delivery: Delivery) -> None:
        envelope = delivery.envelope
        self._filling.append(
            self.where(delivery), identity(delivery.header), delivery.data, envelope.flags, delivery.moment
        )


class Filling:
    """Fills folders of an account. A message is known again by its `identity` and its size."""

    def __init__(self, source: ImapSource) -> None:
        self._source, self._line = source, source.line
        self._folders: dict[str, Folder] = {}
        self._there: dict[str, set[tuple[str, int]]] = {}

    def has(self, folder: str, own: str, data: bytes) -> bool:
        """Whether a folder holds a message of that identity (`own`) and size. Raises SourceError."""
        if folder not in self._there:
            held: set[tuple[str, int]] = set()
            known = self._source.all_folders.named(folder)
            if known.exists:
                for envelope in self._source.envelopes(known.name):
                    held.add((identity(envelope.header), envelope.size))
            self._there[folder] = held
        return (own, len(crlf(data))) in self._there[folder]

    def append(self, folder: str, own: str, data: bytes, flags: frozenset[str], arrived: datetime | None) -> None:
        """Put a message into a folder, which is made if need be.

        Raises MessageError where the server refuses it, TargetError where the account is full.
        """
        held = self._folder(folder)
        words = [_SYSTEM.get(flag, flag) for flag in sorted(flags) if flag != "recent" and _KEYWORD.fullmatch(flag)]
        content = crlf(data)
        when = imaplib.Time2Internaldate(arrived or time.time())

        def put(client: imaplib.IMAP4) -> None:
            self._line.leave(client, held.raw)
            marks = f"({' '.join(words)})"
            kind, answer = client.append(quoted(held.raw), marks, when, content)  # type: ignore[arg-type]
            refusal = (answer[0] or b"") if kind != "OK" else b""
            if b"[LIMIT]" in refusal:
                raise Refused(refusal.decode("utf-8", "replace"))  # of this message; asking again would help nobody
            if b"OVERQUOTA" in refusal:
                # asking again would help nobody
                raise TargetError(
                    f"{self._source.account.name} has no room left (the server says OVERQUOTA). Make room there "
                    "and run the same command again; it goes on where it was."
                )
            self._line.checked(kind, answer)

        try:
            self._line.call(put)
        except Refused as error:
            raise MessageError(f"the server does not take it: {error}") from error
        self._there.setdefault(folder, set()).add((own, len(content)))

    def _folder(self, name: str) -> Folder:
        if name not in self._folders:
            try:
                self._folders[name] = self._line.call(partial(self._source.make_folder, name))[0]
            except Refused as error:
                raise SourceError(f"the server does not make the folder {name}: {error}.") from error
        return self._folders[name]


def identity(header: Header) -> str:
    """What a message is known again by: its Message-ID, or where it has none, what its envelope says."""
    return header.text(b"message-id") or "\n".join(map(header.text, (b"date", b"from", b"to", b"subject")))


def crlf(data: bytes) -> bytes:
    """The message with the line ends that the protocol wants (RFC 9051, section 2.3)."""
    return data.replace(b"\r\n", b"\n").replace(b"\n", b"\r\n")
