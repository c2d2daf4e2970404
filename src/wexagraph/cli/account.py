"""`wexagraph account add|check|list|forget`"""

from __future__ import annotations

import re
import sys
from pathlib import Path

import click

from wexagraph.app.accounts import VARIABLE, Known, added, from_keyring, has_keyring, keep, out_of_keyring, to_keyring
from wexagraph.cli.session import prompt
from wexagraph.cli.terminal import make_console, make_table
from wexagraph.errors import CallError
from wexagraph.sources import open_source
from wexagraph.sources.accounts import Account
from wexagraph.text import one_line

_TOLD = {  # capability: what it is good for
    "ESEARCH": "short answers to searches",
    "UIDPLUS": "removing single messages",
    "MOVE": "moving messages",
    "SPECIAL-USE": "naming the trash",
    "CONDSTORE": "telling what changed",
    "QRESYNC": "telling what is gone",
    "UTF8=ACCEPT": "names beyond ASCII",
}


@click.group("account")
def command() -> None:
    """Accounts on a server: give them names, store their passwords in the system's keyring."""


@command.command("add")
@click.argument("name")
@click.argument("url")
@click.option(
    "--authority",
    type=click.Path(exists=True, dir_okay=False),
    metavar="FILE",
    help="Certificates (PEM) of the office's own authority.",
)
def add(name: str, url: str, authority: str | None) -> None:
    """Name the account at URL (imaps://user@mail.example/) and store its password; then @NAME is a source."""
    if not re.fullmatch(r"[\w.-]{1,60}", name):
        raise CallError(f"{name!r} can't be the name of an account: letters, digits, and . _ - only.")
    known = Known(url, authority=str(Path(authority).resolve()) if authority else "")
    account = known.account()
    keep({**added(), name: known})
    if not has_keyring():
        click.echo(
            f"Name and URL are stored. This machine has no keyring for the password: set {VARIABLE}, or give a "
            "password-command in wexagraph.toml; else it is asked for."
        )
        return
    to_keyring(account, _password(account))
    click.echo(f"Stored. Try it: wexagraph account check {name}, then wexagraph folders @{name}")


def _password(account: Account) -> str:
    """The account's password: asked for, or the first line of standard input where that is no terminal."""
    if sys.stdin.isatty():
        return str(click.prompt(f"Password of {one_line(account.name)}", hide_input=True, err=True))
    password = sys.stdin.readline().rstrip("\r\n")
    if not password:
        raise CallError("there is no terminal to ask for the password at, and none came on standard input.")
    return password


@command.command("check")
@click.argument("name")
@click.pass_context
def check(context: click.Context, name: str) -> None:
    """Log in to the account NAME, and say what its server offers."""
    known = _named(context, name)
    account = known.account()
    with open_source(account, known.login(prompt())) as source:
        folders = source.folders()
        click.echo(f"Logged in to {one_line(account.host)} as {one_line(account.user)}, {_line(account)}.")
        click.echo(f"{source.kind}, {len(folders)} folder{'s' * (len(folders) != 1)}.")
        offered: frozenset[str] = getattr(getattr(source, "line", None), "capabilities", frozenset())
        for word, use in _TOLD.items():
            if offered:
                click.echo(f"  {'offers' if word in offered else 'lacks '} {word:12} {use}")


@command.command("list")
@click.pass_context
def list_accounts(context: click.Context) -> None:
    """The accounts that have names."""
    table = make_table("Name", "URL", "Password")
    accounts: dict[str, Known] = context.obj.configuration.accounts
    for name, known in sorted(accounts.items()):
        where = "token-command" if known.token_command else "password-command" if known.password_command else ""
        where = where or ("keyring" if from_keyring(known.account()) is not None else f"{known.variable}, or asked for")
        table.add_row(one_line(f"@{name}"), one_line(known.account().url), where)
    if accounts:
        make_console().print(table)
    else:
        click.echo("No account is stored yet. Add one: wexagraph account add NAME imaps://user@mail.example/")


@command.command("forget")
@click.argument("name")
def forget(name: str) -> None:
    """Take the account NAME off the list, and its password out of the keyring."""
    accounts = added()
    if name not in accounts:
        raise CallError(f"no account {name!r} was added. `wexagraph account list` names those there are.")
    gone = out_of_keyring(accounts.pop(name).account())
    keep(accounts)
    click.echo(f"Forgotten: {name}{', and its password' if gone else '; no password was stored'}.")


def _named(context: click.Context, name: str) -> Known:
    known: Known = context.obj.configuration.account(name.removeprefix("@"))
    return known


def _line(account: Account) -> str:
    if account.encrypted_from_the_start:
        return "encrypted, certificate verified"
    return (
        "STARTTLS where offered; the line ends on this machine" if account.may_stay_plain else "encrypted by STARTTLS"
    )
