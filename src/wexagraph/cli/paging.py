"""The options of the page and of the PDF as a record, and what is made of them."""

from __future__ import annotations

import re
from collections.abc import Callable
from pathlib import Path
from typing import Any, TypeVar

import click

from wexagraph.app.secrets import PROMPT, secret
from wexagraph.cli.parameters import zone_name
from wexagraph.cli.session import prompt
from wexagraph.errors import CallError
from wexagraph.exports.options import NO_LOCKED_ARCHIVE
from wexagraph.files import open_regular
from wexagraph.naming import TextPattern
from wexagraph.pages.options import (
    ALLOWED,
    ATTACHMENTS,
    FOOTER,
    PAPERS,
    PROPERTIES,
    PROPERTY_NAMES,
    Cover,
    Lock,
    PageOptions,
    paper_size,
)

F = TypeVar("F", bound=Callable[..., Any])
BUILT_IN = "built-in"
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


class Words(click.ParamType):
    """Words out of a list, several with commas; `alone` goes with no other."""

    name = "words"

    def __init__(self, known: tuple[str, ...], what: str, alone: str = "") -> None:
        self._known, self._what, self._alone = known, what, alone

    def convert(self, value: Any, parameter: click.Parameter | None, context: click.Context | None) -> tuple[str, ...]:
        words = value if isinstance(value, (list, tuple)) else str(value).replace(" ", "").lower().split(",")
        words = [word for word in words if word]
        listed = ", ".join(self._known)
        for word in words:
            if word not in self._known:
                self.fail(f"{word!r} is no {self._what}. Possible are: {listed}.", parameter, context)
        if not words:
            self.fail(f"no {self._what} is named. Possible are: {listed}.", parameter, context)
        if self._alone in words and len(words) > 1:
            self.fail(f"{self._alone} goes with no other.", parameter, context)
        return tuple(dict.fromkeys(words))


class _Paper(click.ParamType):
    name = "paper"

    def convert(self, value: Any, parameter: click.Parameter | None, context: click.Context | None) -> str:
        text = str(value).lower().replace(" ", "").removesuffix("mm")
        try:
            paper_size(text)
        except ValueError:
            self.fail(
                f"{value!r} is no paper. Papers are: {', '.join(PAPERS)}, or width x height in millimetres: 100x150.",
                parameter,
                context,
            )
        return text


class _Scale(click.ParamType):
    name = "percent"

    def convert(self, value: Any, parameter: click.Parameter | None, context: click.Context | None) -> float:
        try:
            percent = float(str(value).strip().removesuffix("%"))
        except ValueError:
            percent = 0
        if not 40 <= percent <= 250:
            self.fail(f"{value!r} is no scale between 40% and 250%.", parameter, context)
        return percent


_OPTIONS = [
    click.option(
        "--attachments",
        type=Words(ATTACHMENTS, "way with attachments", "none"),
        default="embed",
        show_default=True,
        metavar="WAYS",
        help="embed: inside the PDF. pages: made into pages behind the message. beside: in a folder of its "
        "name. zip: in a ZIP of its name. none: only listed. Several with commas.",
    ),
    click.option("--open-zips", is_flag=True, help="With pages: make pages of what is in ZIPs too."),
    click.option(
        "--paper",
        type=_Paper(),
        default="a4",
        show_default=True,
        metavar="PAPER",
        help="a3, a4, a5, letter, legal, or width x height in mm: 100x150.",
    ),
    click.option("--landscape", is_flag=True, help="Turn the paper."),
    click.option("--margin", type=click.FloatRange(5, 60), default=18.0, show_default=True, metavar="MM"),
    click.option(
        "--scale",
        type=_Scale(),
        default="100%",
        show_default=True,
        metavar="PERCENT",
        help="Everything on the page larger or smaller.",
    ),
    click.option(
        "--background/--no-background", default=True, show_default=True, help="Colours and pictures behind the text."
    ),
    click.option(
        "--header",
        metavar="PATTERN",
        default="",
        show_default="none",
        help="Running line above: LEFT | CENTRE | RIGHT, e.g. '{sender} | {date:%d.%m.%Y}'.",
    ),
    click.option(
        "--footer",
        metavar="PATTERN",
        default=FOOTER,
        show_default=True,
        help="Running line below; has {page}, {pages} and {file} besides the fields of a name. '' for none.",
    ),
    click.option(
        "--text-font", metavar="FONT", default="", show_default="a monospaced one", help="The font of plain text mail."
    ),
    click.option("--text-size", type=click.FloatRange(4, 40), default=9.4, show_default=True, metavar="POINTS"),
    click.option(
        "--cover",
        is_flag=False,
        flag_value=BUILT_IN,
        metavar="[TEMPLATE]",
        help="A cover sheet in front: the built-in one, or a Jinja2 template of HTML.",
    ),
    click.option(
        "--evidence", is_flag=True, help="A block with Message-ID, SHA-256, source, folder, ID, arrival and servers."
    ),
    click.option("--headers", is_flag=True, help="All header fields, on a page of their own."),
    click.option(
        "--property",
        "properties",
        multiple=True,
        metavar="NAME=PATTERN",
        help="What the PDF says of itself: title, author, subject, keywords.",
    ),
    click.option(
        "--archival",
        is_flag=True,
        help="PDF/A-3b (ISO 19005-3), validated as written, with the original message inside.",
    ),
    click.option(
        "--password",
        is_flag=False,
        flag_value=PROMPT,
        metavar="[WHERE]",
        help="Lock PDFs (AES-256); WHERE is file:PATH, env:NAME or command:'PROGRAM'. Asked for without it.",
    ),
    click.option(
        "--owner-password",
        is_flag=False,
        flag_value=PROMPT,
        metavar="[WHERE]",
        help="A second password, for whoever may do what --allow leaves out.",
    ),
    click.option(
        "--allow",
        type=Words((*ALLOWED, "none"), "permission", "none"),
        metavar="WORDS",
        help="With --owner-password, what all others may do: print, copy, comment, assemble; or none.",
    ),
    click.option("--show-hidden", is_flag=True, help="Print text that the sender hid, such as preview lines."),
    click.option(
        "--read-back/--no-read-back",
        default=True,
        show_default=True,
        help="Read each PDF again and compare its words with the message's.",
    ),
]


def paging(command: F) -> F:
    """Give a command the options of the page."""
    for option in reversed(_OPTIONS):
        command = option(command)
    return command


def make_page_options(values: dict[str, Any]) -> PageOptions:
    """The options of pages, from those of the command line. Raises CallError."""
    return PageOptions(
        zone=zone_name(values["zone"]),
        paper=values["paper"],
        landscape=values["landscape"],
        margin=values["margin"],
        scale=values["scale"] / 100,
        background=values["background"],
        header=values["header"],
        footer=values["footer"],
        text_font=values["text_font"],
        text_size=values["text_size"],
        attachments=tuple(sorted(values["attachments"])),
        open_zips=values["open_zips"],
        archival=values["archival"],
        evidence=values["evidence"],
        headers=values["headers"],
        cover=_cover(values["cover"]),
        properties=_properties(values["properties"]),
        show_hidden=values["show_hidden"],
        read_back=values["read_back"],
    )


def make_lock(values: dict[str, Any]) -> Lock | None:
    """The passwords of the PDFs. Raises CallError."""
    user, owner, allow = values["password"], values["owner_password"], values["allow"]
    if allow is not None and owner is None:
        raise CallError("--allow binds nobody without a second password that it is for: add --owner-password.")
    if user is None and owner is None:
        return None
    if values["archival"]:
        raise CallError(NO_LOCKED_ARCHIVE)  # before anybody types a password
    lock = Lock(
        user=secret(user, "--password", prompt()) if user is not None else "",
        owner=secret(owner, "--owner-password", prompt()) if owner is not None else "",
        allow=tuple(word for word in allow if word != "none") if allow is not None else ALLOWED,
    )
    if lock.owner and lock.owner == lock.user:
        raise CallError("--password and --owner-password are the same: then everybody may do everything.")
    for password, option in ((lock.user, "--password"), (lock.owner, "--owner-password")):
        if len(password.encode("utf-8", "replace")) > 127:
            raise CallError(f"{option}: a PDF takes a password of at most 127 bytes (ISO 32000-2, section 7.6.4).")
    return lock


def _properties(given: tuple[str, ...]) -> tuple[tuple[str, TextPattern], ...]:
    found = dict(PROPERTIES)
    for text in given:
        name, equals, pattern = text.partition("=")
        name = name.strip().lower()
        if not equals or name not in PROPERTY_NAMES:
            known = ", ".join(PROPERTY_NAMES)
            raise CallError(f"--property {text!r}: write it as NAME=PATTERN; the names are {known}.")
        found[name] = TextPattern(pattern.strip(), f"property {name}", ("tags",))
    return tuple(found.items())


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
    from wexagraph.work.pool import ProcessWorkers
    from wexagraph.work.workers import WorkerLost

    with ProcessWorkers(1, _COVER_TIMEOUT) as pool:
        try:
            pool.submit(check, cover).result()
        except (WorkerLost, MemoryError) as error:
            raise CallError(f"the cover sheet {cover.name} takes too long, or too much memory, to fill.") from error


def _pictures(path: Path, template: str) -> tuple[tuple[str, tuple[str, bytes]], ...]:
    """The pictures beside a template that it shows by their names."""
    found = {}
    for name in re.findall(r"""\bsrc\s*=\s*["']([\w .-]{1,120})["']""", template):
        kind = _PICTURES.get(Path(name).suffix.lower())
        if kind is None:
            continue
        try:
            with open_regular(path.parent / name) as file:
                found[name] = (kind, file.read(_MOST_PICTURE + 1))
        except OSError as error:
            raise CallError(f"the cover sheet {path} shows {name}, which can't be read: {error.strerror}.") from error
        if len(found[name][1]) > _MOST_PICTURE:
            raise CallError(f"the cover sheet {path} shows {name}, which is larger than {_MOST_PICTURE:,} bytes.")
    return tuple(found.items())
