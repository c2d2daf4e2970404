"""Time zones by their names."""

from __future__ import annotations

from difflib import get_close_matches
from zoneinfo import ZoneInfo, available_timezones

from wexagraph.errors import CallError


def zone_name(given: str | None) -> str:
    """The IANA name of a zone, this machine's where none is given; "sender" stays. Raises CallError."""
    if given == "sender":
        return given
    if given is None:
        from tzlocal import get_localzone_name

        try:
            name = get_localzone_name()
            ZoneInfo(name)
        except Exception:  # a machine without a readable zone keeps its dates in UTC
            return "UTC"
        return name
    try:
        ZoneInfo(given)
    except (KeyError, ValueError, OSError) as error:
        near = get_close_matches(given, sorted(available_timezones()), n=1)
        hint = f" Did you mean {near[0]}?" if near else ""
        raise CallError(
            f"--zone: {given!r} is not a time zone.{hint} Write an IANA name such as Europe/Lisbon."
        ) from error
    return given
