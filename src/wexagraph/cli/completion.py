"""`wexagraph completion SHELL`"""

from __future__ import annotations

import click
from click.shell_completion import get_completion_class

from wexagraph.errors import CallError

_VARIABLE = "_WEXAGRAPH_COMPLETE"


@click.command("completion")
@click.argument("shell", type=click.Choice(("bash", "zsh", "fish")))
@click.pass_context
def command(context: click.Context, shell: str) -> int:
    """Print what a shell has to source so that it completes commands, options, folders and @names."""
    kind = get_completion_class(shell)
    if kind is None:
        raise CallError(f"there is no completion for {shell}.")
    click.echo(kind(context.find_root().command, {}, "wexagraph", _VARIABLE).source())
    return 0
