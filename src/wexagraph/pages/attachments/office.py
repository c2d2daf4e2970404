"""Documents: DOCX by mammoth; what only an office suite reads by LibreOffice, where it is installed."""

from __future__ import annotations

import base64
import io
import os
import re
import shutil
import signal
import subprocess
import sys
import zipfile
from collections.abc import Callable
from functools import cache
from html import unescape
from pathlib import Path
from typing import Any
from xml.etree import ElementTree

from wexagraph.pages.attachments.sheets import bounded_zip
from wexagraph.temporary import TemporaryFolder

_ATTRIBUTE = rb"""\s*=\s*("[^"]*"|'[^']*')"""
_ELEMENT = re.compile(rb"<([\w.:-]+)(\s[^<>]*?)?(/?)>", re.DOTALL)
_HREF = re.compile(rb"(\s[\w.-]+:href)" + _ATTRIBUTE)
_LOADED_BY_FORMULA = re.compile(rb"""(\s[\w.-]+:formula)\s*=\s*("[^"]*'?#[^"]*"|'[^']*#[^']*')""")
_RELATIONSHIP = re.compile(rb"<([\w.-]+:)?Relationship\s[^<>]*?/?>", re.DOTALL)
_CLICKED = frozenset({b"a"})
"""Elements of OpenDocument whose references are followed by a click alone."""
_OF_RTF = re.compile(rb"\\(fldinst|objautlink|objlink|objupdate|template|subdocument|filetbl)(?![a-z])|pibName")
"""Control words of RTF behind which something else is named to be loaded. What a field has shown stays."""
PATIENCE = 19.0
_SUFFIXES = {
    "application/vnd.oasis.opendocument.text": ".odt",
    "application/vnd.oasis.opendocument.spreadsheet": ".ods",
    "application/vnd.oasis.opendocument.presentation": ".odp",
    "application/msword": ".doc",
    "application/vnd.ms-excel": ".xls",
    "application/vnd.ms-powerpoint": ".ppt",
    "application/rtf": ".rtf",
    "application/vnd.openxmlformats-officedocument.presentationml.presentation": ".pptx",
}
SUITE_TYPES = frozenset(_SUFFIXES)


_WORD = "{http://schemas.openxmlformats.org/wordprocessingml/2006/main}"
_BODY = "word/document.xml"
_LEFT_OUT = {f"{_WORD}del", f"{_WORD}moveFrom"}
"""Tracked changes that took text away (ECMA-376 part 1, sections 17.13.5.14 and 17.13.5.22)."""
_MOST_RUNNING = 12
_STYLES = "comment-reference => sup"


def document_html(content: bytes) -> str:
    """A DOCX as HTML, pictures inside it: not clean. Headers and footers stand before and behind the text, tracked
    deletions are struck through, comments stand at the end. Raises ValueError."""
    bounded_zip(content)
    try:
        with zipfile.ZipFile(io.BytesIO(content)) as package:
            parts = {info.filename: package.read(info) for info in package.infolist()}
        running = _running(parts)
        text = _as_html({**parts, _BODY: _with_changes(parts[_BODY])})
        around = {
            kind: "".join(dict.fromkeys(_as_html(_with_body(parts, name)) for name in running if f"/{kind}" in name))
            for kind in ("header", "footer")
        }
    except Exception as error:  # the libraries' errors on broken documents are of every kind
        raise ValueError(f"the document can't be read: {type(error).__name__}") from error
    return f"{around['header']}{text}{around['footer']}"


def _as_html(parts: dict[str, bytes]) -> str:
    import mammoth

    def picture(image: Any) -> dict[str, str]:
        try:
            with image.open() as file:
                packed = base64.b64encode(file.read()).decode("ascii")
        except (KeyError, ValueError, OSError):  # it lies elsewhere, or nowhere: a frame stands for it
            return {"src": ""}
        return {"src": f"data:{image.content_type};base64,{packed}"}

    packed = io.BytesIO()
    with zipfile.ZipFile(packed, "w") as package:
        for name, data in parts.items():
            package.writestr(name, data)
    show = mammoth.images.img_element(picture)
    return str(mammoth.convert_to_html(packed, convert_image=show, style_map=_STYLES).value)


def _running(parts: dict[str, bytes]) -> list[str]:
    """The parts that are headers and footers, those of first pages first."""
    names = [name for name in sorted(parts) if re.fullmatch(r"word/(header|footer)\d*\.xml", name)]
    return names[:_MOST_RUNNING]


def _with_body(parts: dict[str, bytes], name: str) -> dict[str, bytes]:
    """The package with a header or footer for its text."""
    root = ElementTree.fromstring(_as_utf8(parts[name]))
    document = ElementTree.Element(f"{_WORD}document")
    ElementTree.SubElement(document, f"{_WORD}body").extend(root)
    relations = parts.get(f"word/_rels/{name.rpartition('/')[2]}.rels")
    changed = {**parts, _BODY: _with_changes(ElementTree.tostring(document))}
    if relations is not None:
        changed["word/_rels/document.xml.rels"] = relations
    return changed


def _with_changes(xml: bytes) -> bytes:
    """A text with what tracked changes took away, struck through."""
    if not any(name in xml for name in (b":del", b":moveFrom", b":moveTo")):
        return xml
    root = ElementTree.fromstring(_as_utf8(xml))
    for removed in [element for element in root.iter() if element.tag in _LEFT_OUT]:
        for run in removed.iter(f"{_WORD}r"):
            looks = run.find(f"{_WORD}rPr")
            if looks is None:
                looks = ElementTree.Element(f"{_WORD}rPr")
                run.insert(0, looks)
            ElementTree.SubElement(looks, f"{_WORD}strike")
            for text in run.iter(f"{_WORD}delText"):
                text.tag = f"{_WORD}t"
        removed.tag = f"{_WORD}ins"
    for moved in root.iter(f"{_WORD}moveTo"):
        moved.tag = f"{_WORD}ins"
    return ElementTree.tostring(root)


def suite() -> str | None:
    """The program of the office suite, where it is installed."""
    return shutil.which("soffice") or shutil.which("libreoffice")


def _environment() -> dict[str, str]:
    """What another program needs of the environment: no password that stands in ours."""
    kept = ("PATH", "LANG", "LC_ALL", "LC_CTYPE", "TMPDIR", "SYSTEMROOT", "TEMP")
    return {name: os.environ[name] for name in kept if name in os.environ}


_APART = r"""set -e
folder=$1 home=$2 root=$1/root; shift 2
mkdir "$root"
mount -t tmpfs -o mode=755 tmpfs "$root"
for name in usr lib lib32 lib64 bin sbin etc opt; do
    if [ -L "/$name" ]; then cp -P "/$name" "$root/$name"
    elif [ -d "/$name" ]; then mkdir "$root/$name"; mount --rbind "/$name" "$root/$name"; fi
done
mkdir -p "$root/proc" "$root/dev" "$root/tmp" "$root$folder"
mount -t proc proc "$root/proc"
for name in null zero random urandom; do : >"$root/dev/$name"; mount --bind "/dev/$name" "$root/dev/$name"; done
mount --bind "$folder" "$root$folder"
[ -e "$root$home" ] || { mkdir -p "$root$home"; mount --bind "$home" "$root$home"; }
exec chroot "$root" "$@"
"""
"""Runs a program where there are only the system's own files, one folder, and the program's own home."""
_NAMESPACES = ("--user", "--map-root-user", "--net", "--mount", "--pid", "--ipc", "--fork", "--kill-child")


@cache
def _runs_apart() -> bool:
    """Whether this system lets a program have its own network and files (Linux namespaces)."""
    if sys.platform != "linux" or not (shutil.which("unshare") and shutil.which("setpriv")):
        return False
    with TemporaryFolder() as place:
        tried = subprocess.run(_apart(["/bin/true"], place), capture_output=True, check=False, env=_environment())
    return tried.returncode == 0


def _apart(command: list[str], place: Path) -> list[str]:
    """The command that runs another with the system's files and one folder alone, and that ends with this process."""
    ending = ["setpriv", "--pdeathsig", "KILL", "unshare", *_NAMESPACES]
    home = Path(command[0]).resolve().parent
    home = home.parent if home.name == "program" else home  # as an office suite is laid out
    return [*ending, "sh", "-c", _APART, "sh", str(place.resolve()), str(home), *command]


def suite_pdf(content: bytes, kind: str) -> bytes:
    """A document as PDF by LibreOffice: headless, with a profile of its own, for a limited time, without network and
    other files where the system allows that. Raises ValueError."""
    program = suite()
    if program is None:
        raise ValueError("LibreOffice is not installed here")
    content = without_references(content, _SUFFIXES[kind])
    with TemporaryFolder() as place:
        folder = str(place := place.resolve())
        given = place / f"attachment{_SUFFIXES[kind]}"
        given.write_bytes(content)
        command = [
            program,
            "--headless",
            "--norestore",
            "--nolockcheck",
            f"-env:UserInstallation={(place / 'profile').as_uri()}",
            "--convert-to",
            "pdf",
            "--outdir",
            folder,
            str(given),
        ]
        # macros stay off by the profile's default for documents without a trusted place
        process = subprocess.Popen(
            _apart(command, place) if _runs_apart() else command,
            stdin=subprocess.DEVNULL,
            stdout=subprocess.DEVNULL,
            stderr=subprocess.DEVNULL,
            cwd=folder,
            start_new_session=True,
            env={
                **_environment(),
                "HOME": folder,
                "TMPDIR": folder,
                **dict.fromkeys(("http_proxy", "https_proxy", "ftp_proxy", "all_proxy"), "http://127.0.0.1:9"),
            },
        )
        try:
            process.wait(PATIENCE)
        except subprocess.TimeoutExpired as error:
            raise ValueError(f"LibreOffice took more than {PATIENCE:.0f} seconds") from error
        finally:
            if process.poll() is None:
                os.killpg(process.pid, signal.SIGKILL)
                process.wait()
        made = given.with_suffix(".pdf")
        if not made.is_file():
            if process.returncode:
                raise ValueError(f"LibreOffice made nothing of it (exit code {process.returncode})")
            raise ValueError(
                "the LibreOffice of this machine can't open it. Is the part for such files installed (Writer, Calc, "
                "Impress)?"
            )
        return made.read_bytes()


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
