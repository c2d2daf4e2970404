"""The folder of a backup on a disk: opened, locked, unlocked, and known by its manifest."""

from __future__ import annotations

from collections.abc import Callable
from pathlib import Path

from wexagraph.backups import bag
from wexagraph.backups.encryption import Ask, Encryption, is_locked, new_lock, unlock
from wexagraph.errors import CallError, InUse, SourceError, TargetError
from wexagraph.output.folder import FULL, InTheWay, OutputFolder

_FULL = "no space is left for {folder}. The backup is whole as it was; free some space and run the same command again."


def refuse_other(folder: Path) -> None:
    """Raise TargetError where a folder holds something else than a backup, OSError."""
    if folder.exists() and not folder.is_dir():
        raise TargetError(f"{folder} is a file. A backup needs a folder, or a name that is still free.")
    if folder.is_dir() and any(folder.iterdir()) and not (folder / bag.OWN).is_dir() and not bag.is_backup(folder):
        raise TargetError(f"{folder} holds something else. Choose an empty folder, or one that holds a backup.")
    if (folder / bag.OWN / "journal.sqlite").exists() or (folder / bag.OWN / "attachments.sqlite").exists():
        raise TargetError(f"{folder} holds an export. Choose another folder for a backup.")


class BackupFolder:
    """A backup's folder, open for reading, or, held by this process alone, for writing.

    `ask` gives the passphrase of one that is locked; `locked` makes a new one such.

    Raises SourceError where no backup lies there, TargetError where it can't be written to, CallError.
    """

    def __init__(
        self,
        path: Path,
        writing: bool = False,
        tell: Callable[[str], None] | None = None,
        ask: Ask | None = None,
        locked: bool = False,
    ) -> None:
        self.path, self.writing = path, writing
        self.staged = path / bag.OWN / "staged"
        self.encryption = Encryption()
        self.tell = tell or (lambda _: None)
        self.root: OutputFolder
        if writing:
            self._prepare(ask, locked)
        elif not bag.is_backup(path):
            raise SourceError(f"{path} is not a backup. `wexagraph backup SOURCE --into {path}` makes one.")
        else:
            self.root = OutputFolder(path, make=False)
        try:
            self._refuse_links()
            if not self.encryption.locked:
                self.encryption = unlock(path, ask)
            if self.encryption.locked:
                self.staged = self.encryption.folder / "staged"  # nothing of it lies open beside the backup
                self.staged.mkdir(exist_ok=True)
            self.manifest = self._manifest()
        except OSError as error:
            self.close()
            raise self.failed(error) from error
        except BaseException:
            self.close()
            raise

    def close(self) -> None:
        """Give the folder free."""
        self.encryption.close()
        if hasattr(self, "root"):
            self.root.close()

    def _prepare(self, ask: Ask | None, locked: bool) -> None:
        folder = self.path
        if locked and bag.is_backup(folder) and not is_locked(folder):
            raise CallError(f"{folder} is a backup that is not locked, and can't become one. Choose another folder.")
        try:
            refuse_other(folder)
            sealed = b""
            if locked and not bag.is_backup(folder) and not is_locked(folder):
                sealed, self.encryption = new_lock(ask)  # before anything is made: it may be refused
            self.root = OutputFolder(folder, private=True)
            if self.root.take_lock() is not None:
                raise InUse(f"{folder} is in use: another run is writing to it. Wait for it to end.")
            for place in (f"{bag.OWN}/staged", bag.VOLUMES, bag.RUNS):
                self.root.make_folder(place)
            first = (
                (bag.MANIFEST, b""),
                (bag.INFO, bag.info_text([], 0, 0, "")),
                (bag.README, bag.readme_text()),
                (bag.BAGIT, bag.DECLARATION),
            )
            if sealed:
                self.root.write(bag.KEY, sealed)
            for name, content in first:
                if not (folder / name).exists():
                    self.root.write(name, content)
        except OSError as error:
            self.close()
            raise self.failed(error) from error
        except (TargetError, CallError):
            self.close()
            raise

    def _refuse_links(self) -> None:
        """A link in place of one of its folders leads elsewhere. Raises InTheWay."""
        for place in (bag.VOLUMES, bag.RUNS):
            self.root.names(place)

    def failed(self, error: OSError) -> TargetError:
        """The error for a person, of something that went wrong when writing."""
        if isinstance(error, InTheWay):
            return TargetError(f"{error.strerror}.")
        if error.errno in FULL:
            return TargetError(_FULL.format(folder=self.path))
        if isinstance(error, PermissionError) or self.path.exists():
            reason = error.strerror or error
            return TargetError(f"{self.path} can't be written to: {reason}. Check the disk and its permissions.")
        return TargetError(f"{self.path} has gone while it was written to. Bring it back and run the command again.")

    def _manifest(self) -> dict[str, str]:
        """The lines of the manifest. To be written to, it has to be the one that the tag manifests know: a run on a
        damaged one would make the damage look right."""
        try:
            sums = bag.read_sums(self.path / bag.MANIFEST)
            agreeing = [
                read.digests.get(bag.MANIFEST) == bag.digest_of(self.path / bag.MANIFEST, kind)
                for name, kind in bag.TAG_MANIFESTS.items()
                if self.writing and (read := bag.read_sums(self.path / name)) is not None
            ]
        except OSError as error:
            raise SourceError(f"{self.path / bag.MANIFEST} can't be read: {error.strerror}.") from error
        if agreeing and not any(agreeing):
            raise TargetError(
                f"{self.path / bag.MANIFEST} was damaged, so nothing is written to this backup. "
                f"`wexagraph verify {self.path} --repair SOURCE` mends it."
            )
        return sums.digests if sums is not None else {}

    def plain(self, path: str) -> Path:
        """Where a file of the backup can be read as it is. Raises MessageError, OSError."""
        return self.encryption.plain(self.path / path)
