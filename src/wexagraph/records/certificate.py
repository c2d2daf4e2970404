"""What stays of a case that was disposed of: a certificate of what was held, as a text and as a PDF."""

from __future__ import annotations

from dataclasses import dataclass

from wexagraph.pages.composing.compose import Page, templates
from wexagraph.pages.composing.covers import sized
from wexagraph.pages.composing.properties import Record, described
from wexagraph.pages.engines import available, engine
from wexagraph.pages.options import PageOptions


@dataclass(frozen=True)
class Certificate:
    """What is certified: facts as label and text, messages as date, sender, subject and SHA-256."""

    title: str
    said: str
    facts: tuple[tuple[str, str], ...]
    messages: tuple[tuple[str, str, str, str], ...]

    def text(self) -> bytes:
        """The certificate as a text in UTF-8, lines ending with LF."""
        width = max(len(label) for label, _ in self.facts) + 2
        lines = [self.title, "=" * min(len(self.title), 78), "", self.said, ""]
        lines += [f"{label + ':':<{width}}{text}" for label, text in self.facts]
        lines.append("")
        for date, sender, subject, digest in self.messages:
            lines += [f"{date}  {sender}", f"    {subject}", f"    {digest}"]
        return ("\n".join(lines) + "\n").encode("utf-8", "replace")

    def pdf(self, options: PageOptions) -> bytes:
        """The certificate as a PDF. Raises CallError where no page engine is installed, PageError."""
        html = (
            templates(options.tr)
            .get_template("certificate.html")
            .render(title=self.title, said=self.said, facts=self.facts, messages=self.messages)
        )
        page = Page(sized(html, options), {}, Record(title=self.title))
        return described(engine(available()[0]).render(page, options), page.record)
