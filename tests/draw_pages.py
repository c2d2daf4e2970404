"""Pictures of a page to browse, for the documents: `python tests/draw_pages.py EXPORT FOLDER`."""

from __future__ import annotations

import sys
from pathlib import Path

sys.path.insert(0, str(Path(__file__).resolve().parent.parent))
from tests.browser import browser

VIEWS = (
    ("found", "#q=cormorant%20buoy&m={id}", 1280, False),
    ("talk", "#talks=1&q=buoy", 1280, False),
    ("phone", "#q=mooring", 390, False),
    ("dark", "#q=mooring&m={id}", 390, True),
)


def main(export: Path, folder: Path) -> None:
    for name, state, width, dark in VIEWS:
        with browser(dark=dark, width=width) as visit:
            visit.show(export / "index.html", "#q=then the register is wrong")
            visit.count()
            id = visit.page.locator("#rows a").first.get_attribute("data-id")
            visit.show(export / "index.html", state.format(id=id))
            visit.count()
            visit.page.screenshot(path=folder / f"{name}.png")


if __name__ == "__main__":
    main(Path(sys.argv[1]).resolve(), Path(sys.argv[2]))
