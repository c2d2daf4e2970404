"""The plan: which messages this run is about, and what each will be called. Nothing of a body is parsed here."""

from __future__ import annotations

import hashlib
from collections.abc import Callable
from datetime import UTC

from wexagraph.errors import MessageError
from wexagraph.exports.journal import Journal
from wexagraph.exports.options import SUFFIXES, ExportOptions
from wexagraph.exports.target import Target
from wexagraph.naming import Fields, clean, collision_key, component
from wexagraph.selection import Choice
from wexagraph.sources import Envelope, Source


def folder_path(folder: str, flat: bool) -> str:
    """Where the files of a source's folder go, relative to the target; "" for the target itself."""
    if flat:
        return ""
    return "/".join(component(level, room=120) for level in folder.split("/") if clean(level).strip(" ."))


class Planner:
    """Fills the journal with the messages of a run and gives each a name that no other has."""

    def __init__(self, source: Source, journal: Journal, target: Target, options: ExportOptions) -> None:
        self._source, self._journal, self._target, self._options = source, journal, target, options
        self._was_empty = next(journal.files(), None) is None and not _has_content(target)
        self._folders: dict[str, str] = {}

    def plan(self, choice: Choice, progress: Callable[[int], None], stopped: Callable[[], bool]) -> int:
        """Meet the chosen messages. Returns how many there are; stops early when `stopped` says so."""
        journal, count = self._journal, 0
        for envelope in choice.select(self._source):
            self._meet(envelope, count + 1)
            count += 1
            progress(count)
            if count % 512 == 0:
                if stopped():
                    break
                if count % 16384 == 0:
                    journal.commit()
        journal.forget_unread()
        self._give_names()
        journal.commit()
        return count

    def _meet(self, envelope: Envelope, count: int) -> None:
        journal, source = self._journal, self._source.location
        number = journal.known(source, envelope.folder, envelope.place, envelope.fingerprint())
        digest = None
        if number is None and journal.has_digests(envelope.folder):
            digest = self._digest(envelope)
            number = journal.moved(envelope.folder, digest) if digest else None
        if number is None:
            needed = envelope.header.date()[0] is None
            number = journal.add(source, envelope, digest, envelope.arrival if needed else None)
        else:
            journal.meet(number, source, envelope)
            if journal.has_name(number, self._options.naming):
                return
        stem = self._stem(envelope, count)
        moment = envelope.date()[0]
        date = moment.astimezone(UTC).isoformat() if moment else ""
        journal.wish(number, collision_key(stem), stem, date)

    def _stem(self, envelope: Envelope, count: int) -> str:
        options = self._options
        fields = Fields(envelope.header, envelope.folder, envelope.id, options.zone, envelope.arrival, number=count)
        stem = options.pattern.stem(fields)
        folder = self._folders.get(envelope.folder)
        if folder is None:
            folder = self._folders[envelope.folder] = folder_path(envelope.folder, options.flat)
        return f"{folder}/{stem}" if folder else stem

    def _digest(self, envelope: Envelope) -> str | None:
        try:
            return hashlib.sha256(self._source.read(envelope)).hexdigest()
        except MessageError:
            return None

    def _give_names(self) -> None:
        journal, naming = self._journal, self._options.naming
        self._digest_rivals()
        journal.index_wishes()
        for number, key, stem in journal.wishes():
            if self._free(key, stem):
                journal.give_name(number, naming, key, stem)
                continue
            turn = 2
            while True:
                candidate = f"{stem} ({turn})"
                key = collision_key(candidate)
                if self._free(key, candidate) and not journal.wished(key):
                    journal.give_name(number, naming, key, candidate)
                    break
                turn += 1
        journal.clear_wishes()

    def _digest_rivals(self) -> None:
        """Messages that want one name are told apart by their bytes, so that the order of reading does not count."""
        rivals = set(self._journal.rivals())
        if not rivals:
            return
        for row in self._journal.rows(rivals):
            if row.digest is None:
                digest = self._digest(row.envelope())
                if digest:
                    self._journal.set_digest(row.number, digest)

    def _free(self, key: str, stem: str) -> bool:
        if self._journal.name_taken(key):
            return False
        return self._was_empty or not any(self._target.taken(stem + suffix) for suffix in SUFFIXES.values())


def _has_content(target: Target) -> bool:
    return any(path.name != ".wexagraph" for path in target.folder.iterdir())
