"""What the engine drew: the content streams of pages and forms (ISO 32000-2, sections 8.2 and 9.4), and the same with
marks around what is read and what is not (section 14.6)."""

from __future__ import annotations

import re
from collections.abc import Iterable, Iterator, Sequence
from dataclasses import dataclass, field, replace
from typing import NamedTuple

from wexagraph.pages.checking.content_text import character_table, string_bytes
from wexagraph.pages.tagging.reading_order import letters_of

_STRING = rb"\((?:[^()\\]|\\.)*+\)|<[0-9A-Fa-f\s]*+>"
_STEP = re.compile(
    rb"(?P<run>[-\d.](?:[-\d.\s]++|(?:[mlcvyh]|re)(?=\s))*+)"
    rb"(?P<op>(?:W\*?\s+n|n|f\*?|F|S|s|[Bb]\*?|cm|Tm|Td)(?![A-Za-z*]))?"
    rb"|/(?P<name>[^\s/<>()\[\]]+)\s+(?:(?P<draw>Do|sh)|(?P<font>[-\d.]+\s+Tf))\b"
    rb"|(?P<show>\[(?:" + _STRING + rb"|[^\]<(])*+\]\s*TJ|(?:" + _STRING + rb")\s*Tj)\b"
    rb"|\b(?P<block>BT|ET|q|Q)\b",
    re.DOTALL,
)
_ITEM = re.compile(rb"\((?P<plain>(?:[^()\\]|\\.)*+)\)|<(?P<hex>[0-9A-Fa-f\s]*+)>|(?P<step>[-\d.]+)", re.DOTALL)
_CODE = re.compile(rb"\\[0-7]{1,3}|\\\r?\n|\\.|[^\\]", re.DOTALL)
_RIGHT_TO_LEFT = re.compile("[\u0590-\u08ff\ufb1d-\ufdff\ufe70-\ufefc]")
UNKNOWN = "\N{REPLACEMENT CHARACTER}"
Matrix = tuple[float, float, float, float, float, float]
_SAME: Matrix = (1.0, 0.0, 0.0, 1.0, 0.0, 0.0)
_STEP_BACK = 600
_LEAP = -700  # thousandths of the size of the font: more than between words


class _Table(dict[int, str]):
    def __missing__(self, code: int) -> str:
        return UNKNOWN


class Font:
    """A font of a page: what its codes say. `blank` is the string of a blank that the document draws with it."""

    def __init__(self, wide: bool, cmap: bytes | None) -> None:
        self.wide = wide
        self.blank = b""
        self.plain = not wide and cmap is None
        self._table = None if cmap is None else _Table(character_table(cmap))

    def text(self, codes: bytes) -> str:
        """What a string of codes says; one unknown character for each that says nothing."""
        if self._table is None:
            return UNKNOWN * (len(codes) // 2) if self.wide else codes.decode("cp1252", "replace")
        return codes.decode("utf-16-be" if self.wide else "latin-1", "replace").translate(self._table)


class Glyph(NamedTuple):
    """A glyph as it is written in a string, and what it says; or a step between two, in thousandths of the font's
    size."""

    written: bytes
    text: str
    step: float = 0.0


class Span(NamedTuple):
    """Some letters of a string: how many, which in the reading is the first (-1: they were not found), and how many of
    the reading they stand for: more where a glyph stands for several."""

    letters: int
    first: int
    length: int


@dataclass(eq=False, slots=True)
class Show:
    """An operator that shows glyphs: how high on the page it stands in points, and what it says.

    Strings of one `line` of a `holder` (a page or a form) follow each other on it; `ends` says that it ends behind this
    one. Of text from right to left, `letters` are in the order of speech; `turned` are all strings of a line that has
    such. A `running` line stands in the margin.
    """

    operator: bytes
    font: Font
    y: float
    text: str
    letters: str
    line: int = 0
    holder: int = 0
    leftwards: bool = False
    ends: bool = False
    running: bool = False
    spans: list[Span] = field(default_factory=list)
    turned: bool = False

    @property
    def placed(self) -> list[Span]:
        """Those of its spans that stand in the reading."""
        return [span for span in self.spans if span.first >= 0]

    def glyphs(self) -> list[Glyph]:
        """Its glyphs and steps, one by one."""
        glyphs = []
        for item in _ITEM.finditer(self.operator):
            if item["step"] is not None:
                glyphs.append(Glyph(item[0], "", float(item[0])))
            elif item["hex"] is not None:
                codes = re.sub(rb"\s", b"", item["hex"])
                width = 4 if self.font.wide else 2
                for at in range(0, len(codes), width):
                    code = codes[at : at + width]
                    glyphs.append(Glyph(b"<%s>" % code, self.font.text(bytes.fromhex(code.decode("ascii")))))
            else:
                for code in _CODE.findall(item["plain"]):
                    glyphs.append(Glyph(b"(%s)" % code, self.font.text(string_bytes(code, b""))))
        return glyphs

    def part(self, glyphs: Sequence[Glyph], leftwards: bool = False) -> Show:
        """Some of its glyphs as an operator of their own."""
        written = b"[%s]TJ\n" % b"".join(glyph.written for glyph in glyphs).replace(b"><", b"").replace(b")(", b"")
        in_order = glyphs[::-1] if leftwards else glyphs
        text = "".join(glyph.text for glyph in in_order)
        part = Show(written, self.font, self.y, text, letters_of(text), self.line, self.holder, leftwards)
        part.ends, part.turned = self.ends, self.turned
        return part

    def with_blank(self) -> bytes:
        """Its operator with a blank behind its glyphs, a step back, so that its box is no larger than without."""
        strings = self.operator.rstrip().removesuffix(b"TJ").removesuffix(b"Tj").strip()
        return b"[%s %d %s]TJ" % (strings.removeprefix(b"[").removesuffix(b"]"), _STEP_BACK, self.font.blank)


@dataclass(eq=False, slots=True)
class Draw:
    """A picture or a form that is drawn: its name among the resources, and what holds for its coordinates."""

    name: str
    operator: bytes
    matrix: Matrix


@dataclass(eq=False, slots=True)
class Paint:
    """Lines and areas that are painted one after another, with what is set between them."""

    operators: bytes


@dataclass(eq=False, slots=True)
class Setting:
    """Operators that show nothing. Where a text begins or ends among them, it `breaks`: no marked content reaches
    across."""

    operators: bytes
    breaks: bool


Token = Setting | Show | Draw | Paint


def tokens(content: bytes, fonts: dict[bytes, Font], matrix: Matrix = _SAME) -> list[Token]:
    """A content stream in pieces, in order. `fonts` are those of its resources, `matrix` makes points on the page of
    its units."""
    out: list[Token] = []
    saved: list[Matrix] = []
    font = Font(False, None)
    line, lines = _SAME, 0
    shown: Show | None = None  # since the last step to another line
    end, breaks = 0, False
    begin = until = -1  # of what is painted

    def passed(start: int) -> None:
        """Put out what stands before a place."""
        nonlocal end, begin, breaks
        if begin >= 0:
            out.append(Setting(content[end:begin], breaks))
            out.append(Paint(content[begin:until]))
            end, begin, breaks = until, -1, False
        if start > end or breaks:
            out.append(Setting(content[end:start], breaks))
            end, breaks = start, False

    for step in _STEP.finditer(content):
        kind, token = step.lastgroup, step[0]
        if kind == "run":
            continue
        if kind == "op":
            operator = step["op"]
            if operator == b"Td" or operator == b"Tm":
                numbers = _numbers(step["run"])
                line = numbers if operator == b"Tm" else _times((1.0, 0.0, 0.0, 1.0, *numbers[4:]), line)
                lines += 1
                if shown is not None:
                    shown.ends, shown = True, None
            elif operator == b"cm":
                matrix = _times(_numbers(step["run"]), matrix)
            elif operator[:1] not in b"Wn":
                begin, until = step.start() if begin < 0 else begin, step.end()
        elif kind == "show":
            passed(step.start())
            shows = _shows(token, font, _times(line, matrix)[5], lines)
            out += shows
            shown, end = shows[-1], step.end()
            lines = shown.line
        elif kind == "font":
            font = fonts.get(step["name"], font)
        elif token == b"q":
            saved.append(matrix)
        elif token == b"Q":
            matrix = saved.pop() if saved else matrix
        elif kind == "block":
            passed(step.start())
            breaks = True
            line, lines = _SAME, lines + 1
            if shown is not None:
                shown.ends, shown = True, None
        elif token.endswith(b"Do"):
            passed(step.start())
            out.append(Draw(step["name"].decode("latin-1"), token, matrix))
            end = step.end()
        else:
            begin, until = step.start() if begin < 0 else begin, step.end()
    passed(len(content))
    return out


def _numbers(run: bytes) -> Matrix:
    """The last six numbers of a run; of two, as a step."""
    numbers = [float(number) for number in run.split()[-6:]]
    return (*(0.0,) * (6 - len(numbers)), *numbers)  # type: ignore[return-value]


def _times(first: Matrix, then: Matrix) -> Matrix:
    a, b, c, d, e, f = first
    p, q, r, s, t, u = then
    return a * p + b * r, a * q + b * s, c * p + d * r, c * q + d * s, e * p + f * r + t, e * q + f * s + u


def _shows(operator: bytes, font: Font, y: float, line: int) -> list[Show]:
    """A string as it is shown; one that is cut by its directions, and by leaps over a margin, where some of it runs to
    the left."""
    codes = b"".join(
        string_bytes(item["plain"] or b"", item["hex"] or b"")
        for item in _ITEM.finditer(operator)
        if item["step"] is None
    )
    text = font.text(codes)
    show = Show(operator, font, y, text, letters_of(text), line)
    if not font.blank and " " in text:
        glyphs = () if font.plain else show.glyphs()
        font.blank = b"( )" if font.plain else next((each.written for each in glyphs if each.text == " "), b"")
    if text.isascii() or not _RIGHT_TO_LEFT.search(text):
        return [show]
    runs: list[tuple[int, bool, list[Glyph]]] = []
    before = Glyph(b"", " ")
    for glyph in show.glyphs():
        leftwards = _RIGHT_TO_LEFT.search(glyph.text) is not None
        if glyph.step < _LEAP and not before.text.isspace():
            line += 1
        if not runs or line != runs[-1][0] or (letters_of(glyph.text) and runs[-1][1] != leftwards):
            runs.append((line, leftwards, []))
        runs[-1][2].append(glyph)
        before = glyph if glyph.text else before
    parts = []
    for line, leftwards, glyphs in runs:
        show.line = line
        parts.append(show.part(glyphs, leftwards))
    return parts


@dataclass(frozen=True)
class Mark:
    """What stands around something that is drawn: its number on the page, the type of its element, and what is said in
    its place; without a number it is an artifact, `kind` its property list. What `joins` is said by what is before.
    """

    number: int | None
    kind: str = ""
    said: str | None = None
    joins: bool = False


class Marked(NamedTuple):
    """Glyphs as they are to be written, with what stands around them; what they say, and whether they go on with the
    word before them on their line."""

    operator: bytes
    mark: Mark
    spoken: str = ""
    follows: bool = False


def in_words(parts: Iterable[Setting | Paint | Draw | Marked]) -> Iterator[Setting | Paint | Draw | Marked]:
    """The parts of a content stream in which a word is said at once, of which one piece is said otherwise than its
    glyphs do: signs on letters stand in strings of their own, and readers tell each piece for itself."""
    word: list[Setting | Paint | Draw | Marked] = []
    said, changed = "", False

    def ended() -> Iterator[Setting | Paint | Draw | Marked]:
        nonlocal said, changed
        if changed and sum(isinstance(part, Marked) and not part.mark.joins for part in word) > 1:
            first = True
            for part in word:
                if isinstance(part, Marked) and not part.mark.joins:
                    mark = replace(part.mark, said=said) if first else Mark(None, joins=True)
                    part, first = part._replace(mark=mark), False
                yield part
        else:
            yield from word
        word.clear()
        said, changed = "", False

    for part in parts:
        if isinstance(part, Marked) and part.mark.joins:
            word.append(part)
        elif isinstance(part, Marked):
            if not part.follows:
                yield from ended()
            said, changed = said + part.spoken, changed or part.mark.said is not None
            word.append(part)
        elif isinstance(part, Setting) and not part.breaks:
            word.append(part)
        else:
            yield from ended()
            yield part
    yield from ended()


class _Writer:
    def __init__(self) -> None:
        self.out: list[bytes] = []
        self.held: Mark | None = None
        self.saying = False

    def begin(self, mark: Mark) -> None:
        """Stand in marked content of this kind and number; what is said in place of glyphs ends."""
        if self.held is not None and (self.held.number, self.held.kind) == (mark.number, mark.kind):
            self.stop_saying()
            return
        self.close()
        self.held = mark
        if mark.number is not None:
            self.out.append(b"/%s <</MCID %d>>BDC\n" % (mark.kind.encode("ascii"), mark.number))
        else:
            self.out.append(b"/Artifact <<%s>>BDC\n" % mark.kind.encode("ascii") if mark.kind else b"/Artifact BMC\n")

    def say(self, text: str) -> None:
        """Begin what stands for glyphs (ISO 32000-2, section 14.9.4)."""
        said = (b"\xfe\xff" + text.encode("utf-16-be", "replace")).hex().encode("ascii")
        self.out.append(b"/Span <</ActualText <%s>>>BDC\n" % said)
        self.saying = True

    def stop_saying(self) -> None:
        """End it, where it was begun."""
        if self.saying:
            self.out.append(b"EMC\n")
            self.saying = False

    def close(self) -> None:
        """Stand in no marked content."""
        self.stop_saying()
        if self.held is not None:
            self.out.append(b"EMC\n")
            self.held = None


def written(parts: Iterable[Setting | Paint | Draw | Marked]) -> bytes:
    """A content stream with its marks. Strings and drawings come as `Marked`; what is painted is an artifact."""
    writer = _Writer()
    out, artifact = writer.out, Mark(None)
    for part in parts:
        if isinstance(part, Setting):
            if part.breaks:
                writer.close()
            out.append(part.operators)
        elif isinstance(part, Paint):
            writer.begin(artifact)
            out += (part.operators, b"\n")
        elif isinstance(part, Marked):
            if not part.mark.joins:
                writer.begin(part.mark)
                if part.mark.said is not None:
                    writer.say(part.mark.said)
            elif not writer.saying:
                writer.begin(writer.held or artifact)
                writer.say("")
            out += (part.operator, b"\n")
        else:
            writer.close()
            out.append(part.operator)
    writer.close()
    return b"".join(out)
