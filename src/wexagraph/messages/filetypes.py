"""What a file is, by its bytes: names and declared types say what somebody wanted it to be."""

from __future__ import annotations

import io
import mimetypes
import re
import zipfile

from wexagraph.zips import UNREADABLE

OFFICE = "application/vnd.openxmlformats-officedocument."
DOCX, XLSX, PPTX = (
    OFFICE + kind for kind in ("wordprocessingml.document", "spreadsheetml.sheet", "presentationml.presentation")
)
_OPEN = "application/vnd.oasis.opendocument."
ODT, ODS, ODP = (_OPEN + kind for kind in ("text", "spreadsheet", "presentation"))
DOC, XLS, PPT, RTF = (
    "application/msword",
    "application/vnd.ms-excel",
    "application/vnd.ms-powerpoint",
    "application/rtf",
)
PDF, ZIP, EML = "application/pdf", "application/zip", "message/rfc822"
PROGRAM = "application/x-executable"
KINDS = {
    PDF: "PDF",
    DOCX: "Word document",
    XLSX: "Excel workbook",
    PPTX: "PowerPoint slides",
    DOC: "old Word document",
    XLS: "old Excel workbook",
    PPT: "old PowerPoint slides",
    ODT: "OpenDocument text",
    ODS: "OpenDocument spreadsheet",
    ODP: "OpenDocument slides",
    RTF: "rich text",
    ZIP: "ZIP archive",
    EML: "message",
    PROGRAM: "program",
    "image/jpeg": "JPEG picture",
    "image/png": "PNG picture",
    "image/gif": "GIF picture",
    "image/tiff": "TIFF picture",
    "image/svg+xml": "SVG drawing",
    "text/plain": "text",
    "text/html": "HTML page",
    "text/csv": "CSV table",
    "text/calendar": "invitation",
    "text/vcard": "visiting card",
    "application/vnd.ms-outlook": "single-message file",
    "application/octet-stream": "file of no known kind",
}
"""What people call the most frequent types."""
_MAGIC = (
    (b"%PDF-", PDF),
    (b"\x89PNG\r\n\x1a\n", "image/png"),
    (b"\xff\xd8\xff", "image/jpeg"),
    (b"GIF8", "image/gif"),
    (b"BM", "image/bmp"),
    (b"II*\0", "image/tiff"),
    (b"MM\0*", "image/tiff"),
    (b"{\\rtf", RTF),
    (b"MZ", PROGRAM),
    (b"\x7fELF", PROGRAM),
    (b"\xcf\xfa\xed\xfe", PROGRAM),
    (b"#!", "text/x-script"),
    (b"BEGIN:VCALENDAR", "text/calendar"),
    (b"BEGIN:VCARD", "text/vcard"),
    (b"\x1f\x8b", "application/gzip"),
    (b"7z\xbc\xaf\x27\x1c", "application/x-7z-compressed"),
    (b"Rar!", "application/vnd.rar"),
)
_BY_NAME = {
    ".docx": DOCX,
    ".xlsx": XLSX,
    ".xlsm": XLSX,
    ".pptx": PPTX,
    ".odt": ODT,
    ".ods": ODS,
    ".odp": ODP,
    ".doc": DOC,
    ".xls": XLS,
    ".ppt": PPT,
    ".rtf": RTF,
    ".pdf": PDF,
    ".eml": EML,
    ".ics": "text/calendar",
    ".vcf": "text/vcard",
    ".csv": "text/csv",
    ".tsv": "text/tab-separated-values",
    ".md": "text/markdown",
    ".json": "application/json",
    ".xml": "application/xml",
    ".log": "text/plain",
    ".txt": "text/plain",
    ".htm": "text/html",
    ".html": "text/html",
    ".svg": "image/svg+xml",
    ".heic": "image/heic",
    ".webp": "image/webp",
    ".zip": ZIP,
}
_SAME = {  # declared so, though the bytes say the other
    "image/jpg": "image/jpeg",
    "image/pjpeg": "image/jpeg",
    "application/x-pdf": PDF,
    "application/x-zip-compressed": ZIP,
    "text/rtf": RTF,
    "application/x-zip": ZIP,
    "image/x-png": "image/png",
    "image/tif": "image/tiff",
    "image/x-ms-bmp": "image/bmp",
    "text/x-vcard": "text/vcard",
    "image/heif": "image/heic",
    "text/directory": "text/vcard",
    "application/ics": "text/calendar",
}
_VAGUE = frozenset(
    {
        "",
        "application/octet-stream",
        "application/x-download",
        "application/download",
        "application/binary",
        "text/plain",
    }
)


def recognise(content: bytes) -> str:
    """The media type that the bytes themselves tell; "" where they tell none."""
    head = content[:4096]
    if head.startswith((b"PK\x03\x04", b"PK\x05\x06")):
        return _zipped(content)
    if head.startswith(b"\xd0\xcf\x11\xe0\xa1\xb1\x1a\xe1"):
        return _compound(content)
    if head[:4] == b"RIFF" and head[8:12] == b"WEBP":
        return "image/webp"
    if head[4:8] == b"ftyp" and head[8:12] in (b"heic", b"heix", b"mif1", b"hevc", b"msf1", b"heim"):
        return "image/heic"
    if b"%PDF-" in head[:1024]:
        return PDF
    stripped = head.lstrip(b"\xef\xbb\xbf \t\r\n")
    for mark, kind in _MAGIC:
        if head.startswith(mark) or (mark.isalpha() and len(mark) > 8 and stripped.upper().startswith(mark)):
            return kind
    if re.match(rb"(?is)<\?xml[^>]*>\s*(?:<!--.*?-->\s*|<!doctype[^>]*>\s*)*<svg\b|<svg\b", stripped):
        return "image/svg+xml"
    if re.match(rb"(?i)<!doctype html|<html\b", stripped):
        return "text/html"
    return ""


def settle(name: str, declared: str, content: bytes) -> str:
    """What a file is to be treated as: by its bytes, else by its name, else as declared."""
    recognised = recognise(content)
    declared = _SAME.get(declared, declared)
    by_name = _by_name(name)
    if recognised and recognised not in ("text/x-script", ZIP):
        return recognised
    if recognised == ZIP and by_name not in (DOCX, XLSX, PPTX, ODT, ODS, ODP):
        return ZIP
    if declared in _VAGUE or declared.startswith("application/x-"):
        return by_name or declared or "application/octet-stream"
    return declared


def contradicts(name: str, declared: str, content: bytes) -> str:
    """The type that the bytes tell where it is another than name and declaration say; "" where they agree."""
    recognised = recognise(content)
    if not recognised or recognised == "text/x-script":
        return ""
    claims = {_SAME.get(declared, declared), _by_name(name)} - _VAGUE - {""}
    if not claims or recognised in claims:
        return recognised if recognised == PROGRAM and claims and claims != {PROGRAM} else ""
    return (
        ""
        if recognised == ZIP and any("zip" in c or "+" in c or "java" in c or "android" in c for c in claims)
        else recognised
    )


def _by_name(name: str) -> str:
    suffix = "." + name.rpartition(".")[2].lower() if "." in name else ""
    return _BY_NAME.get(suffix) or mimetypes.guess_type("x" + suffix)[0] or ""


def _zipped(content: bytes) -> str:
    try:
        with zipfile.ZipFile(io.BytesIO(content)) as archive:
            names = archive.namelist()[:2000]
            if "mimetype" in names and archive.getinfo("mimetype").file_size < 200:
                kind = archive.read("mimetype").decode("latin-1").strip()
                return kind if kind in (ODT, ODS, ODP) else ZIP
    except UNREADABLE:
        return ZIP
    for first, kind in (("word/document", DOCX), ("xl/workbook", XLSX), ("ppt/presentation", PPTX)):
        if any(name.startswith(first) for name in names):
            return kind
    return ZIP


def _compound(content: bytes) -> str:
    """A Compound File (MS-CFB): its streams' names, in UTF-16, tell which program wrote it."""
    for word, kind in (
        ("WordDocument", DOC),
        ("Workbook", XLS),
        ("PowerPoint Document", PPT),
        ("__nameid_version", "application/vnd.ms-outlook"),
    ):
        if word.encode("utf-16-le") in content:
            return kind
    return "application/x-ole-storage"
