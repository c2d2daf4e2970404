"""Dates of messages: RFC 5322 section 3.3, its obsolete forms, and the wrong ones seen in practice."""

from __future__ import annotations

import re
from datetime import UTC, datetime, timedelta, timezone, tzinfo
from functools import lru_cache

_MONTHS = {
    m: n for n, m in enumerate(["jan", "feb", "mar", "apr", "may", "jun", "jul", "aug", "sep", "oct", "nov", "dec"], 1)
}
_ZONES = {  # RFC 5322 section 4.3, and names that programs write all the same; in minutes east of UTC
    "ut": 0,
    "utc": 0,
    "gmt": 0,
    "z": 0,
    "wet": 0,
    "est": -300,
    "edt": -240,
    "cst": -360,
    "cdt": -300,
    "mst": -420,
    "mdt": -360,
    "pst": -480,
    "pdt": -420,
    "bst": 60,
    "cet": 60,
    "met": 60,
    "west": 60,
    "cest": 120,
    "mest": 120,
    "eet": 120,
    "eest": 180,
    "msk": 180,
    "jst": 540,
    "kst": 540,
    "hkt": 480,
}
_RFC = re.compile(
    r"(?:[A-Za-z]{2,9}\.?,?\s*)?(\d{1,2})[\s\-]+([A-Za-z]{3})[A-Za-z]*\.?,?[\s\-]+(\d{2,4}),?"
    r"(?:[\sT]+(\d{1,2})[:.](\d{2})(?:[:.](\d{2})(?:\.\d+)?)?\s*([AaPp][Mm])?)?"
    r"\s*(?:(?:GMT|UTC?)?([+-]\d{1,2}:?\d{2})|\(?([A-Za-z]{1,5})\)?)?"
)
_CTIME = re.compile(
    r"(?:[A-Za-z]{3,9},?\s+)?([A-Za-z]{3})[a-z]*\s+(\d{1,2}),?\s+(\d{1,2}):(\d{2})(?::(\d{2}))?\s+"
    r"(?:([A-Za-z]{1,5}|[+-]\d{4})\s+)?(\d{4})(?:\s+([+-]\d{4}))?"
)
_ISO = re.compile(r"(\d{4})-(\d{2})-(\d{2})(?:[T\s]+(\d{2}):(\d{2})(?::(\d{2})(?:[.,]\d+)?)?\s*(Z|[+-]\d{2}:?\d{2})?)?")
_COMMENT = re.compile(r"\([^()]*\)")
_EARLIEST = 1980  # Internet mail is younger; an older date is a clock that was never set


def parse_date(text: str) -> datetime | None:
    """The instant that a Date field, a Received field's tail or an mbox separator names, with its own offset.

    A missing or unknown zone is UTC (RFC 5322 section 4.3). None where no date can be made of it.
    """
    text = text.strip()
    if len(text) > 200:
        return None
    match = _RFC.match(text)
    if match and match[2].lower() in _MONTHS:
        return _rfc(match)
    text = _COMMENT.sub(" ", text).strip()
    for pattern, build in ((_RFC, _rfc), (_CTIME, _ctime), (_ISO, _iso)):
        match = pattern.search(text)
        if match:
            moment = build(match)
            if moment is not None:
                return moment
    return None


def parse_separator(line: bytes) -> datetime | None:
    """The date in an mbox separator ("From sender Sat Mar 14 15:03:00 2026"). None where there is none."""
    # the sender may hold digits, the date never stands before it
    match = _CTIME.search(line.decode("latin-1").partition(" ")[2].partition(" ")[2][:120])
    moment = _ctime(match) if match else None
    return moment if moment is not None and plausible(moment, None) else None


def _rfc(m: re.Match[str]) -> datetime | None:
    hour = int(m[4] or 0)
    if m[7]:
        hour = hour % 12 + (12 if m[7].lower() == "pm" else 0)
    return _make(m[3], _MONTHS.get(m[2].lower(), 0), m[1], hour, m[5], m[6], m[8] or m[9])


def _ctime(m: re.Match[str]) -> datetime | None:
    return _make(m[7], _MONTHS.get(m[1].lower(), 0), m[2], int(m[3]), m[4], m[5], m[6] or m[8])


def _iso(m: re.Match[str]) -> datetime | None:
    return _make(m[1], int(m[2]), m[3], int(m[4] or 0), m[5], m[6], m[7])


def _make(
    year: str, month: int, day: str, hour: int, minute: str | None, second: str | None, zone: str | None
) -> datetime | None:
    number = int(year)
    if len(year) == 2:
        number += 2000 if number < 50 else 1900  # RFC 5322 section 4.3
    elif len(year) == 3:
        number += 1900
    try:
        return datetime(
            number, month, int(day), hour, int(minute or 0), min(int(second or 0), 59), tzinfo=_offset(zone)
        )
    except (ValueError, OverflowError):
        return None


@lru_cache(maxsize=512)
def _offset(zone: str | None) -> timezone:
    if not zone:
        return UTC
    if zone[0] in "+-":
        digits = zone[1:].replace(":", "").zfill(4)
        minutes = int(digits[:-2]) * 60 + int(digits[-2:])
        if minutes >= 24 * 60:
            return UTC
        return timezone(timedelta(minutes=-minutes if zone[0] == "-" else minutes))
    return timezone(timedelta(minutes=_ZONES.get(zone.lower(), 0)))


def plausible(moment: datetime, received: datetime | None) -> bool:
    """Whether a message can have been written then: after 1980, before 2100, and not a year after it arrived."""
    if not _EARLIEST <= moment.year < 2100:
        return False
    return received is None or moment <= received + timedelta(days=366)


def in_zone(moment: datetime, zone: tzinfo) -> datetime:
    """The same instant in a zone; as it is where the calendar has no such day there."""
    try:
        return moment.astimezone(zone)
    except (OverflowError, ValueError):
        return moment
