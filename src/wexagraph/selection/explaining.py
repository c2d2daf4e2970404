"""Why a choice has left nothing: which criterion was the last straw."""

from __future__ import annotations

from wexagraph.errors import MessageError
from wexagraph.selection.choice import Choice
from wexagraph.selection.criteria import Criterion, Subject, has_wildcard
from wexagraph.sources.base import Source


def why_none(source: Source, choice: Choice) -> str:
    """A sentence on why no message is chosen; "" where nothing narrows the choice.

    Goes through the messages once more, and reads bodies only where there are exceptions.
    """
    groups = choice.groups
    # bodies were read once, and none of them was it; only exceptions make that less than sure
    in_bodies = [] if choice.exceptions else [group for group in groups if group[0].reads_body]
    cheap = groups[: len(groups) - len(in_bodies)]  # those that read bodies come last
    if not (groups or choice.exceptions or choice.ids is not None or choice.folders):
        return ""
    left = [0] * (len(groups) + 1)
    for folder in choice.folders_of(source):
        for envelope in source.readable(folder, source.envelopes(folder)):
            if choice.ids is not None and envelope.id not in choice.ids:
                continue
            subject = Subject(source, envelope, choice.zone, choice.today)
            left[0] += 1
            for number, group in enumerate(cheap, 1):
                try:
                    if not any(criterion.matches(subject) for criterion in group):
                        break
                except MessageError:
                    break
                left[number] += 1
    steps = [[group] for group in cheap] + ([in_bodies] if in_bodies else [])
    return _sentence(left, steps, choice)


def _sentence(left: list[int], steps: list[list[tuple[Criterion, ...]]], choice: Choice) -> str:
    where = f" in {' or '.join(choice.folders)}" if choice.folders else ""
    if not left[0]:
        what = "has one of these IDs" if choice.ids is not None else "lies there"
        return f"No message{where} {what}."
    words = [" and ".join(map(_words, step)) for step in steps]
    for number, step in enumerate(steps, 1):
        if not left[number]:
            before = " and ".join(words[: number - 1])
            if before:
                count = f"{left[number - 1]:,} message{'s' * (left[number - 1] != 1)}{where} with {before}"
            else:
                count = f"{left[0]:,} message{'s' * (left[0] != 1)}{where}"
            criteria = [one for group in step for one in group]
            wild = [one.value for one in criteria if has_wildcard(one.value) and not one.reads_body]
            hint = (
                f" {wild[0]!r} has to fit the whole field: * and ? stand for letters, [*] and [?] for themselves."
                if wild
                else ""
            )
            return f"{count}, and none with {words[number - 1]}.{hint}"
    return f"{left[-1]:,} message{'s fit' if left[-1] != 1 else ' fits'}, and the exceptions leave out all of them."


def _words(group: tuple[Criterion, ...]) -> str:
    """A group of alternatives as it is written on the command line."""
    return " or ".join(f"--{one.name} {one.value}".rstrip() for one in group)
