"""The structure of a message: a tree of parts over the original bytes (RFC 2045, 2046, 2231).

Nothing is copied and no line is split: a delimiter is searched for in the bytes as they are, outer boundaries
before inner ones, so a part whose end is missing ends where its parent does.
"""

from __future__ import annotations

import binascii
import re
from collections.abc import Callable, Iterator
from dataclasses import dataclass, field
from itertools import islice
from urllib.parse import unquote_to_bytes

from wexagraph.messages.charsets import decode
from wexagraph.messages.encoded_words import decode_words
from wexagraph.messages.headers import Header, header_end
from wexagraph.messages.inlined import InlinedFile, split
from wexagraph.notes import Note

_NOT_BASE64 = re.compile(rb"[^A-Za-z0-9+/]+")
_SIGNS, _BLANKS = re.compile(rb"[^A-Za-z0-9+/=\s]"), re.compile(rb"[ \t]")
_SOFT = re.compile(rb"=[ \t]*\r?\n")
_TRAIL = re.compile(rb"(?<![ \t])[ \t]++(?=\r?\n)")
_HEX = re.compile(rb"=([0-9A-Fa-f]{2})")
_BAD_HEX = re.compile(rb"=(?![0-9A-Fa-f]{2})")
MAX_DEPTH = 100
MAX_PARTS = 10_000
_PARAMETER = re.compile(rb';[ \t\r\n]*([^\s=;"]+)[ \t\r\n]*=[ \t\r\n]*("(?:[^"\\]|\\.)*"?|[^;]*)', re.DOTALL)
_EXTENDED = re.compile(r"(.+?)(?:\*(\d+))?(\*)?")
_TYPE = re.compile(r"[a-z0-9.+_$&^!#-]+/[a-z0-9.+_$&^!#-]+")
_FIELD = re.compile(rb"(?:\xef\xbb\xbf)?(?:>*From [^\n]*\n)?[!-9;-~]+[ \t]*:")
# a parameter may begin a line as a field does, against RFC 5322 section 2.2.3
_PARAMETER_LINE = rb"(?=[A-Za-z][A-Za-z0-9*-]*=[^:\r\n]*(?:[\r\n]|\Z))"
_UNFOLDED = re.compile(rb";(\r?\n)" + _PARAMETER_LINE)
_FIELDS = re.compile(
    rb"(?:\xef\xbb\xbf)?(?:>*From [^\n]*\n)?"
    rb"(?:[!-9;-~]+[ \t]*:[^\n]*+(?:\n(?:[ \t]|(?:(?<=;\n)|(?<=;\r\n))" + _PARAMETER_LINE + rb")[^\n]*+)*+(?:\n|\Z))++"
)
# a line that may stand between parts, and what a part may begin with
_DELIMITER = re.compile(rb"^--(\S[^\r\n]{0,199}?)[ \t]*\r?\n(content-[a-z-]+[ \t]*:)?", re.IGNORECASE | re.MULTILINE)
_LAST = re.compile(rb"--(?![\w'()+,./:=? -])")
"""What makes a delimiter the last one; with a character of boundaries behind it, it would be another's."""
_LETTER = re.compile(rb"[A-Za-z0-9]")
_MOST_DELIMITERS = 50
_SIMPLE = re.compile(  # no parameter, or one without anything unusual: nearly every field there is
    rb"""([A-Za-z0-9/.+_-]+)[ \t]*(?:;[ \t\r\n]*([A-Za-z0-9-]+)=(?:"([^"\\]*)"|([^\s";*]+))[ \t]*;?)?"""
)


@dataclass(slots=True)
class _Scan:
    """What one reading of a message has met so far."""

    parts: int = 0
    notes: list[Note] = field(default_factory=list)


class Part:
    """A MIME part. `data[start:end]` is its body, still in its transfer encoding, `begin` is where its header begins.
    `number` is "1.2" and the like.

    `outside` are the stretches of a multipart body that stand before, between or after its parts.
    """

    def __init__(self, data: bytes, header: Header, start: int, end: int, number: str, default: str) -> None:
        self.data, self.header, self.start, self.end, self.number = data, header, start, end, number
        self.begin = start
        self.children: list[Part] = []
        self.outside: list[tuple[int, int]] = []
        self._disposition: tuple[str, dict[str, str]] | None = None
        self._content: tuple[bytes, bool] | None = None
        self._charset = ""
        self.type, self.parameters = parse_parameters(header.raw(b"content-type") or b"")
        if not _TYPE.fullmatch(self.type):
            self.type = default

    @property
    def disposition(self) -> tuple[str, dict[str, str]]:
        """Content-Disposition (RFC 2183): its word in lower case ("" where there is none) and its parameters."""
        if self._disposition is None:
            self._disposition = parse_parameters(self.header.raw(b"content-disposition") or b"", self._charset)
        return self._disposition

    def decode_names(self, charset: str) -> None:
        """Read names in the part's header that are in bytes beyond ASCII, and no UTF-8, in that character set."""
        self._charset, self._disposition = charset, None
        self.parameters = parse_parameters(self.header.raw(b"content-type") or b"", charset)[1]

    @property
    def filename(self) -> str:
        """The file name that the part suggests, decoded but not made safe; "" where it suggests none."""
        name = self.disposition[1].get("filename") or self.parameters.get("name") or ""
        return " ".join(name.split())

    @property
    def encoding(self) -> str:
        """Content-Transfer-Encoding in lower case; "" where there is none."""
        raw = self.header.raw(b"content-transfer-encoding")
        return raw.decode("latin-1").partition(";")[0].strip().lower() if raw else ""

    @property
    def content_id(self) -> str:
        """Content-ID without its brackets."""
        raw = self.header.raw(b"content-id")
        return raw.decode("latin-1").strip(" <>\t") if raw else ""

    @property
    def location(self) -> str:
        """Content-Location (RFC 2557)."""
        raw = self.header.raw(b"content-location")
        return re.sub(r"\s+", "", raw.decode("latin-1")) if raw else ""

    @property
    def _decoded(self) -> tuple[bytes, bool]:
        if self._content is None:
            self._content = decode_transfer(self.data[self.start : self.end], self.encoding)
        return self._content

    def content(self) -> bytes:
        """The part's bytes behind its transfer encoding."""
        return self._decoded[0]

    def damaged(self) -> bool:
        """Whether the transfer encoding was broken, so that `content` may not be all."""
        return not self._decoded[1]

    def size(self) -> int:
        """Bytes of the content; from its length alone for base64, without decoding it."""
        if self.encoding == "base64" and not is_unencoded(self.data[self.start : min(self.end, self.start + 2000)]):
            data, start, end = self.data, self.start, self.end
            letters = end - start - sum(data.count(blank, start, end) for blank in (b"\n", b"\r", b" "))
            return letters // 4 * 3 - min(2, data[max(start, end - 400) : end].rstrip()[-2:].count(b"="))
        return len(self.content())

    def text(self, hint: str = "") -> tuple[str, list[Note]]:
        """The content of a text part as text with LF line ends, and notes on its charset and encoding.

        `hint` is the character set to try where the part's own is not told or plainly wrong.
        """
        label = self.parameters.get("charset", "")
        if not label and self.type == "text/html":
            label = _charset_in_html(self.content())
        text, notes = decode(self.content(), label, hint)
        if self.damaged():
            notes.append(Note("encoding-damaged", f"{self.encoding}, part {self.number}"))
        return unix_lines(text), notes

    def walk(self) -> Iterator[Part]:
        """This part and all below it, in the order of the message."""
        yield self
        for child in self.children:
            yield from child.walk()


def unix_lines(text: str) -> str:
    """Text with LF line ends."""
    return text.replace("\r\n", "\n").replace("\r", "\n") if "\r" in text else text


def parse(data: bytes, start: int = 0, end: int | None = None, number: str = "1") -> tuple[Part, list[Note]]:
    """The part tree of the message in `data[start:end]`, and notes on what of it is broken. Never fails."""
    scan = _Scan()
    return _part(data, start, len(data) if end is None else end, number, "text/plain", 0, scan), scan.notes


def made_part(content: bytes, type: str, name: bytes | str, number: str) -> Part:
    """A part for a file that stood in a message without being one: found in a text, or left over."""
    part = Part(content, Header(b""), 0, len(content), number, type)
    part.parameters["name"] = decode(name)[0] if isinstance(name, bytes) else name
    return part


def _part(data: bytes, start: int, end: int, number: str, default: str, depth: int, scan: _Scan) -> Part:
    # a part that does not begin with a field has no header, whatever stands further down: all of it is text
    body = min(header_end(data, start, end), end) if _FIELD.match(data, start, end) else start
    if data.startswith((b"\n", b"\r\n"), start, end):
        body = header_end(data, start, end)
    fields = _FIELDS.match(data, start, body) if depth else None
    if fields is not None and data[fields.end() : body].strip():
        body = fields.end()  # a line that is no field: what stands there is text already
    part = Part(data, Header(_UNFOLDED.sub(rb";\1 ", data[start:body])), body, end, number, default)
    part.begin = start
    scan.parts += 1
    if part.type.startswith("multipart/"):
        boundary = part.parameters.get("boundary", "")
        if depth >= MAX_DEPTH:
            scan.notes.append(Note("nesting-too-deep", f"part {number[:40]}"))
            part.type = "application/octet-stream"
        elif boundary:
            _split(part, boundary.encode("latin-1", "replace"), depth, scan)
        if not part.children and part.type.startswith("multipart/") and not part.filename:  # a named one is a file
            likely = _likely_boundary(data, body, end)
            if likely:
                scan.notes.append(Note("boundary-wrong", f"part {number[:40]}"))
                _split(part, likely, depth, scan)
        if not part.children and part.type.startswith("multipart/"):
            part.type = "text/plain"  # no boundary, or none of its delimiters: what stands there is text
    return part


def _likely_boundary(data: bytes, start: int, end: int) -> bytes:
    """What stands between the parts of a body whose header names no boundary, or another; b"" where nothing does."""
    for match in islice(_DELIMITER.finditer(data, start, end), _MOST_DELIMITERS):
        mark = match[1]
        closed = data.find(b"\n--" + mark + b"--", match.end() - 1, end) >= 0
        if (closed or match[2]) and not mark.endswith(b"--") and _LETTER.search(mark):
            return mark
    return b""


def _split(part: Part, boundary: bytes, depth: int, scan: _Scan) -> None:
    default = "message/rfc822" if part.type == "multipart/digest" else "text/plain"
    begin: int | None = None
    for at, after, last in _delimiters(part.data, b"--" + boundary, part.start, part.end):
        if begin is None:
            part.outside.append((part.start, at))
        else:
            if scan.parts >= MAX_PARTS:
                scan.notes.append(Note("parts-too-many", f"more than {MAX_PARTS}"))
                return
            number = f"{part.number}.{len(part.children) + 1}"
            part.children.append(_part(part.data, begin, max(at, begin), number, default, depth + 1, scan))
        begin = after
        if last:
            part.outside.append((after, part.end))
            return
    if begin is not None and begin <= part.end:
        scan.notes.append(Note("boundary-missing", f"part {part.number[:40]}"))
        number = f"{part.number}.{len(part.children) + 1}"
        part.children.append(_part(part.data, begin, part.end, number, default, depth + 1, scan))


def _delimiters(data: bytes, mark: bytes, start: int, end: int) -> Iterator[tuple[int, int, bool]]:
    """Delimiter lines (RFC 2046 section 5.1.1): where the text before ends, where the line ends, whether final."""
    at = data.find(mark, start, end)
    while at >= 0:
        line_end = data.find(b"\n", at, end)
        after = line_end + 1 if line_end >= 0 else end
        rest = data[at + len(mark) : after].rstrip()
        last = _LAST.match(rest)
        if (at == start or data[at - 1 : at] == b"\n") and (last or not rest):
            before = at
            if before > start:
                before -= 2 if data[before - 2 : before] == b"\r\n" else 1
            yield before, at + len(mark) + 2 if last and len(rest) > 2 else after, last is not None
        at = data.find(mark, max(after - 1, at + 1), end)


def parse_parameters(raw: bytes, hint: str = "") -> tuple[str, dict[str, str]]:
    """A structured field like Content-Type: its value in lower case, and its parameters by lower-case name.

    Continuations and charsets of RFC 2231, RFC 2047 words in parameters (against section 5, but common), raw
    8-bit (`hint` is its likely charset), and quoted strings that never close.
    """
    if not raw:
        return "", {}
    simple = _SIMPLE.fullmatch(raw)
    if simple:
        value, name, quoted, token = simple.groups()
        text = quoted if token is None else token
        if name is None:
            return value.decode("ascii").lower(), {}
        return value.decode("ascii").lower(), {name.decode("ascii").lower(): decode_words(text, hint)}
    value_raw = raw.partition(b";")[0]
    if b"(" in value_raw:
        value_raw = re.sub(rb"\([^()]*\)", b"", value_raw)
    value = value_raw.strip().decode("latin-1").lower()
    if b"*" not in raw and b"(" not in raw:
        plain = {name.decode("latin-1").lower(): text for name, text in reversed(_PARAMETER.findall(raw))}
        return value, {name: _plain_value(text, hint) for name, text in plain.items()}
    parameters: dict[str, str] = {}
    pieces: dict[str, dict[int, tuple[bool, bytes]]] = {}
    for name_raw, text in _PARAMETER.findall(raw):
        match = _EXTENDED.fullmatch(name_raw.decode("latin-1").lower())
        if match is None:
            continue
        name, index, extended = match[1], match[2], bool(match[3])
        if index is None and not extended:
            parameters.setdefault(name, _plain_value(text, hint))
        elif len(index or "") < 6:
            pieces.setdefault(name, {})[int(index or 0)] = (extended, _unquote(text))
    for name, numbered in pieces.items():
        parameters[name] = _extended_value(numbered)
    return value, parameters


def _unquote(text: bytes) -> bytes:
    text = text.strip()
    if text.startswith(b'"'):
        text = text[1:-1] if text.endswith(b'"') and len(text) > 1 else text[1:]
        # a backslash before anything but a quote or itself is a path from an old program, not an escape
        if b"\\" in text:
            text = re.sub(rb'\\(["\\])', rb"\1", text)
    return text


def _plain_value(text: bytes, hint: str) -> str:
    return decode_words(_unquote(text), hint)


def _extended_value(numbered: dict[int, tuple[bool, bytes]]) -> str:
    charset, out = "", []
    for position, index in enumerate(sorted(numbered)):
        extended, text = numbered[index]
        if extended:
            if position == 0 and text.count(b"'") >= 2:
                label, _, text = text.split(b"'", 2)
                charset = label.decode("latin-1")
            text = unquote_to_bytes(text)
        out.append(text)
    return decode(b"".join(out), charset or "utf-8")[0]


_META = re.compile(rb"""(?i)<meta[^>]{0,200}?charset\s*=\s*["']?\s*([A-Za-z0-9_.:-]{2,40})""")


def _charset_in_html(content: bytes) -> str:
    match = _META.search(content[:4096])
    return match[1].decode("ascii") if match else ""


def decode_transfer(data: bytes, encoding: str) -> tuple[bytes, bool]:
    """The bytes behind a transfer encoding, and whether the encoding was whole.

    An unknown encoding is taken as identity (RFC 2045 section 6.4 wants it kept opaque; nothing is lost).
    """
    return _DECODERS.get(encoding.strip().strip("\"'").lower(), _identity)(data)


def _identity(data: bytes) -> tuple[bytes, bool]:
    return data, True


def is_unencoded(beginning: bytes) -> bool:
    """Whether what is labelled as base64 is plain text that nobody has encoded: words, with blanks and signs."""
    beginning = beginning.strip()
    signs, blanks = len(_SIGNS.findall(beginning)), len(_BLANKS.findall(beginning))
    return signs > 0 < blanks and (signs + blanks) * 12 > len(beginning)


def _base64(data: bytes) -> tuple[bytes, bool]:
    if is_unencoded(data[:2000]):
        return data, False
    try:
        # binascii skips line ends itself; strict form would refuse them
        return binascii.a2b_base64(data), b"=" not in data.rstrip(b"\r\n\t =")
    except binascii.Error:
        pass  # cut short or damaged: the lenient way below takes what there is
    clean = _NOT_BASE64.sub(b"", data)
    clean = clean[: len(clean) - (1 if len(clean) % 4 == 1 else 0)]
    return binascii.a2b_base64(clean + b"=" * (-len(clean) % 4)), False


def _quoted_printable(data: bytes) -> tuple[bytes, bool]:
    joined = _SOFT.sub(b"", _TRAIL.sub(b"", data)) if b"=" in data else data
    if joined.endswith(b"="):
        joined = joined[:-1]
    whole = _BAD_HEX.search(joined) is None
    return _HEX.sub(lambda m: bytes.fromhex(m[1].decode("ascii")), joined), whole


def _uuencode(data: bytes) -> tuple[bytes, bool]:
    for piece in split(data):
        if isinstance(piece, InlinedFile):
            return piece.content, piece.whole
    return data, False


_DECODERS: dict[str, Callable[[bytes], tuple[bytes, bool]]] = {
    "base64": _base64,
    "quoted-printable": _quoted_printable,
    "x-uuencode": _uuencode,
    "uuencode": _uuencode,
    "x-uue": _uuencode,
    "uue": _uuencode,
}
