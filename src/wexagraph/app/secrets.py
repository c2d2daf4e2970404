"""Where a password comes from: a prompt, a file, the environment or a command. Never from the command line itself."""

from __future__ import annotations

import os
import shlex
import subprocess
from collections.abc import Callable
from pathlib import Path

from wexagraph.errors import CallError, SourceError

PROMPT = "prompt"
PASSPHRASE = "WEXAGRAPH_PASSPHRASE"
Prompt = Callable[[str, bool], str]
"""Asks a person for a secret, by the words that say which; twice, where it is a new one."""
_WAYS = "file:PATH, env:NAME, command:'PROGRAM ...', or nothing to be asked"


_taken: dict[str, str] = {}


def from_environment(name: str) -> str:
    """What a variable of the environment holds, or "". It is taken out of it, so that no child of ours inherits it."""
    if name in os.environ:
        _taken[name] = os.environ.pop(name)
    return _taken.get(name, "")


def secret(given: str, option: str, prompt: Prompt | None) -> str:
    """The password that the value of an option names. `prompt` is None where nobody can be asked.

    Raises CallError, SourceError; neither says what was read.
    """
    kind, _, rest = given.partition(":")
    if given == PROMPT:
        if prompt is None:
            raise CallError(f"{option}: there is no terminal to ask at. Name where the password is: {_WAYS}.")
        return prompt(option.strip("-").capitalize(), True)
    if kind == "file" and rest:
        return _first_line(rest, option)
    if kind == "env" and rest:
        password = from_environment(rest)
        if not password:
            raise CallError(f"{option}: the environment has no variable {rest}, or it is empty.")
        return password
    if kind == "command" and rest:
        return command_output(rest, f"command of {option}")
    raise CallError(f"{option}: a password itself never stands on the command line, where others can read it. {_WAYS}.")


def _first_line(path: str, option: str) -> str:
    try:
        with Path(path).expanduser().open(encoding="utf-8") as file:
            line = file.readline().rstrip("\r\n")
    except (OSError, UnicodeDecodeError) as error:
        raise CallError(f"{option}: {path} can't be read: {getattr(error, 'strerror', None) or error}.") from error
    if not line:
        raise CallError(f"{option}: the first line of {path} is empty.")
    return line


def command_output(command: str, name: str) -> str:
    """The first line that a command prints. Raises SourceError."""
    try:
        done = subprocess.run(
            shlex.split(command), stdout=subprocess.PIPE, stdin=subprocess.DEVNULL, timeout=120, check=False
        )
    except (OSError, ValueError, subprocess.TimeoutExpired) as error:
        raise SourceError(f"the {name} can't be run: {type(error).__name__}. Try it by hand.") from error
    line = done.stdout.decode("utf-8", "replace").partition("\n")[0].strip("\r")
    if done.returncode != 0 or not line:
        raise SourceError(f"the {name} gave nothing (exit code {done.returncode}). Try it by hand.")
    return line


def passphrase(prompt: Prompt | None) -> Callable[[bool], str]:
    """Gives the passphrase of a locked backup (of a new one on True): from the environment, else asked for.

    What it gives raises CallError.
    """

    def ask(new: bool) -> str:
        if known := from_environment(PASSPHRASE):
            return known
        if prompt is None:
            raise CallError(f"the backup is locked, and there is no terminal to ask at. Set {PASSPHRASE}.")
        return prompt("Passphrase for the new backup" if new else "Passphrase of the backup", new)

    return ask
