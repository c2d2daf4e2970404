"""The file plan (TOML, edited by people too): the cases, what belongs to each and how long it is kept."""

from __future__ import annotations

import hashlib
import json
import os
import re
import tomllib
from contextlib import suppress
from dataclasses import dataclass, field, replace
from datetime import date
from difflib import get_close_matches
from pathlib import Path
from typing import Any

from wexagraph.errors import CallError
from wexagraph.files import open_regular
from wexagraph.naming.paths import FILE_PLAN, component, free_name
from wexagraph.output.folder import OutputFolder
from wexagraph.selection.choice import Choice
from wexagraph.toml import mending, wrong

_KNOWN = ("title", "folder", "also", "match", "tags", "opened", "closed", "keep", "holds", "options", "log")
_TABLE = re.compile(r"\s*\[+\s*(cases\s*\..+?)\s*\]+\s*(?:#.*)?$")
_OF_A_HOLD = ("why", "since", "by")
_KEEP = re.compile(r"(\d{1,3}) *([dwmy])", re.IGNORECASE)
_HEAD = (
    "The file plan of Wexagraph: a table a case, by its reference. It may be edited; `wexagraph case list` says how it "
    "is read."
)
_MOST_REFERENCE, MOST_TITLE = 60, 300
_LARGE = 100_000


@dataclass(frozen=True)
class Hold:
    """What stops the disposal of a case: why, since when, and who said so."""

    why: str
    since: date
    by: str = ""


@dataclass(frozen=True)
class Case:
    """A matter that mail is filed under. `folder` is its own below the records folder, `match` a choice as plain data.

    `keep` is how long it is kept after it was closed (`7y`), "" for ever. `options` are those of an export, by their
    names on the command line. `log` is the digest of the last line of its log when it was last told. `also` are the
    references of cases that were merged into it.
    """

    reference: str
    title: str
    folder: str
    opened: date
    match: dict[str, Any] = field(default_factory=dict)
    tags: tuple[str, ...] = ()
    closed: date | None = None
    keep: str = ""
    holds: tuple[Hold, ...] = ()
    options: dict[str, Any] = field(default_factory=dict)
    log: str = ""
    also: tuple[str, ...] = ()

    def due(self, last_filed: date | None = None) -> date | None:
        """The first day on which it may go by its time, which counts from its closing, or from the last filing where
        that was later; None while it is open, or kept for ever."""
        if self.closed is None or not self.keep:
            return None
        return after(max(self.closed, last_filed or self.closed), self.keep)


def after(day: date, span: str) -> date:
    """The first day on which a span has gone by in full: a year from 29 February ends with 28 February. Raises
    CallError."""
    match = _KEEP.fullmatch(span.strip())
    if match is None:
        raise CallError(f"{span!r} is not a time to keep something. Write days, weeks, months or years: 90d, 18m, 7y.")
    count, unit = int(match[1]), match[2].lower()
    if unit in "dw":
        return date.fromordinal(min(day.toordinal() + count * (7 if unit == "w" else 1), date.max.toordinal()))
    months = day.year * 12 + day.month - 1 + count * (12 if unit == "y" else 1)
    year, month = divmod(months, 12)
    if year > 9999:
        return date.max
    try:
        return date(year, month + 1, day.day)
    except ValueError:  # a shorter month: all of it has to go by
        return date(year + (month == 11), (month + 1) % 12 + 1, 1)


def checked_reference(reference: str) -> str:
    """A reference as it can be. Raises CallError."""
    text = " ".join(reference.split())
    if not text or len(text) > _MOST_REFERENCE or not text.isprintable() or not re.search(r"\w", text):
        raise CallError(
            f"{reference!r} can't be a reference: one line of at most {_MOST_REFERENCE} letters and digits."
        )
    return text


@dataclass
class FilePlan:
    """The cases by their references, and the text that they were read from."""

    path: Path
    text: str = ""
    cases: dict[str, Case] = field(default_factory=dict)
    _read: dict[str, Case] = field(default_factory=dict)

    def get(self, reference: str) -> Case:
        """The case of a reference, whatever its case. Raises CallError."""
        wanted = " ".join(reference.split()).casefold()
        for name, case in self.cases.items():
            if name.casefold() == wanted:
                return case
        for name, case in self.cases.items():
            if wanted in (other.casefold() for other in case.also):
                raise CallError(f"case {reference} was merged into case {name}. Name that one.")
        near = get_close_matches(reference, self.cases, n=1)
        hint = f" Did you mean {near[0]}?" if near else ""
        raise CallError(f"there is no case {reference!r}.{hint} `wexagraph case list` names those there are.")

    def add(self, case: Case) -> Case:
        """Add a case; its folder is made free and safe. Returns it as it is kept. Raises CallError."""
        if any(name.casefold() == case.reference.casefold() for name in self.cases):
            raise CallError(
                f"there is a case {case.reference} already. `wexagraph case show {case.reference}` shows it."
            )
        used = {one.folder.casefold() for one in self.cases.values()}
        wish = component(case.folder or f"{case.reference} {case.title}", room=20)
        folder = free_name(wish, "", lambda name: name.casefold() in used or name.casefold() == FILE_PLAN)
        self.cases[case.reference] = replace(case, folder=folder)
        return self.cases[case.reference]

    def drop(self, case: Case) -> None:
        """Take a case out of the plan."""
        del self.cases[case.reference]

    def keep(self, case: Case) -> None:
        """Put a case in the place of the one of its reference."""
        self.cases[case.reference] = case

    def to_toml(self) -> str:
        """The plan as it is now. The text of cases that have not changed stays as it is, to the letter; of those that
        have, comments and the order of lines."""
        head, parts = _parts(self.text or f"# {_HEAD}\n\n")
        if self._read.keys() != parts.keys():  # somebody has written the tables in another way
            return self._as_a_whole()
        for reference, case in self.cases.items():
            if reference not in self._read:
                parts[reference] = _with(case, "")
            elif case != self._read[reference]:
                parts[reference] = _with(case, parts.get(reference, ""))
        return head + "".join(text for reference, text in parts.items() if reference in self.cases)

    def _as_a_whole(self) -> str:
        import tomlkit

        document = tomlkit.parse(self.text)
        tables: Any = document["cases"]
        for reference in self._read.keys() - self.cases.keys():
            del tables[reference]
        for reference, case in self.cases.items():
            if case != self._read.get(reference):
                _set(tables.setdefault(reference, tomlkit.table()), case)
        return tomlkit.dumps(document)


def _parts(text: str) -> tuple[str, dict[str, str]]:
    """What stands before the cases, and the text of each, by its reference."""
    head, parts, current = "", dict[str, str](), None
    for line in text.splitlines(keepends=True):
        if match := _TABLE.match(line):
            current = next(iter(tomllib.loads(match[1] + "=0\n")["cases"]))
        if current is None:
            head += line
        else:
            parts[current] = parts.get(current, "") + line
    return head, parts


def _with(case: Case, text: str) -> str:
    """The text of a case's table, with what the case now is."""
    import tomlkit

    document = tomlkit.parse(text)
    cases = document.setdefault("cases", tomlkit.table(is_super_table=True))
    _set(cases.setdefault(case.reference, tomlkit.table()), case)
    return tomlkit.dumps(document).rstrip("\n") + "\n\n"


def _set(table: Any, case: Case) -> None:
    """Put what a case is into its table; what has not changed stays."""
    for key, value in _plain(case).items():
        if value in (None, "", [], {}):
            table.pop(key, None)
        elif table.get(key) != value:
            table[key] = value


def _plain(case: Case) -> dict[str, Any]:
    holds = [{"why": hold.why, "since": hold.since, "by": hold.by} for hold in case.holds]
    return {
        "title": case.title,
        "folder": case.folder,
        "opened": case.opened,
        "closed": case.closed,
        "keep": case.keep,
        "also": list(case.also),
        "tags": list(case.tags),
        "match": case.match,
        "options": case.options,
        "holds": holds,
        "log": case.log,
    }


def read_plan(path: Path) -> FilePlan:
    """The plan of a file; an empty one where there is none. Raises CallError with file, line and the nearest right
    word."""
    try:
        text = path.read_text("utf-8")
    except FileNotFoundError:
        return FilePlan(path)
    except (OSError, UnicodeDecodeError) as error:
        raise CallError(f"{path} can't be read: {getattr(error, 'strerror', None) or error}.") from error
    if (known := _remembered(path, text)) is not None:
        return known
    try:
        values = tomllib.loads(text)
    except tomllib.TOMLDecodeError as error:
        raise CallError(f"{path}: {error}.{mending(text, str(error))}") from error
    for key in values:
        if key != "cases":
            raise wrong(path, text, "", key, f"{key!r} is nothing that a file plan has", key, ("cases",))
    tables = values.get("cases", {})
    if not isinstance(tables, dict):
        raise wrong(path, text, "", "cases", 'cases are tables: [cases."2026-118"]', "", [])
    plan = FilePlan(path, text)
    for reference, table in tables.items():
        plan.cases[reference] = _case(path, text, reference, table)
    folders: dict[str, str] = {}
    for reference, case in plan.cases.items():
        plan._read[reference] = case
        other = folders.setdefault(case.folder.casefold(), reference)
        if other != reference:
            what = f"the cases {other} and {reference} have one folder, {case.folder!r}"
            raise wrong(path, text, f"cases.{reference}", "folder", what, "", [])
    _remember(plan)
    return plan


def _memory(path: Path) -> Path:
    """Where a large plan is kept as it was read, since reading TOML takes long: among the user's own files, where
    nobody else can write what the plan does not say."""
    import platformdirs

    name = hashlib.sha256(os.fsencode(path.absolute())).hexdigest()[:32]
    return platformdirs.user_cache_path("wexagraph", appauthor=False) / "plans" / f"{name}.json"


def _remember(plan: FilePlan) -> None:
    if len(plan.text) < _LARGE:
        return
    cases = {reference: _plain(case) for reference, case in plan.cases.items()}
    content = json.dumps({"sha256": _digest(plan.text), "cases": cases}, default=date.isoformat)
    place = _memory(plan.path)
    with suppress(OSError), OutputFolder(place.parent, private=True) as folder:
        folder.write(place.name, content.encode("utf-8"), beside=True)


def _remembered(path: Path, text: str) -> FilePlan | None:
    """The plan as it was read before, where its text is the same."""
    if len(text) < _LARGE:
        return None
    try:
        with open_regular(_memory(path)) as file:
            values = json.loads(file.read())
        if values["sha256"] != _digest(text):
            return None
        cases = {reference: _of_memory(reference, plain) for reference, plain in values["cases"].items()}
    except (OSError, ValueError, KeyError, TypeError):
        return None
    return FilePlan(path, text, cases, dict(cases))


def _of_memory(reference: str, plain: dict[str, Any]) -> Case:
    holds = tuple(Hold(hold["why"], date.fromisoformat(hold["since"]), hold["by"]) for hold in plain["holds"])
    closed = date.fromisoformat(plain["closed"]) if plain["closed"] else None
    return Case(
        reference,
        plain["title"],
        plain["folder"],
        date.fromisoformat(plain["opened"]),
        plain["match"],
        tuple(plain["tags"]),
        closed,
        plain["keep"],
        holds,
        plain["options"],
        plain["log"],
        tuple(plain["also"]),
    )


def _digest(text: str) -> str:
    return hashlib.sha256(text.encode("utf-8")).hexdigest()


def _case(path: Path, text: str, reference: str, table: Any) -> Case:
    where = f"cases.{reference}"

    def refuse(key: str, what: str, near: str = "", right: tuple[str, ...] = ()) -> CallError:
        return wrong(path, text, where, key, f"in case {reference}: {what}", near, right)

    if not isinstance(table, dict):
        raise refuse("", f"a case is a table: [cases.{reference!r}]")
    for key, value in table.items():
        if key not in _KNOWN:
            raise refuse(key, f"{key!r} is nothing that a case has", key, _KNOWN)
        if key in ("title", "folder", "keep", "log") and not isinstance(value, str):
            raise refuse(key, f"{key} is a text in quotes")
        if key in ("opened", "closed") and type(value) is not date:
            raise refuse(key, f"{key} is a day such as 2026-03-14, without quotes")
        if key in ("match", "options") and not isinstance(value, dict):
            raise refuse(key, f"{key} is a table")
    for key in ("title", "folder", "opened"):
        if not table.get(key):
            raise refuse(key, f"it has no {key}")
    if component(table["folder"], room=20) != table["folder"]:
        raise refuse("folder", f"{table['folder']!r} can't be the name of a folder on every disk")
    for key in ("tags", "also"):
        words = table.get(key, [])
        if not isinstance(words, list) or not all(isinstance(word, str) for word in words):
            raise refuse(key, f"{key} is a list of texts")
    if table.get("closed") and table["closed"] < table["opened"]:
        raise refuse("closed", f"it was closed on {table['closed']}, before it was opened on {table['opened']}")
    try:
        checked_reference(reference)
        if table.get("keep"):
            after(table["opened"], table["keep"])
    except CallError as error:
        raise refuse("keep", str(error).rstrip(".")) from error
    for name, value in table.get("match", {}).items():
        words = value if isinstance(value, list) else [value]
        if not all(isinstance(word, (str, bool)) for word in words):
            raise wrong(
                path, text, f"{where}.match", name, f"in case {reference}: {name} is a text, or a list of texts", "", []
            )
        try:
            Choice.from_dict({name: value})
        except CallError as error:
            raise wrong(
                path, text, f"{where}.match", name, f"in case {reference}: {str(error).rstrip('.')}", "", []
            ) from error
    holds = []
    for hold in table.get("holds", []):
        if not isinstance(hold, dict) or not hold.get("why") or type(hold.get("since")) is not date:
            raise refuse("holds", "a hold says why (a text) and since (a day)")
        for key in hold:
            if key not in _OF_A_HOLD:
                raise refuse("holds", f"{key!r} is nothing that a hold has", key, _OF_A_HOLD)
        holds.append(Hold(str(hold["why"]), hold["since"], str(hold.get("by", ""))))
    return Case(
        reference,
        table["title"],
        table["folder"],
        table["opened"],
        table.get("match", {}),
        tuple(table.get("tags", ())),
        table.get("closed"),
        table.get("keep", ""),
        tuple(holds),
        table.get("options", {}),
        table.get("log", ""),
        tuple(table.get("also", ())),
    )
