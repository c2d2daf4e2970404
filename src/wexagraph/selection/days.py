"""Days and ages as people write them."""

from __future__ import annotations

import re
from datetime import date, datetime, timedelta

from wexagraph.errors import CallError

_FORMS = ("%Y-%m-%d", "%Y-%m", "%Y")
_AGE = re.compile(r"(\d{1,4}) *([dwmy])", re.IGNORECASE)
_OTHER = re.compile(r"(\d{1,2})[./-](\d{1,2})[./-](\d{4})")


def parse_day(value: str, today: date | None = None) -> date:
    """A day: 2026-03-14, or 2026-03 and 2026 for the first day of it; `today`, `yesterday`, or an age such as 30d, so
    long before `today` (else this day). Raises CallError."""
    text = value.strip().lower()
    today = today or date.today()
    if text in ("today", "yesterday"):
        return today - timedelta(days=text == "yesterday")
    if _AGE.fullmatch(text):
        return before(today, text)
    for form in _FORMS:
        try:
            return datetime.strptime(text, form).date()
        except ValueError:
            continue
    raise CallError(f"{value!r} is not a date.{_readings(text)} Write it as year-month-day: 2026-03-14.")


def _readings(text: str) -> str:
    """What a day with its parts in another order may mean."""
    match = _OTHER.fullmatch(text)
    if not match:
        return ""
    first, second, year = (int(part) for part in match.groups())
    days = []
    for month, day in ((second, first), (first, second)):
        try:
            days.append(date(year, month, day).isoformat())
        except ValueError:
            continue
    return f" It may mean {' or '.join(dict.fromkeys(days))}." if days else ""


def before(today: date, age: str) -> date:
    """The day that lies an age before another: 30d, 6w, 18m, 2y. Raises CallError."""
    match = _AGE.fullmatch(age.strip())
    if not match:
        raise CallError(f"{age!r} is not an age. Write days, weeks, months or years: 30d, 6w, 18m, 2y.")
    count, unit = int(match[1]), match[2].lower()
    if unit in "dw":
        try:
            return today - timedelta(days=count * (7 if unit == "w" else 1))
        except OverflowError:
            return date.min
    months = today.year * 12 + today.month - 1 - count * (12 if unit == "y" else 1)
    year, month = divmod(months, 12)
    if year < 1:
        return date.min
    for day in range(today.day, 27, -1):  # the last day of a shorter month
        try:
            return date(year, month + 1, day)
        except ValueError:
            continue
    return date(year, month + 1, min(today.day, 28))
