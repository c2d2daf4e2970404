"""`wexagraph place add|check|list|forget`"""

from __future__ import annotations

import hashlib
from pathlib import Path

import click

from wexagraph.app.accounts import PLACES, Known
from wexagraph.app.places import open_place, place_named
from wexagraph.cli.account import ADDED, forget_name, keep_name, known_at, print_names, store_password
from wexagraph.cli.parameters import JSON
from wexagraph.cli.session import prompt
from wexagraph.errors import CallError, TargetError
from wexagraph.sending.places import part_of
from wexagraph.sources.accounts import PLACES as SCHEMES
from wexagraph.sources.accounts import Account
from wexagraph.text import one_line

_TRIED = b"Tried by wexagraph place check; it may be removed.\n"


@click.group("place")
def command() -> None:
    """Places where what was made is put for others: give them names, try them."""


@command.command("add")
@ADDED
def add(name: str, url: str, authority: str | None) -> None:
    """Name a folder, or a server at URL (sftp:// or davs://user@host/folder, s3://KEY@host/bucket); @NAME is it."""
    known = known_at(url, authority)
    if "://" not in url:
        folder = Path(url).expanduser().absolute()
        if not folder.is_dir():
            raise CallError(f"{one_line(url)} is no folder. A place has to be there: is the share mounted?")
        known = Known(str(folder))
    account, next_step = keep_name(PLACES, name, known, _account), f"wexagraph place check {name}"
    if account is not None and account.scheme != "sftp":
        store_password(account, next_step)
        return
    login = "" if account is None else " The login is by your SSH keys or agent, else by a password."
    click.echo(f"Stored.{login} Try it: {next_step}")


def _account(known: Known) -> Account | None:
    """The account that a place lies at; None of a folder. Raises CallError."""
    return known.account(SCHEMES) if "://" in known.url else None


@command.command("check")
@click.argument("name")
@click.pass_context
def check(context: click.Context, name: str) -> None:
    """Write a small file at the place NAME, read it back, and remove it."""
    named = f"@{name.removeprefix('@')}"
    with open_place(named, context.obj.configuration, None, prompt()) as place:
        part = part_of("check")
        try:
            place.write(part, iter((_TRIED,)), len(_TRIED))
            place.settle()
            back = place.digest(part)
            place.remove(part)
        except OSError as error:
            raise TargetError(f"{place.name} can't be written to: {error.strerror or error}.") from error
    if back != hashlib.sha256(_TRIED).hexdigest():
        raise TargetError(f"{place.name} does not give back what was written. Choose another place.")
    click.echo(f"A file was written, read back and removed: {one_line(place.name)}")
    click.echo(f"Deliver to it: wexagraph deliver DIR --into {named}")


@command.command("list")
@JSON
@click.pass_context
def list_places(context: click.Context, as_json: bool) -> None:
    """The places that have names."""
    print_names(
        context.obj.configuration.places,
        _account,
        "No place has a name yet. Add one: wexagraph place add NAME davs://user@files.example/folder",
        as_json,
    )


@command.command("forget")
@click.argument("name")
@click.pass_context
def forget(context: click.Context, name: str) -> None:
    """Take the place NAME off the list, and its password out of the keyring. What lies there stays."""
    known = place_named(f"@{name.removeprefix('@')}", context.obj.configuration)
    forget_name(PLACES, name.removeprefix("@"), _account(known))
