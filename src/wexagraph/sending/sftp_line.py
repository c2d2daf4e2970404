"""A line to a server that speaks SFTP (SSH File Transfer Protocol, version 3, as OpenSSH does), through the machine's
own `ssh` program: its keys, agent, known hosts and configuration are those of the user.
"""

from __future__ import annotations

import contextlib
import errno
import os
import select
import stat
import struct
import subprocess
import tempfile
from collections import deque
from collections.abc import Iterable, Iterator
from enum import IntEnum
from pathlib import Path

from wexagraph.errors import CallError, SourceError
from wexagraph.sources.accounts import Account, line_failed, refused
from wexagraph.temporary import TemporaryFolder
from wexagraph.text import one_line


class _Kind(IntEnum):
    """The kinds of packets (draft-ietf-secsh-filexfer-02, section 3)."""

    INIT, VERSION, OPEN, CLOSE, READ, WRITE, LSTAT = 1, 2, 3, 4, 5, 6, 7
    OPENDIR, READDIR, REMOVE, MKDIR, RENAME = 11, 12, 13, 14, 18
    STATUS, HANDLE, DATA, NAME, ATTRS = 101, 102, 103, 104, 105
    EXTENDED, EXTENDED_REPLY = 200, 201


_READING, _WRITING, _WRITING_NEW = 0x01, 0x02, 0x02 | 0x08 | 0x20
_OK, _END, _UNSUPPORTED = 0, 1, 8
_ERRORS = {
    2: (errno.ENOENT, "nothing bears this name"),
    3: (errno.EACCES, "the server does not allow it. Ask who runs it for the right to write there"),
    _UNSUPPORTED: (errno.EOPNOTSUPP, "the server can't do that"),
}
_CHUNK, _IN_FLIGHT, _LONGEST = 32 * 1024, 64, 1 << 20
"""Bytes that a request writes or reads, requests that wait for their answers at once, and the bytes of an answer that
nobody believes any more."""
_SSH = (
    *("ssh", "-T", "-oBatchMode=yes", "-oForwardAgent=no", "-oForwardX11=no", "-oClearAllForwardings=yes"),
    *("-oPermitLocalCommand=no", "-oServerAliveInterval=15", "-oServerAliveCountMax=4"),
)


class Cut(OSError):
    """The line has ended."""


class WantsPassword(Exception):
    """What the server says where no key was right, and a password may be."""


class Line:
    """A line to a server that has logged us in. All methods raise OSError, Cut where the line ends.

    Raises CallError where there is no `ssh` program, SourceError where there is no line, WantsPassword.
    """

    def __init__(self, account: Account, password: str | None) -> None:
        if account.host.startswith("-"):
            raise CallError(f"{account.host!r} is no host.")
        self._account, self._number, self._answers = account, 0, dict[int, tuple[int, bytes]]()
        self._read_on = bytearray()
        self._said = tempfile.TemporaryFile()  # noqa: SIM115  closed with the line
        command = [*_SSH, f"-oConnectTimeout={int(account.timeout)}", "-l", account.user]
        command += ["-p", str(account.port)] if account.port != 22 else []
        command += [f'-oUserKnownHostsFile="{account.authority}"'] if account.authority else []
        environment = dict(os.environ)
        with contextlib.ExitStack() as held:
            if password is not None:
                folder = held.enter_context(TemporaryFolder())
                command, environment = _with_password(command, environment, Path(folder), password)
            try:
                self._process = subprocess.Popen(
                    [*command, "-s", "--", account.host, "sftp"],
                    stdin=subprocess.PIPE,
                    stdout=subprocess.PIPE,
                    stderr=self._said,
                    env=environment,
                    bufsize=0,
                    start_new_session=True,  # a key that stops us must not cut the line under a file
                )
            except OSError as error:
                raise CallError(
                    f"sftp:// needs the program ssh (OpenSSH), which can't be run here: {error.strerror}. Install it."
                ) from error
            try:
                self._send(struct.pack(">BI", _Kind.INIT, 3))
                if self._packet()[0] != _Kind.VERSION:
                    raise Cut(errno.EPROTO, "the server does not speak SFTP")
            except Cut as error:
                self.close()
                raise self._failure(password, error) from error

    def _failure(self, password: str | None, error: OSError) -> Exception:
        """Why there is no line, by what the ssh program says of it."""
        self._said.seek(0)
        lines = self._said.read(100_000).decode("utf-8", "replace").splitlines()
        said = " ".join(lines)
        where = f"{self._account.host}, port {self._account.port}"
        if "IDENTIFICATION HAS CHANGED" in said:
            return SourceError(
                f"{where}: the server shows another key than the one that is known. Somebody may stand between: "
                "nothing was sent. Ask who runs the server before you change your known_hosts."
            )
        if "Host key verification failed" in said or "host key is known" in said:
            return SourceError(
                f"{where}: the server's key is not known yet. Log in once by hand, `ssh -p {self._account.port} "
                f"{self._account.user}@{self._account.host}`, compare the key with the one that its operator names, "
                "and accept it; or name a file of known hosts with `authority`."
            )
        last = next((one_line(line)[:200] for line in reversed(lines) if line.strip()), "")
        if "Permission denied" in said:
            offered = last.rpartition("(")[2]
            if password is not None or "password" in offered or "keyboard-interactive" in offered:
                return WantsPassword(last)
            return refused(self._account, f"{last}. It takes keys alone: yours is not among them, or not in the agent")
        return line_failed(self._account, OSError(errno.EPIPE, last) if last else error)

    # packets

    def _send(self, packet: bytes) -> None:
        assert self._process.stdin is not None
        data = memoryview(struct.pack(">I", len(packet)) + packet)
        try:
            while data:
                data = data[self._process.stdin.write(data) :]
        except OSError as error:
            raise Cut(errno.EPIPE, "the line ended") from error

    def _packet(self) -> tuple[int, bytes]:
        """The next packet: its kind, and what is in it."""
        (length,) = struct.unpack(">I", self._bytes(4))
        if not 1 <= length <= _LONGEST:
            raise Cut(errno.EPROTO, "the server does not speak SFTP")
        packet = self._bytes(length)
        return packet[0], packet[1:]

    def _bytes(self, count: int) -> bytes:
        assert self._process.stdout is not None
        file = self._process.stdout.fileno()
        while len(self._read_on) < count:
            if os.name == "posix" and not select.select([file], [], [], self._account.timeout)[0]:
                raise Cut(errno.ETIMEDOUT, f"no answer in {self._account.timeout:g} seconds")
            chunk = os.read(file, 1 << 17)
            if not chunk:
                raise Cut(errno.EPIPE, "the line ended")
            self._read_on += chunk
        found = bytes(self._read_on[:count])
        del self._read_on[:count]
        return found

    def _request(self, kind: int, *parts: str | bytes) -> int:
        """Ask for something; a text is sent with its length in front. Returns the number of the request."""
        self._number = self._number % 0xFFFFFFFF + 1
        body = b"".join(part if isinstance(part, bytes) else _text(part) for part in parts)
        self._send(struct.pack(">BI", kind, self._number) + body)
        return self._number

    def _answer(self, number: int, *kinds: int) -> tuple[int, bytes]:
        """The answer to a request, of one of these kinds. Raises OSError for a status that is no success."""
        while number not in self._answers:
            kind, packet = self._packet()
            if len(packet) < 4 or len(self._answers) > _IN_FLIGHT:
                raise Cut(errno.EPROTO, "the server answers what was not asked")
            self._answers[struct.unpack_from(">I", packet)[0]] = (kind, packet[4:])
        kind, packet = self._answers.pop(number)
        if kind in kinds:
            return kind, packet
        if kind != _Kind.STATUS or len(packet) < 4:
            raise Cut(errno.EPROTO, "the server answers what was not asked")
        code = struct.unpack_from(">I", packet)[0]
        if code in (_OK, _END):
            return _Kind.STATUS, packet
        said = one_line(_string(packet, 4)[0].decode("utf-8", "replace"))[:100] if len(packet) > 4 else "failed"
        raise OSError(*_ERRORS.get(code, (errno.EIO, f"the server says: {said}")))

    def _done(self, kind: int, *parts: str | bytes) -> None:
        """Ask for something that is answered by its success alone."""
        self._answer(self._request(kind, *parts))

    # files

    def about(self, path: str) -> tuple[int, int] | None:
        """Mode and size of what bears a name, links not followed; None where nothing does."""
        try:
            _, packet = self._answer(self._request(_Kind.LSTAT, path), _Kind.ATTRS)
        except FileNotFoundError:
            return None
        mode, size, _ = _attributes(packet, 0)
        return mode, size

    def listed(self, path: str) -> Iterator[tuple[str, int, int]]:
        """Names in a folder, each with mode and size."""
        with self._handle(_Kind.OPENDIR, path) as handle:
            while True:
                kind, packet = self._answer(self._request(_Kind.READDIR, handle), _Kind.NAME)
                if kind == _Kind.STATUS:
                    return
                (count,), at = struct.unpack_from(">I", packet.ljust(4, b"\0")), 4
                if not count:
                    raise Cut(errno.EPROTO, "the server does not speak SFTP")
                for _ in range(count):
                    name, at = _string(packet, at)
                    _, at = _string(packet, at)
                    mode, size, at = _attributes(packet, at)
                    text = os.fsdecode(name)
                    if text not in (".", "..") and "/" not in text:  # a server may list what was not asked for
                        yield text, mode, size

    @contextlib.contextmanager
    def _handle(self, kind: int, path: str, *more: bytes) -> Iterator[bytes]:
        """What is opened, as later requests name it. It is closed in the end."""
        _, packet = self._answer(self._request(kind, path, *more), _Kind.HANDLE)
        handle = packet
        try:
            yield handle
        except Cut:
            raise
        except BaseException:
            with contextlib.suppress(OSError):
                self._done(_Kind.CLOSE, handle)
            raise
        self._done(_Kind.CLOSE, handle)

    def read(self, path: str, size: int) -> Iterator[bytes]:
        """The bytes of a file of that size, and what there is beyond it."""
        with self._handle(_Kind.OPEN, path, struct.pack(">II", _READING, 0)) as handle:

            def ask(offset: int, count: int) -> tuple[int, int, int]:
                return self._request(_Kind.READ, handle, struct.pack(">QI", offset, count)), offset, count

            starts = iter(range(0, size + 1, _CHUNK))  # one byte more: it may be longer than it was said to be
            waiting = deque(ask(at, _CHUNK) for _, at in zip(range(_IN_FLIGHT), starts, strict=False))
            while waiting:
                number, offset, count = waiting.popleft()
                kind, packet = self._answer(number, _Kind.DATA)
                if kind == _Kind.STATUS:
                    continue  # the end
                chunk, _ = _string(packet, 0)
                if not chunk:
                    raise Cut(errno.EPROTO, "the server gives nothing back")
                yield chunk
                if len(chunk) < count and offset + len(chunk) < size:
                    waiting.appendleft(ask(offset + len(chunk), count - len(chunk)))
                elif (start := next(starts, None)) is not None:
                    waiting.append(ask(start, _CHUNK))

    def write(self, path: str, chunks: Iterable[bytes], start: int = 0) -> None:
        """A new file under a name that nothing bears, or what comes behind so many bytes of one that is there."""
        with self._handle(_Kind.OPEN, path, struct.pack(">II", _WRITING if start else _WRITING_NEW, 0)) as handle:
            waiting, offset = deque[int](), start
            try:
                for chunk in chunks:
                    for at in range(0, len(chunk), _CHUNK):
                        piece = chunk[at : at + _CHUNK]
                        where = struct.pack(">QI", offset, len(piece))
                        waiting.append(self._request(_Kind.WRITE, handle, where, piece))
                        offset += len(piece)
                        if len(waiting) >= _IN_FLIGHT:
                            self._answer(waiting.popleft())
                while waiting:
                    self._answer(waiting.popleft())
            except OSError as error:
                if isinstance(error, Cut):
                    raise
                while waiting:
                    with contextlib.suppress(OSError):
                        self._answer(waiting.popleft())
                if error.errno == errno.EIO and self._is_full(path):
                    raise OSError(errno.ENOSPC, "the server has no room left") from error
                raise

    def _is_full(self, path: str) -> bool:
        """Whether the server says that no room is left where a file lies; one that can't tell says no."""
        try:
            number = self._request(_Kind.EXTENDED, "statvfs@openssh.com", path)
            _, packet = self._answer(number, _Kind.EXTENDED_REPLY)
            return len(packet) >= 40 and struct.unpack_from(">5Q", packet)[4] == 0
        except OSError:
            return False

    def make_folder(self, path: str) -> None:
        """Make a folder, unless there is one."""
        if (about := self.about(path)) is None:
            with contextlib.suppress(OSError):  # somebody else may make it at the same moment
                self._done(_Kind.MKDIR, path, struct.pack(">I", 0))
            about = self.about(path)
        if about is None or not stat.S_ISDIR(about[0]):
            raise OSError(errno.ENOTDIR, "a folder for it is not there, and can't be made")

    def rename(self, old: str, new: str) -> None:
        """Give a file a name that nothing bears; not every server refuses another."""
        self._done(_Kind.RENAME, old, new)

    def remove(self, path: str) -> None:
        """Remove a file."""
        self._done(_Kind.REMOVE, path)

    def replace(self, old: str, new: str) -> None:
        """Give a file a name that another file bears, which goes."""
        try:
            self._done(_Kind.EXTENDED, "posix-rename@openssh.com", old, new)
        except OSError as error:
            if error.errno != errno.EOPNOTSUPP:
                raise
            self._done(_Kind.REMOVE, new)
            self._done(_Kind.RENAME, old, new)

    def close(self) -> None:
        for stream in (self._process.stdin, self._process.stdout):
            if stream is not None:
                with contextlib.suppress(OSError):
                    stream.close()
        try:
            self._process.wait(2)
        except subprocess.TimeoutExpired:
            self._process.kill()
            self._process.wait()


def _with_password(
    command: list[str], environment: dict[str, str], folder: Path, password: str
) -> tuple[list[str], dict[str, str]]:
    """How the ssh program gets a password: from a small program that it runs, never on a line or in the environment."""
    (folder / "answer").write_text(password + "\n", "utf-8")
    asked = folder / "asked"
    asked.write_text('#!/bin/sh\nexec cat "${0%/*}/answer"\n', "utf-8")
    asked.chmod(0o700)
    words = [word for word in command if word != "-oBatchMode=yes"]
    words += [
        "-oBatchMode=no",
        "-oStrictHostKeyChecking=yes",
        "-oNumberOfPasswordPrompts=1",
        "-oPubkeyAuthentication=no",
    ]
    return words, environment | {"SSH_ASKPASS": str(asked), "SSH_ASKPASS_REQUIRE": "force"}


def _text(text: str) -> bytes:
    data = text.encode("utf-8", "surrogateescape")
    return struct.pack(">I", len(data)) + data


def _string(packet: bytes, at: int) -> tuple[bytes, int]:
    """A text with its length in front, and where it ends. Raises Cut where it is not whole."""
    if len(packet) < at + 4:
        raise Cut(errno.EPROTO, "the server does not speak SFTP")
    (length,) = struct.unpack_from(">I", packet, at)
    if len(packet) < at + 4 + length:
        raise Cut(errno.EPROTO, "the server does not speak SFTP")
    return packet[at + 4 : at + 4 + length], at + 4 + length


def _attributes(packet: bytes, at: int) -> tuple[int, int, int]:
    """Mode and size (0 and -1 where they are not said), and where the attributes end. Raises Cut."""
    mode, size = 0, -1
    try:
        (flags,) = struct.unpack_from(">I", packet, at)
        at += 4
        if flags & 1:
            (size,) = struct.unpack_from(">Q", packet, at)
            at += 8
        at += 8 if flags & 2 else 0
        if flags & 4:
            (mode,) = struct.unpack_from(">I", packet, at)
            at += 4
        at += 8 if flags & 8 else 0
        if flags & 0x80000000:
            (count,) = struct.unpack_from(">I", packet, at)
            at += 4
            for _ in range(2 * count):
                _, at = _string(packet, at)
    except struct.error as error:
        raise Cut(errno.EPROTO, "the server does not speak SFTP") from error
    return mode, size, at
