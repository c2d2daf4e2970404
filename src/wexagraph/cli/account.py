"""`wexagraph account add|check|list|forget`, and what `place` shares with it"""

from __future__ import annotations

import re
import sys
from collections.abc import Callable
from pathlib import Path
from typing import TypeVar

import click

from wexagraph.app.accounts import (
    ACCOUNTS,
    VARIABLE,
    Known,
    Names,
    from_keyring,
    has_keyring,
    out_of_keyring,
    to_keyring,
)
from wexagraph.cli.options import together
from wexagraph.cli.parameters import JSON
from wexagraph.cli.reports import print_json
from wexagraph.cli.session import prompt
from wexagraph.cli.terminal import Sheet
from wexagraph.errors import CallError
from wexagraph.sources import open_source
from wexagraph.sources.accounts import Account
from wexagraph.text import one_line

_Account = TypeVar("_Account", Account, Account | None)
_TOLD = {  # capability: what it is good for
    "ESEARCH": "short answers to searches",
    "UIDPLUS": "removing single messages",
    "MOVE": "moving messages",
    "SPECIAL-USE": "naming the trash",
    "CONDSTORE": "telling what changed",
    "QRESYNC": "telling what is gone",
    "UTF8=ACCEPT": "names beyond ASCII",
}
ADDED = together(
    click.argument("name"),
    click.argument("url"),
    click.option(
        "--authority",
        type=click.Path(exists=True, dir_okay=False),
        metavar="FILE",
        help="Certificates (PEM) of the office's own authority; of SFTP, known hosts.",
    ),
)
"""What an account or a place is added by."""


@click.group("account")
def command() -> None:
    """Accounts on a server: give them names, store their passwords in the system's keyring."""


@command.command("add")
@ADDED
def add(name: str, url: str, authority: str | None) -> None:
    """Name the account at URL (imaps://user@mail.example/) and store its password; then @NAME is a source."""
    account = keep_name(ACCOUNTS, name, known_at(url, authority), Known.account)
    store_password(account, f"wexagraph account check {name}, then wexagraph folders @{name}")


def known_at(url: str, authority: str | None) -> Known:
    """What lies at a URL, whose certificate an authority of the office's own has given."""
    return Known(url, authority=str(Path(authority).resolve()) if authority else "")


def keep_name(stored: Names, name: str, known: Known, account_of: Callable[[Known], _Account]) -> _Account:
    """Store a name, and return the account behind it. Raises CallError for what can't be a name, or no URL of one."""
    if not re.fullmatch(r"[\w.-]{1,60}", name):
        kind = "an account" if stored is ACCOUNTS else "a place"
        raise CallError(f"{name!r} can't be the name of {kind}: letters, digits, and . _ - only.")
    account = account_of(known)
    stored.keep({**stored.read(), name: known})
    return account


def store_password(account: Account, next_step: str) -> None:
    """Ask for the password of what has a name now, and store it in the keyring, where there is one."""
    if not has_keyring():
        click.echo(
            f"Name and URL are stored. This machine has no keyring for the password: set {VARIABLE}, or give a "
            "password-command in wexagraph.toml; else it is asked for."
        )
        return
    to_keyring(account, _password(account))
    click.echo(f"Stored. Try it: {next_step}")


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
    known = context.obj.configuration.account(name.removeprefix("@"))
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
@JSON
@click.pass_context
def list_accounts(context: click.Context, as_json: bool) -> None:
    """The accounts that have names."""
    print_names(
        context.obj.configuration.accounts,
        Known.account,
        "No account is stored yet. Add one: wexagraph account add NAME imaps://user@mail.example/",
        as_json,
    )


def print_names(
    names: dict[str, Known], account_of: Callable[[Known], Account | None], none: str, as_json: bool
) -> None:
    """What has a name, and where the password of each comes from; what is at no server has no account. `none` is said
    where nothing has a name."""
    table, rows = Sheet("Name", "|URL", "|Password"), []
    for name, known in sorted(names.items()):
        account = account_of(known)
        where = "token-command" if known.token_command else "password-command" if known.password_command else ""
        if not where and account is not None:
            stored = from_keyring(account) is not None
            fallback = "SSH keys, else asked for" if account.scheme == "sftp" else f"{known.variable}, or asked for"
            where = "keyring" if stored else fallback
        url = account.url if account is not None else known.url
        table.add_row(one_line(f"@{name}"), one_line(url), where)
        rows.append({"name": name, "url": url, "password": where})
    if as_json:
        print_json(rows)
    elif names:
        table.show()
    else:
        click.echo(none)


@command.command("forget")
@click.argument("name")
def forget(name: str) -> None:
    """Take the account NAME off the list, and its password out of the keyring."""
    known = ACCOUNTS.read().get(name)
    forget_name(ACCOUNTS, name, known.account() if known is not None else None)


def forget_name(stored: Names, name: str, account: Account | None) -> None:
    """Take a name off its list, and the password of its account out of the keyring. Raises CallError for a name that
    was not added."""
    names = stored.read()
    if name not in names:
        raise CallError(
            f"no {stored.kind} {name!r} was added. `wexagraph {stored.kind} list` names those there are; one of a "
            "wexagraph.toml is taken out there."
        )
    del names[name]
    gone = account is not None and out_of_keyring(account)
    stored.keep(names)
    click.echo(f"Forgotten: {name}{', and its password' if gone else '; no password was stored'}.")


def _line(account: Account) -> str:
    if account.encrypted_from_the_start:
        return "encrypted, certificate verified"
    return (
        "STARTTLS where offered; the line ends on this machine" if account.may_stay_plain else "encrypted by STARTTLS"
    )
