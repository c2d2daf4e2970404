"""Text that a message's author hid (preview lines, copies for narrow screens): known, so that it can be told or shown.

The engine follows the author's CSS by itself; this says which text that leaves out, and where it may cut some off. It
is a small cascade (CSS Cascading 4, section 6) over the few properties that hide.
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
        "overflow-x",
        "overflow-y",
        "color",
        "line-height",
        "mso-hide",
    }
)
_ZERO = re.compile(r"\.?0(?:\.0*)?(?:px|pt|em|rem|%|in|cm|mm)?|0\.1px")
_TINY = re.compile(r"(?:0|0?\.\d+|1)(?:\.\d*)?(?:px|pt)?")
_MOST_SELECTORS = 2000
_OVERFLOWING = ("overflow", "overflow-x", "overflow-y")
_UNBOUNDED = frozenset({"auto", "none", "initial", "unset", "inherit", "max-content", "min-content", "fit-content"})
_QUICK = re.compile(r"none|hidden|collapse|transparent|:\s*\.?[01]")


class Rule(NamedTuple):
    """A rule of a style sheet that may hide: its selector as written and its kept declarations."""

    selector: str
    declarations: str


class Seen(NamedTuple):
    """What styles make of the text of an element: out of sight; of no size (None: as its parent's); held in a box that
    may be too small for it."""

    hidden: bool = False
    sizeless: bool | None = None
    held: bool = False


_PLAIN = Seen()


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
    """Which elements of a document are out of sight by its style sheets and style attributes.

    `in_doubt` says that a rule which is not followed here may hold text in a box.
    """

    def __init__(self, tree: LexborHTMLParser, rules: list[Rule]) -> None:
        self._sheet: dict[int, dict[str, tuple[bool, int, int, str]]] = {}
        each = {(s.strip(), rule.declarations): n for n, rule in enumerate(rules) for s in rule.selector.split(",")}
        self.in_doubt = any("overflow" in declarations for _, declarations in islice(each, _MOST_SELECTORS, None))
        for (selector, declarations), order in islice(each.items(), _MOST_SELECTORS):
            self._apply(tree, selector, declarations, order)

    def _apply(self, tree: LexborHTMLParser, selector: str, declarations: str, order: int) -> None:
        try:
            nodes = tree.css(selector)
        except Exception:  # a selector that this parser does not know: the engine judges it alone
            self.in_doubt = self.in_doubt or "overflow" in declarations
            return
        weight = _specificity(selector)
        for name, value in _pairs(declarations):
            important = value.endswith("!important")
            for node in nodes:
                known = self._sheet.setdefault(node.mem_id, {})
                if name not in known or (important, weight, order) >= known[name][:3]:
                    known[name] = (important, weight, order, value)

    def of(self, node: LexborNode, style: str) -> Seen:
        """What becomes of the text of an element with that style attribute."""
        sheet = self._sheet.get(node.mem_id) if self._sheet else None
        if not sheet:
            return _inline(style) if style else _PLAIN
        values = {name: declared[3] for name, declared in sheet.items()}
        important = {name for name, declared in sheet.items() if declared[0]}
        for name, value in _pairs(style):
            if name not in important or value.endswith("!important"):
                values[name] = value
        return _judged(values)

    def display_of(self, node: LexborNode) -> str:
        """How an element is displayed by the author's styles; "" where they say nothing."""
        return self.declared(node, "display")

    def declared(self, node: LexborNode, name: str) -> str:
        """What the author's styles say of an element; "" where they say nothing. `name` is one of HIDING."""
        sheet = self._sheet.get(node.mem_id, {}).get(name) if self._sheet else None
        own = re.findall(rf"(?i)(?:^|;)\s*{name}\s*:\s*([^;]+)", node.attributes.get("style") or "")
        value = sheet[3] if sheet and (not own or sheet[0]) else own[-1] if own else ""
        return value.replace("!important", "").strip().lower()


@lru_cache(maxsize=4096)
def _inline(style: str) -> Seen:
    return _judged(dict(_pairs(style)))


def _judged(values: dict[str, str]) -> Seen:
    hidden = any(hides(n, values[n]) for n in ("display", "visibility", "opacity") if n in values)
    if not hidden and values.get("overflow", "").startswith("hidden"):
        hidden = any(hides(n, values[n]) for n in ("max-height", "height", "max-width", "width") if n in values)
    size = values.get("font-size")
    cuts = any(not values[name].startswith("visible") for name in _OVERFLOWING if name in values)
    bounded = any(
        values.get(name, "auto").removesuffix("!important") not in _UNBOUNDED for name in ("height", "max-height")
    )
    sizeless = bool(_ZERO.fullmatch(size.removesuffix("!important").strip())) if size else None
    return Seen(hidden, sizeless, cuts and bounded)


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
