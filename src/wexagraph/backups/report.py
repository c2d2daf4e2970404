"""What a run of a backup has done, for people and for programs."""

from __future__ import annotations

from dataclasses import asdict, dataclass, field
from typing import Any


@dataclass
class RunReport:
    """The sums of a run: `read` messages were looked at; of them `added` had to be stored, `known` were stored already,
    `failed` could not be read. `changed` have other flags or lie elsewhere, `gone` lie in no folder of the source where
    they lay before. `bytes` is what was added to the disk. `state` is whole or stopped."""

    into: str
    run: str = ""
    read: int = 0
    added: int = 0
    known: int = 0
    changed: int = 0
    gone: int = 0
    failed: int = 0
    bytes: int = 0
    volumes: int = 0
    messages: int = 0
    state: str = "whole"
    seconds: float = 0.0
    changed_at_the_source: int | None = None
    failures: list[tuple[str, str, str]] = field(default_factory=list)
    troubles: list[tuple[str, str]] = field(default_factory=list)
    missing_ids: list[str] = field(default_factory=list)
    spared: list[tuple[str, str]] = field(default_factory=list)

    @property
    def complete(self) -> bool:
        return not (self.failed or self.troubles or self.missing_ids or self.spared or self.state != "whole")

    def as_dict(self) -> dict[str, Any]:
        """Plain values for JSON."""
        return asdict(self) | {"seconds": round(self.seconds, 3)}
