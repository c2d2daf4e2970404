"""What the stages of a run of attachments share."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass, field

from wexagraph.exports.attachments.files import AttachmentFiles
from wexagraph.exports.attachments.ledger import Ledger
from wexagraph.exports.attachments.options import ExtractOptions
from wexagraph.exports.attachments.report import AttachmentReport
from wexagraph.output.target import Target
from wexagraph.reports import Progress
from wexagraph.sources import Envelope, Source


@dataclass
class Context:
    """A run: where it reads and writes, what it takes, its sums so far.

    `tell` is told how far it is, `stopped` answers whether it is to stop. `looked_at` are the chosen messages without
    their headers, kept where something is to be done at the source.
    """

    source: Source
    target: Target
    ledger: Ledger
    options: ExtractOptions
    tell: Callable[[Progress], None]
    stopped: Callable[[], bool]
    looked_at: list[Envelope] | None = None
    progress: Progress = field(default_factory=Progress)

    def __post_init__(self) -> None:
        self.report = AttachmentReport(str(self.target.folder))
        self.files = AttachmentFiles(self.target, self.ledger, self.options, self.report)

    def advance(self) -> None:
        """One message more is done."""
        self.progress.done += 1
        self.progress.failed, self.progress.in_hand = self.report.failed, ()
        self.tell(self.progress)
        self.progress.finished = []
