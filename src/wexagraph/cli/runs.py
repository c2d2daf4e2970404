"""`wexagraph runs DIR`"""

from __future__ import annotations

import sys
from pathlib import Path
from typing import Any

import click

from wexagraph.app.locales import zone_name
from wexagraph.cli.parameters import CSV, FOLDER, JSON, ZONE
from wexagraph.cli.reports import counted
from wexagraph.cli.session import ask_passphrase
from wexagraph.cli.terminal import Sheet, machine_output
from wexagraph.tables.columns import csv_row
from wexagraph.text import one_line, size, to_json

_COLUMNS = {name: name for name in ("name", "source", "written", "gone", "changed", "failed", "bytes", "state")}
_COLUMNS["written"] = "added"  # as the lists on the disk call it


@click.command("runs")
@FOLDER
@ZONE
@CSV
@JSON
def command(folder: str, zone: str | None, as_csv: bool, as_json: bool) -> int:
    """The runs of the backup in DIR, first to last: when, how many messages were new and gone, bytes, errors."""
    from wexagraph.backups import bag
    from wexagraph.backups.opening import open_backup
    from wexagraph.messages.dates import in_zone
    from wexagraph.pages.options import PageOptions

    timezone = PageOptions(zone=zone_name(zone)).timezone()
    with open_backup(Path(folder).expanduser(), ask=ask_passphrase()) as store:
        runs = store.all_runs()
        messages, total = store.catalogue.counts()
        vanished = store.catalogue.vanished()
    rows: list[dict[str, Any]] = [{name: run[key] for name, key in _COLUMNS.items()} for run in runs]
    if as_json:
        machine_output()
        click.echo(to_json(rows))
        return 0
    if as_csv:
        machine_output()
        sys.stdout.write(csv_row(_COLUMNS) + "".join(csv_row(map(str, each.values())) for each in rows))
        return 0
    table = Sheet("Run", "When", ">New", ">Gone", "?>Changed", "?>Failed", "?>Written", "End", "|Source")
    for run in runs:
        moment = bag.run_moment(run["moment"])
        shown = in_zone(moment, timezone) if timezone else moment
        counts = [f"{run[key]:,}" for key in ("added", "gone", "changed", "failed")]
        cells = [run["name"], f"{shown:%Y-%m-%d %H:%M}", *counts, size(run["bytes"]), run["state"], run["source"]]
        table.add_row(*(one_line(str(cell)) for cell in cells))
    table.show()
    gone = f"; {vanished:,} of them lie nowhere in the source any more" if vanished else ""
    click.secho(
        f"{counted(len(runs), 'run')}. {counted(messages, 'message')}, {size(total)} unpacked{gone}.",
        dim=True,
    )
    return 0
