"""The choice: what narrows a source to some messages."""

from __future__ import annotations

import heapq
from collections.abc import Iterator
from dataclasses import dataclass, field
from datetime import UTC, datetime, tzinfo
from difflib import get_close_matches

from wexagraph.errors import CallError, MessageError
from wexagraph.selection.criteria import Criterion, Subject, folder_matches
from wexagraph.sources import WHOLE, Envelope, Partition, Source, Wanted

_NEVER = datetime.min.replace(tzinfo=UTC)


@dataclass(frozen=True)
class Choice:
    """Folders, criteria, exceptions and IDs. Empty, it chooses everything.

    Criteria of one name mean either; different names mean all. An exception leaves out what it matches. `newest`
    keeps the N youngest of what is left. Days are counted in `zone`.
    """

    folders: tuple[str, ...] = ()
    criteria: tuple[Criterion, ...] = ()
    exceptions: tuple[Criterion, ...] = ()
    ids: frozenset[str] | None = None
    newest: int | None = None
    zone: tzinfo | None = None
    _cheap_first: tuple[tuple[Criterion, ...], ...] = field(init=False, repr=False, compare=False, default=())

    def __post_init__(self) -> None:
        groups: dict[str, list[Criterion]] = {}
        for criterion in self.criteria:
            groups.setdefault(criterion.name, []).append(criterion)
        ordered = sorted(groups.values(), key=lambda group: group[0].reads_body)
        object.__setattr__(self, "_cheap_first", tuple(map(tuple, ordered)))

    @property
    def texts(self) -> tuple[str, ...]:
        """What one of must stand in the text or the header of a message."""
        return tuple(criterion.value for criterion in self.criteria if criterion.name == "text")

    def folders_of(self, source: Source) -> list[str]:
        """The folders it looks into. Raises CallError for a folder that the source does not have."""
        names = source.folders()
        if not self.folders:
            return names
        for wanted in self.folders:
            if not any(folder_matches(wanted, name) for name in names):
                near = get_close_matches(wanted, names, n=1, cutoff=0.5)
                hint = f" Did you mean {near[0]}?" if near else ""
                raise CallError(f"there is no folder {wanted!r} in the source.{hint} `wexagraph folders` lists them.")
        return [name for name in names if any(folder_matches(wanted, name) for wanted in self.folders)]

    def matches(self, source: Source, envelope: Envelope) -> bool:
        """Whether a message is chosen, `newest` apart. A message that can't be read is, so that its failure shows."""
        if self.ids is not None and envelope.id not in self.ids:
            return False
        if envelope.trouble:
            return not self.criteria
        subject = Subject(source, envelope, self.zone)
        try:
            for group in self._cheap_first:
                if source.finds and group[0].name == "text":
                    continue  # the source has found what holds it
                if not any(criterion.matches(subject) for criterion in group):
                    return False
            return not any(criterion.matches(subject) for criterion in self.exceptions)
        except MessageError as error:
            envelope.trouble = str(error)
            return True

    def of_share(self, source: Source, folder: str, share: Partition = WHOLE) -> Iterator[Envelope]:
        """The chosen messages of a folder, or of a share of it, `newest` apart."""
        if not (self.criteria or self.exceptions) and self.ids is None:
            return source.envelopes(folder, share)
        wanted = None
        if source.searches:
            from wexagraph.selection.program import search_program

            wanted = Wanted(search_program(self._cheap_first, self.exceptions), self.ids, self.texts)
        return (envelope for envelope in source.envelopes(folder, share, wanted) if self.matches(source, envelope))

    def select(self, source: Source) -> Iterator[Envelope]:
        """The chosen messages, folder by folder, in each folder's own order."""
        chosen = (
            envelope
            for folder in self.folders_of(source)
            for envelope in source.readable(folder, self.of_share(source, folder))
        )
        if self.newest is None:
            yield from chosen
            return
        ranked = ((e.date()[0] or _NEVER, -n, e) for n, e in enumerate(chosen))
        youngest = heapq.nlargest(self.newest, ranked, key=lambda item: item[:2])
        for _, _, envelope in sorted(youngest, key=lambda item: -item[1]):
            yield envelope
