"""A stand-in for an S3-compatible storage, over an encrypted line: one bucket in memory, signatures and checksums checked."""

from __future__ import annotations

import hashlib
import hmac
import itertools
import shutil
import ssl
import threading
from collections.abc import Mapping
from datetime import UTC, datetime
from email.utils import format_datetime
from http.server import BaseHTTPRequestHandler, ThreadingHTTPServer
from pathlib import Path
from tempfile import mkdtemp
from urllib.parse import parse_qsl, quote, unquote, urlsplit
from xml.etree import ElementTree
from xml.sax.saxutils import escape

import trustme

KEY, SECRET, BUCKET = "RECORDSKEY", "tide-and-harbour", "office"
_SIGNED = "AWS4-HMAC-SHA256"


def _hmac(key: bytes, text: str) -> bytes:
    return hmac.new(key, text.encode(), hashlib.sha256).digest()


def signature(
    method: str, path: str, query: list[tuple[str, str]], headers: Mapping[str, str], given: dict[str, str]
) -> str:
    """The signature of a request as the storage's documents have it (Signature Version 4)."""
    day, region, service, end = given["Credential"].split("/")[1:]
    names = given["SignedHeaders"].split(";")
    body = headers.get("x-amz-content-sha256", "UNSIGNED-PAYLOAD")
    pairs = sorted((quote(name, safe="-_.~"), quote(value, safe="-_.~")) for name, value in query)
    canonical = "\n".join(
        [
            method,
            path,
            "&".join(f"{name}={value}" for name, value in pairs),
            *(f"{name}:{' '.join(headers[name].split())}" for name in names),
            "",
            ";".join(names),
            body,
        ]
    )
    digest = hashlib.sha256(canonical.encode()).hexdigest()
    text = f"{_SIGNED}\n{given['Date']}\n{day}/{region}/{service}/{end}\n{digest}"
    key = _hmac(_hmac(_hmac(_hmac(f"AWS4{SECRET}".encode(), day), region), service), end)
    return _hmac(key, text).hex()


class Storage(ThreadingHTTPServer):
    """`objects` are what lies in the bucket; `full` refuses what is new, `cut` ends the line after so many bytes of an
    answer to GET (0: none)."""

    daemon_threads = True
    request_queue_size = 128

    def __init__(self) -> None:
        super().__init__(("127.0.0.1", 0), _Handler)
        self.objects: dict[str, bytes] = {}
        self.uploads: dict[str, dict[int, bytes]] = {}
        self.ids = itertools.count()
        self.lock = threading.Lock()
        self.full = False
        authority = trustme.CA()
        self.authority = Path(mkdtemp(prefix="wexagraph-s3-")) / "authority.pem"
        authority.cert_pem.write_to_path(str(self.authority))
        context = ssl.SSLContext(ssl.PROTOCOL_TLS_SERVER)
        authority.issue_cert("localhost").configure_cert(context)
        self.socket = context.wrap_socket(self.socket, server_side=True, do_handshake_on_connect=False)
        threading.Thread(target=self.serve_forever, daemon=True).start()

    @property
    def url(self) -> str:
        return f"s3://{KEY}@localhost:{self.server_address[1]}/{BUCKET}/"

    def handle_error(self, request: object, client_address: object) -> None:
        """A client that goes away is no news."""

    def end(self) -> None:
        """Answer no more."""
        self.shutdown()
        self.server_close()

    def close(self) -> None:
        self.end()
        shutil.rmtree(self.authority.parent)


class _Handler(BaseHTTPRequestHandler):
    protocol_version = "HTTP/1.1"
    server: Storage

    def log_message(self, format: str, *args: object) -> None:
        pass

    def _say(self, status: int, body: bytes = b"", **headers: str) -> None:
        self.send_response(status)
        for name, value in headers.items():
            self.send_header(name.replace("_", "-"), value)
        self.send_header("Content-Length", headers.pop("length", str(len(body))))
        self.end_headers()
        if self.command != "HEAD":
            self.wfile.write(body)

    def _refuse(self, status: int, code: str) -> None:
        self._say(status, f"<Error><Code>{code}</Code><Message>refused here</Message></Error>".encode())

    def _allowed(self, path: str, query: list[tuple[str, str]]) -> bool:
        headers = {name.lower(): value for name, value in self.headers.items()}
        fields = dict(query)
        if "X-Amz-Signature" in fields:
            given = {name.removeprefix("X-Amz-"): value for name, value in fields.items()}
            query = [pair for pair in query if pair[0] != "X-Amz-Signature"]
            headers = {"host": headers["host"]}
        else:
            kind, _, rest = headers.get("authorization", "").partition(" ")
            if kind != _SIGNED:
                return False
            given = dict(part.strip().split("=", 1) for part in rest.split(","))
            given["Date"] = headers["x-amz-date"]
        right = given["Credential"].split("/")[0] == KEY
        return right and hmac.compare_digest(given["Signature"], signature(self.command, path, query, headers, given))

    def _body(self) -> bytes | None:
        """What was sent; None where its checksum is another."""
        body = self.rfile.read(int(self.headers.get("Content-Length") or 0))
        said = self.headers.get("x-amz-content-sha256", "UNSIGNED-PAYLOAD")
        return body if said in ("UNSIGNED-PAYLOAD", hashlib.sha256(body).hexdigest()) else None

    def _handle(self) -> None:
        parts = urlsplit(self.path)
        query, body = parse_qsl(parts.query, keep_blank_values=True), self._body()
        if not self._allowed(parts.path, query):
            return self._refuse(403, "SignatureDoesNotMatch")
        if body is None:
            return self._refuse(400, "XAmzContentSHA256Mismatch")
        _, bucket, *levels = unquote(parts.path).split("/")
        if bucket != BUCKET:
            return self._refuse(404, "NoSuchBucket")
        with self.server.lock:
            return getattr(self, f"_{self.command.lower()}")("/".join(levels), dict(query), body)

    do_GET = do_PUT = do_POST = do_DELETE = do_HEAD = _handle

    def _get(self, key: str, query: dict[str, str], body: bytes) -> None:
        objects = self.server.objects
        if not key:
            begin, after = query.get("prefix", ""), query.get("continuation-token", "")
            keys = sorted(name for name in objects if name.startswith(begin) and name > after)
            page, rest = keys[:1000], keys[1000:]
            rows = "".join(
                f"<Contents><Key>{escape(name)}</Key><Size>{len(objects[name])}</Size><ETag>&quot;x&quot;</ETag>"
                f"<LastModified>2026-03-14T15:03:00.000Z</LastModified></Contents>"
                for name in page
            )
            more = f"<NextContinuationToken>{escape(page[-1])}</NextContinuationToken>" if rest else ""
            truncated = "true" if rest else "false"
            answer = f"<ListBucketResult><IsTruncated>{truncated}</IsTruncated>{more}{rows}</ListBucketResult>"
            return self._say(200, answer.encode(), Content_Type="application/xml")
        if key not in objects:
            return self._refuse(404, "NoSuchKey")
        moment = format_datetime(datetime(2026, 3, 14, tzinfo=UTC), usegmt=True)
        return self._say(200, objects[key], ETag='"x"', Last_Modified=moment)

    _head = _get

    def _put(self, key: str, query: dict[str, str], body: bytes) -> None:
        if self.server.full:
            return self._refuse(507, "StorageFull")
        copied = self.headers.get("x-amz-copy-source")
        if copied is not None:
            body = self.server.objects[unquote(copied).lstrip("/").partition("/")[2]]
        if "uploadId" in query:
            self.server.uploads[query["uploadId"]][int(query["partNumber"])] = body
        elif self.headers.get("If-None-Match") == "*" and key in self.server.objects:
            return self._refuse(412, "PreconditionFailed")
        else:
            self.server.objects[key] = body
        if copied is not None:
            kind = "CopyPartResult" if "uploadId" in query else "CopyObjectResult"
            return self._say(200, f"<{kind}><ETag>x</ETag></{kind}>".encode())
        return self._say(200, ETag='"x"')

    def _post(self, key: str, query: dict[str, str], body: bytes) -> None:
        if "delete" in query:
            keys = [each.text or "" for each in ElementTree.fromstring(body).iter() if each.tag.endswith("Key")]
            for each in keys:
                self.server.objects.pop(each, None)
            done = "".join(f"<Deleted><Key>{escape(each)}</Key></Deleted>" for each in keys)
            return self._say(200, f"<DeleteResult>{done}</DeleteResult>".encode())
        if "uploads" in query:
            id = f"u{next(self.server.ids)}"
            self.server.uploads[id] = {}
            return self._say(
                200, f"<R><UploadId>{id}</UploadId></R>".replace("R>", "InitiateMultipartUploadResult>").encode()
            )
        parts = self.server.uploads.get(query["uploadId"], {})
        if self.headers.get("If-None-Match") == "*" and key in self.server.objects:
            return self._refuse(412, "PreconditionFailed")
        self.server.objects[key] = b"".join(parts[number] for number in sorted(parts))
        del self.server.uploads[query["uploadId"]]
        return self._say(200, b"<CompleteMultipartUploadResult><ETag>x</ETag></CompleteMultipartUploadResult>")

    def _delete(self, key: str, query: dict[str, str], body: bytes) -> None:
        if "uploadId" in query:
            self.server.uploads.pop(query["uploadId"], None)
        else:
            self.server.objects.pop(key, None)
        self._say(204)
