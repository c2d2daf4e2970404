"""Quoted text in a bound PDF: what stands in an earlier message of it need not stand there again."""

from __future__ import annotations

import hashlib
import re
from collections import deque
from collections.abc import Iterator

from selectolax.lexbor import LexborHTMLParser, LexborNode

from wexagraph.languages import Language
from wexagraph.messages.blocks import HtmlBlock, TextBlock
from wexagraph.messages.enriched import paragraphs
from wexagraph.messages.message import Message
from wexagraph.messages.visible_text import html_to_text

_WORD = re.compile(r"\w+")
_MOST_HELD = 32_000_000
"""Characters of earlier messages that are remembered; the oldest are forgotten first."""


def words_of(text: str) -> str:
    """The words of a text, without case, marks and line breaks, so that a quote compares however it was wrapped."""
    return " ".join(_WORD.findall(text.casefold()))


def key(words: str) -> str:
    """A short name for a quote, from its words."""
    return hashlib.blake2b(words.encode("utf-8", "replace"), digest_size=12).hexdigest()


def quoted_runs(text: str, flowed: bool, delsp: bool) -> Iterator[tuple[int, str]]:
    """The text in runs that are quoted (level 1) or not (level 0); the lines of a run without their quote marks."""
    level, run = 0, list[str]()
    for quotes, paragraph in paragraphs(text, flowed, delsp):
        if min(quotes, 1) != level:
            if run:
                yield level, "\n".join(run)
            level, run = min(quotes, 1), []
        run.append(paragraph)
    if run:
        yield level, "\n".join(run)


class Said:
    """What the earlier messages of a bound PDF say, to find their words again in later ones."""

    def __init__(self) -> None:
        self._held: deque[tuple[str, str]] = deque()
        self._size = 0

    def meet(self, data: bytes, label: str) -> tuple[tuple[str, str], ...]:
        """Quotes of this message that earlier ones hold, each with the label of the first such (in a later one it
        may have been left out itself); then remember it."""
        quotes, said = _read(Message(data))
        known = {key(quote): where for quote in quotes if (where := self._where(quote)) is not None}
        self._held.append((f" {said} ", label))
        self._size += len(said)
        while self._size > _MOST_HELD:
            self._size -= len(self._held.popleft()[0]) - 2
        return tuple(known.items())

    def _where(self, quote: str) -> str | None:
        wanted = f" {quote} "
        return next((label for said, label in self._held if wanted in said), None)


def _read(message: Message) -> tuple[list[str], str]:
    """The quotes in what a message shows, and all its words."""
    quotes, said = list[str](), list[str]()
    for block in message.blocks():
        if isinstance(block, TextBlock):
            for level, run in quoted_runs(block.text, block.flowed, block.delsp):
                words = words_of(run)
                said.append(words)
                if level and words:
                    quotes.append(words)
        elif isinstance(block, HtmlBlock):
            said.append(words_of(html_to_text(block.html)))
            quotes += [words for node in _outermost(LexborHTMLParser(block.html)) if (words := _words(node))]
    return quotes, " ".join(filter(None, said))


def without_quotes(html: str, known: dict[str, str], tr: Language) -> str:
    """The HTML with every quote of `known` replaced by a line that says where it stands."""
    tree = LexborHTMLParser(html)
    for node in _outermost(tree):
        label = known.get(key(_words(node)))
        if label is not None:
            node.replace_with(left_out(label, tr))
    return tree.html or html


def left_out(label: str, tr: Language) -> str:
    """What stands in the place of a quote."""
    return f"[{tr('Quoted text left out: it stands in the message {label}.', label=label)}]"


def _words(node: LexborNode) -> str:
    return words_of(html_to_text(node.html or ""))


def _outermost(tree: LexborHTMLParser) -> list[LexborNode]:
    """The quotes of an HTML body that stand in no other."""
    return [node for node in tree.css("blockquote") if not _within(node)]


def _within(node: LexborNode) -> bool:
    above = node.parent
    while above is not None:
        if above.tag == "blockquote":
            return True
        above = above.parent
    return False
