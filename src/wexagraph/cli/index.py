"""`wexagraph index DIR`, and `wexagraph index SOURCE [CHOICE] --into DIR`"""

from __future__ import annotations

import time
from dataclasses import replace
from pathlib import Path
from typing import Any

import click

from wexagraph.app.locales import language_code
from wexagraph.app.option_table import KEYS
from wexagraph.app.option_values import index_options
from wexagraph.app.options import export_options
from wexagraph.app.rows import FILES, LANGUAGE, Option
from wexagraph.backups.bag import is_backup
from wexagraph.cli.calls import run_call
from wexagraph.cli.exits import OK
from wexagraph.cli.export import print_export
from wexagraph.cli.options import option, options
from wexagraph.cli.parameters import (
    JOBS,
    JSON,
    OFFICE_NAME,
    OFFICE_PICTURE,
    QUIET,
    SOURCE,
    ZONE,
    choosing,
    make_choice,
    records_of,
)
from wexagraph.cli.reports import conclude, counted, print_json
from wexagraph.errors import CallError
from wexagraph.exports.options import IndexOptions
from wexagraph.naming.paths import FILE_PLAN, INDEX
from wexagraph.records.calls import Call
from wexagraph.text import one_line

_EVERY = 5.0


@click.command("index")
@SOURCE
@choosing
@options(
    Option(
        "into",
        "Of a backup or a mailbox: the folder for the copy that can be browsed.",
        metavar="DIR",
        section=FILES,
    ),
    Option("title", "What the page is called; the folder's name where none is.", "", None, "TEXT", FILES, safe=True),
)
@OFFICE_NAME
@OFFICE_PICTURE
@option(replace(LANGUAGE, help="Of labels and dates."))
@ZONE
@JOBS
@options(*KEYS)
@QUIET
@JSON
@click.pass_context
def command(
    context: click.Context,
    source: str,
    into: str | None,
    title: str,
    office: str,
    office_picture: str | None,
    language: str | None,
    as_json: bool,
    quiet: bool,
    **values: Any,
) -> int:
    """A page to browse, for any browser, without a network and without this program.

    In an export folder, a case's folder or a records folder it becomes index.html there. Of a backup or a mailbox,
    --into names a folder for a copy: the page, each message as HTML, the attachments. The same command again brings
    either up to date.
    """
    given = {"office": office, "office-picture": office_picture}
    if into is None:
        return _of_a_folder(
            context, source, values, index_options(given, language_code(language), title), as_json, quiet
        )
    plain = {"as": "html", "attachments": "beside", "index": True, "language": language, **given}
    plain |= {name: values[name] for name in ("zone", "jobs")}
    call = Call("export", source, into, make_choice(values, None).to_dict(), plain)
    report = run_call(
        *(context, call, values), what=lambda options: options.formats, options=export_options(plain, index_title=title)
    )
    return conclude(report, as_json, lambda: print_export(report), quiet)


def _of_a_folder(
    context: click.Context, source: str, values: dict[str, Any], options: IndexOptions, as_json: bool, quiet: bool
) -> int:
    from wexagraph.exports.index_page.writing import index_folder, index_folders

    folder = Path(source).expanduser()
    if not folder.exists():
        raise CallError(f"{source} does not exist. Name an export folder, or a mailbox with --into DIR.")
    if is_backup(folder):
        raise CallError(f"{source} is a backup. Add --into DIR: a folder for the copy that can be browsed.")
    choice = make_choice(values, "UTC")
    if choice.narrows or choice.folders or choice.newest:
        raise CallError("the page of an export folder shows all of it. A choice goes with a mailbox and --into DIR.")
    options = replace(options, sort=choice.sort)
    start = last = time.monotonic()

    def tell(count: int) -> None:
        nonlocal last
        if time.monotonic() - last > _EVERY:
            last = time.monotonic()
            click.echo(f"{count:,} messages read", err=True)

    if (folder / FILE_PLAN).is_file():
        plan = records_of(context, source).plan()
        count = index_folders(folder, [(case.folder, case.reference) for case in plan.cases.values()], options, tell)
    else:
        count = index_folder(folder, options, tell)
    if as_json:
        print_json({"into": source, "indexed": count, "page": INDEX, "seconds": round(time.monotonic() - start, 3)})
    elif not quiet:
        click.echo(f"{counted(count, 'message')} on the page. Open it: {one_line(str(folder / INDEX))}")
    return OK
