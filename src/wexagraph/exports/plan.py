"""The plan: which messages this run is about, and what each will be called. Nothing of a body is parsed here."""

from __future__ import annotations

import hashlib
import itertools
from collections.abc import Callable, Iterable, Iterator
from concurrent.futures import Future
from dataclasses import replace
from datetime import UTC
from functools import partial
from operator import itemgetter

from wexagraph.errors import MessageError
from wexagraph.exports.journal.journal import Journal
from wexagraph.exports.journal.records import PlannedMessage, packed, packed_notes
from wexagraph.exports.options import ExportOptions, a_message
from wexagraph.exports.turns import ALL, Turns
from wexagraph.messages.conversations import base_subject, thread
from wexagraph.messages.dates import in_zone
from wexagraph.messages.headers import Header
from wexagraph.messages.message import Message
from wexagraph.naming.paths import RESERVED_STEMS, collision_key, folder_path, with_number
from wexagraph.naming.patterns import Fields
from wexagraph.output.target import Target
from wexagraph.selection.choice import Choice
from wexagraph.sources import reopen
from wexagraph.sources.base import Envelope, Partition, Source, bounded
from wexagraph.tables.message_columns import written_by
from wexagraph.text import one_line, shortened
from wexagraph.work.batches import WorkerLost, Workers, ahead

_LARGE = 48 * 1024 * 1024  # bytes of a source that are worth reading by shares, in workers
_SHARE = 12 * 1024 * 1024
_BATCH = 500


def wishes(
    envelopes: Iterable[Envelope], options: ExportOptions, source: Source | None = None, number: int = 1
) -> Iterator[PlannedMessage]:
    """What the plan has to know of each message; `number` is the first one's in this run. Only a name that tells of its
    body has it read from the `source`."""
    zone, endings = options.zone, (*(format.suffix for format in a_message()), ".zip")
    for count, envelope in enumerate(envelopes, number):
        moment, notes = envelope.date()
        header, id = envelope.header, envelope.id
        fields = Fields(
            *(header, envelope.folder, id, zone, moment),
            number=count,
            case=options.page.case,
            read=partial(_message, source, envelope),
            tr=options.page.tr,
            names=options.page.names,
        )
        tags = _tags(options, fields) if options.tags else ""
        fields.tags = tags
        stem = options.pattern.stem(options.page.called(fields))
        folder = folder_path(envelope.folder, options.flat)
        stem = f"{folder}/{stem}" if folder else stem
        if options.beside and stem.lower().endswith(endings):
            stem += "_"  # what lies beside it must not bear the name of another message's file
        bound = _bound(options, fields, folder) if options.bind else ("", "")
        shown = in_zone(moment, zone) if moment and zone else moment
        facts = [shown.isoformat() if shown else "", *written_by(header)]
        yield PlannedMessage(
            place=envelope.place,
            fingerprint=envelope.fingerprint(),
            id=id,
            size=envelope.size,
            arrival=envelope.arrival.isoformat() if notes and envelope.arrival else None,
            facts=packed(facts),
            notes=packed_notes([*notes, *envelope.notes]),
            stem=stem,
            key=collision_key(stem),
            date=moment.astimezone(UTC).isoformat() if moment else "",
            tags=tags,
            thread=thread(header, envelope.bearer) if options.bind else None,
            bound=bound,
            turn=count,
        )


def _message(source: Source | None, envelope: Envelope) -> Message:
    return source.message(source.read(envelope)) if source is not None else Message(b"")


def _tags(options: ExportOptions, fields: Fields) -> str:
    """The tags of a message. A comma parts them, so none can hold one."""
    tags = (tag.fill(fields).replace(",", " ").strip() for tag in options.tags)
    return ", ".join(dict.fromkeys(shortened(tag, 200) for tag in tags if tag))


def _bound(options: ExportOptions, fields: Fields, folder: str) -> tuple[str, str]:
    """Title and stem of a bound PDF that begins with this message: what its messages have in common."""
    if options.bind == "conversation":
        common = base_subject(fields.header.subject)[0]
    else:
        common = fields.folder.rpartition("/")[2] if options.bind == "folder" else ALL
    if options.title is not None:
        common = options.title.fill(replace(fields, subject="" if common == ALL else common))
    stem = options.bound.stem(replace(fields, subject=common))
    title = shortened(one_line(common), 1000) or options.page.tr("no subject")
    return title, f"{folder}/{stem}" if folder and options.bind != "all" else stem


def wishes_of_share(
    location: str, choice: Choice, folder: str, share: Partition, options: ExportOptions
) -> list[PlannedMessage]:
    """The plan of a share of a folder; runs in a worker."""
    source = reopen(location)
    return list(wishes(choice.of_share(source, folder, share), options, source))


class Planner:
    """Fills the journal with the messages of a run and gives each a name that no other has."""

    def __init__(
        self,
        source: Source,
        journal: Journal,
        target: Target,
        options: ExportOptions,
        workers: Callable[[], Workers],
        turns: Turns | None = None,
    ) -> None:
        self._source, self._journal, self._target, self._options = source, journal, target, options
        self._turns = turns
        self._workers = workers
        self._was_empty = not _has_content(target)
        self._known = not journal.is_empty()
        self._read_before: dict[str, bool] = {}

    def plan(self, choice: Choice, progress: Callable[[int], None], stopped: Callable[[], bool]) -> int:
        """Meet the chosen messages. Returns how many there are; stops early when `stopped` says so."""
        count = 0
        for folder, batch in self._wishes(choice):
            if self._known:
                self._meet(folder, batch)
            else:
                self._tell_turns(folder, self._journal.add_many(self._source.location, folder, batch), batch)
            count += len(batch)
            progress(count)
            if stopped():
                break
        self._journal.forget_unread()
        self._give_names()
        self._journal.commit()
        return count

    def _wishes(self, choice: Choice) -> Iterator[tuple[str, list[PlannedMessage]]]:
        """The plan in pieces, each of one folder. A large source is read by several processes, a share each."""
        source, options = self._source, self._options
        folders = choice.folders_of(source)
        elsewhere = bool(options.cluster)  # no worker there could open the source
        in_order = (
            elsewhere
            or choice.newest is not None
            or bool(choice.sort)
            or "{number" in options.pattern.text
            or options.numbered
        )
        if in_order or not source.reopens or options.jobs < 2 or sum(map(source.size, folders)) < _LARGE:
            number = 1
            for batch in bounded(choice.select(source), _BATCH):
                yield batch[0].folder, list(wishes(batch, options, source, number))
                number += len(batch)
            return

        def shares() -> Iterator[tuple[str, Partition, Future[list[PlannedMessage]]]]:
            for folder in folders:
                count = source.size(folder) // _SHARE + 1
                for number in range(count):
                    call = (source.address, choice, folder, (number, count), options)
                    yield folder, (number, count), self._workers().submit_lasting(wishes_of_share, *call)

        for folder, share, future in ahead(shares(), 2 * options.jobs):
            try:
                yield folder, future.result()
            except (WorkerLost, MemoryError):  # what a worker was lost over is planned here: it is headers only
                yield folder, list(wishes(choice.of_share(source, folder, share), options, source))

    def _meet(self, folder: str, batch: list[PlannedMessage]) -> None:
        """Messages, where earlier runs have left something: are they some of theirs?"""
        journal, source = self._journal, self._source.location
        known = [journal.known(source, folder, wish.place, wish.fingerprint) for wish in batch]
        strange = [wish for wish, number in zip(batch, known, strict=True) if number is None]
        digests: dict[str, str] = {}
        # where a message stays in its place, a new place is a new message: nothing has to be read to know it
        if (
            strange
            and self._was_read_before(folder)
            and (self._source.moves or journal.restamped(source, folder, strange[0]))
        ):
            wanted = (Envelope(folder, w.place, w.size, Header(b""), w.fingerprint) for w in strange)
            for envelope, data in self._source.read_many(wanted):
                if not isinstance(data, MessageError):
                    digests[envelope.place] = hashlib.sha256(data).hexdigest()
        for wish, number in zip(batch, known, strict=True):
            digest = digests.get(wish.place)
            if number is None and digest:
                number = journal.moved(folder, digest)
            if number is None:
                self._tell_turns(folder, journal.add_many(source, folder, [wish], digest), [wish])
                continue
            journal.meet(number, source, wish)
            self._tell_turns(folder, [number], [wish])
            if not journal.names.has(number, self._options.naming):
                journal.names.wish(number, wish)

    def _tell_turns(self, folder: str, numbers: Iterable[int], batch: list[PlannedMessage]) -> None:
        if self._turns is not None:
            self._turns.meet(folder, numbers, batch)

    def _was_read_before(self, folder: str) -> bool:
        if folder not in self._read_before:
            self._read_before[folder] = self._journal.has_digests(folder)
        return self._read_before[folder]

    def _give_names(self) -> None:
        journal, naming = self._journal, self._options.naming
        self._digest_rivals()
        journal.names.index_wishes()
        if self._was_empty:
            journal.names.give_lone(naming)
        for _, rivals in itertools.groupby(journal.names.wishes(), itemgetter(1)):
            first = 1  # no lower number is free for a message that has not had it before
            for message, key, stem in rivals:
                own = [number for number in journal.names.own_numbers(message, key) if number < first]
                numbers = itertools.chain(own, itertools.count(first))
                number = next(number for number in numbers if self._free(message, stem, number))
                journal.names.give(message, naming, with_number(stem, "", number))
                first = max(first, number + 1)
        journal.names.clear_wishes()

    def _digest_rivals(self) -> None:
        """Messages that want one name are told apart by their bytes, so that the order of reading does not count."""
        rows = [row for row in map(self._journal.row, self._journal.names.rivals()) if row.digest is None]
        reading = self._source.read_many(row.envelope() for row in rows)
        for row, (_, data) in zip(rows, reading, strict=True):
            if not isinstance(data, MessageError):
                self._journal.set_digest(row.number, hashlib.sha256(data).hexdigest())

    def _free(self, message: int, stem: str, number: int) -> bool:
        """Whether a message may have a name with this number: no other has it or wishes for it, and no file lies there
        that is not its own."""
        name, names = with_number(stem, "", number), self._journal.names
        key = collision_key(name)
        if key in RESERVED_STEMS or names.taken(key, message) or (number > 1 and names.wished(key)):
            return False
        naming = self._options.naming if self._options.generation else None  # made anew, it stands beside its old file
        return self._was_empty or not any(
            self._target.taken(path) and not self._journal.files.has(message, path, naming)
            for path in (name + format.suffix for format in a_message())
        )


def _has_content(target: Target) -> bool:
    return any(path.name != ".wexagraph" for path in target.folder.iterdir())
