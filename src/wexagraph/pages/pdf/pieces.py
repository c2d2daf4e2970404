"""Pages that stand behind a message."""

from __future__ import annotations

import io
from dataclasses import dataclass, field
from pathlib import Path
from typing import TYPE_CHECKING

if TYPE_CHECKING:
    from wexagraph.pages.scans.recognise import Scanned


@dataclass
class Piece:
    """Pages behind a message: what they are called, a PDF or the file that it lies in, and pieces that belong below it.

    `foreign` pages are as somebody else has made them. `number` is the place of what they show among the attachments of
    its message. `scanned` says what was recognised on them, where that was asked for, and
    `unmade` why they only describe what no pages could be made of.
    """

    name: str
    pdf: bytes | Path
    below: list[Piece] = field(default_factory=list)
    foreign: bool = False
    number: int = 0
    scanned: Scanned | None = None
    unmade: str = ""

    @property
    def source(self) -> io.BytesIO | Path:
        """What the PDF is opened from."""
        return io.BytesIO(self.pdf) if isinstance(self.pdf, bytes) else self.pdf
