"""The standing orders of a user: their files, their log, and running them one after the other."""

from __future__ import annotations

import contextlib
import json
import os
import time
from collections.abc import Callable, Iterator, Mapping
from datetime import datetime
from difflib import get_close_matches
from pathlib import Path

from wexagraph.app.commands import Work, check, chosen, command_of, hand_on, keys_of, run, unlocked
from wexagraph.app.orders.timetables import installed
from wexagraph.app.secrets import NamedKey
from wexagraph.errors import CallError, InUse, SourceError, TargetError, WexagraphError
from wexagraph.output.folder import lock_file
from wexagraph.records.calls import Call
from wexagraph.records.order import SUFFIX, Order, When, checked_name, from_toml, to_toml
from wexagraph.records.order_log import RUNNING, STOPPED, UNDONE, OrderLog, Run
from wexagraph.records.undelivered import Fresh, Listed, find_fresh, is_steady, marks_of
from wexagraph.reports import Report
from wexagraph.selection.choice import Choice
from wexagraph.selection.value_lists import expanded
from wexagraph.sources.base import Source, Stored

PATIENCE = 60.0
"""Seconds that an order waits for a folder, or for itself, that another run is at."""


PLACE = "WEXAGRAPH_ORDERS"
"""Names the folder of orders and their log, in place of the user's own."""


def orders_folder() -> Path:
    """Where the files of orders lie."""
    import platformdirs

    if place := os.environ.get(PLACE):
        return Path(place)
    return platformdirs.user_config_path("wexagraph", appauthor=False) / "orders"


def state_folder() -> Path:
    """Where the log of orders lies."""
    import platformdirs

    if place := os.environ.get(PLACE):
        return Path(place) / "log"
    return platformdirs.user_state_path("wexagraph", appauthor=False)


class Orders:
    """The orders of a user. `clock` tells the time with its zone, `open_source` opens what an order reads, `deliver`
    puts what is in a folder to a place, `keys` are those that have names."""

    def __init__(
        self,
        open_source: Callable[[str], Source],
        clock: Callable[[], datetime],
        patience: float = PATIENCE,
        deliver: Callable[[str, Path, Callable[[], bool]], Report] | None = None,
        keys: Mapping[str, NamedKey] | None = None,
    ) -> None:
        self.folder, self.state = orders_folder(), state_folder()
        self._open, self.clock, self._patience, self._hand_on = open_source, clock, patience, deliver
        self._keys = keys or {}
        self._log: OrderLog | None = None

    @property
    def log(self) -> OrderLog:
        """The log, opened when it is first needed."""
        if self._log is None:
            self._log = OrderLog(self.state / "orders.sqlite")
        return self._log

    def close(self) -> None:
        """Give the log free."""
        if self._log is not None:
            self._log.close()

    # files

    def path(self, name: str) -> Path:
        """The file of an order."""
        return self.folder / f"{checked_name(name)}{SUFFIX}"

    def all(self) -> tuple[list[Order], list[CallError]]:
        """The orders by name, and what is wrong in the files of others."""
        orders, wrong = [], []
        try:
            paths = sorted(path for path in self.folder.glob(f"*{SUFFIX}") if path.is_file())
        except OSError as error:
            raise TargetError(f"{self.folder} can't be read: {error.strerror or error}.") from error
        for path in paths:
            try:
                orders.append(self._read(path))
            except CallError as error:
                wrong.append(error)
        return orders, wrong

    def get(self, name: str) -> Order:
        """The order of that name. Raises CallError."""
        path = self.path(name)
        if not path.is_file():
            names = [each.stem for each in self.folder.glob(f"*{SUFFIX}")]
            near = get_close_matches(name, names, n=1)
            hint = f" Did you mean {near[0]}?" if near else ""
            raise CallError(f"there is no order {name!r}.{hint} `wexagraph order list` names those there are.")
        return self._read(path)

    def _read(self, path: Path) -> Order:
        try:
            return from_toml(path, path.read_text("utf-8"), lambda call: check(call, self._keys))
        except (OSError, UnicodeDecodeError) as error:
            raise CallError(f"{path} can't be read: {getattr(error, 'strerror', None) or error}.") from error

    def add(self, order: Order) -> None:
        """Keep a new order. Raises CallError where there is one of that name, TargetError."""
        with self._writing():
            if self.path(order.name).exists():
                raise CallError(
                    f"there is an order {order.name} already. `wexagraph order change {order.name} …` changes it, and "
                    "what it has delivered stays delivered."
                )
            self._keep(order)

    def change(self, name: str, alter: Callable[[Order], Order]) -> tuple[Order, Order]:
        """Write what `alter` makes of an order in its place; its log stays. Returns the order as it was, and as it is.
        Raises CallError, InUse, TargetError."""
        with self._writing():
            before = self.get(name)
            order = alter(before)
            if before.call.command != order.call.command:
                raise CallError(
                    f"the order {name} is for {before.call.command}. Another command is another order: "
                    "`wexagraph order add` keeps one."
                )
            self._keep(order)
            return before, order

    def _keep(self, order: Order) -> None:
        """Write the file of an order whole or not at all; what people wrote into it stays. Raises TargetError."""
        path = self.path(order.name)
        try:
            self.folder.mkdir(0o700, parents=True, exist_ok=True)
            old = path.read_text("utf-8") if path.is_file() else ""
            waiting = path.with_suffix(".new")
            waiting.write_text(to_toml(order, old), "utf-8")
            os.chmod(waiting, 0o600)
            waiting.replace(path)
        except OSError as error:
            raise TargetError(f"{path} can't be written: {error.strerror or error}.") from error

    def remove(self, name: str) -> None:
        """Take an order away, with its log; the files that it has made stay. Raises CallError, TargetError."""
        path = self.path(name)
        if not path.is_file():
            self.get(name)
        with self._held(name):
            path.unlink(missing_ok=True)
            self.log.forget(name)

    def rename(self, old: str, new: str) -> None:
        """Give an order another name. Raises CallError, TargetError."""
        order = self.get(old)
        if self.path(new).exists():
            raise CallError(f"there is an order {new} already.")
        with self._held(old):
            self.path(old).rename(self.path(order.name).with_name(f"{checked_name(new)}{SUFFIX}"))
            self.log.rename(old, new)

    # times

    def last_run(self, name: str) -> Run | None:
        """The last run of an order."""
        runs = self.log.runs(name, most=1)
        return runs[0] if runs else None

    def is_due(self, order: Order) -> bool:
        """Whether it is time for an order."""
        last = self.last_run(order.name)
        failed = last is not None and last.state in (UNDONE, STOPPED, RUNNING)
        started = last.started if last is not None else None
        return not order.paused and order.when.due(started, failed, order.created, self.clock())

    def next_run(self, order: Order) -> datetime | None:
        """When an order runs next by the clock; None where it is paused, or none decides."""
        last = self.last_run(order.name)
        started = last.started if last is not None else None
        return None if order.paused else order.when.next(started, order.created, self.clock())

    def runner(self, when: When) -> str:
        """What runs orders of such a time by itself: "watch", or the kind of a timetable; "" where nothing does."""
        if when == When():
            return ""
        with contextlib.suppress(OSError), (self.state / "watched").open("rb") as mark:  # there was never a watch
            try:
                lock_file(mark)
            except OSError:
                return "watch"
        return "" if when.on_arrival else installed()

    @contextlib.contextmanager
    def watched(self) -> Iterator[None]:
        """While a watch runs orders, others can see it. Raises TargetError."""
        with contextlib.ExitStack() as held:
            # another watch may have it, which is seen then; or somebody who looks has it for an instant
            with contextlib.suppress(InUse):
                held.enter_context(self._locked("watched", 1.0, ""))
            yield

    # running

    def run(
        self, orders: list[Order], stopped: Callable[[], bool], dry: bool = False, again: bool = False
    ) -> Iterator[tuple[Order, Run, Report]]:
        """Run orders one after the other; what goes wrong with one does not stop the others.

        A mailbox that several read is opened once.
        """
        with _Opened(self._open) as opened:
            for order in orders:
                if stopped():
                    return
                yield (order, *self._run(order, opened, stopped, dry, again))

    def _run(
        self, order: Order, opened: _Opened, stopped: Callable[[], bool], dry: bool, again: bool
    ) -> tuple[Run, Report]:
        now = self.clock()
        if dry:
            run = Run(0, order.name, now)
            return self._ended(run, lambda: self._deliver(order, opened, stopped, True, now))
        try:
            with self._held(order.name):
                if again:
                    self.log.again(order.name)
                previous = self.last_run(order.name)
                run = self.log.begin(order.name, now)
                result = self._ended(run, lambda: self._delivered(order, opened, stopped, now, previous))
                self.log.end(run)
                return result
        except InUse as error:
            return Run(0, order.name, now, now, UNDONE, reasons=[str(error)]), Report(order.call.into)

    def _ended(self, run: Run, deliver: Callable[[], Report]) -> tuple[Run, Report]:
        """A run with how it ended."""
        report = Report()
        try:
            report = self._patiently(deliver)
            run.take(report)
        except (WexagraphError, OSError) as error:
            run.state, run.reasons = UNDONE, [str(error)]
        except Exception as error:
            if os.environ.get("WEXAGRAPH_TRACE"):
                raise
            run.state, run.reasons = UNDONE, [f"a fault in Wexagraph itself: {type(error).__name__}: {error}"]
        run.ended = self.clock()
        return run, report

    def _patiently(self, deliver: Callable[[], Report]) -> Report:
        """Do it, waiting a while for a folder that another run is at."""
        end = time.monotonic() + self._patience
        while True:
            try:
                return deliver()
            except InUse:
                if time.monotonic() > end:
                    raise
                time.sleep(0.2)

    def _held(self, name: str) -> contextlib.AbstractContextManager[None]:
        """An order, held by this process: it runs once at a time."""
        why = f"the order {name} is under way in another process. Wait for it."
        return self._locked(f"held/{name}", self._patience, why)

    def _writing(self) -> contextlib.AbstractContextManager[None]:
        """The files of orders, for a change that nobody else makes meanwhile; an order may run."""
        return self._locked("written", self._patience, "another process changes the orders. Wait for it.")

    @contextlib.contextmanager
    def _locked(self, name: str, patience: float, why: str) -> Iterator[None]:
        """A file of the state folder that is there to be locked. Raises InUse, saying why, where another process has it
        for longer than `patience` seconds; TargetError."""
        path = self.state / name
        try:
            path.parent.mkdir(0o700, parents=True, exist_ok=True)
            mark = path.open("ab")
        except OSError as error:
            raise TargetError(
                f"{path.parent} can't be written to: {error.strerror or error}. Check the disk."
            ) from error
        with mark:
            end = time.monotonic() + patience
            while True:
                try:
                    lock_file(mark)
                    break
                except OSError:
                    if time.monotonic() > end:
                        raise InUse(why) from None
                    time.sleep(0.1)
            yield

    def _delivered(
        self, order: Order, opened: _Opened, stopped: Callable[[], bool], now: datetime, previous: Run | None
    ) -> Report:
        """Do what an order says, also at the place that it names: there may be something left from the last time."""
        report = self._deliver(order, opened, stopped, False, now, previous)
        if (deliver := self._hand_on) is not None:
            hand_on(order.call.deliver, order.call.into, report, lambda place, root: deliver(place, root, stopped))
        return report

    def _deliver(
        self,
        order: Order,
        opened: _Opened,
        stopped: Callable[[], bool],
        dry: bool,
        now: datetime,
        previous: Run | None = None,
    ) -> Report:
        """Do what an order says with what it has not delivered yet."""
        call, name, log = order.call, order.name, self.log
        command, said = command_of(call), json.dumps(expanded(call.choice), sort_keys=True)
        mailbox = opened.source(call.source)
        choice = chosen(call, mailbox)
        steady = is_steady(choice)
        stamps = {each: opened.stamp(mailbox, each) if steady else "" for each in choice.folders_of(mailbox)}
        last, whole = log.last_choice(name), command.keeps_account or command.is_whole
        fresh = Fresh()
        source = read = unlocked(mailbox, keys_of(call, None, self._keys))

        def marks(folder: str) -> dict[str, bytes]:
            return opened.marks(mailbox, folder)

        if whole:
            there = Path(call.into).exists() and last == said
            if there and all(_unchanged(log, name, mailbox, *each, said) for each in stamps.items()):
                return _nothing_new(call, mailbox, previous.chosen if previous is not None else 0, dry)
            fresh.looked = {folder: (stamp, 0) for folder, stamp in stamps.items()}
        elif last or command.may_leave_nothing:
            fresh = find_fresh(name, log, read, choice, said, stamps, marks, changed=last not in ("", said))
            source, choice = Listed(read, fresh), Choice()
            if not fresh.count:
                if not dry:
                    log.deliver(name, mailbox.location, fresh.known, fresh.looked, said, [], fresh.met(set()))
                return _nothing_new(call, mailbox, fresh.skipped, dry)
        else:
            fresh.lying = {folder: marks(folder) for folder in stamps}
        kept = list(fresh.known)

        def note(stored: list[Stored]) -> None:
            if not whole:
                kept.extend((each.folder, each.place, each.stamp, each.digest) for each in stored)
            log.deliver(name, mailbox.location, kept, {}, said, None)

        report = run(
            call,
            Work(
                *(mailbox, now, stopped, dry),
                fresh=(source, choice),
                stored=note,
                keys=self._keys,
                generation=log.generation(name),
            ),
        )
        report.chosen += fresh.skipped
        report.already_there += fresh.skipped
        if dry or report.interrupted:
            return report
        if command.may_leave_nothing and report.failed == len(report.failures):
            noted = {each[:2] for each in kept} | {(one.folder, one.id) for one in report.failures}
            kept += [
                (each.folder, each.place, each.fingerprint(), None)
                for each in fresh.all()
                if (each.folder, each.place) not in noted and (each.folder, each.id) not in noted
            ]
        looked = fresh.looked if report.complete else {}
        met = fresh.met({failure.id for failure in report.failures})
        log.deliver(name, mailbox.location, kept, looked, said, report.failures, met)
        return report


def _nothing_new(call: Call, mailbox: Source, delivered: int, dry: bool) -> Report:
    report = Report(call.into, chosen=delivered, already_there=delivered, planned=[] if dry else None)
    report.unreadable = [(trouble.where, trouble.reason) for trouble in mailbox.troubles]
    return report


def _unchanged(log: OrderLog, name: str, source: Source, folder: str, stamp: str, said: str) -> bool:
    return log.unchanged(name, source.location, folder, stamp, said) is not None


class _Opened:
    """Mailboxes that were opened for several orders, and the stamps of their folders as they were first."""

    def __init__(self, open_source: Callable[[str], Source]) -> None:
        self._open = open_source
        self._sources: dict[str, Source] = {}
        self._stamps: dict[tuple[str, str], str] = {}
        self._marks: dict[tuple[str, str], dict[str, bytes]] = {}

    def __enter__(self) -> _Opened:
        return self

    def __exit__(self, *_: object) -> None:
        for source in self._sources.values():
            with contextlib.suppress(SourceError, OSError):
                source.close()

    def source(self, location: str) -> Source:
        """The mailbox at a location. Raises SourceError, CallError."""
        if location not in self._sources:
            self._sources[location] = self._open(location)
        source = self._sources[location]
        source.troubles.clear()
        return source

    def stamp(self, source: Source, folder: str) -> str:
        """The stamp of a folder: what it was before anything of it was read."""
        key = (source.location, folder)
        if key not in self._stamps:
            self._stamps[key] = source.folder_stamp(folder)
        return self._stamps[key]

    def marks(self, source: Source, folder: str) -> dict[str, bytes]:
        """The marks of what lies in a folder: looked up once for several orders, where a stamp tells of changes."""
        key = (source.location, folder)
        if key not in self._marks:
            if not self._stamps.get(key):
                return marks_of(source, folder)
            self._marks[key] = marks_of(source, folder)
        return self._marks[key]
