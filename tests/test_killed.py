"""Killed at any instant, and run again: the folder is that of an undisturbed run."""

from __future__ import annotations

import os
import random
import shutil
import time

from tests.helpers import letter, mbox
from tests.running import ALL, RunTest, three_hundred


class Killed(RunTest):
    def test_at_forty_random_instants(self) -> None:
        letters = three_hundred()
        self.write("in/Berths.mbox", mbox(*letters[:200]))
        for number, data in enumerate(letters[200:]):
            self.write(f"in/post/{number:03}.eml", data)
        command = ("export", "in", "--into", "out", "--as", ALL)
        started = time.monotonic()
        self.run_program(*command)
        whole = time.monotonic() - started
        undisturbed = self.contents(self.folder / "out")
        self.assertEqual(len(undisturbed), 300 * 4 + 2 * 2 + 2)
        rng = random.Random(40)
        stopped = 0
        for turn in range(40):
            shutil.rmtree(self.folder / "out")
            for _ in range(rng.choice([1, 1, 2])):  # sometimes the second run is killed as well
                process = self.start(*command)
                time.sleep(rng.uniform(0.1, whole))
                stopped += process.poll() is None
                process.kill()
                process.communicate()
            self.run_program(*command)
            self.assertEqual(self.contents(self.folder / "out").keys(), undisturbed.keys(), f"turn {turn}")
            self.assertEqual(self.contents(self.folder / "out"), undisturbed, f"turn {turn}")
            self.assert_clean(self.folder / "out")
        self.assertGreater(stopped, 20, "the kills came too late to prove anything")

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
