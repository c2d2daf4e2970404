"""`wexagraph attachments SOURCE [CHOICE] --into DIR`"""

from __future__ import annotations

import re
from collections import Counter
from typing import TYPE_CHECKING, Any

import click
from click.core import ParameterSource

from wexagraph.app.option_table import ATTACHMENTS_ALONE, DOCUMENT_PAGES
from wexagraph.cli.calls import Printers, carry_out
from wexagraph.cli.options import options
from wexagraph.cli.parameters import (
    SOURCE,
    afterwards_option,
    choosing,
    into_option,
    reporting,
)
from wexagraph.cli.reports import SHOWN, amount, counted, print_place, print_planned
from wexagraph.errors import CallError
from wexagraph.messages.filetypes import KINDS
from wexagraph.text import one_line

if TYPE_CHECKING:
    from wexagraph.exports.attachments.files import AttachmentReport


@click.command("attachments")
@SOURCE
@choosing
@into_option("The folder for the files; it is made if need be.")
@options(*ATTACHMENTS_ALONE)
@afterwards_option("whose attachments are stored and read back")
@reporting
@click.pass_context
def command(context: click.Context, source: str, into: str, **values: Any) -> int:
    """Only the attachments of the chosen messages of SOURCE, in their native formats, as PDFs, or both, below DIR.

    --attached NAME|TYPE takes those attachments alone. The same command again writes only what is missing. DIR holds a
    register (attachments.csv) and checksums (manifest-sha256.txt), and may hold an export as well.
    """
    _check_needless(context, values["as"])
    return carry_out(context, "attachments", source, into, values, _PRINTERS)


def _check_needless(context: click.Context, forms: tuple[str, ...]) -> None:
    """Raise CallError where an option of PDFs is named and none are to be made."""
    of_pdfs = {*(row.name for row in DOCUMENT_PAGES), "bind", "order", "tag", "cluster"}
    for option in context.command.params:
        name = max(option.opts, key=len).removeprefix("--")
        given = context.get_parameter_source(option.name or "") == ParameterSource.COMMANDLINE
        if given and "pdf" not in forms and name in of_pdfs:
            raise CallError(f"--{name} is for PDFs of attachments: it needs --as pdf, or --as native,pdf.")


def _print_documents(report: AttachmentReport, dry: bool) -> None:
    """How many PDFs there are, and what became of the attachments."""
    click.echo(
        f"PDFs: {report.pdfs:,} {'would be ' * dry}written. No PDF could be made of "
        f"{counted(report.unmade, 'attachment')}."
    )
    states = Counter(re.split("[:;]", each.state)[0] for each in report.documents or ())
    for state, count in states.most_common():
        click.echo(f"  {count:>6,}  {state}")
    for each in [each for each in report.documents or () if not each.pdf][:SHOWN]:
        reason = one_line(each.state).removeprefix("not made: ")
        click.echo(f"No PDF: {one_line(each.name)} ({each.id}): {reason}")


def _print(report: AttachmentReport) -> None:
    same = f", {report.same:,} the same as another" if report.same else ""
    dry = report.planned is not None
    print_planned(report.planned or [], ">Size")
    click.echo(
        f"{counted(report.chosen, 'message')} chosen. Attachments: {report.written:,} {'would be ' * dry}written, "
        f"{report.already_there:,} already there{same}. {report.failed:,} failed.{' Nothing was written.' * dry}"
    )
    if dry and report.afterwards:
        click.echo(f"At the source: messages whose attachments are stored {report.afterwards}.")
    if report.written and not dry:
        click.echo(f"Files: {amount(report)}.")
    print_place(report)
    if len(report.folders) > 1:
        click.echo("By folder:")
        for folder, count in report.folders.most_common(20):
            click.echo(f"  {count:>6,}  {one_line(folder)}")
    if report.documents is not None:
        _print_documents(report, dry)
    if report.types:
        click.echo("By type:")
    for kind, count in report.types.most_common(20):
        named = f"{KINDS[kind]} ({kind})" if kind in KINDS else one_line(kind)
        click.echo(f"  {count:>6,}  {named}")


_PRINTERS = Printers(_print, _print, "the register (attachments.csv) is the table of what was taken out")
