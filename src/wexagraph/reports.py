"""What a command has done, for people and for programs: one family of reports, with one word for each thing."""

from __future__ import annotations

from collections import Counter
from dataclasses import asdict, dataclass, field, fields
from datetime import datetime
from typing import Any

from wexagraph.notes import CODES

MOST_FAILURES = 1000
"""So many failures are kept with their reasons; `failed` counts all."""


@dataclass(frozen=True, slots=True)
class Failure:
    """A message that did not come out as asked: where it is, its subject, and why."""

    id: str
    folder: str
    subject: str
    reason: str


@dataclass
class Progress:
    """How far a run is. `total` is None while messages are still being looked for. `in_hand` names what its workers are
    at, where that may take long, and `finished` what was done since it was told last."""

    done: int = 0
    total: int | None = None
    failed: int = 0
    files: int = 0
    in_hand: tuple[str, ...] = ()
    finished: list[str] = field(default_factory=list)


NEW, AGAIN, REMOVED, RENAMED = "new", "again", "removed", "renamed"


@dataclass(frozen=True)
class PlannedFile:
    """What a dry run would write: its path below the folder ("" where only the run itself gives one), whether it is
    `new`, made `again`, `removed` or `renamed`; its format or media type, and its message (of several, the first).
    `size` is that of the message, or of the attachment or file."""

    path: str
    state: str
    format: str
    id: str = ""
    folder: str = ""
    subject: str = ""
    size: int = 0


@dataclass
class Report:
    """The sums over messages: `chosen` is `written` + `already_there` + `failed`.

    `bytes` counts what was written, `seconds` the time of the run. `notes` are counted by their codes. `unreadable` are
    parts of the source that could not be read, each with the reason; `unknown_ids` the IDs that no message has.
    `idle` are exceptions that have left out nothing, `why_none` says why nothing was chosen. `interrupted` says that
    the run was asked to stop before its end, `total` how many messages it would have looked at (None: not known).
    `changed_at_the_source` counts the messages that were changed there afterwards, and `afterwards` how (None: it was
    not asked for), `left_at_the_source` those that were no longer what is stored.
    `delivery` says what went to a place at the end, `undelivered` why nothing did; `sealed` by whom it was sealed,
    `stamped` for when, and `unstamped` why not.
    Of a dry run, `planned` is what would be written, and the sums are as the run would have them.
    """

    into: str = ""
    chosen: int = 0
    written: int = 0
    already_there: int = 0
    failed: int = 0
    bytes: int = 0
    seconds: float = 0.0
    notes: Counter[str] = field(default_factory=Counter)
    failures: list[Failure] = field(default_factory=list)
    unreadable: list[tuple[str, str]] = field(default_factory=list)
    unknown_ids: list[str] = field(default_factory=list)
    idle: list[str] = field(default_factory=list)
    why_none: str = ""
    interrupted: bool = False
    total: int | None = None
    changed_at_the_source: int | None = None
    afterwards: str = ""
    left_at_the_source: list[tuple[str, str]] = field(default_factory=list)
    delivery: Report | None = None
    undelivered: str = ""
    sealed: str = ""
    stamped: datetime | None = None
    unstamped: str = ""
    planned: list[PlannedFile] | None = None

    def fail(self, failure: Failure) -> None:
        """Count a failure, and keep it while there are not too many."""
        self.failed += 1
        if len(self.failures) < MOST_FAILURES:
            self.failures.append(failure)

    def add(self, other: Report) -> None:
        """Add the sums of another run over the same kind of thing."""
        for name in ("chosen", "written", "already_there", "failed", "bytes"):
            setattr(self, name, getattr(self, name) + getattr(other, name))
        self.failures += other.failures
        self.notes += other.notes
        self.unreadable += other.unreadable
        self.interrupted |= other.interrupted
        self.sealed, self.unstamped = self.sealed or other.sealed, self.unstamped or other.unstamped
        self.stamped = self.stamped or other.stamped

    @property
    def is_empty(self) -> bool:
        """Whether no message was chosen."""
        return not self.chosen

    @property
    def complete(self) -> bool:
        """Whether everything that was asked for is there."""
        wrong = self.failed or self.unreadable or self.unknown_ids or self.interrupted or self.left_at_the_source
        return not (wrong or self.undelivered or self.unstamped) and (self.delivery is None or self.delivery.complete)

    def as_dict(self) -> dict[str, Any]:
        """Plain values for JSON, by the names of the fields."""
        values = {each.name: getattr(self, each.name) for each in fields(self)}
        del values["planned"]
        values["delivery"] = self.delivery.as_dict() if self.delivery is not None else None
        values |= planned_as_dict(self.planned)
        values["stamped"] = self.stamped.isoformat() if self.stamped is not None else None
        values["seconds"] = round(self.seconds, 3)
        values["notes"] = [{"code": c, "count": n, "text": CODES[c]} for c, n in sorted(self.notes.items())]
        values["failures"] = [asdict(failure) for failure in self.failures]
        for name in ("unreadable", "left_at_the_source"):
            values[name] = [{"where": where, "reason": reason} for where, reason in values[name]]
        return values


def planned_as_dict(planned: list[PlannedFile] | None) -> dict[str, Any]:
    """What a dry run adds to the JSON of a report; nothing where it was none."""
    return {} if planned is None else {"dry_run": True, "planned": [asdict(file) for file in planned]}


@dataclass
class Finding:
    """A file that is not as it should be: `missing`, `altered`, `foreign`, or `unreadable` (a line of a list).

    `messages` are what it takes along, by their SHA-256 and the names that they have.
    """

    path: str
    state: str
    reason: str = ""
    messages: list[tuple[str, str]] = field(default_factory=list)


@dataclass(frozen=True)
class Sealing:
    """How a list of checksums is to be sealed: with the key in a PKCS#12 file ("": it is not), and a stamp of the
    authority at an address ("": none); and with it `each` PDF by itself. Shows no password when it is printed."""

    key: str = ""
    password: str = field(default="", repr=False)
    stamp: str = ""
    each: bool = False


@dataclass
class Sealed:
    """A list of checksums that is sealed, stamped, or both, and whose seal and stamp hold: by whom ("": not), through
    which file of known certificates that is proved ("": it is not), since when nothing of it can have been otherwise,
    and until when that can be proved."""

    list: str
    by: str = ""
    known_by: str = ""
    stamped_by: str = ""
    stamp_known_by: str = ""
    since: datetime | None = None
    until: datetime | None = None

    def as_dict(self) -> dict[str, Any]:
        """Plain values for JSON."""
        moments = {name: getattr(self, name) for name in ("since", "until")}
        return asdict(self) | {name: at.isoformat() if at is not None else None for name, at in moments.items()}


@dataclass
class Verification:
    """What a proof of an export folder or a backup found.

    `files` were looked at, of `bytes` in all (a backup's); `messages` were unpacked and digested, where it went `deep`.
    `left` are files of a run that was stopped, which the next run takes in: nothing is wrong; nor is it with registers
    that people have `worked_in`, each with what is proved of it. `seals` are those that hold. Of `pdfs`, `universal`
    say that they are PDF/UA-1 and are found so; `not_universal` say so and are not, by what is wrong with each;
    `sealed` hold a seal of their own that holds. After a repair, `repaired` and `unrepaired` tell what was mended.
    """

    folder: str
    files: int = 0
    bytes: int = 0
    messages: int = 0
    deep: bool = False
    findings: list[Finding] = field(default_factory=list)
    left: list[str] = field(default_factory=list)
    worked_in: list[tuple[str, str]] = field(default_factory=list)
    repaired: list[str] = field(default_factory=list)
    unrepaired: list[str] = field(default_factory=list)
    seals: list[Sealed] = field(default_factory=list)
    pdfs: int = 0
    universal: int = 0
    not_universal: list[tuple[str, str]] = field(default_factory=list)
    sealed: int = 0

    @property
    def whole(self) -> bool:
        """Whether nothing is wrong."""
        return not self.findings

    def add(self, path: str, state: str, reason: str = "") -> None:
        """Note what is wrong with a file; what was noted first counts."""
        if not any(finding.path == path for finding in self.findings):
            self.findings.append(Finding(path, state, reason))

    def paths(self, state: str) -> list[str]:
        """The files of a state."""
        return [finding.path for finding in self.findings if finding.state == state]

    def as_dict(self) -> dict[str, Any]:
        """Plain values for JSON."""
        worked_in = [{"path": path, "proved": proved} for path, proved in self.worked_in]
        not_universal = [{"path": path, "reason": reason} for path, reason in self.not_universal]
        seals = [one.as_dict() for one in self.seals]
        lists = {"worked_in": worked_in, "seals": seals, "not_universal": not_universal}
        return {"folder": self.folder, "whole": self.whole} | asdict(self) | lists


@dataclass
class ExportReport(Report):
    """The sums of an export.

    `files` counts what was written by its format. `made_again` are files of an earlier run that were missing or
    altered. `unfinished` names the folder whose archive the run was at when it was asked to stop. `recovered` counts
    the messages of a lost journal that register and manifest still know. `indexed` counts the messages on the page to
    browse (None: none was asked for). `numbered` says which numbers are on the pages of the folder, `gaps` which of
    them were given once and are on none now. `renamed` counts files of earlier runs that got other names,
    `sealed_each` the PDFs that were sealed by themselves.
    """

    files: Counter[str] = field(default_factory=Counter)
    made_again: list[str] = field(default_factory=list)
    unfinished: list[str] = field(default_factory=list)
    recovered: int = 0
    indexed: int | None = None
    numbered: str = ""
    gaps: list[str] = field(default_factory=list)
    renamed: int = 0
    sealed_each: int = 0

    def add(self, other: Report) -> None:
        super().add(other)
        if isinstance(other, ExportReport):
            self.files += other.files
            self.sealed_each += other.sealed_each
            self.made_again += other.made_again
            self.unfinished += other.unfinished
            self.indexed = other.indexed
            self.renamed += other.renamed
