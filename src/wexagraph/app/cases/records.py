"""The cases of a records folder: the plan changed by one at a time, messages filed, each step in the case's log."""

from __future__ import annotations

import getpass
import os
from collections.abc import Callable, Iterable, Iterator
from contextlib import ExitStack, contextmanager, suppress
from dataclasses import replace
from datetime import date, datetime
from pathlib import Path
from typing import Any

from wexagraph.errors import CallError, InUse, TargetError
from wexagraph.naming.paths import CASE_LOG, FILE_PLAN
from wexagraph.output.folder import InTheWay, OutputFolder
from wexagraph.records import case_log, leaving
from wexagraph.records.fileplan import MOST_TITLE, Case, FilePlan, Hold, after, checked_reference, read_plan
from wexagraph.selection.choice import Choice
from wexagraph.text import one_line

PATIENCE = 600.0
"""Seconds to wait for another clerk."""


def records_folder(given: str | None, configured: str = "") -> Path:
    """The folder of the records: as given, from WEXAGRAPH_RECORDS, or as configured. Raises CallError."""
    place = given or os.environ.get("WEXAGRAPH_RECORDS") or configured
    if not place:
        raise CallError(
            "no records folder is named. Give --records DIR, or set WEXAGRAPH_RECORDS, or write records = 'DIR' "
            "below [options] in your wexagraph.toml."
        )
    return Path(place).expanduser().absolute()


def user_name() -> str:
    """Who does something: the user of the system; "" where it has no name."""
    try:
        return getpass.getuser()
    except (KeyError, OSError):
        return ""


class Records:
    """A records folder. `clock` gives the moment, in the office's zone; `who` is who does it."""

    def __init__(self, folder: Path, clock: Callable[[], datetime], who: str) -> None:
        self.folder, self.clock, self.who = folder, clock, who
        self.path = folder / FILE_PLAN
        self._held: FilePlan | None = None  # while this process changes the plan

    def due_on(self, case: Case) -> date | None:
        """The first day on which a case may go by its time; None while it is open, or kept for ever."""
        return case.due(case_log.filed_since_closed(self.place(case))) if case.due() is not None else None

    def state(self, case: Case) -> str:
        """`open`, `closed`, `on hold` (open or closed), or `due`."""
        if case.holds:
            return "on hold"
        if case.closed is None:
            return "open"
        due = self.due_on(case)
        return "due" if due is not None and due <= self.today else "closed"

    @property
    def today(self) -> date:
        """The day of the office."""
        return self.clock().date()

    def plan(self) -> FilePlan:
        """The file plan, once what a killed run has begun is finished or undone. Raises CallError, TargetError."""
        return self._held if self._held is not None else settled_plan(self.folder)

    def place(self, case: Case) -> Path:
        """The folder of a case."""
        return self.folder / case.folder

    @contextmanager
    def changing(self) -> Iterator[FilePlan]:
        """The plan, for a change: read when nobody else changes it, and written whole. Raises CallError,
        TargetError."""
        if self._held is not None:
            yield self._held
            return
        with self._holding() as (folder, plan):
            yield plan
            _write(folder, plan)

    @contextmanager
    def leaving(self, reference: str) -> Iterator[tuple[OutputFolder, FilePlan, Case]]:
        """As `changing`, for a case whose folder is to be moved: nobody files into that meanwhile. What is begun then
        is ended with the plan. Raises CallError, TargetError."""
        with self._holding() as (folder, plan):
            case = plan.get(reference)
            with ExitStack() as held:
                if folder.taken(case.folder):
                    held.enter_context(_locked(self.place(case)))
                yield folder, plan, case
            _write(folder, plan)
            leaving.end(folder)

    @contextmanager
    def _holding(self) -> Iterator[tuple[OutputFolder, FilePlan]]:
        with _locked(self.folder) as folder:
            self._held = _settled(folder)
            try:
                yield folder, self._held
            finally:
                self._held = None

    def note(self, plan: FilePlan, case: Case, what: str, **about: Any) -> None:
        """Write into a case's log, and the digest of its last line into the plan."""
        digest = case_log.append(self.place(case), self.clock(), self.who, what, **about)
        plan.keep(replace(plan.get(case.reference), log=digest))

    # cases

    def open(
        self,
        reference: str,
        title: str,
        match: dict[str, Any],
        keep: str = "",
        tags: Iterable[str] = (),
        folder: str = "",
        again: bool = False,
    ) -> Case:
        """Open a case; one of a reference that was disposed of, only `again`. Raises CallError."""
        reference, title = checked_reference(reference), one_line(title).strip()
        if not title or len(title) > MOST_TITLE:
            raise CallError("a case has a title of one line, at most 300 letters.")
        if keep:
            after(self.today, keep)
        Choice.from_dict(match)
        with self.changing() as plan:
            old = self.disposed(reference)
            if old is not None and not again:
                raise CallError(
                    f"a case {reference} was disposed of: {old} says what it was. --again opens one of that reference "
                    "once more."
                )
            case = plan.add(Case(reference, title, folder, self.today, match, tuple(tags), keep=keep))
            self.note(plan, case, "opened", title=title)
        return case

    def disposed(self, reference: str) -> Path | None:
        """The log of a case of that reference that was disposed of; None where there is none. Raises TargetError."""
        try:
            return leaving.disposed_of(self.folder).get(" ".join(reference.split()).casefold())
        except FileNotFoundError:
            return None
        except OSError as error:
            raise _failed(self.folder, error) from error

    def close(self, reference: str, on: date | None = None) -> Case:
        """Close a case. Raises CallError."""
        with self.changing() as plan:
            case, day = plan.get(reference), on or self.today
            if case.closed is not None:
                raise CallError(f"case {case.reference} was closed on {case.closed} already.")
            if day < case.opened:
                raise CallError(f"case {case.reference} was opened on {case.opened}: it can't be closed before.")
            case = replace(case, closed=day)
            plan.keep(case)
            self.note(plan, case, "closed", on=day.isoformat())
        return case

    def reopen(self, reference: str) -> Case:
        """Open a closed case again. Raises CallError."""
        with self.changing() as plan:
            case = plan.get(reference)
            if case.closed is None:
                raise CallError(f"case {case.reference} is open.")
            case = replace(case, closed=None)
            plan.keep(case)
            self.note(plan, case, "reopened")
        return case

    def rename(self, reference: str, title: str) -> Case:
        """Give a case another title; its folder keeps its name, so that links into it hold. Raises CallError."""
        title = one_line(title).strip()
        if not title:
            raise CallError("a case has a title of one line.")
        with self.changing() as plan:
            old = plan.get(reference)
            case = replace(old, title=title)
            plan.keep(case)
            self.note(plan, case, "renamed", title=title, before_it=old.title)
        return case

    def hold(self, reference: str, why: str) -> Case:
        """Stop the disposal of a case. Raises CallError."""
        why = one_line(why).strip()
        if not why:
            raise CallError("--why says what the hold is for; it is empty.")
        with self.changing() as plan:
            case = plan.get(reference)
            case = replace(case, holds=(*case.holds, Hold(why, self.today, self.who)))
            plan.keep(case)
            self.note(plan, case, "held", why=why)
        return case

    def release(self, reference: str) -> Case:
        """End all holds of a case. Raises CallError."""
        with self.changing() as plan:
            case = plan.get(reference)
            if not case.holds:
                raise CallError(f"case {case.reference} is not on hold.")
            ended = [hold.why for hold in case.holds]
            case = replace(case, holds=())
            plan.keep(case)
            self.note(plan, case, "released", ended=ended)
        return case

    def due(self) -> list[Case]:
        """The cases whose time is over and that nothing holds."""
        return [case for case in self.plan().cases.values() if self.state(case) == "due"]

    def log_of(self, reference: str) -> case_log.Log:
        """The log of a case, also of one that was disposed of. Raises CallError."""
        plan = self.plan()
        wanted = " ".join(reference.split()).casefold()
        if not any(name.casefold() == wanted for name in plan.cases) and (path := self.disposed(reference)):
            return case_log.whole(reference, path)
        case = plan.get(reference)
        return case_log.whole(case.reference, self.place(case) / CASE_LOG, case.log)

    def broken(self, case: Case) -> str:
        """Why the log of a case is not whole; "" where it is."""
        return case_log.broken(self.place(case), case.log)


@contextmanager
def _locked(place: Path) -> Iterator[OutputFolder]:
    """A folder that nobody else changes meanwhile. Raises InUse, TargetError."""
    try:
        with OutputFolder(place) as folder:
            holder = folder.take_lock(PATIENCE)
            if holder is not None:
                raise InUse(f"{place} is in use by process {holder or 'of somebody'}. Wait for it.")
            yield folder
    except OSError as error:
        raise _failed(place, error) from error


def _failed(place: Path, error: OSError) -> TargetError:
    if isinstance(error, InTheWay):
        return TargetError(f"{error.strerror}.")
    return TargetError(f"{place} can't be written to: {error.strerror or error}.")


def _settled(folder: OutputFolder) -> FilePlan:
    """The plan of a folder that is locked, with what was begun finished or undone."""
    plan = read_plan(folder.path / FILE_PLAN)
    if leaving.settle(folder, plan):
        _write(folder, plan)
        leaving.end(folder)
        plan = read_plan(folder.path / FILE_PLAN)
    return plan


def _write(folder: OutputFolder, plan: FilePlan) -> None:
    text = plan.to_toml()
    if text != plan.text:
        folder.write(FILE_PLAN, text.encode("utf-8"))


def settled_plan(records: Path) -> FilePlan:
    """The plan of a records folder, once what a killed run has begun there is finished or undone; where that can't be
    done here, without the case that has left. Raises CallError, TargetError."""
    if leaving.is_begun(records):
        try:
            with _locked(records) as folder:
                return _settled(folder)
        except InUse:
            raise
        except TargetError:
            return leaving.without_decided(records, read_plan(records / FILE_PLAN))
    return read_plan(records / FILE_PLAN)


def on_hold() -> dict[str, str]:
    """The messages of cases on hold in the records that WEXAGRAPH_RECORDS names: references by digests. Raises
    CallError where the records, or the log of such a case, can't be read: then nobody knows what is held."""
    place = os.environ.get("WEXAGRAPH_RECORDS")
    if not place:
        return {}
    records = Path(place).expanduser().absolute()
    if not (records / FILE_PLAN).is_file():
        raise CallError(
            f"{records}, which WEXAGRAPH_RECORDS names, holds no file plan, so that nobody knows what is on hold. "
            "Is its share mounted? Without records of yours, unset it."
        )
    held = dict[str, str]()
    for case in settled_plan(records).cases.values():
        if case.holds:
            if problem := case_log.broken(records / case.folder, case.log):
                raise CallError(
                    f"case {case.reference} is on hold, and its log is not whole, so that nobody knows what it holds: "
                    f"{problem}. Nothing is deleted."
                )
            held |= dict.fromkeys(case_log.filed(records / case.folder), case.reference)
    return held


def case_of(folder: Path) -> Case | None:
    """The case whose folder this is; None where it is of none."""
    with suppress(CallError):  # a plan that can't be read is told by the commands that need it
        plan = read_plan(folder.absolute().parent / FILE_PLAN)
        return next((case for case in plan.cases.values() if case.folder == folder.absolute().name), None)
    return None
