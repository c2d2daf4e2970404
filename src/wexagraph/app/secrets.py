"""Where a password comes from: a prompt, a file, the environment or a command, never the command line itself; and keys
that have names in the configuration."""

from __future__ import annotations

import os
import shlex
import subprocess
from collections.abc import Callable, Mapping
from dataclasses import dataclass
from difflib import get_close_matches
from pathlib import Path
from typing import Any

from wexagraph.errors import CallError, SourceError
from wexagraph.text import one_line

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


@dataclass(frozen=True)
class NamedKey:
    """A key of the configuration: its file, or the URI of a token that holds it (RFC 7512); and where its password is
    ("" asks for it)."""

    file: str
    password: str = ""


OWN_KEYRING = "gpg"
"""Stands for the keys that the user's own gpg and its agent hold."""


def is_token(key: str) -> bool:
    """Whether a key lies on a token, named by a URI (RFC 7512)."""
    return key.startswith("pkcs11:")


def with_named(options: Mapping[str, Any], keys: Mapping[str, NamedKey]) -> dict[str, Any]:
    """Options in which a key that was said by its name is said by its file, and where its password is. Raises
    CallError."""
    values = dict(options)
    named = str(values.get("seal") or "")
    if named.startswith("@"):
        key = _named(named[1:], keys)
        values["seal"] = key.file
        if key.password and values.get("seal-password") is None:
            values["seal-password"] = key.password
    if values.get("key"):
        values["key"] = [_named(each[1:], keys) if each.startswith("@") else NamedKey(each) for each in values["key"]]
    return values


def _named(name: str, keys: Mapping[str, NamedKey]) -> NamedKey:
    if name in keys:
        return keys[name]
    near = get_close_matches(name, keys, n=1)
    hint = f" Did you mean @{near[0]}?" if near else ""
    known = ", ".join(f"@{each}" for each in sorted(keys)) or "none yet"
    raise CallError(
        f"no key is called @{one_line(name)}.{hint} Known: {known}. [keys.{one_line(name)}] in your own wexagraph.toml "
        "names one, with its file."
    )
