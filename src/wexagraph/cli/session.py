"""What commands share of a call: the configuration, opening sources, and asking the person at the terminal."""

from __future__ import annotations

import sys
from collections.abc import Callable, Mapping
from dataclasses import dataclass
from pathlib import Path
from typing import TYPE_CHECKING, Any

import click

from wexagraph.app.option_table import ASKS_FOR_KEYS
from wexagraph.errors import CallError
from wexagraph.text import one_line

if TYPE_CHECKING:
    from wexagraph.app.afterwards import Allow
    from wexagraph.app.configuration import Configuration
    from wexagraph.app.secrets import Prompt
    from wexagraph.backups.encryption import Ask
    from wexagraph.protection.keys import Keys
    from wexagraph.reports import Progress, Report, Sealing
    from wexagraph.sources.base import Source


@dataclass
class Session:
    """A call of the program, for its commands: `context.obj`."""

    configuration: Configuration

    def open(self, source: str, as_of: str = "", links: bool = False, salvage: bool = False) -> Source:
        """Open what a SOURCE argument names; a backup as it was on a day. Raises CallError, SourceError."""
        from wexagraph.app.locales import zone_name
        from wexagraph.app.opening import Way, open_source

        way = Way(as_of, zone_name(None), links, salvage, prompt=prompt(), configuration=self.configuration)
        return open_source(source, way=way)

    def open_target(self, target: str) -> tuple[Source, str]:
        """Open the account that messages are put into, and the folder that its name means ("" for none). Raises
        CallError, SourceError."""
        from wexagraph.app.opening import Way, open_target

        return open_target(target, Way(prompt=prompt(), configuration=self.configuration))

    def deliver(
        self, place: str, root: Path, stopped: Callable[[], bool], progress: Callable[[Progress], None] | None = None
    ) -> Report:
        """Deliver what was made in a folder to a place. Raises CallError, SourceError, TargetError."""
        from wexagraph.app.places import deliver_to

        return deliver_to(place, root, self.configuration, prompt(), progress=progress, stopped=stopped)

    def keys(self, values: Mapping[str, Any]) -> Keys | None:
        """What opens and proves protected messages, as the options of a command say; None where it has none. Raises
        CallError, SourceError."""
        plain = {name.replace("_", "-"): value for name, value in values.items()}
        if not any(map(plain.get, ASKS_FOR_KEYS)):
            return None
        from wexagraph.app.secrets import with_named
        from wexagraph.app.unlocking import keys_in

        return keys_in(with_named(plain, self.configuration.keys), prompt())

    def sealing(self, given: Mapping[str, str | None]) -> Sealing | None:
        """How something is sealed, as the options of a command say; None where it is not. Raises CallError,
        SourceError."""
        if not any(given.values()):
            return None
        from wexagraph.app.options import sealing
        from wexagraph.app.secrets import with_named

        values = {name.replace("_", "-"): value for name, value in given.items()}
        return sealing(with_named(values, self.configuration.keys), prompt())


def at_a_terminal() -> bool:
    """Whether there is a person to ask."""
    return sys.stdin.isatty() and sys.stderr.isatty()


def prompt() -> Prompt | None:
    """Asks for a secret at the terminal; None where there is none."""
    if not at_a_terminal():
        return None
    return lambda what, new: str(click.prompt(one_line(what), hide_input=True, confirmation_prompt=new, err=True))


def ask_passphrase() -> Ask:
    """Gives the passphrase of a locked backup, from the environment or the person at the terminal."""
    from wexagraph.app.secrets import passphrase

    return passphrase(prompt())


def may_ask(sure: bool, what: str = "--afterwards changes the mailbox") -> None:
    """Raise CallError where nobody could be asked whether to do `what`."""
    if not sure and not at_a_terminal():
        raise CallError(f"{what}, and there is no terminal to ask at. Add --yes to allow it.")


def allowing(sure: bool) -> Allow:
    """Says what will be done at the source, and asks whether to do it unless that is `sure`."""

    def allow(what: str, kept: str) -> bool:
        if not what:
            click.echo(f"Nothing to do at the source: no message is {kept}.", err=True)
            return False
        if sure:
            click.echo(f"At the source: {one_line(what)}.", err=True)
            return True
        return click.confirm(f"All of them are {kept}. Now {one_line(what)}?", err=True)

    return allow


def notify(wishes: tuple[str, ...], name: str, report: Report, configuration: Configuration) -> None:
    """Tell those who are to be told of what a command has done. What could not be told is said."""
    if wishes:
        from datetime import datetime

        from wexagraph.app.orders.notices import give_notice
        from wexagraph.records.order_log import Run

        now = datetime.now().astimezone()
        run = Run(0, name, now, now)
        run.take(report)
        for trouble in give_notice(wishes, run, report, configuration):
            click.echo(f"wexagraph: {one_line(trouble)}", err=True)


def path_of(folder: str) -> Path:
    """The path that an argument names."""
    return Path(folder).expanduser()
