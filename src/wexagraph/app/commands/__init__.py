"""Commands as plain data, and the one way to run them: from a terminal, by an order, into a case."""

from __future__ import annotations

from collections.abc import Callable, Mapping
from dataclasses import replace
from datetime import UTC, datetime
from difflib import get_close_matches
from importlib import import_module
from pathlib import Path
from typing import TYPE_CHECKING, Any

from wexagraph.app.afterwards import apart
from wexagraph.app.commands.base import Command, Job, Work
from wexagraph.app.locales import zone_name
from wexagraph.app.option_table import ASKS_FOR_KEYS
from wexagraph.app.secrets import OWN_KEYRING, NamedKey, Prompt, is_token, with_named
from wexagraph.errors import CallError, WexagraphError
from wexagraph.records.calls import Call
from wexagraph.reports import Report
from wexagraph.selection.choice import Choice
from wexagraph.selection.value_lists import absolute, expanded
from wexagraph.sources.base import Source
from wexagraph.sources.imap.changes import Afterwards

if TYPE_CHECKING:
    from wexagraph.protection.keys import Keys

__all__ = ["COMMANDS", "Work", "check", "choice_of", "chosen", "command_of", "options_of", "run", "settled"]
COMMANDS = ("export", "attachments", "register", "file", "backup")
"""The commands that can be repeated, each a module of its name here, which is loaded when it is called."""
_SECRETS = ("password", "owner-password", "seal-password", "key-password")
_FILES = ("key", "known")
"""Options that name files, several of them."""


def run(call: Call, work: Work) -> Report:
    """Do what a call says: by hand, in an order and in a case alike. Raises CallError, SourceError, TargetError."""
    command = command_of(call)
    options = options_of(call, None, work.moment, work.keys) if work.options is None else work.options
    wish = Afterwards.parse(call.afterwards) if call.afterwards else None
    source, choice = work.fresh or (unlocked(work.mailbox, work.unlocked), chosen(call, work.mailbox))
    report = command.run(Job(call, options, source, choice, wish, work))
    if work.fresh is None:
        report.idle = choice.idle
    if wish is not None:
        report.afterwards = f"would then be {wish.done}" if work.dry else wish.done
    return report


def hand_on(place: str, made: str, report: Report, deliver: Callable[[str, Path], Report]) -> None:
    """Deliver what was made to the place that a call names ("" where none); the report says what became of it."""
    if place and Path(made).expanduser().exists() and not report.interrupted:
        try:
            report.delivery = deliver(place, Path(made).expanduser())
        except WexagraphError as error:
            report.undelivered = f"{error} What was made is whole in {made}: `wexagraph deliver` goes on."


def options_of(call: Call, prompt: Prompt | None, moment: datetime, keys: Mapping[str, NamedKey]) -> Any:
    """The options of a call's command; `prompt` asks for secrets, `keys` are those that have names. Raises CallError,
    also where what is to be done at the source goes not with them."""
    command = command_of(call)
    options = command.options(with_named(call.options, keys), prompt, moment)
    if call.afterwards:
        if not command.clears:
            raise CallError(f"--afterwards goes not with {call.command}: what it makes keeps no message.")
        Afterwards.parse(call.afterwards).checked(getattr(options, "keeps_messages", True))
    return options


def keys_of(call: Call, prompt: Prompt | None, keys: Mapping[str, NamedKey]) -> Keys | None:
    """What opens and proves protected messages for a call; None where that is not asked for. Raises CallError,
    SourceError."""
    if not any(map(call.options.get, ASKS_FOR_KEYS)):
        return None
    from wexagraph.app.unlocking import keys_in

    return keys_in(with_named(call.options, keys), prompt)


def unlocked(source: Source, keys: Keys | None) -> Source:
    """A source whose protected messages are read with keys, where there are any."""
    if keys is None:
        return source
    from wexagraph.selection.unlocked import Unlocked

    return Unlocked(source, keys)


def chosen(call: Call, mailbox: Source) -> Choice:
    """The choice of a call as it holds for a mailbox: without the folder to which messages go afterwards, unless what
    is kept is the account as it is. Raises CallError, SourceError."""
    choice = choice_of(call).settled(mailbox)
    if call.afterwards and not command_of(call).keeps_account:
        return apart(choice, mailbox, Afterwards.parse(call.afterwards))
    return choice


def command_of(call: Call) -> Command:
    """The command that a call names. Raises CallError."""
    if call.command not in COMMANDS:
        near = get_close_matches(call.command, COMMANDS, n=1)
        hint = f" Did you mean {near[0]}?" if near else ""
        raise CallError(
            f"{call.command!r} is not a command that an order can keep.{hint} Possible: {', '.join(COMMANDS)}."
        )
    command: Command = import_module(f"{__name__}.{call.command}").COMMAND
    return command


def choice_of(call: Call) -> Choice:
    """The choice of a call; its days are counted in the zone of its options. Raises CallError."""
    return Choice.from_dict(expanded(call.choice) | {"zone": zone_name(call.options.get("zone"))})


def check(call: Call, keys: Mapping[str, NamedKey]) -> None:
    """Raise CallError for a call that can't be meant, or that can't be repeated; `keys` are those that have names."""
    command = command_of(call)
    for name in call.options:
        if name not in command.defaults:
            near = get_close_matches(name, command.defaults, n=1)
            raise CallError(f"{call.command} has no option {name!r}." + (f" Did you mean {near[0]}?" if near else ""))
    for name in _SECRETS:
        given = call.options.get(name)
        if given is not None and not str(given).startswith(("env:", "file:", "command:")):
            raise CallError(
                f"--{name}: an order keeps no secret. Name where it is: env:NAME, file:PATH, command:'PROGRAM'."
            )
    for name in ("newest", "id"):
        if name in call.choice:
            raise CallError(f"--{name} belongs to a single call: an order takes what has come since it last ran.")
    options_of(call, None, datetime.now(UTC), keys)
    keys_of(call, None, keys)
    choice_of(call)


def settled(call: Call) -> Call:
    """The call with what would be the system's choice written down, so that a timetable without one does the same.
    Paths are absolute."""
    options = dict(call.options)
    for name, of_the_system in command_of(call).settled:
        options.setdefault(name, of_the_system())
    for name in ("cover", "seal", "sender-keys", *_SECRETS):
        value = str(options.get(name) or "")
        kind, _, path = value.rpartition("file:")
        if name in ("cover", "seal", "sender-keys") and value and value != "built-in":
            options[name] = _absolute(value)
        elif name in _SECRETS and value.startswith("file:"):
            options[name] = f"{kind}file:{_absolute(path)}"
    for name in _FILES:
        if options.get(name):
            options[name] = [each if each == OWN_KEYRING else _absolute(each) for each in options[name]]
    deliver = _absolute(call.deliver) if call.deliver else ""
    return replace(
        call,
        choice=absolute(call.choice),
        source=_absolute(call.source),
        into=_absolute(call.into),
        options=options,
        deliver=deliver,
    )


def _absolute(path: str) -> str:
    """A path as it is from everywhere; a URL, the name of a token's key and an @name stay."""
    if path.startswith("@") or "://" in path or is_token(path):
        return path
    return str(Path(path).expanduser().absolute())
