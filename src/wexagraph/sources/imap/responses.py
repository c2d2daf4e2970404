"""What a server answers, taken apart: lists, strings and literals (RFC 9051 section 9), and what they mean."""

from __future__ import annotations

import re
from collections.abc import Callable, Iterable, Iterator
from typing import Any

from wexagraph.messages.blocks import plain_name
from wexagraph.messages.charsets import unusual
from wexagraph.messages.encoded_words import decode_words
from wexagraph.messages.mime import parse_parameters
from wexagraph.messages.reading import LABELLED, is_shown_text
from wexagraph.sources.base import Leaf

Item = bytes | tuple[bytes, bytes]
"""As imaplib hands a response on: a line, or a line that ends in a literal and the literal."""

_TOKEN = re.compile(
    rb'\(|\)|"((?:[^"\\]|\\.)*+)(?:"|\\?$)|((?:BODY(?:\.PEEK)?|BINARY)\[[^\]]*\](?:<\d+>)?)|~?\{\d+\+?\}$|([^\s()"]+)',
    re.IGNORECASE,
)
_BEGIN = re.compile(rb"\d+ \(")
_DEEPEST = 60
_LEAST_HIDDEN = 20  # bytes of the shortest file in a text, with the lines that begin and end it
_MOST_MESSAGES = 5_000_000


def parse(items: Iterable[Item | None]) -> list[Any]:
    """One response as nested lists of bytes; NIL is None. Brackets that never close are closed at the end.

    None stands for a response that did not come.
    """
    root: list[Any] = []
    stack = [root]
    for item in items:
        text, literal = item if isinstance(item, tuple) else (item or b"", None)
        for token in _TOKEN.finditer(text):
            word = token[0]
            if word == b"(":
                deeper: list[Any] = []
                stack[-1].append(deeper)
                stack.append(deeper if len(stack) < _DEEPEST else stack[-1])
            elif word == b")":
                if len(stack) > 1:
                    stack.pop()
            elif token[1] is not None:
                stack[-1].append(re.sub(rb"\\(.)", rb"\1", token[1]))
            elif word.endswith(b"}") and literal is not None and token.end() == len(text):
                stack[-1].append(literal)
            else:
                stack[-1].append(None if word.upper() == b"NIL" else word)
    return root


def fetched(items: Iterable[Any]) -> Iterator[dict[str, Any]]:
    """What the FETCH responses that imaplib collected say of each message: its items by upper-case name.

    A server may tell of a message in pieces; one that says nothing of a UID is passed over. A body that is NIL is that
    of an empty message.
    """
    by_uid: dict[bytes, dict[str, Any]] = {}
    for response in _responses(items):
        parsed = parse(response)
        values = next((value for value in parsed if isinstance(value, list)), [])
        answer: dict[str, Any] = {}
        for name, value in zip(values[::2], values[1::2], strict=False):
            if isinstance(name, bytes):
                key = name.decode("latin-1").upper()
                if key.startswith("BODY[]"):
                    answer["BODY[]"] = b"" if value is None else value
                else:
                    answer["HEADER" if key.startswith("BODY[HEADER") else key] = value
        if isinstance(uid := answer.get("UID"), bytes) and uid.isdigit():
            by_uid.setdefault(uid, {}).update(answer)
    yield from by_uid.values()


def _responses(items: Iterable[Any]) -> Iterator[list[Item]]:
    held: list[Item] = []
    for item in items:
        if item is None:
            continue
        text = item[0] if isinstance(item, tuple) else item
        if _BEGIN.match(text) and held:
            yield held
            held = []
        held.append(item)
    if held:
        yield held


def numbers(items: Iterable[Any]) -> list[int]:
    """The numbers of SEARCH responses (section 7.3.4), or of the sets of ESEARCH (RFC 4731), in order.

    Raises ValueError for more than any folder holds.
    """
    uids: set[int] = set()
    for item in items:
        text = item[0] if isinstance(item, tuple) else item or b""
        sets = re.search(rb"\bALL ([\d:,]+)", text)
        if sets:
            for piece in sets[1].split(b","):
                first, _, last = piece.partition(b":")
                if not first.isdigit() or not (last or first).isdigit() or len(piece) > 24:
                    raise ValueError("the server lists what are no messages")
                low, high = sorted((int(first), int(last or first)))
                if len(uids) + high - low > _MOST_MESSAGES:
                    raise ValueError("the server lists more messages than a folder can hold")
                uids.update(range(low, high + 1))
        elif not re.search(rb"\bUID\b|\(TAG", text):
            uids.update(int(word) for word in text.split() if word.isdigit() and len(word) < 12)
    return sorted(uids)


def number_set(uids: list[int]) -> str:
    """UIDs in ascending order as a sequence set (section 4.1.1): 1:5,9."""
    runs: list[list[int]] = []
    for uid in uids:
        if runs and uid == runs[-1][1] + 1:
            runs[-1][1] = uid
        else:
            runs.append([uid, uid])
    return ",".join(str(a) if a == b else f"{a}:{b}" for a, b in runs)


def leaves(structure: Any) -> list[Leaf]:
    """The attachments that a BODYSTRUCTURE (section 7.5.2) tells of: all leaves but texts without a name and layout.

    Whether a text really draws a picture can't be told of it: one in multipart/related with an ID is taken for layout.
    """
    attached: list[Leaf] = []
    if isinstance(structure, list) and structure:
        _walk(structure, "", attached, "1", lambda: unusual(_charsets(structure)))
    return attached


def may_hide(structure: Any) -> bool:
    """Whether a message may have files that its BODYSTRUCTURE does not tell of: such as stand in a text (uuencode,
    yEnc), or around the parts of a multipart."""
    if not isinstance(structure, list) or not structure:
        return True
    if isinstance(structure[0], list):
        return True
    kind = b"/".join(word.lower() for word in structure[:2] if isinstance(word, bytes))
    octets = structure[6] if len(structure) > 6 else None
    is_short = isinstance(octets, bytes) and octets.isdigit() and int(octets) < _LEAST_HIDDEN
    return kind in (b"text/plain", b"text", b"") and not is_short


def _charsets(structure: list[Any]) -> Iterator[str]:
    """The character sets that the parts of a structure name, in their order."""
    waiting = [structure]
    while waiting:
        part = waiting.pop()
        if part and isinstance(part[0], list):
            waiting += reversed([child for child in part if isinstance(child, list)])
        else:
            yield _parameter(part[2] if len(part) > 2 else None, "charset")


def _walk(part: list[Any], above: str, collected: list[Leaf], number: str, charset: Callable[[], str]) -> None:
    children = [child for child in part if isinstance(child, list)]
    if part and isinstance(part[0], list):  # a multipart: its parts, then its subtype
        subtype = next((word for word in part if isinstance(word, bytes)), b"").decode("latin-1").lower()
        for position, child in enumerate(part, 1):
            if not isinstance(child, list):
                break
            if number.count(".") < _DEEPEST:
                _walk(child, f"multipart/{subtype}", collected, f"{number}.{position}", charset)
        return
    kind, subtype = (
        (word or b"").decode("latin-1").lower() if isinstance(word, bytes | None) else ""
        for word in (*part, None, None)[:2]
    )
    parameters = part[2] if len(part) > 2 else None
    disposition = next(
        (
            c
            for c in children
            if len(c) == 2
            and isinstance(c[0], bytes)
            and isinstance(c[1], list | None)
            and c is not parameters
            and c[0].lower() in (b"attachment", b"inline")
        ),
        None,
    )
    named = disposition[1] if disposition else None
    name = _parameter(named, "filename", charset) or _parameter(parameters, "name", charset)
    type = f"{kind}/{subtype}"
    if kind == "multipart":  # without a boundary, it is read as the text that it is
        return
    attached = disposition is not None and disposition[0].lower() == b"attachment"
    layout = above == "multipart/related" and kind == "image" and len(part) > 3 and part[3]
    shown = is_shown_text(type) or (type in LABELLED and type != "message/external-body")
    if not layout and (attached or name or not shown):
        subject = next((c[1] for c in children if len(c) == 10 and isinstance(c[1], bytes)), b"")  # of an envelope
        collected.append(Leaf(name or plain_name(type, number, decode_words(subject)), type, None, _size(part)))


def _parameter(pairs: Any, wanted: str, charset: Callable[[], str] = lambda: "") -> str:
    """A parameter out of a list of names and values, RFC 2231 pieces joined; `charset` tells the likely set of bytes
    beyond ASCII."""
    if not isinstance(pairs, list):
        return ""
    texts = [p.replace(b"\\", b"\\\\").replace(b'"', b'\\"') if isinstance(p, bytes) else b"" for p in pairs]
    field = b"x/y" + b"".join(b'; %s="%s"' % pair for pair in zip(texts[::2], texts[1::2], strict=False))
    return " ".join(parse_parameters(field, "" if field.isascii() else charset())[1].get(wanted, "").split())


def _size(part: list[Any]) -> int:
    """Bytes of the content, near them where it is encoded: lines of base64 are 76 letters and a line end."""
    encoding = (part[5] if len(part) > 5 and isinstance(part[5], bytes) else b"").lower()
    octets = int(part[6]) if len(part) > 6 and isinstance(part[6], bytes) and part[6].isdigit() else 0
    return octets * 57 // 78 if encoding == b"base64" else octets
