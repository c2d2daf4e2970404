"""What an export did."""

from __future__ import annotations

from collections import Counter
from dataclasses import dataclass, field

from wexagraph.reports import Report


@dataclass
class ExportReport(Report):
    """The sums of an export.

    `files` counts what was written by its format. `made_again` are files of an earlier run that were missing or
    altered. `unfinished` names the folder whose archive the run was at when it was asked to stop. `recovered` counts
    the messages of a lost journal that register and manifest still know. `indexed` counts the messages on the page to
    browse (None: none was asked for). `numbered` says which numbers are on the pages of the folder, `gaps` which of
    them were given once and are on none now. `renamed` counts files of earlier runs that got other names.
    """

    files: Counter[str] = field(default_factory=Counter)
    made_again: list[str] = field(default_factory=list)
    unfinished: list[str] = field(default_factory=list)
    recovered: int = 0
    indexed: int | None = None
    numbered: str = ""
    gaps: list[str] = field(default_factory=list)
    renamed: int = 0

    def add(self, other: Report) -> None:
        super().add(other)
        if isinstance(other, ExportReport):
            self.files += other.files
            self.made_again += other.made_again
            self.unfinished += other.unfinished
            self.indexed = other.indexed
            self.renamed += other.renamed
