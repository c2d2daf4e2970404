"""A signature in a PDF of its own (PAdES, ETSI EN 319 142-1, levels B-B and B-T). It comes behind the file as an
incremental update (ISO 32000-2, section 7.5.6): what was there, and was validated, stays to the byte."""

from __future__ import annotations

import hashlib
import io
import re
import secrets
from collections.abc import Callable, Iterator
from datetime import UTC, datetime
from typing import TYPE_CHECKING, Any, BinaryIO

from asn1crypto import cms

from wexagraph.errors import PageError
from wexagraph.protection.certificates import BROKEN
from wexagraph.protection.signatures import NotSigned, Signature, check
from wexagraph.seals.signatures import SealKey, signed

if TYPE_CHECKING:
    import pikepdf

_SUBFILTER = b"/ETSI.CAdES.detached"
_RANGE = re.compile(rb"/ByteRange \[0 (\d{10}) (\d{10}) (\d{10})\]")
_NO_RANGE = b"/ByteRange [0 0000000000 0000000000 0000000000]"
_START = re.compile(rb"startxref\s+(\d+)\s+%%EOF\s*\Z")
_ROOM, _ROOM_STAMPED = 3_000, 8_000
"""Bytes beside the certificates of the office: a signature, and one with a stamp in it."""
END = 200_000
_AT_ONCE = 1 << 20
_TRAILER = 64
Seal = Callable[[bytes], bytes]
"""Makes a stamp of a digest (SHA-256), in DER. Raises NoStamp."""


def is_sealed(end: bytes) -> bool:
    """Whether the last bytes of a PDF, at least `END` of them, hold a signature of ours."""
    return _SUBFILTER in end and _RANGE.search(end) is not None


def sealed(pdf: bytes, key: SealKey, moment: datetime, stamp: Seal | None = None, password: str = "") -> bytes:
    """The PDF with a signature behind it. `moment` is when the signer says that it was made, `stamp` asks an authority
    for the time, `password` opens a locked one. Raises PageError, NoStamp."""
    import pikepdf

    end = _START.search(pdf, max(0, len(pdf) - _TRAILER))
    if end is None:
        raise PageError("it has no end that a signature could follow")
    try:
        with pikepdf.open(io.BytesIO(pdf), password=password) as document:
            update = _update(document, len(pdf), int(end[1]), moment, _room(key, stamp is not None))
    except (pikepdf.PdfError, pikepdf.PasswordError, *BROKEN) as error:
        raise PageError(f"it can't be signed: {error}") from error
    return _signed(bytearray(pdf + update), len(pdf), key, stamp)


def _room(key: SealKey, stamped: bool) -> int:
    return sum(map(len, key.ders)) + (_ROOM_STAMPED if stamped else _ROOM)


def _signed(pdf: bytearray, start: int, key: SealKey, stamp: Seal | None) -> bytes:
    """Fill in what the signature covers, and the signature."""
    begin = pdf.index(b"/Contents <", start) + len(b"/Contents ")
    behind = pdf.index(b">", begin) + 1
    at = pdf.index(_NO_RANGE, start)
    covered = b"/ByteRange [0 %010d %010d %010d]" % (begin, behind, len(pdf) - behind)
    pdf[at : at + len(covered)] = covered
    digest = _digest(io.BytesIO(pdf), begin, behind, "sha256")
    written = signed(digest, key, None, stamp=stamp).hex().encode("ascii")
    if len(written) > behind - begin - 2:
        raise PageError(f"its signature is larger than {(behind - begin) // 2:,} bytes")
    pdf[begin + 1 : begin + 1 + len(written)] = written
    return bytes(pdf)


def _digest(pdf: BinaryIO, begin: int, behind: int, kind: str) -> bytes:
    """The digest of a file but for what stands from one byte to another."""
    digest = hashlib.new(kind)
    pdf.seek(0)
    while left := begin - pdf.tell():
        digest.update(pdf.read(min(left, _AT_ONCE)))
    pdf.seek(behind)
    while piece := pdf.read(_AT_ONCE):
        digest.update(piece)
    return digest.digest()


def _update(document: pikepdf.Pdf, at: int, before: int, moment: datetime, room: int) -> bytes:
    """What comes behind a PDF that ends at a byte: a field for a signature without a place on a page, that a reader of
    the structure is told of, and the signature, empty yet."""
    import pikepdf

    root, page = document.Root, document.pages[0].obj
    seal = document.make_indirect(pikepdf.Dictionary())
    field = document.make_indirect(
        pikepdf.Dictionary(
            Type=pikepdf.Name.Annot,
            Subtype=pikepdf.Name.Widget,
            FT=pikepdf.Name.Sig,
            T=_free_name(root),
            TU="Seal",
            V=seal,
            P=page,
            Rect=[0, 0, 0, 0],
            F=132,
        )
    )
    if "/AcroForm" not in root:
        root.AcroForm = pikepdf.Dictionary()
    form = root.AcroForm
    form.Fields = pikepdf.Array([*form.get("/Fields", []), field])
    form.SigFlags = 3
    page.Annots = pikepdf.Array([*page.get("/Annots", []), field])
    changed = [root, page, field, *_told(document, page, field), *([form] if form.is_indirect else ())]
    key = bytes(document.encryption.encryption_key) if document.is_encrypted else b""
    objects = {value.objgen[0]: _written(value, key, top=True) for value in changed}
    stated = moment.astimezone(UTC).strftime("D:%Y%m%d%H%M%SZ").encode("ascii")
    objects[seal.objgen[0]] = b"<< /Type /Sig /Filter /Adobe.PPKLite /SubFilter %s /M %s %s /Contents <%s> >>" % (
        *(_SUBFILTER, _string(stated, key), _NO_RANGE),
        b"0" * (2 * room),
    )
    return _appended(objects, document.trailer, at, before)


def _free_name(root: Any) -> str:
    taken = {str(field.get("/T", "")) for field in root.get("/AcroForm", {}).get("/Fields", [])}
    return next(name for number in range(1, len(taken) + 2) if (name := f"Seal {number}") not in taken)


def _told(document: pikepdf.Pdf, page: Any, field: Any) -> Iterator[Any]:
    """The objects of the structure tree that come to know of a field (ISO 14289-1, section 7.18.4)."""
    import pikepdf

    tree = document.Root.get("/StructTreeRoot")
    if tree is None or "/ParentTree" not in tree or not isinstance(tree.get("/K"), pikepdf.Dictionary):
        return
    holder, parents = tree.K, tree.ParentTree
    if "/Nums" not in parents:
        return
    held = pikepdf.Dictionary(Type=pikepdf.Name.OBJR, Obj=field, Pg=page)
    element = document.make_indirect(
        pikepdf.Dictionary(Type=pikepdf.Name.StructElem, S=pikepdf.Name.Form, P=holder, Pg=page, K=held)
    )
    kids = holder.get("/K", pikepdf.Array())
    holder.K = pikepdf.Array([*(kids if isinstance(kids, pikepdf.Array) else [kids]), element])
    numbers = list(parents.Nums)
    following = max((int(number) for number in numbers[::2]), default=-1) + 1
    parents.Nums = pikepdf.Array([*numbers, following, element])
    tree.ParentTreeNextKey = following + 1
    field.StructParent = following
    yield from (element, holder, tree)
    if parents.is_indirect:
        yield parents


def _written(value: Any, key: bytes, top: bool = False) -> bytes:
    """An object as it stands in a file; strings are locked by a `key` where there is one (section 7.6.3.2)."""
    import pikepdf

    if isinstance(value, pikepdf.Object):
        if value.is_indirect and not top:
            return b"%d %d R" % value.objgen
        if isinstance(value, pikepdf.Dictionary):
            pairs = (pikepdf.Name(name).unparse() + b" " + _written(each, key) for name, each in value.items())
            return b"<< " + b" ".join(pairs) + b" >>"
        if isinstance(value, pikepdf.Array):
            return b"[ " + b" ".join(_written(each, key) for each in value) + b" ]"
        if isinstance(value, pikepdf.String):
            return _string(bytes(value), key)
        return value.unparse()
    return b"null" if value is None else str(value).lower().encode("ascii")


def _string(text: bytes, key: bytes) -> bytes:
    if key:
        from cryptography.hazmat.primitives.ciphers import Cipher, algorithms, modes
        from cryptography.hazmat.primitives.padding import PKCS7

        start, padder = secrets.token_bytes(16), PKCS7(128).padder()
        locking = Cipher(algorithms.AES(key), modes.CBC(start)).encryptor()
        text = start + locking.update(padder.update(text) + padder.finalize()) + locking.finalize()
    return b"<%s>" % text.hex().encode("ascii")


def _appended(objects: dict[int, bytes], trailer: Any, at: int, before: int) -> bytes:
    """Objects as an update that begins at a byte, behind the cross-references that begin at another."""
    out, offsets = bytearray(b"\n"), {}
    for number, content in objects.items():
        offsets[number] = at + len(out)
        out += b"%d 0 obj\n%s\nendobj\n" % (number, content)
    last = max(max(objects) + 1, int(trailer.get("/Size", 0)))
    offsets[last] = start = at + len(out)
    rows = b"".join(b"\1" + offsets[number].to_bytes(5, "big") + b"\0\0" for number in sorted(offsets))
    index = b" ".join(b"%d 1" % number for number in sorted(offsets))
    out += b"%d 0 obj\n<< /Type /XRef /Size %d /W [1 5 2] /Index [%s] /Prev %d /Length %d " % (
        *(last, last + 1, index, before, len(rows)),
    )
    for name in ("/Root", "/Info", "/Encrypt", "/ID"):
        if name in trailer:
            out += name.encode("ascii") + b" " + _written(trailer[name], b"") + b" "
    out += b">>\nstream\n" + rows + b"\nendstream\nendobj\nstartxref\n%d\n%%%%EOF\n" % start
    return bytes(out)


def check_pdf(pdf: BinaryIO) -> Signature:
    """The signature at the end of a PDF, where it holds and covers all of it; no more than a piece of the file is held
    at a time. Raises NotSigned."""
    size = pdf.seek(0, io.SEEK_END)
    pdf.seek(max(0, size - END))
    ranges = list(_RANGE.finditer(pdf.read()))
    if not ranges:
        raise NotSigned("it has no signature")
    begin, behind, rest = map(int, ranges[-1].groups())
    if not (begin < behind < begin + END and behind + rest == size):
        raise NotSigned("its signature does not cover all of it")
    pdf.seek(begin)
    written = pdf.read(behind - begin)
    if not (written.startswith(b"<") and written.endswith(b">")):
        raise NotSigned("its signature does not cover all of it")
    try:
        info = cms.ContentInfo.load(bytes.fromhex(written[1:-1].decode("ascii")))
    except BROKEN as error:
        raise NotSigned("its signature is damaged") from error
    return check(info, lambda kind: _digest(pdf, begin, behind, kind))
