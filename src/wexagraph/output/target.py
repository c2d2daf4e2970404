"""The folder an export writes into: one writer at a time, nothing half-written, nothing outside it."""

from __future__ import annotations

import contextlib
import hashlib
import os
import shutil
from collections.abc import Iterable, Iterator
from contextlib import contextmanager
from pathlib import Path

from wexagraph.errors import CallError, InUse, MessageError, TargetError
from wexagraph.naming.paths import RESERVED, free_name
from wexagraph.output.folder import FULL, OWN, InTheWay, OutputFolder, sync_files
from wexagraph.output.staging import Staged, Stager
from wexagraph.temporary import TemporaryFolder

_ROOM, _ROOM_SIZE = "room", 512 * 1024


class Staging:
    """An open file that is not yet under its name."""

    def __init__(self, target: Target, waiting: str) -> None:
        self._target, self._waiting = target, waiting
        self.file = open(waiting, "x+b")  # noqa: SIM115  closed by finish

    @contextlib.contextmanager
    def failing(self) -> Iterator[None]:
        """Turns what goes wrong on the disk into a TargetError."""
        try:
            yield
        except OSError as error:
            raise self._target.failed(error) from error

    def finish(self, path: str, replaces: bool) -> Staged:
        """The file is whole, and is to be put at `path`. Raises TargetError."""
        with self.failing(), self.file as file:
            file.flush()
            size = file.seek(0, os.SEEK_END)
            file.seek(0)
            digest = hashlib.file_digest(file, "sha256").hexdigest()
        return Staged(self._waiting, path, size, digest, replaces)


class Target:
    """A folder, locked for this process. Paths are relative to it, with `/`.

    Files are staged, then put under their names together: the disk has them before any of them shows. `patience` is how
    many seconds to wait for another run. Without `make` the folder has to be there.
    """

    def __init__(self, folder: Path, patience: float | None = None, make: bool = True) -> None:
        self.folder = folder
        try:
            self.root = OutputFolder(folder, make)
        except FileExistsError as error:
            raise TargetError(f"{folder} is a file. --into needs a folder, or a name that is still free.") from error
        except OSError as error:
            raise self.failed(error) from error
        try:
            self._take_lock(patience)
            self.work = self.root.stage("staged")
        except OSError as error:
            self.root.close()
            raise self.failed(error) from error
        except TargetError:
            self.root.close()
            raise
        self.stager = Stager(str(self.work))
        self._set_aside()

    def _set_aside(self) -> None:
        """Keep room on the disk for noting what was finished when it became full."""
        with contextlib.suppress(OSError), (self.work / _ROOM).open("xb") as file:
            if hasattr(os, "posix_fallocate"):
                os.posix_fallocate(file.fileno(), 0, _ROOM_SIZE)
            else:
                file.write(bytes(_ROOM_SIZE))

    def give_room(self) -> None:
        """The disk is full: what was kept free may be used to put what is finished."""
        with contextlib.suppress(OSError):
            (self.work / _ROOM).unlink()

    def failed(self, error: OSError) -> TargetError:
        """The error for a person, of something that went wrong when writing."""
        if isinstance(error, InTheWay):
            return TargetError(f"{error.strerror}.")
        reason = error.strerror or str(error)
        if error.errno in FULL:
            return TargetError(
                f"no space is left for {self.folder}. What is there is whole; "
                "free some space and run the same command again."
            )
        return TargetError(f"{self.folder} can't be written to: {reason}. Check the disk and its permissions.")

    def _take_lock(self, patience: float | None) -> None:
        try:
            holder = self.root.take_lock(patience)
        except FileNotFoundError as error:
            raise TargetError(f"{self.folder} was taken away meanwhile. Run the same command again.") from error
        if holder is not None:
            by = f" by process {holder}" if holder else ""
            raise InUse(
                f"{self.folder} is in use{by}: another export is writing to it. Wait for it, or choose another folder."
            )
        if not self.root.is_in_place():
            raise TargetError(f"{self.folder} was moved meanwhile. Run the same command again.")

    def close(self) -> None:
        """Clear what was staged and give the folder free."""
        with contextlib.suppress(OSError):
            self.root.clear(f"{OWN}/staged")
        self.root.close()

    def database(self, name: str) -> Path:
        """Where a database of ours lies. Raises TargetError."""
        try:
            return self.root.database(name)
        except OSError as error:
            raise self.failed(error) from error

    def stage(self, path: str, content: bytes, replaces: bool = False) -> Staged:
        """Write `content`, to be put at `path` later. `replaces` says that a file there is ours and may go.

        Raises TargetError.
        """
        try:
            return self.stager.stage(path, content, replaces)
        except OSError as error:
            raise self.failed(error) from error

    def open_staging(self) -> Staging:
        """A file to be written piece by piece, for what is too large to be held. Raises TargetError."""
        try:
            return Staging(self, self.stager.free())
        except OSError as error:
            raise self.failed(error) from error

    def put(self, batch: Iterable[Staged]) -> list[tuple[Staged, str | None]]:
        """Bring staged files to the disk, then under their names. Returns each with None, or with why it was not put.

        A name that somebody else's file has is left to it: ours gets the next number, which its `path` then has. Raises
        TargetError where the disk fails.
        """
        files = list(batch)
        try:
            sync_files(self.root, [staged.waiting for staged in files])
            return [(staged, self._place(staged)) for staged in files]
        except OSError as error:
            raise self.failed(error) from error

    def settle(self) -> None:
        """Bring the names of all files put so far to the disk. Raises TargetError."""
        try:
            self.root.sync()
        except OSError as error:
            raise self.failed(error) from error

    def _place(self, staged: Staged) -> str | None:
        waiting = Path(staged.waiting)
        try:
            if staged.replaces:
                self.root.replace(waiting, staged.path)
            else:
                self.root.rename_new(waiting, staged.path)
        except InTheWay as error:
            return error.strerror
        except IsADirectoryError:
            return f"{staged.path} is a folder now"
        except FileExistsError:
            self._already(staged)
        self.root.follow(staged.path)
        return None

    def _already(self, staged: Staged) -> None:
        """A file that a stopped run put there just before the end is the same to the byte: it counts as written.
        Another is somebody else's."""
        while True:
            if self.sha256(staged.path) == staged.sha256:
                os.unlink(staged.waiting)
                return
            staged.path = self.free_path(staged.path)
            with contextlib.suppress(FileExistsError):
                self.root.rename_new(Path(staged.waiting), staged.path)
                return

    def make_folder(self, path: str) -> None:
        """Make a folder below the target. Raises MessageError where a link or a file stands in its way."""
        try:
            self.root.make_folder(path)
        except InTheWay as error:
            raise MessageError(error.strerror) from error

    def taken(self, path: str) -> bool:
        """Whether anything bears this name, or it is kept for a list of ours."""
        return path.lower() in RESERVED or self.root.taken(path)

    def free_path(self, name: str) -> str:
        """A name that nothing bears yet: `name`, else with a number behind its stem."""
        stem, dot, suffix = name.rpartition(".")
        return free_name(stem, dot + suffix, self.root.taken)

    def set_aside(self, path: str) -> None:
        """Keep a file that somebody has changed, under another name. Raises TargetError."""
        stem, dot, suffix = path.rpartition(".")
        self.rename(path, self.free_path(f"{stem} (changed by hand){dot}{suffix}"))

    def rename(self, path: str, new: str) -> None:
        """Give a file another name, which is free. Raises TargetError."""
        try:
            self.root.rename_new(path, new)
        except OSError as error:
            raise self.failed(error) from error

    def put_list(self, staging: Staging, path: str, ours: Iterable[str | None]) -> Staged:
        """Finish a list of ours (register, manifest) that is to be put at `path` by `put_staged_list`.

        What lies there and has none of the digests `ours` was made or changed by somebody: it is kept under another
        name. Raises TargetError.
        """
        staged = staging.finish(path, replaces=True)
        if self.root.taken(path) and self.sha256(path) not in (*ours, staged.sha256):
            self.set_aside(path)
        return staged

    def put_staged_list(self, staged: Staged) -> None:
        """Put a finished list in its place. Raises TargetError, also where something stands in its way."""
        for _, refused in self.put([staged]):
            if refused:
                raise TargetError(f"{self.folder / staged.path} can't be written: {refused}.")

    def stamp(self, path: str) -> tuple[int, int] | None:
        """Size and time of a regular file; None where there is none."""
        return self.root.stamp(path)

    def is_intact(self, path: str, size: int, modified: int, sha256: str) -> bool:
        """Whether a file is still what was written: of its size and time, else of its digest."""
        stamp = self.stamp(path)
        return stamp is not None and stamp[0] == size and (stamp[1] == modified or self.sha256(path) == sha256)

    def sha256(self, path: str) -> str | None:
        """The digest of a file below the target; None where it can't be read. Links are not followed."""
        return self.root.digest(path)


def keep_apart(source: str | Path, into: str | Path, around: bool = False) -> None:
    """Raise CallError where results would go into a source that is a folder, or (but for `around`) around it."""
    if not os.path.isdir(source):
        return
    read, written = Path(source).resolve(), Path(into).resolve()
    if written == read:
        raise CallError(f"the output folder {into} is the mailbox itself. Choose a folder outside it.")
    if written.is_relative_to(read):
        raise CallError(f"the output folder {into} is inside the mailbox {source}. Choose a folder outside it.")
    if read.is_relative_to(written) and not around:
        raise CallError(f"the mailbox {source} is inside the output folder {into}. Choose a folder beside it.")


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
