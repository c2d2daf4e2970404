"""`wexagraph verify DIR`"""

from __future__ import annotations

import shlex
import sys
from collections.abc import Callable
from contextlib import closing
from pathlib import Path
from typing import Any

import click

from wexagraph.app.cases.proving import is_records, verified, verified_records
from wexagraph.app.rows import Flag, Option
from wexagraph.backups.bag import BAGIT
from wexagraph.cli.exits import OK, SOME_FAILED
from wexagraph.cli.options import option
from wexagraph.cli.parameters import CSV, FOLDER, JOBS, JSON, QUIET
from wexagraph.cli.reports import counted, print_json
from wexagraph.cli.session import ask_passphrase, prompt
from wexagraph.cli.terminal import machine_output
from wexagraph.errors import CallError
from wexagraph.naming.paths import ALL_REGISTERS
from wexagraph.reports import Finding, Verification
from wexagraph.tables.columns import Column, heading, row
from wexagraph.text import one_line, size

_SHOWN = 50
_COLUMNS: list[Column[Finding]] = [
    Column("state", lambda each: each.state),
    Column("path", lambda each: one_line(each.path)),
    Column("reason", lambda each: one_line(each.reason)),
    Column("messages", lambda each: "; ".join(one_line(name) for _, name in each.messages)),
]


@click.command("verify")
@FOLDER
@option(Option("deep", "Of a backup: unpack every message, resolve every list entry, too.", False, Flag(), safe=True))
@click.option(
    "--repair", metavar="SOURCE", help="Of a backup: mend it, from another copy of it or from the mailbox it is of."
)
@click.option("--at", metavar="PLACE", help="Compare with what was delivered there: by sizes, --deep by bytes.")
@click.option(
    "--known",
    metavar="FILE",
    multiple=True,
    help="Certificates by which seals are proved, as PEM or DER: the office's root, that of who stamps. Repeatable.",
)
@JOBS
@QUIET
@CSV
@JSON
@click.pass_context
def command(
    context: click.Context,
    folder: str,
    deep: bool,
    repair: str | None,
    at: str | None,
    known: tuple[str, ...],
    jobs: int,
    quiet: bool,
    as_csv: bool,
    as_json: bool,
) -> int:
    """Prove a backup, an export folder, a case, all cases of a records folder, or a packed case whole, or say what is
    not.

    Every file is compared with the checksums in manifest-sha256.txt. Missing: it is in the list and not in DIR.
    Altered: its bytes are others. Foreign: it is in DIR and not in the list.
    """
    root = Path(folder).expanduser()
    if at is not None:
        return _tell(_at_a_place(context, root, at, deep), _print_place, quiet, as_csv, as_json)
    if root.is_file():
        return _tell(_one_file(root, known), _print_packed, quiet, as_csv, as_json)
    of_a_backup = (root / BAGIT).exists() or (root / "data" / "volumes").is_dir()
    if of_a_backup:
        verification = _backup(context, root, deep, repair, jobs, known)
    elif deep or repair is not None:
        raise CallError(f"--deep and --repair are for backups; {folder} is none. The export command mends an export.")
    else:
        trusted = _read_known(known)
        verification = verified_records(root, trusted) if is_records(root) else verified(root, known=trusted)
    return _tell(verification, _print_backup if of_a_backup else _print_export, quiet, as_csv, as_json)


def _read_known(paths: tuple[str, ...]) -> Any:
    """The certificates of files; None where none is named, so that nothing is loaded for it."""
    if not paths:
        return None
    from wexagraph.protection.certificates import read_known

    return read_known(Path(path).expanduser() for path in paths)


def _print_seals(verification: Verification) -> None:
    for one in verification.seals:
        earlier = "" if "/" not in one.list else f" ({one_line(one.list)})"
        if one.by:
            click.echo(f"Sealed by {one.by}{earlier}: the list is as it was sealed.")
            click.echo(f"  {_who(one.by, one.known_by)}")
        if one.since is not None:
            click.echo(
                f"Stamped by {one.stamped_by}{earlier}: since {one.since:%Y-%m-%d %H:%M:%S} UTC the list can't have "
                "been otherwise."
            )
            click.echo(f"  {_who(one.stamped_by, one.stamp_known_by)}")
            click.echo(f"  Provable until {one.until:%Y-%m-%d}; `wexagraph seal --renew` makes that longer.")


def _who(name: str, known_by: str) -> str:
    if known_by:
        return f"Its certificate is known through {one_line(known_by)}."
    return f"That it is {name} is not proved: nothing in --known leads to its certificate."


def _tell(
    verification: Verification, in_words: Callable[[Verification], None], quiet: bool, as_csv: bool, as_json: bool
) -> int:
    """Say what a proof has found; `quiet`, only where something is wrong. Returns the exit code."""
    if as_json:
        print_json(verification.as_dict())
    elif as_csv:
        machine_output()
        sys.stdout.write(heading(_COLUMNS) + "".join(row(_COLUMNS, each) for each in verification.findings))
    elif not (quiet and verification.whole):
        _print_findings(verification)
        in_words(verification)
    return OK if verification.whole else SOME_FAILED


def _at_a_place(context: click.Context, root: Path, at: str, deep: bool) -> Verification:
    """Prove what was delivered."""
    from wexagraph.app.places import open_place
    from wexagraph.sending.delivery import compared

    with open_place(at, context.obj.configuration, root, prompt()) as place:
        return compared(root, place, deep)


def _print_place(verification: Verification) -> None:
    missing, altered, foreign = (len(verification.paths(state)) for state in ("missing", "altered", "foreign"))
    whole = verification.files - missing - altered
    how = "read back" if verification.deep else "of the right size"
    click.echo(
        f"{one_line(verification.folder)}: {whole:,} of {verification.files:,} files are there, {how}; "
        f"{missing:,} missing, {altered:,} altered, {foreign:,} foreign."
    )


def _one_file(path: Path, known: tuple[str, ...]) -> Verification:
    """Prove a case that was packed, or another file with a seal beside it."""
    seals = Verification(str(path), files=1)
    if any(path.with_name(path.name + ending).exists() for ending in (".p7s", ".tsr")):
        from wexagraph.protection.certificates import Known
        from wexagraph.seals.sealing import prove_file

        prove_file(path, _read_known(known) or Known(), seals)
        if path.suffix.lower() != ".zip":
            return seals
    from wexagraph.records.packed import PackedCase

    with closing(PackedCase(path)) as packed:
        verification = packed.verify()
    verification.seals, verification.findings = seals.seals, [*verification.findings, *seals.findings]
    return verification


def _print_packed(verification: Verification) -> None:
    _print_seals(verification)
    whole = verification.files - len(verification.paths("altered")) - len(verification.paths("foreign"))
    click.echo(
        f"{one_line(verification.folder)}: {whole:,} of {verification.files:,} files are whole; {_told(verification)}."
    )


def _backup(
    context: click.Context, root: Path, deep: bool, repair: str | None, jobs: int, known: tuple[str, ...]
) -> Verification:
    from wexagraph.backups.verify import verify as verify_backup

    if repair is None:
        return verify_backup(root, deep, jobs, ask=ask_passphrase(), known=_read_known(known))
    from wexagraph.backups.bag import is_backup
    from wexagraph.backups.repair import repair as mend

    other = Path(repair).expanduser()
    with context.obj.open(repair) as source:
        return mend(root, source, other if is_backup(other) else None, jobs, ask_passphrase())


def _print_findings(verification: Verification) -> None:
    for state in ("missing", "altered", "foreign", "unreadable"):
        findings = [finding for finding in verification.findings if finding.state == state]
        for finding in findings[:_SHOWN]:
            reason = f": {one_line(finding.reason)}" if finding.reason else ""
            label = "Unreadable line of the list" if state == "unreadable" else state.capitalize()
            colour = "red" if state != "foreign" else "magenta"
            click.secho(f"{label}: {one_line(finding.path)}{reason}", fg=colour)
            for digest, name in finding.messages[:_SHOWN]:
                click.echo(f"    with it: {one_line(name)} ({digest[:12]})")
            if len(finding.messages) > _SHOWN:
                click.echo(f"    and {len(finding.messages) - _SHOWN:,} messages more.")
        if len(findings) > _SHOWN:
            click.echo(f"... and {len(findings) - _SHOWN:,} more of these.")


def _print_backup(verification: Verification) -> None:
    for path in verification.left:
        click.echo(f"Left by a run that was stopped, for the next run to take in: {one_line(path)}")
    for path in verification.repaired:
        click.secho(f"Mended: {one_line(path)}", fg="green")
    for path in verification.unrepaired:
        click.secho(f"Not mended: {one_line(path)}. Another copy of the backup may have it.", fg="red")
    _print_seals(verification)
    messages = f", {counted(verification.messages, 'message')} unpacked and digested" if verification.deep else ""
    click.echo(
        f"{one_line(verification.folder)}: {counted(verification.files, 'file')}, {size(verification.bytes)}{messages}"
        f"; {_told(verification)}."
    )
    if verification.findings and not verification.repaired:
        folder = one_line(shlex.quote(verification.folder))
        click.echo(f"`wexagraph verify {folder} --repair SOURCE` mends what the source, or another copy, still has.")


def _told(verification: Verification) -> str:
    """What was found, in a few words: "2 files missing, 1 altered; no messages lost"."""
    states = {state: len(verification.paths(state)) for state in ("missing", "altered", "foreign", "unreadable")}
    words = [f"{count:,} {state}" for state, count in states.items() if count]
    if not words:
        return "all whole"
    first, _, rest = words[0].partition(" ")
    words[0] = f"{first} file{'s' * (first != '1')} {rest}"
    lost = sum(len(finding.messages) for finding in verification.findings)
    return f"{', '.join(words)}; {counted(lost, 'message') if lost else 'no messages'} lost"


def _print_universal(verification: Verification) -> None:
    """How many PDFs everyone can read, and how many hold a seal of their own."""
    for path, reason in verification.not_universal[:_SHOWN]:
        click.echo(f"Says PDF/UA-1 and is not: {one_line(path)}: {reason}.")
    if verification.pdfs:
        of = f"{verification.universal:,} of {counted(verification.pdfs, 'PDF')}"
        click.echo(f"Tagged for everyone to read (PDF/UA-1), and found so: {of}.")
    if verification.sealed:
        of = f"{verification.sealed:,} of {counted(verification.pdfs, 'PDF')}"
        click.echo(f"Sealed each by itself, and the seal holds: {of}.")


def _print_export(verification: Verification) -> None:
    _print_seals(verification)
    for path, proved in verification.worked_in:
        click.echo(f"Worked in: {one_line(path)}: {proved}.")
    _print_universal(verification)
    missing, altered, foreign = (len(verification.paths(state)) for state in ("missing", "altered", "foreign"))
    worked_in = len([path for path, _ in verification.worked_in if path in ALL_REGISTERS])
    also = f", {worked_in:,} worked in" if worked_in else ""
    whole = verification.files - missing - altered - worked_in
    click.echo(
        f"{one_line(verification.folder)}: {whole:,} of {verification.files:,} listed "
        f"files are whole, {missing:,} missing, {altered:,} altered{also}; {foreign:,} foreign."
    )
    if missing or altered:
        click.echo("The export command that made them makes missing and altered files again.")
