"""Modified UTF-7, in which IMAP and Maildir++ write names of folders (RFC 3501 section 5.1.3)."""

from __future__ import annotations

import base64
import re


def decode_utf7(name: str) -> str:
    """A name in modified UTF-7 as text; other names as they are."""

    def word(match: re.Match[str]) -> str:
        if not match[1]:
            return "&"
        packed = match[1].replace(",", "/")
        return base64.b64decode(packed + "=" * (-len(packed) % 4)).decode("utf-16-be")

    try:
        return re.sub(r"&([A-Za-z0-9+,]*)-", word, name)
    except (ValueError, UnicodeError):
        return name


def encode_utf7(name: str) -> str:
    """Text as a name in modified UTF-7."""

    def word(match: re.Match[str]) -> str:
        if match[0] == "&":
            return "&-"
        packed = base64.b64encode(match[0].encode("utf-16-be")).decode("ascii").rstrip("=")
        return f"&{packed.replace('/', ',')}-"

    return re.sub(r"&|[^ -~]+", word, name)
