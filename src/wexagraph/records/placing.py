"""Where a message belongs: by the reference in its subject, by its conversation, by what cases are about."""

from __future__ import annotations

import re
from collections import Counter
from collections.abc import Callable, Iterable
from dataclasses import dataclass, field
from difflib import get_close_matches
from functools import cached_property

from wexagraph.messages.conversations import Thread, base_subject, thread
from wexagraph.messages.headers import Header
from wexagraph.records.fileplan import Case
from wexagraph.sources.base import Envelope

REFERENCE, CONVERSATION, CRITERIA = "its reference", "its conversation", "what the case is about"
_TOKEN = re.compile(r"[^\s\[\](){}<>#,;:!?\"'\u201c\u201d\u201e]+")
_MEANT = re.compile(r"#([^\s\[\](){}<>#,;:!?\"']+)")
_ENDS = ".-_/\u2013"
_MARKS = " \t.,:;-_/|[](){}<>\u2013\u2014\u00bb\u00ab"


@dataclass(slots=True)
class Placement:
    """Where a message goes: the references, and why; where nowhere, the nearest guess. `title` is what its documents
    are to be called: what its subject says behind a reference with `#`."""

    cases: list[str] = field(default_factory=list)
    why: str = ""
    guess: str = ""
    title: str = ""

    @property
    def is_open(self) -> bool:
        """Whether it has no place yet, and nobody has to be asked about it."""
        return not (self.cases or self.guess)


class _Web:
    """How messages hang together: by the IDs that they bear and refer to."""

    def __init__(self, threads: list[Thread], placements: list[Placement]) -> None:
        self.threads, self.placements = threads, placements
        self.answered: dict[int, set[str]] = {}
        """The cases of answers, by the IDs that they refer to."""
        self._near: set[int] = set()
        self._bearing: dict[int, list[int]] = {}
        self._naming: dict[int, list[int]] = {}
        for number in self.unplaced():
            if threads[number].own:
                self._bearing.setdefault(threads[number].own, []).append(number)
            for id in threads[number].refers:
                self._naming.setdefault(id, []).append(number)

    def unplaced(self) -> list[int]:
        """The messages without a place, in their order."""
        return [number for number, placement in enumerate(self.placements) if placement.is_open]

    def spread(self, number: int) -> None:
        """A message has found its place: what hangs together with it is near one now."""
        links = self.threads[number]
        near = list(self._naming.get(links.own, ()))
        for id in links.refers:
            self.answered.setdefault(id, set()).update(self.placements[number].cases)
            near += self._bearing.get(id, ())
        self._near.update(near)

    def to_see(self) -> list[int]:
        """The messages without a place that hang together with one that has found its own since this was asked."""
        near = sorted(number for number in self._near if self.placements[number].is_open)
        self._near.clear()
        return near


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
        references = [self._case_of(token) for token in _TOKEN.findall(text)]
        if self._phrases is not None:
            references += [self._by_token.get(match) for match in self._phrases.findall(text)]
        return list(dict.fromkeys(one for one in references if one))

    def _title(self, subject: str) -> str:
        """What stands behind the last reference that a subject marks with `#`; "" where there is none."""
        marked = [match for match in _MEANT.finditer(subject) if self._case_of(match[1].casefold())]
        return subject[marked[-1].end() :].strip(_MARKS) if marked else ""

    def _case_of(self, token: str) -> str | None:
        return self._by_token.get(token.strip(_ENDS)) or self._by_token.get(token)

    def place_all(self, envelopes: list[Envelope], matching: Callable[[Envelope], list[str]]) -> list[Placement]:
        """Place messages that may answer one another. `matching` gives the cases whose criteria a message meets."""
        threads = [thread(envelope.header) for envelope in envelopes]
        placements = [Placement(self.by_reference(envelope.header.subject)) for envelope in envelopes]
        for envelope, placement in zip(envelopes, placements, strict=True):
            placement.why = REFERENCE if placement.cases else ""
            placement.title = self._title(envelope.header.subject) if placement.cases else ""
            if not placement.cases:  # a reference that was mistyped is asked about, not overruled
                placement.guess = self._near_case(_MEANT.findall(envelope.header.subject.casefold()))
        web = _Web(threads, placements)
        self._note(web, [number for number, placement in enumerate(placements) if placement.cases])
        self._follow(web, web.unplaced())
        for number in web.unplaced():
            placements[number].cases = matching(envelopes[number])
            placements[number].why = CRITERIA if placements[number].cases else ""
            self._note(web, [number] if placements[number].cases else [])
        self._follow(web, web.to_see())
        for number in web.unplaced():
            placements[number].guess = self._guess(envelopes[number].header)
        return placements

    def _follow(self, web: _Web, to_see: list[int]) -> None:
        """Put answers where their letters are, and letters where their answers are, until nothing moves any more.

        Each message is looked at once, and again when one that it hangs together with has found its place.
        """
        while to_see:
            placed = [(number, cases) for number in to_see if (cases := self._near(web.threads[number], web.answered))]
            for number, cases in placed:
                web.placements[number].cases, web.placements[number].why = sorted(cases), CONVERSATION
            self._note(web, [number for number, _ in placed])
            to_see = web.to_see()

    def _note(self, web: _Web, numbers: list[int]) -> None:
        """Remember where messages are, for those that they hang together with."""
        for number in numbers:
            links, cases = web.threads[number], web.placements[number].cases
            if links.own:
                self._met.setdefault(links.own, set()).update(cases)
            web.spread(number)

    def _near(self, links: Thread, answered: dict[int, set[str]]) -> set[str]:
        """The cases of the messages that one refers to, of those that refer to it, and of itself."""
        cases = {case for id in links.refers for case in self._cases_of(id)} | answered.get(links.own, set())
        return cases | set(self._known(links.own)) if links.own else cases

    def _cases_of(self, id: int) -> set[str]:
        return self._met.get(id, set()) | set(self._known(id))

    def _guess(self, header: Header) -> str:
        """The case that a message may be meant for; "" where none is near."""
        if near := self._near_case(_TOKEN.findall(header.subject.casefold())):
            return near
        subject = {word for word in _TOKEN.findall(base_subject(header.subject)[0].casefold()) if len(word) > 3}
        shared = Counter(reference for word in subject for reference in self._by_title_word.get(word, ()))
        return max(((count, reference) for reference, count in shared.items()), default=(0, ""))[1]

    def _near_case(self, words: list[str]) -> str:
        """The case whose reference is nearly one of these words; "" where there is none."""
        for word in (word.strip(_ENDS) for word in words):
            if any(map(str.isdigit, word)):
                tokens = {token for short in _shortened(word) for token in self._near_tokens.get(short, ())}
                near = get_close_matches(word, sorted(tokens), n=3, cutoff=0.75)
                if near:  # digits are swapped more often than left out
                    return self._by_token[next((one for one in near if len(one) == len(word)), near[0])]
        return ""

    @cached_property
    def _near_tokens(self) -> dict[str, list[str]]:
        """The names of cases, by what is left of them where a letter is missing."""
        tokens: dict[str, list[str]] = {}
        for token in self._by_token:
            for short in _shortened(token):
                tokens.setdefault(short, []).append(token)
        return tokens

    @cached_property
    def _by_title_word(self) -> dict[str, list[str]]:
        """The references of cases, by the words of their titles."""
        words: dict[str, list[str]] = {}
        for case in self._cases:
            for word in set(_TOKEN.findall(case.title.casefold())):
                words.setdefault(word, []).append(case.reference)
        return words


def _shortened(word: str) -> set[str]:
    """A word, and what is left of it without one of its letters: two that differ in one letter share one of these."""
    return {word, *(word[:place] + word[place + 1 :] for place in range(len(word)))}
