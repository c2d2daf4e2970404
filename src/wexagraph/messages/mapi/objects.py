"""Appointments, contacts, tasks: their properties as iCalendar, vCard and text ([MS-OXOCAL], [MS-OXOCNTC])."""

from __future__ import annotations

import struct
from datetime import UTC, date, datetime, timedelta
from typing import TYPE_CHECKING

from wexagraph.messages.headers import Address
from wexagraph.messages.mapi.fields import moment_of, recipient_of, subject_of
from wexagraph.messages.mapi.item import Item
from wexagraph.messages.mapi.properties import ADDRESS, APPOINTMENT, MEETING, TASK, Key, Name, Properties
from wexagraph.text import one_line

if TYPE_CHECKING:
    from icalendar import Event, vCalAddress

_APPOINTMENTS = ("ipm.appointment", "ipm.schedule.meeting")
_ANSWERS = {"pos": "ACCEPTED", "neg": "DECLINED", "tent": "TENTATIVE"}
_START, _END = Name(APPOINTMENT, 0x820D), Name(APPOINTMENT, 0x820E)
_PLACE, _ALL_DAY = Name(APPOINTMENT, 0x8208), Name(APPOINTMENT, 0x8215)
_RECURRENCE, _REPEATS = Name(APPOINTMENT, 0x8216), Name(APPOINTMENT, 0x8232)
_IDENTITY = (Name(MEETING, 0x0023), Name(MEETING, 0x0003))
_MEMBERS = Name(ADDRESS, 0x8054)
_DAYS = ("SU", "MO", "TU", "WE", "TH", "FR", "SA")
_BEGINNING = datetime(1601, 1, 1, tzinfo=UTC)
_ROLES = {1: "REQ-PARTICIPANT", 2: "OPT-PARTICIPANT", 3: "NON-PARTICIPANT"}
_FIELDS: dict[str, tuple[tuple[str, Key], ...]] = {
    "ipm.contact": (
        *(("Name", 0x3001), ("Company", 0x3A16), ("Department", 0x3A18), ("Position", 0x3A17)),
        *(("E-mail", Name(ADDRESS, number)) for number in (0x8083, 0x8093, 0x80A3)),
        *(("Telephone, business", 0x3A08), ("Telephone, home", 0x3A09), ("Telephone, mobile", 0x3A1C)),
        *(("Fax", 0x3A24), ("Address, business", Name(ADDRESS, 0x801B)), ("Address, home", Name(ADDRESS, 0x801A))),
        *(("Web page", 0x3A51), ("Web page", Name(ADDRESS, 0x802B))),
    ),
    "ipm.task": (
        *(("Task", 0x0037), ("Starts", Name(TASK, 0x8104)), ("Due", Name(TASK, 0x8105))),
        *(("Done on", Name(TASK, 0x810F)), ("State", Name(TASK, 0x8101)), ("Done", Name(TASK, 0x8102))),
        *(("Owner", Name(TASK, 0x811F)), ("Given by", Name(TASK, 0x8121))),
    ),
    "ipm.distlist": (("List", 0x3001), ("Members", _MEMBERS)),
    "ipm.activity": (("Entry", 0x0037), ("Kind", Name("0006200a-0000-0000-c000-000000000046", 0x8700))),
}
_ONE_OFF = bytes.fromhex("812b1fa4bea310199d6e00dd010f5402")
_STATES = ("not started", "in progress", "complete", "waiting", "deferred")
_CARD: dict[Key, str] = {
    0x3A16: "ORG",
    0x3A17: "TITLE",
    0x3A51: "URL",
    Name(ADDRESS, 0x802B): "URL",
    0x3A24: "TEL;TYPE=fax",
    **{Name(ADDRESS, number): "EMAIL" for number in (0x8083, 0x8093, 0x80A3)},
    0x3A08: "TEL;TYPE=work",
    0x3A09: "TEL;TYPE=home",
    0x3A1C: "TEL;TYPE=cell",
    Name(ADDRESS, 0x801B): "ADR;TYPE=work:;;",
    Name(ADDRESS, 0x801A): "ADR;TYPE=home:;;",
}


def described(item: Item) -> tuple[str, list[tuple[str, bytes]]]:
    """What an item that is no letter says: its fields as text ("" where it has none to show), and objects of other
    standards, each with its media type."""
    kind = item.kind
    if kind.startswith(_APPOINTMENTS):
        method = _method(kind)
        type = "text/calendar" + (f";method={method}" if method else "")
        return "", [(type, _calendar(item, method))]
    name = next((name for name in _FIELDS if kind == name or kind.startswith(name + ".")), "")
    if not name:
        return "", []
    rows = [(label, _shown(item.properties, key)) for label, key in _FIELDS[name]]
    text = "".join(f"{label}: {value}\r\n" for label, value in dict.fromkeys(rows) if value)
    return text, [("text/vcard", _card(item))] if name == "ipm.contact" else []


def _shown(properties: Properties, key: Key) -> str:
    if key == Name(TASK, 0x8101):
        state = properties.number(key, -1)
        return _STATES[state] if 0 <= state < len(_STATES) else ""
    if key == Name(TASK, 0x8102):
        return f"{properties.fraction(key):.0%}" if key in properties else ""
    moment = properties.moment(key)
    if moment is not None:
        return f"{moment:%Y-%m-%d}"
    if key == _MEMBERS:
        value = properties.values.get(key)
        entries = value.raw if value is not None and isinstance(value.raw, list) else []
        return "; ".join(str(person) for entry in entries if (person := one_off(entry)) is not None)
    return ", ".join(line.strip() for line in properties.text(key).splitlines() if line.strip())


def one_off(entry: bytes) -> Address | None:
    """The person in a one-off entry ID ([MS-OXCDATA] section 2.2.5.1); None where it is of another kind."""
    if entry[4:20] != _ONE_OFF or len(entry) < 24:
        return None
    wide = int.from_bytes(entry[22:24], "little") & 0x8000
    texts = entry[24:].decode("utf-16-le" if wide else "cp1252", "replace").split("\0")
    return Address(one_line(texts[0]), one_line(texts[2])) if len(texts) > 2 else None


def _method(kind: str) -> str:
    if kind.startswith("ipm.schedule.meeting.resp"):
        return "REPLY"
    if kind.startswith("ipm.schedule.meeting"):
        return "CANCEL" if "canceled" in kind else "REQUEST"
    return ""


def _calendar(item: Item, method: str) -> bytes:
    """A meeting or appointment (RFC 5545)."""
    from icalendar import Calendar, Event, vText

    properties = item.properties
    calendar, event = Calendar(), Event()
    calendar.add("prodid", "-//Wexagraph//EN")
    calendar.add("version", "2.0")
    if method:
        calendar.add("method", method)
    identity = next((raw for key in _IDENTITY if (raw := properties.binary(key))), b"")
    event.add("uid", _uid(identity) or "unknown")
    stamp = moment_of(properties)
    if stamp is not None:
        event.add("dtstamp", stamp.replace(microsecond=0))
    start = properties.moment(_START, 0x0060)
    end = properties.moment(_END, 0x0061)
    whole_days = bool(properties.number(_ALL_DAY))
    for name, moment in (("dtstart", start), ("dtend", end)):
        if moment is not None:
            event.add(name, _day(moment) if whole_days else moment.replace(microsecond=0))
    event.add("summary", vText(subject_of(properties)))
    place = one_line(properties.text(_PLACE))
    if place:
        event.add("location", vText(place))
    repeats = one_line(properties.text(_REPEATS))
    rule = _rule(properties.binary(_RECURRENCE))
    if rule:
        event.add("rrule", rule)
    if repeats:
        event.add("comment", vText(repeats))
    _people(item, event, method)
    calendar.add_component(event)
    return calendar.to_ical()


def _people(item: Item, event: Event, method: str) -> None:
    from icalendar import vText

    author = Address(
        one_line(item.properties.text(0x0042, 0x0C1A)), item.properties.text(0x5D02, 0x5D01, 0x0065, 0x0C1F)
    )
    answer = next((state for word, state in _ANSWERS.items() if item.kind.endswith(f".resp.{word}")), "")
    attendees = [(recipient_of(recipient), recipient.number(0x0C15)) for recipient in item.people]
    if method == "REPLY":
        attendees = [(author, 1)]
    elif author.name or author.address:
        event.add("organizer", _calendar_address(author))
    for person, role in attendees:
        address = _calendar_address(person)
        if answer:
            address.params["PARTSTAT"] = vText(answer)
        address.params["ROLE"] = vText(_ROLES.get(role & 0xF, "REQ-PARTICIPANT"))
        event.add("attendee", address, encode=False)


def _calendar_address(person: Address) -> vCalAddress:
    from icalendar import vCalAddress, vText

    known = "@" in person.address
    address = vCalAddress(f"mailto:{one_line(person.address)}" if known else "invalid:nomail")
    if person.name:
        address.params["CN"] = vText(person.name.replace('"', "'"))
    return address


def _uid(identity: bytes) -> str:
    """The UID in a GlobalObjectId ([MS-OXCICAL] section 2.1.3.1.1.20.26)."""
    at = identity.find(b"vCal-Uid\1\0\0\0")
    if at >= 0:
        return one_line(identity[at + 12 :].rstrip(b"\0").decode("utf-8", "replace"))
    return identity.hex().upper()


def _day(moment: datetime) -> date:
    """The day that a whole-day entry means: midnight where it was made, which UTC tells as an hour near to it."""
    return (moment + timedelta(hours=12)).date()


def _rule(blob: bytes) -> dict[str, object]:
    """A RecurrencePattern ([MS-OXOCAL] section 2.2.1.44.1) as the parts of an RRULE; empty where it can't be told."""
    try:
        _, _, frequency, pattern, _, _, period, _ = struct.unpack_from("<HHHHHIII", blob)
        at, rule = 22, dict[str, object]()
        if pattern == 0:
            rule = {"FREQ": "DAILY", "INTERVAL": max(1, period // 1440)}
        elif pattern == 1:
            days = struct.unpack_from("<I", blob, at)[0]
            at += 4
            rule = {"FREQ": "WEEKLY", "INTERVAL": max(1, period)}
            rule["BYDAY"] = [name for bit, name in enumerate(_DAYS) if days >> bit & 1]
        elif pattern in (2, 3, 4):
            value = struct.unpack_from("<I", blob, at)[0]
            at += 4
            if pattern == 3:
                nth = struct.unpack_from("<I", blob, at)[0]
                at += 4
                rule = {"BYDAY": [name for bit, name in enumerate(_DAYS) if value >> bit & 1]}
                rule["BYSETPOS"] = -1 if nth == 5 else nth
            else:
                rule = {"BYMONTHDAY": -1 if value == 31 else value}
            yearly = frequency == 0x200D
            rule |= {"FREQ": "YEARLY" if yearly else "MONTHLY", "INTERVAL": max(1, period // 12 if yearly else period)}
            if yearly:
                rule |= {"BYMONTH": []}
        else:
            return {}
        ends, count, _, deleted = struct.unpack_from("<IIII", blob, at)
        at += 16 + 4 * min(deleted, 10_000)
        modified = struct.unpack_from("<I", blob, at)[0]
        at += 4 + 4 * min(modified, 10_000)
        first, last = struct.unpack_from("<II", blob, at)
        if not rule.get("BYMONTH", True):
            rule["BYMONTH"] = (_BEGINNING + timedelta(minutes=first)).month
        if ends == 0x2022:
            rule["COUNT"] = count
        elif ends == 0x2021:
            rule["UNTIL"] = _BEGINNING + timedelta(minutes=last)
        return rule
    except (struct.error, OverflowError):
        return {}


def _card(item: Item) -> bytes:
    """A contact (RFC 6350)."""
    properties = item.properties
    family, given = one_line(properties.text(0x3A11)), one_line(properties.text(0x3A06))
    lines = ["BEGIN:VCARD", "VERSION:4.0", f"FN:{_escaped(properties.text(0x3001) or subject_of(properties))}"]
    if family or given:
        lines.append(f"N:{_escaped(family)};{_escaped(given)};{_escaped(properties.text(0x3A44))};;")
    for key, name in _CARD.items():
        value = properties.text(key)
        if value:
            lines.append(f"{name}{_escaped(value)};;;;" if name.startswith("ADR") else f"{name}:{_escaped(value)}")
    return "".join(f"{line}\r\n" for line in [*dict.fromkeys(lines), "END:VCARD"]).encode("utf-8", "replace")


def _escaped(text: str) -> str:
    text = text.replace("\\", "\\\\").replace(",", "\\,").replace(";", "\\;")
    return one_line(text.strip().replace("\r\n", "\n").replace("\n", "\\n"))
