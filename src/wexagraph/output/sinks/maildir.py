"""A Maildir."""

from __future__ import annotations

import hashlib
import re
from pathlib import Path

from wexagraph.errors import TargetError
from wexagraph.naming.paths import clean, component, cut
from wexagraph.output.sinks.base import Delivery, Sink, digests_in, opened, write_whole
from wexagraph.sources.maildir import maildir_name
from wexagraph.sources.utf7 import encode_utf7

_FOLDERS = ("cur", "new", "tmp")
_MOST_NAME = 240
_MAILDIR_FLAGS = {"draft": "D", "flagged": "F", "$forwarded": "P", "answered": "R", "seen": "S", "deleted": "T"}


class MaildirSink(Sink):
    """A Maildir with Maildir++ folders; flags stand in the names, a file's time is when its message arrived."""

    def __init__(self, path: Path, empty: Path | None = None) -> None:
        if path.exists() and not path.is_dir():
            raise TargetError(f"{path} is a file, and no Maildir.")
        self._root = opened(path, empty)
        if empty is None:
            for below in _FOLDERS:
                self._root.make_folder(below)
        self._there = digests_in(path)

    def has(self, delivery: Delivery) -> bool:
        return delivery.digest in self._there.get(maildir_name(self._place(delivery)), set())

    def _place(self, delivery: Delivery) -> str:
        """The folder's own folder in the Maildir; "" for the Maildir itself."""
        name = delivery.envelope.folder
        return _maildir_folder(name) if name.upper() != "INBOX" else ""

    def where(self, delivery: Delivery) -> str:
        name = self._place(delivery)
        letters = "".join(sorted(_MAILDIR_FLAGS[flag] for flag in delivery.envelope.flags if flag in _MAILDIR_FLAGS))
        return f"{name}/" * bool(name) + f"cur/{_unique(delivery)}:2,{letters}"

    def put(self, delivery: Delivery) -> None:
        name = self._place(delivery)
        place = f"{name}/" if name else ""
        for below in _FOLDERS:
            self._root.make_folder(f"{place}{below}")
        write_whole(self._root, f"{place}tmp/{_unique(delivery)}", self.where(delivery), delivery)
        self._there.setdefault(maildir_name(name), set()).add(delivery.digest)

    def close(self, whole: bool) -> None:
        self._root.close()


def _unique(delivery: Delivery) -> str:
    """The name of the message, its flags apart."""
    moment = int(delivery.moment.timestamp()) if delivery.moment else 0
    return f"{max(moment, 0)}.{delivery.digest[:20]}.restored"


def _maildir_folder(name: str) -> str:
    """The folder's name in Maildir++. One that a disk can't hold is cut, and told apart by its digest."""
    levels = (re.sub(r"[\0/]", "-", level).replace(".", "\N{ONE DOT LEADER}") for level in name.split("/"))
    packed = "." + ".".join(map(encode_utf7, levels))
    if len(packed) <= _MOST_NAME:
        return packed
    digest = hashlib.sha256(name.encode("utf-8", "replace")).hexdigest()[:12]
    short = component("-".join(clean(level) for level in name.split("/")), _MOST_NAME)
    return "." + encode_utf7(cut(short, 60).replace(".", "\N{ONE DOT LEADER}"))[: _MOST_NAME - 20] + f"-{digest}"
