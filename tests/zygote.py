"""The program, loaded once and forked for each call: a test drives what is installed without paying for a start.

Run as `python -m tests.zygote`, it takes calls on standard input. With `--nursery LINE`, the number of a socket, it only
forks workers, for a program that is called in the process of a test. Where all tests are run, both are forked from the
process that runs them (`load`, `Zygote.begin`, `Forking.begin`).
"""

from __future__ import annotations

import contextlib
import hashlib
import mmap
import os
import pickle
import signal
import socket
import struct
import subprocess
import sys
import tempfile
import threading
import time
from collections.abc import Callable
from importlib import import_module
from typing import IO, Any

from pyrage import passphrase

STEPS = ("replace", "rename", "unlink", "link", "mkdir", "fsync", "write")
"""What the program does to a disk, by the names in `os`."""
_LENGTH = struct.Struct(">Q")
_LOADED = (
    "wexagraph.cli.export", "wexagraph.cli.attachments", "wexagraph.cli.backup", "wexagraph.cli.restore",
    "wexagraph.cli.verify", "wexagraph.cli.listing", "wexagraph.cli.show", "wexagraph.cli.folders",
    "wexagraph.cli.copy", "wexagraph.cli.join", "wexagraph.cli.runs", "wexagraph.cli.progress",
    "wexagraph.exports.run", "wexagraph.exports.attachments.run", "wexagraph.backups.topup", "wexagraph.backups.source",
    "wexagraph.seals.sealing", "wexagraph.seals.documents", "wexagraph.protection.keys", "wexagraph.protection.verdicts",
    "wexagraph.backups.verify", "wexagraph.app.opening", "wexagraph.app.options", "wexagraph.sources.imap.source",
    "wexagraph.sources.pop", "wexagraph.work.pool", "rich.table", "tzlocal", "selectolax.lexbor",
    "wexagraph.work.worker", "wexagraph.pages.make", "wexagraph.pages.composing.compose", "pikepdf.pdfa", "pypdfium2",
    "wexagraph.pages.attachments.convert", "wexagraph.pages.checking.text_check", "wexagraph.pages.pdf.binding",
    "wexagraph.pages.composing.covers", "wexagraph.pages.composing.plain", "plutoprint", "tinycss2", "wexagraph.exports.bound_documents",
    "wexagraph.cli.main", "wexagraph.cli.defaults", "wexagraph.cli.help", "wexagraph.cli.case", "wexagraph.cli.file", "wexagraph.cli.find",
    "wexagraph.cli.order", "wexagraph.cli.register", "wexagraph.cli.index", "wexagraph.sources.local", "wexagraph.sources.pst.store",
    "wexagraph.exports.file_words", "wexagraph.exports.index_page.writing", "wexagraph.records.order",
    "wexagraph.records.certificate", "wexagraph.app.cases.disposal", "tomlkit", "platformdirs", "PIL.Image", "PIL.PngImagePlugin", "encodings.idna",
)  # fmt: off


class Zygote:
    """Starts when it is first asked; ends with the process that it serves."""

    def __init__(self) -> None:
        self._lock = threading.Lock()
        self._process: subprocess.Popen[bytes] | None = None
        self._streams: tuple[IO[bytes], IO[bytes]] | None = None
        self._owner = 0

    def begin(self) -> None:
        """Fork it from this process, which has loaded the program and has one thread."""
        given, ours = os.pipe(), os.pipe()
        if os.fork() == 0:
            try:
                os.dup2(given[0], 0)
                os.dup2(ours[1], 1)
                os.closerange(3, 256)
                _serve()
            finally:
                os._exit(0)
        os.close(given[0])
        os.close(ours[1])
        self._owner, self._streams = os.getpid(), (os.fdopen(given[1], "wb"), os.fdopen(ours[0], "rb"))

    def call(
        self,
        arguments: list[str],
        cwd: str,
        environment: dict[str, str],
        input: bytes,
        timeout: float,
        end_before: int | None = None,
    ) -> tuple[int, bytes, bytes, int]:
        """Run the program. Returns its exit code (of a signal, less than 0), what it printed, and its steps on the disk.

        With `end_before`, it is gone before its step of that number, with exit code 9: as by kill -9, nothing is tidied.
        """
        with self._lock:
            if self._streams is None or self._owner != os.getpid():
                self._owner = os.getpid()
                self._process = subprocess.Popen(
                    [sys.executable, "-m", "tests.zygote"],
                    stdin=subprocess.PIPE,
                    stdout=subprocess.PIPE,
                    cwd=os.path.dirname(os.path.dirname(os.path.abspath(__file__))),
                )
                assert self._process.stdin is not None and self._process.stdout is not None
                self._streams = self._process.stdin, self._process.stdout
            _send(self._streams[0], (arguments, cwd, environment, input, timeout, end_before))
            code, out, err, steps = _receive(self._streams[1])
            return code, out, err, steps


def _send(stream: IO[bytes], value: Any) -> None:
    data = pickle.dumps(value)
    stream.write(_LENGTH.pack(len(data)) + data)
    stream.flush()


def _receive(stream: IO[bytes]) -> Any:
    head = stream.read(_LENGTH.size)
    if len(head) < _LENGTH.size:
        raise EOFError
    return pickle.loads(stream.read(_LENGTH.unpack(head)[0]))


def main() -> None:
    load()
    if sys.argv[1:2] == ["--nursery"]:
        _nurse(socket.socket(fileno=int(sys.argv[2])))
    else:
        _serve()


def load() -> None:
    """Load the program, and make a page: what an engine loads for its first is there for all that are forked."""
    from wexagraph.pages import fonts
    from wexagraph.pages.make import Job, make
    from wexagraph.pages.options import PageOptions

    for name in _LOADED:
        import_module(name)
    if "FONTCONFIG_FILE" not in os.environ:
        fonts.provide()
        make(Job(b"Subject: Warm\nContent-Type: text/html\n\n<p>words</p>", ("pdf", "html", "text"), PageOptions()))
        del os.environ["FONTCONFIG_FILE"]


def _serve() -> None:
    """Answer calls on standard input until it ends."""
    requests, answers = os.fdopen(os.dup(0), "rb"), os.fdopen(os.dup(1), "wb")
    os.dup2(2, 1)
    nursery = _Nursery.forked()
    with tempfile.TemporaryDirectory(prefix="wexagraph-opened-") as opened, contextlib.suppress(EOFError):
        _remember_what_opens(opened)
        while True:
            _send(answers, _run(nursery, *_receive(requests)))


def _remember_what_opens(folder: str) -> None:
    """A passphrase takes seconds of a processor, on purpose: what one opens is kept in a folder, for the next program."""
    real = passphrase.decrypt

    def decrypt(sealed: bytes, phrase: str) -> bytes:
        kept = f"{folder}/{hashlib.sha256(phrase.encode() + sealed).hexdigest()}"
        with contextlib.suppress(FileNotFoundError), open(kept, "rb") as file:
            return file.read()
        content = bytes(real(sealed, phrase))
        with open(kept, "wb") as file:
            file.write(content)
        return content

    passphrase.decrypt = decrypt


def _run(
    nursery: _Nursery,
    arguments: list[str],
    cwd: str,
    environment: dict[str, str],
    input: bytes,
    timeout: float,
    end_before: int | None,
) -> tuple[int, bytes, bytes, int]:
    steps = mmap.mmap(-1, 8)  # shared with the child
    with tempfile.TemporaryFile() as given, tempfile.TemporaryFile() as out, tempfile.TemporaryFile() as err:
        given.write(input)
        given.seek(0)
        child = os.fork()
        if child == 0:
            if end_before is not None:
                _count(steps, end_before)
            _become(nursery, arguments, cwd, environment, [given.fileno(), out.fileno(), err.fileno()])
        end = time.monotonic() + timeout
        while (done := os.waitpid(child, os.WNOHANG))[0] == 0:
            if time.monotonic() > end:
                os.kill(child, 9)
            time.sleep(0.002)
        out.seek(0)
        err.seek(0)
        return os.waitstatus_to_exitcode(done[1]), out.read(), err.read(), int.from_bytes(steps[:8], "big")


def _count(steps: mmap.mmap, end_before: int) -> None:
    """Count this process's steps on the disk, and end it before one of them."""
    owner = os.getpid()

    def counted(real: Callable[..., object]) -> Callable[..., object]:
        def step(*arguments: object, **more: object) -> object:
            if os.getpid() == owner:  # a worker that is forked is not meant
                number = int.from_bytes(steps[:8], "big")
                if number == end_before:
                    os._exit(9)
                steps[:8] = (number + 1).to_bytes(8, "big")
            return real(*arguments, **more)

        return step

    for name in STEPS:
        setattr(os, name, counted(getattr(os, name)))


class _Nursery:
    """A process of one thread that forks workers for the programs: forked from a program that has threads, one in some
    hundred would begin with a lock that nobody holds any more."""

    def __init__(self, line: socket.socket, process: subprocess.Popen[bytes] | None = None) -> None:
        self._line, self._process, self._lock = line, process, threading.Lock()

    @classmethod
    def forked(cls) -> _Nursery:
        """Forked from this process, which has loaded the program."""
        ours, theirs = socket.socketpair(socket.AF_UNIX, socket.SOCK_SEQPACKET)
        if os.fork() == 0:
            try:
                ours.close()
                _nurse(theirs)
            finally:
                os._exit(0)
        theirs.close()
        return cls(ours)

    @classmethod
    def started(cls) -> _Nursery:
        """Started anew. It ends with this process."""
        ours, theirs = socket.socketpair(socket.AF_UNIX, socket.SOCK_SEQPACKET)
        process = subprocess.Popen(
            [sys.executable, "-m", "tests.zygote", "--nursery", str(theirs.fileno())],
            cwd=os.path.dirname(os.path.dirname(os.path.abspath(__file__))),
            pass_fds=[theirs.fileno()],
        )
        theirs.close()
        return cls(ours, process)

    def fork(self, streams: list[int]) -> int:
        """A worker between these two descriptors. Returns its number as a process."""
        with self._lock:
            socket.send_fds(self._line, [pickle.dumps((os.getcwd(), dict(os.environ)))], streams)
            return int.from_bytes(self._line.recv(8), "big")


def _nurse(line: socket.socket) -> None:
    """Fork a worker for each that is asked for on a line, until that ends."""
    signal.signal(signal.SIGCHLD, signal.SIG_IGN)
    while True:
        data, streams, _, _ = socket.recv_fds(line, 1 << 20, 2)
        if not data:
            return
        child = os.fork()
        if child == 0:
            line.close()
            _be_a_worker(streams, *pickle.loads(data))
        for stream in streams:
            os.close(stream)
        line.send(child.to_bytes(8, "big"))


def _be_a_worker(streams: list[int], cwd: str, environment: dict[str, str]) -> None:
    try:
        signal.signal(signal.SIGCHLD, signal.SIG_DFL)
        os.setsid()
        os.dup2(streams[0], 0)
        os.dup2(streams[1], 1)
        os.dup2(os.open(os.devnull, os.O_WRONLY), 2)
        os.closerange(3, 256)
        os.chdir(cwd)
        os.environ.clear()
        os.environ.update(environment)
        time.tzset()
        sys.stdin = open(0, closefd=False)
        import_module("wexagraph.work.worker").main()
    finally:
        os._exit(1)


class _Forked:
    """A worker that is forked, in place of one that is started: what `subprocess.Popen` gives, as far as it is used."""

    def __init__(self, nursery: _Nursery) -> None:
        given, ours = os.pipe(), os.pipe()
        self.pid = nursery.fork([given[0], ours[1]])
        os.close(given[0])
        os.close(ours[1])
        self.stdin, self.stdout = os.fdopen(given[1], "wb"), os.fdopen(ours[0], "rb")

    def kill(self) -> None:
        with contextlib.suppress(ProcessLookupError):
            os.kill(self.pid, signal.SIGKILL)

    def wait(self, timeout: float | None = None) -> None:
        end = time.monotonic() + (timeout or 3600)
        with contextlib.suppress(ProcessLookupError):
            while True:
                os.kill(self.pid, 0)
                if time.monotonic() > end:
                    raise subprocess.TimeoutExpired("worker", timeout or 0)
                time.sleep(0.002)


class Forking:
    """`subprocess` as the pool of workers sees it; without a nursery, one is started when the first worker is."""

    def __init__(self, nursery: _Nursery | None = None) -> None:
        self._nursery = nursery

    def begin(self) -> None:
        """Fork the nursery from this process, which has loaded the program and has one thread."""
        self._nursery = _Nursery.forked()

    PIPE, DEVNULL, TimeoutExpired = subprocess.PIPE, subprocess.DEVNULL, subprocess.TimeoutExpired

    def Popen(self, *_: object, **__: object) -> _Forked:
        self._nursery = self._nursery or _Nursery.started()
        return _Forked(self._nursery)


def _become(nursery: _Nursery, arguments: list[str], cwd: str, environment: dict[str, str], streams: list[int]) -> None:
    """In the child: be the program, from its first line to its exit code."""
    code = 70
    try:
        os.setsid()
        for number, stream in enumerate(streams):
            os.dup2(stream, number)
        os.chdir(cwd)
        os.environ.clear()
        os.environ.update(environment)
        time.tzset()
        sys.stdin = open(0, encoding="utf-8", errors="surrogateescape", closefd=False)
        sys.stdout = open(1, "w", encoding="utf-8", errors="strict", closefd=False)
        sys.stderr = open(2, "w", encoding="utf-8", errors="backslashreplace", closefd=False)
        sys.argv = ["wexagraph", *arguments]
        from wexagraph.cli.main import run
        from wexagraph.work import pool

        pool.subprocess = Forking(nursery)  # type: ignore[assignment]
        try:
            run()
        except SystemExit as leaving:
            code = leaving.code if isinstance(leaving.code, int) else 1
        except BaseException:
            import traceback

            traceback.print_exc()
            code = 1
        for text in (sys.stdout, sys.stderr):
            text.flush()
    finally:
        os._exit(code)


if __name__ == "__main__":
    main()
