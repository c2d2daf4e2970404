"""`wexagraph demo [--into DIR]`"""

from __future__ import annotations

import os
import shlex
import shutil
from collections.abc import Iterator
from contextlib import contextmanager
from dataclasses import replace
from pathlib import Path
from typing import Any

import click

from wexagraph.app.accounts import VARIABLE
from wexagraph.app.orders.running import PLACE
from wexagraph.app.rows import ZONE
from wexagraph.cli.main import COMMANDS, cli
from wexagraph.cli.options import option
from wexagraph.errors import TargetError
from wexagraph.text import one_line

_MARK = "made-by-wexagraph-demo"
_STAMPS, _LOCK = "STAMPS", "SALTMERE_KEY"
"""Stand for the address of who stamps, while it is not known; and for what has the password of the office's key."""


@click.command("demo")
@click.option(
    "--into", default="saltmere", show_default=True, metavar="DIR", help="Where the mailbox and the files go."
)
@option(replace(ZONE, help="Time zone for the example.", default="Europe/Lisbon", shown=True))
@click.pass_context
def command(context: click.Context, into: str, zone: str) -> int:
    """Make the Saltmere demo mailbox and run the full example on it.

    The port office of Saltmere is invented, and so is everyone who writes to it. Its mail is of every kind that a
    records clerk meets, the broken and the hostile included.
    """
    from wexagraph.demo import make_mailbox
    from wexagraph.demo.authority import KEY, OFFICE_ROOT, STAMPS_ROOT, authority

    folder = Path(into)
    _prepare(folder)
    mailbox = make_mailbox(folder / "mailbox")
    click.secho("1. A mailbox to try things on", bold=True)
    click.echo(
        f"   Made {mailbox.count} messages in {one_line(str(mailbox.path))}: an mbox file, a Maildir with folders,"
    )
    click.echo("   and a folder of EML files. All persons, firms and ships are invented.")
    source, out = str(mailbox.path), str(folder / "export")
    to_quay = ("--zone", zone, "--into", str(folder / "quay"))
    records = ("--records", str(folder / "records"))
    steps: list[tuple[str, list[str]]] = [
        ("Which folders are there?", ["folders", source]),
        (
            "What did the surveyor and the harbour master write about the quay?",
            ["list", source, "--subject", "quay", "--zone", zone],
        ),
        ("One message, looked at closely", ["show", source, _first_id(source, "East quay survey"), "--zone", zone]),
        (
            "All of it as PDF for reading and EML for evidence",
            ["export", source, "--into", out, "--as", "pdf,eml", "--index", "--zone", zone],
        ),
        (
            "The same command again: nothing is done twice",
            ["export", source, "--into", out, "--as", "pdf,eml", "--index", "--zone", zone],
        ),
        (
            "Sealed with the office's key and stamped by another, so that nobody can say it was made later",
            ["seal", out, "--seal", str(folder / "keys" / KEY), "--seal-password", f"env:{_LOCK}", "--stamp", _STAMPS],
        ),
        (
            "Whole, by whom, and since when",
            [
                *("verify", out, "--known", str(folder / "keys" / OFFICE_ROOT)),
                *("--known", str(folder / "keys" / STAMPS_ROOT)),
            ],
        ),
        ("Where colleagues see it: a folder of the office's share", ["deliver", out, "--into", str(folder / "share")]),
        (
            "What the lawyer asked for: a draft in the account, for a person to look at and send",
            ["send", source, "--subject", "quay", "--send-to", "Ana Prior <prior@court.example>", "--bind", "all"],
        ),
        (
            "An order: what is written about the quay, every hour",
            [*("order", "add", "quay", "--every", "1h", "--", "export", source, "--subject", "quay"), *to_quay],
        ),
        ("What would it do?", ["order", "run", "quay", "--dry-run"]),
        ("It is due, so it runs", ["order", "run", "--due"]),
        ("Run again, it has nothing to do", ["order", "run", "quay"]),
        ("All orders", ["order", "list"]),
        (
            "Three cases",
            ["case", "open", "2026-118", "The quarrel over buoy 14", "--match", "subject=buoy 14", *records],
        ),
        ("", ["case", "open", "2026-031", "Dredging at the east quay", "--match", "from=brackwater", *records]),
        ("", ["case", "open", "2026-007", "Noise at the boatyard", "--match", "subject=boatyard", *records]),
        ("The mail is filed where the plan says", ["file", source, "--by-plan", "--quiet", *records]),
        ("All cases", ["case", "list", *records]),
        ("What was written of a mooring?", ["find", "mooring pelican", "--case", "2026-118", *records]),
    ]
    worst, number = 0, 1
    with _own_account(folder) as configuration, authority(folder / "keys") as stamps:
        for heading, arguments in steps:
            if heading:
                number += 1
                click.secho(f"\n{number}. {heading}", bold=True)
            if arguments[0] == "send":
                arguments = ["--config", configuration, *arguments]
            arguments = [stamps if word == _STAMPS else word for word in arguments]
            click.secho(f"   $ wexagraph {shlex.join(arguments)}\n", fg="magenta")
            worst = max(worst, _run(context, arguments))
    _farewell(folder, mailbox.count)
    return worst


@contextmanager
def _own_account(folder: Path) -> Iterator[str]:
    """An account that takes drafts, and orders and logs of the demo's own: the clerk's stay as they are. Gives the path
    of the configuration that names the account."""
    from wexagraph.demo.account import drafts_account
    from wexagraph.demo.authority import PASSWORD

    own = {PLACE: str(folder / "orders"), VARIABLE: PASSWORD, _LOCK: PASSWORD}
    before = {name: os.environ.get(name) for name in own}
    os.environ.update(own)
    try:
        with drafts_account(folder / "account") as url:
            configuration = folder / "wexagraph.toml"
            settings = f'[sending]\nsender = "Port office <records@saltmere.example>"\ndrafts = "{url}"\n'
            configuration.write_text(settings, "utf-8")
            yield str(configuration)
    finally:
        for name, value in before.items():
            os.environ.pop(name, None)
            if value is not None:
                os.environ[name] = value


def _prepare(folder: Path) -> None:
    """Clear what an earlier demo has made; a folder with anything else in it is left alone. Raises TargetError."""
    try:
        if folder.exists() and not folder.is_dir():
            raise TargetError(f"{folder} is a file. Name another place with --into.")
        if folder.is_dir() and any(folder.iterdir()) and not (folder / _MARK).exists():
            raise TargetError(f"{folder} holds something else. Name another place with --into.")
        for name in ("mailbox", "export", "orders", "quay", "records", "share", "account", "keys"):
            if (folder / name).exists():
                shutil.rmtree(folder / name)
        (folder / "share").mkdir(parents=True)
        (folder / _MARK).write_text("The demo may clear this folder.\n", "utf-8")
    except OSError as error:
        raise TargetError(
            f"{folder} can't be used: {error.strerror or error}. Name another place with --into."
        ) from error


def _first_id(source: str, subject: str) -> str:
    from wexagraph.selection.choice import Choice
    from wexagraph.selection.criteria import Criterion
    from wexagraph.sources import open_source

    with open_source(source) as mailbox:
        choice = Choice(criteria=(Criterion("subject", subject), Criterion("attached", "*.pdf")))
        return next(choice.select(mailbox)).id


def _run(context: click.Context, arguments: list[str]) -> int:
    """Run a command as if it had been typed."""
    result: Any = cli.main(arguments, prog_name="wexagraph", standalone_mode=False)
    return result if isinstance(result, int) else 0


def _farewell(folder: Path, count: int) -> None:
    export = folder / "export"
    pdfs = sum(1 for _ in export.rglob("*.pdf"))
    emls = sum(1 for _ in export.rglob("*.eml"))
    click.secho("\nWhere things are", bold=True)
    click.echo(f"   {pdfs} PDF and {emls} EML files of {count} messages lie in {one_line(str(export))},")
    click.echo("   in the folders they had in the mailbox, each named from its date, sender and subject.")
    click.echo(f"   {one_line(str(export / 'register.csv'))} has a row a message and opens in any spreadsheet.")
    click.echo(f"   {one_line(str(export / 'index.html'))} is a page to browse and search them, in any browser.")
    click.echo(f"   {one_line(str(export / 'manifest-sha256.txt'))} proves them: sha256sum -c, in that folder.")
    click.echo(f"   Commands: {', '.join(COMMANDS)}. `wexagraph COMMAND --help` explains each.")
