"""A format that only the tests know: the subject of a message on a line."""

from __future__ import annotations

from wexagraph.exports.options import Format
from wexagraph.messages.message import Message
from wexagraph.pages.make import Job, Made


def to_line(message: Message, job: Job, made: Made) -> bytes:
    return message.header.subject.encode() + b"\n"


LINE = Format("line", ".line", "line", make=to_line)
NEVER_MADE = Format("never", ".never", "nothing")
