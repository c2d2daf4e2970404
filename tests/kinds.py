"""Every kind of source, with the same messages in it: for what all kinds have to keep."""

from __future__ import annotations

import zipfile
from collections.abc import Iterator
from contextlib import ExitStack, contextmanager
from dataclasses import replace
from pathlib import Path

from tests.desktop_mail import Letter, msg, pst
from tests.desktop_mail import letter as desktop_letter
from tests.dovecot import INSTALLED, PASSWORD, USER, Dovecot
from tests.helpers import letter, mbox
from wexagraph.app.opening import open_source
from wexagraph.backups.topup import backup
from wexagraph.messages.mapi.compound import in_memory
from wexagraph.messages.mapi.mail import mail_of
from wexagraph.messages.mapi.msg import read_item
from wexagraph.sources.accounts import Account, Secret, parse_url
from wexagraph.sources.base import Source

MESSAGES = [
    letter("Berth 4"),
    letter("Tide: notice", sender="Möwe <m@saltmere.example>", body="From the quay\n\n>From below\nä\n"),
    letter("A letter that is long", body="A line of the pilot's log.\n" * 3000),
    letter("No date", date="", more="X-Odd: \xff\n"),
    letter("Berth 4", body="Another of that name.\n"),
]
IN_FILES = ("eml", "emls", "mbox", "mboxes", "maildir", "zip", "msgs", "pst", "mmdf", "babyl")
APART = ("mbox", "msgs", "pst", "mmdf", "babyl")
"""Kinds whose sizes are those of what a message is kept in."""
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
    elif kind == "msgs":
        place.mkdir()
        for number, each in enumerate(DESKTOP):
            (place / f"{number}.msg").write_bytes(msg(each))
    elif kind == "pst":
        place = place.with_suffix(".pst")
        pst(place, {"Berths": DESKTOP[:3], "Berths/below": DESKTOP[3:]})
    elif kind == "mmdf":
        mark = b"\1\1\1\1\n"
        place.write_bytes(b"".join(mark + data + mark for data in MESSAGES))
    elif kind == "babyl":
        place.write_bytes(b"BABYL OPTIONS:\nVersion: 5\n\x1f" + b"".join(map(_babyl, MESSAGES)))
    return place


def _babyl(data: bytes) -> bytes:
    header, _, body = data.partition(b"\n\n")
    shown = next(line for line in header.split(b"\n") if line.startswith(b"From:"))
    return b"\x0c\n1,,\n" + header + b"\n\n*** EOOH ***\n" + shown + b"\n\n" + body + b"\x1f"


def _as_letter(data: bytes) -> Letter:
    """A message as desktop programs keep it, with the header that it came with."""
    header, _, body = data.decode("utf-8").partition("\n\n")
    fields = dict(line.split(": ", 1) for line in header.split("\n"))
    return desktop_letter(fields["Subject"], body, header=header + "\n\n", people=())


DESKTOP = [_as_letter(data) for data in MESSAGES]


def crlf(data: bytes) -> bytes:
    """As a server keeps a message."""
    return data.replace(b"\r\n", b"\n").replace(b"\n", b"\r\n")


def expected(kind: str) -> list[bytes]:
    """The bytes of the messages as a source of that kind has them."""
    if kind in ("msgs", "pst"):
        return [made(each, kind) for each in DESKTOP]
    messages = MESSAGES[:1] if kind == "eml" else MESSAGES
    return [crlf(data) for data in messages] if kind in ON_A_LINE else list(messages)


def made(each: Letter, kind: str) -> bytes:
    """The bytes that a letter becomes in a kind of desktop mail."""
    file = msg(each)
    if kind == "msgs":
        return mail_of(read_item(in_memory(file)), file)
    return mail_of(read_item(in_memory(file))).replace(b"Wexagraph-Made-From: msg", b"Wexagraph-Made-From: pst")


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
        contents = [
            path
            for path in (
                self.folder / kind,
                self.folder / f"{kind}.eml",
                self.folder / f"{kind}.zip",
                self.folder / f"{kind}.pst",
            )
            if path.exists()
        ]
        return contents[0] if contents else make(kind, self.folder)

    @contextmanager
    def opened(self, kind: str) -> Iterator[Source]:
        with ExitStack() as stack:
            yield stack.enter_context(open_source(self.place(kind), login=lambda account, again: Secret(PASSWORD)))
