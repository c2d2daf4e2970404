"""`wexagraph.toml`: defaults for options and names for sources. The command line wins."""

from __future__ import annotations

import re
import tomllib
from dataclasses import dataclass, field
from difflib import get_close_matches
from pathlib import Path
from typing import TYPE_CHECKING, Any

import click

from wexagraph.cli.accounts import KEYS, VARIABLE, Known, added
from wexagraph.errors import CallError

if TYPE_CHECKING:
    from wexagraph.sources import Source

NAME = "wexagraph.toml"
_TABLES = ("options", "sources", "accounts")
_NEVER = frozenset({"help", "config", "version", "into", "id", "csv", "json", "afterwards", "yes"})
_HARMLESS = frozenset(
    (
        "zone as name paper landscape margin scale background no-background header footer text-font text-size engine "
        "attachments open-zips bind unquote flat tag evidence headers property archival show-hidden read-back cover "
        "no-read-back patience jobs volume-size by-folder inline nested once file-larger file-smaller deep folder from "
        "to cc subject body text since before larger smaller keyword seen unseen attached newest except"
    ).split()
)
"""What the file of a working folder may set: nothing that names a place, a server, a file elsewhere or a program. Who
fills a folder with mail for a clerk must not send a password anywhere by it."""


@dataclass
class Config:
    """Names for sources, each with its location, and for accounts; the files that were read, and which file and line
    each option of them stands on."""

    sources: dict[str, str] = field(default_factory=dict)
    accounts: dict[str, Known] = field(default_factory=dict)
    files: list[Path] = field(default_factory=list)
    origins: dict[str, str] = field(default_factory=dict)

    def account(self, name: str) -> Known:
        """The account of that name. Raises CallError."""
        if name not in self.accounts:
            raise self._unknown(name)
        return self.accounts[name]

    def open(self, source: str, as_of: str = "", links: bool = False) -> Source:
        """Open what a SOURCE argument names: a path, an account's URL, or an `@name`; a backup as it was on a day.

        Raises CallError, SourceError.
        """
        from wexagraph.sources import open_source

        known = None
        if source.startswith("@"):
            name = source[1:]
            if name in self.accounts:
                known = self.accounts[name]
            elif name in self.sources:
                source = self.sources[name]
            else:
                raise self._unknown(name)
        if known is None and "://" in source:
            known = Known(source)
        if known is None:
            from wexagraph.backups.bag import is_backup

            path = Path(source).expanduser()
            if is_backup(path):
                from wexagraph.backups.source import BackupSource
                from wexagraph.cli.parameters import zone_name
                from wexagraph.cli.secrets import passphrase

                return BackupSource(path, as_of, zone_name(None), passphrase)
        if as_of:
            raise CallError(f"--as-of is for backups; {source} is none, and is only known as it is now.")
        return open_source(known.account(), known.login) if known else open_source(source, links=links)

    def _unknown(self, name: str) -> CallError:
        names = [*self.sources, *self.accounts]
        near = get_close_matches(name, names, n=1)
        hint = f" Did you mean @{near[0]}?" if near else ""
        listed = f" Named are: {', '.join('@' + n for n in names)}." if names else ""
        return CallError(
            f"no source and no account is named @{name} in {NAME} or by `wexagraph account add`.{hint}{listed}"
        )


def load(context: click.Context, named: str | None) -> Config:
    """Read the configuration and make it the defaults of all commands.

    The file `named`, or `wexagraph.toml` of the user's configuration folder and then of the working folder. Raises
    CallError with file, line and the nearest right word where something in it is wrong.
    """
    config = Config(accounts=added())
    for path in _files(named):
        _read(path, context, config, trusted=named is not None or path.parent != Path())
    return config


def _files(named: str | None) -> list[Path]:
    if named is not None:
        if not Path(named).is_file():
            raise CallError(f"--config {named}: there is no such file.")
        return [Path(named)]
    import platformdirs

    places = [platformdirs.user_config_path("wexagraph", appauthor=False), Path()]
    return [place / NAME for place in places if (place / NAME).is_file()]


def _read(path: Path, context: click.Context, config: Config, trusted: bool) -> None:
    try:
        text = path.read_text("utf-8")
        content = tomllib.loads(text)
    except tomllib.TOMLDecodeError as error:
        raise CallError(f"{path}: {error}. The file is written in TOML.") from error
    except (OSError, UnicodeDecodeError) as error:
        raise CallError(f"{path} can't be read: {error}.") from error
    config.files.append(path)
    for table, values in content.items():
        if table not in _TABLES or not isinstance(values, dict):
            raise _wrong(path, text, "", table, f"{table!r} is nothing that can be set here", table, _TABLES)
    _sources(path, text, content.get("sources", {}), config, trusted)
    accounts = content.get("accounts", {})
    if accounts and not trusted:
        # a folder that somebody else has filled must not run commands, nor send passwords to a server of its choice
        what = "accounts are taken from the user's own configuration folder, or from a file named with --config"
        raise _wrong(path, text, "", "accounts", what, "", [])
    _accounts(path, text, accounts, config)
    options = content.get("options", {})
    for key in options:
        if not trusted and key not in _NEVER and _is_an_option(context, key) and not _may_set(key, options[key]):
            what = f"{key} is taken from the user's own configuration folder, or from a file named with --config"
            raise _wrong(path, text, "options", key, what, "", [])
        config.origins[key] = f"{path}, line {_line(text, 'options', key)}"
    _options(path, text, options, context)


def _wrong(
    path: Path, text: str, table: str, key: str, what: str, wrong: str, right: tuple[str, ...] | list[str]
) -> CallError:
    near = get_close_matches(wrong, right, n=1, cutoff=0.5)
    hint = f" Did you mean {near[0]}?" if near else f" Possible are: {', '.join(sorted(right))}." if right else ""
    return CallError(f"{path}, line {_line(text, table, key)}: {what}.{hint}")


def _line(text: str, table: str, key: str) -> int:
    """The line on which a key of a table is set, counted from 1."""
    current = ""
    for number, line in enumerate(text.splitlines(), 1):
        heading = re.match(r"\s*\[\s*([\w.-]+)", line)
        if heading:
            current = heading[1]
            if not table and current.split(".")[0] == key:
                return number
        elif current == table and re.match(rf"""\s*["']?{re.escape(key)}["']?\s*[.=]""", line):
            return number
    return 1


def _may_set(key: str, value: Any) -> bool:
    """Whether the file of a working folder may set an option to a value."""
    return key in _HARMLESS and (key != "cover" or value in (True, "built-in"))


def _is_an_option(context: click.Context, key: str) -> bool:
    group = context.command
    assert isinstance(group, click.Group)
    commands = (group.get_command(context, name) for name in group.list_commands(context))
    return any(f"--{key}" in (*p.opts, *p.secondary_opts) for c in commands if c for p in c.params)


def _sources(path: Path, text: str, values: dict[str, Any], config: Config, trusted: bool) -> None:
    for name, location in values.items():
        if not isinstance(location, str) or not location:
            raise _wrong(path, text, "sources", name, f"the source {name!r} must be a path in quotation marks", "", [])
        if not trusted and not _lies_below(path.parent, location):
            what = (
                f"{name} lies outside this folder: such a source is taken from the user's own configuration folder, or "
                "from a file named with --config"
            )
            raise _wrong(path, text, "sources", name, what, "", [])
        if "://" not in location:
            location = str(path.parent / Path(location).expanduser())
        config.sources[name] = location


def _lies_below(folder: Path, location: str) -> bool:
    if "://" in location or location.startswith(("~", "/", "@")):
        return False
    return (folder / location).resolve().is_relative_to(folder.resolve())


def _accounts(path: Path, text: str, values: dict[str, Any], config: Config) -> None:
    for name, entry in values.items():
        table = f"accounts.{name}"
        if not isinstance(entry, dict) or not isinstance(entry.get("url"), str):
            raise _wrong(path, text, "accounts", name, f"the account {name!r} needs a table with its url", "", [])
        for key, value in entry.items():
            if key not in KEYS:
                if key in ("password", "token"):
                    what = f"a {key} does not belong in this file. Use {key}-command, or the keyring"
                    raise _wrong(path, text, table, key, what, "", [])
                raise _wrong(path, text, table, key, f"{key!r} is nothing that an account has", key, KEYS)
            if not isinstance(value, int if key == "retries" else str):
                raise _wrong(path, text, table, key, f"{key} = {value!r} is of the wrong kind", "", [])
        authority = entry.get("authority", "")
        config.accounts[name] = Known(
            url=entry["url"],
            variable=entry.get("password-variable", VARIABLE),
            password_command=entry.get("password-command", ""),
            token_command=entry.get("token-command", ""),
            authority=str(path.parent / Path(authority).expanduser()) if authority else "",
            retries=entry.get("retries", 8),
        )
        try:
            config.accounts[name].account()
        except CallError as error:
            raise CallError(f"{path}, account {name}: {error}") from error


def _options(path: Path, text: str, values: dict[str, Any], context: click.Context) -> None:
    if not values:
        return
    group = context.command
    assert isinstance(group, click.Group)
    commands = {name: group.get_command(context, name) for name in group.list_commands(context)}
    known: dict[str, list[tuple[str, click.Option]]] = {}
    for name, command in commands.items():
        for parameter in command.params if command else []:
            if isinstance(parameter, click.Option):
                for option in (*parameter.opts, *parameter.secondary_opts):
                    if option.startswith("--") and option[2:] not in _NEVER:
                        known.setdefault(option[2:], []).append((name, parameter))
    defaults: dict[str, dict[str, Any]] = context.default_map or {}  # type: ignore[assignment]
    for key, value in values.items():
        if key not in known:
            what = f"there is no option {key!r}"
            if key in _NEVER:
                what = f"{key!r} belongs to a single call and can't be a default"
            raise _wrong(path, text, "options", key, what, key, list(known))
        if key == "cover" and isinstance(value, str) and value != "built-in":
            value = str(path.parent / Path(value).expanduser())
        for name, parameter in known[key]:
            if value is True and not parameter.is_flag and isinstance(parameter.flag_value, str):
                value = parameter.flag_value  # the option without a value
            value = [value] if parameter.multiple and not isinstance(value, list) else value
            try:
                parameter.type_cast_value(click.Context(commands[name]), value)  # type: ignore[arg-type]
            except click.BadParameter as error:
                what = f"{key} = {value!r} is no value for it: {error.message.rstrip('.')}"
                raise _wrong(path, text, "options", key, what, "", []) from error
            except TypeError as error:
                raise _wrong(path, text, "options", key, f"{key} = {value!r} is of the wrong kind", "", []) from error
            defaults.setdefault(name, {})[parameter.name or key] = value
    context.default_map = defaults
