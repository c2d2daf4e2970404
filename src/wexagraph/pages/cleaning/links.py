"""Where links lead, and what their texts say of it: a record must show where the two differ."""

from __future__ import annotations

import re
from urllib.parse import urlsplit

_LINKS = frozenset({"http", "https", "mailto", "tel", "ftp"})
_UNBROKEN = re.compile("[^\x00-\x20]*")


def link_target(href: str) -> str:
    """A link's target where it is one that a reader may follow from a page; "" otherwise."""
    target = href if _UNBROKEN.fullmatch(href) else re.sub(r"[\x00-\x20]+", "", href)
    scheme, colon, _ = target.partition(":")
    return target[:4000] if colon and scheme.lower() in _LINKS else ""


_NAMED = re.compile(r"(?:[a-z]+://|mailto:)?(?:[^\s@/]+@)?((?:[a-z0-9-]+\.)+[a-z]{2,24})(?:[:/?#]\S*)?", re.IGNORECASE)
_FILE_NAMES = frozenset("pdf docx doc xlsx xls pptx txt csv zip jpg jpeg png gif html eml".split())


def named_host(text: str) -> str:
    """The host that a link's text names, if the text is an address or begins with one; "" otherwise."""
    match = _NAMED.match(text) if "." in text else None
    if not match or match[1].rpartition(".")[2].lower() in _FILE_NAMES:
        return ""
    rest = text[match.end() :]
    return match[1].lower().removeprefix("www.") if not rest or "://" in match[0] or not rest[0].isalnum() else ""


def target_host(link: str) -> str:
    """The host that a link leads to, or that the mail address in it belongs to; "" where there is none."""
    if link[:7].lower() == "mailto:":
        return link[7:].partition("?")[0].rpartition("@")[2].lower().removeprefix("www.")
    return host(link).lower().removeprefix("www.")


_HOST = re.compile(r"https?://([\w.-]+)(?=[/?#]|$)", re.ASCII)


def host(address: str) -> str:
    """The host of a web address; "" where there is none."""
    plain = _HOST.match(address)
    if plain:
        return plain[1].lower()[:80]
    try:
        return (urlsplit(address.strip()).hostname or "")[:80]
    except ValueError:
        return ""
