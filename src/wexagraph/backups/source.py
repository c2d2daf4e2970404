"""A backup as a source: its folders and messages as they were at the last run, at an earlier one, or ever."""

from __future__ import annotations

import os
import re
from collections.abc import Iterator
from datetime import date, datetime, timedelta
from itertools import islice
from pathlib import Path
from zoneinfo import ZoneInfo

from wexagraph.backups import bag
from wexagraph.backups.encryption import Ask
from wexagraph.backups.opening import open_backup
from wexagraph.backups.packing import describe, short
from wexagraph.errors import CallError, MessageError, SourceError
from wexagraph.selection.criteria import is_indexed, parse_day
from wexagraph.sources.base import WHOLE, Envelope, Leaf, Partition, Source, Wanted

EVER = "ever"
_AROUND, _MOST_SPOTS = 60, 500
_QUOTES = re.compile(r"(?m)^[> ]+")


class BackupSource(Source):
    """The mailbox that a backup holds. `as_of` is a day (its end), the name of a run, or "ever" for all it has held.
    `ask` gives the passphrase of one that is locked.

    Raises SourceError where no backup lies there, or it holds nothing of that day; CallError.
    """

    searches = finds = True
    moves = False

    def __init__(self, folder: Path, as_of: str = "", zone: str = "UTC", ask: Ask | None = None) -> None:
        super().__init__(location=os.path.abspath(folder), kind="backup")
        self.store = open_backup(folder, ask=ask)
        try:
            self.catalogue = self.store.catalogue
            self.run = self._run(as_of, zone)
            self._folders = self._named()
        except BaseException:
            self.store.close()
            raise
        self._digests: dict[tuple[str, str], tuple[str, int]] = {}
        self._found: dict[tuple[str, ...], dict[int, int]] = {}

    def close(self) -> None:
        self.store.close()

    def _run(self, as_of: str, zone: str) -> int | None:
        """The number of the run to show; None for all of them."""
        if as_of == EVER:
            return None
        runs = self.catalogue.runs()
        if not runs:
            raise SourceError(f"{self.location} holds no run yet. `wexagraph backup SOURCE --into DIR` makes one.")
        if not as_of:
            return int(runs[-1]["number"])
        wanted = as_of if as_of.endswith("Z") else _end_of(as_of, zone)
        # a day is that of the clock; a run's name is later where that was set back
        told = "name" if as_of.endswith("Z") else "moment"
        until = [run for run in self.store.all_runs() if run[told] <= wanted]
        if not until:
            first = min(bag.run_moment(run["moment"]) for run in runs)
            raise SourceError(
                f"{self.location} holds nothing of {as_of}: its first run was on {first:%Y-%m-%d %H:%M} UTC."
            )
        return max((int(run["number"]) for run in runs if run[told] <= wanted), default=0)

    def _named(self) -> dict[str, list[int]]:
        """Folders by name. Where several sources share a backup, their folders stand below their names."""
        folders = self.catalogue.folders()
        sources = sorted({source for _, source, _ in folders})
        named: dict[str, list[int]] = {}
        left = self.catalogue.left_behind(self.run)
        for number, source, name in folders:
            if number in left:
                continue
            above = f"{_short_name(source, sources)}/" if len(sources) > 1 else ""
            named.setdefault(above + name, []).append(number)
        return named

    def folders(self) -> list[str]:
        return sorted(self._folders)

    def size(self, folder: str) -> int:
        return sum(self.catalogue.size(number, self.run) for number in self._folders[folder])

    def envelopes(self, folder: str, share: Partition = WHOLE, wanted: Wanted | None = None) -> Iterator[Envelope]:
        numbers = None
        if wanted is not None and wanted.texts and all(map(is_indexed, wanted.texts)):
            numbers = self._ranks(wanted.texts)
        for number in self._folders[folder]:
            rows = self.catalogue.contents(number, self.run, numbers)
            for place, stamp, flags, arrived, message, digest, size, header in rows:
                if self.run is None:
                    place = f"{place} {digest[:12]}"  # a place may have held several
                self._digests[(folder, place)] = (digest, message)
                yield Envelope(
                    folder,
                    place,
                    size,
                    short(header),
                    stamp,
                    frozenset(flags.split()),
                    datetime.fromisoformat(arrived) if arrived else None,
                )

    def _ranks(self, texts: tuple[str, ...]) -> dict[int, int]:
        """The messages that hold one of these texts, and how well they fit: 0 is best."""
        if texts not in self._found:
            self._found[texts] = {number: rank for rank, number in enumerate(self.catalogue.search(texts))}
        return self._found[texts]

    def rank(self, envelope: Envelope, texts: tuple[str, ...]) -> int:
        """How well a message fits what was looked for: 0 is best."""
        return self._ranks(texts).get(self._known(envelope)[1], 1 << 30)

    def snippet(self, envelope: Envelope, texts: tuple[str, ...]) -> str:
        """The place in a message where what was looked for stands, on one line; empty where that is in no text."""
        try:
            words = describe(self.read(envelope))[-1]
        except MessageError:
            return ""
        looked_for = [word for text in texts for word in re.findall(r"\w+", text)]
        if not looked_for:
            return ""
        pattern = re.compile("|".join(map(re.escape, looked_for)), re.IGNORECASE)
        for text in (_QUOTES.sub("", words[2]), words[3], self.catalogue.scans_of(self._known(envelope)[1])):
            spots = [match.span() for match in islice(pattern.finditer(text), _MOST_SPOTS)]
            if spots:
                start, end = max(spots, key=lambda spot: _different(pattern, text, *spot))
                start, stop = max(0, start - _AROUND), end + _AROUND
                piece = " ".join(text[start:stop].split())
                return f"{'…' if start else ''}{piece}{'…' if stop < len(text) else ''}"
        return ""

    def digest(self, envelope: Envelope) -> str:
        """The SHA-256 of a message's bytes, in hexadecimal."""
        return self._known(envelope)[0]

    def read(self, envelope: Envelope) -> bytes:
        return self.store.read(self._known(envelope)[0])

    def _known(self, envelope: Envelope) -> tuple[str, int]:
        key = (envelope.folder, envelope.place)
        if key not in self._digests:
            for _ in self.envelopes(envelope.folder):
                pass
        return self._digests[key]

    def attachments(self, envelope: Envelope) -> list[Leaf]:
        return [Leaf(name, type, None, size) for name, type, size in self.catalogue.leaves(self._known(envelope)[1])]


def _different(pattern: re.Pattern[str], text: str, start: int, end: int) -> int:
    """How many different words of those looked for stand around a spot."""
    return len({word.casefold() for word in pattern.findall(text, max(0, start - _AROUND), end + _AROUND)})


def _end_of(day: str, zone: str) -> str:
    """The name that a run at the end of a day would have. Raises CallError."""
    parsed: date = parse_day(day)
    if len(day.strip()) < 10:
        raise CallError(f"--as-of {day!r}: write a day, 2026-03-14, the name of a run, or {EVER}.")
    clock = ZoneInfo("UTC" if zone == "sender" else zone)
    end = datetime(parsed.year, parsed.month, parsed.day, tzinfo=clock) + timedelta(days=1)
    return bag.run_name(end.astimezone(ZoneInfo("UTC")))


def _short_name(source: str, sources: list[str]) -> str:
    """A name for a source among others: its last part, where no other has the same."""
    last = source.rstrip("/").rpartition("/")[2]
    if sum(other.rstrip("/").rpartition("/")[2] == last for other in sources) > 1:
        return source.replace("/", " ").strip()
    return last
