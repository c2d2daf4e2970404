"""Forty newsletters in small, as they are built in practice; what in them is a table of data, or a list, is marked by
hand: `data` and `list` count these, all other tables only place things."""

from __future__ import annotations

from typing import NamedTuple


class Newsletter(NamedTuple):
    html: str
    data: int
    lists: int


def _frame(inside: str) -> str:
    return (
        '<table width="100%" cellpadding="0" cellspacing="0"><tr><td align="center"><table width="600" class="main">'
        f"<tr><td>{inside}</td></tr></table></td></tr></table>"
    )


def _columns(*cells: str) -> str:
    return f"<table><tr>{''.join(f'<td valign=top>{cell}</td>' for cell in cells)}</tr></table>"


def _button(text: str) -> str:
    return f'<table cellpadding="10"><tr><td bgcolor="#0d3b52"><a href="https://saltmere.example/{text}">{text}</a></td></tr></table>'


def _rows(*rows: tuple[str, ...], head: str = "th", row_head: str = "td") -> str:
    first, *others = rows
    lines = ["".join(f"<{head}>{cell}</{head}>" for cell in first)]
    lines += [
        f"<{row_head}>{name}</{row_head}>" + "".join(f"<td>{cell}</td>" for cell in cells) for name, *cells in others
    ]
    return "".join(f"<tr>{line}</tr>" for line in lines)


_TIDES = (
    ("Day", "High", "Low"),
    ("Monday", "4.2 m", "0.9 m"),
    ("Tuesday", "4.4 m", "0.7 m"),
    ("Friday", "4.1 m", "1.0 m"),
)
_FEES = (("Berth", "Fee"), ("7", "120"), ("8", "140"), ("9", "90"))
_BULLETS = "<ul><li>Dredging of the east basin</li><li>Fog signal tests</li></ul>"
_NUMBERS = "<ol><li>Moor</li><li>Pay</li><li>Sign</li></ol>"
_TEXT = "<p>Notices of the port office of Saltmere for the week, with all that changes at the quays.</p>"
_PICTURE = '<img src="cid:none" width="200" height="80" alt="The quay">'

NEWSLETTERS = [
    Newsletter(_frame(_TEXT), 0, 0),
    Newsletter(_frame(_columns(_TEXT, _TEXT)), 0, 0),
    Newsletter(_frame(_columns(_PICTURE, _TEXT) + _columns(_TEXT, _PICTURE)), 0, 0),
    Newsletter(_frame(_button("Tides")), 0, 0),
    Newsletter(_frame(_BULLETS), 0, 1),
    Newsletter(_frame(_columns(_BULLETS, _NUMBERS)), 0, 2),
    Newsletter(_frame(f"<table>{_rows(*_TIDES)}</table>"), 1, 0),
    Newsletter(f"<table border=1>{_rows(*_TIDES)}</table>", 1, 0),
    Newsletter(
        f"<table><thead>{_rows(*_TIDES[:1])}</thead><tbody>{_rows(*_TIDES[1:], head='td')}</tbody></table>", 1, 0
    ),
    Newsletter(f"<table><caption>Tides</caption>{_rows(*_TIDES)}</table>", 1, 0),
    Newsletter(f"<table>{_rows(*_TIDES, row_head='th')}</table>", 1, 0),
    Newsletter(f"<table>{_rows(*((f'<b>{c}</b>' for c in _TIDES[0]), *_TIDES[1:]), head='td')}</table>", 1, 0),
    Newsletter(
        _frame(f"<table>{_rows(*((f'<strong>{c}</strong>' for c in _FEES[0]), *_FEES[1:]), head='td')}</table>"), 1, 0
    ),
    Newsletter(_frame(_TEXT + _BULLETS + f"<table>{_rows(*_FEES)}</table>" + _button("Fees")), 1, 1),
    Newsletter(_frame(_columns(f"<table>{_rows(*_FEES)}</table>", f"<table>{_rows(*_TIDES)}</table>")), 2, 0),
    Newsletter(f"<table>{_rows(('Berth', 'Length'))}<tr><td>7</td><td>12 m</td></tr></table>", 1, 0),
    Newsletter(
        "<table><tr><th rowspan=2>Quay</th><th colspan=2>Depth</th></tr><tr><th>high</th><th>low</th></tr>"
        "<tr><td>East</td><td>9</td><td>5</td></tr></table>",
        1,
        0,
    ),
    Newsletter("<table><tr><th>From</th><td>Harbour</td></tr><tr><th>Until</th><td>Monday</td></tr></table>", 1, 0),
    Newsletter(f'<table role="presentation">{_rows(*_TIDES)}</table>', 0, 0),
    Newsletter(f'<table role="table">{_rows(*_TIDES, head="td")}</table>', 1, 0),
    Newsletter(
        "<table><tr><td>Saltmere</td></tr><tr><td>Port office</td></tr><tr><td>Quay Road 1</td></tr></table>", 0, 0
    ),
    Newsletter("<table><tr><td><b>Port office</b></td></tr><tr><td>Quay Road 1</td></tr></table>", 0, 0),
    Newsletter(_frame("<table><tr><td>Facebook</td><td>Phone</td><td>Mail</td></tr></table>"), 0, 0),
    Newsletter(
        "<table><tr><td><b>Tides</b></td><td><b>Fog</b></td></tr><tr><td>High</td><td>Thick</td></tr></table>", 0, 0
    ),
    Newsletter(_frame(_columns(_TEXT, _columns(_TEXT, _BULLETS))), 0, 1),
    Newsletter("<ul><li>East<ul><li>Berth 7</li><li>Berth 8</li></ul></li><li>West</li></ul>", 0, 2),
    Newsletter("<ul><ul><li>indented twice, as mail programs do</li></ul></ul>", 0, 2),
    Newsletter("<ol start=4><li>Fourth</li><li>Fifth</li></ol>", 0, 1),
    Newsletter("<ul><li><p>In a paragraph</p></li><li><div>In a block</div></li></ul>", 0, 1),
    Newsletter("<p>&bull; no list, only a sign</p><p>&bull; and another</p>", 0, 0),
    Newsletter("<p>1. no list, only a number</p><p>2. and another</p>", 0, 0),
    Newsletter('<ul style="list-style:none;padding:0"><li>Home</li><li>News</li></ul>', 0, 1),
    Newsletter("<table><tr><td><ul><li>One</li></ul></td><td><ul><li>Two</li></ul></td></tr></table>", 0, 2),
    Newsletter(
        "<table><tr><th><img src='cid:x' width=9 height=9 alt=''></th></tr><tr><td>Text</td></tr></table>", 0, 0
    ),
    Newsletter("<table><tr><th>One heading over all</th></tr><tr><td>Text below it.</td></tr></table>", 0, 0),
    Newsletter(
        "<table><tr><th>A</th><th>B</th></tr><tr><td colspan=2>joined</td></tr><tr><td>1</td><td>2</td></tr></table>",
        1,
        0,
    ),
    Newsletter(
        "<table><tr><th>A</th><th>B</th></tr><tr><td>1</td></tr><tr><td>1</td><td>2</td><td>3</td></tr></table>", 0, 0
    ),
    Newsletter(_frame(f"<table>{_rows(*_TIDES)}<tr><td></td><td></td><td>4.0 m</td></tr></table>"), 1, 0),
    Newsletter(
        _frame("<h1>Notices</h1>" + _TEXT + "<h3>Tides</h3>" + f"<table>{_rows(*_TIDES)}</table>" + _NUMBERS), 1, 1
    ),
    Newsletter(_frame(_TEXT * 3 + _columns(_button("One"), _button("Two"), _button("Three"))), 0, 0),
]
