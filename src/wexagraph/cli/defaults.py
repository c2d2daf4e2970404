"""Options of the configuration as the defaults of commands."""

from __future__ import annotations

from functools import cache
from typing import Any

import click
from click.core import ParameterSource

from wexagraph.app.configuration import NEVER, OTHER_SENSE, Configuration, Setting
from wexagraph.cli.options import RowOption
from wexagraph.text import one_line


def known_options(context: click.Context) -> dict[str, list[tuple[str, click.Command, click.Option]]]:
    """The options that may have a default, by name: each command that has one, and the option there."""
    group = context.command
    assert isinstance(group, click.Group)
    known: dict[str, list[tuple[str, click.Command, click.Option]]] = {}
    for name in group.list_commands(context):
        command = group.get_command(context, name)
        for parameter in command.params if command else []:
            if isinstance(parameter, click.Option) and command:
                for option in (*parameter.opts, *parameter.secondary_opts):
                    if option.startswith("--"):
                        known.setdefault(option[2:], []).append((name, command, parameter))
    return known


def is_safe(context: click.Context, name: str) -> bool:
    """Whether the file of a working folder may set an option, on each command that has it."""
    known = (option for _, _, option in known_options(context)[name])
    return all(isinstance(option, RowOption) and option.row.safe for option in known)


@cache
def _criteria() -> frozenset[str]:
    """Options that narrow what is chosen. A backup takes all: they are no defaults of it."""
    from wexagraph.selection.criteria import TESTS  # a command without a configuration needs none of it

    return frozenset([*TESTS, "except", "id", "newest", "conversation"])


def set_defaults(context: click.Context, configuration: Configuration) -> None:
    """Make the options of the configuration the defaults of the commands that they are for. Raises CallError."""
    if not configuration.options:
        return
    known = known_options(context)
    defaults: dict[str, dict[str, Any]] = context.default_map or {}  # type: ignore[assignment]
    for setting in sorted(configuration.options, key=lambda setting: bool(setting.command)):
        if setting.name in NEVER:
            raise setting.wrong(f"{setting.name!r} belongs to a single call and can't be a default")
        if setting.name not in known:
            raise setting.wrong(f"there is no option {setting.name!r}", [name for name in known if name not in NEVER])
        if setting.command == "backup" and setting.name in _criteria():
            raise setting.wrong(f"{setting.name} would leave mail out of every backup; name it in the call")
        commands = [
            each
            for each in known[setting.name]
            if setting.command == each[0] or (not setting.command and (each[0], setting.name) not in OTHER_SENSE)
        ]
        if not commands:
            raise setting.wrong(f"the command {setting.command!r} has no option {setting.name!r}")
        for name, command, option in commands:
            if name != "backup" or setting.name not in _criteria():
                defaults.setdefault(name, {})[option.name or setting.name] = _value(setting, command, option)
    context.default_map = defaults


def say_what_narrows(context: click.Context) -> None:
    """Name on standard error the defaults that narrow what is chosen."""
    configuration: Configuration = context.obj.configuration
    for option in context.command.params:
        name = max(option.opts, key=len).removeprefix("--")
        if name not in _criteria() or context.get_parameter_source(option.name or "") != ParameterSource.DEFAULT_MAP:
            continue
        setting = configuration.setting(name, context.command.name or "")
        if setting is not None:
            value = setting.value if not isinstance(setting.value, list) else ", ".join(map(str, setting.value))
            click.echo(f"Narrowed by {one_line(setting.where)}: {name}={one_line(str(value))}", err=True)


def _value(setting: Setting, command: click.Command, option: click.Option) -> Any:
    """The value as the option takes it. Raises CallError."""
    value = setting.value
    if setting.name in ("cover", "office-picture") and isinstance(value, str) and value != "built-in":
        value = str(setting.path.parent / value) if not value.startswith("~") else value
    if value is True and not option.is_flag and isinstance(option.flag_value, str):
        value = option.flag_value  # the option without a value
    value = [value] if option.multiple and not isinstance(value, list) else value
    shown = f"{setting.name} = {value!r}"
    try:
        option.type_cast_value(click.Context(command), value)
    except click.BadParameter as error:
        raise setting.wrong(f"{shown} is not a value for it: {error.message.rstrip('.')}") from error
    except TypeError as error:
        raise setting.wrong(f"{shown} is of the wrong kind") from error
    return value
