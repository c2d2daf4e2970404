"""The one place that changes messages of an account: marking, moving and deleting, by UID and only when asked."""

from __future__ import annotations

import hashlib
import imaplib
import re
from collections.abc import Iterable
from contextlib import suppress
from dataclasses import dataclass

from wexagraph.errors import CallError, SourceError
from wexagraph.sources.base import Stored
from wexagraph.sources.imap.connection import Refused, quoted
from wexagraph.sources.imap.folders import Folder
from wexagraph.sources.imap.responses import fetched, number_set
from wexagraph.sources.imap.source import ImapSource

_BATCH = 200
_PIECE_BYTES = 8 * 1024 * 1024
_NOT_THE_SAME = "what lies there now is not what is stored"


@dataclass(frozen=True)
class Afterwards:
    """What is done at the source with messages that are safely stored: `kind` seen, keyword, move or delete."""

    kind: str
    value: str = ""

    @classmethod
    def parse(cls, text: str) -> Afterwards:
        """`seen`, `keyword:WORD`, `move:FOLDER` or `delete`. Raises CallError."""
        kind, colon, value = text.partition(":")
        if kind not in ("seen", "keyword", "move", "delete"):
            raise CallError(f"{text!r} is nothing to do afterwards. Write seen, keyword:WORD, move:FOLDER or delete.")
        if bool(colon and value) is not (kind in ("keyword", "move")):
            raise CallError(f"{text!r}: write seen, keyword:WORD, move:FOLDER or delete.")
        if kind == "keyword" and not re.fullmatch(r"[A-Za-z0-9$_.+-]{1,60}", value):
            raise CallError(f"{value!r} is not a keyword (RFC 9051): letters, digits and $_.+- only.")
        return cls(kind, value)

    def checked(self, keeps_messages: bool) -> Afterwards:
        """The same. Raises CallError where messages would go of which parts alone are stored."""
        if self.kind == "delete" and not keeps_messages:
            raise CallError(
                "attachments alone do not keep a message, nor do those that it carried: --afterwards delete goes with "
                "export and backup of whole messages."
            )
        return self

    def description(self, count: int, account: str) -> str:
        """What is wished, in words."""
        messages = f"{count:,} message{'s' * (count != 1)}"
        return {
            "seen": f"mark {messages} as seen at {account}",
            "keyword": f"give {messages} at {account} the keyword {self.value}",
            "move": f"move {messages} at {account} to the folder {self.value}",
            "delete": f"delete {messages} at {account}",
        }[self.kind]

    @property
    def done(self) -> str:
        """What was done, behind "11 messages"."""
        return {
            "seen": "marked as seen",
            "keyword": f"given the keyword {self.value}",
            "move": f"moved to {self.value}",
            "delete": "deleted",
        }[self.kind]


class Changes:
    """Changes messages of an account. A message is named by its folder, UID and the folder's UIDVALIDITY."""

    def __init__(self, source: ImapSource, wish: Afterwards) -> None:
        self._source, self.wish, self._line = source, wish, source.line
        self.target: Folder | None = None
        if wish.kind == "move":
            self.target = source.all_folders.named(wish.value)
        elif wish.kind == "delete":
            self.target = source.all_folders.trash()

    @property
    def account(self) -> str:
        """Whose messages they are, for people."""
        return self._source.account.name

    def description(self, folders: dict[str, int]) -> str:
        """What will be done with so many messages of these folders, in words."""
        said = self.wish.description(sum(folders.values()), self.account)
        if self.wish.kind != "delete":
            return said
        if self.target is None:
            return f"{said} for good (the account has no folder for what is deleted)"
        for_good = folders.get(self.target.name, 0)
        more = f"; {for_good:,} that are there already go for good" if for_good else ""
        return f"{said} (they go to the folder {self.target.name}{more})"

    def apply(self, messages: Iterable[Stored]) -> tuple[int, list[tuple[str, str]]]:
        """Change these messages, once their bytes were fetched again and found to be what is stored.

        Returns how many were changed, and those that were left alone: where, and why. Raises SourceError; what was
        changed stays changed.
        """
        folders: dict[tuple[str, str], dict[int, str]] = {}
        for folder, place, stamp, digest in messages:
            folders.setdefault((folder, stamp.partition(";")[0]), {})[int(place)] = digest
        done, spared = 0, list[tuple[str, str]]()
        for (folder, validity), digests in folders.items():
            done += self._apply(folder, validity, digests, spared)
        return done, spared

    def _apply(self, folder: str, validity: str, digests: dict[int, str], spared: list[tuple[str, str]]) -> int:
        raw = self._source.folder(folder).raw
        at_target = self.target is not None and self.target.raw == raw
        if at_target and self.wish.kind == "move":
            return 0  # already where it would go
        moves = self.target is not None and not at_target  # in the trash, deleting is for good
        done = 0
        uids = sorted(digests)
        for at in range(0, len(uids), _BATCH):
            piece = uids[at : at + _BATCH]

            def change(client: imaplib.IMAP4, piece: list[int] = piece) -> list[int]:
                if f"uidvalidity {self._line.validity}" != validity:
                    raise SourceError(f"the folder {folder} was made anew on the server; nothing in it is changed.")
                same = self._same(client, piece, digests)
                if same:
                    self._change(client, number_set(same), moves)
                return same

            try:
                changed = self._line.call(change, raw, writing=True)
            except Refused as error:
                raise SourceError(
                    f"the server refuses to {self.wish.description(len(piece), self._source.account.name)}: {error}."
                ) from error
            done += len(changed)
            spared += [(f"{folder}, message {uid}", _NOT_THE_SAME) for uid in sorted(set(piece) - set(changed))]
        return done

    def _same(self, client: imaplib.IMAP4, uids: list[int], digests: dict[int, str]) -> list[int]:
        """Those of the messages whose bytes, fetched on this very line, are what is stored."""
        sizes = fetched(self._line.ask(client, "FETCH", number_set(uids), "(UID RFC822.SIZE)"))
        known = {int(answer["UID"]): int(answer.get("RFC822.SIZE") or 0) for answer in sizes}
        same: list[int] = []
        piece: list[int] = []
        held = 0
        for uid in [*(uid for uid in uids if uid in known), None]:
            if piece and (uid is None or held + known[uid] > _PIECE_BYTES):
                for answer in fetched(self._line.ask(client, "FETCH", number_set(piece), "(UID BODY.PEEK[])")):
                    body, number = answer.get("BODY[]"), int(answer["UID"])
                    if isinstance(body, bytes) and hashlib.sha256(body).hexdigest() == digests.get(number):
                        same.append(number)
                piece, held = [], 0
            if uid is not None:
                piece.append(uid)
                held += known[uid]
        return sorted(set(same) & set(uids))

    def _change(self, client: imaplib.IMAP4, which: str, moves: bool) -> None:
        ask, wish = self._line.ask, self.wish
        if wish.kind == "seen":
            ask(client, "STORE", which, "+FLAGS.SILENT", "(\\Seen)")
        elif wish.kind == "keyword":
            if not {"\\*", wish.value.lower()} & set(self._line.lasting_flags):
                raise Refused(f"it keeps no keyword {wish.value} in this folder (PERMANENTFLAGS)")
            ask(client, "STORE", which, "+FLAGS.SILENT", f"({wish.value})")
        elif moves:
            self._move(client, which)
        else:
            self._needs_uidplus()
            self._expunge(client, which)

    def _move(self, client: imaplib.IMAP4, which: str) -> None:
        assert self.target is not None
        can_move = "MOVE" in self._line.capabilities
        if not can_move:
            self._needs_uidplus()
        missing = self.target
        self.target, is_new = self._source.make_folder(missing.name, client)
        try:
            self._line.ask(client, "MOVE" if can_move else "COPY", which, quoted(self.target.raw))
        except (Refused, imaplib.IMAP4.error):
            if is_new:
                self._take_back(client, self.target)
                self.target = self._source.all_folders.add(missing)
            raise
        if not can_move:
            self._expunge(client, which)

    def _take_back(self, client: imaplib.IMAP4, folder: Folder) -> None:
        """Remove a folder that was made for nothing, unless somebody else has put mail into it meanwhile."""
        with suppress(imaplib.IMAP4.error):
            kind, data = client.status(quoted(folder.raw), "(MESSAGES)")  # type: ignore[arg-type]
            if kind == "OK" and data and (data[0] or b"").rstrip().upper().endswith(b"(MESSAGES 0)"):
                client.delete(quoted(folder.raw))  # type: ignore[arg-type]

    def _needs_uidplus(self) -> None:
        if "UIDPLUS" not in self._line.capabilities:
            # a bare EXPUNGE would also take what somebody else has marked
            raise Refused("it can remove single messages only all together (no UIDPLUS, RFC 4315)")

    def _expunge(self, client: imaplib.IMAP4, which: str) -> None:
        self._line.ask(client, "STORE", which, "+FLAGS.SILENT", "(\\Deleted)")
        self._line.ask(client, "EXPUNGE", which)
