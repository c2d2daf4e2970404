"""What a kind of mailbox in files is: how it is told from others, and the folders that it makes of its files."""

from __future__ import annotations

from collections.abc import Callable, Iterable, Iterator
from dataclasses import dataclass
from typing import BinaryIO, Protocol

from wexagraph.sources.base import WHOLE, Envelope, Original, Partition
from wexagraph.sources.trees import File, Tree

CHANGED = "the mailbox was changed while it was read. Run the same command again"


class Store(Protocol):
    """One mail folder of a mailbox in files. `folder` is its name in the source. Reading may raise OSError."""

    folder: str

    def close(self) -> None:
        """Give back what it holds open."""

    def size(self) -> int:
        """About how many bytes it holds."""

    def stamp(self) -> str:
        """Changes with anything in it."""

    def was_rewritten(self) -> bool:
        """Whether it was changed in place while it was read."""

    def damage(self) -> list[str]:
        """What was found to be damaged since this was asked last, beyond what an envelope or an error tells."""

    def outline(self, share: Partition = WHOLE) -> Iterator[Envelope]:
        """As `envelopes`; headers may be empty."""

    def envelopes(self, share: Partition = WHOLE) -> Iterator[Envelope]:
        """The messages in their order, or those of a share."""

    def read(self, envelope: Envelope) -> bytes:
        """The bytes of one. Raises MessageError."""

    def bare(self, envelope: Envelope) -> bool:
        """Whether a message surely has no attachment, told without reading it."""

    def original(self, envelope: Envelope) -> Original | None:
        """The file that a message was made from; see `Source.original`."""


class Head(Protocol):
    """The first bytes of a file, read when they are asked for."""

    def __call__(self) -> bytes:
        """Those bytes; none where they can't be read."""

    def holds(self, look: Callable[[BinaryIO], bool]) -> bool:
        """What a closer look at the file says; False where it can't be read."""


@dataclass(frozen=True)
class Kind:
    """A kind of mailbox in files.

    `label` names it, `looks_like` says what it looks like to whoever has none. `claims(path, head)` tells a file of
    it by its path and its first bytes, which are read when they are asked for; no two kinds claim one file.
    `stores(tree, files, own)` makes folders of its files, each with the name that it would like; `own` is the name of
    the whole. It is called without files too. Raises MessageError where a file can't be read.
    """

    label: str
    looks_like: str
    claims: Callable[[str, Head], bool]
    stores: Callable[[Tree, list[File], str], Iterable[tuple[str, Store]]]
