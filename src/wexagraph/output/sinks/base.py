"""What every place is that messages can be put into, one by one."""

from __future__ import annotations

import contextlib
import hashlib
import os
from abc import ABC, abstractmethod
from dataclasses import dataclass
from datetime import datetime
from pathlib import Path

from wexagraph.errors import SourceError
from wexagraph.messages import Header
from wexagraph.messages.headers import header_end
from wexagraph.output.folder import OutputFolder
from wexagraph.sources import Envelope, open_source


@dataclass(frozen=True)
class Delivery:
    """A message to be delivery back."""

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


class Sink(ABC):
    """Where messages are delivery back to. Raises TargetError."""

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


def folder_of(path: Path) -> Path:
    """The folder that a file is to lie in."""
    return path.parent if path.parent.parts else Path()
