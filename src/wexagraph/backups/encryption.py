"""Locked backups: volumes, lists and catalogue as age files (age-encryption.org/v1), opened with a passphrase.

A backup has a key pair of its own. Its files are sealed for the public key; the secret one lies in `key.age`, sealed
with the passphrase. So any program that knows the format opens them: `age -d key.age > key`, `age -d -i key FILE`.
"""

from __future__ import annotations

import os
from collections.abc import Callable
from pathlib import Path

from wexagraph.errors import CallError, MessageError
from wexagraph.files import open_regular
from wexagraph.temporary import TemporaryFolder

KEY = "key.age"
SEALED = ".age"
Ask = Callable[[bool], str]
"""Gives the passphrase; told whether a new one is being chosen. Raises CallError where nobody can be asked."""


class Encryption:
    """Opens and seals files of one backup. For one that is not locked, all stays as it is."""

    def __init__(self, secret: str = "") -> None:
        self._secret = secret
        self._folder: TemporaryFolder | None = None
        self._plain: dict[Path, Path] = {}

    @property
    def locked(self) -> bool:
        return bool(self._secret)

    @property
    def suffix(self) -> str:
        """What the names of sealed files end in."""
        return SEALED if self.locked else ""

    @property
    def folder(self) -> Path:
        """A private folder on this machine for what must not lie open beside the backup; gone when this closes."""
        if self._folder is None:
            self._folder = TemporaryFolder()
        return self._folder.path

    def plain(self, path: Path) -> Path:
        """Where the file can be read as it is. Raises MessageError where it can't be opened, OSError."""
        if not self.locked or path.suffix != SEALED:
            return path
        if path not in self._plain:
            from pyrage import DecryptError, decrypt_file, x25519

            opened = self.folder / f"{len(self._plain):06d} {path.name.removesuffix(SEALED)}"
            if not path.exists():
                raise MessageError(f"{path} is missing")
            try:
                open_regular(path).close()
                decrypt_file(str(path), str(opened), [x25519.Identity.from_str(self._secret)])
            except (DecryptError, OSError, ValueError) as error:
                opened.unlink(missing_ok=True)
                raise MessageError(f"{path} can't be opened: {error}") from error
            self._plain[path] = opened
        return self._plain[path]

    def forget(self, path: Path) -> None:
        """The file at this place is another one now."""
        opened = self._plain.pop(path, None)
        if opened is not None:
            opened.unlink(missing_ok=True)

    def seal(self, plain: Path, sealed: Path) -> None:
        """Write a file as it goes into the backup, whole and on the disk. Raises OSError."""
        from pyrage import encrypt_file, x25519

        encrypt_file(str(plain), str(sealed), [x25519.Identity.from_str(self._secret).to_public()])
        os.chmod(sealed, 0o600)
        with open(sealed, "rb+") as file:
            os.fsync(file.fileno())

    def __enter__(self) -> Encryption:
        return self

    def __exit__(self, *_: object) -> None:
        self.close()

    def close(self) -> None:
        """Remove what lies open."""
        if self._folder is not None:
            self._folder.close()
            self._folder = None
        self._plain.clear()


def is_locked(folder: Path) -> bool:
    """Whether a backup is locked."""
    return (folder / KEY).is_file()


def unlock(folder: Path, ask: Ask | None) -> Encryption:
    """The encryption of a backup. Raises CallError where it is locked, and the passphrase is wrong or can't be had."""
    if not is_locked(folder):
        return Encryption()
    if ask is None:
        raise CallError(f"{folder} is locked, and no passphrase was given.")
    from pyrage import DecryptError, passphrase

    try:
        with open_regular(folder / KEY) as file:
            sealed = file.read(1 << 16)
        return Encryption(passphrase.decrypt(sealed, ask(False)).decode("ascii").strip())
    except DecryptError as error:
        raise CallError(f"the passphrase does not open {folder}, or its {KEY} is damaged.") from error
    except OSError as error:
        raise CallError(f"{folder / KEY} can't be read: {error.strerror or error}.") from error


def new_lock(ask: Ask | None) -> tuple[bytes, Encryption]:
    """The content of `key.age` for a new locked backup, and its encryption. Raises CallError."""
    if ask is None:
        raise CallError("a locked backup needs a passphrase, and nobody can be asked for one.")
    from pyrage import passphrase, x25519

    chosen = ask(True)
    if len(chosen) < 8:
        raise CallError("a passphrase of fewer than 8 characters protects nothing. Choose a longer one.")
    secret = str(x25519.Identity.generate())
    return bytes(passphrase.encrypt(f"{secret}\n".encode("ascii"), chosen)), Encryption(secret)
