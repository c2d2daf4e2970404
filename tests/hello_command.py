"""A command that only the tests know."""

from __future__ import annotations

import click

from wexagraph.cli.parameters import JSON
from wexagraph.cli.reports import conclude, print_sums
from wexagraph.reports import Report


@click.command("hello")
@JSON
def command(as_json: bool) -> int:
    """Say hello."""
    report = Report(chosen=1, written=1)
    return conclude(report, as_json, lambda: print_sums(report))
