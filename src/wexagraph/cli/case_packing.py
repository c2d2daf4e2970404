"""`wexagraph case pack` and `unpack`: a case handed over as one file."""

from __future__ import annotations

from datetime import UTC, datetime
from pathlib import Path

import click

from wexagraph.app.option_table import SEAL, SEAL_PASSWORD, STAMP
from wexagraph.cli.exits import OK, SOME_FAILED
from wexagraph.cli.options import options
from wexagraph.cli.parameters import (
    DELIVER,
    INDEX_PAGE,
    OFFICE_NAME,
    OFFICE_PICTURE,
    RECORDS,
    REFERENCE,
    into_option,
    named,
    records_of,
)
from wexagraph.cli.reports import counted, print_delivery, print_seal
from wexagraph.errors import CallError
from wexagraph.reports import Report, Sealing
from wexagraph.text import one_line, size


@click.command("pack")
@REFERENCE
@into_option("The ZIP that the case becomes.", "FILE.zip")
@INDEX_PAGE
@OFFICE_NAME
@OFFICE_PICTURE
@options(SEAL, SEAL_PASSWORD, STAMP)
@DELIVER
@RECORDS
@click.pass_context
def pack_one(
    context: click.Context,
    reference: str,
    into: str,
    index: bool,
    office: str,
    office_picture: str | None,
    deliver: str | None,
    records: str | None,
    **seals: str | None,
) -> int:
    """Pack a case as one ZIP that proves itself, for a court or another office.

    It is a bag (BagIt, RFC 8493) with all files, register, log and a page of contents. `wexagraph verify FILE.zip`
    proves it, `case unpack` takes it in. The case stays where it is.
    """
    from wexagraph.app.cases.disposal import pack_case
    from wexagraph.app.commands import hand_on
    from wexagraph.app.locales import language_code
    from wexagraph.app.option_values import index_options
    from wexagraph.app.places import check_place

    path = Path(into).expanduser()
    if path.suffix.lower() != ".zip":
        raise CallError(f"--into {into}: a case is packed as a .zip file.")
    page = index_options({"office": office, "office-picture": office_picture}, language_code(None)) if index else None
    sealing = context.obj.sealing(seals)
    if deliver:
        check_place(deliver, str(path), context.obj.configuration)
    count = pack_case(records_of(context, records), reference, path, page)
    click.echo(f"Packed: {one_line(str(path))}, {counted(count, 'file')}, {size(path.stat().st_size)}")
    report = Report(str(path))
    seal_paper(path, sealing, report)
    if deliver:
        hand_on(deliver, str(path), report, lambda place, root: context.obj.deliver(place, root, lambda: False))
        print_delivery(report)
    return OK if report.complete else SOME_FAILED


def seal_paper(path: Path, sealing: Sealing | None, report: Report) -> None:
    """Seal one file, where that is asked for, and say it. Raises TargetError."""
    if sealing is not None:
        from wexagraph.seals.sealing import seal_file

        seal_file(path, sealing, datetime.now(UTC), report)
        print_seal(report)


@click.command("unpack")
@click.argument("file", metavar="FILE.zip", callback=named)
@RECORDS
@click.pass_context
def unpack_one(context: click.Context, file: str, records: str | None) -> int:
    """Take in a case that was packed, once each of its files is proved."""
    from wexagraph.app.cases.disposal import unpack_case

    office = records_of(context, records)
    case = unpack_case(office, Path(file).expanduser())
    click.echo(f"Case {one_line(case.reference)} is in: {one_line(case.title)}")
    click.echo(f"Folder: {one_line(str(office.place(case)))}")
    return OK
