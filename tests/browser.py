"""Debian's Chromium, driven by Playwright, on files of ours: what a page shows, asks for and complains of."""

from __future__ import annotations

import shutil
from collections.abc import Iterator
from contextlib import contextmanager
from dataclasses import dataclass, field
from pathlib import Path
from typing import Any

from axe_playwright_python.sync_playwright import Axe
from playwright.sync_api import Page, sync_playwright

_PATIENCE = 60  # seconds
_RULES = ["wcag2a", "wcag2aa", "wcag21a", "wcag21aa", "wcag22aa", "best-practice"]


@dataclass
class Visit:
    """A page that is open, what its console said, and the addresses that it asked for."""

    page: Page
    complaints: list[str] = field(default_factory=list)
    asked: list[str] = field(default_factory=list)

    def until(self, holds: str) -> None:
        """Wait until a script's value is true. It is evaluated from outside: the page's own policy allows no `eval`."""
        for _ in range(_PATIENCE * 50):
            if self.page.evaluate(f"Boolean({holds})"):
                return
            self.page.wait_for_timeout(20)
        raise AssertionError(f"never so: {holds}")

    def show(self, path: Path, state: str = "") -> None:
        """Open a file, and wait until all its messages are there."""
        self.page.set_default_timeout(_PATIENCE * 2000)
        self.page.goto("about:blank")
        self.page.goto(f"{path.as_uri()}{state}")
        self.until("window.wexagraph && !document.getElementById('main').hidden")
        self.page.wait_for_load_state("networkidle")

    def count(self) -> str:
        """How many messages the page says it shows, once it has searched all."""
        self.until("/: [0-9]/.test(document.getElementById('count').textContent)")
        self.until("!/texts|so far/.test(document.getElementById('count').textContent)")
        return self.page.inner_text("#count")

    def subjects(self) -> list[str]:
        """The subjects that are shown, first to last."""
        return self.page.locator("#rows .subject > a").all_inner_texts()

    def violations(self) -> list[str]:
        """What axe finds against WCAG 2.2 AA."""
        broken: list[dict[str, Any]] = Axe().run(self.page, options={"runOnly": _RULES}).response["violations"]
        return [f"{each['id']}: {each['nodes'][0]['html'][:200]}" for each in broken]


@contextmanager
def browser(scripts: bool = True, dark: bool = False, width: int = 1280) -> Iterator[Visit]:
    """A page in a browser that has no network."""
    program = shutil.which("chromium")
    with sync_playwright() as playwright:
        chromium = playwright.chromium.launch(executable_path=program, args=["--no-sandbox"])
        context = chromium.new_context(
            java_script_enabled=scripts,
            color_scheme="dark" if dark else "light",
            viewport={"width": width, "height": 800},
            offline=True,
            locale="en-GB",
        )
        visit = Visit(context.new_page())
        visit.page.on("console", lambda message: visit.complaints.append(f"{message.type}: {message.text}"))
        visit.page.on("pageerror", lambda error: visit.complaints.append(str(error)))
        visit.page.on("dialog", lambda dialog: (visit.complaints.append(dialog.message), dialog.dismiss()))
        visit.page.on("request", lambda request: visit.asked.append(request.url))
        try:
            yield visit
        finally:
            chromium.close()
