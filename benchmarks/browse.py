"""The page to browse over 100,000 messages: first paint and the answer to a key, beside a bare page of the same data."""

from __future__ import annotations

import html
import random
import shutil
import statistics
import tempfile
from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path

from playwright.sync_api import Page, sync_playwright

from benchmarks.inputs import DATA, letter, text_body
from benchmarks.measure import PROGRAM, run, seconds, table
from wexagraph.exports.register import rows_of

_MESSAGES = 100_000
_TYPED = ("mooring", "dredging contract", "zzyzx", "2026", "a")
_PAINT = "performance.getEntriesByName('first-contentful-paint')[0].startTime"
_KEY = """async ([field, text, shown]) => {
    const input = document.querySelector(field), begin = performance.now();
    input.value = text;
    input.dispatchEvent(new Event('input', {bubbles: true}));
    await new Promise(done => requestAnimationFrame(() => setTimeout(done, 0)));
    const answered = performance.now() - begin;
    while (shown && /texts/.test(document.querySelector(shown).textContent)) await new Promise(done => setTimeout(done, 1));
    return [answered, performance.now() - begin];
}"""


def main() -> None:
    DATA.mkdir(parents=True, exist_ok=True)
    with tempfile.TemporaryDirectory(dir=DATA) as folder:
        table("A page to browse", ["what", "Wexagraph", "beside it", "wanted"], _rows(Path(folder)))


def _rows(home: Path) -> Iterator[list[str]]:
    rng, box, out = random.Random(11), home / "in.mbox", home / "out"
    with open(box, "wb") as file:
        for number in range(_MESSAGES):
            body = text_body(rng, rng.choice((400, 900, 2500)))
            file.write(b"From x@y.example Sat Mar 14 15:03:00 2026\n" + letter(rng, number, body, "plain") + b"\n")
    export = ("export", str(box), "--as", "eml", "--into", str(out))
    plain = seconds(lambda: run(PROGRAM, *export))
    first = seconds(lambda: run(PROGRAM, "index", str(out)))
    again = seconds(lambda: run(PROGRAM, "index", str(out)))
    data = sum(path.stat().st_size for path in (out / "index files").glob("*.js"))
    yield [f"`index` of {_MESSAGES:,} messages", f"{first:.1f} s", f"their export as EML {plain:.1f} s", ""]
    yield ["the same again", f"{again:.1f} s", "", ""]
    yield ["data of the page", f"{data / 1e6:.0f} MB", f"messages {box.stat().st_size / 1e6:.0f} MB", ""]
    bare = _bare(home, out)
    ours, ours_all, keys, whole = [], [], [], []
    for _ in range(3):
        with _browser() as page:
            page.goto((out / "index.html").as_uri())
            page.wait_for_function("document.querySelectorAll('#rows tr').length > 50", timeout=120_000)
            ours.append(page.evaluate(_PAINT))
            page.wait_for_function("/: [0-9]/.test(document.getElementById('count').textContent)", timeout=120_000)
            ours_all.append(page.evaluate("performance.now()"))
            page.wait_for_load_state("networkidle", timeout=120_000)
            page.wait_for_timeout(3000)
            for text in _TYPED:
                answered, done = page.evaluate(_KEY, ["#q", text, "#count"])
                keys.append(answered)
                whole.append(done)
    with _browser() as page:  # once: an answer takes it many seconds
        page.goto(bare.as_uri(), timeout=120_000)
        bare_paint = page.evaluate(_PAINT) / 1000
        bare_key = max(page.evaluate(_KEY, ["#q", text, ""])[0] for text in _TYPED[:2])
    yield ["first paint", f"{statistics.median(ours) / 1000:.2f} s", f"bare page {bare_paint:.2f} s", "under 2 s"]
    yield ["all rows there", f"{statistics.median(ours_all) / 1000:.2f} s", "", ""]
    yield ["answer to a key, the slowest", f"{max(keys):.0f} ms", f"bare page {bare_key:.0f} ms", "under 100 ms"]
    yield ["all texts searched, median", f"{statistics.median(whole):.0f} ms", "", ""]
    yield ["all texts searched, the slowest", f"{max(whole):.0f} ms", "", ""]


def _bare(home: Path, out: Path) -> Path:
    """A table of all rows and a field that hides those without a word, as the simplest page would have it."""
    path = home / "bare.html"
    with open(path, "w", encoding="utf-8") as file:
        file.write("<!DOCTYPE html><meta charset=utf-8><title>bare</title><input id=q><table>")
        for row in rows_of(out):
            cells = (row.facts[0][:16], row.facts[1], row.facts[2], row.facts[4], row.folder)
            file.write(f"<tr>{''.join(f'<td>{html.escape(cell)}' for cell in cells)}\n")
        file.write(
            "</table><script>const rows = [...document.querySelectorAll('tr')];"
            "document.getElementById('q').oninput = event => { const word = event.target.value.toLowerCase();"
            "for (const row of rows) row.hidden = !row.textContent.toLowerCase().includes(word); };</script>"
        )
    return path


@contextmanager
def _browser() -> Iterator[Page]:
    with sync_playwright() as playwright:
        chromium = playwright.chromium.launch(executable_path=shutil.which("chromium"), args=["--no-sandbox"])
        try:
            yield chromium.new_page(viewport={"width": 1280, "height": 800})
        finally:
            chromium.close()
