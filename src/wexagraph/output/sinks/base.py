"""What every place is that messages can be put into, one by one."""

from __future__ import annotations

import contextlib
import hashlib
import os
from abc import ABC, abstractmethod
from dataclasses import dataclass
from datetime import UTC, datetime
from pathlib import Path

from wexagraph.errors import SourceError
from wexagraph.messages.headers import Header, header_end
from wexagraph.naming.paths import clean, component, folder_path
from wexagraph.naming.patterns import Fields, NamePattern
from wexagraph.output.folder import OutputFolder
from wexagraph.sources import open_source
from wexagraph.sources.base import Envelope

_PATTERN = NamePattern()


@dataclass(frozen=True)
class Delivery:
    """A message to be given back; `pattern` is that of its name, where it becomes a file."""

    envelope: Envelope
    data: bytes
    digest: str
    pattern: NamePattern = _PATTERN

    @property
    def header(self) -> Header:
        return Header(self.data[: header_end(self.data)])

    @property
    def moment(self) -> datetime | None:
        """When it arrived, else its own date."""
        return self.envelope.arrival or self.header.date()[0]


class Sink(ABC):
    """Where messages are given back to. Raises TargetError.

    One that is opened with an `empty` folder is for a dry run: only `where` and `has` are asked of it, and nothing is
    made or locked. One that `names_files` makes a file of each message.
    """

    names_files = False

    @abstractmethod
    def where(self, delivery: Delivery) -> str:
        """The file, or of an account the folder, that the message is put into: its path below the target's folder."""

    @abstractmethod
    def has(self, delivery: Delivery) -> bool:
        """Whether the message is there already."""

    @abstractmethod
    def put(self, delivery: Delivery) -> None:
        """Put it there."""

    def close(self, whole: bool) -> None:  # noqa: B027  what is put one by one has nothing to end
        """All was put, or (not `whole`) no more will be."""


def digests_in(path: Path) -> dict[str, set[str]]:
    """The digests of the messages that lie in a mailbox in files, by folder; empty where there is none."""
    if not path.exists():
        return {}
    digests: dict[str, set[str]] = {}
    try:
        with open_source(path) as source:
            for folder in source.folders():
                held = digests.setdefault(folder, set())
                for _, data in source.read_many(source.outline(folder)):
                    if isinstance(data, bytes):
                        held.add(hashlib.sha256(data).hexdigest())
    except SourceError:
        return {}
    return digests


def eml_folder(delivery: Delivery) -> str:
    """The folder that holds the EML files of a mail folder."""
    return folder_path(delivery.envelope.folder) or component(clean(delivery.envelope.folder))


def eml_path(delivery: Delivery) -> str:
    """The path of a message among EML files: its folder, and a name of its date, sender, subject and digest."""
    fields = Fields(delivery.header, "", "", UTC, delivery.header.date(delivery.envelope.arrival)[0])
    stem = component(delivery.pattern.stem(fields).replace("/", " "), 30)
    return f"{eml_folder(delivery)}/{stem} {delivery.digest[:12]}.eml"


def write_whole(root: OutputFolder, waiting: str, path: str, delivery: Delivery) -> None:
    """Write a message, whole or not at all, with the time of its arrival."""
    try:
        root.unlink(waiting)  # what a restore that was killed has left
        with root.create(waiting) as file:
            file.write(delivery.data)
            file.flush()
            os.fsync(file.fileno())
            if delivery.moment is not None:
                with contextlib.suppress(OverflowError, NotImplementedError):
                    stamp = delivery.moment.timestamp()
                    os.utime(file.fileno(), (stamp, stamp))
        root.replace(waiting, path)
    except BaseException:
        with contextlib.suppress(OSError):
            root.unlink(waiting)
        raise


def opened(path: Path, empty: Path | None) -> OutputFolder:
    """The folder of a sink, made if need be; of a dry run, `empty` stands for one that is not there."""
    if empty is None:
        return OutputFolder(path, private=True)
    return OutputFolder(path if path.is_dir() else empty, make=False)


def folder_of(path: Path) -> Path:
    """The folder that a file is to lie in."""
    return path.parent if path.parent.parts else Path()
