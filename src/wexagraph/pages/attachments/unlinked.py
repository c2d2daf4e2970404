"""Documents without what they refer to elsewhere: pictures, sections and tables of other files and of the network.

An office suite loads them as it opens a document, so that a letter could bring a file of the clerk's own into its page.
Links that are only followed when somebody clicks on them stay.
"""

from __future__ import annotations

import io
import re
import zipfile
from collections.abc import Callable
from html import unescape

from wexagraph.pages.attachments.sheets import bounded_zip

_ATTRIBUTE = rb"""\s*=\s*("[^"]*"|'[^']*')"""
_ELEMENT = re.compile(rb"<([\w.:-]+)(\s[^<>]*?)?(/?)>", re.DOTALL)
_HREF = re.compile(rb"(\s[\w.-]+:href)" + _ATTRIBUTE)
_LOADED_BY_FORMULA = re.compile(rb"""(\s[\w.-]+:formula)\s*=\s*("[^"]*'?#[^"]*"|'[^']*#[^']*')""")
_RELATIONSHIP = re.compile(rb"<([\w.-]+:)?Relationship\s[^<>]*?/?>", re.DOTALL)
_CLICKED = frozenset({b"a"})
"""Elements of OpenDocument whose references are followed by a click alone."""
_OF_RTF = re.compile(rb"\\(fldinst|objautlink|objlink|objupdate|template|subdocument|filetbl)(?![a-z])|pibName")
"""Control words of RTF behind which something else is named to be loaded. What a field has shown stays."""


def without_references(content: bytes, suffix: str) -> bytes:
    """A document less what it would load. Raises ValueError where it can't be read as what it is."""
    if suffix == ".rtf":
        return _OF_RTF.sub(lambda match: match[0][:-1] + b"x", content)
    if suffix in (".odt", ".ods", ".odp"):
        return _rewritten(content, (".xml",), _opendocument)
    if suffix == ".pptx":
        return _rewritten(content, (".rels",), _relationships)
    return content


def _rewritten(content: bytes, endings: tuple[str, ...], change: Callable[[bytes], bytes]) -> bytes:
    """A ZIP in which the parts with these endings are changed."""
    out = io.BytesIO()
    try:
        bounded_zip(content)
        with zipfile.ZipFile(io.BytesIO(content)) as old, zipfile.ZipFile(out, "w", zipfile.ZIP_DEFLATED) as new:
            for info in old.infolist():
                data = old.read(info)
                new.writestr(info, change(_as_utf8(data)) if info.filename.lower().endswith(endings) else data)
    except (zipfile.BadZipFile, RuntimeError, NotImplementedError, OSError, EOFError) as error:
        raise ValueError(f"the document can't be read: {error}") from error
    return out.getvalue()


def _as_utf8(xml: bytes) -> bytes:
    """The XML of a part, without entities of its own. Raises ValueError."""
    if xml[:2] in (b"\xff\xfe", b"\xfe\xff"):
        xml = xml.decode("utf-16", "replace").replace('encoding="UTF-16"', "").encode("utf-8")
    if b"<!DOCTYPE" in xml[:4096].upper() or b"<!ENTITY" in xml:
        raise ValueError("the document defines entities")
    return xml


def _opendocument(xml: bytes) -> bytes:
    """OpenDocument 1.3, part 3, section 19.918: where `href` leads out of the package, it leads nowhere."""

    def element(match: re.Match[bytes]) -> bytes:
        name, attributes, end = match[1].rpartition(b":")[2], match[2] or b"", match[3]
        if name not in _CLICKED:
            attributes = _HREF.sub(lambda href: href[1] + b'=""' if _leads_out(href[2][1:-1]) else href[0], attributes)
        if b"#" in attributes:
            attributes = _LOADED_BY_FORMULA.sub(b"", attributes)
        if b"dde-" in attributes:
            attributes = re.sub(rb"\s[\w.-]+:dde-[\w-]+" + _ATTRIBUTE, b"", attributes)
        return b"<" + match[1] + attributes + end + b">"

    return _ELEMENT.sub(element, xml)


def _leads_out(reference: bytes) -> bool:
    text = unescape(reference.decode("utf-8", "replace")).strip()
    return bool(text) and (
        ":" in text.partition("/")[0] or text.startswith(("/", "\\")) or ".." in re.split(r"[/\\]", text)
    )


def _relationships(xml: bytes) -> bytes:
    """ECMA-376 part 2, section 9.3: relationships with targets outside the package, but for hyperlinks."""

    def kept(match: re.Match[bytes]) -> bytes:
        external = re.search(rb"""TargetMode\s*=\s*["']External["']""", match[0], re.IGNORECASE)
        return match[0] if not external or b"/hyperlink" in match[0] else b""

    return _RELATIONSHIP.sub(kept, xml)
