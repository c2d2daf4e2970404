"""Where a message belongs: by the reference in its subject, by its conversation, by what cases are about."""

from __future__ import annotations

import re
from collections.abc import Callable, Iterable
from dataclasses import dataclass, field
from difflib import get_close_matches

from wexagraph.messages.conversations import Thread, base_subject, thread
from wexagraph.messages.headers import Header
from wexagraph.records.fileplan import Case
from wexagraph.sources import Envelope

REFERENCE, CONVERSATION, CRITERIA = "its reference", "its conversation", "what the case is about"
_TOKEN = re.compile(r"[^\s\[\](){}<>#,;:!?\"'\u201c\u201d\u201e]+")
_ENDS = ".-_/\u2013"


@dataclass
class Placement:
    """Where a message goes: the references, and why; where nowhere, the nearest guess."""

    cases: list[str] = field(default_factory=list)
    why: str = ""
    guess: str = ""


class Placer:
    """Places messages by the cases of a plan. `known` gives the cases that have a message of an ID (a short digest)."""

    def __init__(self, cases: Iterable[Case], known: Callable[[int], Iterable[str]]) -> None:
        self._cases = list(cases)
        self._known = known
        self._by_token = {name.casefold(): case.reference for case in self._cases for name in case.also}
        self._by_token |= {case.reference.casefold(): case.reference for case in self._cases}
        phrases = [name for name in self._by_token if not _TOKEN.fullmatch(name) or name.strip(_ENDS) != name]
        one_of = "|".join(map(re.escape, sorted(phrases, key=len, reverse=True)))
        self._phrases = re.compile(rf"(?<![\w-])(?:{one_of})(?![\w-])") if phrases else None
        self._met: dict[int, set[str]] = {}

    def by_reference(self, subject: str) -> list[str]:
        """The cases whose references stand in a subject, as words of their own."""
        text = subject.casefold()
        references = [
            self._by_token.get(token.strip(_ENDS)) or self._by_token.get(token) for token in _TOKEN.findall(text)
        ]
        if self._phrases is not None:
            references += [self._by_token.get(match) for match in self._phrases.findall(text)]
        return list(dict.fromkeys(one for one in references if one))

    def place_all(self, envelopes: list[Envelope], matches: Callable[[Case, Envelope], bool]) -> list[Placement]:
        """Place messages that may answer one another. `matches` tests a message by the criteria of a case."""
        placements = [Placement() for _ in envelopes]
        threads = [thread(envelope.header) for envelope in envelopes]
        for placement, envelope, links in zip(placements, envelopes, threads, strict=True):
            placement.cases = self.by_reference(envelope.header.subject)
            placement.why = REFERENCE if placement.cases else ""
            self._note(links, placement.cases)
        open_ones = [case for case in self._cases if case.match and case.closed is None]
        self._follow(placements, threads)
        for placement, envelope, links in zip(placements, envelopes, threads, strict=True):
            if not placement.cases:
                placement.cases = [case.reference for case in open_ones if matches(case, envelope)]
                placement.why = CRITERIA if placement.cases else ""
                self._note(links, placement.cases)
        self._follow(placements, threads)
        for placement, envelope in zip(placements, envelopes, strict=True):
            if not placement.cases:
                placement.guess = self._guess(envelope.header)
        return placements

    def _note(self, links: Thread, cases: list[str]) -> None:
        if cases and links.own:
            self._met.setdefault(links.own, set()).update(cases)

    def _follow(self, placements: list[Placement], threads: list[Thread]) -> None:
        """Put answers where their letters are, and letters where their answers are, until nothing moves any more."""
        answered: dict[int, set[str]] = {}
        moved = True
        while moved:
            moved = False
            for placement, links in zip(placements, threads, strict=True):
                for id in links.refers if placement.cases else ():
                    answered.setdefault(id, set()).update(placement.cases)
            for placement, links in zip(placements, threads, strict=True):
                if placement.cases:
                    continue
                cases = {case for id in links.refers for case in self._cases_of(id)} | answered.get(links.own, set())
                if links.own:
                    cases |= set(self._known(links.own))
                if cases:
                    placement.cases, placement.why, moved = sorted(cases), CONVERSATION, True
                    self._note(links, placement.cases)

    def _cases_of(self, id: int) -> set[str]:
        return self._met.get(id, set()) | set(self._known(id))

    def _guess(self, header: Header) -> str:
        """The case that a message may be meant for; "" where none is near."""
        words = [token.strip(_ENDS) for token in _TOKEN.findall(header.subject.casefold())]
        for word in words:
            near = get_close_matches(word, self._by_token, n=3, cutoff=0.75) if any(map(str.isdigit, word)) else []
            if near:  # digits are swapped more often than left out
                return self._by_token[next((one for one in near if len(one) == len(word)), near[0])]
        subject = {word for word in _TOKEN.findall(base_subject(header.subject)[0].casefold()) if len(word) > 3}
        shared = [(len(subject & set(_TOKEN.findall(case.title.casefold()))), case.reference) for case in self._cases]
        most = max(shared, default=(0, ""))
        return most[1] if most[0] else ""
