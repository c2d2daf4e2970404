"""What every kind of source keeps, run over all there are: files of each kind, IMAP, POP3, a backup."""

from __future__ import annotations

import os
import tempfile
import unittest
from collections import Counter
from collections.abc import Callable, Iterator
from functools import wraps
from pathlib import Path
from typing import ClassVar

from tests.kinds import ALL, APART, IN_FILES, Kinds, expected
from wexagraph.errors import MessageError, WexagraphError
from wexagraph.selection.choice import Choice
from wexagraph.selection.criteria import Criterion
from wexagraph.sources import local
from wexagraph.sources.base import Envelope, Source
from wexagraph.sources.kinds import Kind


def over_all_kinds(check: Callable[[Contract, str, Source], None]) -> Callable[[Contract], None]:
    """A test that opens a source of every kind."""

    @wraps(check)
    def test(self: Contract) -> None:
        for kind in ALL:
            with self.subTest(kind), self.kinds.opened(kind) as source:
                check(self, kind, source)

    return test


class Contract(unittest.TestCase):
    kinds: ClassVar[Kinds]

    @classmethod
    def setUpClass(cls) -> None:
        folder = tempfile.TemporaryDirectory()
        cls.addClassCleanup(folder.cleanup)
        cls.kinds = Kinds(Path(folder.name))
        cls.addClassCleanup(cls.kinds.close)

    @over_all_kinds
    def test_folders(self, kind: str, source: Source) -> None:
        names = source.folders()
        self.assertTrue(names)
        self.assertEqual(names, sorted(set(names)))
        self.assertFalse([name for name in names if name.startswith("/") or name.endswith("/") or not name])
        self.assertTrue(source.kind and source.location)
        self.assertTrue(all(source.size(name) >= 0 for name in names))

    @over_all_kinds
    def test_envelopes_name_what_read_gives(self, kind: str, source: Source) -> None:
        read = []
        for folder in source.folders():
            envelopes = list(source.envelopes(folder))
            self.assertEqual(len({envelope.place for envelope in envelopes}), len(envelopes))
            self.assertEqual([e.place for e in envelopes], sorted(e.place for e in envelopes), "a place sorts in order")
            for envelope in envelopes:
                self.assertEqual(envelope.folder, folder)
                data = source.read(envelope)
                read.append(data)
                self.assertIn(envelope.header.subject.encode() or b"Subject", data)
                self.assertEqual(envelope.trouble, "")
            together = {e.place: data for e, data in source.read_many(iter(envelopes))}
            self.assertEqual(together, {e.place: source.read(e) for e in envelopes})
        self.assertEqual(Counter(read), Counter(expected(kind)))

    @over_all_kinds
    def test_sizes(self, kind: str, source: Source) -> None:
        for envelope in _all_of(source):
            if kind not in APART:
                self.assertAlmostEqual(envelope.size, len(source.read(envelope)), delta=80)

    @over_all_kinds
    def test_ids_and_stamps_are_the_same_the_next_time(self, kind: str, source: Source) -> None:
        first = [(e.id, e.folder, e.place, e.fingerprint()) for e in _all_of(source)]
        stamps = [source.folder_stamp(name) for name in source.folders()]
        with self.kinds.opened(kind) as again:
            self.assertEqual([(e.id, e.folder, e.place, e.fingerprint()) for e in _all_of(again)], first)
            self.assertEqual([again.folder_stamp(name) for name in again.folders()], stamps)
        self.assertEqual(len({id for id, *_ in first}), len(first))

    @over_all_kinds
    def test_shares_are_the_whole(self, kind: str, source: Source) -> None:
        for folder in source.folders():
            whole = [e.place for e in source.envelopes(folder)]
            for count in (1, 2, 3, 7) if source.reopens else (1,):
                parts = [[e.place for e in source.envelopes(folder, (k, count))] for k in range(count)]
                self.assertEqual([place for part in parts for place in part], whole, count)

    @over_all_kinds
    def test_an_outline_is_the_same_without_headers(self, kind: str, source: Source) -> None:
        for folder in source.folders():
            envelopes = {e.place: (e.size, e.flags) for e in source.envelopes(folder)}
            self.assertEqual({e.place: (e.size, e.flags) for e in source.outline(folder)}, envelopes)

    @over_all_kinds
    def test_an_envelope_made_of_its_place_can_be_read(self, kind: str, source: Source) -> None:
        placed = [Envelope(e.folder, e.place, e.size, type(e.header)(b""), e.fingerprint()) for e in _all_of(source)]
        with self.kinds.opened(kind) as again:
            self.assertEqual(Counter(again.read(e) for e in placed), Counter(expected(kind)))

    @over_all_kinds
    def test_a_choice_means_the_same_everywhere(self, kind: str, source: Source) -> None:
        for criterion, subjects in (
            (Criterion("subject", "tide"), ["Tide: notice"]),
            (Criterion("from", "möwe"), ["Tide: notice"]),
            (Criterion("body", "another of that name"), ["Berth 4"]),
            (Criterion("larger", "50KB"), ["A letter that is long"]),
            (Criterion("text", "pilot's log"), ["A letter that is long"]),
        ):
            wanted = subjects if kind != "eml" else []
            chosen = [e.header.subject for e in Choice(criteria=(criterion,)).select(source)]
            self.assertEqual(chosen, wanted, criterion)

    @over_all_kinds
    def test_what_is_gone_is_said(self, kind: str, source: Source) -> None:
        strange = Envelope(source.folders()[0], "999999999999999-5", 5, type(next(_all_of(source)).header)(b""), "1")
        with self.assertRaises((MessageError, KeyError)) as caught:
            source.read(strange)
        self.assertTrue(kind == "backup" or isinstance(caught.exception, WexagraphError), caught.exception)

    def test_closing_gives_everything_back(self) -> None:
        for kind in ALL:
            with self.subTest(kind):
                self.kinds.place(kind)
                before = len(os.listdir("/proc/self/fd"))
                with self.kinds.opened(kind) as source:
                    for envelope in _all_of(source):
                        source.read(envelope)
                self.assertEqual(len(os.listdir("/proc/self/fd")), before)

    def test_a_new_kind_of_mailbox_is_one_module_and_one_line(self) -> None:
        from tests import lines_of_mail

        self.assertIsInstance(lines_of_mail.LINES, Kind)
        local.KINDS.append(lines_of_mail.LINES)
        self.addCleanup(local.KINDS.remove, lines_of_mail.LINES)
        with tempfile.TemporaryDirectory() as folder:
            (Path(folder) / "quay.lines").write_bytes(
                b"lines of mail\nBerth 4\tThe survey is done.\nFog\tNo sailing.\n"
            )
            with local.open_local(Path(folder)) as source:
                self.assertEqual((source.kind, source.folders()), ("lines", ["quay"]))
                self.assertEqual([e.header.subject for e in source.envelopes("quay")], ["Berth 4", "Fog"])
                self.assertEqual(
                    source.read(next(source.envelopes("quay"))), b"Subject: Berth 4\n\nThe survey is done.\n"
                )

    def test_all_kinds_in_files_are_tried(self) -> None:
        labels = set()
        for kind in IN_FILES:
            with self.kinds.opened(kind) as source:
                labels.add(source.kind.removeprefix("ZIP of "))
        self.assertEqual(labels, {kind.label for kind in local.KINDS})


def _all_of(source: Source) -> Iterator[Envelope]:
    for folder in source.folders():
        yield from source.envelopes(folder)


if __name__ == "__main__":
    unittest.main()
