"""`wexagraph config [COMMAND]`"""

from __future__ import annotations

from typing import Any

import click

from wexagraph.app.configuration import Configuration
from wexagraph.cli.parameters import JSON
from wexagraph.cli.terminal import machine_output, make_console, make_table
from wexagraph.errors import CallError
from wexagraph.text import one_line, to_json

_UNSET: tuple[Any, ...] = (None, False, "", (), [])


@click.command("config")
@click.argument("command", metavar="[COMMAND]", default="export")
@JSON
@click.pass_context
def command(context: click.Context, command: str, as_json: bool) -> int:
    """What holds for COMMAND (export, if none is named): each option, its value, and where the value comes from.

    Defaults are set in wexagraph.toml, below [options]; the command line wins over them.
    """
    group = context.find_root().command
    assert isinstance(group, click.Group)
    wanted = group.get_command(context, command)
    if wanted is None:
        raise CallError(f"there is no command {command!r}. `wexagraph --help` lists them.")
    config: Configuration = context.obj.configuration
    rows = [row for parameter in wanted.params if (row := _row(context, wanted, parameter, config)) is not None]
    if as_json:
        machine_output()
        values = {
            "files": [str(path) for path in config.files],
            "options": [{"option": name, "value": value, "from": where} for name, value, where in rows],
            "sources": config.sources,
            "accounts": {name: known.url for name, known in config.accounts.items()},
        }
        click.echo(to_json(values))
    else:
        _print(command, rows, config)
    return 0


def _row(
    context: click.Context, command: click.Command, parameter: click.Parameter, config: Configuration
) -> tuple[str, Any, str] | None:
    if not isinstance(parameter, click.Option) or parameter.name in ("help", "into", "as_json", "as_csv"):
        return None
    name = max(parameter.opts, key=len).removeprefix("--")
    set_to = (context.find_root().default_map or {}).get(command.name or "", {})
    if parameter.name in set_to:
        setting = config.setting(name, command.name or "")
        return name, set_to[parameter.name], setting.where if setting is not None else "wexagraph.toml"
    default = parameter.default if isinstance(parameter.default, str | int | float | bool | tuple | list) else None
    if isinstance(parameter.show_default, str) and not default:
        return name, parameter.show_default, "default"
    return name, default, "default"


def _print(command: str, rows: list[tuple[str, Any, str]], config: Configuration) -> None:
    table = make_table(f"Option of {command}", "Value", "From")
    unset = [name for name, value, where in rows if where == "default" and value in _UNSET]
    for name, value, where in rows:
        if name in unset:
            continue
        style = "bold" if where != "default" else ""
        table.add_row(*map(one_line, (f"--{name}", _shown(value), where)), style=style)
    for source, location in config.sources.items():
        table.add_row(*map(one_line, (f"@{source}", location, "source")))
    for account, known in config.accounts.items():
        table.add_row(*map(one_line, (f"@{account}", known.url, "account")))
    make_console().print(table)
    click.echo(click.wrap_text(f"Not set: {', '.join(f'--{name}' for name in unset)}.", 100, subsequent_indent="  "))
    read = ", ".join(str(path) for path in config.files)
    click.echo(f"Read: {one_line(read)}." if read else "No wexagraph.toml was found; all values are our own.")


def _shown(value: Any) -> str:
    if value is None or value == () or value == []:
        return "not set"
    if isinstance(value, bool):
        return "yes" if value else "no"
    if isinstance(value, list | tuple):
        return ", ".join(map(str, value))
    return str(value) if value != "" else "''"
