"""What an export did."""

from __future__ import annotations

from collections import Counter
from dataclasses import asdict, dataclass, field
from typing import Any

from wexagraph.reports import Report

NEW, AGAIN = "new", "again"


@dataclass(frozen=True)
class PlannedFile:
    """A file that would be written: its path below the folder, whether it is `new` or made `again`, its format or media
    type, and its message (of several, the first). `size` is that of the message, or of the attachment."""

    path: str
    state: str
    format: str
    id: str
    folder: str
    subject: str
    size: int


@dataclass
class ExportReport(Report):
    """The sums of an export.

    `files` counts what was written by its format. `made_again` are files of an earlier run that were missing or
    altered. `unfinished` names the folder whose archive the run was at when it was asked to stop. `recovered` counts
    the messages of a lost journal that register and manifest still know.
    """

    files: Counter[str] = field(default_factory=Counter)
    made_again: list[str] = field(default_factory=list)
    unfinished: list[str] = field(default_factory=list)
    recovered: int = 0


@dataclass
class DryRun(ExportReport):
    """The sums as an export would have them: `written` are the messages that it would write. `bytes` are those of these
    messages; what pages come to is known when they are made. `planned` are the files."""

    planned: list[PlannedFile] = field(default_factory=list)

    def as_dict(self) -> dict[str, Any]:
        return super().as_dict() | {"dry_run": True, "planned": [asdict(file) for file in self.planned]}


@dataclass
class AttachmentReport(Report):
    """The sums of attachments alone: `chosen` and `failed` count messages; `written`, `already_there` and `same` (as
    another, which was written once) count attachments, `types` all of them by media type, `folders` by folder.
    Of a dry run, `planned` are the files that would be written."""

    same: int = 0
    types: Counter[str] = field(default_factory=Counter)
    folders: Counter[str] = field(default_factory=Counter)
    planned: list[PlannedFile] | None = None

    def as_dict(self) -> dict[str, Any]:
        values = super().as_dict()
        planned = values.pop("planned")
        if planned is not None:
            values |= {"dry_run": True, "planned": [asdict(file) for file in planned]}
        return values
