"""Pictures that lie on the network: their addresses, and what was fetched from there before a page is made."""

from __future__ import annotations

import hashlib
from dataclasses import dataclass
from datetime import datetime
from urllib.parse import urlsplit, urlunsplit

from wexagraph.notes import Note
from wexagraph.pages.cleaning.links import host

_MOST_ADDRESS = 4000


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
