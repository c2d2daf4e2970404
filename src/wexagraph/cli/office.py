"""The records folder of a call: its option, the argument that names a case, and opening it."""

from __future__ import annotations

from datetime import datetime

import click

from wexagraph.app.cases import Records, records_folder, user_name
from wexagraph.cli.parameters import named

RECORDS = click.option("--records", metavar="DIR", help="The records folder; else WEXAGRAPH_RECORDS, or as configured.")
REFERENCE = click.argument("reference", metavar="REF", callback=named)


def records_of(context: click.Context, given: str | None) -> Records:
    """The records of a call."""
    return Records(records_folder(given), lambda: datetime.now().astimezone(), user_name())
