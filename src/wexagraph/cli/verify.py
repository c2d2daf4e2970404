"""`wexagraph verify DIR`"""

from __future__ import annotations

import os
import shlex
from pathlib import Path
from typing import TYPE_CHECKING, Any

import click

from wexagraph.backups.bag import BAGIT
from wexagraph.cli.exits import OK, SOME_FAILED
from wexagraph.cli.parameters import FOLDER
from wexagraph.cli.secrets import passphrase
from wexagraph.cli.terminal import machine_output
from wexagraph.errors import CallError
from wexagraph.exports.verify import Verification, verify
from wexagraph.text import one_line, size, to_json

if TYPE_CHECKING:
    from wexagraph.backups.verify import BackupVerification

_SHOWN = 50
_KINDS = (
    ("missing", "Missing"),
    ("altered", "Altered"),
    ("foreign", "Foreign"),
    ("lines", "Unreadable line of the list"),
)


@click.command("verify")
@FOLDER
@click.option("--deep", is_flag=True, help="Of a backup: unpack every message, resolve every list entry, too.")
@click.option("--repair", metavar="SOURCE",
              help="Of a backup: mend it, from another copy of it or from the mailbox it is of.")  # fmt: skip
@click.option(
    "--jobs", type=click.IntRange(1, 256), metavar="N", help="Worker processes.  [default: the machine's cores]"
)
@click.option("--json", "as_json", is_flag=True, help="JSON on standard output.")
@click.pass_context
def command(
    context: click.Context, folder: str, deep: bool, repair: str | None, jobs: int | None, as_json: bool
) -> int:
    """Prove a backup or an export folder whole, or say what is not.

    Every file is compared with the checksums in manifest-sha256.txt. Missing: it is in the list and not in DIR.
    Altered or damaged: its bytes are others. Foreign: it is in DIR and not in the list.
    """
    root = Path(folder).expanduser()
    if (root / BAGIT).exists() or (root / "data" / "volumes").is_dir():
        return _backup(context, root, deep, repair, jobs or os.cpu_count() or 1, as_json)
    if deep or repair is not None:
        raise CallError(f"--deep and --repair are for backups; {folder} is none. The export command mends an export.")
    found = verify(folder)
    if as_json:
        machine_output()
        values: dict[str, Any] = {"folder": folder, "whole": found.whole}
        values.update({name: getattr(found, name) for name, _ in _KINDS})
        click.echo(to_json(values))
    else:
        _print(folder, found)
    return OK if found.complete else SOME_FAILED


def _backup(context: click.Context, root: Path, deep: bool, repair: str | None, jobs: int, as_json: bool) -> int:
    from wexagraph.backups.verify import verify as verify_backup

    if repair is None:
        found = verify_backup(root, deep, jobs, ask=passphrase)
    else:
        from wexagraph.backups.bag import is_backup
        from wexagraph.backups.repair import repair as mend

        other = Path(repair).expanduser()
        with context.obj.open(repair) as source:
            found = mend(root, source, other if is_backup(other) else None, jobs, passphrase)
    if as_json:
        machine_output()
        click.echo(to_json(found.as_dict()))
    else:
        _print_backup(found)
    return OK if found.complete else SOME_FAILED


def _print_backup(found: BackupVerification) -> None:
    for finding in found.findings[:_SHOWN]:
        reason = f": {one_line(finding.reason)}" if finding.reason else ""
        colour = "red" if finding.state != "foreign" else "magenta"
        click.secho(f"{finding.state.capitalize()}: {one_line(finding.path)}{reason}", fg=colour)
        for digest, name in finding.messages[:_SHOWN]:
            click.echo(f"    with it: {one_line(name)} ({digest[:12]})")
        if len(finding.messages) > _SHOWN:
            click.echo(f"    and {len(finding.messages) - _SHOWN:,} messages more.")
    if len(found.findings) > _SHOWN:
        click.echo(f"... and {len(found.findings) - _SHOWN:,} more of these.")
    for path in found.left:
        click.echo(f"Left by a run that was stopped, for the next run to take in: {one_line(path)}")
    for path in found.repaired:
        click.secho(f"Mended: {one_line(path)}", fg="green")
    for path in found.unrepaired:
        click.secho(f"Not mended: {one_line(path)}. Another copy of the backup may have it.", fg="red")
    messages = f", {found.messages:,} messages unpacked and digested" if found.deep else ""
    lost = sum(len(finding.messages) for finding in found.findings)
    wrong = f"{len(found.findings):,} not as {'it' if len(found.findings) == 1 else 'they'} should be"
    told = f"{wrong}, {lost:,} message{'s' * (lost != 1)} lost with that" if found.findings else "all whole"
    click.echo(f"{one_line(found.folder)}: {found.files:,} files, {size(found.bytes)}{messages}; {told}.")
    if found.findings and not found.repaired:
        folder = one_line(shlex.quote(found.folder))
        click.echo(f"`wexagraph verify {folder} --repair SOURCE` mends what the source, or another copy, still has.")


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
