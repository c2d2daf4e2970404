"""`wexagraph attachments SOURCE [CHOICE] --into DIR`"""

from __future__ import annotations

import os
from typing import Any

import click

from wexagraph.cli.exits import INTERRUPTED, OK, SOME_FAILED
from wexagraph.cli.parameters import SOURCE, ZONE, choosing, into_option, make_choice, opened, zone_name
from wexagraph.cli.summary import print_failures, print_unknown, seconds
from wexagraph.cli.terminal import machine_output
from wexagraph.errors import CallError
from wexagraph.exports.extract import ATTACHMENT_PATTERN, ExtractOptions, ExtractReport, extract
from wexagraph.naming import NamePattern
from wexagraph.notes import CODES
from wexagraph.pages.options import PageOptions
from wexagraph.selection.criteria import parse_size
from wexagraph.text import one_line, size, to_json


@click.command("attachments")
@SOURCE
@choosing
@into_option("The folder for the files; it is made if need be.")
@click.option("--name", "pattern", metavar="PATTERN", default=ATTACHMENT_PATTERN, show_default=True,
              help="Name pattern; `/` in it makes folders.")  # fmt: skip
@click.option("--file-larger", metavar="SIZE", help="Only attachments larger than: 20KB, 5MB.")
@click.option("--file-smaller", metavar="SIZE", help="Only attachments smaller than.")
@click.option("--inline", is_flag=True, help="Also pictures of the layout, such as logos.")
@click.option("--nested", is_flag=True, help="Also attachments of messages inside messages.")
@click.option("--open-zips", is_flag=True, help="Also the files in ZIPs.")
@click.option("--once", is_flag=True, help="Write identical files once.")
@ZONE
@click.option(
    "--jobs", type=click.IntRange(1, 256), metavar="N", help="Worker processes.  [default: the machine's cores]"
)
@click.option("--json", "as_json", is_flag=True, help="The summary as JSON on standard output.")
@click.pass_context
def command(context: click.Context, source: str, into: str, as_json: bool, **values: Any) -> int:
    """Only the attachments of the chosen messages of SOURCE, in their native formats, below DIR.

    --attached NAME|TYPE takes those attachments alone. The same command again writes only what is missing. DIR holds a
    register (register.csv) and checksums (manifest-sha256.txt).
    """
    zone = zone_name(values["zone"])
    wanted = tuple(values.get("attached") or ())
    options = ExtractOptions(
        pattern=NamePattern(values["pattern"]),
        wanted=tuple(value for value in wanted if value != "*"),
        larger=_size(values["file_larger"], "--file-larger"),
        smaller=_size(values["file_smaller"], "--file-smaller"),
        inline=values["inline"],
        nested=values["nested"],
        open_zips=values["open_zips"],
        once=values["once"],
        zone=PageOptions(zone=zone).timezone(),
        jobs=values["jobs"] or os.cpu_count() or 1,
    )
    report = _run(context, source, into, values, options)
    if as_json:
        machine_output()
        click.echo(to_json(_as_dict(report)))
    else:
        _print(report)
    if report.interrupted:
        return INTERRUPTED
    return OK if report.complete else SOME_FAILED


def _size(value: str | None, option: str) -> int | None:
    try:
        return parse_size(value) if value else None
    except CallError as error:
        raise CallError(f"{option}: {error}") from error


def _run(
    context: click.Context, source: str, into: str, values: dict[str, Any], options: ExtractOptions
) -> ExtractReport:
    from wexagraph.cli.progress import Display, stoppable

    display = Display(("attachments",))
    with opened(context, source) as mailbox, display, stoppable(display) as stopped:
        # files in a text and inside others do not show in a listing; on a line, bodies are not fetched on suspicion
        listed = mailbox.searches and not (options.inline or options.nested or options.open_zips)
        values["attached"] = (options.wanted or ("*",)) if listed else ()
        choice = make_choice(values, zone_name(values["zone"]))
        return extract(mailbox, into, choice, options, progress=display.update, stopped=stopped)


def _print(report: ExtractReport) -> None:
    same = f", {report.same:,} the same as another" if report.same else ""
    click.echo(f"{report.read:,} message{'s' * (report.read != 1)} read. Attachments: {report.written:,} written, "
               f"{report.already:,} already there{same}. {report.failed:,} failed.")  # fmt: skip
    if report.written:
        click.echo(f"Files: {size(report.bytes)} in {seconds(report.seconds)}.")
    click.echo(f"In:    {one_line(report.into)}")
    for kind, count in report.types.most_common(20):
        click.echo(f"  {count:>6,}  {one_line(kind)}")
    for code, count in report.notes.items():
        click.secho(f"  {count:>6,}  {CODES[code]}", dim=True)
    print_failures(report.failures, report.failed, report.troubles)
    print_unknown(report.missing_ids)
    if report.interrupted:
        click.echo("Stopped before the end. The same command goes on where it was.")


def _as_dict(report: ExtractReport) -> dict[str, Any]:
    return {
        "into": report.into, "messages": report.read, "written": report.written, "already_there": report.already,
        "the_same": report.same,
        "failed": report.failed, "bytes": report.bytes, "seconds": round(report.seconds, 3),
        "types": dict(report.types),
        "notes": dict(report.notes), "interrupted": report.interrupted,
        "failures": [{"id": f.id, "folder": f.folder, "subject": f.subject,
        "reason": f.reason} for f in report.failures],
        "unreadable": [{"where": where, "reason": reason} for where, reason in report.troubles],
        "unknown_ids": report.missing_ids,
    }  # fmt: skip
