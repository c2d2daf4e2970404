"""The choice: what narrows a source to some messages, and the order in which they come."""

from __future__ import annotations

import heapq
from collections.abc import Callable, Iterable, Iterator, Mapping
from dataclasses import dataclass, field, replace
from datetime import UTC, date, datetime, tzinfo
from difflib import get_close_matches
from typing import Any, NamedTuple, TypeVar
from zoneinfo import ZoneInfo

from wexagraph.errors import CallError, MessageError
from wexagraph.languages import Language
from wexagraph.messages.conversations import Conversations, base_subject, thread
from wexagraph.notes import Note
from wexagraph.selection.criteria import (
    FLAGS,
    TESTS,
    Criterion,
    Subject,
    Unread,
    folder_matches,
    is_indexed,
    parse_day,
    parse_size,
)
from wexagraph.sources.base import WHOLE, Envelope, Partition, Source, Wanted

ORDERS = ("date", "from", "subject", "size", "folder")
"""What messages can be ordered by; with `-` in front, the last first."""
_UNDATED = "9999"
_Item = TypeVar("_Item")
_AT_ONCE, _AT_ONCE_BYTES, _MOST_WAITING = 200, 4 * 1024 * 1024, 2000
_SAMENESS = ("bytes", "text")  # those of selection/doubles.py
_NEVER = datetime.min.replace(tzinfo=UTC)


@dataclass(frozen=True)
class Choice:
    """Folders, criteria, exceptions and IDs. Empty, it chooses everything.

    Criteria of one name mean either; different names mean all. An exception leaves out what it matches. `newest`
    keeps the N youngest of what is left. Days are counted in `zone`, ages from `today` (else from this day).
    `conversation` is the ID of a message whose whole conversation is chosen, in whatever folders. `sort` says in which
    order they come (selection/ordering.py); else folder by folder. `once` takes one of each that is there more
    than once (selection/doubles.py): the IDs `without` which it is left, and where the `doubles` of an ID lie, are
    found out when it is settled. The folder `apart`, and no other below it, is never looked into. A `thorough` one
    finds attachments that a server does not tell of.
    """

    folders: tuple[str, ...] = ()
    criteria: tuple[Criterion, ...] = ()
    exceptions: tuple[Criterion, ...] = ()
    ids: frozenset[str] | None = None
    newest: int | None = None
    zone: tzinfo | None = None
    conversation: str = ""
    sort: tuple[str, ...] = ()
    once: str = ""
    without: frozenset[str] = field(default=frozenset(), compare=False, repr=False)
    doubles: Mapping[str, str] = field(default_factory=dict, compare=False, repr=False)
    today: date | None = field(default=None, compare=False)
    apart: str = field(default="", compare=False)
    thorough: bool = field(default=False, compare=False)
    _effective: set[Criterion | None] = field(default_factory=set, compare=False, repr=False)
    """The exceptions that have left something out, and None where any were put to a message here."""
    _cheap_first: tuple[tuple[Criterion, ...], ...] = field(init=False, repr=False, compare=False, default=())

    def __post_init__(self) -> None:
        groups: dict[str, list[Criterion]] = {}
        for criterion in self.criteria:
            groups.setdefault(criterion.name, []).append(criterion)
        ordered = sorted(groups.values(), key=lambda group: group[0].reads_body)
        object.__setattr__(self, "_cheap_first", tuple(map(tuple, ordered)))
        _refuse_impossible(groups, self.today)

    def to_dict(self) -> dict[str, Any]:
        """Plain values by the names of the command line, as JSON and TOML hold them; what is not set is left out."""
        values: dict[str, Any] = {"folder": list(self.folders)}
        for criterion in self.criteria:
            if criterion.name in FLAGS:
                values[criterion.name] = True
            else:
                values.setdefault(criterion.name, []).append(criterion.value)
        values["except"] = [f"{one.name}={one.value}" if one.value else one.name for one in self.exceptions]
        values["newest"] = self.newest
        values["conversation"] = self.conversation or None
        values["sort"] = list(self.sort)
        values["once"] = self.once or None
        values["zone"] = str(self.zone) if self.zone is not None else None
        plain = {name: value for name, value in values.items() if value not in (None, [])}
        return plain if self.ids is None else plain | {"id": sorted(self.ids)}  # no ID at all chooses nothing

    @classmethod
    def from_dict(cls, values: Mapping[str, Any]) -> Choice:
        """The choice that plain values name. Raises CallError for one that there is not, or that is wrong."""
        criteria, exceptions = [], []
        for name, value in values.items():
            if name in FLAGS and value:
                criteria.append(Criterion(name, ""))
            elif name in TESTS and name not in FLAGS and name != "folder":
                criteria += [_criterion(name, one) for one in ([value] if isinstance(value, str) else value)]
            elif name not in (*FLAGS, *_OTHERS):
                near = get_close_matches(name, [*TESTS, *_OTHERS], n=1)
                raise CallError(f"a choice has no {name!r}." + (f" Did you mean {near[0]}?" if near else ""))
        for exception in values.get("except", ()):
            name, equals, value = exception.partition("=")
            name = name.strip().removeprefix("--")
            if not equals and name not in (*FLAGS, "attached"):
                what = "Write it as CRITERION=VALUE: 'from=*@list.example'."
                raise CallError(f"--except {exception!r} has no value. {what}")
            exceptions.append(Criterion(name, value.strip() or ("*" if name == "attached" else "")))
        ids, zone = values.get("id"), values.get("zone")
        return cls(
            folders=tuple(values.get("folder", ())),
            criteria=tuple(criteria),
            exceptions=tuple(exceptions),
            ids=frozenset(ids) if ids is not None else None,
            newest=values.get("newest"),
            conversation=values.get("conversation") or "",
            sort=checked(values.get("sort") or ()),
            once=_sameness(values.get("once") or ""),
            zone=ZoneInfo(zone) if zone not in (None, "sender") else None,
        )

    @property
    def groups(self) -> tuple[tuple[Criterion, ...], ...]:
        """The criteria in groups of alternatives, those that read bodies last."""
        return self._cheap_first

    def in_words(self, tr: Language) -> str:
        """What narrows it, in a few words behind "messages": " from ines about quay"; "" where nothing does."""
        words = {
            "from": "from {values}",
            "to": "to {values}",
            "cc": "to {values}",
            "with": "with {values}",
            "subject": "about {values}",
            "body": "about {values}",
            "text": "about {values}",
        }
        said: dict[str, list[str]] = {"in {values}": list(self.folders)} if self.folders else {}
        for criterion in self.criteria:
            if criterion.name in words:
                said.setdefault(words[criterion.name], []).append(criterion.value.strip("*"))
        either = f" {tr('or')} "
        return "".join(f" {tr(text, values=either.join(values))}" for text, values in said.items())

    def with_attachments(self) -> Choice:
        """The same choice of messages that have something attached."""
        if any(criterion.name == "attached" for criterion in self.criteria):
            return replace(self, thorough=True)
        return replace(self, criteria=(*self.criteria, Criterion("attached", "*")), thorough=True)

    @property
    def narrows(self) -> bool:
        """Whether messages of the chosen folders are left out, `newest` apart."""
        return bool(self.criteria or self.exceptions or self.without) or self.ids is not None

    @property
    def idle(self) -> list[str]:
        """The exceptions that have left out nothing, where all was read by this process."""
        idle = [one for one in self.exceptions if one not in self._effective] if None in self._effective else []
        return [f"{one.name}={one.value}" if one.value else one.name for one in idle]

    @property
    def texts(self) -> tuple[str, ...]:
        """What one of must stand in the text or the header of a message."""
        return tuple(criterion.value for criterion in self.criteria if criterion.name == "text")

    def folders_of(self, source: Source) -> list[str]:
        """The folders it looks into. Raises CallError for a folder that the source does not have."""
        names = source.folders()
        excepted = [exception.value for exception in self.exceptions if exception.name == "folder"]
        for wanted in (*self.folders, *excepted):
            if not any(folder_matches(wanted, name) for name in names):
                near = get_close_matches(wanted, names, n=1, cutoff=0.5)
                hint = f" Did you mean {near[0]}?" if near else ""
                raise CallError(f"there is no folder {wanted!r} in the source.{hint} `wexagraph folders` lists them.")
        names = [name for name in names if name != self.apart]
        if not self.folders:
            return names
        return [name for name in names if any(folder_matches(wanted, name) for wanted in self.folders)]

    def matches(self, source: Source, envelope: Envelope) -> bool:
        """Whether a message is chosen, `newest` apart. A message that can't be read is, so that its failure shows."""
        return self._may_be(envelope) and self.meets(self._subject(source, envelope))

    def _may_be(self, envelope: Envelope) -> bool:
        """Whether a message may be chosen, by its ID."""
        id = envelope.id if self.ids is not None or self.without else ""
        return (self.ids is None or id in self.ids) and id not in self.without

    def _subject(self, source: Source, envelope: Envelope) -> Subject:
        subject = Subject(source, envelope, self.zone, self.today)
        subject.thorough, subject.waits = self.thorough, source.lists_apart
        return subject

    def meets(self, subject: Subject) -> bool:
        """Whether a message meets the criteria, and none of the exceptions. Several choices may be put to a subject."""
        source, envelope = subject.source, subject.envelope
        if envelope.trouble:
            return not self.criteria
        try:
            for group in self._cheap_first:
                if source.finds and group[0].name == "text" and all(is_indexed(one.value) for one in group):
                    continue  # the source has found what holds it
                if not any(criterion.matches(subject) for criterion in group):
                    return False
            excepted = [criterion for criterion in self.exceptions if criterion.matches(subject)]
            self._effective.update(excepted, (None,))
            return not excepted
        except MessageError as error:
            envelope.trouble = str(error)
            return True

    def of_share(self, source: Source, folder: str, share: Partition = WHOLE) -> Iterator[Envelope]:
        """The chosen messages of a folder, or of a share of it, `newest` apart."""
        envelopes = self._of_share(source, folder, share)
        return map(self._with_doubles, envelopes) if self.doubles else envelopes

    def _with_doubles(self, envelope: Envelope) -> Envelope:
        """A message with a note of where others lie that are the same."""
        where = self.doubles.get(envelope.id)
        return replace(envelope, notes=(*envelope.notes, Note("double", where))) if where else envelope

    def _of_share(self, source: Source, folder: str, share: Partition) -> Iterator[Envelope]:
        if not self.narrows:
            return source.envelopes(folder, share)
        wanted = None
        if source.searches:
            from wexagraph.selection.program import exact, search_program

            self._effective.update(one for one in self.exceptions if exact(one) is not None)  # the server knows
            wanted = Wanted(search_program(self._cheap_first, self.exceptions, self.today), self.ids, self.texts)
        envelopes = source.envelopes(folder, share, wanted)
        if source.lists_apart:
            return self._in_batches(source, envelopes)
        return (envelope for envelope in envelopes if self.matches(source, envelope))

    def _in_batches(self, source: Source, envelopes: Iterator[Envelope]) -> Iterator[Envelope]:
        """The chosen ones of messages whose bodies come over a line: many are asked for at once."""
        waiting: list[tuple[Envelope, Subject | None]] = []
        size = unread = 0
        for envelope in envelopes:
            if not self._may_be(envelope):
                continue
            subject = self._subject(source, envelope)
            try:
                if self.meets(subject):
                    waiting.append((envelope, None))
            except Unread:
                waiting.append((envelope, subject))
                size, unread = size + envelope.size, unread + 1
            if size > _AT_ONCE_BYTES or unread >= _AT_ONCE or not unread or len(waiting) >= _MOST_WAITING:
                yield from self._read(source, waiting)
                waiting, size, unread = [], 0, 0
        yield from self._read(source, waiting)

    def _read(self, source: Source, waiting: list[tuple[Envelope, Subject | None]]) -> Iterator[Envelope]:
        """Those of messages that are chosen, or may be once they are read."""
        unread = source.read_many([envelope for envelope, subject in waiting if subject is not None])
        for envelope, subject in waiting:
            if subject is not None:
                _, data = next(unread)
                if isinstance(data, MessageError):
                    envelope.trouble = str(data)
                else:
                    subject.read(data)
                    if not self.meets(subject):
                        continue
                    source.keep(envelope, data)
            yield envelope

    def settled(self, source: Source) -> Choice:
        """The choice with its conversation looked up, the IDs of all messages in it, and with the doubles that it
        leaves out. Raises CallError where there is no message of the conversation's ID."""
        return self._of_conversation(source)._once(source)

    def _once(self, source: Source) -> Choice:
        if not self.once:
            return self
        from wexagraph.selection.doubles import doubles

        every = replace(self, once="", newest=None, sort=())
        groups = doubles([(source, every.select(source))], self.once)
        where = {
            first.envelope.id: "; ".join(f"{one.envelope.folder} {one.envelope.id}" for one in rest)
            for first, *rest in groups
        }
        without = frozenset(one.envelope.id for _, *rest in groups for one in rest)
        return replace(self, once="", without=without, doubles=where)

    def _of_conversation(self, source: Source) -> Choice:
        if not self.conversation:
            return self
        conversations, ids = Conversations(), dict[str, int]()
        for folder in source.folders():
            for envelope in source.readable(folder, source.envelopes(folder)):
                ids[envelope.id] = len(ids)
                conversations.add(ids[envelope.id], thread(envelope.header))
        conversations.finish()
        if self.conversation not in ids:
            raise CallError(
                f"--conversation: there is no message {self.conversation!r}. `wexagraph list` gives the IDs."
            )
        root = conversations.root(ids[self.conversation])
        its = frozenset(id for id, number in ids.items() if conversations.root(number) == root)
        return replace(self, conversation="", ids=its if self.ids is None else its & self.ids)

    def select(self, source: Source) -> Iterator[Envelope]:
        """The chosen messages: folder by folder, in each folder's own order, unless it is to be another."""
        yield from in_order(self._unsorted(source), self.sort, facts_of) if self.sort else self._unsorted(source)

    def _unsorted(self, source: Source) -> Iterator[Envelope]:
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


_OTHERS = ("folder", "except", "id", "newest", "zone", "conversation", "sort", "once")
"""What a choice has besides criteria."""


def _criterion(name: str, value: str) -> Criterion:
    try:
        return Criterion(name, value)
    except CallError as error:
        raise CallError(f"--{name}: {error}") from error


def _sameness(word: str) -> str:
    if word and word not in _SAMENESS:
        raise CallError(f"--once {word}: messages are the same by {' or '.join(_SAMENESS)}.")
    return word


def _refuse_impossible(groups: dict[str, list[Criterion]], today: date | None) -> None:
    """Raise CallError for two criteria that no message can meet at once."""
    since = [parse_day(one.value, today) for one in groups.get("since", ())]
    before = [parse_day(one.value, today) for one in groups.get("before", ())]
    if since and before and min(since) >= max(before):
        raise CallError(
            f"--since {min(since)} and --before {max(before)} leave no day between them: --before names the day behind "
            "the last one."
        )
    larger = [parse_size(one.value) for one in groups.get("larger", ())]
    smaller = [parse_size(one.value) for one in groups.get("smaller", ())]
    if larger and smaller and min(larger) >= max(smaller):
        raise CallError("--larger and --smaller leave no size between them.")


class Facts(NamedTuple):
    """What a message is ordered by; the date is a moment in UTC (ISO 8601), "" where there is none."""

    date: str
    sender: str
    subject: str
    size: int
    folder: str


def checked(words: Iterable[str]) -> tuple[str, ...]:
    """The words of an order. Raises CallError for one that there is not."""
    given = tuple(word.strip().lower() for text in words for word in text.split(",") if word.strip())
    for word in given:
        if word.removeprefix("-") not in ORDERS:
            raise CallError(
                f"--sort {word}: messages are ordered by {', '.join(ORDERS)}; with - in front, the last first."
            )
    return given


def facts_of(envelope: Envelope) -> Facts:
    """What a message is ordered by, as its source lists it."""
    moment, header = envelope.date()[0], envelope.header
    sender = header.sender.name or header.sender.address
    return Facts(_utc(moment), sender, header.subject, envelope.size, envelope.folder)


def _utc(moment: datetime | None) -> str:
    return moment.astimezone(UTC).isoformat() if moment is not None else ""


def in_order(items: Iterable[_Item], order: tuple[str, ...], facts: Callable[[_Item], Facts]) -> list[_Item]:
    """Things about messages in an order; those that are equal in it stay as they came, and what has no date comes
    last."""
    pairs = [(facts(item), item) for item in items]
    for word in reversed(order):
        key = _KEYS[word.removeprefix("-")]
        pairs.sort(key=lambda pair: key(pair[0]), reverse=word.startswith("-"))
        if word.endswith("date"):
            pairs.sort(key=lambda pair: not pair[0].date)
    return [item for _, item in pairs]


_KEYS: dict[str, Callable[[Facts], str | int]] = {
    "date": lambda facts: facts.date or _UNDATED,
    "from": lambda facts: facts.sender.casefold(),
    "subject": lambda facts: base_subject(facts.subject)[0].casefold(),
    "size": lambda facts: facts.size,
    "folder": lambda facts: facts.folder.casefold(),
}
