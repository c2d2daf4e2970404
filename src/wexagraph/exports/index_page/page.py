"""The files of a page to browse: the page itself, its data in script files, and a plain page for each year."""

from __future__ import annotations

import base64
import hashlib
import json
from collections import Counter
from collections.abc import Iterator, Sequence
from functools import cache
from importlib.resources import files
from itertools import groupby
from pathlib import PurePath
from typing import Any

from jinja2 import Environment, PackageLoader, StrictUndefined
from markupsafe import Markup

import wexagraph
from wexagraph.exports.file_words import file_to_open
from wexagraph.exports.index_page.entries import UNDATED, Entry, href
from wexagraph.exports.options import IndexOptions
from wexagraph.languages import language
from wexagraph.naming.paths import INDEX, INDEX_FILES
from wexagraph.text import one_line

MADE_BY = '<meta name="generator" content="Wexagraph">'
"""By what a page of ours is known."""
_ROWS_A_PIECE, _MOST_PEOPLE, _MOST_KINDS = 2000, 500, 40
_LARGE = 100_000
"""From so many messages on, the page takes a year at a time."""
_WORDS = {  # labels; {fields} in them are filled by the page
    "search": "Search",
    "year": "Year",
    "folder": "Folder",
    "case": "Case",
    "person": "Person",
    "kind": "Kind",
    "all": "All",
    "with_attached": "With attachments",
    "with_notes": "With notes",
    "talks": "By conversation",
    "talk": "Conversation",
    "show_all": "Show all",
    "more": "Show more",
    "list": "Messages",
    "count": "Messages: {count}",
    "of": "Messages: {shown} of {all}",
    "loading": "Loading: {count} messages so far",
    "searching": "Searching the texts as well",
    "missing": "{file} is missing. Copy the whole folder.",
    "close": "Close",
    "text": "Text",
    "date": "Date",
    "from": "From",
    "to": "To",
    "cc": "Cc",
    "subject": "Subject",
    "attached": "Attached",
    "notes": "Notes",
    "tags": "Tags",
    "size": "Size",
    "failed": "failed",
    "undated": "undated",
    "nosubject": "no subject",
}
_HEADINGS = ("date", "from", "to", "subject", "case", "folder", "attached", "notes")


def files_of(entries: Sequence[Entry], options: IndexOptions, name: str) -> Iterator[tuple[str, bytes]]:
    """Path below the folder and content of each file of the page, the page itself last. `name` is that of the folder.
    The same messages give the same bytes."""
    tr = language(options.language)
    words = {key: tr(text) for key, text in _WORDS.items()}
    title = one_line(options.title) or name
    pieces: list[tuple[str, str]] = []
    pages: list[tuple[str, int, str]] = []
    years = [(year, list(group)) for year, group in groupby(entries, key=lambda entry: entry.year)]
    for year, members in reversed(years):
        chunks = [members[at : at + _ROWS_A_PIECE] for at in range(0, len(members), _ROWS_A_PIECE)]
        for number, chunk in reversed(list(enumerate(chunks, 1))):
            piece = f"{year}-{number}"
            pieces.append((piece, year))
            yield f"{INDEX_FILES}/rows-{piece}.js", _script("rows", piece, [entry.as_list() for entry in chunk])
            yield f"{INDEX_FILES}/text-{piece}.js", _script("text", piece, [entry.text for entry in chunk])
        path = f"{INDEX_FILES}/{year}.html"
        pages.append((year, len(members), href(path)))
        yield path, _year_page(year, members, title, words, options)
    book = {
        "total": len(entries),
        "large": len(entries) > _LARGE,
        "place": href(INDEX_FILES),
        "language": options.language,
        "placed": bool(options.sort),
        "pieces": pieces,
        "years": [(year, len(members)) for year, members in reversed(years)],
        "folders": sorted(Counter(one_line(entry.row.folder) for entry in entries).items()),
        "people": _people(entries),
        "kinds": _kinds(entries),
        "words": words,
    }
    cases = any(entry.case for entry in entries)
    style, script = _asset("index.css"), _asset("index.js")
    about = tr.many("{count} message", "{count} messages", len(entries))
    dates = sorted(entry.row.facts[0][:10] for entry in entries if entry.moment is not None)
    if dates:
        about += f", {dates[0]} \N{EN DASH} {dates[-1]}" if dates[0] != dates[-1] else f", {dates[0]}"
    page = (
        _templates()
        .get_template("index.html")
        .render(
            language=options.language,
            made_by=Markup(MADE_BY),
            title=title,
            about=f"{one_line(options.office)}: {about}" if options.office else about,
            picture=_data_address(options.picture),
            policy=_policy(style, script),
            style=Markup(style),
            script=Markup(script),
            words=words,
            headings=[(id, words[id]) for id in _HEADINGS if id != "case" or cases],
            pages=pages,
            book=Markup(_harmless(book)),
            made=f"Wexagraph {wexagraph.__version__}",
        )
    )
    yield INDEX, page.encode("utf-8")


def _script(kind: str, piece: str, part: list[Any]) -> bytes:
    return f'wexagraph("{kind}","{piece}",{_harmless(part)});\n'.encode()


def _harmless(value: Any) -> str:
    """JSON that ends no element of HTML and no line of a script, whatever a message holds."""
    text = json.dumps(value, ensure_ascii=False, separators=(",", ":"))
    for letter in "<>&\u2028\u2029":
        text = text.replace(letter, f"\\u{ord(letter):04x}")
    return text


@cache
def _asset(name: str) -> str:
    return (files("wexagraph.exports.index_page") / "templates" / name).read_text("utf-8")


@cache
def _templates() -> Environment:
    return Environment(
        loader=PackageLoader("wexagraph.exports.index_page", "templates"), autoescape=True, undefined=StrictUndefined
    )


def _policy(style: str, script: str = "") -> str:
    """What the page may do (Content Security Policy 3): run our script, and the data files that it asks for. A browser
    that does not know 'strict-dynamic' goes by the scheme of those files."""
    runs = f"script-src {_hash(script)} 'strict-dynamic' 'self' file:; " if script else ""
    return f"default-src 'none'; {runs}style-src {_hash(style)}; img-src data:; base-uri 'none'; form-action 'none'"


def _hash(text: str) -> str:
    return f"'sha256-{base64.b64encode(hashlib.sha256(text.encode('utf-8')).digest()).decode()}'"


def _data_address(picture: tuple[str, bytes] | None) -> str:
    return f"data:{picture[0]};base64,{base64.b64encode(picture[1]).decode()}" if picture is not None else ""


def _year_page(year: str, entries: list[Entry], title: str, words: dict[str, str], options: IndexOptions) -> bytes:
    style = _asset("index.css")
    rows, newest_first = [], entries[::-1]
    for entry in sorted(newest_first, key=lambda entry: entry.place or 0):
        row = entry.row
        date, sender, to, _, subject = map(one_line, row.facts)
        rows.append(
            {
                "day": date[:16].replace("T", " ") if entry.moment is not None else "",
                "sender": _name(sender),
                "to": to,
                "subject": subject,
                "folder": one_line(row.folder),
                "attached": len(row.attachments),
                "href": f"../{href(entry.path(file_to_open(row.files)))}" if row.files else "",
            }
        )
    page = (
        _templates()
        .get_template("year.html")
        .render(
            language=options.language,
            made_by=Markup(MADE_BY),
            policy=_policy(style),
            style=Markup(style),
            title=title,
            year=words["undated"] if year == UNDATED else year,
            back=f"../{INDEX}",
            words=words,
            rows=rows,
        )
    )
    return page.encode("utf-8")


def _name(person: str) -> str:
    """The name of somebody written as "Name <address>", else the address."""
    name, _, address = person.rpartition(" <")
    return name.strip('" ') if name and address.endswith(">") else person


def _people(entries: Sequence[Entry]) -> list[str]:
    """Who wrote most, for the field of persons."""
    counts = Counter(_name(entry.row.facts[1]) for entry in entries)
    return [
        one_line(name)
        for name, _ in sorted(counts.items(), key=lambda item: (-item[1], item[0]))[:_MOST_PEOPLE]
        if name
    ]


def _kinds(entries: Sequence[Entry]) -> list[tuple[str, int]]:
    """The endings of attached files, the most frequent first."""
    counts = Counter(
        ending
        for entry in entries
        for ending in {PurePath(one_line(name)).suffix[1:].lower() for name in entry.row.attachments}
        if 0 < len(ending) < 7
    )
    return sorted(counts.items(), key=lambda item: (-item[1], item[0]))[:_MOST_KINDS]
