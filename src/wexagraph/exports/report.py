"""What an export did, for people and for programs."""

from __future__ import annotations

from collections import Counter
from dataclasses import dataclass, field
from typing import Any

from wexagraph.notes import CODES

MOST_FAILURES = 1000
"""So many failures are kept with their reasons; the register has them all."""


@dataclass(frozen=True, slots=True)
class Failure:
    """A message that did not come out as asked: where it is, its subject, and why."""

    id: str
    folder: str
    subject: str
    reason: str


@dataclass
class Progress:
    """How far an export is. `total` is None while messages are still being looked for."""

    done: int = 0
    total: int | None = None
    failed: int = 0
    files: int = 0


@dataclass
class Report:
    """The sums of an export: `read` is `written` + `already` + `failed`. `bytes` counts what was written.

    `troubles` are parts of the source that could not be opened, each with the reason. `interrupted` says that the
    run was asked to stop before its end, `unfinished` names the folder whose archive it was at then. `changed` counts
    the messages that were changed at the source afterwards, `spared` those that were no longer what was stored.
    `recovered` counts the messages of a lost journal that register and manifest still know.
    """

    into: str
    read: int = 0
    written: int = 0
    already: int = 0
    failed: int = 0
    files: Counter[str] = field(default_factory=Counter)
    bytes: int = 0
    notes: Counter[str] = field(default_factory=Counter)
    remade: list[str] = field(default_factory=list)
    failures: list[Failure] = field(default_factory=list)
    troubles: list[tuple[str, str]] = field(default_factory=list)
    missing_ids: list[str] = field(default_factory=list)
    unfinished: list[str] = field(default_factory=list)
    seconds: float = 0.0
    interrupted: bool = False
    changed: int | None = None
    spared: list[tuple[str, str]] = field(default_factory=list)
    recovered: int = 0

    def fail(self, failure: Failure) -> None:
        self.failed += 1
        if len(self.failures) < MOST_FAILURES:
            self.failures.append(failure)

    @property
    def complete(self) -> bool:
        """Whether everything that was asked for is there."""
        return not (self.failed or self.troubles or self.missing_ids or self.interrupted or self.spared)

    def as_dict(self) -> dict[str, Any]:
        """Plain values for JSON."""
        return {
            "into": self.into,
            "read": self.read,
            "written": self.written,
            "already_there": self.already,
            "failed": self.failed,
            "files": dict(self.files),
            "bytes": self.bytes,
            "seconds": round(self.seconds, 3),
            "notes": [{"code": code, "count": n, "text": CODES[code]} for code, n in sorted(self.notes.items())],
            "made_again": self.remade,
            "failures": [
                {"id": f.id, "folder": f.folder, "subject": f.subject, "reason": f.reason} for f in self.failures
            ],
            "unreadable": [{"where": where, "reason": reason} for where, reason in self.troubles],
            "unknown_ids": self.missing_ids,
            "unfinished": self.unfinished,
            "interrupted": self.interrupted,
            "changed_at_the_source": self.changed,
            "left_at_the_source": [{"where": where, "reason": reason} for where, reason in self.spared],
            "recovered": self.recovered,
        }
