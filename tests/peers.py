"""Bad company for the tests of accounts: a scripted IMAP server, and a proxy that cuts and slows a line."""

from __future__ import annotations

import contextlib
import random
import re
import socket
import socketserver
import threading
import time
from collections.abc import Callable


class Scripted:
    """A small server with these messages, a thread a line, which `mood` makes behave badly.

    `lines` are the commands that came, `sessions` counts the lines that were dialled. A mood that raises
    ConnectionError drops the line.
    """

    scheme = ""

    def __init__(self, messages: list[bytes], mood: Callable[..., bytes | None] | None = None) -> None:
        self.messages, self.mood, self.lines, self.sessions = messages, mood, [], 0
        peer = self

        class Handler(socketserver.StreamRequestHandler):
            def handle(self) -> None:
                peer.sessions += 1
                with contextlib.suppress(OSError, ConnectionError):
                    peer._serve(self)

        self._server = socketserver.ThreadingTCPServer(("127.0.0.1", 0), Handler)
        self._server.daemon_threads = True
        self.port = self._server.server_address[1]
        threading.Thread(target=self._server.serve_forever, daemon=True).start()

    def close(self) -> None:
        self._server.shutdown()
        self._server.server_close()

    @property
    def url(self) -> str:
        return f"{self.scheme}://records@127.0.0.1:{self.port}/"

    def _serve(self, handler: socketserver.StreamRequestHandler) -> None:
        raise NotImplementedError


class Peer(Scripted):
    """IMAP, with one folder. `mood(command, line, peer)` may return bytes to send in place of the usual answer, or
    None."""

    scheme = "imap"
    capabilities = "IMAP4rev1 LITERAL+"
    separator = "/"
    folders = ("INBOX",)

    def _serve(self, handler: socketserver.StreamRequestHandler) -> None:
        out = handler.wfile
        out.write(f"* OK [CAPABILITY {self.capabilities}] ready\r\n".encode())
        while line := handler.rfile.readline():
            text = line.decode("latin-1").rstrip("\r\n")
            while match := re.search(r"\{(\d+)(\+?)\}$", text):
                if not match[2]:
                    out.write(b"+ go on\r\n")
                literal = handler.rfile.read(int(match[1])).decode("latin-1")
                text += literal + handler.rfile.readline().decode("latin-1").rstrip("\r\n")
            self.lines.append(text)
            tag, _, command = text.partition(" ")
            word = command.upper().split(" ")[0]
            word = f"UID {command.upper().split(' ')[1]}" if word == "UID" else word
            answer = self.mood(word, command, self) if self.mood else None
            if word == "AUTHENTICATE" and answer is None:
                out.write(b"+ \r\n")
                self.lines.append(handler.rfile.readline().decode("latin-1"))
            if answer is None:
                answer = self._usual(word, command)
            elif b"TAG" in answer:
                out.write(answer.replace(b"TAG", tag.encode()))
                continue
            out.write(answer + f"{tag} OK done\r\n".encode())
            if word == "LOGOUT":
                return

    def _usual(self, word: str, command: str) -> bytes:
        if word == "CAPABILITY":
            return f"* CAPABILITY {self.capabilities}\r\n".encode()
        if word == "LIST":
            return b"".join(
                b'* LIST () "%s" %s\r\n'
                % (self.separator.encode(), name if isinstance(name, bytes) else f'"{name}"'.encode())
                for name in self.folders
            )
        if word in ("EXAMINE", "SELECT"):
            return f"* {len(self.messages)} EXISTS\r\n* OK [UIDVALIDITY 7] fine\r\n".encode()
        if word == "UID SEARCH":
            return f"* SEARCH {' '.join(str(n) for n in range(1, len(self.messages) + 1))}\r\n".encode()
        if word == "UID FETCH":
            uids = [n for n in self.asked(command) if n <= len(self.messages)]
            return b"".join(self.fetch(uid, command) for uid in uids)
        return b""

    @staticmethod
    def asked(command: str) -> list[int]:
        numbers: list[int] = []
        for piece in command.split(" ")[2].split(","):
            first, _, last = piece.partition(":")
            numbers += range(int(first), int(last or first) + 1)
        return numbers

    def fetch(self, uid: int, command: str) -> bytes:
        data = self.messages[uid - 1]
        if "BODY.PEEK[]" in command:
            return b"* %d FETCH (UID %d BODY[] {%d}\r\n%s)\r\n" % (uid, uid, len(data), data)
        if "BODYSTRUCTURE" in command:
            return b'* %d FETCH (UID %d BODYSTRUCTURE ("TEXT" "PLAIN" NIL NIL NIL "7BIT" 10 1))\r\n' % (uid, uid)
        head = data.partition(b"\r\n\r\n")[0] + b"\r\n\r\n"
        facts = b'FLAGS () INTERNALDATE "14-Mar-2026 15:03:00 +0000" RFC822.SIZE %d' % len(data)
        return b"* %d FETCH (UID %d %s BODY[HEADER.FIELDS (DATE)] {%d}\r\n%s)\r\n" % (uid, uid, facts, len(head), head)


class PopPeer(Scripted):
    """POP3. `mood(line, peer)`, given a command, returns the whole answer, or None for the usual one."""

    scheme = "pop"
    capabilities = "PIPELINING\r\nSASL PLAIN XOAUTH2"

    def __init__(self, messages: list[bytes], mood: Callable[[str, PopPeer], bytes | None] | None = None) -> None:
        self.uids = [f"uid{n}" for n in range(len(messages))]
        super().__init__(messages, mood)

    def _serve(self, handler: socketserver.StreamRequestHandler) -> None:
        handler.wfile.write(b"+OK ready\r\n")
        while line := handler.rfile.readline().decode("latin-1").strip():
            self.lines.append(line)
            answer = self.mood(line, self) if self.mood else None
            handler.wfile.write(self._usual(*line.split()) if answer is None else answer)

    def _usual(self, word: str, number: str = "", *_: str) -> bytes:
        if word in ("CAPA", "UIDL", "LIST"):
            rows = {
                "CAPA": [self.capabilities],
                "UIDL": [f"{n} {uid}" for n, uid in enumerate(self.uids, 1)],
                "LIST": [f"{n} {len(data)}" for n, data in enumerate(self.messages, 1)],
            }[word]
            return "\r\n".join(["+OK", *rows, ".", ""]).encode()
        if word in ("TOP", "RETR"):
            data = self.messages[int(number) - 1]
            return b"+OK\r\n" + (data if word == "RETR" else data.partition(b"\r\n\r\n")[0] + b"\r\n") + b".\r\n"
        return b"+OK\r\n"


class Proxy:
    """Hands a line on to a port. `cut_after` bytes of answers the line is cut, again and again, or `cut_sent` bytes that
    a client sends; `delay` seconds pass before each piece of those. `round_trips` counts them."""

    def __init__(
        self,
        port: int,
        cut_after: Callable[[], int] | None = None,
        delay: float = 0.0,
        most_cuts: int = 10**9,
        cut_sent: int = 10**12,
    ) -> None:
        self.cut_sent, self.sent, self.answered = cut_sent, 0, 0
        self.target, self.cut_after, self.delay, self.round_trips, self.cuts, self.most_cuts = (
            port,
            cut_after,
            delay,
            0,
            0,
            most_cuts,
        )
        self.lines: list[socket.socket] = []
        self._listener = socket.create_server(("127.0.0.1", 0))
        self.port = self._listener.getsockname()[1]
        threading.Thread(target=self._accept, daemon=True).start()

    def close(self) -> None:
        self._listener.close()

    def cut(self) -> None:
        """Cut all lines that are open, whatever is on its way on them."""
        lines, self.lines = self.lines, []
        self.cuts += bool(lines)
        _shut(*lines)

    def _accept(self) -> None:
        with contextlib.suppress(OSError):
            while True:
                client = self._listener.accept()[0]
                server = socket.create_connection(("127.0.0.1", self.target))
                self.lines += [client, server]
                for one in (client, server):
                    one.setsockopt(socket.IPPROTO_TCP, socket.TCP_NODELAY, 1)
                threading.Thread(target=self._up, args=(client, server), daemon=True).start()
                threading.Thread(target=self._down, args=(server, client), daemon=True).start()

    def _up(self, client: socket.socket, server: socket.socket) -> None:
        with contextlib.suppress(OSError):
            while data := client.recv(65536):
                self.round_trips += 1
                time.sleep(self.delay)
                server.sendall(data[: max(0, self.cut_sent - self.sent)])
                self.sent += len(data)
                if self.sent >= self.cut_sent:
                    self.cuts += 1
                    break
        _shut(client, server)

    def _down(self, server: socket.socket, client: socket.socket) -> None:
        left = self.cut_after() if self.cut_after and self.cuts < self.most_cuts else 10**12
        with contextlib.suppress(OSError):
            while data := server.recv(65536):
                client.sendall(data[:left])
                self.answered += len(data)
                left -= len(data)
                if left <= 0:
                    self.cuts += 1
                    break
        _shut(client, server)


def _shut(*sockets: socket.socket) -> None:
    for one in sockets:
        with contextlib.suppress(OSError):
            one.shutdown(socket.SHUT_RDWR)
        one.close()


def instants(seed: int, most: int) -> Callable[[], int]:
    """Random numbers of bytes after which to cut."""
    rng = random.Random(seed)
    return lambda: rng.randrange(200, most)
