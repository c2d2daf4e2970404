"""What every place keeps that messages are put into: bytes, folders, dates, flags, nothing doubled, nothing half."""

from __future__ import annotations

import tempfile
import unittest
from collections import Counter
from collections.abc import Callable
from datetime import UTC, datetime, timedelta
from functools import wraps
from hashlib import sha256
from pathlib import Path
from typing import ClassVar

from tests.kinds import MESSAGES, Kinds, crlf
from wexagraph.app.opening import open_source
from wexagraph.messages.headers import Header
from wexagraph.output.sinks import MAILDIR, SINKS, open_sink
from wexagraph.output.sinks.base import Delivery, Sink
from wexagraph.output.sinks.imap import ImapSink
from wexagraph.sources.accounts import Secret
from wexagraph.sources.base import Envelope, Source
from wexagraph.sources.imap import ImapSource

ARRIVED = datetime(2026, 3, 20, 8, 30, tzinfo=UTC)
IN_FILES = {"EML folder": "out", "mbox": "out.mbox", "ZIP": "out.zip", "Maildir": "maildir:out-md"}
KEEPS_FLAGS, KEEPS_DATES = ("Maildir", "IMAP"), ("EML folder", "Maildir", "IMAP", "mbox")


def deliveries() -> list[Delivery]:
    """The messages, in two folders, with flags and an arrival each."""
    made = []
    for number, data in enumerate(MESSAGES):
        folder, flags = ("Quay", "Quay/Berth 4")[number % 2], frozenset({"seen", "flagged"} if number % 2 else ())
        envelope = Envelope(folder, str(number), len(data), Header(b""), "s", flags, ARRIVED + timedelta(days=number))
        made.append(Delivery(envelope, data, sha256(data).hexdigest()))
    return made


def over_all_sinks(check: Callable[[Contract, str], None]) -> Callable[[Contract], None]:
    """A test that runs for every kind of sink, each in a place of its own."""

    @wraps(check)
    def test(self: Contract) -> None:
        for kind in (*IN_FILES, *(["IMAP"] if self.kinds.server is not None else [])):
            with self.subTest(kind), tempfile.TemporaryDirectory() as folder:
                self.folder = Path(folder)
                if kind == "IMAP" and self.kinds.server is not None:
                    for name in ("Quay.Berth 4", "Quay"):
                        self.kinds.server.remove(name)
                check(self, kind)

    return test


class Contract(unittest.TestCase):
    kinds: ClassVar[Kinds]
    folder: Path

    @classmethod
    def setUpClass(cls) -> None:
        folder = tempfile.TemporaryDirectory()
        cls.addClassCleanup(folder.cleanup)
        cls.kinds = Kinds(Path(folder.name))
        cls.addClassCleanup(cls.kinds.close)

    def account(self) -> Source:
        return open_source(self.kinds.account("imaps"), login=lambda account, again: Secret("Xq7-harbour-41"))

    def put(self, kind: str, some: list[Delivery], whole: bool = True) -> tuple[int, int]:
        """Put messages; returns how many were put and how many were there already."""
        if kind == "IMAP":
            with self.account() as account:
                assert isinstance(account, ImapSource)
                return self._put(ImapSink(account), some, whole)
        prefix, _, name = IN_FILES[kind].rpartition(":")
        place = f"{prefix}:{self.folder / name}" if prefix else str(self.folder / name)
        return self._put(open_sink(place), some, whole)

    def _put(self, sink: Sink, some: list[Delivery], whole: bool) -> tuple[int, int]:
        put = already = 0
        try:
            for delivery in some:
                if sink.has(delivery):
                    already += 1
                else:
                    sink.put(delivery)
                    put += 1
        finally:
            sink.close(whole)
        return put, already

    def read(self, kind: str) -> list[tuple[Envelope, bytes]]:
        """What lies there now, read by a source."""
        with (
            self.account()
            if kind == "IMAP"
            else open_source(self.folder / IN_FILES[kind].removeprefix(MAILDIR)) as source
        ):
            names = [name for name in source.folders() if kind != "IMAP" or name.startswith("Quay")]
            return [(e, source.read(e)) for name in names for e in source.envelopes(name)]

    @over_all_sinks
    def test_the_bytes_come_back(self, kind: str) -> None:
        self.assertEqual(self.put(kind, deliveries()), (len(MESSAGES), 0))
        wanted = [crlf(data) for data in MESSAGES] if kind == "IMAP" else MESSAGES
        self.assertEqual(Counter(data for _, data in self.read(kind)), Counter(wanted))

    @over_all_sinks
    def test_nothing_is_doubled(self, kind: str) -> None:
        self.put(kind, deliveries()[:3])
        self.assertEqual(self.put(kind, deliveries()), (2, 3))
        self.assertEqual(self.put(kind, deliveries()), (0, 5))
        self.assertEqual(len(self.read(kind)), 5)

    @over_all_sinks
    def test_folders_flags_and_dates(self, kind: str) -> None:
        self.put(kind, deliveries())
        for envelope, data in self.read(kind):
            delivery = next(d for d in deliveries() if d.data in (data, data.replace(b"\r\n", b"\n")))
            if kind != "mbox":
                self.assertTrue(envelope.folder.endswith(delivery.envelope.folder.rpartition("/")[2]), envelope.folder)
            if kind in KEEPS_FLAGS:
                self.assertEqual(envelope.flags - {"recent"}, delivery.envelope.flags)
            if kind in KEEPS_DATES:
                self.assertEqual(envelope.arrival, delivery.envelope.arrival)

    @over_all_sinks
    def test_stopped_in_between_leaves_only_whole_messages(self, kind: str) -> None:
        self.put(kind, deliveries()[:2])
        self.put(kind, deliveries()[:4], whole=False)
        messages = [data for _, data in self.read(kind)]
        wanted = {crlf(data) if kind == "IMAP" else data for data in MESSAGES}
        self.assertLessEqual(set(messages), wanted)
        self.assertIn(len(messages), (2, 4))
        self.put(kind, deliveries())
        self.assertEqual(len(self.read(kind)), 5)
        left = [path.name for path in self.folder.rglob("*") if path.name.endswith((".part", ".lock"))]
        self.assertEqual(left, [])

    def test_all_kinds_in_files_are_tried(self) -> None:
        meant = [next(n for n, (is_meant, _) in enumerate(SINKS) if is_meant(place)) for place in IN_FILES.values()]
        self.assertEqual(sorted(meant), list(range(len(SINKS))))


if __name__ == "__main__":
    unittest.main()
