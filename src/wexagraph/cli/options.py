"""Rows of options as options of the command line."""

from __future__ import annotations

from collections.abc import Callable
from typing import Any, TypeVar

import click

from wexagraph.app.rows import Checked, Flag, Number, OneOf, Option, Words
from wexagraph.errors import CallError

F = TypeVar("F", bound=Callable[..., Any])


class RowOption(click.Option):
    """An option that was made of a row, which help and configuration ask."""

    row: Option


class _Read(click.ParamType):
    """A value that a function reads; the function raises CallError."""

    def __init__(self, checked: Checked) -> None:
        self.name, self._read = checked.what, checked.read

    def convert(self, value: Any, parameter: click.Parameter | None, context: click.Context | None) -> Any:
        try:
            return self._read(value)
        except CallError as error:
            self.fail(str(error), parameter, context)


def option(row: Option, **more: Any) -> Callable[[F], F]:
    """The option that a row describes; `more` is what only the command line knows."""

    class Described(RowOption):
        pass

    Described.row = row
    return click.option(*_names(row), cls=Described, **_described(row) | more)


def options(*rows: Option) -> Callable[[F], F]:
    """Several of them."""
    return together(*(option(row) for row in rows))


def together(*options: Callable[[F], F]) -> Callable[[F], F]:
    """Several options as one decorator, in the order in which help names them."""

    def decorate(command: F) -> F:
        for option in reversed(options):
            command = option(command)
        return command

    return decorate


def _names(row: Option) -> list[str]:
    off = f"/--{row.takes.off}" if isinstance(row.takes, Flag) and row.takes.off else ""
    return [f"--{row.name}{off}"]


def _described(row: Option) -> dict[str, Any]:
    values: dict[str, Any] = {"help": row.help or None, "show_default": row.shown, "metavar": row.metavar or None}
    match row.takes:
        case Flag(off=off):
            values |= {"is_flag": True, "default": row.default if row.default is not None or off else False}
            return values
        case Words() as words:
            values |= {"type": _Read(Checked("words", _of(words))), "callback": _adding_up(words)}
        case OneOf(words=names):
            values["type"] = click.Choice(names)
        case Number(least, most, whole):
            whole_most = int(most) if most is not None else None
            values["type"] = click.IntRange(int(least), whole_most) if whole else click.FloatRange(least, most)
        case Checked() as checked:
            values["type"] = _Read(checked)
    many = row.many or isinstance(row.takes, Words)
    if many:
        given = row.default or ()
        values |= {"multiple": True, "default": (given,) if isinstance(given, str) else given}
    elif row.default is not None:
        values["default"] = row.default
    if row.bare is not None:
        values |= {"is_flag": False, "flag_value": row.bare}
    return values


def _of(words: Words) -> Callable[[Any], tuple[str, ...]]:
    def read(value: Any) -> tuple[str, ...]:
        from wexagraph.app.option_values import words as read_words

        return read_words(value, words.known, words.what, words.alone)

    return read


def _adding_up(words: Words) -> Callable[..., tuple[str, ...]]:
    """Words given several times are one list."""

    def added_up(_: click.Context, parameter: click.Parameter, value: tuple[tuple[str, ...], ...]) -> tuple[str, ...]:
        chosen = tuple(dict.fromkeys(word for given in value for word in given))
        if words.alone in chosen and len(chosen) > 1:
            raise click.BadParameter(f"{words.alone} goes with no other.", param=parameter)
        return chosen

    return added_up
