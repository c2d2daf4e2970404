"""A folder that is only looked at, for a run that says what it would write."""

from __future__ import annotations

import os
import shutil
from collections.abc import Iterable, Iterator
from contextlib import contextmanager
from pathlib import Path

from wexagraph.errors import TargetError
from wexagraph.output.folder import OWN, OutputFolder
from wexagraph.output.staging import Staged, Stager
from wexagraph.output.target import Target
from wexagraph.temporary import TemporaryFolder


class Untouched(Target):
    """A target that nothing is put into. Where there is no such folder, an empty one stands in its place.

    What is staged lies in `place`, and goes when it would be put. A database of ours is a copy of that of the folder.
    """

    def __init__(self, folder: Path, place: Path) -> None:
        self._copies = place
        (place / "empty").mkdir()
        self.folder = folder if folder.is_dir() else place / "empty"
        self.work = place / "staged"
        self.work.mkdir()
        self.stager = Stager(str(self.work))
        self.root = OutputFolder(self.folder, make=False)

    def close(self) -> None:
        """Let go of the folder."""
        self.root.close()

    def database(self, name: str) -> Path:
        """A copy of a database of ours, as large as it is. Raises TargetError."""
        # what a killed run had not finished writing lies beside it, and is rolled back in the copy as it would be here
        for each in (name, f"{name}-journal"):
            try:
                with self.root.reader(f"{OWN}/{each}") as kept, open(self._copies / each, "wb") as copy:
                    shutil.copyfileobj(kept, copy)
            except (FileNotFoundError, NotADirectoryError):
                continue
            except OSError as error:
                path = self.folder / OWN / each
                raise TargetError(
                    f"{path} can't be read: {error.strerror or error}. Move it away, and run the same command again."
                ) from error
        return self._copies / name

    def put(self, batch: Iterable[Staged]) -> list[tuple[Staged, str | None]]:
        """Nothing is put: what was staged goes."""
        files = list(batch)
        for staged in files:
            os.unlink(staged.waiting)
        return [(staged, None) for staged in files]


@contextmanager
def untouched(folder: Path) -> Iterator[Untouched]:
    """A folder to be looked at only. Raises TargetError, OSError."""
    with TemporaryFolder() as place:
        target = Untouched(folder, place)
        try:
            yield target
        finally:
            target.close()
