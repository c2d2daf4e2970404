"""Text that a message's author hid (preview lines, copies for narrow screens): known, so that it can be told or shown.

The engine follows the author's CSS by itself; this says which text that leaves out. It is a small cascade (CSS
Cascading 4, section 6) over the few properties that hide.
"""

from __future__ import annotations

import re
from functools import lru_cache
from itertools import islice
from typing import NamedTuple

from selectolax.lexbor import LexborHTMLParser, LexborNode

HIDING = frozenset(
    {
        "display",
        "visibility",
        "opacity",
        "font-size",
        "max-height",
        "height",
        "width",
        "max-width",
        "overflow",
        "color",
        "line-height",
        "mso-hide",
    }
)
_ZERO = re.compile(r"\.?0(?:\.0*)?(?:px|pt|em|rem|%|in|cm|mm)?|0\.1px")
_TINY = re.compile(r"(?:0|0?\.\d+|1)(?:\.\d*)?(?:px|pt)?")
_MOST_SELECTORS = 2000
_QUICK = re.compile(r"none|hidden|collapse|transparent|:\s*\.?[01]")


class Rule(NamedTuple):
    """A rule of a style sheet that may hide: its selector as written and its kept declarations."""

    selector: str
    declarations: str


def hides(name: str, value: str) -> bool:
    """Whether a declaration may take text from sight."""
    value = value.removesuffix("!important").strip().lower()
    if name == "display":
        return value == "none"
    if name == "visibility":
        return value in ("hidden", "collapse")
    if name in ("opacity", "max-height", "height", "width", "max-width"):
        return bool(_ZERO.fullmatch(value))
    if name in ("font-size", "line-height"):
        return bool(_TINY.fullmatch(value)) and not (name == "line-height" and value in ("1", "1.0"))
    return (name == "color" and value == "transparent") or name == "mso-hide"


def without_hiding(declarations: str) -> str:
    """The declarations but for those that hide."""
    if not _QUICK.search(declarations) and "mso-hide" not in declarations:
        return declarations
    kept = (d.partition(":") for d in declarations.split(";"))
    return ";".join(f"{name}:{value}" for name, _, value in kept if not hides(name, value))


class Sight:
    """Which elements of a document are out of sight by its style sheets and style attributes."""

    def __init__(self, tree: LexborHTMLParser, rules: list[Rule]) -> None:
        self._sheet: dict[int, dict[str, tuple[bool, int, int, str]]] = {}
        each = {(s.strip(), rule.declarations): n for n, rule in enumerate(rules) for s in rule.selector.split(",")}
        for (selector, declarations), order in islice(each.items(), _MOST_SELECTORS):
            self._apply(tree, selector, declarations, order)

    def _apply(self, tree: LexborHTMLParser, selector: str, declarations: str, order: int) -> None:
        try:
            nodes = tree.css(selector)
        except Exception:  # a selector that this parser does not know: the engine judges it alone
            return
        weight = _specificity(selector)
        for name, value in _pairs(declarations):
            important = value.endswith("!important")
            for node in nodes:
                known = self._sheet.setdefault(node.mem_id, {})
                if name not in known or (important, weight, order) >= known[name][:3]:
                    known[name] = (important, weight, order, value)

    def of(self, node: LexborNode, style: str) -> tuple[bool, bool | None]:
        """Whether the element is out of sight, and whether its own text has no size (None: as its parent's)."""
        sheet = self._sheet.get(node.mem_id) if self._sheet else None
        if not sheet:
            return _inline(style) if style else (False, None)
        values = {name: declared[3] for name, declared in sheet.items()}
        important = {name for name, declared in sheet.items() if declared[0]}
        for name, value in _pairs(style):
            if name not in important or value.endswith("!important"):
                values[name] = value
        return _judged(values)


@lru_cache(maxsize=4096)
def _inline(style: str) -> tuple[bool, bool | None]:
    return _judged(dict(_pairs(style)))


def _judged(values: dict[str, str]) -> tuple[bool, bool | None]:
    hidden = any(hides(n, values[n]) for n in ("display", "visibility", "opacity") if n in values)
    if not hidden and values.get("overflow", "").startswith("hidden"):
        hidden = any(hides(n, values[n]) for n in ("max-height", "height", "max-width", "width") if n in values)
    size = values.get("font-size")
    return hidden, bool(_ZERO.fullmatch(size.removesuffix("!important").strip())) if size else None


def _pairs(declarations: str) -> list[tuple[str, str]]:
    pairs = (d.partition(":") for d in declarations.split(";"))
    return [(name.strip(), value.strip().lower()) for name, _, value in pairs if name.strip() in HIDING]


def _specificity(selector: str) -> int:
    """Selectors 4, section 17, as one number: IDs, then classes and attributes, then types."""
    return (
        10_000 * selector.count("#")
        + 100 * (selector.count(".") + selector.count("[") + selector.count(":"))
        + len(re.findall(r"(?:^|[\s>+~])[a-zA-Z]", selector))
    )
