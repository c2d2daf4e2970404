"""Pages that stand behind a message."""

from __future__ import annotations

from dataclasses import dataclass, field


@dataclass
class Piece:
    """Pages behind a message: what they are called, a PDF, and pieces that belong below it.

    `foreign` pages are as somebody else has made them. `number` is the place of what they show among the attachments of
    its message.
    """

    name: str
    pdf: bytes
    below: list[Piece] = field(default_factory=list)
    foreign: bool = False
    number: int = 0
