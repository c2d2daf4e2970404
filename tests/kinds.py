"""Every kind of source, with the same messages in it: for what all kinds have to keep."""

from __future__ import annotations

import zipfile
from collections.abc import Iterator
from contextlib import ExitStack, contextmanager
from dataclasses import replace
from pathlib import Path

from tests.dovecot import INSTALLED, PASSWORD, USER, Dovecot
from tests.helpers import letter, mbox
from wexagraph.app.opening import open_source
from wexagraph.backups.topup import backup
from wexagraph.sources import Account, Secret, Source, parse_url

MESSAGES = [
    letter("Berth 4"),
    letter("Tide: notice", sender="Möwe <m@saltmere.example>", body="From the quay\n\n>From below\nä\n"),
    letter("A letter that is long", body="A line of the pilot's log.\n" * 3000),
    letter("No date", date="", more="X-Odd: \xff\n"),
    letter("Berth 4", body="Another of that name.\n"),
]
IN_FILES = ("eml", "emls", "mbox", "mboxes", "maildir", "zip")
ON_A_LINE = ("imap", "pop")
ALL = (*IN_FILES, "backup", *(ON_A_LINE if INSTALLED else ()))


def make(kind: str, folder: Path) -> Path:
    """A mailbox of a kind in files, with the messages (`eml`: the first alone)."""
    place = folder / kind
    if kind == "eml":
        place = place.with_suffix(".eml")
        place.write_bytes(MESSAGES[0])
    elif kind == "emls":
        (place / "below").mkdir(parents=True)
        for number, data in enumerate(MESSAGES):
            (place / ("below" if number > 2 else "") / f"{number}.eml").write_bytes(data)
    elif kind == "mbox":
        place.write_bytes(mbox(*MESSAGES))
    elif kind == "mboxes":
        (place / "below").mkdir(parents=True)
        (place / "one.mbox").write_bytes(mbox(*MESSAGES[:3]))
        (place / "below/two").write_bytes(mbox(*MESSAGES[3:]))
    elif kind == "maildir":
        for below in ("cur", "new", "tmp"):
            (place / below).mkdir(parents=True)
        for number, data in enumerate(MESSAGES):
            name = f"cur/1773500{number}.quay:2,S" if number % 2 else f"new/1773500{number}.quay"
            (place / name).write_bytes(data)
    elif kind == "zip":
        place = place.with_suffix(".zip")
        with zipfile.ZipFile(place, "w", zipfile.ZIP_DEFLATED) as archive:
            for number, data in enumerate(MESSAGES):
                archive.writestr(f"{'below/' * (number > 2)}{number}.eml", data)
    return place


def crlf(data: bytes) -> bytes:
    """As a server keeps a message."""
    return data.replace(b"\r\n", b"\n").replace(b"\n", b"\r\n")


def expected(kind: str) -> list[bytes]:
    """The bytes of the messages as a source of that kind has them."""
    messages = MESSAGES[:1] if kind == "eml" else MESSAGES
    return [crlf(data) for data in messages] if kind in ON_A_LINE else list(messages)


class Kinds:
    """Makes sources of all kinds in a folder, with one server for those on a line. Use it as a context manager."""

    def __init__(self, folder: Path) -> None:
        self.folder, self.server = folder, Dovecot() if INSTALLED else None
        if self.server is not None:
            self.server.fill("INBOX", MESSAGES)

    def close(self) -> None:
        if self.server is not None:
            self.server.close()

    def account(self, scheme: str) -> Account:
        assert self.server is not None
        port = self.server.imaps if scheme == "imaps" else self.server.pops
        url = f"{scheme}://{USER}@localhost:{port}/"
        return replace(parse_url(url), authority=str(self.server.authority))

    def place(self, kind: str) -> Path | Account:
        """Where a source of that kind lies; made if need be."""
        if kind in ON_A_LINE:
            return self.account("imaps" if kind == "imap" else "pops")
        if kind == "backup":
            place = self.folder / "backup"
            if not place.exists():
                with open_source(self._in_files("emls")) as source:
                    backup(source, place)
            return place
        return self._in_files(kind)

    def _in_files(self, kind: str) -> Path:
        found = [
            path
            for path in (self.folder / kind, self.folder / f"{kind}.eml", self.folder / f"{kind}.zip")
            if path.exists()
        ]
        return found[0] if found else make(kind, self.folder)

    @contextmanager
    def opened(self, kind: str) -> Iterator[Source]:
        with ExitStack() as stack:
            yield stack.enter_context(open_source(self.place(kind), login=lambda account, again: Secret(PASSWORD)))
