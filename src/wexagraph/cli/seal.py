"""`wexagraph seal DIR`"""

from __future__ import annotations

from datetime import UTC, datetime
from pathlib import Path
from typing import Any

import click

from wexagraph.app.option_table import SEAL, SEAL_PASSWORD, STAMP
from wexagraph.app.rows import Flag, Option
from wexagraph.cli.exits import OK, SOME_FAILED
from wexagraph.cli.options import options
from wexagraph.cli.parameters import FOLDER, JSON
from wexagraph.cli.reports import counted, print_json, print_seal
from wexagraph.errors import CallError
from wexagraph.reports import Report
from wexagraph.text import one_line


@click.command("seal")
@FOLDER
@options(
    SEAL,
    SEAL_PASSWORD,
    STAMP,
    Option(
        "renew", "With --stamp: stamp all seals and stamps once more, before their certificates end.", False, Flag()
    ),
)
@JSON
@click.pass_context
def command(context: click.Context, folder: str, renew: bool, as_json: bool, **values: Any) -> int:
    """Seal what lies in DIR: an export, or a case.

    A signature over its list of checksums says by whom, a time stamp since when nothing of it can have been otherwise.
    Both lie beside the list, with the certificates and the lines of openssl that prove them (HOW-TO-PROVE.txt). Of the
    folder only the digest of the list goes to who stamps. `wexagraph verify DIR --known ROOT.pem` proves both.
    """
    root = Path(folder).expanduser()
    wish = context.obj.sealing(values)
    if wish is None or (renew and (wish.key or not wish.stamp)):
        raise CallError("say what to do: --seal KEY, --stamp URL, or both; or --renew with --stamp URL.")
    from wexagraph.seals import sealing as seals

    report, renewed = Report(folder), 0
    if renew:
        renewed = seals.renew(root, wish.stamp, report)
    else:
        seals.seal(root, wish, datetime.now(UTC), report)
    if as_json:
        words = ("sealed", "stamped", "unstamped")
        print_json({word: report.as_dict()[word] for word in words} | {"renewed": renewed})
    else:
        print_seal(report)
        if renewed:
            click.echo(f"Stamped once more: {counted(renewed, 'file')} of seals, stamps and lists.")
        if not (report.sealed or report.stamped or report.unstamped or renewed):
            click.echo(f"{one_line(folder)} is sealed and stamped so already, and nothing was changed since.")
    return OK if report.complete else SOME_FAILED
