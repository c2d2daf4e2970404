"""Style sheets of a message, cleaned with a CSS parser and confined to the message's own part of the page."""

from __future__ import annotations

import re
from collections.abc import Callable
from functools import lru_cache
from types import MappingProxyType
from typing import Any, NamedTuple

import tinycss2

from wexagraph.pages.cleaning.backgrounds import is_plain, of_one_colour
from wexagraph.pages.cleaning.faces import with_known_fonts
from wexagraph.pages.cleaning.functions import Variables, bounds

Resolve = Callable[[str], str | None]
"""What a picture's address becomes: the name of a resource of the page; the colour that stands in its place; or None
where it has to go."""

MOST_PX = 5000
_PROPERTIES = frozenset(
    """
    align-content align-items align-self background background-color background-image background-position
    background-repeat background-size border border-collapse border-color border-radius border-spacing border-style
    border-width border-top border-right border-bottom border-left border-top-color border-right-color
    border-bottom-color border-left-color border-top-style border-right-style border-bottom-style border-left-style
    border-top-width border-right-width border-bottom-width border-left-width border-top-left-radius
    border-top-right-radius border-bottom-left-radius border-bottom-right-radius box-sizing break-after break-before
    break-inside caption-side clear color column-gap content direction display empty-cells flex flex-basis
    flex-direction flex-flow flex-grow flex-shrink flex-wrap float font font-family font-size font-style
    font-variant font-weight gap height hyphens justify-content left letter-spacing line-height list-style
    list-style-position list-style-type margin margin-bottom margin-left margin-right margin-top max-height
    max-width min-height min-width mso-hide object-fit opacity order orphans outline overflow overflow-wrap
    overflow-x overflow-y padding padding-bottom padding-left padding-right padding-top page-break-after
    page-break-before page-break-inside position quotes right row-gap tab-size table-layout text-align text-decoration
    text-decoration-color text-decoration-line text-decoration-style text-indent text-overflow text-transform top
    transform
    unicode-bidi vertical-align visibility white-space widows width word-break word-spacing word-wrap
    z-index
    """.split()
)
_FUNCTIONS = frozenset({"rgb", "rgba", "hsl", "hsla", "calc"})
_MOVES = frozenset({"translate", "translatex", "translatey"})
_LENGTHS = {
    "px": 1.0,
    "pt": 1.333,
    "pc": 16.0,
    "em": 16.0,
    "ex": 8.0,
    "rem": 16.0,
    "in": 96.0,
    "cm": 37.8,
    "mm": 3.78,
}
_SLOW = re.compile(r"(?i)gradient|\b(?:var|min|max|clamp)\(|background[\w-]*\s*:[^;]*,")
_SIMPLE = re.compile(r"[\w\s:;,.#%!'\"()+/-]*", re.ASCII)
_NUMBER = re.compile(r"(-?[\d.]+)\s*(px|pt|pc|em|ex|rem|in|cm|mm)?", re.IGNORECASE)
_SIZES = {
    "xxx-large": "48px",
    "xx-large": "32px",
    "xx-small": "9px",
    "x-large": "24px",
    "x-small": "10px",
    "large": "18px",
    "medium": "16px",
    "small": "13px",
}
"""Font sizes as browsers have them (CSS Fonts 4, section 2.5, in whole pixels)."""
_SIZE_WORD = re.compile(rf"(?i)\b(?:{'|'.join(_SIZES)})(?![\w-])")
_NOTHING = re.compile(r"0(?:px|pt|em|%)?", re.IGNORECASE)
"""A width of nothing, which the engine takes for none in tables of fixed layout: a tenth of a pixel looks the same."""
_NAME = re.compile(r"([.#])([\w-]+)")
_MOST_KNOWN = 100_000
"""Characters of a style block that is kept for the next message."""
_BLOCK_RULES = 20_000
_DEEPEST = 10
_WHOLE = frozenset({":root", "html", "body", "*", ":host"})
_OF_WINDOW = re.compile(r"([\d.]+)vw\b", re.IGNORECASE)
_SIDEWAYS = frozenset(
    "width min-width max-width margin-left margin-right padding-left padding-right left right".split()
)
_MARGIN = re.compile(r"margin(-\w+)?|text-indent|letter-spacing|word-spacing")


@lru_cache(maxsize=8192)
def _plain_declarations(style: str) -> str | None:
    """The fast way for the usual style attribute: no escape, comment, bracket or address in it. None where it has."""
    if not _SIMPLE.fullmatch(style) or "url" in style.lower() or "/*" in style or _SLOW.search(style):
        return None
    quoted = '"' in style or "'" in style
    if quoted and re.search(r"""["'][^"']*[;:()][^"']*["']""", style):
        return None
    kept = []
    for declaration in style.split(";"):
        name, colon, value = declaration.partition(":")
        name, value = name.strip().lower(), value.strip()
        if colon and value and name in _PROPERTIES:
            if "(" in value and not _only_known_functions(value, name):
                continue
            if value.count("(") != value.count(")") or value.count('"') % 2 or value.count("'") % 2:
                continue
            value = _bounded(name, value)
            if value:
                kept.append(f"{name}:{with_known_fonts(name, value)}")
    return ";".join(_placed(kept))


def _only_known_functions(value: str, name: str) -> bool:
    known = _MOVES if name == "transform" else _FUNCTIONS
    return all(function.lower() in known for function in re.findall(r"([\w-]*)\(", value))


_HOLDING = frozenset(
    "overflow overflow-x overflow-y position top left right z-index height max-height max-width float".split()
)


def without_holding(declarations: str) -> str:
    """The declarations but for those that can keep text off the paper: cut off, placed, or of a given height."""
    return ";".join(d for d in declarations.split(";") if d.partition(":")[0] not in _HOLDING)


def _bounded(name: str, value: str) -> str:
    """A value without absurd lengths; margins that pull text over its neighbours (or our heading) go."""
    for number, unit in _NUMBER.findall(value):
        try:
            length = float(number) * _LENGTHS.get(unit.lower(), 1.0)
        except ValueError:
            return ""
        if abs(length) > MOST_PX and not (
            name in ("color", "background", "background-color", "font-family") or unit == ""
        ):
            return ""
        if abs(length) > 10_000_000 and unit == "":
            return ""
        if length < 0 and (name.startswith("margin") or length < -200) and _MARGIN.fullmatch(name):
            return ""
    if name == "font-size":
        return _SIZE_WORD.sub(lambda word: _SIZES[word[0].lower()], value)
    if "vw" in value and name in _SIDEWAYS:
        return _OF_WINDOW.sub(r"\1%", value)  # the engine takes the paper for the window
    if name == "width" and _NOTHING.fullmatch(value):
        return "0.1px"
    if name.startswith("overflow") and name != "overflow-wrap" and value.lower() in ("auto", "scroll"):
        return ""  # paper does not scroll: what a window would hide has to be printed
    return value


def declarations(style: str, resolve: Resolve, variables: Variables = MappingProxyType({})) -> str:
    """A style attribute's declarations that may stay, ready to be written into an attribute or a rule."""
    plain = _plain_declarations(style)
    if plain is not None:
        return plain
    parsed = tinycss2.parse_blocks_contents(style[:20_000], skip_comments=True, skip_whitespace=True)
    return ";".join(_kept_declarations(parsed, resolve, variables))


def _background(name: str, tokens: list[Any], value: str | None, resolve: Resolve) -> tuple[str, str | None]:
    """A background as the engine can set it: its property and value."""
    lost = None
    for token in tokens:
        if token.type == "url" or (token.type == "function" and token.lower_name == "url"):
            lost = resolve(_address(token)) or ""
    if value is not None and is_plain(tokens) and not (lost or "").startswith("#"):
        return name, value
    colour = of_one_colour(name, tokens, lost)
    if colour is None:
        return name, None
    return ("background" if name == "background" else "background-color"), colour


def _kept_declarations(parsed: list[Any], resolve: Resolve, variables: Variables = MappingProxyType({})) -> list[str]:
    kept = []
    for node in parsed:
        if node.type != "declaration" or node.lower_name not in _PROPERTIES:
            continue
        for name, tokens in bounds(node.lower_name, node.value, variables):
            value = _value(tokens, resolve)
            if name in ("background", "background-image"):
                name, value = _background(name, tokens, value, resolve)
            value = _bounded(name, value) if value else None
            if value:
                value = with_known_fonts(name, value)
                kept.append(f"{name}:{value}{' !important' if node.important else ''}")
    return _placed(kept)


_PLACING = frozenset({"position", "top", "left", "right", "z-index", "transform"})


def _placed(kept: list[str]) -> list[str]:
    """The declarations, with a position that can't leave the message: nothing moves up or out to the left, so that no
    text gets over our heading. What is moved back by half its size, as the middle of a bar is, is centred instead."""
    values = {name: value.lower() for name, _, value in (d.partition(":") for d in kept) if name in _PLACING}
    if not values:
        return kept
    rest = [d for d in kept if d.partition(":")[0] not in _PLACING]
    position = values.get("position", "").removesuffix("!important").strip()
    if position not in ("relative", "absolute"):
        return rest
    out = [f"position:{position}"]
    halves = position == "absolute" and "translate" in values.get("transform", "") and "-50%" in values["transform"]
    for name in ("top", "left", "right"):
        value = values.get(name, "")
        if value and "-" not in value and not (halves and value.startswith("50%")):
            out.append(f"{name}:{value}")
    if halves and values.get("left", "").startswith("50%"):
        out += ["left:0", "right:0", "text-align:center"]
    if halves and values.get("top", "").startswith("50%"):
        out.append("top:0")
    level = values.get("z-index", "")
    if level.isdigit() and len(level) < 7:
        out.append(f"z-index:{level}")
    return rest + out


def _address(token: Any) -> str:
    """The address in a `url`."""
    return token.value if token.type == "url" else "".join(t.value for t in token.arguments if t.type == "string")


def _value(tokens: list[Any], resolve: Resolve) -> str | None:
    """A declaration's value written anew, or None where something in it may not stay."""
    out = []
    for token in tokens:
        if token.type == "url" or (token.type == "function" and token.lower_name == "url"):
            name = resolve(_address(token))
            if name is None or name.startswith("#"):
                return None
            out.append(f'url("{name}")')
        elif token.type == "function":
            inner = _value(token.arguments, resolve) if token.lower_name in _FUNCTIONS | _MOVES else None
            if inner is None:
                return None
            out.append(f"{token.lower_name}({inner})")
        elif token.type in (
            "ident",
            "number",
            "percentage",
            "dimension",
            "hash",
            "string",
            "whitespace",
            "literal",
        ):
            if token.type == "literal" and token.value not in ",/+-*!":
                return None
            out.append(token.serialize().replace("<", "\\3c "))
        elif token.type != "comment":
            return None
    return "".join(out).strip()


class Names(NamedTuple):
    """Classes and IDs, in lower case: those of a document and of its body, or those that a selector asks for."""

    classes: frozenset[str] = frozenset()
    ids: frozenset[str] = frozenset()
    body: frozenset[str] = frozenset()


class _Rule(NamedTuple):
    """A rule of a style sheet: its selectors with the names that each asks for, and its declarations that may stay.
    Those that name pictures differ from message to message: `content` is what they are made of then."""

    selectors: tuple[tuple[str, Names], ...]
    declarations: str
    content: list[Any] | None


def stylesheet(
    css: str,
    scope: str,
    width: int,
    resolve: Resolve,
    seen: Callable[[str, str], str] | None = None,
    names: Names | None = None,
    variables: Variables = MappingProxyType({}),
) -> str:
    """A `<style>` block's rules that may stay, each confined to `scope` (a selector of the body) and what is below it.

    `seen` is shown each rule's selector and declarations and gives back those to write. `names` are the classes and
    IDs of the document: rules for others are left out. `variables` are the document's custom properties.

    Media queries are decided for a screen `width` CSS pixels wide (Media Queries 4); `@import`, `@font-face`,
    `@page` and all other at-rules go.
    """
    text = re.sub(r"<!--|-->", "", css)[:500_000]
    out = []
    known = len(text) <= _MOST_KNOWN and "var(" not in text
    for rule in _parsed(text, width) if known else _parse(text, width, variables):
        wanted = ",".join(s for s, asked in rule.selectors if names is None or _may_match(asked, names))
        if not wanted:
            continue
        kept = (
            rule.declarations
            if rule.content is None
            else ";".join(_kept_declarations(rule.content, resolve, variables))
        )
        scoped = _scoped(wanted, scope, names.body if names else frozenset()) if kept else ""
        if scoped:
            out.append(f"{scoped}{{{seen(wanted, kept) if seen is not None else kept}}}")
    return "\n".join(out)


def _may_match(asked: Names, names: Names) -> bool:
    return asked.classes <= names.classes and asked.ids <= names.ids


def _parse(text: str, width: int, variables: Variables = MappingProxyType({})) -> list[_Rule]:
    rules: list[_Rule] = []
    parsed = tinycss2.parse_stylesheet(text, skip_comments=True, skip_whitespace=True)
    _collect(parsed, width, 0, rules, variables)
    return rules


def variables_of(css: str) -> Variables:
    """The custom properties that a style sheet declares: those of the whole document before others."""
    if "--" not in css:
        return {}
    of_all: dict[str, list[Any]] = {}
    of_some: dict[str, list[Any]] = {}
    for rule in tinycss2.parse_stylesheet(re.sub(r"<!--|-->", "", css)[:500_000], True, True)[:_BLOCK_RULES]:
        if rule.type != "qualified-rule":
            continue
        selectors = {selector.strip().lower() for selector in tinycss2.serialize(rule.prelude).split(",")}
        into = of_all if selectors & _WHOLE else of_some
        for node in tinycss2.parse_blocks_contents(rule.content, skip_comments=True, skip_whitespace=True):
            if node.type == "declaration" and node.name.startswith("--"):
                into[node.name] = node.value
    return of_some | of_all


# the same blocks come again in thousands of messages
_parsed = lru_cache(maxsize=32)(_parse)


def _collect(rules: list[Any], width: int, depth: int, collected: list[_Rule], variables: Variables) -> None:
    for rule in rules[:_BLOCK_RULES]:
        if rule.type == "qualified-rule":
            selectors = tuple((s, _names_in(s)) for s in tinycss2.serialize(rule.prelude).split(","))
            content = tinycss2.parse_blocks_contents(rule.content, skip_comments=True, skip_whitespace=True)
            pictured = "url(" in tinycss2.serialize(rule.content).lower()
            declarations = "" if pictured else ";".join(_kept_declarations(content, lambda _: None, variables))
            if pictured or declarations:
                collected.append(_Rule(selectors, declarations, content if pictured else None))
        elif (
            rule.type == "at-rule"
            and rule.lower_at_keyword == "media"
            and rule.content is not None
            and depth < _DEEPEST
            and media_applies(tinycss2.serialize(rule.prelude), width)
        ):
            inner = tinycss2.parse_rule_list(rule.content, skip_comments=True, skip_whitespace=True)
            _collect(inner, width, depth + 1, collected, variables)


def _names_in(selector: str) -> Names:
    """The names without which nothing fits a selector; none are told of one with brackets."""
    if "(" in selector or "[" in selector or "\\" in selector:
        return Names()
    names = [(mark, name.lower()) for mark, name in _NAME.findall(selector)]
    return Names(frozenset(n for mark, n in names if mark == "."), frozenset(n for mark, n in names if mark == "#"))


_ROOT = re.compile(r"(?:(?:html|:root)\s*(?:>\s*)?)?(?:body)?(?=$|[\s>+~.:#\[])", re.IGNORECASE)
_FIRST = re.compile(r"(\*)$|((?:\.[\w-]+)+)(?=$|[\s>+~:\[])")
_SELECTOR = re.compile(r"[\w\s.,#>+~*:()\[\]=\"'^$|-]*")
_PSEUDO = re.compile(r":(?:hover|active|focus|visited|target)\b", re.IGNORECASE)


def _scoped(prelude: str, scope: str, body: frozenset[str]) -> str:
    above, _, name = scope.rpartition(" ")
    selectors = []
    for raw in prelude.split(","):
        selector = raw.strip()
        if not selector or not _SELECTOR.fullmatch(selector) or "wx-" in selector or _PSEUDO.search(selector):
            continue
        if selector.count("(") != selector.count(")") or selector.count("[") != selector.count("]"):
            continue
        match = _ROOT.match(selector)
        if match and match[0].strip():
            # with the name of the element it weighs more than `*`, as it does in the author's sheet
            selectors.append(f"{above} div{name}{selector[match.end() :]}".strip())
        elif selector[0] not in ">+~":
            selectors.append(f"{scope} {selector}")
            first = _FIRST.match(selector)
            if first and first[1]:
                selectors.append(scope)
            elif first and body.issuperset(first[2].lower()[1:].split(".")):
                selectors.append(scope + selector)
    return ",".join(selectors)


_FEATURE = re.compile(r"\(\s*(min-|max-)?(?:device-)?width\s*:\s*([\d.]+)\s*(px|em|rem)?\s*\)", re.IGNORECASE)


def media_applies(query: str, width: int) -> bool:
    """Whether a media query list is met by paper whose content is `width` CSS pixels wide.

    `screen` counts as met: mail is written for screens, and what its author shows there is what a record shows.
    """
    return any(_query_applies(part.strip().lower(), width) for part in query.split(","))


def _query_applies(query: str, width: int) -> bool:
    negated = query.startswith("not ")
    query = query.removeprefix("not ").removeprefix("only ").strip()
    met = True
    for part in filter(None, (p.strip() for p in re.split(r"\band\b", query))):
        if part in ("all", "screen"):
            continue
        match = _FEATURE.fullmatch(part)
        if not match:
            met = False  # print, orientation, resolution, dark mode, proprietary: none describes paper
            continue
        bound = float(match[2]) * (16 if match[3] in ("em", "rem") else 1)
        met = met and (
            width >= bound if match[1] == "min-" else width <= bound if match[1] == "max-" else width == bound
        )
    return met is not negated
