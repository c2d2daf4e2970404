"""A message as its properties tell it, whatever kind of file they lie in: with recipients and attachments."""

from __future__ import annotations

from collections.abc import Callable, Iterator
from dataclasses import dataclass, field
from functools import cached_property

from wexagraph.messages.mapi.properties import Properties

DEEPEST = 60
"""Messages within messages that are read; what lies deeper is named, not read."""


@dataclass
class Attached:
    """An attachment: its properties, and where it is a message or an object of its own, what reads that."""

    properties: Properties
    item: Callable[[], Item] | None = None
    object: Callable[[], bytes] | None = None


@dataclass
class Item:
    """A message, appointment, contact, task or note, kept in a `form`: msg, tnef, pst.

    Recipients and attachments are read as they are asked for. `damage` grows with what can't be read.
    """

    form: str
    properties: Properties
    recipients: Callable[[], list[Properties]] = list
    attachments: Callable[[], Iterator[Attached]] = lambda: iter(())
    depth: int = 0
    damage: list[str] = field(default_factory=list)

    @cached_property
    def people(self) -> list[Properties]:
        """Its recipients, read once."""
        return self.recipients()

    @property
    def kind(self) -> str:
        """Its message class ([MS-OXCMSG] section 2.2.1.3), in lower case."""
        return self.properties.text(0x001A).lower()
