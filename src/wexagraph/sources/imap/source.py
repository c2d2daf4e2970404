"""The folders and messages of an IMAP account."""

from __future__ import annotations

import imaplib
from collections.abc import Callable, Iterable, Iterator
from concurrent.futures import Future, ThreadPoolExecutor
from contextlib import suppress
from dataclasses import replace
from typing import Any, TypeVar

from wexagraph.errors import FolderError, MessageError, SourceError
from wexagraph.messages.dates import parse_date
from wexagraph.messages.headers import LISTED, Header
from wexagraph.sources.accounts import Account, Login, steers_no_line
from wexagraph.sources.base import WHOLE, Envelope, Leaf, Partition, Source, Trouble, Wanted, bounded, is_of
from wexagraph.sources.imap.connection import Connection, Dropped, Refused, quoted
from wexagraph.sources.imap.folders import Folder, Folders, Namespace, namespaces
from wexagraph.sources.imap.responses import fetched, leaves, may_hide, number_set, numbers, parse

P = TypeVar("P")
R = TypeVar("R")

_ENVELOPE = f"(UID FLAGS INTERNALDATE RFC822.SIZE BODY.PEEK[HEADER.FIELDS ({' '.join(LISTED).upper()})])"
_OUTLINE = "(UID FLAGS INTERNALDATE RFC822.SIZE)"
_PROOF = "MESSAGE-ID DATE FROM SUBJECT"
_BODY = f"(UID INTERNALDATE RFC822.SIZE BODY.PEEK[HEADER.FIELDS ({_PROOF})] BODY.PEEK[])"
_ENVELOPES, _OUTLINES = 2000, 20_000
_BATCH_BYTES, _BATCH_MESSAGES = 4 * 1024 * 1024, 500
_MOST_KEPT = 64 * 1024 * 1024
_TRIES = 4
_GONE = "the server does not deliver this message"
_OTHER = "the server delivers another message than the one that it has listed"


class ImapSource(Source):
    """An account, or one folder of it and what is below. Raises SourceError where no line can be had."""

    searches = True
    moves = False
    lists_apart = True

    def __init__(self, account: Account, login: Login) -> None:
        super().__init__(location=account.url, kind="IMAP")
        self.account, self.line = account, Connection(account, login)
        self.all_folders = Folders()
        self._structures: dict[tuple[str, str], tuple[list[Leaf], bool]] = {}
        self._kept: dict[tuple[str, str], bytes] = {}
        self._kept_bytes = 0  # of all that were ever kept: what is read on the line takes them meanwhile
        self._chunk: tuple[str, list[int]] = ("", [])
        self._validity: dict[str, str] = {}
        self._ahead = ThreadPoolExecutor(1, "line")
        try:
            self._list()
        except BaseException:
            self.close()
            raise

    def close(self) -> None:
        self._ahead.shutdown(wait=False, cancel_futures=True)
        self.line.close()

    # folders

    def folders(self) -> list[str]:
        return sorted(one.name for one in self.all_folders if not one.flags & {"noselect", "nonexistent"})

    def folder(self, name: str) -> Folder:
        """A folder by its name for people. Raises FolderError where it is not there any more."""
        folder = self.all_folders.get(name)
        if folder is None:
            raise FolderError(name, "it is not on the server any more")
        return folder

    def _list(self) -> None:
        def ask(client: imaplib.IMAP4) -> tuple[Namespace | None, list[Any]]:
            personal, others = None, list[str]()
            if "NAMESPACE" in self.line.capabilities:
                kind, data = client.namespace()
                personal, others = namespaces(data) if kind == "OK" else (None, [])
            answers = []
            # a list of all may leave out other people's and shared folders (RFC 2342)
            for reference in ["", *filter(steers_no_line, others)]:
                kind, data = client.list(quoted(reference), '"*"')  # type: ignore[arg-type]
                answers += self.line.checked(kind, data)
            return personal, answers

        try:
            personal, items = self.line.call(ask)
        except Refused as error:
            raise SourceError(f"{self.account.host} does not list its folders: {error}.") from error
        self.all_folders = Folders(personal)
        for name in self.all_folders.add_all(items):
            self.troubles.append(Trouble(name, "its name holds characters that no name has"))
        only = self.account.folder
        if only and not self.all_folders.narrow(only):
            raise SourceError(
                f"{self.account.name} has no folder {only!r}. Leave it out, and `wexagraph folders` lists all."
            )

    def make_folder(self, name: str, client: imaplib.IMAP4) -> tuple[Folder, bool]:
        """A folder, made where it is not there yet and shown by mail programs; and whether it was made now. Raises
        Refused."""
        folder = self.all_folders.named(name)
        if folder.exists:
            return folder, False
        kind, answer = "NO", [b""]
        for raw in self.all_folders.spellings(name):
            kind, answer = client.create(quoted(raw))  # type: ignore[arg-type]
            if kind == "OK" or b"EXISTS" in (answer[0] or b"").upper():
                with suppress(imaplib.IMAP4.error):  # a server that knows no subscriptions shows all
                    client.subscribe(quoted(raw))  # type: ignore[arg-type]
                return self.all_folders.add(replace(folder, raw=raw, flags=frozenset())), kind == "OK"
        self.line.checked(kind, answer)
        raise Refused("it says nothing")

    def size(self, folder: str) -> int:
        return 0

    # envelopes

    def folder_stamp(self, folder: str) -> str:
        """UIDVALIDITY, UIDNEXT, number and, where the server counts changes (RFC 7162), HIGHESTMODSEQ: one STATUS."""
        if "CONDSTORE" not in self.line.capabilities and "QRESYNC" not in self.line.capabilities:
            return ""  # flags may have changed without any sign

        def ask(client: imaplib.IMAP4) -> list[Any]:
            items = "(MESSAGES UIDNEXT UIDVALIDITY HIGHESTMODSEQ)"
            return self.line.checked(*client.status(quoted(self.folder(folder).raw), items))  # type: ignore[arg-type]

        try:
            parsed = parse(self.line.call(ask))
        except Refused:
            return ""
        states = next((part for part in parsed if isinstance(part, list)), [])
        words = [word.decode("latin-1") if isinstance(word, bytes) else "" for word in states]
        return " ".join(sorted(f"{name} {value}" for name, value in zip(words[::2], words[1::2], strict=False)))

    def lying(self, folder: str) -> Iterator[Envelope]:
        for uid in self._uids(folder, None):
            yield _envelope(folder, uid, self._validity[folder], {})

    def outline(self, folder: str, share: Partition = WHOLE) -> Iterator[Envelope]:
        chunks = _chunks(self._uids(folder, None), _OUTLINES)
        for _, answers in self._overlapped(chunks, lambda uids: self._fetch(folder, uids, _OUTLINE)):
            for answer in answers:
                yield _envelope(folder, int(answer["UID"]), self._validity[folder], answer)

    def envelopes(self, folder: str, share: Partition = WHOLE, wanted: Wanted | None = None) -> Iterator[Envelope]:
        uids = self._uids(folder, wanted)
        validity = self._validity[folder]
        if wanted is not None and wanted.ids is not None:
            blank = Header(b"")
            uids = [uid for uid in uids if Envelope(folder, _place(uid), 0, blank).id in wanted.ids]
        chunks = _chunks(uids, _ENVELOPES)
        for chunk, answers in self._overlapped(chunks, lambda uids: self._fetch(folder, uids, _ENVELOPE)):
            known = {int(answer["UID"]): answer for answer in answers}
            self._chunk = (folder, chunk)
            self._structures.clear()
            for uid in chunk:
                if uid in known:  # else it was removed while we listed
                    yield _envelope(folder, uid, validity, known[uid])

    def _uids(self, folder: str, wanted: Wanted | None) -> list[int]:
        program = wanted.program if wanted is not None and wanted.program else ("ALL",)

        def ask(client: imaplib.IMAP4) -> list[Any]:
            self._note_validity(folder)
            keys = [key for key in program if isinstance(key, str)]
            beyond = [key for key in program if isinstance(key, bytes)]
            results = ("RETURN", "(ALL)") if "ESEARCH" in self.line.capabilities else ()
            if beyond:
                # one literal at the end: its key stands last in the program
                client.literal = beyond[0]  # type: ignore[assignment]
                data = self.line.search(client, *results, "CHARSET", "UTF-8", *keys)
            else:
                data = self.line.search(client, *results, *keys)
            return client.response("ESEARCH")[1] if results else data

        raw = self.folder(folder).raw
        try:
            return numbers(self.line.call(ask, raw))
        except ValueError as error:
            raise FolderError(folder, str(error)) from error
        except Refused as error:
            if program == ("ALL",):
                raise FolderError(folder, f"the server says: {error}") from error
            # what this server does not know, or is too slow at: our own tests find the messages
            simpler = (
                tuple(key for key in program[:-2] if isinstance(key, str)) if isinstance(program[-1], bytes) else ()
            )
            return self._uids(folder, Wanted(simpler, None))

    def _note_validity(self, folder: str) -> None:
        before = self._validity.setdefault(folder, self.line.validity)
        if before != self.line.validity:
            raise SourceError(
                f"{self.account.name}: the folder {folder} was made anew on the server while it was read. "
                "Run the same command again."
            )

    def _fetch(self, folder: str, uids: list[int], what: str) -> list[dict[str, Any]]:
        def ask(client: imaplib.IMAP4) -> list[dict[str, Any]]:
            self._note_validity(folder)
            return list(fetched(self.line.ask(client, "FETCH", number_set(uids), what)))

        try:
            return self.line.call(ask, self.folder(folder).raw)
        except Refused as error:
            if len(uids) == 1:
                self.troubles.append(Trouble(f"{folder}, message {uids[0]}", f"the server says: {error}"))
                return []
            middle = len(uids) // 2  # one bad message must not hide the others
            return self._fetch(folder, uids[:middle], what) + self._fetch(folder, uids[middle:], what)

    def attachments(self, envelope: Envelope) -> list[Leaf]:
        return self._structure(envelope)[0]

    def may_hide(self, envelope: Envelope) -> bool:
        return self._structure(envelope)[1]

    def _structure(self, envelope: Envelope) -> tuple[list[Leaf], bool]:
        key = (envelope.folder, envelope.place)
        if key not in self._structures:
            folder, chunk = self._chunk
            uid = int(envelope.place)
            asked = chunk if folder == envelope.folder and uid in chunk and not self._structures else [uid]
            for answer in self._fetch(envelope.folder, asked, "(UID BODYSTRUCTURE)"):
                structure = answer.get("BODYSTRUCTURE")
                place = _place(int(answer["UID"]))
                self._structures[(envelope.folder, place)] = leaves(structure), may_hide(structure)
            self._structures.setdefault(key, ([], True))
        return self._structures[key]

    # bytes

    def keep(self, envelope: Envelope, data: bytes) -> None:
        self._kept_bytes += len(data)
        if self._kept_bytes <= _MOST_KEPT:
            self._kept[envelope.folder, envelope.place] = data

    def read(self, envelope: Envelope) -> bytes:
        body = self._bodies(envelope.folder, [envelope])[envelope.place]
        if isinstance(body, MessageError):
            raise body
        return body

    def read_many(self, envelopes: Iterable[Envelope]) -> Iterator[tuple[Envelope, bytes | MessageError]]:
        """Bytes of many messages in their order, fetched in batches."""
        batches = bounded(envelopes, _BATCH_MESSAGES, _BATCH_BYTES)
        for batch, bodies in self._overlapped(batches, lambda batch: self._bodies(batch[0].folder, batch)):
            for envelope in batch:
                yield envelope, bodies.pop(envelope.place)

    def _overlapped(self, pieces: Iterable[list[P]], fetch: Callable[[list[P]], R]) -> Iterator[tuple[list[P], R]]:
        """Each piece with what was fetched of it; one is on its way while the last is used."""
        ahead: tuple[list[P], Future[R]] | None = None
        for piece in pieces:  # drawn up here, in the caller's thread; only the line is another's
            following = (piece, self._ahead.submit(fetch, piece))
            if ahead is not None:
                yield ahead[0], ahead[1].result()
            ahead = following
        if ahead is not None:
            yield ahead[0], ahead[1].result()

    def _bodies(self, folder: str, batch: list[Envelope]) -> dict[str, bytes | MessageError]:
        """The bytes by place. A line that breaks is mended, and what it broke on is asked for in smaller pieces."""
        bodies: dict[str, bytes | MessageError] = {
            each.place: self._kept.pop((folder, each.place)) for each in batch if (folder, each.place) in self._kept
        }
        waiting = [left] if (left := [each for each in batch if each.place not in bodies]) else []
        tries = 0
        while waiting:
            piece = waiting.pop()
            try:
                data = self._ask_bodies(folder, piece)
            except Dropped as error:
                tries = tries + 1 if len(piece) == 1 else 0
                if tries >= _TRIES:
                    bodies[piece[0].place] = MessageError(f"the line broke on it {tries} times: {error}")
                    tries = 0
                    continue
                self.line.wait(error)
                waiting += _halves(piece)
                continue
            except Refused as error:
                if len(piece) == 1:
                    bodies[piece[0].place] = MessageError(f"{_GONE}: {error}")
                else:
                    waiting += _halves(piece)
                continue
            self.line.progress()
            for envelope in piece:
                if envelope.place in data:
                    bodies[envelope.place] = _fitting(envelope, data[envelope.place], self._validity[folder])
                elif len(piece) > 1:
                    waiting.append([envelope])
                else:
                    bodies[envelope.place] = MessageError(f"{_GONE}; it may have been removed meanwhile")
        return bodies

    def _ask_bodies(self, folder: str, batch: list[Envelope]) -> dict[str, dict[str, Any]]:
        def ask(client: imaplib.IMAP4) -> dict[str, dict[str, Any]]:
            self._note_validity(folder)
            uids = sorted(int(envelope.place) for envelope in batch)
            answers = fetched(self.line.ask(client, "FETCH", number_set(uids), _BODY))
            return {_place(int(a["UID"])): a for a in answers if isinstance(a.get("BODY[]"), bytes)}

        if self.all_folders.get(folder) is None:
            raise Refused(f"the folder {folder} is not there any more")
        return self.line.once(ask, self.folder(folder).raw)


def _chunks(uids: list[int], size: int) -> list[list[int]]:
    return [uids[at : at + size] for at in range(0, len(uids), size)]


def _halves(piece: list[Envelope]) -> list[list[Envelope]]:
    middle = len(piece) // 2
    return [half for half in (piece[middle:], piece[:middle]) if half]


def _place(uid: int) -> str:
    return f"{uid:010d}"


def _envelope(folder: str, uid: int, validity: str, answer: dict[str, Any]) -> Envelope:
    flags = [
        flag.decode("latin-1").lower().lstrip("\\") for flag in answer.get("FLAGS") or () if isinstance(flag, bytes)
    ]
    arrived = answer.get("INTERNALDATE")
    size = answer.get("RFC822.SIZE") or b"0"
    return Envelope(
        folder=folder,
        place=_place(uid),
        size=int(size) if isinstance(size, bytes) and size.isdigit() and len(size) < 16 else 0,
        header=Header((answer.get("HEADER") or b"").replace(b"\r\n", b"\n")),
        stamp=stamp_of(validity, answer),
        flags=frozenset(flag for flag in flags if flag != "recent"),
        arrived=parse_date(arrived.decode("latin-1").strip()) if isinstance(arrived, bytes) else None,
    )


def stamp_of(validity: str, answer: dict[str, Any]) -> str:
    """What a message is known by besides its UID: the folder's UIDVALIDITY, its size and when it arrived. A server that
    gives a UID to another message breaks the protocol, and is found out."""
    size, arrived = (
        value.decode("latin-1").strip() if isinstance(value := answer.get(name), bytes) else ""
        for name in ("RFC822.SIZE", "INTERNALDATE")
    )
    return f"uidvalidity {validity}; {size}; {arrived}"


def _fitting(envelope: Envelope, answer: dict[str, Any], validity: str) -> bytes | MessageError:
    """The bytes of a message, where they fit what was listed of it: arrival, and what its header says."""
    data: bytes = answer["BODY[]"]
    if envelope.stamp and isinstance(answer.get("INTERNALDATE"), bytes):
        validity_then, _, arrived_then = envelope.stamp.split("; ", 2)  # the size may be a guess until it is read
        validity_now, _, arrived_now = stamp_of(validity, answer).split("; ", 2)
        if (validity_then, arrived_then) != (validity_now, arrived_now):
            return MessageError(_OTHER)
    for fields in (answer.get("HEADER") or b"", envelope.header.block):
        if not is_of(fields, data):
            return MessageError(_OTHER)
    if (
        not isinstance(answer.get("HEADER"), bytes)
        and not envelope.header.block
        and envelope.size not in (0, len(data))
    ):
        return MessageError(_OTHER)
    return data
