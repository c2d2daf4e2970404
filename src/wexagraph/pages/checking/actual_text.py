"""What words say whose letters are drawn joined, stacked or in another order (ISO 32000-2, section 14.9.4).

The engine tells a character of each glyph. In the scripts of South and South-East Asia a glyph may stand for several,
or stand before a letter that is spoken first, so that nobody finds the word. Such a word gets an `ActualText`.
"""

from __future__ import annotations

import io
import re
import unicodedata
from collections import Counter
from collections.abc import Iterator
from dataclasses import dataclass, field
from typing import Any, NamedTuple

from wexagraph.pages.checking.content_text import character_table, contents

# from Devanagari to Sinhala, Thai, Lao, Tibetan, Myanmar, Khmer, and joiners between their letters
_SCRIPTS = "\u0900-\u0dff\u0e00-\u109f\u1780-\u17ff\u1cd0-\u1cff\ua8e0-\ua8ff\ua9e0-\ua9ff\uaa60-\uaa7f"
_WORD = re.compile(f"[{_SCRIPTS}][{_SCRIPTS}\u200c\u200d]*")
_UNSPACED = re.compile("[\u0e00-\u109f\u1780-\u17ff\ua9e0-\ua9ff\uaa60-\uaa7f]")  # a line may end within a word
_IN_ORDER = re.compile("[\u0e00-\u0eff]")  # Thai and Lao are drawn in the order in which they are written
# vowels of Khmer of which a part stands before the letter; Unicode gives those of other scripts as decompositions
_SPLIT = {code: "\u17c1" + chr(code) for code in (0x17BE, 0x17BF, 0x17C0, 0x17C4, 0x17C5)}
_UNKNOWN = "\N{REPLACEMENT CHARACTER}"
_MOST_LETTERS = 6
_LEAST_STEP, _BLANK = 120, 200  # thousandths of the size of the font
_WINDOW = 24
_MOST_ELSEWHERE, _MOST_ASKED = 5_000, 200
_STRING = rb"\((?:[^()\\]|\\.)*\)|<[0-9A-Fa-f\s]*>"
_TOKEN = re.compile(
    rb"(?P<show>\[(?:" + _STRING + rb"|[^\]<(])*\]\s*TJ|(?:" + _STRING + rb")\s*Tj)\b"
    rb"|/(?P<font>[^\s/<>()\[\]]+)\s+[-\d.]+\s+Tf\b"
    rb"|(?P<x>[-\d.]+)\s+(?P<y>[-\d.]+)\s+Td\b|(?P<other>\b(?:BT|ET|Tm)\b)",
    re.DOTALL,
)
_ITEM = re.compile(rb"<([0-9A-Fa-f\s]*)>|([-\d.]+)")


class _Word(NamedTuple):
    """A word as drawn: what its glyphs tell, and the chunks of the content that draw it."""

    characters: str
    first: int
    last: int


@dataclass
class _Written:
    """The words that a page was to show, in order, and which of them were found drawn."""

    words: list[str]
    next: int = 0
    rest: str = ""
    elsewhere: dict[str, str] = field(default_factory=dict)

    def of(self, characters: str) -> str:
        """The word, or a part of one that ends with the line, of which the glyphs tell this; "" where none fits."""
        if self.rest:
            size = _beginning(characters, self.rest)
            if size:
                word, self.rest = self.rest[:size], self.rest[size:]
                return word
        sure = any(char != _UNKNOWN for char in characters)  # where nothing is told, only the order says it
        window = self.words[self.next : self.next + (_WINDOW if sure else 1)]
        for number, word in enumerate(window):
            size = _beginning(characters, word)
            if size:
                self.next += number + 1
                self.rest = word[size:]
                return word[:size]
        # what stands in the head of each page, or was set before its turn
        if characters not in self.elsewhere and len(self.elsewhere) < _MOST_ASKED:
            fitting = {word: None for word in self.words[:_MOST_ELSEWHERE] if fits(characters, word)}
            self.elsewhere[characters] = next(iter(fitting), "") if sure or len(fitting) == 1 else ""
        return self.elsewhere.get(characters, "")


def has_joined_letters(text: str) -> bool:
    """Whether a text has words of such scripts."""
    return _WORD.search(text) is not None


def with_actual_text(pdf: bytes, text: str) -> bytes:
    """The PDF in which the words of such scripts say what they say in `text`, as far as they can be told apart."""
    import pikepdf

    written = _Written([match[0] for match in _WORD.finditer(unicodedata.normalize("NFC", text))])
    fonts: dict[Any, dict[int, str] | None] = {}
    with pikepdf.open(io.BytesIO(pdf)) as document:
        for page in document.pages:
            for content, resources, stream in contents(page.obj):
                held = resources.get("/Font", {})
                tables: dict[bytes, dict[int, str] | None] = {}
                for name, font in held.items():
                    if font.objgen not in fonts:
                        fonts[font.objgen] = _table(font)
                    tables[name[1:].encode("latin-1")] = fonts[font.objgen]
                if not any(tables.values()):
                    continue
                content = _said(content, tables, written)
                if stream is None:
                    page.obj.Contents = document.make_stream(content)
                else:
                    stream.write(content)
        out = io.BytesIO()
        document.save(out, deterministic_id=True, object_stream_mode=pikepdf.ObjectStreamMode.generate)
    return out.getvalue()


def _table(font: Any) -> dict[int, str] | None:
    """What the glyphs of a font tell, where it is one of these scripts and its codes have two bytes."""
    mapping = font.get("/ToUnicode")
    if font.get("/Subtype") != "/Type0" or mapping is None:
        return None
    table = character_table(mapping.read_bytes())
    characters = set(table.values()) - {_UNKNOWN}
    return table if not characters or any(map(_WORD.match, characters)) else None


def _said(content: bytes, tables: dict[bytes, dict[int, str] | None], written: _Written) -> bytes:
    """A content stream in which each word that is found in what was written says so."""
    chunks: list[bytes] = []
    words = list(_words(content, tables, chunks))
    for word in words:
        text = written.of(unicodedata.normalize("NFKD", word.characters))
        if text:
            spoken = (b"\xfe\xff" + text.encode("utf-16-be")).hex().upper().encode("ascii")
            chunks[word.first] = b"/Span <</ActualText <" + spoken + b">>> BDC " + chunks[word.first]
            chunks[word.last] += b" EMC"
    return b"".join(chunks)


def _words(content: bytes, tables: dict[bytes, dict[int, str] | None], chunks: list[bytes]) -> Iterator[_Word]:
    """The words of these scripts in a content stream, which is put into `chunks`."""
    table: dict[int, str] | None = None
    characters, first, last, end = "", 0, 0, 0
    for match in _TOKEN.finditer(content):
        chunks.append(content[end : match.start()])
        end = match.end()
        parts: list[tuple[str | None, bytes]] = [(None, match[0])]
        near = False
        if match["font"] is not None:
            table, near = tables.get(match["font"]), True
        elif match["x"] is not None:
            near = abs(float(match["y"])) < 0.3 and float(match["x"]) > -0.3
        elif match["show"] is not None and table is not None:
            parts = list(_parts(match[0], table))
        for part, drawn in parts:
            if part is None and characters and not near:
                yield _Word(characters, first, last)
                characters = ""
            if part is not None:
                first, last = (first if characters else len(chunks)), len(chunks)
                characters += part
            chunks.append(drawn)
    chunks.append(content[end:])
    if characters:
        yield _Word(characters, first, last)


def _parts(shown: bytes, table: dict[int, str]) -> Iterator[tuple[str | None, bytes]]:
    """An operator that shows glyphs, cut into words of these scripts (what they tell) and the rest (None)."""
    runs: list[tuple[bool, str, list[bytes]]] = []
    away = 0.0
    for packed, moved in _ITEM.findall(shown):
        if moved:
            # a blank may be a step to the right; a mark is set by steps there and back
            step = float(moved)
            away += step if abs(step) > _LEAST_STEP else 0.0
            if not runs or away < -_BLANK:
                runs.append((False, "", [moved]))
                away = 0.0
            else:
                runs[-1][2].append(moved)
            continue
        codes = re.sub(rb"\s", b"", packed)
        for at in range(0, len(codes), 4):
            code = codes[at : at + 4]
            char = table.get(int(code, 16), _UNKNOWN) or _UNKNOWN
            wanted = char == _UNKNOWN or bool(_WORD.match(char)) or char in "\u200c\u200d"
            if runs and runs[-1][0] == wanted:
                kept = runs[-1]
                runs[-1] = (wanted, kept[1] + char, [*kept[2], b"<" + code + b">"])
            else:
                runs.append((wanted, char, [b"<" + code + b">"]))
    for wanted, char, items in runs:
        yield (char if wanted else None), b"[" + b"".join(items).replace(b"><", b"") + b"]TJ\n"


def fits(characters: str, word: str) -> bool:
    """Whether glyphs may stand for a word: each letter they tell is in it, and the rest is what is not told."""
    if len(word) > _MOST_LETTERS * len(characters):
        return False
    known = Counter(characters)
    unknown = known.pop(_UNKNOWN, 0)
    letters = Counter(unicodedata.normalize("NFKD", word).translate(_SPLIT))
    more = known - letters
    rest = sum((letters - known).values())
    if not unknown:
        rest -= letters["\u200c"] + letters["\u200d"]
        return not more and rest <= 0
    return not more and unknown <= rest <= unknown * _MOST_LETTERS


def _beginning(characters: str, word: str) -> int:
    """How many characters at the beginning of a word these glyphs stand for; the rest may stand on the next line."""
    if not _IN_ORDER.match(word):
        ends = [len(word)]
        if _UNSPACED.match(word):
            ends += [at for at in range(1, len(word)) if unicodedata.category(word[at])[0] == "L"]
        return next((end for end in ends if fits(characters, word[:end])), 0)
    pattern = "".join(f"[{_SCRIPTS}]{{1,3}}?" if char == _UNKNOWN else re.escape(char) for char in characters)
    spread = [(char, at + 1) for at, letter in enumerate(word) for char in unicodedata.normalize("NFKD", letter)]
    match = re.match(pattern, "".join(char for char, _ in spread))
    if match is None or not match.end():
        return 0
    size = spread[match.end() - 1][1]
    while size < len(word) and unicodedata.category(word[size]) == "Mn":
        size += 1
    return size
