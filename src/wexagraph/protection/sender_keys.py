"""The keys of sending domains: from a file, or asked of one name server (RFC 1035), each name once."""

from __future__ import annotations

import re
from collections.abc import Mapping
from dataclasses import dataclass, field, replace
from pathlib import Path
from typing import TYPE_CHECKING

from wexagraph.errors import CallError
from wexagraph.protection.certificates import read_file
from wexagraph.protection.marks import names_of
from wexagraph.text import one_line

if TYPE_CHECKING:
    from wexagraph.protection.keys import Keys

_LINE = re.compile(r"(\S+?)\.?\s+(?:(?:\d+\s+)?IN\s+)?(?:TXT\s+)?(.*)")
_PARTS = re.compile(r'"((?:[^"\\]|\\.)*)"')
_PATIENCE = 5.0
_MOST = 4000
_PORT = 53


def read_sender_keys(path: Path) -> dict[str, str]:
    """The records in a file, by their names: a line each, as `selector._domainkey.domain TXT "v=DKIM1; p=…"`; a line
    that begins with `#` or `;` is none. Raises CallError."""
    text = read_file(path, "--sender-keys").decode("utf-8", "replace")
    records = {}
    for number, line in enumerate(text.splitlines(), 1):
        if not line.strip() or line.lstrip()[0] in "#;":
            continue
        match = _LINE.fullmatch(line.strip())
        if match is None or "._domainkey." not in match[1].lower():
            raise CallError(f'--sender-keys {path}, line {number}: write NAME._domainkey.DOMAIN TXT "v=DKIM1; p=…".')
        records[match[1].lower()] = "".join(_PARTS.findall(match[2])) or match[2]
    return records


@dataclass
class SenderKeys:
    """Answers of a name server, an address with a port where that is not 53: each name is asked once. None stands for
    one that could not be asked."""

    server: str
    answers: dict[str, str | None] = field(default_factory=dict)

    def added(self, keys: Keys, data: bytes) -> Keys:
        """Keys with those that the marks of a message are by. Raises CallError where the extra is not installed."""
        known = dict(keys.senders)
        for name in dict.fromkeys(names_of(data)):
            if name not in known:
                if name not in self.answers:
                    self.answers[name] = _ask(self.server, name)
                if (answer := self.answers[name]) is not None:
                    known[name] = answer
        return replace(keys, senders=tuple(known.items())) if known else keys


def check_server(server: str) -> None:
    """Raise CallError where no name server can be asked at an address."""
    _resolver(server)


def _resolver(server: str):  # type: ignore[no-untyped-def]
    try:
        import dns.resolver
    except ImportError:
        raise CallError("--ask-dns needs an extra: pip install 'wexagraph[dns]'.") from None
    host, _, port = server.rpartition(":") if server.count(":") == 1 or "]:" in server else (server, "", "")
    resolver = dns.resolver.Resolver(configure=False)
    try:
        resolver.nameservers, resolver.port = [host.strip("[]")], int(port or _PORT)
    except ValueError as error:
        raise CallError(f"--ask-dns {one_line(server)}: it is the IP address of a name server.") from error
    resolver.lifetime = _PATIENCE
    return resolver


def _ask(server: str, name: str) -> str | None:
    """The record of a name; "" where there is none, None where that could not be asked."""
    import dns.exception
    import dns.resolver

    try:
        answer = _resolver(server).resolve(name, "TXT", search=False)
        return b"".join(next(iter(answer)).strings).decode("utf-8", "replace")[:_MOST]
    except (dns.resolver.NXDOMAIN, dns.resolver.NoAnswer):
        return ""
    except (dns.exception.DNSException, OSError, ValueError, StopIteration):
        return None


def written(answers: Mapping[str, str | None], earlier: str, day: str) -> str:
    """Answers as a file that `read_sender_keys` reads, behind those of an earlier one; what is there already is not
    said again."""
    lines = earlier.splitlines()
    known = set(lines)
    new = [f'{name} TXT "{_quoted(record)}"' for name, record in sorted(answers.items()) if record]
    new = [line for line in new if line not in known]
    lines += [f"# asked on {day}", *new] if new else []
    return "".join(f"{line}\n" for line in lines)


def _quoted(record: str) -> str:
    return one_line(record).replace("\\", "\\\\").replace('"', '\\"')
