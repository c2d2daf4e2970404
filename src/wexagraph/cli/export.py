"""`wexagraph export SOURCE [CHOICE] --into DIR`"""

from __future__ import annotations

import os
import sys
from collections import Counter
from datetime import UTC, datetime
from typing import TYPE_CHECKING, Any

import click

from wexagraph.cli.exits import INTERRUPTED, OK, SOME_FAILED
from wexagraph.cli.paging import Words, make_lock, make_page_options, paging
from wexagraph.cli.parameters import SOURCE, ZONE, choosing, into_option, make_choice, opened
from wexagraph.errors import CallError
from wexagraph.exports.formats import FORMATS
from wexagraph.exports.options import BINDINGS, BOUND_PATTERN, ExportOptions
from wexagraph.naming import DEFAULT_PATTERN, NamePattern, TextPattern
from wexagraph.pages.options import ENGINES
from wexagraph.text import one_line, to_json

if TYPE_CHECKING:
    from wexagraph.exports.report import Report
    from wexagraph.sources import Source, Stored
    from wexagraph.sources.imap.changes import Afterwards, Changes


@click.command("export")
@SOURCE
@choosing
@into_option("The folder for the files; it is made if need be.")
@click.option(
    "--as", "formats", type=Words(tuple(FORMATS), "format"), default="pdf", show_default=True, metavar="FORMATS",
    help="pdf, eml, html, text: a file a message. mbox, zip: a file a folder. Several with commas.",
)  # fmt: skip
@click.option("--name", "pattern", metavar="PATTERN", default=None, show_default=DEFAULT_PATTERN,
              help=f"Name pattern; `/` in it makes folders. Of a bound PDF, where none is given: {BOUND_PATTERN}"
)  # fmt: skip
@click.option("--bind", type=click.Choice(BINDINGS), help="One PDF for each of these, with contents and bookmarks.")
@click.option("--unquote", is_flag=True,
              help="With --bind: leave out quoted text that stands earlier in the same PDF, and say so.")  # fmt: skip
@click.option("--tag", "tags", multiple=True, metavar="WORD",
              help="Keyword for PDFs, files (user.xdg.tags) and register; a pattern such as '{date:%Y}' too. "
              "Repeatable.")  # fmt: skip
@click.option("--flat", is_flag=True, help="Do not repeat the source's folders below DIR.")
@ZONE
@paging
@click.option("--engine", type=click.Choice(ENGINES), default="auto", show_default=True,
              help="The page engine; `auto` tries a second one on what the first can't set.")  # fmt: skip
@click.option("--patience", type=click.FloatRange(1, 3600), default=30.0, show_default=True, metavar="SECONDS",
              help="How long one page may take before it is made from the text alone.")  # fmt: skip
@click.option(
    "--jobs",
    type=click.IntRange(1, 256),
    metavar="N",
    help="Worker processes.  [default: the machine's cores]",
)
@click.option("--afterwards", metavar="WHAT",
              help="At an IMAP account, with messages whose files are stored and read back: seen, keyword:WORD, "
              "move:FOLDER or delete.")  # fmt: skip
@click.option("--yes", is_flag=True, help="Do not ask before --afterwards changes anything.")
@click.option("--json", "as_json", is_flag=True, help="The summary as JSON on standard output.")
@click.pass_context
def command(context: click.Context, source: str, into: str, as_json: bool, **values: Any) -> int:
    """Make files from the chosen messages of SOURCE, below DIR.

    The same command again makes only what is missing. DIR holds a register of all messages (register.csv) and
    checksums (manifest-sha256.txt).
    """
    options = make_options(values)
    choice = make_choice(values, options.page.zone)
    if choice.ids is not None and not choice.ids:
        raise CallError("no ID was given: standard input was empty.")
    wish = wish_afterwards(values["afterwards"], values["yes"])
    report = run_export(context, source, into, choice, options, wish, values["yes"])
    if as_json:
        from wexagraph.cli.terminal import machine_output

        machine_output()
        click.echo(to_json(report.as_dict()))
    else:
        from wexagraph.cli.summary import print_summary

        print_summary(report)
    if report.interrupted:
        return INTERRUPTED
    return OK if report.complete else SOME_FAILED


def make_options(values: dict[str, Any]) -> ExportOptions:
    """The options of an export, from those of the command line. Raises CallError."""
    page, pattern = make_page_options(values), values["pattern"]
    return ExportOptions(
        formats=values["formats"],
        pattern=NamePattern(DEFAULT_PATTERN if pattern is None else pattern),
        flat=values["flat"],
        page=page,
        engine=values["engine"],
        jobs=values["jobs"] or os.cpu_count() or 1,
        patience=values["patience"],
        bind=values["bind"] or "",
        bound=NamePattern(BOUND_PATTERN if pattern is None else pattern),
        unquote=values["unquote"],
        tags=tuple(TextPattern(tag, "tag") for tag in values["tags"]),
        lock=make_lock(values),
        exported=datetime.now(UTC),
    )


def wish_afterwards(text: str | None, sure: bool) -> Afterwards | None:
    """What is to be done at the source. Raises CallError where nobody could be asked whether to do it."""
    if text is None:
        return None
    from wexagraph.sources.imap.changes import Afterwards

    if not sure and not (sys.stdin.isatty() and sys.stderr.isatty()):
        raise CallError("--afterwards changes the mailbox, and there is no terminal to ask at. Add --yes to allow it.")
    return Afterwards.parse(text)


def run_export(
    context: click.Context,
    source: str,
    into: str,
    choice: Any,
    options: ExportOptions,
    wish: Afterwards | None = None,
    sure: bool = False,
) -> Report:
    """Run an export with progress on standard error."""
    from wexagraph.cli.progress import Display, stoppable
    from wexagraph.exports.run import export

    display = Display(options.formats)
    with opened(context, source) as mailbox, display, stoppable(display) as stopped:
        then = None
        if wish is not None:
            changes = make_changes(mailbox, wish)

            def then(stored: list[Stored]) -> tuple[int, list[tuple[str, str]]]:
                display.close()
                return apply_changes(changes, stored, sure, "stored and read back")

        return export(mailbox, into, choice, options, progress=display.update, stopped=stopped, afterwards=then)


def make_changes(mailbox: Source, wish: Afterwards) -> Changes:
    """What can change messages of an account. Raises CallError for a source that is only ever read."""
    from wexagraph.sources.imap import ImapSource
    from wexagraph.sources.imap.changes import Changes

    if not isinstance(mailbox, ImapSource):
        raise CallError(f"--afterwards works on an IMAP account; {mailbox.kind} is only ever read.")
    return Changes(mailbox, wish)


def apply_changes(changes: Changes, stored: list[Stored], sure: bool, kept: str) -> tuple[int, list[tuple[str, str]]]:
    """Say what will be done, ask unless it was allowed, and do it.

    `kept` says how the messages are kept. Returns how many were changed at the source, and those that were left alone.
    """
    if not stored:
        click.echo(f"Nothing to do at the source: no message is {kept}.", err=True)
        return 0, []
    told = changes.told(Counter(message.folder for message in stored))
    if sure:
        click.echo(f"At the source: {one_line(told)}.", err=True)
    elif not click.confirm(f"All of them are {kept}. Now {one_line(told)}?", err=True):
        return 0, []
    return changes.apply(stored)
