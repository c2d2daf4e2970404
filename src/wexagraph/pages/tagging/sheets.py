"""The pages of an engine's PDF and the forms that they draw, open to be marked."""

from __future__ import annotations

import re
from collections.abc import Iterator
from dataclasses import dataclass, field

from wexagraph.pages.checking.content_text import string_bytes
from wexagraph.pages.file_structure import ANNOTATIONS, CONTENTS, KIDS, NUMBER, EngineFile
from wexagraph.pages.tagging.content import Draw, Font, Matrix, Show, Token, tokens

_REFERENCE = re.compile(rb"/([!-.0-~]+)\s+(\d+) 0 R")
_RESOURCES = re.compile(rb"/Resources (\d+) 0 R")
_FONTS = re.compile(rb"/Font\s*<<([^>]*)>>")
_DRAWN = re.compile(rb"/XObject\s*<<([^>]*)>>")
_MEDIA = re.compile(rb"/MediaBox \[\s*\S+\s+\S+\s+\S+\s+(\S+)")
_RECTANGLE = re.compile(rb"/Rect \[\s*\S+\s+(\S+)\s+\S+\s+(\S+)\s*\]")
_ADDRESS = re.compile(rb"/URI\s*(?:\(((?:[^()\\]|\\.)*)\)|<([0-9A-Fa-f\s]*)>)", re.DOTALL)
_MAP = re.compile(rb"/ToUnicode (\d+) 0 R")
_PACKING = re.compile(rb"/Length(?: \d+ 0 R| \d+)|/Filter /FlateDecode")
_DEEPEST = 8


@dataclass(frozen=True)
class Annotation:
    """A link on a page: its object, where it leads, and from what height to what it reaches."""

    number: int
    address: str
    bottom: float
    top: float


@dataclass(eq=False, slots=True)
class Sheet:
    """A page, or a form that is drawn on one: the objects of its content and of its page, what it draws, and what of it
    is other sheets or pictures."""

    stream: int
    page: int
    tokens: list[Token]
    about: bytes = b""
    height: float = 0.0
    forms: dict[str, Sheet] = field(default_factory=dict)
    pictures: dict[str, int] = field(default_factory=dict)
    links: list[Annotation] = field(default_factory=list)

    @property
    def is_form(self) -> bool:
        """Whether it is a form."""
        return self.stream != self.page and bool(self.about)

    def flat(self) -> Iterator[Token]:
        """Its content, with that of its forms in their places."""
        for token in self.tokens:
            if isinstance(token, Draw) and token.name in self.forms:
                yield from self.forms[token.name].flat()
            else:
                yield token

    def shows(self) -> Iterator[Show]:
        """The strings that it shows."""
        return (token for token in self.flat() if isinstance(token, Show))


class Sheets:
    """All pages of a PDF, each with its forms behind it in `every`. Raises ValueError or LookupError where the PDF is
    not laid out as the engine does."""

    def __init__(self, file: EngineFile) -> None:
        self.file = file
        self.every: list[Sheet] = []
        self.pages: list[Sheet] = []
        self.descendants: set[int] = set()
        self._fonts: dict[int, Font] = {}
        self._forms: set[int] = set()
        for number in self._page_numbers():
            page = file.object(number)
            contents, media = CONTENTS.search(page), _MEDIA.search(page)
            if contents is None or media is None:
                raise ValueError("a page has no content of its own")
            sheet = self._sheet(int(contents[1]), number, page, b"", depth=0)
            sheet.height = float(media[1])
            sheet.links = list(self._links(page))
            self.pages.append(sheet)

    def _page_numbers(self) -> list[int]:
        catalogue = self.file.object(self.file.end.root)
        pages = re.search(rb"/Pages (\d+) 0 R", catalogue)
        kids = KIDS.search(self.file.object(int(pages[1]))) if pages else None
        if kids is None:
            raise ValueError("the pages are not where the engine puts them")
        return [int(number) for number in NUMBER.findall(kids[1])]

    def _sheet(
        self, stream: int, page: int, holder: bytes, about: bytes, depth: int, matrix: Matrix = (1, 0, 0, 1, 0, 0)
    ) -> Sheet:
        resources = self._resources(holder)
        fonts = {name: self._font(number) for name, number in _references(_FONTS, resources)}
        sheet = Sheet(stream, page, tokens(self.file.content(stream), fonts, matrix), about)
        place = len(self.every)
        self.every.append(sheet)
        drawn = dict(_references(_DRAWN, resources))
        for token in sheet.tokens:
            if isinstance(token, Show):
                token.holder = place
            elif isinstance(token, Draw):
                number = drawn.get(token.name.encode("latin-1"))
                head = self.file.head(number) if number is not None else b""
                if number is None or b"/Subtype /Form" not in head:
                    sheet.pictures[token.name] = number or 0
                elif number not in self._forms and depth < _DEEPEST:
                    self._forms.add(number)
                    inside = b" ".join(_PACKING.sub(b"", head[2:-2]).split())
                    form = self._sheet(number, page, head, inside, depth + 1, token.matrix)
                    sheet.forms[token.name] = form
        return sheet

    def _resources(self, holder: bytes) -> bytes:
        match = _RESOURCES.search(holder)
        if match is not None:
            return self.file.object(int(match[1]))
        return holder.partition(b"/Resources")[2]

    def _font(self, number: int) -> Font:
        if number not in self._fonts:
            font = self.file.object(number)
            mapping = _MAP.search(font)
            wide = b"/Type0" in font
            self.descendants.update(map(int, NUMBER.findall(font.partition(b"/DescendantFonts")[2].partition(b"]")[0])))
            plain = not wide and b"/WinAnsiEncoding" in font
            cmap = self.file.content(int(mapping[1])) if mapping is not None and not plain else None
            self._fonts[number] = Font(wide, cmap)
        return self._fonts[number]

    def _links(self, page: bytes) -> Iterator[Annotation]:
        held = ANNOTATIONS.search(page)
        for number in map(int, NUMBER.findall(held[1])) if held is not None else ():
            link = self.file.object(number)
            rectangle, address = _RECTANGLE.search(link), _ADDRESS.search(link)
            if rectangle is None:
                raise ValueError("a link has no place")
            said = string_bytes(address[1] or b"", address[2] or b"") if address is not None else b""
            low, high = sorted(map(float, rectangle.groups()))
            yield Annotation(number, said.decode("utf-8", "replace"), low, high)


def _references(kind: re.Pattern[bytes], resources: bytes) -> list[tuple[bytes, int]]:
    match = kind.search(resources)
    return [(name, int(number)) for name, number in _REFERENCE.findall(match[1])] if match is not None else []
