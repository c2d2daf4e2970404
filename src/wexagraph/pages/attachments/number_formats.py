"""Numbers and dates as a spreadsheet shows them (ECMA-376 part 1, section 18.8.30: number formats)."""

from __future__ import annotations

import re
from datetime import date, datetime, time, timedelta

_PART = re.compile(r'"[^"]*"|\\.|\[[^\]]*\]|_.|\*.|[^"\\\[_*]')
_DIGITS = re.compile(r"[#0?](?:[#0?,]*[#0?])?,*(?:\.[#0?]*)?(?:[eE][+-][#0?]+)?|\.[#0?]+")
_DATE = re.compile(r'"[^"]*"|\\.|\[h+\]|\[[^\]]*\]|y+|m+|d+|h+|s+(?:\.0+)?|am/pm|a/p|.', re.IGNORECASE)
_MONTHS = "January February March April May June July August September October November December".split()
_DAYS = "Monday Tuesday Wednesday Thursday Friday Saturday Sunday".split()


def shown(value: object, form: str) -> str:
    """A cell's value as its number format shows it; what the format can't say is shown plainly."""
    if value is None:
        return ""
    if isinstance(value, bool):
        return "TRUE" if value else "FALSE"
    if isinstance(value, datetime | date | time | timedelta):
        return _moment(value, form)
    if isinstance(value, int | float):
        return _number(value, form)
    return str(value)


def _number(value: float, form: str) -> str:
    if value != value or value in (float("inf"), float("-inf")):
        return str(value)
    sections = re.split(r';(?=(?:[^"]*"[^"]*")*[^"]*$)', form or "General")
    negative = value < 0 and len(sections) > 1
    section = sections[1] if negative else sections[2] if value == 0 and len(sections) > 2 else sections[0]
    if "general" in section.lower() or section.strip() in ("", "@"):
        return f"{value:.10g}" if isinstance(value, float) else str(value)
    digits = _DIGITS.search(
        "".join("\0" * len(part) if part[0] in '"\\[_*' else part for part in _PART.findall(section))
    )
    if not digits:
        return "".join(map(_literal, _PART.findall(section)))
    before, pattern, after = section[: digits.start()], digits[0], section[digits.end() :]
    percent = "%" in before + after
    thousands = len(pattern.split(".")[0]) - len(pattern.split(".")[0].rstrip(","))
    amount = abs(value) if negative else value
    amount = amount * (100 if percent else 1) / 1000**thousands
    if "E" in pattern.upper():
        text = f"{amount:.{len(pattern.upper().split('E')[0].partition('.')[2])}E}"
    else:
        decimals = pattern.partition(".")[2]
        least = len(decimals.replace("#", ""))
        text = f"{amount:,.{len(decimals)}f}" if "," in pattern.rstrip(",") else f"{amount:.{len(decimals)}f}"
        while "." in text and len(text.partition(".")[2]) > least and text.endswith("0"):
            text = text[:-1]
        text = text.rstrip(".") if not least else text
        whole, dot, rest = text.partition(".")
        text = whole.zfill(pattern.partition(".")[0].count("0") + whole.startswith("-")) + dot + rest
    return "".join(map(_literal, _PART.findall(before))) + text + "".join(map(_literal, _PART.findall(after)))


def _literal(part: str) -> str:
    if part[0] == '"':
        return part[1:-1]
    if part[0] == "\\":
        return part[1:]
    if part[0] == "[":
        return part[2:].partition("-")[0].rstrip("]") if part.startswith("[$") else ""
    return " " if part[0] == "_" else "" if part[0] == "*" else part


def _moment(value: datetime | date | time | timedelta, form: str) -> str:
    if isinstance(value, timedelta):
        minutes = int(value.total_seconds()) // 60
        return f"{minutes // 60}:{minutes % 60:02}"
    moment = value if isinstance(value, datetime) else datetime(1900, 1, 1)
    if isinstance(value, time):
        moment = datetime.combine(moment.date(), value)
    elif not isinstance(value, datetime):
        moment = datetime(value.year, value.month, value.day)
    tokens = _DATE.findall(form.split(";")[0]) if form and form.lower() != "general" else []
    if not any(token[:1].lower() in "ymdhs" for token in tokens):
        return value.isoformat(" ") if isinstance(value, datetime) else value.isoformat()
    twelve = any(token.lower() in ("am/pm", "a/p") for token in tokens)
    out, last = [], ""
    for number, token in enumerate(tokens):
        kind = token[0].lower()
        if kind == "m" and (last == "h" or _next(tokens, number) == "s"):
            out.append(f"{moment.minute:02}" if len(token) > 1 else str(moment.minute))
        else:
            out.append(_piece(token, moment, twelve))
        last = kind if kind in "ymdhs" else last
    return "".join(out)


def _next(tokens: list[str], number: int) -> str:
    return next((token[0].lower() for token in tokens[number + 1 :] if token[0].lower() in "ymdhs"), "")


def _piece(token: str, moment: datetime, twelve: bool) -> str:
    kind, size = token[0].lower(), len(token)
    if kind == "y":
        return f"{moment.year}" if size > 2 else f"{moment.year % 100:02}"
    if kind == "m":
        name = _MONTHS[moment.month - 1]
        return (str(moment.month), f"{moment.month:02}", name[:3], name, name[:1])[min(size, 5) - 1]
    if kind == "d":
        name = _DAYS[moment.weekday()]
        return (str(moment.day), f"{moment.day:02}", name[:3], name)[min(size, 4) - 1]
    if kind == "h" or token.lower().startswith("[h"):
        hour = (moment.hour - 1) % 12 + 1 if twelve else moment.hour
        return f"{hour:02}" if size > 1 else str(hour)
    if kind == "s":
        return f"{moment.second:02}" if size > 1 else str(moment.second)
    if token.lower() in ("am/pm", "a/p"):
        return "AM" if moment.hour < 12 else "PM"
    return _literal(token)
