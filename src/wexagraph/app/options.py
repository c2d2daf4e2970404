"""The options of commands as plain data: a dictionary by the names of the command line, and what is made of it.

An order, a case or a terminal view builds a command's options from here, as the command line does.
"""

from __future__ import annotations

import os
import re
from collections.abc import Callable, Mapping
from dataclasses import replace
from datetime import datetime
from difflib import get_close_matches
from pathlib import Path
from typing import Any

from wexagraph.app.locales import language_code, scan_languages, usual_paper, zone_name
from wexagraph.app.option_table import EXPORT, PAGE_OPTIONS
from wexagraph.app.option_values import attachment_ways, index_options, margins, paper, percent, words
from wexagraph.app.rows import BUILT_IN, defaults
from wexagraph.app.secrets import PROMPT, Prompt, is_token, secret
from wexagraph.errors import CallError
from wexagraph.exports.options import ATTACHMENTS as ALONE
from wexagraph.exports.options import BOUND_PATTERN, FORMATS, NO_LOCKED_ARCHIVE, ExportOptions
from wexagraph.files import open_regular
from wexagraph.naming.paths import REGISTERS
from wexagraph.naming.patterns import DEFAULT_PATTERN, NamePattern, TextPattern
from wexagraph.pages.options import (
    ALLOWED,
    PROPERTIES,
    PROPERTY_NAMES,
    Cover,
    Lock,
    PageOptions,
)
from wexagraph.reports import Sealing

Plain = Mapping[str, Any]
"""Options by their names on the command line, without the dashes in front; what is not named has its default."""
PAGE_DEFAULTS, EXPORT_DEFAULTS = defaults(PAGE_OPTIONS), defaults(EXPORT)
_OCR_PATIENCE = 4 * 3600.0  # a page of its own has a limit in pages/scans
_MOST_TEMPLATE = 1_000_000
_MOST_PICTURE = 20_000_000
_COVER_TIMEOUT = 20.0
_PICTURES = {
    ".png": "image/png",
    ".jpg": "image/jpeg",
    ".jpeg": "image/jpeg",
    ".gif": "image/gif",
    ".svg": "image/svg+xml",
}


def export_options(
    plain: Plain,
    prompt: Prompt | None = None,
    exported: datetime | None = None,
    case: tuple[str, str] | None = None,
    index_title: str = "",
) -> ExportOptions:
    """The options of an export; `prompt` asks for passwords, `exported` dates cover sheets, `case` is the reference and
    the title of what is filed, `index_title` that of the page to browse. Raises CallError."""
    values = filled(plain, EXPORT_DEFAULTS)
    for name in ("name", "title", "header", "footer") if case is None else ():
        if field := re.search(r"\{(case(?:_title)?)[}:!]", str(values[name] or "")):
            raise CallError(f"--{name} has no field {{{field[1]}}} here: `wexagraph file` knows what it files under.")
    pattern = values["name"]
    called = TextPattern(values["title"], "title") if values["title"] is not None else None
    formats = words(values["as"], tuple(FORMATS), "format")
    if ALONE in formats:
        values["attachments"] = _beside(values["attachments"], formats)
    page = replace(page_options(values), case=case or ("", ""), title=None if values["bind"] else called)
    bound = NamePattern(BOUND_PATTERN if pattern is None else pattern, values["bind"] == "all")
    return ExportOptions(
        formats=formats,
        pattern=NamePattern(DEFAULT_PATTERN if pattern is None or bound.is_constant else pattern),
        flat=values["flat"],
        page=page,
        engine=values["engine"],
        jobs=values["jobs"] or os.cpu_count() or 1,
        timeout=values["patience"] if not page.ocr else _OCR_PATIENCE,
        bind=values["bind"] or "",
        bound=bound,
        title=called if values["bind"] else None,
        unquote=values["unquote"],
        run_on=values["run-on"],
        remote_images=values["remote-images"],
        remote_hosts=tuple(host.strip().lower() for host in values["remote-host"]),
        tags=tuple(TextPattern(tag, "tag") for tag in values["tag"]),
        lock=_lock(values, prompt),
        exported=exported,
        cluster=values["cluster"] or "",
        registers=register_forms(values["register"]),
        carried=values["carried"],
        numbered=values["numbered"],
        sealing=sealing(values, prompt),
        index=index_options(values, page.language, index_title or " ".join(case or ())) if values["index"] else None,
    )


def sealing(values: Plain, prompt: Prompt | None) -> Sealing | None:
    """How a folder is sealed; None where it is not. The key is tried before hours of work. Raises CallError,
    SourceError."""
    key, where, stamp, each = values["seal"], values["seal-password"], values["stamp"], values.get("seal-each", False)
    if each and key is None:
        raise CallError("--seal-each seals with a key: add --seal KEY.")
    if key is None and stamp is None:
        if where is not None:
            raise CallError("--seal-password is that of a key: add --seal KEY.")
        return None
    from wexagraph.seals.signatures import read_key
    from wexagraph.seals.stamps import check_address

    if stamp is not None:
        check_address(stamp)
    if key is None:
        return Sealing(stamp=stamp)
    if not is_token(key):
        key = str(Path(key).expanduser().absolute())
    password = secret(where or PROMPT, "--seal-password", _once(prompt))
    read_key(key, password)
    return Sealing(key, password, stamp or "", each)


def _once(prompt: Prompt | None) -> Prompt | None:
    """Asks for a secret that there is already, so not twice."""
    return (lambda what, new: prompt(what, False)) if prompt is not None else None


def _beside(ways: Any, formats: tuple[str, ...]) -> list[str]:
    """The ways of attachments where their files are asked for as a format of their own: beside, besides others."""
    given = [ways] if isinstance(ways, str) else list(ways)
    if formats == (ALONE,) and given == [EXPORT_DEFAULTS["attachments"]]:
        return ["beside"]  # no page is made that could have them inside
    return given if "beside" in attachment_ways(given) else [*given, "beside"]


def register_forms(text: str) -> tuple[str, ...]:
    """The forms of the register beside what is made; none for "none". Raises CallError."""
    return () if text == "none" else words(text, tuple(REGISTERS), "form of a register")


def page_options(plain: Plain) -> PageOptions:
    """The options of pages. Raises CallError."""
    values = filled({name: plain[name] for name in plain if name in PAGE_DEFAULTS}, PAGE_DEFAULTS)
    ways = attachment_ways(values["attachments"])
    language = language_code(values["language"])
    ocr = scan_languages(values["ocr"], language)
    if ocr and "pages" not in ways:
        raise CallError("--ocr recognises text on pages of attachments: it needs --attachments pages.")
    return PageOptions(
        zone=zone_name(values["zone"]),
        paper=paper(values["paper"]) if values["paper"] is not None else usual_paper(),
        landscape=values["landscape"],
        margin=margins(values["margin"]),
        scale=percent(values["scale"]) / 100,
        background=values["background"],
        header=_line(values["header"]),
        footer=_line(values["footer"]),
        text_font=values["text-font"],
        text_size=values["text-size"],
        attachments=tuple(sorted(ways)),
        narrowed=tuple(sorted((way, values) for way, values in ways.items() if values)),
        open_zips=values["open-zips"],
        archival=values["archival"],
        evidence=values["evidence"],
        headers=values["headers"],
        cover=_cover(values["cover"]),
        properties=_properties(values["property"]),
        show_hidden=values["show-hidden"],
        read_back=values["read-back"],
        language=language,
        ocr=ocr,
    )


def _line(text: str) -> str:
    """A header or footer; "none" is none."""
    return "" if text.strip().lower() == "none" else text


def filled(plain: Plain, defaults: dict[str, Any]) -> dict[str, Any]:
    """All options, those that are not named with their defaults. Raises CallError for a name that there is not."""
    for name in plain:
        if name not in defaults:
            near = get_close_matches(name, defaults, n=1)
            raise CallError(f"there is no option {name!r}." + (f" Did you mean {near[0]}?" if near else ""))
    return defaults | dict(plain)


def _lock(values: Plain, prompt: Prompt | None) -> Lock | None:
    """The passwords of the PDFs. Raises CallError."""
    user, owner, allow = values["password"], values["owner-password"], values["allow"] or None
    if allow is not None and owner is None:
        raise CallError("--allow binds nobody without a second password that it is for: add --owner-password.")
    if user is None and owner is None:
        return None
    if values["archival"]:
        raise CallError(NO_LOCKED_ARCHIVE)  # before anybody types a password
    if (values["cluster"] or "").startswith("tcp://"):
        raise CallError(
            "--password and --owner-password would go to the workers in the open over tcp://. Lock the PDFs by a "
            "run without --cluster, or use a cluster on tls://."
        )
    allowed = words(allow, (*ALLOWED, "none"), "permission", "none") if allow is not None else ALLOWED
    lock = Lock(
        user=secret(user, "--password", prompt) if user is not None else "",
        owner=secret(owner, "--owner-password", prompt) if owner is not None else "",
        allow=tuple(word for word in allowed if word != "none"),
    )
    if lock.owner and lock.owner == lock.user:
        raise CallError("--password and --owner-password are the same: then everybody may do everything.")
    for password, option in ((lock.user, "--password"), (lock.owner, "--owner-password")):
        if len(password.encode("utf-8", "replace")) > 127:
            raise CallError(f"{option}: a PDF takes a password of at most 127 bytes (ISO 32000-2, section 7.6.4).")
    return lock


def _properties(given: tuple[str, ...]) -> tuple[tuple[str, TextPattern], ...]:
    patterns = dict(PROPERTIES)
    for text in given:
        name, equals, pattern = text.partition("=")
        name = name.strip().lower()
        if not equals or name not in PROPERTY_NAMES:
            known = ", ".join(PROPERTY_NAMES)
            raise CallError(f"--property {text!r}: write it as NAME=PATTERN; the names are {known}.")
        patterns[name] = TextPattern(pattern.strip(), f"property {name}", ("tags",))
    return tuple(patterns.items())


def _cover(given: str | None) -> Cover | None:
    """The cover sheet, tried on made-up messages before anything is written. Raises CallError."""
    if given is None:
        return None
    if given == BUILT_IN:
        return Cover("", BUILT_IN)
    from wexagraph.pages.composing.covers import check

    path = Path(given).expanduser()
    try:
        with open_regular(path, follow=True) as file:
            template = file.read(_MOST_TEMPLATE * 4 + 1).decode("utf-8")
    except (OSError, UnicodeDecodeError) as error:
        reason = getattr(error, "strerror", None) or "it is not UTF-8"
        raise CallError(f"the cover sheet {given} can't be read: {reason}.") from error
    if len(template) > _MOST_TEMPLATE:
        raise CallError(f"the cover sheet {given} has more than {_MOST_TEMPLATE:,} characters.")
    cover = Cover(template, path.name, _pictures(path, template))
    _try(check, cover)
    return cover


def _try(check: Callable[[Cover], None], cover: Cover) -> None:
    """Try a cover sheet where it can do no harm: one that never ends, or grows, is stopped. Raises CallError."""
    from wexagraph.work.batches import WorkerLost
    from wexagraph.work.pool import ProcessWorkers

    with ProcessWorkers(1, _COVER_TIMEOUT) as pool:
        try:
            pool.submit(check, cover).result()
        except (WorkerLost, MemoryError) as error:
            raise CallError(f"the cover sheet {cover.name} takes too long, or too much memory, to fill.") from error


def _pictures(path: Path, template: str) -> tuple[tuple[str, tuple[str, bytes]], ...]:
    """The pictures beside a template that it shows by their names."""
    pictures = {}
    for name in re.findall(r"""\bsrc\s*=\s*["']([\w .-]{1,120})["']""", template):
        kind = _PICTURES.get(Path(name).suffix.lower())
        if kind is None:
            continue
        try:
            with open_regular(path.parent / name) as file:
                pictures[name] = (kind, file.read(_MOST_PICTURE + 1))
        except OSError as error:
            raise CallError(f"the cover sheet {path} shows {name}, which can't be read: {error.strerror}.") from error
        if len(pictures[name][1]) > _MOST_PICTURE:
            raise CallError(f"the cover sheet {path} shows {name}, which is larger than {_MOST_PICTURE:,} bytes.")
    return tuple(pictures.items())
