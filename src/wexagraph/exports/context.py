"""What the stages of an export share."""

from __future__ import annotations

from collections.abc import Callable, Iterator
from concurrent.futures import Executor
from contextlib import closing, contextmanager
from dataclasses import dataclass, field
from pathlib import Path

from wexagraph.exports.bound_documents import Binding, EarlierMessages
from wexagraph.exports.folder_archives import FolderArchives
from wexagraph.exports.journal.journal import Journal
from wexagraph.exports.needs import Needs
from wexagraph.exports.options import ExportOptions
from wexagraph.exports.publisher import Publisher
from wexagraph.exports.recovery import recover, take_over
from wexagraph.exports.remote_pictures import RemotePictures
from wexagraph.exports.turns import Turns
from wexagraph.output.target import Target, keep_apart, untouched
from wexagraph.reports import ExportReport, Progress
from wexagraph.sources.base import Source
from wexagraph.work.batches import Workers
from wexagraph.work.opening import open_workers


@contextmanager
def opened(
    source: Source,
    into: str | Path,
    options: ExportOptions,
    *,
    dry: bool = False,
    patience: float | None = None,
    make: bool = True,
) -> Iterator[tuple[Target, Journal, int]]:
    """A folder to be written into, or (`dry`) only to be looked at, with its journal, which knows what earlier runs and
    versions made; and how many messages a lost one was told of. Raises CallError, TargetError."""
    keep_apart(source.location, into)
    is_new = not Path(into).exists()
    with untouched(Path(into)) if dry else closing(Target(Path(into), patience, make)) as target:
        with closing(Journal(target.database("journal.sqlite"))) as journal:
            recovered = recover(journal, target, options) if journal.is_new else 0
            take_over(journal, target)
            yield target, journal, recovered
            is_new = is_new and journal.is_empty()
        if is_new and not dry:
            target.root.discard()  # nothing was chosen


@dataclass
class Context:
    """A run: where it reads and writes, what it is to make, its sums so far.

    `tell` is told how far it is, `stopped` answers whether it is to stop; `executor` takes the place of our workers.
    """

    source: Source
    target: Target
    journal: Journal
    options: ExportOptions
    tell: Callable[[Progress], None]
    stopped: Callable[[], bool]
    executor: Executor | None = None
    progress: Progress = field(default_factory=Progress)
    _workers: Workers | None = None
    _remote_pictures: RemotePictures | None = None

    def __post_init__(self) -> None:
        self.report = ExportReport(into=str(self.target.folder))
        self.archives = FolderArchives(self.target, self.journal, self.options)
        bind, tr = self.options.bind, self.options.page.tr
        self.turns = Turns(self.journal, bind, tr, self.source.goes_on) if bind else None
        earlier = EarlierMessages(self.target, self.source)
        self.binding = Binding(self.target, self.options, self.turns, earlier) if self.turns else None
        self.publisher = Publisher(self.target, self.journal, self.options, self.report, self.progress, self.tell)
        self.needs = Needs(
            self.target,
            self.journal,
            self.options,
            self.report,
            self.publisher,
            self.archives,
            self.binding,
            self.stopped,
        )

    def workers(self) -> Workers:
        """Workers, from the first time they are asked for."""
        if self._workers is None:
            options = self.options
            self._workers = open_workers(options.jobs, options.timeout, options.cluster, self.executor)
        return self._workers

    def remote_pictures(self) -> RemotePictures:
        """What fetches pictures from the network, from the first time it is asked for."""
        if self._remote_pictures is None:
            self._remote_pictures = RemotePictures(frozenset(self.options.remote_hosts), self.options.exported)
        return self._remote_pictures

    def drop_workers(self, wait: bool) -> None:
        """Let the workers go: after what they have in hand, or at once."""
        if self._workers is not None:
            self._workers.shutdown(wait=wait, cancel_futures=not wait)
            self._workers = None
        if self._remote_pictures is not None:
            self._remote_pictures.close()
            self._remote_pictures = None

    def looking(self, count: int) -> None:
        """So many messages were met by the plan."""
        self.progress.done = count
        self.tell(self.progress)
