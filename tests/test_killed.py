"""Killed at any instant, and run again: the folder is that of an undisturbed run."""

from __future__ import annotations

import os
import random
import shutil

from tests.helpers import letter, mbox, rounds
from tests.running import ALL, NEVER, RunTest, three_hundred


class Killed(RunTest):
    def test_at_random_steps(self) -> None:
        letters = three_hundred()[:24]
        self.write("in/Berths.mbox", mbox(*letters[:16]))
        for number, data in enumerate(letters[16:]):
            self.write(f"in/post/{number:03}.eml", data)
        command = ("export", "in", "--into", "out", "--as", ALL)
        self.run_program(*command, end_before=NEVER)
        undisturbed, steps = self.contents(self.folder / "out"), self.steps
        self.assertEqual(len(undisturbed), 24 * 4 + 2 * 2 + 2)
        self.assertGreater(steps, 90)
        rng = random.Random(40)
        for turn in range(rounds(40, 8)):
            shutil.rmtree(self.folder / "out")
            for again in range(rng.choice([1, 1, 2])):  # sometimes the second run is killed as well
                step = rng.randrange(steps if not again else 60)
                done = self.run_program(*command, code=None, end_before=step)
                self.assertIn(done.returncode, (9,) if not again else (0, 9))
            self.run_program(*command)
            self.assertEqual(self.contents(self.folder / "out").keys(), undisturbed.keys(), f"turn {turn}")
            self.assertEqual(self.contents(self.folder / "out"), undisturbed, f"turn {turn}")
            self.assert_clean(self.folder / "out")

    def test_a_file_is_whole_or_not_there(self) -> None:
        """Looked at while it is being written, an export never shows half a file."""
        big = [letter(f"m{n:02}", body=f"{n}\n" * 400_000) for n in range(30)]
        self.write("box", mbox(*big))
        process = self.start("export", "box", "--into", "out", "--as", "eml", "--jobs", "1")
        sizes = {len(data) for data in big}
        while process.poll() is None:
            # folders of the work under way come and go meanwhile, which walk does not mind
            for folder, _, names in os.walk(self.folder / "out"):
                for name in names:
                    if name.endswith(".eml"):
                        self.assertIn(os.stat(os.path.join(folder, name)).st_size, sizes)
        process.communicate()
        self.assertEqual(process.returncode, 0)
