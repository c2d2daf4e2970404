"""A table that people work in, brought up to date: what they did stays, what is new comes behind it.

Each row is known by its key (`tables/living/keys.py`). The forms of a table (CSV, XLSX) are a `Sheet` each.
"""

from __future__ import annotations

from collections import Counter
from collections.abc import Callable, Iterable, Iterator
from dataclasses import dataclass, field
from itertools import islice
from typing import Any, NamedTuple, Protocol

from wexagraph.errors import TargetError
from wexagraph.languages import ENGLISH, Language, language
from wexagraph.tables.columns import Column
from wexagraph.tables.living.keys import CHECK, RowId, check, folder_digest, heading, key, parse_heading
from wexagraph.tables.living.keys import parse_key as parsed

STATE, HERE, GONE = "state", "here", "no longer chosen"
_NONE: frozenset[int] = frozenset()
_TELLING = frozenset({"id", "date", "time", "from", "subject", "sha256"})
"""Columns by which a message is known where its key is gone."""
_SAMPLE = 500  # rows by which a column with another heading is known


class Part(Protocol):
    """A sheet of a table: its name, its headings by column, and its rows. `width` is how many columns are in use, those
    without a heading too, as far as that is told."""

    name: str
    heading: list[str]
    width: int

    def rows(self, columns: dict[int, str]) -> Iterator[tuple[int, dict[int, str]]]:
        """Each row by its number, with the texts of those columns that are not empty. The columns have their kinds."""


class Sheet(Protocol):
    """A table in one of its forms. What is changed and appended shows when it is saved."""

    path: str
    parts: list[Any]

    def text(self, value: Any) -> str:
        """What a cell with this value will be read as."""

    def messages(self) -> frozenset[str]:
        """The messages whose keys seem to stand in it, found quickly."""

    def strays(self, messages: set[str]) -> frozenset[str]:
        """The messages whose keys stand in it, but not where keys are read; as far as the form can tell."""

    def change(self, part: int, row: int, values: dict[int, Any]) -> None:
        """Put values into cells of a row; row 0 is the heading."""

    def append(self, values: dict[int, Any]) -> None:
        """A row at the end of the last part."""

    def link(self, columns: set[int]) -> None:
        """Columns whose texts are paths that lie beside the table."""


class NotTold(Exception):
    """A value is needed that nobody has asked for, because the row of its message was thought to be there."""


class Listing(NamedTuple):
    """A thing to be listed: the digest of what tells it from others, its folder, and what the columns are of."""

    message: str
    folder: str
    thing: Any


@dataclass
class TopUp:
    """What was done to a table. `by_hand` counts cells of ours that somebody has changed, `gone` rows of what is
    chosen no longer; `renamed` and `deleted` are columns."""

    rows: int = 0
    added: int = 0
    updated: int = 0
    gone: int = 0
    by_hand: int = 0
    renamed: list[tuple[str, str]] = field(default_factory=list)
    deleted: list[str] = field(default_factory=list)
    changed: bool = False


@dataclass
class Entry:
    """A column that the heading over the keys names. `at` is its place; None where it was deleted."""

    column: Column[Any]
    heading: str
    at: int | None = None


@dataclass
class Layout:
    """Where the columns of a sheet are. `entries` are ours, in the order of their checks; `own` are the office's."""

    key: int
    entries: list[Entry]
    own: list[Entry]

    def heading(self) -> str:
        """What is to stand over the keys."""
        return heading((entry.column.name, entry.heading) for entry in (*self.entries, *self.own))

    def kinds(self) -> dict[int, str]:
        """The kind of each column that has to be read."""
        kinds = {entry.at: entry.column.kind for entry in self.entries if entry.at is not None}
        return {**kinds, self.key: "text"}


class _Row(NamedTuple):
    id: RowId
    part: int
    row: int
    checks: str
    by_hand: frozenset[int]


def layout_of(part: Part, path: str, resolve: Callable[[str], Column[Any]]) -> Layout:
    """Find the columns of a sheet again. Raises TargetError where it has no keys."""
    keys = [(at, names) for at, text in enumerate(part.heading) if (names := parse_heading(text)) is not None]
    if len(keys) != 1:
        raise _no_keys(path, "no key column any more" if not keys else "two key columns")
    free: dict[str, int] = {}
    for at, text in enumerate(part.heading):
        if text and at != keys[0][0]:
            free.setdefault(text, at)
    layout = Layout(keys[0][0], [], [])
    for name, text in keys[0][1]:
        column = resolve(name)
        entry = Entry(column, text, free.pop(text, None))
        (layout.own if column.kind == "own" else layout.entries).append(entry)
    _find_renamed(part, layout, sorted(free.values()))
    return layout


def _no_keys(path: str, what: str) -> TargetError:
    return TargetError(
        f"{path} has {what}: the heading that begins with 'key', and the keys below it, tell which row is which "
        "message. Nothing was written. Give it back, for example from the version before, or choose another file."
    )


def _find_renamed(part: Part, layout: Layout, unknown: list[int]) -> None:
    """A column of ours that has another heading is known by what stands below it."""
    missing = [(number, entry) for number, entry in enumerate(layout.entries) if entry.at is None]
    if not missing or not unknown:
        return
    fitting: Counter[tuple[int, int]] = Counter()
    for kind in {entry.column.kind for _, entry in missing}:
        rows = part.rows({**dict.fromkeys(unknown, kind), layout.key: "text"})
        for _, texts in islice(rows, _SAMPLE):
            row = parsed(texts.get(layout.key, ""))
            if row is None:
                continue
            for number, entry in missing:
                if entry.column.kind != kind:
                    continue
                written = row[1][number * CHECK : (number + 1) * CHECK]
                for at in unknown:
                    text = texts.get(at, "")
                    # an empty cell tells nothing, another text tells against it
                    fits = check(entry.column.name, text) == written
                    fitting[number, at] += (1 if fits else -1) if text or not fits else 0
    for (number, at), count in fitting.most_common():
        entry = layout.entries[number]
        if count > 0 and entry.at is None and at in unknown:
            entry.at, entry.heading = at, part.heading[at]
            unknown.remove(at)


def value_of(column: Column[Any], thing: Any) -> Any:
    """What a column has of a thing."""
    return column.value(thing)


class LivingTable:
    """A table being brought up to date: told of each thing it is to list, then finished."""

    def __init__(
        self,
        sheet: Sheet,
        resolve: Callable[[str], Column[Any]],
        wanted: Iterable[Column[Any]] = (),
        value: Callable[[Column[Any], Any], Any] = value_of,
        tr: Language | None = None,
    ) -> None:
        """Find the columns of a table. `resolve` gives that of a name; `wanted` are columns that may be new to it;
        `value` gives what a column has of a thing; headings of new columns are in the language of `tr`.

        Raises TargetError where it has no keys.
        """
        self._sheet, self._value, self._tr = sheet, value, tr or language(ENGLISH)
        self.result = TopUp()
        self._layouts = [layout_of(part, sheet.path, resolve) for part in sheet.parts]
        if not self._layouts:
            raise _no_keys(sheet.path, "no key column any more")
        for number, layout in enumerate(self._layouts):
            self._settle(number, layout, list(wanted))
        links = {e.at for e in self._layouts[-1].entries if e.at is not None and e.column.kind == "link"}
        sheet.link(links)
        self._known: dict[RowId, _Row] = {}
        self._messages: set[str] = set()
        self._turns: Counter[tuple[str, str]] = Counter()
        self._waiting: list[tuple[RowId, Any]] = []
        self._keyless: dict[tuple[int, tuple[str, ...]], int] = {}
        self._doubled: list[int] = []

    def _settle(self, number: int, layout: Layout, wanted: list[Column[Any]]) -> None:
        """Give a sheet the columns that are new to it, and its heading over the keys what it now has."""
        part = self._sheet.parts[number]
        if number == 0:
            for entry in layout.entries:
                if entry.at is None:
                    self.result.deleted.append(entry.heading)
                elif not entry.column.is_heading(entry.heading, self._tr):
                    self.result.renamed.append((entry.column.headed(self._tr), entry.heading))
        names = {entry.column.name for entry in (*layout.entries, *layout.own)}
        headings: dict[int, Any] = {}
        for column in wanted:
            if column.name not in names:
                at = max(len(part.heading), part.width) + len(headings)
                headings[at] = column.headed(self._tr)
                (layout.own if column.kind == "own" else layout.entries).append(Entry(column, headings[at], at))
        if layout.heading() != part.heading[layout.key]:
            self._change(number, 0, {**headings, layout.key: layout.heading()})

    def read(self) -> None:
        """Read the rows that are there. Raises TargetError where two have one key, or a key was changed."""
        known = self._known
        for number, (part, layout) in enumerate(zip(self._sheet.parts, self._layouts, strict=True)):
            places = [
                (n, entry.at, entry.column.name) for n, entry in enumerate(layout.entries) if entry.at is not None
            ]
            for row, texts in part.rows(layout.kinds()):
                text = texts.get(layout.key, "")
                if not text:  # a row of the office's own, or one of ours that has lost its key
                    told = tuple(texts.get(at, "") for _, at, name in places if name in _TELLING)
                    if sum(map(bool, told)) > 1:
                        self._keyless[number, told] = row
                    continue
                key_of_row = parsed(text)
                if key_of_row is None:
                    raise self._refused(f"the key in row {row} was changed, so that nobody knows what the row is of")
                id, checks = key_of_row
                if id in known:
                    other = known[id]
                    names = (self._sheet.parts[other.part].name, part.name)
                    two = [
                        f"{line}{f' of {name}' if name else ''}"
                        for line, name in zip((other.row, row), names, strict=True)
                    ]
                    raise self._refused(
                        f"rows {' and '.join(two)} have one key: a row or a sheet was copied. Delete one"
                    )
                by_hand = _NONE
                if "".join([check(name, texts.get(at, "")) for _, at, name in places]) != checks:
                    by_hand = frozenset(
                        n
                        for n, at, name in places
                        if (written := checks[n * CHECK : (n + 1) * CHECK])
                        and written != check(name, texts.get(at, ""))
                    )
                self.result.by_hand += len(by_hand)
                known[id] = _Row(id, number, row, checks, by_hand)
        self._messages = {row.message for row in known}
        if strays := len(self._sheet.strays(self._messages)):
            raise self._refused(
                f"{strays:,} key{'s' * (strays != 1)} of rows can't be told from other text: somewhere above the first "
                "of them a quotation mark is opened and not closed"
            )
        self.result.rows = len(known)

    def _refused(self, what: str) -> TargetError:
        return TargetError(
            f"{self._sheet.path}: {what}. Nothing was written. Mend it in a spreadsheet program, for example from the "
            "version before, and run the same command again."
        )

    def columns(self) -> list[Column[Any]]:
        """The columns that are there to be filled."""
        columns = {e.column.name: e.column for layout in self._layouts for e in layout.entries if e.at is not None}
        return list(columns.values())

    def meet(self, listing: Listing) -> None:
        """A thing that belongs into the table."""
        message, folder = listing.message, folder_digest(listing.folder)
        self._turns[message, folder] += 1
        id = RowId(message, folder, self._turns[message, folder])
        row = self._known.pop(id, None)
        if row is not None:
            self._update(id, row, listing.thing)
        elif message in self._messages:
            self._waiting.append((id, listing.thing))
        else:
            self._add(id, listing.thing)

    def finish(self, all_met: bool = True) -> TopUp:
        """The last of them was met. Where not all could be, no row is marked as chosen no longer."""
        moved: dict[str, list[RowId]] = {}
        for id in self._known:
            moved.setdefault(id.message, []).append(id)
        for id, thing in self._waiting:  # the same message in another folder keeps its row
            if moved.get(id.message):
                self._update(id, self._known.pop(moved[id.message].pop(0)), thing)
            else:
                self._add(id, thing)
        if self._doubled:
            more = f" and {len(self._doubled) - 1:,} more" if len(self._doubled) > 1 else ""
            raise self._refused(
                f"row {self._doubled[0]}{more} would be there twice: its message stands in a row without a key. Give "
                "such rows their keys back, or delete them"
            )
        for row in self._known.values() if all_met else ():
            self._mark(row)
        return self.result

    def _update(self, id: RowId, row: _Row, thing: Any) -> None:
        """Write what is other than it was into the cells that nobody has changed."""
        layout, checks, values = self._layouts[row.part], "", dict[int, Any]()
        for number, entry in enumerate(layout.entries):
            before = row.checks[number * CHECK : (number + 1) * CHECK]
            if before and (entry.column.lasts or entry.at is None or number in row.by_hand):
                checks += before
                continue
            value = self._value(entry.column, thing) if entry.at is not None else None
            now = check(entry.column.name, self._sheet.text(value))
            if now != before and entry.at is not None:
                values[entry.at] = value
            checks += now
        self._put(id, row, checks, values)

    def _mark(self, row: _Row) -> None:
        """Mark the row of a message that is chosen no longer."""
        for number, entry in enumerate(self._layouts[row.part].entries):
            if entry.column.name == STATE and entry.at is not None and number not in row.by_hand:
                now, start = check(STATE, GONE), number * CHECK
                checks = row.checks[:start] + now + row.checks[start + CHECK :]
                self._put(row.id, row, checks, {entry.at: GONE} if checks != row.checks else {})
                self.result.gone += 1

    def _put(self, id: RowId, row: _Row, checks: str, values: dict[int, Any]) -> None:
        if (id, checks) != (row.id, row.checks):
            self.result.updated += 1
            self._change(row.part, row.row, {**values, self._layouts[row.part].key: key(id, checks)})

    def _add(self, id: RowId, thing: Any) -> None:
        layout, checks, values = self._layouts[-1], [], dict[int, Any]()
        for entry in layout.entries:
            value = self._value(entry.column, thing) if entry.at is not None else None
            if entry.at is not None:
                values[entry.at] = value
            checks.append(check(entry.column.name, self._sheet.text(value)))
        if self._keyless:
            told = tuple(
                self._sheet.text(values[e.at]) for e in layout.entries if e.at in values and e.column.name in _TELLING
            )
            if (row := self._keyless.get((len(self._layouts) - 1, told))) is not None:
                self._doubled.append(row)
        values[layout.key] = key(id, "".join(checks))
        self._sheet.append(values)
        self.result.added += 1
        self.result.rows += 1
        self.result.changed = True

    def _change(self, part: int, row: int, values: dict[int, Any]) -> None:
        self._sheet.change(part, row, values)
        self.result.changed = True
