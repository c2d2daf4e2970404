"""One process for all orders, until it is told to stop: mail that arrives, and the clock."""

from __future__ import annotations

import queue
import threading
import time
from collections.abc import Callable
from dataclasses import dataclass
from pathlib import Path

from wexagraph.app.orders import Orders
from wexagraph.errors import SourceError, WexagraphError
from wexagraph.records.order import Order
from wexagraph.records.order_log import DONE, UNDONE, Run
from wexagraph.reports import Report
from wexagraph.sources import Source
from wexagraph.sources.imap import ImapSource
from wexagraph.sources.imap.connection import Dropped
from wexagraph.sources.imap.idling import Waiter

QUIET, QUIET_IN_FILES = 0.2, 1.0
"""Seconds without news behind mail that arrived: a burst is one run, and a file that grows is not read half."""
MOST_QUIET = 60.0
_LONGEST_SLEEP = 60.0  # the clock may be set, and the machine may sleep
_FIRST_PAUSE, _LONGEST_PAUSE = 0.3, 60.0
_ASK_POP = 60.0
_FIRST_RETRY, _LONGEST_RETRY = 1.0, 15 * 60.0
_ORDERS = ""


@dataclass(frozen=True)
class Event:
    """Something that happened: `what` is watching, arrived, run or trouble; to which order, and its run."""

    what: str
    text: str
    order: Order | None = None
    run: Run | None = None
    report: Report | None = None


class Watch:
    """Runs orders as their time comes and as mail arrives. `tell` is told of each event; `stop` ends it."""

    def __init__(
        self,
        orders: Orders,
        open_source: Callable[[str], Source],
        tell: Callable[[Event], None],
        stop: threading.Event,
    ) -> None:
        self._orders, self._open, self._tell, self._stop = orders, open_source, tell, stop
        self._news: queue.SimpleQueue[str] = queue.SimpleQueue()
        self._guards: dict[str, tuple[threading.Thread, threading.Event]] = {}
        self._known: list[Order] = []
        self._wrong: set[str] = set()
        self._retries: dict[str, tuple[float, float]] = {}  # by mailbox: when to try again, after which pause

    def go(self) -> None:
        """Watch until told to stop; what is in hand then is finished."""
        self._look_up()
        files = threading.Thread(target=self._watch_files, daemon=True)
        files.start()
        arrived: set[str] = set()
        while not self._stop.is_set():
            self._run(arrived)
            arrived = self._wait()
        for thread, stop in self._guards.values():
            stop.set()
            thread.join(5)
        files.join(8)

    def wake(self) -> None:
        """Let it see that it is to stop."""
        self._news.put(_ORDERS)

    def _run(self, arrived: set[str]) -> None:
        """Run the orders whose mail has arrived, and those for which it is time."""
        due = [
            order
            for order in self._known
            if not order.paused
            and (order.call.source in arrived if order.when.on_arrival else self._orders.is_due(order))
        ]
        for order, run, report in self._orders.run(due, self._stop.is_set):
            self._tell(Event("run", "", order, run, report))
            location = order.call.source
            if run.state == UNDONE and order.when.on_arrival:  # nobody says a second time that mail has arrived
                pause = min(2 * self._retries.get(location, (0.0, _FIRST_RETRY / 2))[1], _LONGEST_RETRY)
                self._retries[location] = (time.monotonic() + pause, pause)
            elif run.state == DONE:
                self._retries.pop(location, None)

    def _wait(self) -> set[str]:
        """Wait for news or for the next order's time. Returns the mailboxes in which mail has arrived."""
        arrived: set[str] = set()
        now = self._orders.clock()
        times = [self._orders.next_run(order) for order in self._known]
        ahead = min((max(0.0, (moment - now).total_seconds()) for moment in times if moment is not None), default=1e9)
        end = time.monotonic() + min(ahead, _LONGEST_SLEEP)
        end = min([end, *(moment for moment, _ in self._retries.values())])
        latest = time.monotonic() + MOST_QUIET
        while not self._stop.is_set():
            left = end - time.monotonic()
            if left <= 0 and not (arrived and self._is_written(arrived) and time.monotonic() < latest):
                return arrived | self._due_again()
            try:
                news = self._news.get(timeout=max(left, 0.1))
            except queue.Empty:
                continue
            if news == _ORDERS:
                self._look_up()
                end = min(end, time.monotonic())
                continue
            arrived.add(news)
            quiet = QUIET if "://" in news or news.startswith("@") else QUIET_IN_FILES
            end = min(time.monotonic() + quiet, latest)
        return arrived

    def _due_again(self) -> set[str]:
        """The mailboxes whose orders could not be done, and for which it is time to try again."""
        return {location for location, (moment, _) in self._retries.items() if moment <= time.monotonic()}

    def _is_written(self, arrived: set[str]) -> bool:
        """Whether somebody holds one of the mailboxes for writing, as mail programs say it (NAME.lock)."""
        return any(Path(f"{location}.lock").exists() for location in arrived)

    def _look_up(self) -> None:
        """Read the orders again, and watch over the accounts that they name."""
        before = {order.name for order in self._known if not order.paused}
        self._known, wrong = self._orders.all()
        for order in self._known:
            if order.when.on_arrival and order.name not in before and not self._is_account(order.call.source):
                self._news.put(order.call.source)  # what lies there already
        for error in wrong:
            if str(error) not in self._wrong:
                self._tell(Event("trouble", str(error)))
        self._wrong = {str(error) for error in wrong}
        wanted = {
            order.call.source
            for order in self._known
            if order.when.on_arrival and not order.paused and self._is_account(order.call.source)
        }
        for location in self._guards.keys() - wanted:
            self._guards.pop(location)[1].set()
        for location in sorted(wanted - self._guards.keys()):
            stop = threading.Event()
            thread = threading.Thread(target=self._guard, args=(location, stop), daemon=True)
            self._guards[location] = (thread, stop)
            thread.start()

    @staticmethod
    def _is_account(location: str) -> bool:
        return "://" in location or (location.startswith("@"))

    # what arrives

    def _guard(self, location: str, stop: threading.Event) -> None:
        """Watch over an account, on a line of its own that is dialled again whenever it goes."""
        pause, lost = _FIRST_PAUSE, False
        while not (stop.is_set() or self._stop.is_set()):
            try:
                with self._open(location) as source:
                    self._tell(Event("watching", f"{location}{' again' if lost else ''}"))
                    self._news.put(location)  # what came while nobody looked
                    pause = _FIRST_PAUSE
                    self._listen(location, source, stop)
            except (WexagraphError, Dropped, OSError) as error:
                if not lost:
                    self._tell(Event("trouble", f"{location}: {error}"))
                lost = True
                stop.wait(pause)
                pause = min(pause * 2, _LONGEST_PAUSE)

    def _listen(self, location: str, source: Source, stop: threading.Event) -> None:
        both = _Either(stop, self._stop)
        if not isinstance(source, ImapSource):
            while not both.wait(_ASK_POP):
                self._news.put(location)
            return
        waiter = Waiter(source, self._folders(location, source), both)
        while not both.is_set():
            if waiter.wait():
                self._news.put(location)

    def _folders(self, location: str, source: Source) -> list[str]:
        """The folders that orders take from, INBOX first."""
        from wexagraph.app.commands import choice_of

        names: set[str] = set()
        for order in self._known:
            if order.call.source == location and order.when.on_arrival:
                try:
                    names.update(choice_of(order.call).folders_of(source))
                except WexagraphError as error:
                    self._tell(Event("trouble", f"{order.name}: {error}"))
        return sorted(names or source.folders(), key=lambda name: (name.upper() != "INBOX", name))

    def _watch_files(self) -> None:
        """Mailboxes in files and the orders themselves, by the system's events."""
        from watchfiles import watch

        while not self._stop.is_set():
            self._orders.folder.mkdir(0o700, parents=True, exist_ok=True)
            places = self._places()
            folders = {path if path.is_dir() else path.parent for path in places} | {self._orders.folder}
            turn = _Turn(self._stop)
            try:
                for changes in watch(
                    *folders, stop_event=turn, step=100, debounce=400, rust_timeout=2000, watch_filter=None
                ):
                    told = {Path(path) for _, path in changes}
                    for place, location in places.items():
                        if any(path == place or place in path.parents for path in told):
                            self._news.put(location)
                    if any(self._orders.folder in path.parents for path in told):
                        self._news.put(_ORDERS)
                        turn.over = True
            except (OSError, RuntimeError, SourceError) as error:
                self._tell(Event("trouble", f"the system's events can't be had: {error}"))
                self._stop.wait(_LONGEST_PAUSE)

    def _places(self) -> dict[Path, str]:
        """The mailboxes in files that orders wait at, by their paths."""
        places: dict[Path, str] = {}
        known, _ = self._orders.all()
        for order in known:
            location = order.call.source
            if order.when.on_arrival and not self._is_account(location) and Path(location).exists():
                places[Path(location).resolve()] = location
        return places


class _Either:
    """Two events as one: it is set when either is."""

    def __init__(self, own: threading.Event, whole: threading.Event) -> None:
        self._own, self._whole = own, whole

    def is_set(self) -> bool:
        return self._own.is_set() or self._whole.is_set()

    def wait(self, seconds: float) -> bool:
        end = time.monotonic() + seconds
        while not self.is_set() and (left := end - time.monotonic()) > 0:
            self._whole.wait(min(left, 1.0))
        return self.is_set()


class _Turn:
    """Ends one turn of watching files: when all is to stop, or when other places are to be watched."""

    def __init__(self, stop: threading.Event) -> None:
        self._stop, self.over = stop, False

    def is_set(self) -> bool:
        return self.over or self._stop.is_set()
