"""`wexagraph export SOURCE [CHOICE] --into DIR`"""

from __future__ import annotations

from pathlib import Path
from typing import TYPE_CHECKING, Any

import click

from wexagraph.app.option_table import EXPORT
from wexagraph.app.printing import checked_printer, pdfs_of_export
from wexagraph.cli.calls import Printers, carry_out
from wexagraph.cli.exits import OK, SOME_FAILED
from wexagraph.cli.options import options
from wexagraph.cli.parameters import (
    ONCE,
    PRINT,
    SOURCE,
    afterwards_option,
    choosing,
    into_option,
    reporting,
)
from wexagraph.cli.reports import SHOWN, amount, counted, print_on_paper, print_place, print_plan, print_sums
from wexagraph.exports.options import FORMATS
from wexagraph.naming.paths import INDEX
from wexagraph.text import one_line, size

if TYPE_CHECKING:
    from wexagraph.reports import ExportReport


@click.command("export")
@SOURCE
@choosing
@ONCE
@into_option("The folder for the files; it is made if need be.")
@options(*EXPORT)
@afterwards_option("whose files are stored and read back")
@PRINT
@reporting
@click.pass_context
def command(context: click.Context, source: str, into: str, printer: str | None, **values: Any) -> int:
    """Make files from the chosen messages of SOURCE, below DIR.

    The same command again makes only what is missing. DIR holds a register of all messages (register.csv), in
    which colleagues may work, and checksums (manifest-sha256.txt).
    """
    if printer is not None:
        checked_printer()  # before hours of work
    code = carry_out(context, "export", source, into, values, _PRINTERS, what=lambda options: options.formats)
    if printer is not None and not values["dry_run"] and code in (OK, SOME_FAILED):
        pdfs = pdfs_of_export(Path(into).expanduser(), bool(values.get("sort")))
        code = code if print_on_paper(pdfs, printer) else SOME_FAILED
    return code


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
    if report.renamed:
        click.echo(f"Renamed, as the names are to be now: {counted(report.renamed, 'file')}.")
    if report.numbered:
        click.echo(f"Numbers: {one_line(report.numbered)}.")
    if report.gaps:
        more = f" and {len(report.gaps) - SHOWN:,} more" if len(report.gaps) > SHOWN else ""
        click.echo(f"Given once, and on no page now: {one_line(', '.join(report.gaps[:SHOWN]))}{more}.")
    for path in report.made_again[:SHOWN]:
        click.echo(f"Made again, since it was missing or altered: {one_line(path)}")
    for folder in report.unfinished:
        click.echo(f"Not finished, and made anew by the next run: the archive of {one_line(folder)}.")


_PRINTERS = Printers(print_export, _print_plan, "the register (register.csv) is the table of an export")
