"""Whether one place holds all messages of another: pairs of messages that are the same, and what has none."""

from __future__ import annotations

import hashlib
from collections import Counter
from collections.abc import Callable, Iterable
from dataclasses import dataclass, field

from wexagraph.tables.columns import Column

THERE, MISSING, CHANGED, MORE = "there", "missing", "changed", "more"


@dataclass(frozen=True, slots=True)
class Holding:
    """A message that a place holds. `key` says what its header tells (date in UTC, from, to, cc, subject), `digest` is
    the SHA-256 of its bytes ("" where they were not read), `unread` says why they can't be."""

    folder: str
    id: str
    key: str
    size: int
    digest: str = ""
    unread: str = ""
    dated: bool = True

    @property
    def date(self) -> str:
        return self.key.partition("\x1f")[0]

    @property
    def sender(self) -> str:
        return self.key.split("\x1f")[1]

    @property
    def subject(self) -> str:
        return self.key.rpartition("\x1f")[2]


@dataclass(frozen=True, slots=True)
class Difference:
    """A message that is missing or changed, or one more than there should be."""

    state: str
    holding: Holding


COLUMNS: list[Column[Difference]] = [
    Column("state", lambda one: one.state),
    Column("folder", lambda one: one.holding.folder),
    Column("id", lambda one: one.holding.id),
    Column("date", lambda one: one.holding.date),
    Column("from", lambda one: one.holding.sender),
    Column("subject", lambda one: one.holding.subject),
    Column("size", lambda one: one.holding.size, "number"),
    Column("sha256", lambda one: one.holding.digest),
    Column("reason", lambda one: one.holding.unread),
]
"""The table of differences."""


@dataclass(frozen=True)
class Inventory:
    """What there is to say of all messages of a place: how many, their bytes, the first and the last date, and the
    SHA-256 of the list of their digests (a line each, sorted; of their keys, where no bytes were read)."""

    messages: int
    bytes: int
    first: str
    last: str
    digest: str


@dataclass
class Comparison:
    """What came of comparing `source` with `folder`, byte for byte where it was `deep`. `folders` counts the
    messages of each folder of the source by their states."""

    source: str
    folder: str
    deep: bool
    wanted: Inventory
    held: Inventory
    differences: list[Difference] = field(default_factory=list)
    folders: dict[str, Counter[str]] = field(default_factory=dict)

    @property
    def complete(self) -> bool:
        """Whether all of the source is there."""
        return not (self.count(MISSING) or self.count(CHANGED))

    def count(self, state: str) -> int:
        """How many messages are in a state."""
        if state == MORE:
            return sum(one.state == MORE for one in self.differences)
        return sum(counts[state] for counts in self.folders.values())


def compare(source: str, wanted: list[Holding], folder: str, held: list[Holding], deep: bool) -> Comparison:
    """Compare what a source has with what a folder holds, wherever in it."""
    comparison = Comparison(source, folder, deep, _inventory(wanted, deep), _inventory(held, deep))
    for one in wanted:
        comparison.folders.setdefault(one.folder, Counter())
    if deep:
        left, rest = _paired(wanted, held, lambda one: one.digest, comparison, THERE)
        left, rest = _paired(left, rest, lambda one: one.key, comparison, CHANGED)
    else:
        left, rest = _paired(wanted, held, lambda one: one.key, comparison, THERE)
        # what has no date of its own has one of its mailbox, which another mailbox does not know
        left, rest = _paired(left, rest, _undated, comparison, THERE)
    for one in left:
        comparison.folders[one.folder][MISSING] += 1
    comparison.differences += [Difference(MISSING, one) for one in left] + [Difference(MORE, one) for one in rest]
    return comparison


def _undated(one: Holding) -> str:
    """What the header tells but for the date; "" of what has a date of its own."""
    return "" if one.dated else one.key.partition("\x1f")[2]


def _paired(
    wanted: list[Holding], held: list[Holding], key: Callable[[Holding], str], comparison: Comparison, state: str
) -> tuple[list[Holding], list[Holding]]:
    """Pairs of messages with the same key ("" has no other) are in a state. Returns what has none, on both sides."""
    there: dict[str, list[Holding]] = {}
    for one in held:
        there.setdefault(key(one), []).append(one)
    there.pop("", None)
    left, taken = [], set[int]()
    for one in wanted:
        if others := there.get(key(one)):
            taken.add(id(others.pop(0)))
            comparison.folders[one.folder][state] += 1
            if state == CHANGED:
                comparison.differences.append(Difference(state, one))
        else:
            left.append(one)
    return left, [one for one in held if id(one) not in taken]


def _inventory(holdings: Iterable[Holding], deep: bool) -> Inventory:
    held = list(holdings)
    dates = sorted(one.date for one in held if one.date)
    lines = sorted(
        one.digest if deep else hashlib.sha256(one.key.encode("utf-8", "surrogateescape")).hexdigest() for one in held
    )
    digest = hashlib.sha256("".join(f"{line}\n" for line in lines).encode()).hexdigest()
    first, last = (dates[0], dates[-1]) if dates else ("", "")
    return Inventory(len(held), sum(one.size for one in held), first, last, digest)
