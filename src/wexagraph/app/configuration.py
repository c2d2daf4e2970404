"""`wexagraph.toml`: defaults for options and names for sources. The command line wins."""

from __future__ import annotations

import tomllib
from collections.abc import Callable
from dataclasses import dataclass, field
from difflib import get_close_matches
from pathlib import Path
from typing import Any

from wexagraph.app.accounts import ACCOUNTS, KEYS, PLACES, VARIABLE, Known
from wexagraph.app.rows import BUILT_IN
from wexagraph.app.secrets import NamedKey, is_token
from wexagraph.errors import CallError
from wexagraph.selection.value_lists import names_list
from wexagraph.toml import line_of, mending, wrong

NAME = "wexagraph.toml"
_TRUSTED = ("accounts", "notices", "sending", "places", "keys")
_TABLES = ("options", "sources", *_TRUSTED)
SENDING = ("by", "sender", "drafts", "password-variable", "password-command", "token-command", "authority")
"""What can be said of sending: the server, the sender, the account that drafts go to; and how the server's secret is
found, as that of an account."""
NEVER = frozenset(
    {"help", "config", "version", "into", "id", "set", "save", "csv", "json", "afterwards", "yes", "dry-run"}
)
OTHER_SENSE = frozenset([("attachments", "as"), ("attachments", "bind"), ("index", "title"), ("send", "as")])
"""Options that mean something else on a command than on others: a default for all commands is none of theirs."""


@dataclass(frozen=True)
class Setting:
    """An option of a file: its name and value, and what is needed to say what is wrong with it."""

    name: str
    value: Any
    path: Path
    text: str
    command: str = ""
    """The command that it is for; of all that have the option, where none is named."""

    @property
    def table(self) -> str:
        """The table that it stands in."""
        return f"options.{self.command}" if self.command else "options"

    @property
    def where(self) -> str:
        """File and line."""
        return f"{self.path}, line {line_of(self.text, self.table, self.name)}"

    def wrong(self, what: str, right: list[str] | None = None) -> CallError:
        """The error that says what is wrong with it, with file, line and the nearest of what would be right."""
        return wrong(self.path, self.text, self.table, self.name, what, self.name if right else "", right or [])


@dataclass
class Configuration:
    """Names for sources, each with its location, and for accounts; the files that were read, and their options in
    order.
    """

    sources: dict[str, str] = field(default_factory=dict)
    accounts: dict[str, Known] = field(default_factory=dict)
    files: list[Path] = field(default_factory=list)
    options: list[Setting] = field(default_factory=list)
    notices: list[str] = field(default_factory=list)
    told: list[str] = field(default_factory=list)
    """Addresses that notices may go to."""
    sending: dict[str, str] = field(default_factory=dict)
    places: dict[str, Known] = field(default_factory=dict)
    """Of a folder, the URL is its path."""
    keys: dict[str, NamedKey] = field(default_factory=dict)

    def setting(self, name: str, command: str) -> Setting | None:
        """The setting of an option that holds for a command: the last one, and one for the command before others."""
        general = "" if (command, name) not in OTHER_SENSE else command
        fitting = [one for one in self.options if one.name == name and one.command in (general, command)]
        return max(enumerate(fitting), key=lambda item: (bool(item[1].command), item[0]))[1] if fitting else None

    def account(self, name: str) -> Known:
        """The account of that name. Raises CallError."""
        if name not in self.accounts:
            raise self._unknown(name)
        return self.accounts[name]

    def named(self, name: str) -> Known | str:
        """The account, or the location of the source, of that name. Raises CallError."""
        if name in self.accounts:
            return self.accounts[name]
        if name in self.sources:
            return self.sources[name]
        raise self._unknown(name)

    def _unknown(self, name: str) -> CallError:
        names = [*self.sources, *self.accounts]
        near = get_close_matches(name, names, n=1)
        hint = f" Did you mean @{near[0]}?" if near else ""
        listed = f" Named are: {', '.join('@' + n for n in names)}." if names else ""
        return CallError(
            f"no source and no account is named @{name} in {NAME} or by `wexagraph account add`.{hint}{listed}"
        )


def load(
    named: str | None, is_option: Callable[[str], bool], is_safe: Callable[[str], bool] = lambda name: False
) -> Configuration:
    """Read the configuration. `is_option` tells whether any command has an option of a name, `is_safe` whether
    the file of a working folder may set it.

    The file `named`, or `wexagraph.toml` of the user's configuration folder and then of the working folder. Raises
    CallError with file, line and the nearest right word where something in it is wrong.
    """
    config = Configuration(accounts=ACCOUNTS.read(), places=PLACES.read())
    for path in _files(named):
        _read(path, is_option, is_safe, config, trusted=named is not None or path.parent != Path())
    return config


def _files(named: str | None) -> list[Path]:
    if named is not None:
        if not Path(named).is_file():
            raise CallError(f"--config {named}: there is no such file.")
        return [Path(named)]
    import platformdirs

    places = [platformdirs.user_config_path("wexagraph", appauthor=False), Path()]
    return [place / NAME for place in places if (place / NAME).is_file()]


def _read(
    path: Path, is_option: Callable[[str], bool], is_safe: Callable[[str], bool], config: Configuration, trusted: bool
) -> None:
    try:
        text = path.read_text("utf-8")
        content = tomllib.loads(text)
    except tomllib.TOMLDecodeError as error:
        raise CallError(f"{path}: {error}.{mending(text, str(error))}") from error
    except (OSError, UnicodeDecodeError) as error:
        raise CallError(f"{path} can't be read: {error}.") from error
    config.files.append(path)
    for table, values in content.items():
        if table not in _TABLES or not isinstance(values, dict):
            raise wrong(path, text, "", table, f"{table!r} is nothing that can be set here", table, _TABLES)
    _sources(path, text, content.get("sources", {}), config, trusted)
    for table in _TRUSTED if not trusted else ():
        if content.get(table):
            # a folder that somebody else has filled must not run commands, nor send passwords to a server of its choice
            what = f"[{table}] is taken from the user's own configuration folder, or from a file named with --config"
            raise wrong(path, text, "", table, what, "", [])
    _accounts(path, text, content.get("accounts", {}), config)
    for key, value in content.get("notices", {}).items():
        if key not in ("notify", "addresses"):
            what = f"{key!r} is nothing that notices have"
            raise wrong(path, text, "notices", key, what, key, ["notify", "addresses"])
        held = config.notices if key == "notify" else config.told
        held += [value] if isinstance(value, str) else list(map(str, value))
    for key, value in content.get("sending", {}).items():
        if key not in SENDING:
            raise wrong(path, text, "sending", key, f"{key!r} is nothing that sending has", key, SENDING)
        if not isinstance(value, str) or not value:
            raise wrong(path, text, "sending", key, f"{key} = {value!r} is of the wrong kind", "", [])
        config.sending[key] = value if key != "authority" else str(path.parent / Path(value).expanduser())
    for key, value in content.get("places", {}).items():
        if isinstance(value, dict):
            config.places[key] = _known(path, text, "places", key, value)
        elif not isinstance(value, str) or not value:
            what = f"the place {key!r} is a folder in quotation marks, or a table"
            raise wrong(path, text, "places", key, what, "", [])
        else:
            config.places[key] = Known(value if "://" in value else str(path.parent / Path(value).expanduser()))
    for key, value in content.get("keys", {}).items():
        config.keys[key] = _key(path, text, key, value)
    for key, value in content.get("options", {}).items():
        # a table in the table is for one command
        for name, each in value.items() if isinstance(value, dict) else [(key, value)]:
            setting = Setting(name, each, path, text, key if isinstance(value, dict) else "")
            elsewhere = (name == "cover" and each not in (True, BUILT_IN)) or _names_a_list(each)
            if not trusted and name not in NEVER and is_option(name) and (elsewhere or not is_safe(name)):
                what = f"{name} is taken from the user's own configuration folder, or from a file named with --config"
                raise setting.wrong(what)
            config.options.append(setting)


def _names_a_list(value: Any) -> bool:
    """Whether values of an option stand in another file, which may lie anywhere."""
    values = value if isinstance(value, list) else [value]
    texts = [text for one in values if isinstance(one, str) for text in (one, one.partition("=")[2])]
    return any(map(names_list, texts))


def _sources(path: Path, text: str, values: dict[str, Any], config: Configuration, trusted: bool) -> None:
    for name, location in values.items():
        if not isinstance(location, str) or not location:
            raise wrong(path, text, "sources", name, f"the source {name!r} must be a path in quotation marks", "", [])
        if not trusted and not _lies_below(path.parent, location):
            what = (
                f"{name} lies outside this folder: such a source is taken from the user's own configuration folder, or "
                "from a file named with --config"
            )
            raise wrong(path, text, "sources", name, what, "", [])
        if "://" not in location:
            location = str(path.parent / Path(location).expanduser())
        config.sources[name] = location


def _lies_below(folder: Path, location: str) -> bool:
    if "://" in location or location.startswith(("~", "/", "@")):
        return False
    return (folder / location).resolve().is_relative_to(folder.resolve())


_LEAST = {"retries": 0, "search-timeout": 1}
"""The keys of an account that are numbers, and the least that they may be."""


def _accounts(path: Path, text: str, values: dict[str, Any], config: Configuration) -> None:
    for name, entry in values.items():
        config.accounts[name] = _known(path, text, "accounts", name, entry)
        try:
            config.accounts[name].account()
        except CallError as error:
            raise CallError(f"{path}, account {name}: {error}") from error


def _known(path: Path, text: str, kind: str, name: str, entry: Any) -> Known:
    """An account, or a place at a server: its URL, and how its secret is found."""
    table = f"{kind}.{name}"
    if not isinstance(entry, dict) or not isinstance(entry.get("url"), str):
        raise wrong(path, text, kind, name, f"the {kind[:-1]} {name!r} needs a table with its url", "", [])
    for key, value in entry.items():
        if key not in KEYS:
            if key in ("password", "token"):
                what = f"a {key} does not belong in this file. Use {key}-command, or the keyring"
                raise wrong(path, text, table, key, what, "", [])
            raise wrong(path, text, table, key, f"{key!r} is nothing that an account has", key, KEYS)
        is_right = isinstance(value, int) and value >= _LEAST[key] if key in _LEAST else isinstance(value, str)
        if not is_right:
            raise wrong(path, text, table, key, f"{key} = {value!r} is of the wrong kind", "", [])
    authority = entry.get("authority", "")
    return Known(
        url=entry["url"],
        variable=entry.get("password-variable", VARIABLE),
        password_command=entry.get("password-command", ""),
        token_command=entry.get("token-command", ""),
        authority=str(path.parent / Path(authority).expanduser()) if authority else "",
        retries=entry.get("retries", 8),
        search_timeout=entry.get("search-timeout", 300),
    )


_WAYS = {"password-variable": "env:", "password-command": "command:"}


def _key(path: Path, text: str, name: str, entry: Any) -> NamedKey:
    """The key that a table of a configuration file describes. Raises CallError with file and line."""
    if not isinstance(entry, dict) or not isinstance(entry.get("file"), str) or not entry["file"]:
        raise wrong(path, text, "keys", name, f"the key {name!r} needs a table with its file", "", [])
    for key, value in entry.items():
        if key not in ("file", *_WAYS):
            what = f"{key!r} is nothing that a key has"
            if key == "password":
                what = "a password does not belong in this file. Use password-command or password-variable"
            raise wrong(path, text, f"keys.{name}", key, what, key, ("file", *_WAYS))
        if not isinstance(value, str):
            raise wrong(path, text, f"keys.{name}", key, f"{key} = {value!r} is of the wrong kind", "", [])
    password = next((f"{kind}{entry[key]}" for key, kind in _WAYS.items() if key in entry), "")
    file = entry["file"]
    return NamedKey(file if is_token(file) else str(path.parent / Path(file).expanduser()), password)
