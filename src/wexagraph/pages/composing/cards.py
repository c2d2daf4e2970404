"""Calendar objects (RFC 5545) as rows of a readable card."""

from __future__ import annotations

import re
from datetime import date, datetime, timedelta, tzinfo
from typing import Any

from wexagraph.languages import Language
from wexagraph.messages.charsets import decode
from wexagraph.text import lines, one_line

Card = tuple[str, list[tuple[str, str]]]
"""A heading, and rows of a label and a text that may have line breaks."""

_KINDS = {
    "REQUEST": "Invitation",
    "CANCEL": "Cancelled",
    "REPLY": "Answer to an invitation",
    "COUNTER": "Counter-proposal",
}
_ANSWERS = {"ACCEPTED": "accepted", "DECLINED": "declined", "TENTATIVE": "tentative", "NEEDS-ACTION": "not answered"}
_UNITS = {
    "HOURLY": ("every hour", "every {count} hours"),
    "DAILY": ("every day", "every {count} days"),
    "WEEKLY": ("every week", "every {count} weeks"),
    "MONTHLY": ("every month", "every {count} months"),
    "YEARLY": ("every year", "every {count} years"),
}
_MOST_CARDS = 200
_FOLD = re.compile(r"\r?\n[ \t]")
_RULE = re.compile(r"(?mi)^(?:RRULE|EXRULE)[:;][^\r\n]*")


def calendar_cards(content: bytes, zone: tzinfo | None, tr: Language) -> list[Card]:
    """The events, tasks and journal entries of a calendar file, in a language but for the labels of rows.

    Empty where the content is no calendar that can be read.
    """
    from icalendar import Calendar

    try:
        text = _FOLD.sub("", decode(content, "utf-8")[0].lstrip("\ufeff"))
        # lists with blanks between their values are nothing to the library
        text = _RULE.sub(lambda rule: rule[0].replace(" ", ""), text)
        calendars = Calendar.from_ical(text, multiple=True)
        return [
            _card(component, str(calendar.get("METHOD", "")).upper(), zone, tr)
            for calendar in calendars
            for component in calendar.walk()
            if component.name in ("VEVENT", "VTODO", "VJOURNAL")
        ][:_MOST_CARDS]
    except (ValueError, TypeError, KeyError, IndexError, AttributeError, OverflowError):
        return []  # the library's errors on broken calendars are of every kind; the file is attached and named


def _card(event: Any, method: str, zone: tzinfo | None, tr: Language) -> Card:
    kind = _KINDS.get(method, {"VTODO": "Task", "VJOURNAL": "Journal entry"}.get(event.name, "Appointment"))
    rows = [("When", _when(event, zone, tr)), ("Repeats", _repeats(event, tr)), ("Where", _text(event, "LOCATION"))]
    rows.append(("Organiser", "; ".join(map(_person, _all(event, "ORGANIZER")))))
    rows.append(("Invited", "\n".join(_invited(each, tr) for each in _all(event, "ATTENDEE")[:300])))
    rows.append(("State", _text(event, "STATUS").lower()))
    rows.append(("Text", lines(_text(event, "DESCRIPTION", False)).strip()))
    return f"{tr(kind)}: {one_line(_text(event, 'SUMMARY')) or tr('no title')}", [row for row in rows if row[1]]


def _all(event: Any, name: str) -> list[Any]:
    value = event.get(name, [])
    return value if isinstance(value, list) else [value]


def _text(event: Any, name: str, single: bool = True) -> str:
    text = str(_all(event, name)[0]) if _all(event, name) else ""
    return one_line(text.replace("\n", ", ")) if single else text


def _when(event: Any, zone: tzinfo | None, tr: Language) -> str:
    start = getattr(event.get("DTSTART"), "dt", None)
    end = getattr(event.get("DTEND") or event.get("DUE"), "dt", None)
    length = getattr(event.get("DURATION"), "dt", None)
    if end is None and isinstance(start, date) and isinstance(length, timedelta):
        end = start + length
    if start is None:
        return tr("until {moment}", moment=_moment(end, zone, tr)) if end is not None else ""
    if not isinstance(start, datetime) and isinstance(end, date) and not isinstance(end, datetime):
        end = end - timedelta(days=1)  # the end of a whole-day event is the first day after it
        return tr.day(start) if end <= start else tr("{first} to {last}", first=tr.day(start), last=tr.day(end))
    text = _moment(start, zone, tr)
    return f"{text}\n{tr('to {moment}', moment=_moment(end, zone, tr))}" if end is not None and end != start else text


def _moment(moment: date, zone: tzinfo | None, tr: Language) -> str:
    if not isinstance(moment, datetime):
        return tr.day(moment)
    if moment.tzinfo is None:
        return f"{tr.day(moment)}, {moment:%H:%M} ({tr('local time of the place')})"
    return tr.moment(moment.astimezone(zone) if zone else moment)


def _repeats(event: Any, tr: Language) -> str:
    rule = event.get("RRULE")
    if not rule:
        return ""
    rule = rule[0] if isinstance(rule, list) else rule
    unit = _UNITS.get(str((rule.get("FREQ") or [""])[0]).upper())
    if unit is None:
        return one_line(rule.to_ical().decode("utf-8", "replace"))
    text = tr.many(*unit, int((rule.get("INTERVAL") or [1])[0]))
    if rule.get("BYDAY"):
        text += f" ({', '.join(map(str, rule['BYDAY']))})"
    if rule.get("COUNT"):
        text += ", " + tr.many("{count} time", "{count} times", int(rule["COUNT"][0]))
    if rule.get("UNTIL"):
        text += ", " + tr("until {moment}", moment=tr.day(rule["UNTIL"][0]))
    return one_line(text)


def _person(person: Any) -> str:
    address = str(person)
    address = address[7:] if address[:7].lower() == "mailto:" else address
    name = str(getattr(person, "params", {}).get("CN", ""))
    if name and address == "invalid:nomail":
        return one_line(name)
    return one_line(f"{name} <{address}>" if name and name != address else address)


def _invited(person: Any, tr: Language) -> str:
    state = _ANSWERS.get(str(getattr(person, "params", {}).get("PARTSTAT", "")).upper(), "")
    return f"{_person(person)}, {tr(state)}" if state else _person(person)


_VCARD = {
    "EMAIL": "E-mail",
    "TEL": "Telephone",
    "ADR": "Address",
    "ORG": "Organisation",
    "TITLE": "Title",
    "ROLE": "Role",
    "URL": "Web",
    "BDAY": "Birthday",
    "NOTE": "Note",
}


def vcard_cards(content: bytes, tr: Language) -> list[Card]:
    """The persons of a vCard file (RFC 6350, and the older forms). Empty where it is none that can be read."""
    from icalendar.parser import Contentlines

    try:
        cards: list[Card] = []
        for line in Contentlines.from_ical(decode(content, "utf-8")[0]):
            if not line:
                continue
            name, _, value = line.parts()
            name, text = (
                name.upper().rpartition(".")[2],
                lines(str(value)).replace("\\n", "\n").replace("\\,", ",").replace("\\;", ";"),
            )
            if name == "BEGIN":
                cards.append(("no name", []))
            elif cards and name == "FN":
                cards[-1] = (one_line(text), cards[-1][1])
            elif cards and name in _VCARD:
                cards[-1][1].append(
                    (
                        _VCARD[name],
                        ", ".join(part for part in text.split(";") if part) if name in ("ADR", "ORG") else text,
                    )
                )
        named = [
            (tr(title) if title == "no name" else title, rows) for title, rows in cards if rows or title != "no name"
        ]
        return named[:_MOST_CARDS]
    except (ValueError, TypeError, KeyError, IndexError, AttributeError):
        return []
