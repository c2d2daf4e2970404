"""Random histories of backups, exports, orders and cases, against a model in plain dicts."""

from __future__ import annotations

import unittest
from unittest import mock

from tests import histories
from tests.helpers import rounds
from tests.histories import STEPS, Step, fault_of, grown, script, shortened


class Histories(unittest.TestCase):
    def test_histories(self) -> None:
        done: set[str] = set()
        for seed in range(rounds(14, 5)):
            steps, fault = grown(seed, 60)
            done |= {name for name, *_ in steps}
            if fault:
                short = shortened(steps)
                self.fail(f"seed {seed}:\n{script(short, fault_of(short))}")
        self.assertEqual(done, set(STEPS))


class TheMachine(unittest.TestCase):
    """That it finds what is wrong, and says it shortly."""

    def spoil(self, history: histories.History) -> None:
        for path in sorted((history.folder / "bk/data").rglob("*.zip"))[:1]:
            path.write_bytes(path.read_bytes()[:-40])

    def test_a_fault_is_found_and_made_short(self) -> None:
        steps: list[Step] = [("arrive", str(n), "Dues") for n in range(1, 4)]
        steps += [("backup",), ("open", "1"), ("spoil",), ("arrive", "5", "Berths"), ("prove",), ("leave", "1")]
        with mock.patch.dict(histories.STEPS, {"spoil": self.spoil}):
            self.assertIn("verify", fault_of(steps))
            short = shortened(steps)
            self.assertEqual(short, [("backup",), ("spoil",), ("prove",)])
            self.assertEqual(fault_of([("backup",), ("prove",)]), "")
            self.assertIn("('spoil',)", script(short, fault_of(short)))

    def test_what_the_program_forgets_is_found(self) -> None:
        """An archive that holds fewer letters than it ever held."""

        def forget(history: histories.History) -> None:
            for path in (history.folder / "x-mbox").rglob("*.mbox"):
                path.write_bytes(b"")

        with mock.patch.dict(histories.STEPS, {"forget": forget}):
            steps: list[Step] = [("export", "mbox", "all"), ("forget",), ("export", "mbox", "odd")]
            self.assertIn("held by x-mbox", fault_of(steps))


if __name__ == "__main__":
    unittest.main()
