"""One PDF of many messages: cover, contents page, bookmarks, page numbers that run through."""

from __future__ import annotations

import hashlib
import io
import re
from contextlib import ExitStack
from dataclasses import dataclass, field, replace
from datetime import datetime
from typing import Any

from wexagraph.errors import PageError
from wexagraph.naming.paths import FreeNames
from wexagraph.notes import Note
from wexagraph.pages.checking.soundness import check_pages
from wexagraph.pages.composing.compose import Page, templates
from wexagraph.pages.composing.covers import Contents, Entry, contents_page, cover_page, sized
from wexagraph.pages.composing.header_footer import HeaderFooter
from wexagraph.pages.composing.properties import Record, describe
from wexagraph.pages.engines import Engine, engine
from wexagraph.pages.options import Lock, PageOptions
from wexagraph.pages.pdf.archival import as_archival
from wexagraph.pages.pdf.finish import MARK, list_files, put_in_front, save
from wexagraph.pages.pdf.foreign import bookmarks_of
from wexagraph.pages.pdf.run_on import MESSAGE, Stack, lowest_ink
from wexagraph.pages.tagging.joining import ARTIFACT, Trees

PART_LINK = "part:"
"""What a row of the contents page links to, with the number of its message behind it."""
_PAGES_A_SHEET = 200
_ROWS_A_PAGE = 36
_DEEPEST = 12
_REFERENCE = re.compile(rb"\b(\d+) (\d+) R\b")


@dataclass(frozen=True)
class Part:
    """A message of a bound PDF: the file of its pages (none where none could be made), and what is told of it.

    In a part that is `marked`, only the marked pages get header and footer; else all.
    """

    path: str
    entry: Entry
    header_footer: HeaderFooter
    marked: bool = False


@dataclass(frozen=True)
class BindJob:
    """Parts to be bound in their order into the file `out`.

    `contents` are the header and footer of the contents page; where messages `run_on` without a new page each, of all
    pages. `key` opens the parts, where they are locked meanwhile.
    """

    parts: tuple[Part, ...]
    out: str
    title: str
    record: Record
    contents: HeaderFooter
    options: PageOptions
    engine: str = "plutoprint"
    tags: tuple[str, ...] = ()
    exported: datetime | None = None
    run_on: bool = False
    lock: Lock | None = field(default=None, repr=False)
    key: str = field(default="", repr=False)


def bind(job: BindJob) -> list[Note]:
    """Write a bound PDF. Returns notes on it. Reads no more into memory than one part and the structure of the whole.

    Raises PageError where something can't be joined, OSError where the disk fails.
    """
    import pikepdf

    try:
        with ExitStack() as opened:
            return _Binding(job, engine(job.engine), opened).go()
    except (pikepdf.PdfError, pikepdf.PasswordError, ValueError, RuntimeError, MemoryError) as error:
        raise PageError(f"binding failed: {error}") from error


class _Binding:
    def __init__(self, job: BindJob, setter: Engine, opened: ExitStack) -> None:
        import pikepdf

        self.job, self.setter, self.opened = job, setter, opened
        self.document = opened.enter_context(pikepdf.new())
        self.shared = _Shared(self.document)
        self.trees = Trees(self.document)
        self.pages: list[Any] = []  # to ask the document for one takes as long as it has pages
        self.bookmarks: list[Any] = []
        self.files: dict[str, Any] = {}
        self.names = FreeNames()
        self.count = 0
        self.starts: list[int] = []
        self.tops: list[float | None] = []  # how high on its page a part begins, where it is not at its head
        self.stack = Stack(self.document, job.options)
        self.entries: list[Entry] = []

    def go(self) -> list[Note]:
        import pikepdf

        job, document = self.job, self.document
        for number, part in enumerate(job.parts, 1):
            self._append(number, part)
        for page in document.pages:
            self.shared.join(page.obj)
        self._list_files()
        cover, contents = self._fronts()
        for sheet in filter(None, (contents, cover)):
            put_in_front(document, sheet, self.trees)
        self.trees.write(job.record.language)
        self.pages = [page.obj for page in document.pages]
        covering, listing = _count(cover), _count(contents)
        self._link(covering, listing)
        ours = self._number(covering, covering + listing)
        _settle(self.bookmarks, self.pages[covering + listing :])
        for bookmark, start, top in zip(self.bookmarks, self.starts, self.tops, strict=True):
            bookmark.destination = self._destination(covering + listing + start, top)
        with document.open_outline() as outline:
            outline.root.extend([_bookmark(job.options.tr("Contents"), self.pages[covering]), *self.bookmarks])
        document.Root.PageMode = pikepdf.Name.UseOutlines
        describe(document, job.record, self.trees.whole)
        archival = as_archival(document, job.record) if job.options.archival else None
        with open(job.out, "wb") as out:
            if isinstance(archival, bytes):
                out.write(archival)
            else:
                save(document, out, job.lock)
        with pikepdf.open(job.out, password=job.lock.user if job.lock else "") as written:
            check_pages(written, [*range(covering), *ours])
        return [archival] if isinstance(archival, Note) else []

    def _append(self, number: int, part: Part) -> None:
        """Put a part's pages, bookmarks and embedded files into the document."""
        import pikepdf

        first = self.count
        pdf = part.path or self._replacement(part)
        key = self.job.key if part.path else ""
        with pikepdf.open(io.BytesIO(pdf) if isinstance(pdf, bytes) else pdf, password=key) as source:
            # pages of others stand for themselves, and nothing below them
            lows = lowest_ink(pdf, key) if self.job.run_on and not part.marked else None
            fits = lows and self.stack.takes(source.pages[0], lows[0])
            top = self.stack.put(source, lows[0], self.trees) if lows and fits else None
            first -= top is not None
            below = bookmarks_of(source, first)[1:]  # the first one leads to the message itself
            more = source.pages[top is not None :]
            self.document.pages.extend(more)
            self.count += len(more)
            copied = (self.document.pages[at].obj for at in range(self.count - len(more), self.count))
            drawn_on = self.stack.page if top is not None else None
            self.trees.take(source, copied, f"{part.entry.subject}"[:300], drawn_on=drawn_on)
            if more and self.job.run_on:
                self.stack.begin(self.document.pages[-1].obj if lows else None, lows[1] if lows else 0.0)
            for name, spec in sorted(source.attachments.items()):
                self._embed(f"{number:03} {name}", self.document.copy_foreign(spec.obj))
        entry = replace(part.entry, pages=self.count - first, shares=top is not None)
        bookmark = pikepdf.OutlineItem(f"{entry.when} {entry.name}: {entry.subject}"[:300], first)
        bookmark.children.extend(below)
        self.bookmarks.append(bookmark)
        self.starts.append(first)
        self.tops.append(top)
        self.entries.append(entry)

    def _replacement(self, part: Part) -> bytes:
        """A page in the place of a message that no page could be made of."""
        entry = part.entry
        rows = [("From", entry.sender), ("Date", entry.date), ("SHA-256", entry.sha256), ("Why", entry.trouble)]
        tr = self.job.options.tr
        card = templates(tr).get_template("card.html")
        html = card.render(title=tr("No page could be made of: {subject}", subject=entry.subject), rows=rows)
        return self.setter.render(Page(sized(html, self.job.options), {}, Record(entry.subject)), self.job.options)

    def _embed(self, wanted: str, spec: Any) -> None:
        """Take over an embedded file, under a name that no other has."""
        import pikepdf

        name = self.names.give(wanted)
        spec.UF = spec.F = pikepdf.String(name)
        for key in ("/F", "/UF"):
            if key in spec.EF:
                spec.EF[key] = self.shared.one(spec.EF[key])
        self.files[name] = spec

    def _list_files(self) -> None:
        import pikepdf

        if self.files:
            list_files(self.document, self.files)
            self.document.Root.AF = pikepdf.Array(list(self.files.values()))

    def _fronts(self) -> tuple[bytes, bytes]:
        """The cover, if one is wanted, and the contents page, whose page numbers count its own pages too."""
        job, options = self.job, self.job.options
        contents = Contents(job.title, tuple(self.entries), job.exported, job.tags)
        cover = b""
        if options.cover is not None:
            cover = self.setter.render(cover_page(options.cover, contents, options, job.record), options)
        expected = 1 + len(self.entries) // _ROWS_A_PAGE
        for _ in range(5):
            first = _count(cover) + expected + 1
            listing = self.setter.render(contents_page(contents, options, job.record, first), options)
            if _count(listing) == expected:
                return cover, listing
            expected = _count(listing)
        raise PageError("the contents page does not settle")

    def _link(self, covering: int, listing: int) -> None:
        """Let the rows of the contents page lead to their messages."""
        import pikepdf

        first = covering + listing
        for page in self.pages[covering:first]:
            for annotation in page.get("/Annots", []):
                action = annotation.get("/A")
                address = str(action.get("/URI", "")) if action is not None else ""
                if address.startswith(PART_LINK):
                    number = int(address[len(PART_LINK) :])
                    target = self._destination(first + self.starts[number], self.tops[number])
                    annotation.A = pikepdf.Dictionary(S=pikepdf.Name.GoTo, D=target)

    def _destination(self, number: int, top: float | None) -> Any:
        """Where a link to a part leads: its page, whole, or the height at which it begins on a page of several."""
        import pikepdf

        if top is None:
            return pikepdf.Array([self.pages[number], pikepdf.Name.Fit])
        return pikepdf.Array([self.pages[number], pikepdf.Name.XYZ, 0, round(top, 1), 0])

    def _number(self, covering: int, first: int) -> list[int]:
        """Put the header and footer on the pages of ours, page numbers counted through the whole. Returns their
        numbers."""
        import pikepdf

        total = len(self.pages)
        sheets: dict[tuple[float, float], list[tuple[int, HeaderFooter]]] = {}
        bounds = [*(first + start for start in self.starts), total]
        for number in range(covering, first):
            sheets.setdefault(_size(self.pages[number]), []).append((number, self.job.contents))
        for part, start, end in zip(self.job.parts, bounds, bounds[1:], strict=False):
            for number in range(start, end):
                page = self.pages[number]
                if part.marked and MARK not in page:
                    continue
                if part.marked:
                    del page[MARK]
                around_it = self.job.contents if self.job.run_on else part.header_footer
                sheets.setdefault(_size(page), []).append((number, around_it))
        # what a page has set up for itself must not turn the lines upside down
        drawn = b"\nQ q\n%s/WxRunning Do%sQ\n" % ARTIFACT
        around = self.document.make_stream(b"q\n"), self.document.make_stream(drawn)
        for size, wanted in sheets.items():
            for at in range(0, len(wanted), _PAGES_A_SHEET):
                some = wanted[at : at + _PAGES_A_SHEET]
                html = (
                    templates(self.job.options.tr)
                    .get_template("header_footer.html")
                    .render(
                        width=size[0],
                        height=size[1],
                        margin=self.job.options.margin,
                        pages=[header_footer.lines(number + 1, total) for number, header_footer in some],
                    )
                )
                overlay = self.setter.render(
                    Page(html, {}, Record(), tagged=False), replace(self.job.options, scale=1.0)
                )
                with pikepdf.open(io.BytesIO(overlay)) as lines:
                    for (number, _), page in zip(some, lines.pages, strict=True):
                        form = self.document.copy_foreign(page.as_form_xobject())
                        _draw(self.pages[number], form, around)
        return [number for wanted in sheets.values() for number, _ in wanted]


def _draw(page: Any, form: Any, around: tuple[Any, Any]) -> None:
    """Let a page draw a form over what is on it; `around` are the content streams before and behind its own."""
    import pikepdf

    if "/XObject" not in page.Resources:
        page.Resources.XObject = pikepdf.Dictionary()
    page.Resources.XObject.WxRunning = form
    held = page.Contents
    own = held if isinstance(held, pikepdf.Array) else [held]
    page.Contents = pikepdf.Array([around[0], *own, around[1]])


class _Shared:
    """What is the same in several parts, such as a font or a picture, is stored once."""

    def __init__(self, document: Any) -> None:
        self._document = document
        self._first: dict[bytes, Any] = {}
        self._digests: dict[tuple[int, int], bytes] = {}

    def join(self, page: Any) -> None:
        """Let a page use what an earlier one has brought."""
        for kind in ("/Font", "/XObject"):
            held: Any = page.Resources.get(kind) if "/Resources" in page else None
            for name in list(held.keys()) if held is not None else ():
                if name.startswith(MESSAGE):
                    self.join(held[name])
                held[name] = self.one(held[name])

    def one(self, item: Any) -> Any:
        """The first object that is the same as this one."""
        return self._first.setdefault(self._digest(item, 0), item) if item.is_indirect else item

    def _digest(self, item: Any, depth: int) -> bytes:
        """A digest of an indirect object with all that it refers to."""
        known = self._digests.get(item.objgen)
        if known is not None:
            return known
        is_stream = item._type_name == "stream"
        text = item.stream_dict.unparse(resolved=True) if is_stream else item.unparse(resolved=True)
        digest = hashlib.sha256(_REFERENCE.sub(lambda match: self._referred(match, depth), text))
        if is_stream:
            digest.update(item.read_raw_bytes())
        self._digests[item.objgen] = digest.digest()
        return digest.digest()

    def _referred(self, match: re.Match[bytes], depth: int) -> bytes:
        if depth >= _DEEPEST:  # what is nested deeper, or in circles, counts as another
            return match[0]
        return self._digest(self._document.get_object(int(match[1]), int(match[2])), depth + 1).hex().encode()


def _bookmark(title: str, page: Any) -> Any:
    """A bookmark to a page, shown whole."""
    import pikepdf

    return pikepdf.OutlineItem(title, pikepdf.Array([page, pikepdf.Name.Fit]))


def _settle(bookmarks: list[Any], pages: list[Any]) -> None:
    """Let bookmarks lead to pages in place of their numbers."""
    import pikepdf

    for item in bookmarks:
        item.destination = pikepdf.Array([pages[min(item.destination, len(pages) - 1)], pikepdf.Name.Fit])
        _settle(item.children, pages)


def _size(page: Any) -> tuple[float, float]:
    import pikepdf

    left, bottom, right, top = (float(value) for value in pikepdf.Page(page).mediabox)
    return round(right - left, 1), round(top - bottom, 1)


def _count(pdf: bytes) -> int:
    import pikepdf

    if not pdf:
        return 0
    with pikepdf.open(io.BytesIO(pdf)) as document:
        return len(document.pages)
