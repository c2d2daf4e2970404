"""A stand-in for an office's mail account, on this machine: it takes drafts (IMAP4rev1, RFC 3501), and keeps them as
files in a folder. For the demo alone; it knows no other command than a draft needs."""

from __future__ import annotations

import re
import socketserver
import threading
from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path

_LITERAL = re.compile(r"\{(\d+)(\+?)\}$")
_ABILITIES = "IMAP4rev1 SPECIAL-USE"
_FOLDERS = (('"INBOX"', ""), ('"Drafts"', "\\Drafts"))


@contextmanager
def drafts_account(folder: Path) -> Iterator[str]:
    """An account while it is open: its URL. Each draft that comes is a file of the folder: `draft 1.eml`."""

    class Handler(socketserver.StreamRequestHandler):
        def handle(self) -> None:
            self.wfile.write(f"* OK [CAPABILITY {_ABILITIES}] ready\r\n".encode())
            while line := self.rfile.readline():
                text, literal = line.decode("utf-8", "replace").rstrip("\r\n"), b""
                while match := _LITERAL.search(text):
                    self.wfile.write(b"" if match[2] else b"+ go on\r\n")
                    literal = self.rfile.read(int(match[1]))
                    text = text[: match.start()] + self.rfile.readline().decode("utf-8", "replace").rstrip("\r\n")
                tag, _, command = text.partition(" ")
                word = command.partition(" ")[0].upper()
                if word == "AUTHENTICATE":
                    self.wfile.write(b"+ \r\n")
                    self.rfile.readline()
                if word == "APPEND":
                    folder.mkdir(parents=True, exist_ok=True)
                    number = len(list(folder.iterdir())) + 1
                    (folder / f"draft {number}.eml").write_bytes(literal)
                self.wfile.write(_answer(word) + f"{tag} OK done\r\n".encode())
                if word == "LOGOUT":
                    return

    with socketserver.ThreadingTCPServer(("127.0.0.1", 0), Handler) as server:
        server.daemon_threads = True
        threading.Thread(target=server.serve_forever, daemon=True).start()
        yield f"imap://records@127.0.0.1:{server.server_address[1]}/"
        server.shutdown()


def _answer(word: str) -> bytes:
    if word == "CAPABILITY":
        return f"* CAPABILITY {_ABILITIES}\r\n".encode()
    if word == "LIST":
        return "".join(f'* LIST ({use}) "/" {name}\r\n' for name, use in _FOLDERS).encode()
    if word in ("SELECT", "EXAMINE"):
        return b"* 0 EXISTS\r\n* OK [UIDVALIDITY 1] fine\r\n"
    return b"* BYE\r\n" if word == "LOGOUT" else b""
