"""A standing order: when it runs, and the file of it (TOML) that people read and edit."""

from __future__ import annotations

import re
import tomllib
from collections.abc import Callable, Mapping
from dataclasses import dataclass, field
from datetime import UTC, date, datetime, time, timedelta
from pathlib import Path
from typing import Any

from wexagraph.errors import CallError
from wexagraph.records.calls import Call
from wexagraph.toml import mending, wrong

DAYS = ("mon", "tue", "wed", "thu", "fri", "sat", "sun")
KEYS = ("every", "at", "on", "on-arrival")
_SPAN = re.compile(r"(\d{1,4})\s*(m|min|h|d|w)")
_UNITS = {"m": timedelta(minutes=1), "h": timedelta(hours=1), "d": timedelta(days=1), "w": timedelta(weeks=1)}
_CLOCK = re.compile(r"([01]?\d|2[0-3]):([0-5]\d)")
RETRY = timedelta(minutes=15)
"""How long after a run that could not be done the next one is due."""
SUFFIX = ".toml"
_NAME = re.compile(r"[\w][\w.-]{0,59}")
_TEXTS = ("command", "source", "into", "afterwards", "deliver")
_KNOWN = (*_TEXTS, "paused", "created", "notify", "when", "choice", "options")
_HEAD = "A standing order of Wexagraph. It may be edited: `wexagraph order show {name}` says how it is read."
_EPOCH = datetime(1970, 1, 1, tzinfo=UTC)


@dataclass(frozen=True)
class When:
    """When an order runs; with nothing said, by hand only.

    `every` is a span such as 1h. `at` is a time of the day, `on` the days of the week or of the month (31 is the last
    of each) that it is meant for, all where none is named. `on_arrival` runs it as mail arrives.
    """

    every: str = ""
    at: str = ""
    on: tuple[str, ...] = ()
    on_arrival: bool = False

    def __post_init__(self) -> None:
        if sum(map(bool, (self.every, self.at, self.on_arrival))) > 1:
            raise CallError("--every, --at and --on-arrival do not go together: an order has one time to run.")
        if self.on and not self.at:
            raise CallError("--on names days, and needs --at for the time: --at 02:30 --on mon,thu.")
        if self.every and not timedelta(minutes=1) <= _span(self.every) <= timedelta(weeks=53):
            raise CallError(f"--every {self.every}: from 1m to 52w.")
        if self.at and not _CLOCK.fullmatch(self.at):
            raise CallError(f"--at: {self.at!r} is not a time of the day. Write it as 02:30.")
        for day in self.on:
            if day not in DAYS and not (day.isdigit() and 1 <= int(day) <= 31):
                raise CallError(
                    f"--on: {day!r} is not a day. Write {', '.join(DAYS)}, or 1 to 31 for a day of the month."
                )

    @classmethod
    def from_dict(cls, values: Mapping[str, Any]) -> When:
        """What plain values say. Raises CallError."""
        on = values.get("on", ())
        days = on if isinstance(on, list | tuple) else str(on).split(",")
        return cls(
            every=str(values.get("every") or ""),
            at=str(values.get("at") or ""),
            on=tuple(str(day).strip().lower()[:3] for day in days if str(day).strip()),
            on_arrival=bool(values.get("on-arrival")),
        )

    def to_dict(self) -> dict[str, Any]:
        """Plain values, what is not said left out."""
        values = {"every": self.every, "at": self.at, "on": list(self.on), "on-arrival": self.on_arrival}
        return {name: value for name, value in values.items() if value}

    @property
    def in_words(self) -> str:
        """When, for people."""
        if self.every:
            return f"every {self.every}"
        if self.at:
            return f"at {self.at}" + (f" on {', '.join(self.on)}" if self.on else "")
        return "on arrival" if self.on_arrival else "by hand"

    def due(self, last: datetime | None, failed: bool, created: datetime, now: datetime) -> bool:
        """Whether it is time, when its last run began at `last` (and could not be done, where it `failed`).

        What was due while nothing ran is due once. A last run that lies in the future, since the clock was set back,
        does not keep it from running. All moments have a zone; days and times are those of `now`'s.
        """
        if self.on_arrival:
            return True  # who asks does not watch: looking is cheap
        if not (self.every or self.at):
            return False
        if last is not None and (last > now or (failed and now - last >= RETRY)):
            return True
        if self.every:
            return last is None or now - last >= _span(self.every)
        latest = self._latest(now)
        return latest is not None and (last or created) < latest

    def next(self, last: datetime | None, created: datetime, now: datetime) -> datetime | None:
        """When it runs next; `now` where it is due, None where no clock decides."""
        if self.every:
            return now if last is None or last > now else max(now, last + _span(self.every))
        if not self.at:
            return None
        if self.due(last, False, created, now):
            return now
        for ahead in range(63):
            moment = self._moment(now.date() + timedelta(days=ahead), now)
            if moment > now and self._is_day(moment.date()):
                return moment
        return None

    def _latest(self, now: datetime) -> datetime | None:
        """The last moment up to now that it was meant for."""
        for ago in range(63):
            moment = self._moment(now.date() - timedelta(days=ago), now)
            if moment <= now and self._is_day(moment.date()):
                return moment
        return None

    def _moment(self, day: date, now: datetime) -> datetime:
        hour, minute = map(int, self.at.split(":"))
        return datetime.combine(day, time(hour, minute), now.tzinfo)

    def _is_day(self, day: date) -> bool:
        last = (day + timedelta(days=1)).day == 1
        return (
            not self.on
            or DAYS[day.weekday()] in self.on
            or any(on.isdigit() and (int(on) == day.day or (last and int(on) > day.day)) for on in self.on)
        )


def _span(text: str) -> timedelta:
    match = _SPAN.fullmatch(text.strip().lower())
    if not match:
        raise CallError(
            f"--every: {text!r} is not a span of time. Write minutes, hours, days or weeks: 15m, 1h, 1d, 2w."
        )
    return int(match[1]) * _UNITS[match[2][0]]


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
        "deliver": call.deliver or None,
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
