"""A finished PDF: what is embedded in it (ISO 32000-2, section 7.11.4), and bytes that are the same every time."""

from __future__ import annotations

import io
from collections.abc import Sequence
from dataclasses import dataclass
from datetime import UTC, datetime
from typing import Any, BinaryIO

from wexagraph.naming.paths import FreeNames
from wexagraph.notes import Note
from wexagraph.pages.composing.properties import Record, describe
from wexagraph.pages.options import Lock
from wexagraph.pages.pdf.archival import as_archival
from wexagraph.pages.pdf.foreign import bookmarks_of, disarm
from wexagraph.pages.pdf.pieces import Piece
from wexagraph.pages.tagging.joining import Annotations, Trees

LINK = "attachment:"
"""What the list of attachments on a page links to, with a number behind it, until `finish` connects it."""


@dataclass(frozen=True)
class Embedded:
    """A file to embed: its name as it came, media type, bytes, a description for people, and its relationship to the
    document (ISO 32000-2, section 7.11.3: Source, Data, Unspecified). `number` is its place among the attachments."""

    name: str
    type: str
    content: bytes
    description: str = ""
    relationship: str = "Unspecified"
    number: int | None = None


def finish(
    pdf: bytes,
    files: Sequence[Embedded],
    record: Record,
    pieces: Sequence[Piece] = (),
    *,
    archival: bool = False,
    front: bytes = b"",
    part: bool = False,
    openers: bool = True,
    lock: Lock | None = None,
) -> tuple[bytes, list[Note]]:
    """The PDF with a cover in front of it, pages behind it, bookmarks to them, and files embedded under safe names.

    With `archival` it is made PDF/A-3 (ISO 19005-3; see `archival`) and validated as written; one that does not conform
    is written as an ordinary PDF, and a note says so. `openers` lets the list of attachments on the page open the
    embedded files, which PDF/A does not approve. In a `part` of a bound PDF the pages that get header and footer are
    marked. With a `lock` it is encrypted. The same input gives the same bytes, but for a lock, which has chance in it.
    Raises ValueError or RuntimeError where something can't be joined.
    """
    import pikepdf

    starts: dict[int, int] = {}
    with pikepdf.open(io.BytesIO(pdf)) as document:
        trees = Trees(document)
        trees.begin(record.title if pieces or front else "")
        own = len(document.pages)
        if part and pieces:
            mark(document.pages)
        if pieces:
            with document.open_outline() as outline:
                outline.root.append(pikepdf.OutlineItem(record.title[:300] or "Message", 0))
                starts = _append(document, pieces, outline.root, part, trees)
        embedded = _embed(document, files, record.moment)
        _connect(document, own, starts, embedded if openers and not archival else {})
        if front:
            put_in_front(document, front, trees)
        trees.write(record.language)
        describe(document, record, trees.whole)
        if archival:
            archived = as_archival(document, record)
            if isinstance(archived, bytes):
                return archived, []
            more = {"front": front, "openers": openers}
            return finish(pdf, files, record, pieces, **more)[0], [archived]  # type: ignore[arg-type]
        out = io.BytesIO()
        save(document, out, lock)
    return out.getvalue(), []


def join(pieces: Sequence[Piece], record: Record, out: BinaryIO, archival: bool = False) -> list[Note]:
    """Write a PDF of pieces alone, a bookmark to each, into `out`. Returns notes as `finish` does.

    Raises ValueError or RuntimeError where something can't be joined, OSError where the disk fails.
    """
    import pikepdf

    with pikepdf.new() as document:
        trees = Trees(document)
        with document.open_outline() as outline:
            _append(document, pieces, outline.root, False, trees)
        trees.write(record.language)
        describe(document, record, trees.whole)
        archived = as_archival(document, record) if archival else None
        if isinstance(archived, bytes):
            out.write(archived)
            return []
        save(document, out)
        return [archived] if archived is not None else []


def save(document: Any, out: BinaryIO, lock: Lock | None = None) -> None:
    """Write a document, encrypted with AES-256 where there is a lock (ISO 32000-2, section 7.6)."""
    import pikepdf

    packed: dict[str, Any] = {"object_stream_mode": pikepdf.ObjectStreamMode.generate}
    if lock is None:
        document.save(out, deterministic_id=True, **packed)
        return
    may = set(lock.allow)
    allow = pikepdf.Permissions(
        accessibility=True,
        extract="copy" in may,
        modify_annotation="comment" in may,
        modify_form="comment" in may,
        modify_assembly="assemble" in may,
        modify_other=False,
        print_lowres="print" in may,
        print_highres="print" in may,
    )
    owner = lock.owner or lock.user
    document.save(out, encryption=pikepdf.Encryption(owner=owner, user=lock.user, R=6, allow=allow), **packed)


MARK = "/WxOwn"
"""On a page of a part of a bound PDF that gets header and footer; taken away when they are put there."""


def mark(pages: Any) -> None:
    """Mark pages of ours in a part of a bound PDF."""
    for page in pages:
        page.obj[MARK] = True


def put_in_front(document: Any, front: bytes, trees: Trees) -> None:
    """Put the pages of a PDF in front of a document. Bookmarks keep their pages."""
    import pikepdf

    with pikepdf.open(io.BytesIO(front)) as sheet:
        for number, page in enumerate(sheet.pages):
            document.pages.insert(number, page)
        pages = (document.pages[number].obj for number in range(len(sheet.pages)))
        trees.take(sheet, pages, str(sheet.docinfo.get("/Title", "")), front=True)


def _embed(document: Any, files: Sequence[Embedded], moment: datetime | None) -> dict[int, Any]:
    """Embed files. Returns the file specifications of those that are attachments, by their numbers in the message."""
    import pikepdf

    names, specs = FreeNames(), dict[str, Any]()
    embedded: dict[int, Any] = {}
    for file in files:
        name = names.give(file.name)
        about: dict[str, Any] = {
            "filename": name,
            "mime_type": file.type,
            "description": file.description,
            "relationship": pikepdf.Name("/" + file.relationship),
            "creation_date": _pdf_date(moment),
            "mod_date": _pdf_date(moment),
        }
        specs[name] = pikepdf.AttachedFileSpec(document, file.content, **about).obj
        if file.number is not None:
            embedded[file.number] = specs[name]
    list_files(document, specs)
    return embedded


def list_files(document: Any, specs: dict[str, Any]) -> None:
    """Name embedded files, of which a document has none yet, in its catalogue (ISO 32000-2, section 7.7.4)."""
    import pikepdf

    if specs:
        tree = pikepdf.NameTree.new(document)
        for name, spec in sorted(specs.items()):
            tree[name] = spec
        names = document.Root.get("/Names", pikepdf.Dictionary())
        names.EmbeddedFiles = tree.obj
        document.Root.Names = names


def _connect(document: Any, own: int, starts: dict[int, int], embedded: dict[int, Any]) -> None:
    """Let the list of attachments on the page lead somewhere: to their pages, else to the files inside.

    The engine has written each name as a link to `attachment:N`.
    """
    import pikepdf

    annotations = Annotations(document)
    for page in (document.pages[number] for number in range(own)):
        kept = []
        for annotation in page.get("/Annots", []):
            address = str(annotation.get("/A", {}).get("/URI", ""))
            number = int(address[len(LINK) :]) if address.startswith(LINK) and address[len(LINK) :].isdigit() else None
            if number is None:
                kept.append(annotation)
            elif number in starts:
                target = document.pages[starts[number]].obj
                annotation.A = pikepdf.Dictionary(S=pikepdf.Name.GoTo, D=pikepdf.Array([target, pikepdf.Name.Fit]))
                kept.append(annotation)
            elif number in embedded:
                kept.append(_opener(document, annotation.Rect, embedded[number]))
                annotations.exchange(annotation, kept[-1])
            else:
                annotations.exchange(annotation, None)
        if "/Annots" in page:
            page.Annots = pikepdf.Array(kept)


def _opener(document: Any, rectangle: Any, spec: Any) -> Any:
    """An annotation that opens an embedded file (ISO 32000-2, section 12.5.6.15), without a look of its own."""
    import pikepdf

    left, bottom, right, top = (float(value) for value in rectangle)
    blank = document.make_stream(
        b"", Type=pikepdf.Name.XObject, Subtype=pikepdf.Name.Form, BBox=[0, 0, abs(right - left), abs(top - bottom)]
    )
    return document.make_indirect(
        pikepdf.Dictionary(
            Type=pikepdf.Name.Annot,
            Subtype=pikepdf.Name.FileAttachment,
            Rect=rectangle,
            F=4,
            FS=spec,
            Contents=spec.UF,
            AP=pikepdf.Dictionary(N=blank),
        )
    )


def _append(document: Any, pieces: Sequence[Piece], bookmarks: list[Any], part: bool, trees: Trees) -> dict[int, int]:
    """Put pages behind a document, and a bookmark to each piece with its own below it.

    Returns the page on which each begins, by its number.
    """
    import pikepdf

    starts = {}
    for piece in pieces:
        first = len(document.pages)
        starts[piece.number] = first
        with pikepdf.open(piece.source) as source:
            below = bookmarks_of(source, first)
            if piece.foreign:
                disarm(source)
            document.pages.extend(source.pages)
            pages = (document.pages[number].obj for number in range(first, len(document.pages)))
            trees.take(source, pages, piece.name)
        if part and not piece.foreign:
            mark(document.pages[number] for number in range(first, len(document.pages)))
        item = pikepdf.OutlineItem(piece.name[:300], first)
        item.children.extend(below)
        bookmarks.append(item)
        _append(document, piece.below, item.children, part, trees)
    return starts


def _pdf_date(moment: datetime | None) -> str:
    moment = (moment or datetime(1980, 1, 1, tzinfo=UTC)).astimezone(UTC)
    return f"D:{moment:%Y%m%d%H%M%S}Z"
