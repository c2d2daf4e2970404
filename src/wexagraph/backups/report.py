"""What a run of a backup has done."""

from __future__ import annotations

from dataclasses import dataclass

from wexagraph.reports import Report


@dataclass
class BackupReport(Report):
    """The sums of a run: of the `chosen` messages, those `written` had to be stored.

    `changed` have other flags or lie elsewhere, which
    `elsewhere` counts, `gone` lie in no folder of the source where they lay before. `run` is
    its name; `volumes` counts the new ones, `messages` all that the backup holds. `scans` counts the attachments that
    were read for their words, `scan_words` those words (None: that was not asked for).
    """

    run: str = ""
    changed: int = 0
    elsewhere: int = 0
    gone: int = 0
    volumes: int = 0
    messages: int = 0
    scans: int | None = None
    scan_words: int | None = None
