"""The options of the page and of the PDF as a record."""

from __future__ import annotations

from collections.abc import Callable
from typing import Any, TypeVar

import click

from wexagraph.app.locales import OFFICE
from wexagraph.app.options import BUILT_IN, DOCUMENT_PAGES, attachment_ways, margins, paper, percent, words
from wexagraph.app.secrets import PROMPT
from wexagraph.cli.parameters import together
from wexagraph.errors import CallError
from wexagraph.languages import LANGUAGES
from wexagraph.pages.options import ALLOWED, FOOTER

F = TypeVar("F", bound=Callable[..., Any])


class Checked(click.ParamType):
    """A value that a function checks; the function raises CallError."""

    def __init__(self, name: str, check: Callable[[Any], Any]) -> None:
        self.name, self._check = name, check

    def convert(self, value: Any, parameter: click.Parameter | None, context: click.Context | None) -> Any:
        try:
            return self._check(value)
        except CallError as error:
            self.fail(str(error), parameter, context)


def words_option(*names: str, known: tuple[str, ...], what: str, alone: str = "", **more: Any) -> Callable[[F], F]:
    """An option for words out of a list, which add up: several with commas, and given several times."""

    def added_up(_: click.Context, parameter: click.Parameter, value: tuple[tuple[str, ...], ...]) -> tuple[str, ...]:
        chosen = tuple(dict.fromkeys(word for words_given in value for word in words_given))
        if alone in chosen and len(chosen) > 1:
            raise click.BadParameter(f"{alone} goes with no other.", param=parameter)
        return chosen

    kind = Checked("words", lambda value: words(value, known, what, alone))
    return click.option(*names, type=kind, multiple=True, callback=added_up, **more)


def _ways(_: click.Context, parameter: click.Parameter, value: tuple[str, ...]) -> tuple[str, ...]:
    try:
        attachment_ways(value)
    except CallError as error:
        raise click.BadParameter(str(error), param=parameter) from error
    return value


OCR = click.option(
    "--ocr",
    is_flag=False,
    flag_value=OFFICE,
    metavar="[LANGUAGES]",
    help="Recognise the words of scans among the attachments, so that they can be searched: eng, or eng,deu. The "
    "language of labels, where none is named.",
)
_OPTIONS = {
    "attachments": click.option(
        "--attachments",
        multiple=True,
        callback=_ways,
        default=("embed",),
        show_default=True,
        metavar="WAYS",
        help="embed: inside the PDF. pages: made into pages behind the message. beside: in a folder of its "
        "name. zip: in a ZIP of its name. none: only listed. Several with commas; pages:*.pdf,image/* for some alone.",
    ),
    "open-zips": click.option("--open-zips", is_flag=True, help="With pages: make pages of what is in ZIPs too."),
    "ocr": OCR,
    "paper": click.option(
        "--paper",
        type=Checked("paper", paper),
        show_default="a4, or letter where the system's territory uses it",
        metavar="PAPER",
        help="a3, a4, a5, letter, legal, or width x height in mm: 100x150.",
    ),
    "landscape": click.option("--landscape", is_flag=True, help="Turn the paper."),
    "margin": click.option(
        "--margin",
        type=Checked("margins", margins),
        default="18",
        show_default=True,
        metavar="MM",
        help="Of all sides, or top,right,bottom,left: 20,25,20,25.",
    ),
    "scale": click.option(
        "--scale",
        type=Checked("percent", percent),
        default="100%",
        show_default=True,
        metavar="PERCENT",
        help="Everything on the page larger or smaller.",
    ),
    "background": click.option(
        "--background/--no-background", default=True, show_default=True, help="Colours and pictures behind the text."
    ),
    "header": click.option(
        "--header",
        metavar="PATTERN",
        default="",
        show_default="none",
        help="Running line above: LEFT | CENTRE | RIGHT, e.g. '{sender} | {date:%d.%m.%Y}'.",
    ),
    "footer": click.option(
        "--footer",
        metavar="PATTERN",
        default=FOOTER,
        show_default=True,
        help="Running line below; has {page}, {pages} and {file} besides the fields of a name. '' for none.",
    ),
    "text-font": click.option(
        "--text-font", metavar="FONT", default="", show_default="a monospaced one", help="The font of plain text mail."
    ),
    "text-size": click.option(
        "--text-size", type=click.FloatRange(4, 40), default=9.4, show_default=True, metavar="POINTS"
    ),
    "cover": click.option(
        "--cover",
        is_flag=False,
        flag_value=BUILT_IN,
        metavar="[TEMPLATE]",
        help="A cover sheet in front: the built-in one, or a Jinja2 template of HTML.",
    ),
    "evidence": click.option(
        "--evidence", is_flag=True, help="A block with Message-ID, SHA-256, source, folder, ID, arrival and servers."
    ),
    "headers": click.option("--headers", is_flag=True, help="All header fields, on a page of their own."),
    "property": click.option(
        "--property",
        "properties",
        multiple=True,
        metavar="NAME=PATTERN",
        help="What the PDF says of itself: title, author, subject, keywords.",
    ),
    "archival": click.option(
        "--archival",
        is_flag=True,
        help="PDF/A-3b (ISO 19005-3), validated as written, with the original message inside.",
    ),
    "password": click.option(
        "--password",
        is_flag=False,
        flag_value=PROMPT,
        metavar="[WHERE]",
        help="Lock PDFs (AES-256); WHERE is file:PATH, env:NAME or command:'PROGRAM'. Asked for without it.",
    ),
    "owner-password": click.option(
        "--owner-password",
        is_flag=False,
        flag_value=PROMPT,
        metavar="[WHERE]",
        help="A second password, for whoever may do what --allow leaves out.",
    ),
    "allow": words_option(
        "--allow",
        known=(*ALLOWED, "none"),
        what="permission",
        alone="none",
        metavar="WORDS",
        help="With --owner-password, what all others may do: print, copy, comment, assemble; or none.",
    ),
    "language": click.option(
        "--language",
        type=click.Choice(LANGUAGES),
        show_default="the system's",
        help="Of labels and dates on pages, and of the fixed words in names.",
    ),
    "show-hidden": click.option(
        "--show-hidden", is_flag=True, help="Print text that the sender hid, such as preview lines."
    ),
    "read-back": click.option(
        "--read-back/--no-read-back",
        default=True,
        show_default=True,
        help="Read each PDF again and compare its words with the message's.",
    ),
}


paging = together(*_OPTIONS.values())
"""Gives a command the options of the page."""
document_paging = together(*(_OPTIONS[name] for name in DOCUMENT_PAGES))
"""Gives a command those options of the page that PDFs of attachments alone have."""
