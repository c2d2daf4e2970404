"""`wexagraph export SOURCE [CHOICE] --into DIR`"""

from __future__ import annotations

from pathlib import Path
from typing import TYPE_CHECKING, Any

import click

from wexagraph.cli.calls import Printers, carry_out
from wexagraph.cli.paging import paging, words_option
from wexagraph.cli.parameters import (
    CLUSTER,
    INDEX_PAGE,
    JOBS,
    OFFICE_NAME,
    OFFICE_PICTURE,
    SOURCE,
    ZONE,
    afterwards_option,
    choosing,
    into_option,
    reporting,
)
from wexagraph.cli.reports import SHOWN, amount, counted, print_place, print_plan, print_sums
from wexagraph.exports.options import BINDINGS, BOUND_PATTERN, FORMATS
from wexagraph.naming.paths import INDEX
from wexagraph.naming.patterns import DEFAULT_PATTERN
from wexagraph.pages.options import ENGINES
from wexagraph.text import one_line, size

if TYPE_CHECKING:
    from wexagraph.exports.report import ExportReport


@click.command("export")
@SOURCE
@choosing
@into_option("The folder for the files; it is made if need be.")
@words_option(
    "--as",
    "formats",
    known=tuple(FORMATS),
    what="format",
    default=("pdf",),
    show_default=True,
    metavar="FORMATS",
    help="pdf, eml, html, text: a file a message. mbox, zip: a file a folder. attachments: what is attached, in a "
    "folder of the message's name. Several with commas.",
)
@click.option(
    "--name",
    "pattern",
    metavar="PATTERN",
    default=None,
    show_default=DEFAULT_PATTERN,
    help=f"Name pattern; `/` in it makes folders. Of a bound PDF, where none is given: {BOUND_PATTERN}",
)
@click.option("--bind", type=click.Choice(BINDINGS), help="One PDF for each of these, with contents and bookmarks.")
@click.option("--title", metavar="PATTERN", help="What each PDF is called, on its pages and in its name.")
@click.option(
    "--unquote",
    is_flag=True,
    help="With --bind: leave out quoted text that stands earlier in the same PDF, and say so.",
)
@click.option(
    "--run-on", is_flag=True, help="With --bind: no new page for each message that fits on what is left of one."
)
@click.option(
    "--tag",
    "tags",
    multiple=True,
    metavar="WORD",
    help="Keyword for PDFs, files (user.xdg.tags) and register; a pattern such as '{date:%Y}' too. Repeatable.",
)
@click.option(
    "--register",
    metavar="FORMS",
    default="csv",
    show_default=True,
    help="The table beside the files: csv, xlsx, both with a comma, or none. What colleagues do in it stays.",
)
@INDEX_PAGE
@OFFICE_NAME
@OFFICE_PICTURE
@click.option("--flat", is_flag=True, help="Do not repeat the source's folders below DIR.")
@ZONE
@paging
@click.option(
    "--remote-images",
    is_flag=True,
    help="Fetch the pictures that messages link to, over HTTPS. Their senders may learn of it.",
)
@click.option(
    "--remote-host",
    multiple=True,
    metavar="HOST",
    help="With --remote-images: a host of your own, which may lie at a private address. Repeatable.",
)
@click.option(
    "--engine",
    type=click.Choice(ENGINES),
    default="auto",
    show_default=True,
    help="The page engine; `auto` tries a second one on what the first can't set.",
)
@click.option(
    "--patience",
    type=click.FloatRange(1, 3600),
    default=30.0,
    show_default=True,
    metavar="SECONDS",
    help="How long one page may take before it is made from the text alone.",
)
@JOBS
@CLUSTER
@afterwards_option("whose files are stored and read back")
@reporting
@click.pass_context
def command(context: click.Context, source: str, into: str, **values: Any) -> int:
    """Make files from the chosen messages of SOURCE, below DIR.

    The same command again makes only what is missing. DIR holds a register of all messages (register.csv), in
    which colleagues may work, and checksums (manifest-sha256.txt).
    """
    return carry_out(context, "export", source, into, values, _PRINTERS, what=lambda options: options.formats)


def _print_plan(report: ExportReport) -> None:
    print_plan(report, "written")
    if report.planned:
        files = _labelled(report) or "those of attachments"
        click.echo(f"Files: {files}, of {size(report.bytes)} of messages, in {one_line(report.into)}")
    if report.afterwards:
        click.echo(f"At the source: {counted(report.chosen, 'message')} {report.afterwards}.")


def _labelled(report: ExportReport) -> str:
    """How many files of each format, in words."""
    labels = {format.name: format.label for format in FORMATS.values()} | {"beside": "files of attachments"}
    return ", ".join(f"{count:,} {labels[name]}" for name in labels if (count := report.files[name]))


def print_export(report: ExportReport) -> None:
    """Say what an export did."""
    print_sums(report)
    if report.files:
        click.echo(f"Files: {_labelled(report)}; {amount(report)}.")
    print_place(report)
    if report.indexed is not None:
        click.echo(f"Page to browse: {one_line(str(Path(report.into) / INDEX))}, {counted(report.indexed, 'message')}.")
    if report.recovered:
        click.echo(
            "The journal was missing or damaged. It was made again from register.csv and manifest-sha256.txt, which "
            f"know {counted(report.recovered, 'message')}."
        )
    for path in report.made_again[:SHOWN]:
        click.echo(f"Made again, since it was missing or altered: {one_line(path)}")
    for folder in report.unfinished:
        click.echo(f"Not finished, and made anew by the next run: the archive of {one_line(folder)}.")


_PRINTERS = Printers(print_export, _print_plan, "the register (register.csv) is the table of an export")
