"""A headless Chromium to print beside us."""

from __future__ import annotations

import json
import os
import socket
import struct
import subprocess
import tempfile
import time
import urllib.request
from base64 import b64decode, b64encode
from pathlib import Path

from wexagraph.pages import fonts

# it sets the letters that we set, by the system's rules
_FONTS = """<fontconfig><include ignore_missing="yes">/etc/fonts/fonts.conf</include><dir>{folder}</dir></fontconfig>"""


class Chromium:
    """A warm headless Chromium, told what to print through its debugging protocol (a WebSocket, RFC 6455)."""

    def __enter__(self) -> Chromium:
        self._profile = tempfile.TemporaryDirectory(ignore_cleanup_errors=True)
        fonts_file = Path(self._profile.name, "fonts.conf")
        fonts_file.write_text(_FONTS.format(folder=fonts.FOLDER))
        self._process = subprocess.Popen(
            [
                "chromium",
                "--headless",
                "--no-sandbox",
                "--disable-gpu",
                "--disable-quic",
                "--no-first-run",
                "--remote-allow-origins=*",
                "--disable-background-networking",
                "--disable-component-update",
                "--disable-sync",
                "--remote-debugging-port=9333",
                f"--user-data-dir={self._profile.name}",
                "about:blank",
            ],
            stdout=subprocess.DEVNULL,
            stderr=subprocess.DEVNULL,
            env=os.environ | {"FONTCONFIG_FILE": str(fonts_file)},
        )
        for _ in range(100):
            try:
                pages = json.load(urllib.request.urlopen("http://127.0.0.1:9333/json", timeout=1))
                address = next(page["webSocketDebuggerUrl"] for page in pages if page["type"] == "page")
                break
            except (OSError, StopIteration):
                time.sleep(0.1)
        self._socket = socket.create_connection(("127.0.0.1", 9333))
        key = b64encode(os.urandom(16)).decode()
        path = address.partition("9333")[2]
        self._socket.sendall(
            f"GET {path} HTTP/1.1\r\nHost: 127.0.0.1:9333\r\nUpgrade: websocket\r\nConnection: Upgrade\r\n"
            f"Sec-WebSocket-Key: {key}\r\nSec-WebSocket-Version: 13\r\n\r\n".encode()
        )
        self._stream = self._socket.makefile("rb")
        while self._stream.readline().strip():
            pass
        self._number = 0
        self._frame = self._call("Page.getFrameTree")["frameTree"]["frame"]["id"]
        return self

    def __exit__(self, *_: object) -> None:
        self._socket.close()
        self._process.kill()
        self._process.wait()
        self._profile.cleanup()

    def _call(self, method: str, **parameters: object) -> dict:  # type: ignore[type-arg]
        self._number += 1
        data = json.dumps({"id": self._number, "method": method, "params": parameters}).encode()
        size = len(data)
        head = struct.pack(">BBQ", 0x81, 0x80 | 127, size)
        mask = b"\0\0\0\0"
        self._socket.sendall(head + mask + data)
        while True:
            answer = json.loads(self._receive())
            if answer.get("id") == self._number:
                if "error" in answer:
                    raise RuntimeError(answer["error"])
                return answer["result"]  # type: ignore[no-any-return]

    def _receive(self) -> bytes:
        data, last = b"", False
        while not last:
            first, second = self._stream.read(2)
            last, size = bool(first & 0x80), second & 0x7F
            if size == 126:
                size = struct.unpack(">H", self._stream.read(2))[0]
            elif size == 127:
                size = struct.unpack(">Q", self._stream.read(8))[0]
            data += self._stream.read(size)
        return data

    def pdf(self, html: str) -> bytes:
        """Print HTML on the paper that its style sheet names, A4 where it names none."""
        return self._printed(html, paperWidth=8.27, paperHeight=11.69, preferCSSPageSize=True)

    def sheet(self, html: str, width: float, height: float) -> bytes:
        """Print HTML on one sheet without margins; sizes in millimetres, which Chromium rounds up to whole points."""
        sides = dict.fromkeys(("marginTop", "marginRight", "marginBottom", "marginLeft"), 0)
        return self._printed(html, paperWidth=width / 25.4, paperHeight=height / 25.4, **sides)

    def as_on_screen(self) -> None:
        """From here on, style sheets for screens hold."""
        self._call("Emulation.setEmulatedMedia", media="screen")

    def _printed(self, html: str, **how: object) -> bytes:
        self._call("Page.setDocumentContent", frameId=self._frame, html=html)
        return b64decode(self._call("Page.printToPDF", printBackground=True, generateTaggedPDF=True, **how)["data"])
