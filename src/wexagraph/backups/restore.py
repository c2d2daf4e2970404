"""Giving messages back: into a folder of EML, an mbox, a ZIP, a Maildir or an account, with folders, flags and dates.

A message that is there already is not doubled, so that the same command again goes on where it was.
"""

from __future__ import annotations

import contextlib
import errno
import hashlib
import os
import re
import zipfile
from abc import ABC, abstractmethod
from collections.abc import Callable
from dataclasses import asdict, dataclass, field
from datetime import UTC, datetime
from pathlib import Path
from typing import Any, BinaryIO

from wexagraph.errors import MessageError, SourceError, TargetError
from wexagraph.exports.plan import folder_path
from wexagraph.messages import Header
from wexagraph.messages.headers import header_end
from wexagraph.naming import Fields, NamePattern, clean, component
from wexagraph.naming.safe import cut
from wexagraph.output.archives import MboxWriter, ZipWriter
from wexagraph.output.folder import InTheWay, OutputFolder
from wexagraph.output.replacing import ReplacedFile
from wexagraph.output.target import keep_apart
from wexagraph.selection import Choice
from wexagraph.sources import Envelope, Source, open_source
from wexagraph.sources.imap import ImapSource
from wexagraph.sources.imap.filling import Filling, identity
from wexagraph.sources.local import maildir_name
from wexagraph.sources.utf7 import encode_utf7

MAILDIR = "maildir:"
_MAILDIR_FLAGS = {"draft": "D", "flagged": "F", "$forwarded": "P", "answered": "R", "seen": "S", "deleted": "T"}
_MOST_FAILURES = 1000
_MOST_NAME = 240
_MOST_OPEN = 64
_ONLY_THIS_NAME = {errno.ENAMETOOLONG, errno.ENOTDIR, errno.EISDIR, errno.EINVAL, errno.EILSEQ, errno.ELOOP}
"""What a disk says of a name that it can't hold: it is a matter of that message, not of the disk."""


@dataclass
class RestoreReport:
    """The sums of a restore: `read` is `written` + `already` + `failed`."""

    into: str
    read: int = 0
    written: int = 0
    already: int = 0
    failed: int = 0
    bytes: int = 0
    interrupted: bool = False
    failures: list[tuple[str, str, str]] = field(default_factory=list)

    @property
    def complete(self) -> bool:
        return not (self.failed or self.interrupted)

    def as_dict(self) -> dict[str, Any]:
        """Plain values for JSON."""
        return asdict(self)


@dataclass(frozen=True)
class Given:
    """A message to be given back."""

    envelope: Envelope
    data: bytes
    digest: str

    @property
    def header(self) -> Header:
        return Header(self.data[: header_end(self.data)])

    @property
    def moment(self) -> datetime | None:
        """When it arrived, else its own date."""
        return self.envelope.arrival or self.header.date()[0]


class Target(ABC):
    """Where messages are given back to. Raises TargetError."""

    @abstractmethod
    def has(self, given: Given) -> bool:
        """Whether the message is there already."""

    @abstractmethod
    def put(self, given: Given) -> None:
        """Put it there."""

    def close(self, whole: bool) -> None:  # noqa: B027  what is put one by one has nothing to end
        """All was put, or (not `whole`) no more will be."""


def restore(
    source: Source,
    target: Target,
    into: str,
    choice: Choice | None = None,
    *,
    progress: Callable[[int], None] | None = None,
    stopped: Callable[[], bool] | None = None,
) -> RestoreReport:
    """Give the chosen messages of a backup to a target. Raises SourceError, TargetError, CallError."""
    report = RestoreReport(into)
    whole = False
    try:
        for envelope, data in source.read_many((choice or Choice()).select(source)):
            if stopped is not None and stopped():
                report.interrupted = True
                break
            report.read += 1
            if isinstance(data, MessageError):
                _fail(report, envelope, str(data))
                continue
            given = Given(envelope, data, hashlib.sha256(data).hexdigest())
            try:
                if target.has(given):
                    report.already += 1
                else:
                    target.put(given)
                    report.written += 1
                    report.bytes += len(data)
            except MessageError as error:
                _fail(report, envelope, str(error))
            except InTheWay as error:
                _fail(report, envelope, str(error.strerror))
            except OSError as error:
                if error.errno not in _ONLY_THIS_NAME:
                    raise
                _fail(report, envelope, f"the disk does not take its name: {error.strerror}")
            if progress is not None:
                progress(report.read)
        whole = True
    except OSError as error:
        raise TargetError(f"{into} can't be written to: {error.strerror or error}. What is there is whole.") from error
    finally:
        target.close(whole)
    return report


def _fail(report: RestoreReport, envelope: Envelope, reason: str) -> None:
    report.failed += 1
    if len(report.failures) < _MOST_FAILURES:
        report.failures.append((envelope.id, envelope.folder, reason))


def open_target(into: str, by_folder: bool = False, backup: str = "") -> Target:
    """The target that a path names: an mbox (.mbox), a ZIP (.zip), a Maildir (maildir:PATH), else a folder of EML.

    Raises TargetError, and CallError where it lies in the folder of the backup.
    """
    path = Path(into.removeprefix(MAILDIR)).expanduser()
    keep_apart(backup, path, around=True)
    try:
        if into.startswith(MAILDIR):
            return MaildirTarget(path)
        if into.lower().endswith(".mbox"):
            return MboxTarget(path, by_folder)
        if into.lower().endswith(".zip"):
            return ZipTarget(path)
        return FolderTarget(path)
    except OSError as error:
        raise TargetError(f"{into} can't be used: {error.strerror or error}.") from error


def _digests(path: Path) -> dict[str, set[str]]:
    """The digests of the messages that lie in a mailbox in files, by folder; empty where there is none."""
    if not path.exists():
        return {}
    found: dict[str, set[str]] = {}
    try:
        with open_source(path) as source:
            for folder in source.folders():
                held = found.setdefault(folder, set())
                for _, data in source.read_many(source.outline(folder)):
                    if isinstance(data, bytes):
                        held.add(hashlib.sha256(data).hexdigest())
    except SourceError:
        return {}
    return found


class FolderTarget(Target):
    """A folder of EML files below folders; a file's time is when its message arrived."""

    def __init__(self, path: Path) -> None:
        if path.exists() and not path.is_dir():
            raise TargetError(f"{path} is a file. Name a folder, or a target that ends in .mbox or .zip.")
        self._root, self._pattern = OutputFolder(path, private=True), NamePattern()
        self._there: dict[str, set[str]] = {}

    def _place(self, given: Given) -> str:
        return folder_path(given.envelope.folder, flat=False) or component(clean(given.envelope.folder))

    def has(self, given: Given) -> bool:
        place = self._place(given)
        if place not in self._there:
            names = [name for name in self._root.names(place) if name.endswith(".eml")]
            digests = (self._root.digest(f"{place}/{name}") for name in names)
            self._there[place] = {digest for digest in digests if digest is not None}
        return given.digest in self._there[place]

    def put(self, given: Given) -> None:
        place = self._place(given)
        fields = Fields(given.header, "", "", UTC, given.header.date(given.envelope.arrival)[0])
        stem = component(self._pattern.stem(fields), 30)
        _write(self._root, f"{place}/.{given.digest[:40]}.part", f"{place}/{stem} {given.digest[:12]}.eml", given)
        self._there.setdefault(place, set()).add(given.digest)

    def close(self, whole: bool) -> None:
        self._root.close()


class MaildirTarget(Target):
    """A Maildir with Maildir++ folders; flags stand in the names, a file's time is when its message arrived."""

    def __init__(self, path: Path) -> None:
        if path.exists() and not path.is_dir():
            raise TargetError(f"{path} is a file, and no Maildir.")
        self._root = OutputFolder(path, private=True)
        for below in ("cur", "new", "tmp"):
            self._root.make_folder(below)
        self._there = _digests(path)

    def has(self, given: Given) -> bool:
        return given.digest in self._there.get(maildir_name(self._place(given)), set())

    def _place(self, given: Given) -> str:
        """The folder's own folder in the Maildir; "" for the Maildir itself."""
        name = given.envelope.folder
        return _maildir_folder(name) if name.upper() != "INBOX" else ""

    def put(self, given: Given) -> None:
        name = self._place(given)
        place = f"{name}/" if name else ""
        for below in ("cur", "new", "tmp"):
            self._root.make_folder(f"{place}{below}")
        letters = "".join(sorted(_MAILDIR_FLAGS[flag] for flag in given.envelope.flags if flag in _MAILDIR_FLAGS))
        moment = int(given.moment.timestamp()) if given.moment else 0
        unique = f"{max(moment, 0)}.{given.digest[:20]}.restored"
        _write(self._root, f"{place}tmp/{unique}", f"{place}cur/{unique}:2,{letters}", given)
        self._there.setdefault(maildir_name(name), set()).add(given.digest)

    def close(self, whole: bool) -> None:
        self._root.close()


def _maildir_folder(name: str) -> str:
    """The folder's name in Maildir++. One that a disk can't hold is cut, and told apart by its digest."""
    levels = (re.sub(r"[\0/]", "-", level).replace(".", "\N{ONE DOT LEADER}") for level in name.split("/"))
    packed = "." + ".".join(map(encode_utf7, levels))
    if len(packed) <= _MOST_NAME:
        return packed
    digest = hashlib.sha256(name.encode("utf-8", "replace")).hexdigest()[:12]
    short = component("-".join(clean(level) for level in name.split("/")), _MOST_NAME)
    return "." + encode_utf7(cut(short, 60).replace(".", "\N{ONE DOT LEADER}"))[: _MOST_NAME - 20] + f"-{digest}"


def _write(root: OutputFolder, waiting: str, path: str, given: Given) -> None:
    """Write a message, whole or not at all, with the time of its arrival."""
    try:
        root.unlink(waiting)  # what a restore that was killed has left
        with root.create(waiting) as file:
            file.write(given.data)
            file.flush()
            os.fsync(file.fileno())
            if given.moment is not None:
                with contextlib.suppress(OverflowError, NotImplementedError):
                    stamp = given.moment.timestamp()
                    os.utime(file.fileno(), (stamp, stamp))
        root.replace(waiting, path)
    except BaseException:
        with contextlib.suppress(OSError):
            root.unlink(waiting)
        raise


class MboxTarget(Target):
    """One mbox file, or one for each folder below a folder of that name.

    An old file is replaced whole or not at all, and nothing that is delivered into it meanwhile is lost.
    """

    def __init__(self, path: Path, by_folder: bool) -> None:
        self._by_folder, self._name = by_folder, path.name
        if by_folder and path.exists() and not path.is_dir():
            raise TargetError(f"{path} is a file; --by-folder needs a folder, or a name that is still free.")
        if not by_folder and path.is_dir():
            raise TargetError(f"{path} is a folder. --by-folder puts one mbox a folder into it.")
        if not by_folder:
            path = _parent(path)
        self._root = OutputFolder(path, private=True)
        self._open: dict[str, ReplacedFile] = {}
        self._there: dict[str, set[str]] = {}

    def _file(self, given: Given) -> str:
        if not self._by_folder:
            return self._name
        *above, last = folder_path(given.envelope.folder, flat=False).split("/")
        # a folder must not bear the name of another one's file
        above = [f"{level}_" if level.lower().endswith(".mbox") else level for level in above]
        return "/".join([*above, f"{last}.mbox"])

    def has(self, given: Given) -> bool:
        path = self._file(given)
        if path not in self._there:
            if len(self._open) >= _MOST_OPEN:
                self._finish(next(iter(self._open)))
            self._open[path] = ReplacedFile(self._root, path)
            self._there[path] = {digest for held in _digests(self._root.path / path).values() for digest in held}
        # an mbox ends each message with a line end: one without comes back with it
        ended = given.data if given.data.endswith(b"\n") else given.data + b"\n"
        return bool({given.digest, hashlib.sha256(ended).hexdigest()} & self._there[path])

    def put(self, given: Given) -> None:
        path = self._file(given)
        if path not in self._open:
            self._open[path] = ReplacedFile(self._root, path)
        MboxWriter(self._open[path].begin(_copy_mbox)).add(given.data, given.header, given.moment, "")
        self._there[path].add(given.digest)

    def _finish(self, path: str) -> None:
        self._open.pop(path).finish(_copy_mbox)

    def close(self, whole: bool) -> None:
        try:
            while self._open:
                self._finish(next(iter(self._open)))
        finally:
            for file in self._open.values():
                file.release()
            self._root.close()


def _copy_mbox(file: BinaryIO, old: BinaryIO | None) -> None:
    """What an mbox holds, and the empty line that has to stand before the next From line."""
    tail = b""
    while old is not None and (block := old.read(1 << 20)):
        file.write(block)
        tail = (tail + block)[-2:]
    if tail and tail != b"\n\n":
        file.write(b"\n" if tail.endswith(b"\n") else b"\n\n")


def _parent(path: Path) -> Path:
    """The folder that a file is to lie in."""
    return path.parent if path.parent.parts else Path()


class ZipTarget(Target):
    """A ZIP of EML files below folders. An old one is replaced whole or not at all."""

    def __init__(self, path: Path) -> None:
        if path.is_dir():
            raise TargetError(f"{path} is a folder. Name a ZIP file, or a folder that does not end in .zip.")
        self._root, self._pattern = OutputFolder(_parent(path), private=True), NamePattern()
        self._file = ReplacedFile(self._root, path.name)
        self._there = _digests(path)
        self._writer: ZipWriter | None = None

    def has(self, given: Given) -> bool:
        return given.digest in self._there.get(self._place(given), set())

    def _place(self, given: Given) -> str:
        return folder_path(given.envelope.folder, flat=False) or component(clean(given.envelope.folder))

    def put(self, given: Given) -> None:
        if self._writer is None:
            self._writer = ZipWriter(self._file.begin(lambda file, old: None))
            if self._root.taken(self._file.name.name):
                with self._root.reader(self._file.name.name) as file, zipfile.ZipFile(file) as old:
                    for info in old.infolist():
                        self._writer.copy(info, old.read(info))
        fields = Fields(given.header, "", "", UTC, given.header.date(given.envelope.arrival)[0])
        stem = component(self._pattern.stem(fields), 30)
        self._writer.add(given.data, given.header, given.moment, f"{self._place(given)}/{stem} {given.digest[:12]}")
        self._there.setdefault(self._place(given), set()).add(given.digest)

    def close(self, whole: bool) -> None:
        try:
            if self._writer is not None:
                self._writer.close()
                self._writer = None
                self._file.finish(None)
        finally:
            self._file.release()
            self._root.close()


class AccountTarget(Target):
    """An IMAP account. A message of the same identity and size in the same folder is there already."""

    def __init__(self, source: ImapSource) -> None:
        self._filling = Filling(source)

    def has(self, given: Given) -> bool:
        return self._filling.has(given.envelope.folder, identity(given.header), given.data)

    def put(self, given: Given) -> None:
        envelope = given.envelope
        self._filling.append(envelope.folder, identity(given.header), given.data, envelope.flags, given.moment)
