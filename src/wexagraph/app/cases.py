"""The cases of a records folder: the plan changed by one at a time, messages filed, each step in the case's log."""

from __future__ import annotations

import getpass
import os
from collections.abc import Callable, Iterable, Iterator
from contextlib import contextmanager, suppress
from dataclasses import replace
from datetime import date, datetime
from pathlib import Path
from typing import Any

from wexagraph.errors import CallError, InUse, TargetError
from wexagraph.output.folder import OutputFolder
from wexagraph.records import case_log
from wexagraph.records.fileplan import FILE_PLAN, MOST_TITLE, Case, FilePlan, Hold, after, checked_reference, read_plan
from wexagraph.selection import Choice
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

    @property
    def today(self) -> date:
        """The day of the office."""
        return self.clock().date()

    def plan(self) -> FilePlan:
        """The file plan as it lies there. Raises CallError."""
        return read_plan(self.path)

    def place(self, case: Case) -> Path:
        """The folder of a case."""
        return self.folder / case.folder

    @contextmanager
    def changing(self) -> Iterator[FilePlan]:
        """The plan, for a change: read when nobody else changes it, and written whole. Raises CallError,
        TargetError."""
        try:
            with OutputFolder(self.folder) as folder:
                holder = folder.take_lock(PATIENCE)
                if holder is not None:
                    raise InUse(f"{self.folder} is in use by process {holder or 'of somebody'}. Wait for it.")
                plan = self.plan()
                yield plan
                text = plan.to_toml()
                if text != plan.text:
                    folder.write(FILE_PLAN, text.encode("utf-8"))
        except OSError as error:
            raise TargetError(f"{self.folder} can't be written to: {error.strerror or error}.") from error

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
    ) -> Case:
        """Open a case. Raises CallError."""
        reference, title = checked_reference(reference), one_line(title).strip()
        if not title or len(title) > MOST_TITLE:
            raise CallError("a case has a title of one line, at most 300 letters.")
        if keep:
            after(self.today, keep)
        Choice.from_dict(match)
        with self.changing() as plan:
            case = plan.add(Case(reference, title, folder, self.today, match, tuple(tags), keep=keep))
            self.note(plan, case, "opened", title=title)
        return case

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
        return [case for case in self.plan().cases.values() if case.state(self.today) == "due"]

    def broken(self, case: Case) -> str:
        """Why the log of a case is not whole; "" where it is."""
        return case_log.broken(self.place(case), case.log)


def on_hold() -> dict[str, str]:
    """The messages of cases on hold in the records that WEXAGRAPH_RECORDS names: references by digests. Raises
    CallError where the plan can't be read."""
    place = os.environ.get("WEXAGRAPH_RECORDS")
    if not place:
        return {}
    records = Path(place).expanduser().absolute()
    held = [case for case in read_plan(records / FILE_PLAN).cases.values() if case.holds]
    return {digest: case.reference for case in held for digest in case_log.filed(records / case.folder)}


def case_of(folder: Path) -> Case | None:
    """The case whose folder this is; None where it is of none."""
    with suppress(CallError):  # a plan that can't be read is told by the commands that need it
        plan = read_plan(folder.absolute().parent / FILE_PLAN)
        return next((case for case in plan.cases.values() if case.folder == folder.absolute().name), None)
    return None


def log_problem(folder: Path) -> str:
    """Why the log of the case that a folder belongs to is not whole; "" where it is, or there is none."""
    case = case_of(folder)
    return case_log.broken(folder, case.log if case else "")
