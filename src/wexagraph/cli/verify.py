"""`wexagraph verify DIR`"""

from __future__ import annotations

import json
from typing import Any

import click

from wexagraph.cli.exits import OK, SOME_FAILED
from wexagraph.cli.terminal import machine_output
from wexagraph.exports.verify import Verification, verify
from wexagraph.text import one_line

_SHOWN = 50
_KINDS = (
    ("missing", "Missing"),
    ("altered", "Altered"),
    ("foreign", "Foreign"),
    ("lines", "Unreadable line of the list"),
)


@click.command("verify")
@click.argument("folder", metavar="DIR")
@click.option("--json", "as_json", is_flag=True, help="JSON on standard output.")
def command(folder: str, as_json: bool) -> int:
    """Prove an export folder whole, or say what is not.

    Every file is compared with the checksums in manifest-sha256.txt. Missing: it is in the list and not in DIR.
    Altered: its bytes are others. Foreign: it is in DIR and not in the list.
    """
    found = verify(folder)
    if as_json:
        machine_output()
        values: dict[str, Any] = {"folder": folder, "whole": found.whole}
        values.update({name: getattr(found, name) for name, _ in _KINDS})
        click.echo(json.dumps(values, ensure_ascii=False, indent=1))
    else:
        _print(folder, found)
    return OK if found.complete else SOME_FAILED


def _print(folder: str, found: Verification) -> None:
    for name, word in _KINDS:
        paths: list[str] = getattr(found, name)
        for path in paths[:_SHOWN]:
            click.secho(f"{word}: {one_line(path)}", fg="red" if name != "foreign" else "magenta")
        if len(paths) > _SHOWN:
            click.echo(f"... and {len(paths) - _SHOWN:,} more of these.")
    checked = found.whole + len(found.missing) + len(found.altered)
    click.echo(
        f"{one_line(folder)}: {found.whole:,} of {checked:,} listed files are whole, {len(found.missing):,} missing, "
        f"{len(found.altered):,} altered; {len(found.foreign):,} foreign."
    )
    if found.missing or found.altered:
        click.echo("The export command that made them makes missing and altered files again.")
