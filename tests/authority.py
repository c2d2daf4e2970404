"""An office's authority in certificates, and one that stamps (RFC 3161), both made by openssl; a small server hands
questions on to `openssl ts`, so that what answers is nothing of ours."""

from __future__ import annotations

import subprocess
import threading
from http.server import BaseHTTPRequestHandler, ThreadingHTTPServer
from pathlib import Path

_STAMPS = """
[tsa]
default_tsa = stamps
[stamps]
serial = {home}/serial
signer_cert = {home}/stamps.pem
certs = {home}/stamps-root.pem
signer_key = {home}/stamps.key
signer_digest = sha256
default_policy = 1.2.3.4.1
digests = sha256, sha384, sha512
accuracy = secs:1
ess_cert_id_alg = sha256
crypto_device = builtin
"""
_USES = """
[root]
basicConstraints = critical,CA:TRUE
keyUsage = critical,keyCertSign,cRLSign
subjectKeyIdentifier = hash
[seal]
basicConstraints = CA:FALSE
keyUsage = critical,digitalSignature,nonRepudiation
[stamps]
basicConstraints = CA:FALSE
keyUsage = critical,digitalSignature
extendedKeyUsage = critical,timeStamping
"""


class Authority:
    """Makes in a folder: root.pem, seal.p12 (with `password`) and stamps-root.pem; answers at `url`. `mood` may be
    "refuse", "garbage" or "other", which answers another question."""

    password = "tide"

    def __init__(self, home: Path, kind: str = "rsa:2048", days: int = 400) -> None:
        self.home, self.mood, self.asked, self.one_at_a_time = home, "", 0, threading.Lock()
        home.mkdir(parents=True, exist_ok=True)
        (home / "uses.cnf").write_text(_USES)
        (home / "tsa.cnf").write_text(_STAMPS.format(home=home))
        (home / "serial").write_text("01\n")
        for root, names in (("root", {"seal": "Port of Saltmere"}), ("stamps-root", {"stamps": "Saltmere Time"})):
            self._root(root)
            for name, holder in names.items():
                self._issue(name, holder, root, kind if name == "seal" else "rsa:2048", days)
        self._openssl(
            *(
                "pkcs12",
                "-export",
                "-inkey",
                home / "seal.key",
                "-in",
                home / "seal.pem",
                "-certfile",
                home / "root.pem",
            ),
            *("-passout", f"pass:{self.password}", "-out", home / "seal.p12"),
        )
        authority = self

        class Handler(BaseHTTPRequestHandler):
            def do_POST(self) -> None:
                question = self.rfile.read(int(self.headers["Content-Length"]))
                with authority.one_at_a_time:
                    answer = authority._answer(question)
                self.send_response(503 if authority.mood == "refuse" else 200)
                self.end_headers()
                self.wfile.write(answer)

            def log_message(self, *arguments: object) -> None:
                """Nothing on the terminal."""

        self.server = ThreadingHTTPServer(("127.0.0.1", 0), Handler)
        threading.Thread(target=self.server.serve_forever, daemon=True).start()

    @property
    def url(self) -> str:
        return f"http://127.0.0.1:{self.server.server_address[1]}/"

    def close(self) -> None:
        self.server.shutdown()
        self.server.server_close()

    def _answer(self, question: bytes) -> bytes:
        self.asked += 1
        if self.mood == "garbage":
            return b"\x30\x03\x02\x01\x00"
        query, reply = self.home / "query.tsq", self.home / "reply.tsr"
        query.write_bytes(question)
        if self.mood == "other":
            self._openssl("ts", "-query", "-data", self.home / "root.pem", "-sha256", "-cert", "-out", query)
        self._openssl("ts", "-reply", "-config", self.home / "tsa.cnf", "-queryfile", query, "-out", reply)
        return reply.read_bytes()

    def _root(self, name: str) -> None:
        self._openssl(
            *("req", "-x509", "-newkey", "rsa:2048", "-nodes", "-keyout", self.home / f"{name}.key", "-days", "4000"),
            *("-out", self.home / f"{name}.pem", "-subj", f"/CN=Saltmere {name}"),
            *("-addext", "keyUsage=critical,keyCertSign,cRLSign"),
        )

    def _issue(self, name: str, holder: str, root: str, kind: str, days: int) -> None:
        key = (
            ("-newkey", kind) if kind.startswith("rsa") else ("-newkey", "ec", "-pkeyopt", f"ec_paramgen_curve:{kind}")
        )
        self._openssl(
            *("req", "-new", *key, "-nodes", "-keyout", self.home / f"{name}.key", "-subj", f"/CN={holder}"),
            *("-out", self.home / f"{name}.csr"),
        )
        self._openssl(
            *("x509", "-req", "-in", self.home / f"{name}.csr", "-CA", self.home / f"{root}.pem", "-days", days),
            *("-CAkey", self.home / f"{root}.key", "-CAcreateserial", "-extfile", self.home / "uses.cnf"),
            *("-extensions", name, "-out", self.home / f"{name}.pem"),
        )

    @staticmethod
    def _openssl(*arguments: object) -> None:
        subprocess.run(["openssl", *map(str, arguments)], check=True, capture_output=True)
