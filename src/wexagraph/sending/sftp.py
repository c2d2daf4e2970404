"""A place at a server that speaks SFTP."""

from __future__ import annotations

import contextlib
import errno
import hashlib
import stat
import threading
import time
from collections.abc import Callable, Iterable, Iterator
from functools import partial
from typing import TypeVar
from urllib.parse import quote

from wexagraph.errors import CallError
from wexagraph.sending.places import DEEPEST, Place
from wexagraph.sending.sftp_line import Cut, Line, WantsPassword
from wexagraph.sources.accounts import Account, Login, line_failed, refused

_TRIES, _WAIT = 3, 0.5
"""How often a line is tried, and the seconds before it is tried again; the next time, four times as many."""
_Answer = TypeVar("_Answer")


class SftpPlace(Place):
    """A folder at a server: by the keys of the user and their agent, else by the password that `login` finds. Only a
    server whose key is known is spoken to. Raises SourceError where there is no line to it, or it refuses the login.

    A name is given with the rename of the protocol, which leaves a name that is taken as it is; over a file of ours,
    with posix-rename@openssh.com.
    """

    lines = 2
    goes_on = True

    def __init__(self, account: Account, login: Login) -> None:
        self._account, self._login, self._base = account, login, _base(account.folder)
        self.name = account.url.rstrip("/")
        self._own, self._opened = threading.local(), list[Line]()
        self._password: str | None = None
        self._folders, self._making = set[str](), threading.Lock()
        about = self._ask(lambda line: line.about(self._base))
        if about is None or not stat.S_ISDIR(about[0]):
            self.close()
            raise CallError(f"{self.name} is not there. A place has to be there: make the folder at the server first.")

    def _line(self) -> Line:
        """The line of this thread. Raises SourceError."""
        line: Line | None = getattr(self._own, "line", None)
        if line is None:
            with self._making:
                line = self._own.line = self._connected()
                self._opened.append(line)
        return line

    def _connected(self) -> Line:
        try:
            return Line(self._account, self._password)
        except WantsPassword as error:
            if self._password is not None:
                raise refused(self._account, str(error)) from error
        self._password = self._login(self._account, False).value
        try:
            return Line(self._account, self._password)
        except WantsPassword as error:
            raise refused(self._account, str(error)) from error

    def _drop(self) -> None:
        """The line of this thread is of no use any more; the next thing that is asked opens another."""
        if (line := getattr(self._own, "line", None)) is not None:
            line.close()
            self._own.line = None

    def _ask(self, do: Callable[[Line], _Answer]) -> _Answer:
        """Ask the server what may be asked twice; a line that was cut is tried anew. Raises SourceError, OSError."""
        for attempt in range(_TRIES):
            try:
                return do(self._line())
            except Cut as error:
                self._drop()
                if attempt == _TRIES - 1:
                    raise line_failed(self._account, error) from error
                time.sleep(_WAIT * 4**attempt)
        raise AssertionError

    @contextlib.contextmanager
    def _once(self, what: str) -> Iterator[Line]:
        """The line, for what may not be asked twice. Raises OSError where it is cut."""
        try:
            yield self._line()
        except Cut as error:
            self._drop()
            raise OSError(errno.EIO, f"the line was cut {what}. Deliver again") from error

    def _path(self, path: str) -> str:
        levels = path.split("/") if path else []
        if not levels or any(level in ("", ".", "..") for level in levels) or "\0" in path:
            raise OSError(errno.EINVAL, "it leads out of its folder", path)
        return f"{self._base}/{path}"

    # what every place does

    def sizes(self, path: str) -> dict[str, int]:
        return self._ask(lambda line: self._sizes(line, path))

    def _sizes(self, line: Line, path: str) -> dict[str, int]:
        about = line.about(self._path(path))
        if about is None:
            return {}
        if not stat.S_ISDIR(about[0]):
            return {path: about[1]}
        found: dict[str, int] = {}
        waiting = [path]
        while waiting:
            folder = waiting.pop()
            for name, mode, size in line.listed(self._path(folder)):
                if stat.S_ISDIR(mode):
                    if folder.count("/") < DEEPEST:
                        waiting.append(f"{folder}/{name}")
                else:
                    found[f"{folder}/{name}"] = size if stat.S_ISREG(mode) else -1
        return found

    def digest(self, path: str) -> str | None:
        try:
            at = self._path(path)
        except OSError:
            return None
        return self._ask(lambda line: _digest(line, at))

    def write(self, path: str, chunks: Iterable[bytes], size: int, start: int = 0) -> None:
        at = self._path(path)
        self._make_folders(path)
        with self._once("while it was sent") as line:
            line.write(at, chunks, start)

    def _make_folders(self, path: str) -> None:
        levels = path.split("/")[:-1]
        for count in range(1, len(levels) + 1):
            folder = "/".join(levels[:count])
            if folder not in self._folders:
                self._ask(partial(Line.make_folder, path=self._path(folder)))
                self._folders.add(folder)

    def settle(self) -> None:
        """What a server has taken is its own to keep."""

    def put(self, part: str, path: str, replaces: bool) -> None:
        old, new = self._path(part), self._path(path)
        if not replaces and self._ask(lambda line: line.about(new)) is not None:  # not every server refuses it
            raise FileExistsError(errno.EEXIST, "something bears this name", path)
        with self._once("as it got its name") as line:
            if replaces:
                line.replace(old, new)
                return
            try:
                line.rename(old, new)
            except OSError as error:
                if not isinstance(error, Cut) and line.about(new) is not None:  # somebody was quicker
                    raise FileExistsError(errno.EEXIST, "something bears this name", path) from error
                raise

    def remove(self, path: str) -> None:
        with contextlib.suppress(FileNotFoundError):
            self._ask(partial(Line.remove, path=self._path(path)))

    def link(self, path: str) -> str:
        return f"{self.name}/{quote(path)}"

    def close(self) -> None:
        for line in self._opened:
            line.close()


def _base(folder: str) -> str:
    """The folder of a URL as the server knows it: from the top, or below the user's own folder (`~`)."""
    first, _, rest = folder.partition("/")
    return (rest or ".") if first == "~" else f"/{folder}"


def _digest(line: Line, path: str) -> str | None:
    """The SHA-256 of a file; None where none bears the name."""
    about = line.about(path)
    if about is None or not stat.S_ISREG(about[0]):
        return None
    digest = hashlib.sha256()
    for chunk in line.read(path, about[1]):
        digest.update(chunk)
    return digest.hexdigest()
