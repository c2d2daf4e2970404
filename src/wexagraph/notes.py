"""Notes: what could not be shown as it was, with a stable code, from the room where it is seen to the report."""

from __future__ import annotations

from collections.abc import Iterable
from dataclasses import dataclass

from wexagraph.languages import ENGLISH, Language, language
from wexagraph.text import one_line

CODES = {
    "date-missing": "the message has no date of its own",
    "date-unreadable": "the message's date can't be read",
    "date-absurd": "the message's date can't be true",
    "date-from-received": "date taken from the newest Received field",
    "date-from-mailbox": "date taken from the mailbox",
    "charset-guessed": "no character set is declared; it was guessed",
    "charset-wrong": "the declared character set does not fit the bytes; another was used",
    "characters-lost": "bytes that are no character in any fitting set are shown as \N{REPLACEMENT CHARACTER}",
    "encoding-damaged": "a transfer encoding is damaged; what could be decoded is shown",
    "boundary-wrong": "the header does not name what stands between the parts; they were told apart all the same",
    "boundary-missing": "the end of a multipart body is missing; the message may have been cut short",
    "nesting-too-deep": "parts are nested too deeply; the innermost are kept but not shown",
    "parts-too-many": "there are more parts than can be listed; the last ones are kept but not shown",
    "header-too-long": "a header field is very long; it is shortened here and whole in the embedded file",
    "picture-remote": "pictures from the network were not fetched",
    "picture-fetched": "a picture is from the network, not from the message",
    "picture-unfetched": "a picture could not be fetched from the network",
    "picture-missing": "a picture is not in the message",
    "picture-refused": "a picture is of a kind or size that can't be shown",
    "content-removed": "active content (scripts, forms, frames) was left out",
    "text-hidden": "text that the sender hid is not printed; --show-hidden prints it",
    "attachment-other-type": "an attachment is of another type than it says",
    "attachment-unconverted": "an attachment could not be made into pages; it is embedded",
    "attachment-shortened": "something of an attachment is not on its pages",
    "attachment-hidden": "hidden rows, columns or sheets of an attachment are left out",
    "text-recognised": "words of pictures were recognised by a program and may be wrong; the pictures are as they were",
    "text-unsure": "the program is not sure of the words that it recognised on a page",
    "text-unrecognised": "no words could be recognised in a picture",
    "formula-uncomputed": "cells hold a formula without a result; the formula is shown",
    "archival-failed": "no PDF/A could be made of it; it is an ordinary PDF",
    "words-missing": "words of the message were not found again in the PDF",
    "text-unsearchable": "words are drawn, but a search in the PDF may not find them",
    "letters-missing": "no font has some of the letters; boxes stand in their place",
    "body-too-long": "the text is too long for a page; it is whole in the embedded file",
    "body-too-deep": "the layout is nested too deeply and was flattened",
    "layout-simplified": "the author's layout left words out; the page is set without what did it",
    "background-missing": "a picture behind text is not in the message; a colour stands in its place",
    "text-only": "the layout could not be made; the page shows the text alone",
    "engine-other": "the page was made by the second engine",
    "page-failed": "no page could be made; the message was written as EML",
    "remade": "a file of an earlier run was missing or altered and was made again",
    "double": "the same message lies elsewhere too, and was taken once",
    "signed": "the message is signed; the signature is kept and was not checked",
    "left-over": "something in the message belongs to no part of it; it is shown under a label and embedded",
    "kept-elsewhere": "a file of the message was never in it, only a reference to it",
    "field-repeated": "a header field that may stand once stands more than once; the first one counts",
    "calendar-unreadable": "an invitation can't be read; it is kept as a file",
    "header-made": "the message was kept without a header; one was made of what is known of it",
    "address-unkept": "no address is kept of people whom the message names",
    "form-damaged": "the file that the message was kept in is damaged; what could be read is shown",
    "wrapper-opened": "text and attachments were taken out of a wrapper, which is kept too",
    "wrapper-damaged": "a wrapper of text and attachments is damaged; what could be read is shown",
    "carried": "the message came inside another one, as a file",
    "unpacked": "the message was compressed; what is shown was unpacked from a file that is kept too",
    "encrypted": "the text is encrypted; it is kept but can't be shown",
    "protection-opened": "the message was encrypted; what is shown was opened with a key of the office",
    "protection-damaged": "the message is encrypted and damaged; it is kept but can't be opened",
    "protection-unproved": "this kind of encryption does not show whether it was altered",
    "signature-holds": "unchanged since it was signed",
    "signature-unproved": "signed, and who signed is not proved",
    "signature-other": "signed by another than the From address says",
    "signature-changed": "a signature does not fit the text: it was changed since, on the way or by a list",
    "signature-expired": "signed with a certificate or key that did not hold then",
    "signature-withdrawn": "signed with a certificate or key that was withdrawn",
    "signature-old": "signed in an old way that proves little today",
    "protection-partial": "something of the message stands outside of what was signed or encrypted",
    "mark-holds": "marked by a sending domain, and unchanged since; a domain is no person",
    "mark-unchecked": "its text is unchanged since a sending domain marked it; the mark itself was not checked",
    "mark-changed": "changed since a sending domain marked it (lists do that)",
    "mark-wrong": "the mark of a sending domain does not fit the header",
    "mark-withdrawn": "marked by a sending domain with a key that the domain has taken back",
    "mark-no-key": "marked by a sending domain with a key that the domain does not have",
    "mark-unreadable": "the mark of a sending domain is of a form that is not known",
    "mark-other": "marked by another domain than that of the From address",
    "mark-partial": "a mark is over the beginning of the text alone: what follows may be anybody's",
    "mark-testing": "the domain says of its key that it is for tests",
    "mark-old": "marked in an old way, or with a short key, which proves little today",
    "relay-holds": "a server on the way says how the message came to it, and its seal holds",
    "relay-unchecked": "a server on the way says how the message came to it; its seal was not checked",
    "relay-changed": "a server on the way says how the message came to it; the text was changed since",
    "relay-wrong": "a server on the way is said to have said how the message came to it; its seal does not fit",
    "server-said": "what the office's own server wrote when the message came",
    "header-inside": "what is protected has a header of its own, which counts; the outer one says otherwise",
}
PROTECTION = {
    "protection-damaged": ("encrypted", "damaged"),
    "encrypted": ("encrypted", "closed"),
    "protection-opened": ("encrypted", "opened"),
    "signature-changed": ("signed", "changed"),
    "signature-withdrawn": ("signed", "withdrawn"),
    "signature-expired": ("signed", "expired"),
    "signature-other": ("signed", "other signer"),
    "signature-unproved": ("signed", "signer unknown"),
    "signature-holds": ("signed", "holds"),
    "signed": ("signed", "not checked"),
}
MARKS = {
    "mark-changed": "changed",
    "mark-wrong": "does not fit",
    "mark-withdrawn": "key taken back",
    "mark-no-key": "no key",
    "mark-holds": "holds",
    "mark-unchecked": "unchanged, not checked",
    "mark-unreadable": "unreadable",
}
"""Codes of notes on messages that keys may open or prove, the worst first: what they are, and a register's word."""


def protection_word(notes: Iterable[Note], kind: str) -> str:
    """The word of a register for how a message is `encrypted`, `signed`, or `marked` by a domain, by its notes, the
    worst of all; "" where it is not."""
    codes = {note.code for note in notes}
    if kind == "marked":
        # one mark that holds is enough: lists add theirs, and break those before
        word = next((word for code, word in MARKS.items() if code in codes), "")
        word = MARKS["mark-holds"] if "mark-holds" in codes else word
        return f"{word}, another domain" if word == "holds" and "mark-other" in codes else word
    word = next((word for code, (what, word) in PROTECTION.items() if what == kind and code in codes), "")
    return "holds in part" if word == "holds" and "protection-partial" in codes else word


@dataclass(frozen=True, slots=True)
class Note:
    """Something that differs from the original.

    `code` is a key of `CODES`, stable between versions; `detail` says where or what, in one line that steers nothing,
    whatever the message held.
    """

    code: str
    detail: str = ""

    def __post_init__(self) -> None:
        if self.code not in CODES:
            raise ValueError(f"unknown note code {self.code!r}")
        object.__setattr__(self, "detail", one_line(self.detail))

    def __str__(self) -> str:
        return self.in_words(language(ENGLISH))

    def in_words(self, tr: Language) -> str:
        """The note in a language; its detail stays as it is."""
        return tr(CODES[self.code]) + (f" ({self.detail})" if self.detail else "")
