"""Mail servers for the tests, each as its makers built it, on ports of its own and in a temporary folder.

Courier and Cyrus are unpacked by `setup.sh` and not installed, since Debian lets no two IMAP servers stand beside one
another; Courier's own program for logging in wants a system account, and is stood in for by a few lines.
"""

from __future__ import annotations

import contextlib
import imaplib
import os
import pwd
import shutil
import socket
import socketserver
import subprocess
import sys
import tempfile
import threading
import time
from collections.abc import Iterable
from pathlib import Path

USER, PASSWORD = "records", "Xq7-harbour-41"
UNPACKED = Path(sys.prefix) / "servers"
_LIBRARIES = ("usr/lib", "usr/lib/cyrus", "usr/lib/x86_64-linux-gnu", "lib/x86_64-linux-gnu")
ARRIVED = '"14-Mar-2026 15:03:00 +0000"'


def free_ports(count: int) -> list[int]:
    """Ports of this machine that nothing listens on."""
    with contextlib.ExitStack() as held:
        sockets = [held.enter_context(socket.socket()) for _ in range(count)]
        for one in sockets:
            one.bind(("127.0.0.1", 0))
        return [one.getsockname()[1] for one in sockets]


def environment(**more: str) -> dict[str, str]:
    """What unpacked programs find their libraries by."""
    folders = ":".join(str(UNPACKED / folder) for folder in _LIBRARIES)
    return {"PATH": os.environ["PATH"], "LD_LIBRARY_PATH": folders, **more}


class MailServer:
    """A server with one account. `raw` writes a folder's name as the server has it; `close` stops it and removes all."""

    prefix, separator = "", "/"
    pop = 0
    keywords = has_trash = moves = True
    authority: Path | None = None

    def __init__(self) -> None:
        self.root = Path(tempfile.mkdtemp(prefix="wexagraph-server-"))
        self.root.chmod(0o755)
        self.imap = 0

    def close(self) -> None:
        shutil.rmtree(self.root, ignore_errors=True)

    def raw(self, name: str) -> str:
        return name if name == "INBOX" else self.prefix + name.replace("/", self.separator)

    def client(self) -> imaplib.IMAP4:
        """A logged-in client of the standard library, to look at the server with other eyes."""
        client = imaplib.IMAP4("127.0.0.1", self.imap)
        client.login(USER, PASSWORD)
        return client

    def wait(self) -> None:
        """Wait until it answers."""
        for _ in range(100):
            with contextlib.suppress(OSError, imaplib.IMAP4.error):
                self.client().logout()
                return
            time.sleep(0.1)
        self.close()
        raise RuntimeError(f"{type(self).__name__} does not start")

    def fill(self, folder: str, messages: Iterable[bytes], flags: str = "") -> None:
        """Put messages into a folder (as the server writes its name), making it if need be."""
        client = self.client()
        client.create(f'"{folder}"')
        for data in messages:
            content = data.replace(b"\r\n", b"\n").replace(b"\n", b"\r\n")
            kind, answer = client.append(f'"{folder}"', flags, ARRIVED, content)
            assert kind == "OK", answer
        client.logout()

    def remove(self, folder: str) -> None:
        client = self.client()
        client.delete(f'"{folder}"')
        client.logout()

    def empty(self, folder: str) -> None:
        client = self.client()
        if client.select(f'"{folder}"')[1] != [b"0"]:
            client.store("1:*", "+FLAGS", "\\Deleted")
            client.expunge()
        client.logout()

    def forget(self, folder: str, words: bytes) -> None:
        """Remove the messages of a folder that hold these words."""
        client = self.client()
        client.select(f'"{folder}"')
        for number in client.search(None, "ALL")[1][0].split():
            if words in client.fetch(number.decode(), "(BODY.PEEK[])")[1][0][1]:
                client.store(number.decode(), "+FLAGS", "\\Deleted")
        client.expunge()
        client.logout()

    def state(self, folder: str) -> list[bytes]:
        """UIDs and flags of all messages of a folder, as the server tells them."""
        client = self.client()
        client.select(f'"{folder}"', readonly=True)
        answers = client.uid("FETCH", "1:*", "(UID FLAGS)")[1]
        client.logout()
        return [line.partition(b" ")[2] for line in answers if isinstance(line, bytes)]

    def bodies(self, folder: str) -> list[bytes]:
        """The messages of a folder, byte for byte."""
        client = self.client()
        client.select(f'"{folder}"', readonly=True)
        answers = client.uid("FETCH", "1:*", "(UID BODY.PEEK[])")[1]
        client.logout()
        return [item[1] for item in answers if isinstance(item, tuple)]


class Courier(MailServer):
    """Courier IMAP and POP3, with the prefix INBOX. and no NOTIFY."""

    installed = (UNPACKED / "usr/bin/imapd").exists()
    prefix, separator = "INBOX.", "."
    _CAPABILITY = "IMAP4rev1 UIDPLUS CHILDREN NAMESPACE THREAD=ORDEREDSUBJECT THREAD=REFERENCES SORT QUOTA IDLE"

    def __init__(self) -> None:
        super().__init__()
        for name in ("cur", "new", "tmp"):
            (self.root / "Maildir" / name).mkdir(parents=True)
        self._listeners = [self._listen(self._imap), self._listen(self._pop)]
        self.imap, self.pop = (listener.server_address[1] for listener in self._listeners)
        self.wait()
        self.fill("INBOX.Trash", [])

    def close(self) -> None:
        for listener in self._listeners:
            listener.shutdown()
            listener.server_close()
        super().close()

    def _listen(self, serve: object) -> socketserver.ThreadingTCPServer:
        class Handler(socketserver.BaseRequestHandler):
            def handle(self) -> None:
                with contextlib.suppress(OSError):
                    serve(self.request)  # type: ignore[operator]

        listener = socketserver.ThreadingTCPServer(("127.0.0.1", 0), Handler)
        listener.daemon_threads = True
        threading.Thread(target=listener.serve_forever, daemon=True).start()
        return listener

    def _imap(self, line: socket.socket) -> None:
        line.sendall(f"* OK [CAPABILITY {self._CAPABILITY}] Courier-IMAP ready.\r\n".encode())
        while words := _line(line).split(" ", 2):
            tag, word = words[0], words[1].upper() if len(words) > 1 else ""
            if word == "LOGIN":
                right = words[2].replace('"', "").split(" ") == [USER, PASSWORD]
                if right:
                    self._hand_over(line, "usr/bin/imapd", IMAPLOGINTAG=tag)
                    return
                line.sendall(f"{tag} NO Login failed.\r\n".encode())
            elif word == "CAPABILITY":
                line.sendall(f"* CAPABILITY {self._CAPABILITY}\r\n{tag} OK done\r\n".encode())
            else:
                line.sendall(f"{tag} BAD Not logged in.\r\n".encode())
                if word in ("", "LOGOUT"):
                    return

    def _pop(self, line: socket.socket) -> None:
        line.sendall(b"+OK Hello there.\r\n")
        while word := _line(line):
            if word.upper().startswith("PASS "):
                if word[5:] == PASSWORD:
                    self._hand_over(line, "usr/lib/courier/courier/courierpop3d", PROTOCOL="POP3")
                    return
                line.sendall(b"-ERR Login failed.\r\n")
            else:
                line.sendall(b"+OK\r\n" if word.upper().startswith("USER ") else b"-ERR Invalid command.\r\n")

    def _hand_over(self, line: socket.socket, program: str, **more: str) -> None:
        facts = {"AUTHENTICATED": USER, "AUTHADDR": USER, "HOME": str(self.root), "TCPREMOTEIP": "127.0.0.1"}
        facts |= {"TCPREMOTEPORT": "1", "PROTOCOL": "IMAP", "OPTIONS": ""}
        facts |= {"IMAP_CAPABILITY": self._CAPABILITY, "IMAP_KEYWORDS": "1", "IMAP_USELOCKS": "1"}
        facts |= {"IMAP_TRASHFOLDERNAME": "Trash", "IMAP_ENHANCEDIDLE": "0", "IMAP_IDLE_TIMEOUT": "1", **more}
        # without it, each line waits for seconds
        facts |= {"GAMIN_DEBUG_SERVER": str(UNPACKED / "usr/libexec/gam_server"), "GAM_CLIENT_ID": self.root.name}
        subprocess.run(
            [UNPACKED / program, "Maildir"],
            stdin=line,
            stdout=line,
            stderr=subprocess.DEVNULL,
            cwd=self.root,
            env=environment(**facts),
        )


def _line(line: socket.socket) -> str:
    """A line of a client, read byte by byte: what comes behind it is for the program that takes over."""
    collected = b""
    while not collected.endswith(b"\n") and (byte := line.recv(1)):
        collected += byte
    return collected.decode("latin-1").strip()


class Cyrus(MailServer):
    """Cyrus IMAP and POP3, with the prefix INBOX. and its own database."""

    installed = (UNPACKED / "usr/lib/cyrus/bin/master").exists() and os.geteuid() == 0
    prefix, separator = "INBOX.", "."
    _OPTIONS = """configdirectory: {root}/conf
proc_path: {root}/run/proc
mboxname_lockpath: {root}/run/lock
defaultpartition: default
partition-default: {root}/spool
altnamespace: no
unixhierarchysep: no
allowplaintext: yes
cyrus_user: mail
cyrus_group: mail
sasl_pwcheck_method: saslauthd
sasl_saslauthd_path: {root}/run/auth
sasl_mech_list: PLAIN
idlesocket: {root}/run/idle
lmtpsocket: {root}/run/lmtp
notifysocket: {root}/run/notify
tls_sessions_db_path: {root}/run/tls.db
master_pid_file: {root}/run/pid
popminpoll: 0
autocreate_quota: 0
autocreate_post: 1
autocreate_users: anyone
autocreate_inbox_folders: Trash
xlist-trash: Trash
"""
    _SERVICES = """START {{
  recover cmd="{bin}/ctl_cyrusdb -r -C {root}/imapd.conf"
}}
SERVICES {{
  imap cmd="{bin}/imapd -U 30 -C {root}/imapd.conf" listen="127.0.0.1:{imap}" prefork=0
  pop3 cmd="{bin}/pop3d -U 30 -C {root}/imapd.conf" listen="127.0.0.1:{pop}" prefork=0
  idled cmd="{bin}/idled -C {root}/imapd.conf" listen="{root}/run/idled" prefork=0
}}
EVENTS {{
}}
"""

    def __init__(self) -> None:
        super().__init__()
        owner = pwd.getpwnam("mail")
        for name in ("conf", "spool", "run"):
            (self.root / name).mkdir()
            os.chown(self.root / name, owner.pw_uid, owner.pw_gid)
        self.imap, self.pop = free_ports(2)
        programs = UNPACKED / "usr/lib/cyrus/bin"
        facts = {"root": self.root, "bin": programs, "imap": self.imap, "pop": self.pop}
        (self.root / "imapd.conf").write_text(self._OPTIONS.format(**facts))
        (self.root / "cyrus.conf").write_text(self._SERVICES.format(**facts))
        self._auth = socket.socket(socket.AF_UNIX)
        self._auth.bind(f"{self.root}/run/auth")
        os.chmod(f"{self.root}/run/auth", 0o777)
        self._auth.listen()
        threading.Thread(target=self._check, daemon=True).start()
        self._process = subprocess.Popen(
            [
                *(programs / "master", "-D", "-p", self.root / "run/pid"),
                *("-C", self.root / "imapd.conf", "-M", self.root / "cyrus.conf"),
            ],
            env=environment(),
            stdout=subprocess.DEVNULL,
            stderr=subprocess.DEVNULL,
            start_new_session=True,
        )
        self.wait()

    def close(self) -> None:
        with contextlib.suppress(ProcessLookupError):
            os.killpg(self._process.pid, 15)
        self._process.wait(10)
        self._auth.close()
        super().close()

    def _check(self) -> None:
        """Answers who asks for passwords (saslauthd's protocol: counted strings)."""
        with contextlib.suppress(OSError):
            while True:
                with self._auth.accept()[0] as asking:
                    asked = asking.recv(4096)
                    answer = b"OK" if PASSWORD.encode() in asked and USER.encode() in asked else b"NO"
                    asking.sendall(b"\0\2" + answer)


class Pymap(MailServer):
    """A server in Python that keeps its mail in memory, from the package registry."""

    installed = (Path(sys.prefix) / "bin/pymap").exists()
    keywords = has_trash = False

    def __init__(self) -> None:
        super().__init__()
        (self.imap,) = free_ports(1)
        self._process = subprocess.Popen(
            [
                *(Path(sys.prefix) / "bin/pymap", "--host", "127.0.0.1", "--port", str(self.imap), "--no-tls"),
                *("--no-service", "admin", "dict", "--demo-user", USER, "--demo-password", PASSWORD),
            ],
            stdout=subprocess.DEVNULL,
            stderr=subprocess.DEVNULL,
        )
        self.wait()

    def close(self) -> None:
        self._process.terminate()
        self._process.wait(10)
        super().close()
