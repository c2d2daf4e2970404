"""Cover sheets and contents pages: what stands in front of a PDF and says what follows."""

from __future__ import annotations

import hashlib
import re
import traceback
from dataclasses import dataclass
from datetime import datetime
from typing import Any

from jinja2 import Environment, StrictUndefined, TemplateError, TemplateSyntaxError, UndefinedError
from jinja2.sandbox import SandboxedEnvironment, SecurityError

import wexagraph
from wexagraph.errors import CallError, PageError
from wexagraph.languages import Language
from wexagraph.messages.dates import in_zone
from wexagraph.messages.message import Message
from wexagraph.pages.composing.compose import Page, filters, templates
from wexagraph.pages.composing.properties import Provenance, Record, evidence, servers
from wexagraph.pages.options import Cover, PageOptions
from wexagraph.text import one_line, shortened

BUILT_IN = "built-in"
UNDATED = "undated"
_MOST = 2000
_MOST_RECIPIENTS = 20
_MOST_FILLED = 20_000_000
_MOST_NUMBER = 1 << 53


@dataclass(frozen=True)
class Entry:
    """A message as a cover or a contents page tells of it. All texts are one line; dates are in words.

    `page` is where it begins, counted from 1; 0 where that is not known yet. `evidence` is rows of label and text.
    `when` is the date in digits, `name` the sender's name alone; `trouble` says why no page could be made.
    """

    subject: str
    sender: str
    to: str
    date: str
    message_id: str = ""
    sha256: str = ""
    size: int = 0
    folder: str = ""
    id: str = ""
    source: str = ""
    servers: tuple[str, ...] = ()
    tags: tuple[str, ...] = ()
    attachments: tuple[dict[str, Any], ...] = ()
    evidence: tuple[tuple[str, str], ...] = ()
    pages: int = 0
    page: int = 0
    trouble: str = ""
    when: str = ""
    name: str = ""
    shares: bool = False  # whether it begins below the one before, on the same page


@dataclass(frozen=True)
class Contents:
    """What a PDF holds: its title, its messages, and when and from where it was made."""

    title: str
    entries: tuple[Entry, ...]
    exported: datetime | None = None
    tags: tuple[str, ...] = ()

    def values(self, options: PageOptions) -> dict[str, Any]:
        """The fields of a cover template."""
        undated = options.tr(UNDATED)
        messages = [vars(entry) for entry in self.entries]
        dates = [entry.date for entry in self.entries if entry.when != undated] or [undated]
        return {
            "title": self.title,
            "messages": messages,
            "message": messages[0],
            "first_date": dates[0],
            "last_date": dates[-1],
            "source": self.entries[0].source,
            "case": options.case[0],
            "case_title": options.case[1],
            "tags": list(self.tags),
            "exported": _shown(self.exported, options) if self.exported else "",
            "version": wexagraph.__version__,
            "counts": {
                "messages": len(messages),
                "attachments": sum(len(entry.attachments) for entry in self.entries),
                "pages": sum(entry.pages - entry.shares for entry in self.entries),
                "bytes": sum(entry.size for entry in self.entries),
            },
        }


def entry(message: Message, origin: Provenance, options: PageOptions, pages: int = 0) -> Entry:
    """What a cover tells of a message."""
    header, tr, names = message.header, options.tr, options.names
    moment = header.date(origin.arrival)[0]
    to = [str(names.named(address)) for address in header.addresses(b"to")[: _MOST_RECIPIENTS + 1]]
    return Entry(
        subject=_told(header.subject) or tr("no subject"),
        sender=_told(str(names.named(header.sender))) or tr("no sender"),
        to=_told(", ".join(to[:_MOST_RECIPIENTS])) + (" " + tr("and more") if len(to) > _MOST_RECIPIENTS else ""),
        date=_shown(moment, options) if moment else tr(UNDATED),
        message_id=_told(header.text(b"message-id")),
        sha256=hashlib.sha256(message.data).hexdigest(),
        size=len(message.data),
        folder=_told(origin.folder),
        id=origin.id,
        source=_told(origin.source),
        servers=tuple(map(_told, servers(header))),
        tags=origin.tags,
        attachments=tuple(
            {"name": _told(a.name), "type": _told(a.type), "size": a.size} for a in message.attachments[:200]
        ),
        evidence=tuple(evidence(message, origin, options)),
        pages=pages,
        when=f"{_in_zone(moment, options):%Y-%m-%d %H:%M}" if moment else tr(UNDATED),
        name=_told(names.named(header.sender).name or header.sender.address) or tr("no sender"),
    )


def cover_page(cover: Cover, contents: Contents, options: PageOptions, record: Record) -> Page:
    """The cover sheet of a PDF. Raises PageError where its template can't be filled."""
    try:
        html = _filled(_template(cover, options.tr), contents.values(options))
    except Exception as error:  # a template is a program of the clerk's own
        raise PageError(f"the cover sheet can't be made: {_where(error, cover.name)}") from error
    names = {name: f"wx:cover-{number}" for number, (name, _) in enumerate(cover.resources)}
    for name, own in names.items():  # the engine would make a path of a bare name
        html = re.sub(rf"""(\bsrc\s*=\s*["']){re.escape(name)}(?=["'])""", rf"\g<1>{own}", html)
    resources = {names[name]: resource for name, resource in cover.resources}
    return Page(sized(html, options), resources, record)


def _filled(template: Any, values: dict[str, Any]) -> str:
    """What a template makes of values, as long as that ends. Raises whatever the template does, ValueError."""
    pieces, length = [], 0
    for piece in template.generate(values):
        pieces.append(piece)
        length += len(piece)
        if length > _MOST_FILLED:
            raise ValueError(f"it grows beyond {_MOST_FILLED:,} characters")
    return "".join(pieces)


def contents_page(contents: Contents, options: PageOptions, record: Record, first: int) -> Page:
    """The contents page of a bound PDF: a row a message, each a link to `part:N`. `first` is the first one's page."""
    rows, page = [], first
    for number, one in enumerate(contents.entries):
        page -= one.shares
        rows.append({**vars(one), "number": number, "page": page})
        page += one.pages
    html = templates(options.tr).get_template("contents.html").render(title=contents.title, rows=rows)
    return Page(sized(html, options), {}, record)


def check(cover: Cover) -> None:
    """Try a cover template on messages with and without all that a message can have.

    Raises CallError with line and field where it is wrong.
    """
    about = {"name": "plan.pdf", "type": "application/pdf", "size": 1}
    full = Entry(
        "s", "a", "b", "d", "i", "0" * 64, 1, "f", "i", "s", ("h",), ("t",), (about,), (("l", "t"),), 1, 1, "", "w", "n"
    )
    for entries in ((full, full), (Entry("s", "a", "", "undated"),)):
        try:
            _filled(_template(cover, PageOptions().tr), Contents("t", entries).values(PageOptions()))
        except Exception as error:
            raise CallError(f"the cover sheet {_where(error, cover.name)}") from error


def filled_text(template: str, name: str, values: dict[str, Any], tr: Language) -> str:
    """The plain text that a template of the clerk's own makes of values. Raises CallError where it is wrong."""
    try:
        return _filled(_compiled(_environment(tr, markup=False), template, name), values)
    except Exception as error:
        raise CallError(f"the template {_where(error, name)}") from error


class _Sandbox(SandboxedEnvironment):
    """Templates that can't reach beyond their values, and can't multiply them without bound."""

    intercepted_binops = frozenset({"*", "**"})

    def call_binop(self, context: Any, operator: str, left: Any, right: Any) -> Any:
        numbers = all(isinstance(value, int | float) and abs(value) < _MOST_NUMBER for value in (left, right))
        if not numbers or (operator == "**" and abs(right) > 16):
            raise SecurityError(f"{operator} is for numbers, and small ones")
        return super().call_binop(context, operator, left, right)


def _environment(tr: Language, markup: bool = True) -> Environment:
    environment = _Sandbox(autoescape=markup, undefined=StrictUndefined, trim_blocks=True, lstrip_blocks=True)
    environment.filters.update(filters(tr))
    environment.globals["language"] = tr.code
    return environment


def _template(cover: Cover, tr: Language) -> Any:
    if cover.name == BUILT_IN:
        return templates(tr).get_template("cover.html")
    return _compiled(_environment(tr), cover.template, cover.name)


def _compiled(environment: Environment, template: str, name: str) -> Any:
    code = environment.compile(template, name, name)
    return environment.template_class.from_code(environment, code, environment.globals)


def _where(error: Exception, name: str) -> str:
    """File, line and reason of a mistake in a template."""
    reason = getattr(error, "message", None) or str(error) or type(error).__name__
    if isinstance(error, TemplateSyntaxError):
        return f"{name}, line {error.lineno}: {reason}."
    frames = [frame.lineno for frame in traceback.extract_tb(error.__traceback__) if frame.filename == name]
    line = f", line {frames[-1]}" if frames else ""
    fields = " docs/covers.md lists the fields." if isinstance(error, UndefinedError) else ""
    kind = "" if isinstance(error, TemplateError) else f"{type(error).__name__}: "
    return f"{name}{line}: {kind}{reason}.{fields}"


def sized(html: str, options: PageOptions) -> str:
    """The HTML on the paper of the export, unless it says otherwise itself."""
    width, height = options.page_size
    rule = f"<style>@page {{ size: {width}mm {height}mm; margin: {options.margin.css()}; }}</style>"
    at = html.lower().find("<head>")
    return html[: at + 6] + rule + html[at + 6 :] if at >= 0 else rule + html


def _told(text: str) -> str:
    return shortened(one_line(text), _MOST)


def _shown(moment: datetime, options: PageOptions) -> str:
    return options.tr.moment(_in_zone(moment, options))


def _in_zone(moment: datetime, options: PageOptions) -> datetime:
    zone = options.timezone()
    return in_zone(moment, zone) if zone else moment
