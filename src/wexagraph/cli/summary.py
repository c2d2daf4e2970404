"""What an export did, in words."""

from __future__ import annotations

import click

from wexagraph.exports.formats import FORMATS
from wexagraph.exports.report import Failure, Report
from wexagraph.notes import CODES
from wexagraph.text import one_line, size

_SHOWN = 20


def print_summary(report: Report) -> None:
    """Print the sums of an export, then what went wrong and what to know."""
    total = f"{report.read:,} message{'s' * (report.read != 1)} read"
    sums = [f"{report.written:,} written", f"{report.already:,} already there", f"{report.failed:,} failed"]
    click.echo(f"{total}: {', '.join(sums)}.")
    if report.files:
        labels = {format.name: format.label for format in FORMATS.values()} | {"beside": "beside them"}
        files = ", ".join(f"{count:,} {labels[name]}" for name in labels if (count := report.files[name]))
        click.echo(f"Files: {files}; {size(report.bytes)} in {seconds(report.seconds)}.")
    click.echo(f"In:    {one_line(report.into)}")
    if report.recovered:
        click.echo(
            "The journal was missing or damaged. It was made again from register.csv and manifest-sha256.txt, which "
            f"know {report.recovered:,} message{'s' * (report.recovered != 1)}."
        )
    if report.changed is not None:
        click.echo(f"At the source: {report.changed:,} message{'s' * (report.changed != 1)} changed.")
    print_spared(report.spared)
    if report.notes:
        click.echo("Notes (all are in register.csv, most also on their page):")
        for code, count in report.notes.most_common():
            click.secho(f"  {count:>6,}  {CODES[code]}", dim=True)
    for path in report.remade[:_SHOWN]:
        click.echo(f"Made again, since it was missing or altered: {one_line(path)}")
    print_failures(report.failures, report.failed, report.troubles)
    print_unknown(report.missing_ids)
    for folder in report.unfinished:
        click.echo(f"Not finished, and made anew by the next run: the archive of {one_line(folder)}.")
    if report.interrupted:
        click.echo("Stopped before the end. The same command goes on where it was.")


def print_failures(failures: list[Failure], count: int, troubles: list[tuple[str, str]]) -> None:
    """Name what failed, the first of them, and what of the source could not be read."""
    for failure in failures[:_SHOWN]:
        subject = f" ({one_line(failure.subject)[:60]})" if failure.subject else ""
        click.secho(
            f"Failed: {failure.id}{subject} in {one_line(failure.folder)}: {one_line(failure.reason)}",
            fg="red",
        )
    if count > _SHOWN:
        click.secho(f"... and {count - _SHOWN:,} more; register.csv has them all.", fg="red")
    for where, reason in troubles[:_SHOWN]:
        click.secho(f"Not read: {one_line(where)}: {one_line(reason)}", fg="red")


def print_spared(spared: list[tuple[str, str]]) -> None:
    """Name what was to be changed at the source and was left alone, since it is not what was stored."""
    for where, reason in spared[:_SHOWN]:
        click.secho(f"Left alone at the source: {one_line(where)}: {one_line(reason)}", fg="red")
    if len(spared) > _SHOWN:
        click.secho(f"... and {len(spared) - _SHOWN:,} more were left alone.", fg="red")


def print_unknown(ids: list[str]) -> None:
    """Name the IDs that were asked for and that no message has."""
    if ids:
        shown = ", ".join(one_line(id) for id in ids[:_SHOWN])
        click.secho(f"Not found: {shown}. `wexagraph list` gives the IDs of a source.", fg="red")


def seconds(count: float) -> str:
    """A span of time for people."""
    return f"{count:.1f} s" if count < 90 else f"{count / 60:.1f} min"
