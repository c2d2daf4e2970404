"""The field that says what a message was made from, since it was kept in another form."""

from __future__ import annotations

import re
from dataclasses import dataclass

from wexagraph.messages.headers import Header
from wexagraph.notes import Note

MADE_FROM = b"wexagraph-made-from"
"""The field's name, in lower case."""
_NUMBER = re.compile(r"\d{1,9}")
_DIGEST = re.compile(r"[0-9a-f]{64}")
_FORMS = {"msg": "MSG", "pst": "PST", "tnef": "TNEF"}


@dataclass(frozen=True)
class Origin:
    """What a message was made from: the form; whether its header was made; how many people no address is kept of, and
    how many reasons there are why something can't be read; the SHA-256 of the file that it was alone in."""

    form: str
    header_made: bool = False
    unkept: int = 0
    damaged: int = 0
    sha256: str = ""

    def field(self) -> str:
        """The field, without a line end."""
        values = [self.form]
        values += ["header=made"] * self.header_made
        values += [f"unkept={self.unkept}"] * bool(self.unkept)
        values += [f"damaged={self.damaged}"] * bool(self.damaged)
        values += [f"sha256={self.sha256}"] * bool(self.sha256)
        return f"{MADE_FROM.decode('ascii').title()}: {'; '.join(values)}"

    @classmethod
    def of(cls, header: Header) -> Origin:
        """What the field of a message says; an empty form where there is none that can be read."""
        form, *values = header.text(MADE_FROM).split("; ")
        pairs = dict(value.partition("=")[::2] for value in values)
        unkept, damaged = (pairs.get(name, "") for name in ("unkept", "damaged"))
        digest = pairs.get("sha256", "")
        return cls(
            _FORMS.get(form, ""),
            pairs.get("header") == "made",
            int(unkept) if _NUMBER.fullmatch(unkept) else 0,
            int(damaged) if _NUMBER.fullmatch(damaged) else 0,
            digest if _DIGEST.fullmatch(digest) else "",
        )

    def notes(self) -> list[Note]:
        """What was not kept of the message."""
        notes = [Note("header-made")] if self.header_made else []
        if self.unkept:
            notes.append(Note("address-unkept", str(self.unkept)))
        return [*notes, Note("form-damaged")] if self.damaged else notes
