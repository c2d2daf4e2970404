"""When an order is to run: every so often, at a time of the day, as mail arrives, or by hand. A clock is handed in."""

from __future__ import annotations

import re
from collections.abc import Mapping
from dataclasses import dataclass
from datetime import date, datetime, time, timedelta
from typing import Any

from wexagraph.errors import CallError

DAYS = ("mon", "tue", "wed", "thu", "fri", "sat", "sun")
KEYS = ("every", "at", "on", "on-arrival")
_SPAN = re.compile(r"(\d{1,4})\s*(m|min|h|d|w)")
_UNITS = {"m": timedelta(minutes=1), "h": timedelta(hours=1), "d": timedelta(days=1), "w": timedelta(weeks=1)}
_CLOCK = re.compile(r"([01]?\d|2[0-3]):([0-5]\d)")
RETRY = timedelta(minutes=15)
"""How long after a run that could not be done the next one is due."""


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
