"""A standing order, and the file of it (TOML) that people read and edit."""

from __future__ import annotations

import re
import tomllib
from collections.abc import Callable
from dataclasses import dataclass, field
from datetime import UTC, datetime
from pathlib import Path
from typing import Any

from wexagraph.errors import CallError
from wexagraph.records.calls import Call
from wexagraph.records.schedule import KEYS, When
from wexagraph.toml import mending, wrong

SUFFIX = ".toml"
_NAME = re.compile(r"[\w][\w.-]{0,59}")
_TEXTS = ("command", "source", "into", "afterwards")
_KNOWN = (*_TEXTS, "paused", "created", "notify", "when", "choice", "options")
_HEAD = "A standing order of Wexagraph. It may be edited: `wexagraph order show {name}` says how it is read."
_EPOCH = datetime(1970, 1, 1, tzinfo=UTC)


@dataclass(frozen=True)
class Order:
    """A call that is kept under a name, and when it runs. `notify` says who is told of it, and of what."""

    name: str
    call: Call
    when: When = field(default_factory=When)
    paused: bool = False
    notify: tuple[str, ...] = ()
    created: datetime = _EPOCH


def checked_name(name: str) -> str:
    """The name of an order. Raises CallError for one that can't be."""
    if not _NAME.fullmatch(name):
        raise CallError(f"{name!r} can't be the name of an order: letters, digits, and . _ - only, at most 60.")
    return name


def to_toml(order: Order, old: str = "") -> str:
    """The file of an order; of an `old` one, comments and order of lines stay."""
    import tomlkit

    document = tomlkit.parse(old) if old else tomlkit.document()
    if not old:
        document.add(tomlkit.comment(_HEAD.format(name=order.name)))
    call = order.call
    values: dict[str, Any] = {
        "command": call.command,
        "source": call.source,
        "into": call.into,
        "afterwards": call.afterwards or None,
        "paused": order.paused or None,
        "notify": list(order.notify) or None,
        "created": order.created.astimezone(UTC).replace(microsecond=0),
        "when": order.when.to_dict() or None,
        "choice": call.choice or None,
        "options": call.options or None,
    }
    for key, value in values.items():
        if value is None:
            document.pop(key, None)
        elif document.get(key) != value:
            document[key] = value
    return tomlkit.dumps(document)


def from_toml(path: Path, text: str, check: Callable[[Call], None]) -> Order:
    """The order of a file. `check` raises CallError for a call that can't be meant.

    Raises CallError with file, line and the nearest right word.
    """
    try:
        values = tomllib.loads(text)
    except tomllib.TOMLDecodeError as error:
        raise CallError(f"{path}: {error}.{mending(text, str(error))}") from error
    for key, value in values.items():
        if key not in _KNOWN:
            raise wrong(path, text, "", key, f"{key!r} is nothing that an order has", key, _KNOWN)
        kind = dict if key in ("when", "choice", "options") else bool if key == "paused" else object
        if (key in _TEXTS and not isinstance(value, str)) or not isinstance(value, kind):
            raise wrong(path, text, "", key, f"{key} = {value!r} is of the wrong kind", "", [])
    for key in ("command", "source", "into"):
        if not values.get(key):
            raise wrong(path, text, "", key, f"the order has no {key}", "", [])
    for key in values.get("when", {}):
        if key not in KEYS:
            raise wrong(path, text, "when", key, f"{key!r} is no time to run", key, KEYS)
    call = Call(**{name: values[name] for name in (*_TEXTS, "choice", "options") if name in values})
    _check(path, text, call, check)
    created = values.get("created", _EPOCH)
    if not isinstance(created, datetime):
        raise wrong(path, text, "", "created", "created is not a moment such as 2026-03-14T15:03:00Z", "", [])
    try:
        when = When.from_dict(values.get("when", {}))
    except CallError as error:
        raise wrong(path, text, "", "when", str(error).rstrip("."), "", []) from error
    notify = values.get("notify", [])
    return Order(
        checked_name(path.stem),
        call,
        when,
        values.get("paused", False),
        tuple([notify] if isinstance(notify, str) else notify),
        created if created.tzinfo else created.replace(tzinfo=UTC),
    )


def _check(path: Path, text: str, call: Call, check: Callable[[Call], None]) -> None:
    """Raise CallError with the line of what is wrong in a call."""
    try:
        check(call)
        return
    except CallError as error:
        whole = error
    bare = Call(call.command, call.source, call.into)
    parts: list[tuple[str, str, Call]] = [("", "command", bare)]
    parts += [("choice", key, Call(*_three(call), choice={key: value})) for key, value in call.choice.items()]
    parts += [("options", key, Call(*_three(call), options={key: value})) for key, value in call.options.items()]
    for table, key, part in parts:
        try:
            check(part)
        except CallError as error:
            raise wrong(path, text, table, key, str(error).rstrip("."), "", []) from error
    raise CallError(f"{path}: {whole}")


def _three(call: Call) -> tuple[str, str, str]:
    return call.command, call.source, call.into
