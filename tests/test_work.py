"""Calls in workers: how many are under way at once, in which order their results come, and who fails of many."""

from __future__ import annotations

import unittest
from collections.abc import Iterator
from concurrent.futures import Future

from wexagraph.work.batches import Batch, WorkerLost, ahead


class Ahead(unittest.TestCase):
    def test_so_many_are_under_way_and_they_come_in_order(self) -> None:
        for count, most in ((0, 2), (1, 2), (5, 0), (5, 2), (5, 9)):
            started: list[int] = []

            def start(count: int = count, started: list[int] = started) -> Iterator[int]:
                for number in range(count):
                    started.append(number)
                    yield number

            with self.subTest(count=count, most=most):
                results = [(number, len(started)) for number in ahead(start(), most)]
                self.assertEqual(results, [(number, min(number + most + 1, count)) for number in range(count)])


class Batches(unittest.TestCase):
    def test_what_breaks_its_worker_fails_alone(self) -> None:
        calls: list[list[int]] = []

        def submit(items: list[int]) -> Future[list[str]]:
            calls.append(items)
            future: Future[list[str]] = Future()
            if 13 in items:
                future.set_exception(WorkerLost(timed_out=False))
            else:
                future.set_result([str(item) for item in items])
            return future

        results = Batch(submit, [12, 13, 14]).results(lambda item, reason: f"{item} failed")
        self.assertEqual(results, ["12", "13 failed", "14"])
        self.assertEqual(calls, [[12, 13, 14], [12], [13], [14]])
