"""Fetching pictures that messages link to: over HTTPS only, each address once a run, bounded in time, size and number.

Nothing is said to a server but the address itself: no cookie, no referrer. Where a message comes from a stranger, so do
its addresses: none may lead into the office's own network, whatever a name resolves to.
"""

from __future__ import annotations

import http.client
import ipaddress
import socket
import ssl
import threading
from concurrent.futures import Future, ThreadPoolExecutor
from datetime import datetime
from pathlib import Path
from typing import Any
from urllib.parse import quote, urljoin, urlsplit

from wexagraph.pages.cleaning.pictures import Fetched, remote_address
from wexagraph.temporary import TemporaryFolder

MOST_BYTES = 10 * 1024 * 1024
MOST_SECONDS = 15.0
MOST_PICTURES = 10_000
MOST_BYTES_OF_ALL = 1024 * 1024 * 1024
_AT_ONCE = 8
_REDIRECTS = 3
_FAILURES = 3  # of a host, behind one another: then it is left alone for this run
_MOVED = (301, 302, 303, 307, 308)
_NAT64 = ipaddress.ip_network("64:ff9b::/96")
_UNICAST = ipaddress.ip_network("2000::/3")
"""All that is given out of IPv6 (RFC 4291, section 2.4): what lies beyond is local, translated, or not in use."""
_APART = tuple(map(ipaddress.ip_network, ("2001:db8::/32", "3fff::/20", "192.88.99.0/24")))
"""For documents (RFC 3849, 9637), and for a way into IPv6 that was given up (RFC 7526)."""
_ISATAP = (0x00005EFE, 0x02005EFE)
"""The upper half of an interface identifier that wraps an IPv4 address (RFC 5214, section 6.1)."""


class _Refused(Exception):
    """Why there is no picture, in words."""


class RemotePictures:
    """The pictures of one run. `own_hosts` may lie at private addresses and any port; `moment` is when the run is."""

    def __init__(self, own_hosts: frozenset[str] = frozenset(), moment: datetime | None = None) -> None:
        self._own_hosts, self._moment = own_hosts, moment
        self._threads = ThreadPoolExecutor(_AT_ONCE, "pictures")
        self._kept = TemporaryFolder()  # what many messages show is fetched once, and not held in memory
        self._known: dict[str, Future[tuple[Path | None, str]]] = {}
        self._failures: dict[str, int] = {}
        self._bytes = 0
        self._guard = threading.Lock()
        self._trust: ssl.SSLContext | None = None

    def close(self) -> None:
        """Ask for nothing more, and remove what was kept."""
        self._threads.shutdown(wait=True, cancel_futures=True)
        self._kept.close()

    def fetch_all(self, addresses: tuple[str, ...]) -> Future[tuple[Fetched, ...]]:
        """Fetch the pictures of a message. The future raises nothing."""
        each = [self._asked(address) for address in addresses]
        done: Future[tuple[Fetched, ...]] = Future()
        waiting = len(each)

        def one_has_come(_: object) -> None:
            nonlocal waiting
            with self._guard:
                waiting -= 1
                last = waiting == 0
            if last:
                done.set_result(tuple(map(self._fetched, addresses, each)))

        for future in each:
            future.add_done_callback(one_has_come)
        return done

    def _asked(self, address: str) -> Future[tuple[Path | None, str]]:
        if address not in self._known:
            if len(self._known) >= MOST_PICTURES:
                refused: Future[tuple[Path | None, str]] = Future()
                refused.set_result((None, f"more than {MOST_PICTURES:,} pictures in one run"))
                return refused
            self._known[address] = self._threads.submit(self._keep, address, self._kept.path / str(len(self._known)))
        return self._known[address]

    def _fetched(self, address: str, future: Future[tuple[Path | None, str]]) -> Fetched:
        if future.cancelled():
            return Fetched(address, b"", "the run was stopped", self._moment)
        path, trouble = future.result()
        return Fetched(address, path.read_bytes() if path is not None else b"", trouble, self._moment)

    def _keep(self, address: str, path: Path) -> tuple[Path | None, str]:
        where = urlsplit(address).hostname or ""
        if self._failures.get(where, 0) >= _FAILURES:
            return None, "it did not answer before"
        try:
            content = self._fetch(address)
            with self._guard:
                self._bytes += len(content)
                if self._bytes > MOST_BYTES_OF_ALL:
                    raise _Refused("the pictures of this run are too large together")
            path.write_bytes(content)
        except _Refused as error:
            return None, str(error)
        except (OSError, http.client.HTTPException, ValueError) as error:
            with self._guard:
                self._failures[where] = self._failures.get(where, 0) + 1
            return None, _in_words(error)
        self._failures.pop(where, None)
        return path, ""

    def _fetch(self, address: str) -> bytes:
        for _ in range(_REDIRECTS + 1):
            content, moved = self._ask(address)
            if not moved:
                return content
            address = remote_address(urljoin(address, moved)) if not moved.lower().startswith("http:") else ""
            if not address:
                raise _Refused("it was moved to where HTTPS does not lead")
        raise _Refused("it was moved too often")

    def _ask(self, address: str) -> tuple[bytes, str]:
        """One request: the content, or where it was moved to."""
        parts = urlsplit(address)
        name, port = parts.hostname or "", parts.port or 443
        own = name in self._own_hosts
        if port != 443 and not own:
            raise _Refused("only port 443 is asked")
        connection = _Connection(name, port, own, self._trusted())
        watch = threading.Timer(MOST_SECONDS, connection.give_up)  # whatever drips is ended, too
        watch.daemon = True
        watch.start()
        try:
            target = quote(parts.path, safe="/%:@!$&'()*+,;=~-._") + ("?" + _query(parts.query) if parts.query else "")
            connection.request("GET", target, headers={"Accept": "image/*", "User-Agent": "Wexagraph"})
            response = connection.getresponse()
            if response.status in _MOVED:
                return b"", response.getheader("Location") or "none"
            if response.status != 200:
                raise _Refused(f"the server answers {response.status}")
            content = response.read(MOST_BYTES + 1)
            if connection.given_up:
                raise TimeoutError
            if len(content) > MOST_BYTES:
                raise _Refused(f"it is larger than {MOST_BYTES // 1024 // 1024} MB")
            return content, ""
        except (OSError, http.client.HTTPException) as error:
            raise TimeoutError if connection.given_up else error from error
        finally:
            watch.cancel()
            connection.close()

    def _trusted(self) -> ssl.SSLContext:
        if self._trust is None:
            self._trust = ssl.create_default_context()
        return self._trust


class _Connection(http.client.HTTPSConnection):
    """A connection to an address that was looked at: what a name resolves to a second time is not asked."""

    def __init__(self, name: str, port: int, own: bool, trust: ssl.SSLContext) -> None:
        super().__init__(name, port, timeout=MOST_SECONDS, context=trust)
        self._own, self._trust_context = own, trust
        self._plain: socket.socket | None = None
        self.given_up = False

    def connect(self) -> None:
        try:
            addresses = socket.getaddrinfo(self.host, self.port, type=socket.SOCK_STREAM)
        except (OSError, UnicodeError) as error:
            raise _Refused("there is no such host") from error
        if not self._own and not all(is_public(str(where[0])) for *_, where in addresses):
            raise _Refused("its address is not on the public network")
        failed = OSError("no address")
        for family, kind, protocol, _, where in addresses[:4]:
            plain = self._plain = socket.socket(family, kind, protocol)
            try:
                plain.settimeout(MOST_SECONDS)
                plain.connect(where)
                self.sock = self._trust_context.wrap_socket(plain, server_hostname=self.host)
                return
            except OSError as error:
                failed = error
                plain.close()
            if self.given_up:
                break
        raise failed

    def give_up(self) -> None:
        """End what has taken too long."""
        self.given_up = True
        for line in (self.sock, self._plain):
            try:
                if line is not None:
                    socket.socket.shutdown(line, socket.SHUT_RDWR)  # TLS's own would pull the state from under a reader
            except OSError:
                continue


def is_public(text: str) -> bool:
    """Whether an IP address is of the public network. One that wraps another (RFC 4291, 3056, 5214, 6052) is that
    one."""
    address: Any = ipaddress.ip_address(text.partition("%")[0])
    if address.version == 6:
        wrapped = address.ipv4_mapped or address.sixtofour or (address.teredo or (None, None))[1]
        if address in _NAT64 or int(address) >> 32 & 0xFFFFFFFF in _ISATAP:
            wrapped = ipaddress.ip_address(int(address) & 0xFFFFFFFF)
        if wrapped is None and address not in _UNICAST:
            return False
        address = wrapped or address
    if any(address in network for network in _APART):
        return False
    return bool(address.is_global and not address.is_multicast)


def _query(text: str) -> str:
    return quote(text, safe="/%:@!$&'()*+,;=~-._?[]|")


def _in_words(error: Exception) -> str:
    if isinstance(error, ssl.SSLCertVerificationError):
        return "the certificate of the server is not trusted"
    if isinstance(error, TimeoutError):
        return f"no answer in {MOST_SECONDS:g} seconds"
    if isinstance(error, ConnectionRefusedError):
        return "the server refuses the connection"
    return "the line broke off" if isinstance(error, OSError) else "the answer is not HTTP"
