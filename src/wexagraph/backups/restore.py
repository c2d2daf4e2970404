"""Giving messages back: into a folder of EML, an mbox, a ZIP, a Maildir or an account, with folders, flags and dates.

A message that is there already is not doubled, so that the same command again goes on where it was.
"""

from __future__ import annotations

import contextlib
import hashlib
import os
import zipfile
from abc import ABC, abstractmethod
from collections.abc import Callable
from dataclasses import asdict, dataclass, field
from datetime import UTC, datetime
from pathlib import Path
from typing import Any

from wexagraph.errors import MessageError, SourceError, TargetError
from wexagraph.exports.archives import MboxWriter, ZipWriter
from wexagraph.exports.plan import folder_path
from wexagraph.exports.target import keep_apart
from wexagraph.messages import Header
from wexagraph.messages.headers import header_end
from wexagraph.naming import Fields, NamePattern, clean, component
from wexagraph.selection import Choice
from wexagraph.sources import Envelope, Source, open_source
from wexagraph.sources.imap import ImapSource
from wexagraph.sources.imap.filling import Filling, identity
from wexagraph.sources.utf7 import encode_utf7

MAILDIR = "maildir:"
_MAILDIR_FLAGS = {"draft": "D", "flagged": "F", "$forwarded": "P", "answered": "R", "seen": "S", "deleted": "T"}
_MOST_FAILURES = 1000


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
        self._path, self._pattern = path, NamePattern()
        self._there: dict[str, set[str]] = {}

    def _place(self, given: Given) -> str:
        return folder_path(given.envelope.folder, flat=False) or component(clean(given.envelope.folder))

    def has(self, given: Given) -> bool:
        place = self._place(given)
        if place not in self._there:
            folder = self._path / place
            files = sorted(folder.glob("*.eml")) if folder.is_dir() else []
            self._there[place] = {hashlib.sha256(file.read_bytes()).hexdigest() for file in files}
        return given.digest in self._there[place]

    def put(self, given: Given) -> None:
        place = self._place(given)
        folder = self._path / place
        folder.mkdir(parents=True, exist_ok=True)
        fields = Fields(given.header, "", "", UTC, given.header.date(given.envelope.arrival)[0])
        stem = component(self._pattern.stem(fields), 30)
        _write(folder, f"{stem} {given.digest[:12]}.eml", given)
        self._there.setdefault(place, set()).add(given.digest)


class MaildirTarget(Target):
    """A Maildir with Maildir++ folders; flags stand in the names, a file's time is when its message arrived."""

    def __init__(self, path: Path) -> None:
        if path.exists() and not path.is_dir():
            raise TargetError(f"{path} is a file, and no Maildir.")
        self._path = path
        for below in ("cur", "new", "tmp"):
            (path / below).mkdir(parents=True, exist_ok=True)
        self._there = _digests(path)
        self._count = 0

    def has(self, given: Given) -> bool:
        return given.digest in self._there.get(given.envelope.folder, set())

    def put(self, given: Given) -> None:
        name = given.envelope.folder
        place = self._path
        if name.upper() != "INBOX":
            levels = (encode_utf7(level.replace(".", "\N{ONE DOT LEADER}")) for level in name.split("/"))
            place = self._path / ("." + ".".join(levels))
        for below in ("cur", "new", "tmp"):
            (place / below).mkdir(parents=True, exist_ok=True)
        letters = "".join(sorted(_MAILDIR_FLAGS[flag] for flag in given.envelope.flags if flag in _MAILDIR_FLAGS))
        self._count += 1
        moment = int(given.moment.timestamp()) if given.moment else 0
        unique = f"{max(moment, 0)}.{given.digest[:20]}.restored"
        _write(place / "tmp", unique, given, place / "cur" / f"{unique}:2,{letters}")
        self._there.setdefault(name, set()).add(given.digest)


def _write(folder: Path, name: str, given: Given, final: Path | None = None) -> None:
    """Write a message, whole or not at all, with the time of its arrival."""
    waiting = folder / f".{name}.part" if final is None else folder / name
    waiting = waiting.with_name(waiting.name[-200:])
    try:
        with open(waiting, "wb") as file:
            file.write(given.data)
            file.flush()
            os.fsync(file.fileno())
        if given.moment is not None:
            with contextlib.suppress(OverflowError):
                stamp = given.moment.timestamp()
                os.utime(waiting, (stamp, stamp))
        os.replace(waiting, final or folder / name)
    except BaseException:
        waiting.unlink(missing_ok=True)
        raise


class MboxTarget(Target):
    """One mbox file, or one for each folder below a folder of that name.

    An old file is replaced whole or not at all.
    """

    def __init__(self, path: Path, by_folder: bool) -> None:
        self._path, self._by_folder = path, by_folder
        if by_folder and path.exists() and not path.is_dir():
            raise TargetError(f"{path} is a file; --by-folder needs a folder, or a name that is still free.")
        if not by_folder and path.is_dir():
            raise TargetError(f"{path} is a folder. --by-folder puts one mbox a folder into it.")
        self._open: dict[Path, tuple[Path, Any, MboxWriter]] = {}
        self._there: dict[Path, set[str]] = {}

    def _file(self, given: Given) -> Path:
        if not self._by_folder:
            return self._path
        return self._path / f"{folder_path(given.envelope.folder, flat=False)}.mbox"

    def has(self, given: Given) -> bool:
        path = self._file(given)
        if path not in self._there:
            self._there[path] = {digest for held in _digests(path).values() for digest in held}
        # an mbox ends each message with a line end: one without comes back with it
        ended = given.data if given.data.endswith(b"\n") else given.data + b"\n"
        return bool({given.digest, hashlib.sha256(ended).hexdigest()} & self._there[path])

    def put(self, given: Given) -> None:
        path = self._file(given)
        if path not in self._open:
            path.parent.mkdir(parents=True, exist_ok=True)
            waiting = path.with_name(f".{path.name}.part")
            file = open(waiting, "wb")  # noqa: SIM115  closed by close
            if path.exists():
                with open(path, "rb") as old:
                    while block := old.read(1 << 20):
                        file.write(block)
                _end_blank(path, file)
            self._open[path] = (waiting, file, MboxWriter(file))
        self._open[path][2].add(given.data, given.header, given.moment, "")
        self._there[path].add(given.digest)

    def close(self, whole: bool) -> None:
        for path, (waiting, file, _) in self._open.items():
            _end(file, waiting, path)
        self._open.clear()


def _end_blank(path: Path, file: Any) -> None:
    """An empty line has to stand before the next From line."""
    with open(path, "rb") as old:
        old.seek(max(0, path.stat().st_size - 2))
        tail = old.read()
    if tail and not tail.endswith(b"\n\n"):
        file.write(b"\n" if tail.endswith(b"\n") else b"\n\n")


class ZipTarget(Target):
    """A ZIP of EML files below folders. An old one is replaced whole or not at all."""

    def __init__(self, path: Path) -> None:
        if path.is_dir():
            raise TargetError(f"{path} is a folder. Name a ZIP file, or a folder that does not end in .zip.")
        self._path, self._pattern = path, NamePattern()
        self._there = _digests(path)
        self._waiting = path.with_name(f".{path.name}.part")
        self._file: Any = None
        self._writer: ZipWriter | None = None

    def has(self, given: Given) -> bool:
        return any(given.digest in held for held in self._there.values()) and self._same_folder(given)

    def _same_folder(self, given: Given) -> bool:
        return any(given.digest in held and name == self._place(given) for name, held in self._there.items())

    def _place(self, given: Given) -> str:
        return folder_path(given.envelope.folder, flat=False) or component(clean(given.envelope.folder))

    def put(self, given: Given) -> None:
        if self._writer is None:
            self._path.parent.mkdir(parents=True, exist_ok=True)
            self._file = open(self._waiting, "wb")  # noqa: SIM115  closed by close
            self._writer = ZipWriter(self._file)
            if self._path.exists():
                with zipfile.ZipFile(self._path) as old:
                    for info in old.infolist():
                        self._writer.copy(info, old.read(info))
        fields = Fields(given.header, "", "", UTC, given.header.date(given.envelope.arrival)[0])
        stem = component(self._pattern.stem(fields), 30)
        self._writer.add(given.data, given.header, given.moment, f"{self._place(given)}/{stem} {given.digest[:12]}")
        self._there.setdefault(self._place(given), set()).add(given.digest)

    def close(self, whole: bool) -> None:
        if self._writer is not None:
            self._writer.close()
            _end(self._file, self._waiting, self._path)
            self._writer = None


class AccountTarget(Target):
    """An IMAP account. A message of the same identity and size in the same folder is there already."""

    def __init__(self, source: ImapSource) -> None:
        self._filling = Filling(source)

    def has(self, given: Given) -> bool:
        return self._filling.has(given.envelope.folder, identity(given.header), given.data)

    def put(self, given: Given) -> None:
        envelope = given.envelope
        self._filling.append(envelope.folder, identity(given.header), given.data, envelope.flags, given.moment)


def _end(file: Any, waiting: Path, path: Path) -> None:
    file.flush()
    os.fsync(file.fileno())
    file.close()
    os.replace(waiting, path)
