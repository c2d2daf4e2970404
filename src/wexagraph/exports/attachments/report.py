"""What a run of attachments did."""

from __future__ import annotations

from collections import Counter
from dataclasses import asdict, dataclass, field
from typing import Any

from wexagraph.reports import Report


@dataclass(frozen=True, slots=True)
class AttachmentDocument:
    """What became of an attachment that was to be a PDF: the path of that ("" where none could be made), what happened
    in words, and how many words were recognised, of which the program is sure to `confidence` percent."""

    id: str
    folder: str
    name: str
    type: str
    pdf: str
    state: str
    words: int = 0
    confidence: float = 0.0


@dataclass
class AttachmentReport(Report):
    """The sums of attachments alone: `chosen` and `failed` count messages; `written`, `already_there` and `same` (as
    another, which was written once) count attachments, `types` all of them by media type, `folders` by folder. `pdfs`
    counts the PDFs that were written, `unmade` the attachments that no PDF could be made of; `documents` says what
    became of each that this run was at (None: no PDFs were asked for)."""

    same: int = 0
    types: Counter[str] = field(default_factory=Counter)
    folders: Counter[str] = field(default_factory=Counter)
    pdfs: int = 0
    unmade: int = 0
    documents: list[AttachmentDocument] | None = None

    def as_dict(self) -> dict[str, Any]:
        values = super().as_dict()
        if self.documents is None:
            for name in ("pdfs", "unmade", "documents"):
                del values[name]
        else:
            values["documents"] = [asdict(each) for each in self.documents]
        return values
