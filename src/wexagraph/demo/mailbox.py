"""The demo mailbox on the disk: an mbox, a Maildir with folders, and a folder of EML files."""

from __future__ import annotations

import os
import re
from collections.abc import Iterable
from dataclasses import dataclass, field
from datetime import UTC, datetime
from email.utils import parsedate_to_datetime
from pathlib import Path

from wexagraph.demo import letters
from wexagraph.demo.hard import hard, mislabelled
from wexagraph.demo.kinds import kinds
from wexagraph.demo.unusual import unusual

_FALLBACK = datetime(2026, 9, 5, 12, 0, tzinfo=UTC)


@dataclass
class DemoMailbox:
    """Where the demo mailbox lies, and the bytes of its messages by the source's folder names."""

    path: Path
    messages: dict[str, list[bytes]] = field(default_factory=dict)

    @property
    def count(self) -> int:
        return sum(map(len, self.messages.values()))


def make_mailbox(folder: Path) -> DemoMailbox:
    """Make the demo mailbox in `folder`. Every making gives the same files. Raises OSError."""
    made = DemoMailbox(folder)
    folder.mkdir(parents=True, exist_ok=True)
    made.messages["harbour"] = [*letters.notices(), *letters.berthing(), *hard(), *unusual(), *mislabelled()]
    _write_mbox(folder / "harbour.mbox", made.messages["harbour"])
    maildir = folder / "desk"
    made.messages["desk"] = letters.quarrel()
    made.messages["desk/Berths/East"] = letters.with_files()
    made.messages["desk/Attachments"] = kinds()
    made.messages["desk/Übersee"] = letters.scripts()
    _write_maildir(maildir, made.messages["desk"], "S")
    _write_maildir(maildir / ".Berths.East", made.messages["desk/Berths/East"], "FS")
    _write_maildir(maildir / ".Attachments", made.messages["desk/Attachments"], "S")
    _write_maildir(maildir / ".&ANw-bersee", made.messages["desk/Übersee"], "")
    made.messages["letters"] = letters.newsletters()
    _write_files(folder / "letters", made.messages["letters"])
    return made


def _write_mbox(path: Path, messages: Iterable[bytes]) -> None:
    with open(path, "wb") as file:
        for data in messages:
            moment = _date(data)
            quoted = re.sub(rb"(?m)^(>*From )", rb">\1", data)
            file.write(b"From saltmere@mail.example " + moment.strftime("%a %b %d %H:%M:%S %Y\n").encode())
            file.write(quoted + (b"\n" if quoted.endswith(b"\n") else b"\n\n"))


def _write_maildir(path: Path, messages: Iterable[bytes], flags: str) -> None:
    for name in ("cur", "new", "tmp"):
        (path / name).mkdir(parents=True, exist_ok=True)
    for number, data in enumerate(messages, 1):
        moment = _date(data)
        unique = f"{int(moment.timestamp())}.M{number:06d}.mail.saltmere.example"
        place = path / "cur" / f"{unique}:2,{flags}" if flags else path / "new" / unique
        place.write_bytes(data)
        os.utime(place, (moment.timestamp(), moment.timestamp()))


def _write_files(path: Path, messages: Iterable[bytes]) -> None:
    path.mkdir(parents=True, exist_ok=True)
    for number, data in enumerate(messages, 1):
        (path / f"{number:03d}.eml").write_bytes(data)


def _date(data: bytes) -> datetime:
    match = re.search(rb"(?m)^Date: (.+)$", data.partition(b"\n\n")[0])
    try:
        return parsedate_to_datetime(match[1].decode("latin-1")).astimezone(UTC) if match else _FALLBACK
    except ValueError:
        return _FALLBACK
