"""A place at a server that speaks WebDAV (RFC 4918)."""

from __future__ import annotations

import base64
import errno
import hashlib
import threading
import time
from collections.abc import Callable, Iterable, Iterator
from http.client import HTTPConnection, HTTPException, HTTPResponse, HTTPSConnection
from typing import TypeVar
from urllib.parse import quote, unquote, urlsplit
from xml.etree import ElementTree

from wexagraph.errors import CallError
from wexagraph.sending.places import DEEPEST, Place
from wexagraph.sources.accounts import Account, Login, Secret, line_failed, refused
from wexagraph.text import one_line

_CHUNK = 1 << 20
_MOST_LISTING = 64 * 1024 * 1024
_TRIES = 3
_WAIT = 0.5
"""Seconds before a line is tried again; the next time, four times as many."""
_LISTED = b'<?xml version="1.0"?><propfind xmlns="DAV:"><prop><getcontentlength/><resourcetype/></prop></propfind>'
_REASONS = {
    403: (errno.EACCES, "the server does not allow it (403). Ask who runs it for the right to write there"),
    409: (errno.ENOENT, "the server has no folder for it (409)"),
    413: (errno.EFBIG, "the server takes no file of that size (413)"),
    423: (errno.EBUSY, "somebody has it open: the server has locked it (423). Deliver again later"),
    507: (errno.ENOSPC, "the server has no room left (507)"),
}
_Answer = TypeVar("_Answer")


class WebDavPlace(Place):
    """A folder at a server, on a line a thread. No redirect is followed. Raises SourceError where there is no line to
    the server, or it refuses the login."""

    lines = 4

    def __init__(self, account: Account, login: Login) -> None:
        if account.scheme == "dav" and not account.may_stay_plain:
            raise CallError(f"dav:// is in the open, and {account.host} is another machine. Use davs://.")
        self._account, self._login = account, login
        self.name = account.url.rstrip("/")
        self._base = "/" + "/".join(quote(level, safe="") for level in account.folder.split("/") if level)
        self._own, self._lines = threading.local(), list[HTTPConnection]()
        self._secret: Secret | None = None
        self._folders: set[str] = set()
        self._making = threading.Lock()
        if not self._exists(""):
            raise CallError(f"{self.name} is not there. A place has to be there: make the folder at the server first.")

    # asking

    def _path(self, path: str) -> str:
        levels = path.split("/") if path else []
        if any(level in ("", ".", "..") for level in levels):
            raise _Said(errno.EINVAL, "it leads out of its folder", path)
        return "/".join(
            [self._base.rstrip("/"), *(quote(level, safe="", errors="surrogateescape") for level in levels)]
        )

    def _address(self, path: str) -> str:
        account = self._account
        host = f"[{account.host}]" if ":" in account.host else account.host
        port = "" if account.port in (80, 443) else f":{account.port}"
        return f"{'https' if account.encrypted_from_the_start else 'http'}://{host}{port}{self._path(path)}"

    def _headers(self) -> dict[str, str]:
        account = self._account
        self._secret = self._secret or self._login(account, False)
        if self._secret.token:
            return {"Authorization": f"Bearer {self._secret.value}"}
        pair = base64.b64encode(f"{account.user}:{self._secret.value}".encode()).decode("ascii")
        return {"Authorization": f"Basic {pair}", "Accept-Encoding": "identity"}

    def _open(self) -> HTTPConnection:
        """The line of this thread."""
        account = self._account
        line: HTTPConnection | None = getattr(self._own, "line", None)
        if line is None:
            if account.encrypted_from_the_start:
                line = HTTPSConnection(account.host, account.port, timeout=account.timeout, context=account.tls())
            else:
                line = HTTPConnection(account.host, account.port, timeout=account.timeout)
            self._own.line = line
            self._lines.append(line)
        return line

    def _drop(self) -> None:
        """The line of this thread is of no use any more; the next thing that is asked opens it again."""
        self._open().close()

    def _ask(
        self,
        method: str,
        path: str,
        use: Callable[[HTTPResponse], _Answer],
        headers: dict[str, str] | None = None,
        body: bytes | None = None,
        slash: str = "",
    ) -> _Answer:
        """Ask the server, and `use` its answer; a line that was cut is tried anew. Raises SourceError, OSError."""
        for attempt in range(_TRIES):
            try:
                return self._asked(method, path, use, headers or {}, body, slash)
            except (OSError, HTTPException) as error:
                if isinstance(error, _Said):
                    raise
                self._drop()
                if attempt == _TRIES - 1:
                    failure = error if isinstance(error, OSError) else OSError(str(error) or type(error).__name__)
                    raise line_failed(self._account, failure) from error
                time.sleep(_WAIT * 4**attempt)
        raise AssertionError

    def _asked(
        self,
        method: str,
        path: str,
        use: Callable[[HTTPResponse], _Answer],
        headers: dict[str, str],
        body: bytes | Iterable[bytes] | None,
        slash: str = "",
    ) -> _Answer:
        line = self._open()
        line.request(method, (self._path(path) + slash) or "/", body, self._headers() | headers)
        answer = line.getresponse()
        try:
            if answer.status == 401:
                raise refused(self._account, f"{answer.status} {one_line(answer.reason)}")
            return use(answer)
        finally:
            if not answer.isclosed():
                answer.read(_CHUNK)
                if not answer.isclosed():
                    self._drop()

    def _done(self, answer: HTTPResponse, *right: int) -> int:
        """The status of an answer, which is one of these. Raises OSError."""
        if answer.status in right:
            return answer.status
        if 300 <= answer.status < 400:
            to = one_line(answer.getheader("Location") or "")[:200]
            raise _Said(errno.EACCES, f"the server sends elsewhere, which is not followed: {to}")
        number, words = _REASONS.get(
            answer.status, (errno.EIO, f"the server says {answer.status} {one_line(answer.reason)[:100]}")
        )
        raise _Said(number, words)

    def _exists(self, path: str) -> bool:
        """Whether anything bears a name there."""
        headers = {"Depth": "0", "Content-Type": "application/xml"}
        status = self._ask("PROPFIND", path, lambda answer: self._done(answer, 207, 404, 301), headers, _LISTED)
        return status != 404

    def _is_taken(self, path: str) -> bool:
        """Whether a file bears a name there; nothing is told of folders."""
        return self._ask("HEAD", path, lambda answer: self._done(answer, 200, 204, 301, 403, 404, 405)) != 404

    # what every place does

    def sizes(self, path: str) -> dict[str, int]:
        found: dict[str, int] = {}
        waiting = [(path, "")]
        while waiting:
            folder, slash = waiting.pop()
            for name, size in self._listed(folder, slash):
                inner = f"{folder}/{name}" if name else folder
                if size is not None:
                    found[inner] = size
                elif name and inner.count("/") <= DEEPEST:
                    waiting.append((inner, "/"))
        return found

    def _listed(self, path: str, slash: str) -> list[tuple[str, int | None]]:
        """What lies in a folder: names and sizes, None of a folder; of a file, itself under the name ""."""

        def read(answer: HTTPResponse) -> bytes | None:
            status = self._done(answer, 207, 301, 404)
            if status != 207:
                return b"" if status == 404 else None
            data = answer.read(_MOST_LISTING + 1)
            if len(data) > _MOST_LISTING or b"<!DOCTYPE" in data or b"<!ENTITY" in data:
                raise _Said(errno.EIO, "the server's list of the folder is of no known form")
            return data

        headers = {"Depth": "1", "Content-Type": "application/xml"}
        data = self._ask("PROPFIND", path, read, headers, _LISTED, slash)
        if data is None and not slash:
            return self._listed(path, "/")  # a server that wants folders named as such
        if not data:
            return []
        try:
            root = ElementTree.fromstring(data)
        except ElementTree.ParseError as error:
            raise _Said(errno.EIO, "the server's list of the folder can't be read") from error
        own, listed = unquote(self._path(path), errors="surrogateescape").rstrip("/"), []
        for response in root.iterfind("{DAV:}response"):
            href = unquote(urlsplit(response.findtext("{DAV:}href") or "").path, errors="surrogateescape").rstrip("/")
            name = href.removeprefix(own).removeprefix("/")
            if not href.startswith(own) or "/" in name or name in (".", ".."):
                continue  # a server that lists what was not asked for
            is_folder = response.find(".//{DAV:}resourcetype/{DAV:}collection") is not None
            size = response.findtext(".//{DAV:}getcontentlength") or ""
            listed.append((name, None if is_folder else int(size) if size.isdecimal() else -1))
        return listed

    def digest(self, path: str) -> str | None:
        def read(answer: HTTPResponse) -> str | None:
            if answer.status in (301, 403, 404):  # a folder, or nothing
                return None
            self._done(answer, 200)
            digest = hashlib.sha256()
            while chunk := answer.read(_CHUNK):
                digest.update(chunk)
            return digest.hexdigest()

        try:
            return self._ask("GET", path, read)
        except _Said as error:
            if error.errno == errno.EINVAL:
                return None
            raise

    def write(self, path: str, chunks: Iterable[bytes], size: int, start: int = 0) -> None:
        self._make_folders(path)
        headers = {"Content-Length": str(size), "Content-Type": "application/octet-stream", "If-None-Match": "*"}
        try:
            self._asked("PUT", path, lambda answer: self._done(answer, 200, 201, 204), headers, _exactly(chunks, size))
        except HTTPException as error:
            self._drop()
            raise OSError(errno.EIO, f"the line was cut: {type(error).__name__}") from error
        except OSError as error:
            if not isinstance(error, _Said):
                self._drop()
            raise

    def _make_folders(self, path: str) -> None:
        levels = path.split("/")[:-1]
        for count in range(1, len(levels) + 1):
            folder = "/".join(levels[:count])
            with self._making:
                if folder not in self._folders:
                    self._make_folder(folder)
                    self._folders.add(folder)

    def _make_folder(self, folder: str) -> None:
        try:
            self._ask("MKCOL", folder, lambda answer: self._done(answer, 201, 405, 301), slash="/")  # 405: it is there
        except _Said:
            if not self._exists(folder):  # somebody else may have made it at the same moment
                raise

    def settle(self) -> None:
        """What a server has taken is its own to keep."""

    def put(self, part: str, path: str, replaces: bool) -> None:
        if not replaces and self._is_taken(path):  # not every server heeds Overwrite
            raise FileExistsError(errno.EEXIST, "something bears this name", path)

        def done(answer: HTTPResponse) -> None:
            if answer.status == 412:
                raise _Said(errno.EEXIST, "something bears this name")
            self._done(answer, 201, 204)

        headers = {"Destination": self._address(path), "Overwrite": "T" if replaces else "F"}
        try:
            self._asked("MOVE", part, done, headers, None)
        except _Said as error:
            if error.errno == errno.EEXIST:
                raise FileExistsError(errno.EEXIST, "something bears this name", path) from error
            raise
        except (OSError, HTTPException) as error:  # nobody knows whether it was moved: whoever delivers again looks
            self._drop()
            raise OSError(errno.EIO, "the line was cut as it got its name. Deliver again") from error

    def remove(self, path: str) -> None:
        self._ask("DELETE", path, lambda answer: self._done(answer, 200, 204, 404))

    def link(self, path: str) -> str:
        return self._address(path)

    def close(self) -> None:
        for line in self._lines:
            line.close()


class _Said(OSError):
    """What a server has answered; to ask again would help nobody."""


def _exactly(chunks: Iterable[bytes], size: int) -> Iterator[bytes]:
    """The chunks, of which there are so many bytes: a server waits for what it was promised. Raises OSError."""
    left = size
    for chunk in chunks:
        left -= len(chunk)
        if left < 0:
            break
        yield chunk
    if left:
        raise OSError(errno.EIO, "it was changed while it was sent. Deliver again")
