"""Threads that fill the list and read the message under the cursor, so that no key waits for a source."""

from __future__ import annotations

import queue
import threading
from collections.abc import Callable
from contextlib import suppress

from wexagraph.app.picking import Row, row_of
from wexagraph.errors import MessageError, WexagraphError
from wexagraph.messages.message import Message
from wexagraph.messages.visible_text import visible_texts
from wexagraph.selection.choice import Choice
from wexagraph.sources import reopen
from wexagraph.sources.base import Source
from wexagraph.text import lines, one_line, shortened, size

_MOST_ROWS, _MOST_TEXT = 20_000, 100_000


class Loader:
    """Reads the source in a thread of its own. Rows are taken from it as they come; `done` is told at the end what went
    wrong, "" for nothing, in that thread."""

    def __init__(self, source: Source, choice: Choice, done: Callable[[str], None]) -> None:
        self._source, self._choice, self._done = source, choice, done
        self._rows: queue.SimpleQueue[Row] = queue.SimpleQueue()
        self._stop, self._asked = threading.Event(), threading.Condition()
        self._wanted: tuple[Row, Callable[[str], None]] | None = None
        self._uncounted: list[Row] = []
        self._counted: Callable[[], None] = lambda: None
        self._listing = threading.Thread(target=self._list, daemon=True)
        self._reading = threading.Thread(target=self._read, daemon=True)

    def take(self) -> list[Row]:
        """The rows that have come since, bounded, so that drawing never waits long."""
        rows: list[Row] = []
        with suppress(queue.Empty):
            while len(rows) < _MOST_ROWS:
                rows.append(self._rows.get_nowait())
        return rows

    def start(self) -> None:
        """Begin to read."""
        self._listing.start()
        self._reading.start()

    def stop(self) -> None:
        """End both threads, once they are where they can."""
        self._stop.set()
        with self._asked:
            self._asked.notify_all()
        for thread in (self._listing, self._reading):
            thread.join(5)

    def ask(self, row: Row, answer: Callable[[str], None]) -> None:
        """Have a message read for the pane; a later wish takes the place of one that waits. `answer` is called in the
        thread that reads."""
        with self._asked:
            self._wanted = (row, answer)
            self._asked.notify()

    def count(self, rows: list[Row], counted: Callable[[], None]) -> None:
        """Have the attachments of messages counted, after what the pane waits for; later rows take the place of those
        that wait. `counted` is called in the thread that reads."""
        with self._asked:
            self._uncounted, self._counted = rows[::-1], counted
            self._asked.notify()

    def _list(self) -> None:
        trouble = ""
        try:
            for envelope in self._choice.settled(self._source).select(self._source):
                if self._stop.is_set():
                    return
                self._rows.put(row_of(envelope, self._choice.zone))
            troubles = self._source.troubles
            trouble = f"{one_line(troubles[0].where)}: {one_line(troubles[0].reason)}" if troubles else ""
        except (WexagraphError, OSError) as error:
            trouble = one_line(str(error))
        self._done(trouble)

    def _read(self) -> None:
        source: Source | None = None
        while True:
            with self._asked:
                while self._wanted is None and not self._uncounted and not self._stop.is_set():
                    self._asked.wait()
                wanted, self._wanted = self._wanted, None
                row = wanted[0] if wanted is not None else self._uncounted.pop() if self._uncounted else None
                counted = self._counted
            if self._stop.is_set() or row is None:
                return
            try:
                if source is None:
                    source = self._second()
                if source is None:
                    return
                if wanted is not None:
                    wanted[1](text_of(source.message(source.read(row.envelope))))
                else:
                    row.attached = len(source.attachments(row.envelope))
                    counted()
            except (WexagraphError, OSError) as error:
                row.attached = 0
                if wanted is not None:
                    wanted[1](f"This message can't be read: {one_line(str(error))}")

    def _second(self) -> Source | None:
        """The source once more for this thread; of one that can't be opened twice itself, when the list is whole."""
        if self._source.reopens:
            return reopen(self._source.address)
        while self._listing.is_alive():
            if self._stop.wait(0.05):
                return None
        return self._source


def text_of(message: Message) -> str:
    """A message for the pane: its subject, who it is from and to, what is attached, its text. Nothing in it steers a
    terminal."""
    header = message.header
    people = f"From {header.sender}"
    for label, name in (("to", b"to"), ("copy to", b"cc")):
        if addresses := header.addresses(name):
            people += f", {label} {', '.join(map(str, addresses))}"
    head = [header.subject or "(no subject)", people]
    try:
        attached = [f"{each.name or each.type} ({size(len(each.content()))})" for each in message.attachments]
        text = "\n\n".join(visible_texts(message, _MOST_TEXT))
    except (MessageError, ValueError) as error:
        attached, text = [], f"Its text can't be read: {error}"
    if attached:
        head.append(f"Attached: {', '.join(attached)}")
    return "\n".join([*map(one_line, head), "", lines(shortened(text, _MOST_TEXT)).strip() or "(no text)"])
