"""Pictures of a message, checked before any engine opens them."""

from __future__ import annotations

import base64
import hashlib
import re
from collections.abc import Callable, Mapping
from dataclasses import dataclass
from datetime import datetime
from html import escape
from urllib.parse import unquote, unquote_to_bytes, urlsplit, urlunsplit

from wexagraph.messages.inlined import drawable
from wexagraph.messages.mime import Part
from wexagraph.notes import Note
from wexagraph.pages.cleaning.quirks import host
from wexagraph.text import one_line, shortened, without_controls

_MOST_ADDRESS = 4000
_DATA = re.compile(r"data:([\w/+.-]*)((?:;[\w=.+-]*)*),", re.IGNORECASE)


class Pictures:
    """The pictures that a page may show, by the names under which the page refers to them.

    `find` looks a reference (`cid:…`, a Content-Location) up in the message. `resources` fills with what is used:
    name to (media type, bytes). `fetched` are pictures from the network, by their addresses; `remote` fills with the
    addresses of those that the page would show. `absent` says in a frame that a picture is not in the message.
    """

    def __init__(
        self,
        find: Callable[[str], Part | None],
        resources: dict[str, tuple[str, bytes]],
        fetched: Mapping[str, Fetched] | None = None,
        absent: str = "not in the message",
    ) -> None:
        self._find, self.resources, self.fetched = find, resources, fetched or {}
        self.remote: dict[str, None] = {}
        self.absent = absent
        self._known: dict[object, str | None] = {}
        self.called: dict[str, str] = {}
        self.notes: list[Note] = []

    def resolve(self, reference: str) -> str | None:
        """The resource that a reference names, or None: remote, missing, or not fit to be shown."""
        reference = reference.strip()
        if reference in self._known:
            return self._known[reference]
        name = None
        if reference[:5].lower() == "data:":
            content = _data(reference)
            name = self._add(content, "a picture in the text") if content else None
        elif reference:
            part = self._find(reference)
            if part is not None:
                name = self.of_part(part)
            elif address := remote_address(reference):
                name = self._from_network(address)
        self._known[reference] = name
        return name

    def of_part(self, part: Part) -> str | None:
        """The resource made of a part, or None where it can't be shown."""
        if part not in self._known:
            name = self._known[part] = self._add(part.content(), part.filename or f"part {part.number}")
            if name is not None and part.filename:
                self.called[name] = one_line(part.filename)
        return self._known[part]

    def _from_network(self, address: str) -> str | None:
        self.remote[address] = None
        fetched = self.fetched.get(address)
        if fetched is None:
            return None
        self.notes.append(fetched.note())
        return self._add(fetched.content, address) if fetched.content else None

    def frame(self, alternative: str, where: str, width: int | None, height: int | None) -> str:
        """The resource that stands for a picture that is not there: of the size that it was to have, as far as that is
        written, with its alternative text and where it would be from."""
        key = ("frame", alternative, where, width, height)
        if key not in self._known:
            name = f"wx:picture-{len(self.resources) + 1}"
            self.resources[name] = ("image/svg+xml", _frame(alternative, where, width, height))
            self._known[key] = name
        return str(self._known[key])

    def _add(self, content: bytes, label: str) -> str | None:
        drawn = drawable(content)
        if drawn is None:
            self.notes.append(Note("picture-refused", label[:80]))
            return None
        name = f"wx:picture-{len(self.resources) + 1}"
        self.resources[name] = drawn
        return name


def _frame(alternative: str, where: str, width: int | None, height: int | None) -> bytes:
    """A plain frame as SVG. What is not written of its size is as of a small picture, 120 by 40 pixels."""
    wide = width or (height * 3 if height else 120)
    high = height or (width / 3 if width else 40)
    lines = (
        [line for line in (alternative, where) if line][: max(1, int(high // 11))] if high >= 11 and wide >= 24 else []
    )
    most = int(wide / 4.6)
    label = "".join(
        f'<text x="4" y="{10 + 10 * n}" font-family="Liberation Sans" font-size="8" fill="#5b6e7a">'
        f"{escape(without_controls(shortened(line, max(most - 1, 1))), quote=False)}</text>"
        for n, line in enumerate(lines)
    )
    return (
        f'<svg xmlns="http://www.w3.org/2000/svg" width="{wide:g}" height="{high:g}" viewBox="0 0 {wide:g} {high:g}">'
        f'<rect width="{wide:g}" height="{high:g}" fill="#f1f4f6" stroke="#c3cfd6"/>{label}</svg>'
    ).encode("utf-8", "replace")


def _data(reference: str) -> bytes | None:
    match = _DATA.match(reference)
    if not match:
        return None
    payload = reference[match.end() :]
    if ";base64" not in match[2].lower():
        return unquote_to_bytes(payload)
    packed = re.sub(r"[^A-Za-z0-9+/]", "", unquote(payload))
    packed = packed[: len(packed) - (len(packed) % 4 == 1)]
    return base64.b64decode(packed + "=" * (-len(packed) % 4))


@dataclass(frozen=True)
class Fetched:
    """A picture that was asked for: its bytes, or why there are none, and when that was."""

    address: str
    content: bytes = b""
    trouble: str = ""
    moment: datetime | None = None

    def note(self) -> Note:
        """What a page says of it: from which host, when, and the SHA-256 of what came."""
        where = host(self.address)
        if self.trouble:
            return Note("picture-unfetched", f"{where}: {self.trouble}")
        when = f", {self.moment:%Y-%m-%d %H:%M} UTC" if self.moment is not None else ""
        return Note("picture-fetched", f"{where}{when}, SHA-256 {hashlib.sha256(self.content).hexdigest()}")


def remote_address(reference: str) -> str:
    """The HTTPS address that a reference to a picture means, without its fragment; "" where it means none."""
    text = reference.strip()
    if text.startswith("//"):
        text = f"https:{text}"
    if not text[:8].lower().startswith(("http://", "https://")) or len(text) > _MOST_ADDRESS:
        return ""
    try:
        parts = urlsplit(text)
        named, _ = parts.hostname, parts.port  # a port that can't be is an error
    except ValueError:
        return ""
    if not named or parts.username is not None:
        return ""
    return urlunsplit(("https", parts.netloc, parts.path or "/", parts.query, ""))
