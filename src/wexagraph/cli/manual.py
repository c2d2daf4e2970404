"""The manual page, from the same text as --help: `python -m wexagraph.cli.manual > docs/wexagraph.1` (man(7))."""

from __future__ import annotations

import re
from collections.abc import Iterable, Iterator
from contextlib import contextmanager
from importlib.metadata import version

import click

from wexagraph.cli.help import FIRST_STEPS
from wexagraph.cli.main import cli


class _Roff(click.HelpFormatter):
    """Help as the macros of a manual page."""

    def write_usage(self, prog: str, args: str = "", prefix: str | None = None) -> None:
        self.write(f".PP\n.B {_escaped(prog)}\n{_escaped(args)}\n")

    def write_heading(self, heading: str) -> None:
        self.write(f".PP\n.I {_escaped(heading)}\n")

    def write_paragraph(self) -> None:
        self.write(".PP\n")

    def write_text(self, text: str) -> None:
        if text.startswith("$ "):
            self.write(f".RS 4\n{_escaped(text)}\n.RE\n")
            return
        paragraphs = re.split(r"\n\s*\n", text.strip())
        self.write("".join(f".PP\n{_escaped(' '.join(each.split()))}\n" for each in paragraphs))

    def write_dl(self, rows: Iterable[tuple[str, str]], col_max: int = 30, col_spacing: int = 2) -> None:
        for term, meaning in rows:
            self.write(f".TP\n.B {_escaped(term)}\n{_escaped(' '.join(meaning.split()))}\n")

    @contextmanager
    def section(self, name: str) -> Iterator[None]:
        self.write_heading(name)
        yield


class _Context(click.Context):
    formatter_class = _Roff


def _escaped(text: str) -> str:
    """Text that means itself in roff; no word is parted and no line begins a macro."""
    text = text.replace("\\", "\\e").replace("-", "\\-").replace("`", "\\(ga").replace("'", "\\(aq")
    return re.sub(r"^\.", "\\\\&.", text)


def manual() -> str:
    """The manual page in roff, with the macros of man(7)."""
    root = click.Context(cli, info_name="wexagraph")
    parts = [
        f'.TH WEXAGRAPH 1 "" "wexagraph {version("wexagraph")}" "User Commands"\n',
        ".nh\n.ad l\n.SH NAME\nwexagraph \\- turn mail into files that stand alone\n",
        ".SH SYNOPSIS\n.B wexagraph\nCOMMAND [OPTIONS]\n.SH DESCRIPTION\n.nf\n",
        *(f"{_escaped(line)}\n" for line in FIRST_STEPS.splitlines()),
        ".fi\n.SH COMMANDS\n",
    ]
    for path, command in _commands(cli, root, ("wexagraph",)):
        context = _Context(command, info_name=path[-1], parent=_named(path[:-1]))
        parts.append(f".SS {_escaped(' '.join(path[1:]))}\n{command.get_help(context)}\n")
    return re.sub(r"(\.PP\n)(?:\.PP\n)+", r"\1", "".join(parts))


def _commands(
    group: click.Group, context: click.Context, path: tuple[str, ...]
) -> Iterator[tuple[tuple[str, ...], click.Command]]:
    for name in group.list_commands(context):
        command = group.get_command(context, name)
        if isinstance(command, click.Group):
            yield from _commands(command, click.Context(command, info_name=name, parent=context), (*path, name))
        elif command is not None:
            yield (*path, name), command


def _named(path: tuple[str, ...]) -> click.Context:
    """A context whose commands are called as on the command line."""
    return click.Context(cli, info_name=" ".join(path), **cli.context_settings)


if __name__ == "__main__":
    print(manual(), end="")
