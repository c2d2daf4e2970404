"""Inputs for the benchmarks, made from a seed and kept in `benchmarks/data`."""

from __future__ import annotations

import base64
import random
from collections.abc import Iterator
from datetime import UTC, datetime, timedelta
from email.utils import format_datetime
from pathlib import Path

DATA = Path(__file__).parent / "data"
_WORDS = (
    "berth quay fender bollard draught tide pilot dredger survey mooring slipway permit notice mariner channel buoy light"
    " harbour vessel crane cargo crew master agent dues invoice schedule arrival departure inspection repair weather gale"
    " the of and to in for with on at by from is was will be has have that this which before after during please regards"
).split()


def sentence(rng: random.Random, words: int) -> str:
    return " ".join(rng.choices(_WORDS, k=words)).capitalize() + "."


def text_body(rng: random.Random, size: int) -> str:
    """Plain text of about `size` characters, in lines of a letter."""
    lines, length = [], 0
    while length < size:
        line = sentence(rng, rng.randrange(6, 13))
        lines += [line] if rng.random() < 0.85 else [line, ""]
        length += len(line) + 1
    return "\n".join(lines) + "\n"


STYLE = (
    "font-family:'Helvetica Neue',Helvetica,Arial,sans-serif;font-size:14px;font-weight:normal;line-height:20px;"
    "color:#333333;text-align:left;margin:0;padding:{padding};border-collapse:collapse !important;"
    "-webkit-text-size-adjust:100%;-ms-text-size-adjust:100%;mso-line-height-rule:exactly;mso-table-lspace:0pt;"
    "mso-table-rspace:0pt;word-break:break-word;vertical-align:top"
)


def html_body(rng: random.Random, size: int) -> str:
    """A mail in the layout of the trade, `size` characters or a little more.

    As verbose as the tools of the trade write it: tables in tables, the whole style repeated on every cell, links with
    tracking parameters, pictures on a network, rows of icons, spacer rows, conditional comments.
    """
    colour = rng.choice(["#0d3b52", "#8a5a2b", "#3d7a5a", "#5b4a7a"])
    css = "body{margin:0;padding:0}.h{font-size:22px;color:" + colour + "}@media(max-width:480px){.w{width:100%}}"
    out = [
        f'<html><head><style type="text/css">{css}</style></head><body bgcolor="#eef2f4" style="margin:0;padding:0">'
        '<table width="100%" cellspacing="0" cellpadding="0" border="0"><tr><td align="center">'
        '<table class="w" width="600" cellspacing="0" cellpadding="0" border="0" bgcolor="#ffffff">'
    ]
    length = len(out[0])
    while length < size:
        out.append(_row(rng, colour))
        length += len(out[-1])
    out.append("</table></td></tr></table></body></html>\n")
    return "".join(out)


def _cell(padding: str, more: str = "") -> str:
    return f'valign="top" align="left" style="{STYLE.format(padding=padding)};{more}"'


def _link(rng: random.Random) -> str:
    tracking = base64.urlsafe_b64encode(rng.randbytes(120)).decode()
    return f"https://click.saltmere.example/track/open?u={tracking}&amp;utm_source=list&amp;utm_campaign={rng.randrange(999)}"


def _row(rng: random.Random, colour: str) -> str:
    spacer = '<tr><td height="12" style="font-size:12px;line-height:12px;mso-line-height-rule:exactly">&nbsp;</td></tr>'
    kind = rng.randrange(6)
    if kind == 4:
        image = f'<img src="https://img.saltmere.example/{rng.randrange(1 << 40):x}.jpg" alt="{sentence(rng, 3)}" width="560" height="180" border="0"'
        style = "display:block;width:100%;max-width:560px;height:auto;border:0;outline:none;text-decoration:none"
        return f'<tr><td {_cell("0 20px")}><a href="{_link(rng)}" target="_blank">{image} style="{style}"></a></td></tr>{spacer}'
    if kind == 5:
        icons = "".join(
            f'<td width="36" {_cell("4px")}><a href="{_link(rng)}" target="_blank"><img src="https://img.saltmere.example/{name}.png" '
            f'alt="{name}" width="28" height="28" border="0" style="display:block;border:0;outline:none"></a></td>'
            for name in ("chart", "berth", "tide", "pilot")
        )
        return f'<tr><td align="center"><table cellspacing="0" cellpadding="0" border="0"><tr>{icons}</tr></table></td></tr>{spacer}'
    if kind == 0:
        return f'<tr><td class="h" {_cell("16px 20px 4px")}>{sentence(rng, 6)}</td></tr>{spacer}'
    if kind == 1:
        text = " ".join(sentence(rng, 12) for _ in range(3))
        more = f'<a href="{_link(rng)}" style="color:{colour};text-decoration:underline">{sentence(rng, 2)}</a>'
        return f"<tr><td {_cell('8px 20px')}><!--[if mso]><p>&nbsp;</p><![endif]-->{text} {more}</td></tr>{spacer}"
    if kind == 2:
        cells = "".join(
            f'<td width="33%" {_cell("8px", "background-color:#f4f7f9")}><b>{sentence(rng, 2)}</b><br>{sentence(rng, 12)}</td>'
            for _ in range(3)
        )
        inner = f'<table width="100%" cellspacing="4" cellpadding="0" border="0"><tr>{cells}</tr></table>'
        return f"<tr><td {_cell('8px 20px')}>{inner}</td></tr>{spacer}"
    rows = "".join(
        f"<tr><td {_cell('4px', 'border-bottom:1px solid #dddddd')}>{sentence(rng, 4)}</td>"
        f"<td {_cell('4px', 'border-bottom:1px solid #dddddd')}>{rng.randrange(9999)}.00</td></tr>"
        for _ in range(3)
    )
    button = (
        f'<table cellspacing="0" cellpadding="0" border="0"><tr><td bgcolor="{colour}" style="padding:9px 18px;border-radius:4px">'
        f'<a href="{_link(rng)}" style="color:#ffffff;text-decoration:none">{sentence(rng, 2)}</a></td></tr></table>'
    )
    return f'<tr><td {_cell("8px 20px")}><table width="100%" cellspacing="0" border="0">{rows}</table>{button}</td></tr>{spacer}'


def letter(rng: random.Random, number: int, body: str, kind: str = "plain", attachment: int = 0) -> bytes:
    """One message with about twenty header fields, as a server leaves them."""
    moment = datetime(2019, 1, 1, tzinfo=UTC) + timedelta(minutes=73 * number)
    sender = f"{rng.choice(_WORDS)}.{rng.choice(_WORDS)}@{rng.choice(_WORDS)}{number % 97}.example"
    subject = sentence(rng, rng.randrange(3, 9))
    if number % 5 == 0:
        subject = "=?utf-8?Q?" + subject.replace(" ", "_").replace("e", "=C3=A9") + "?="
    lines = [
        f"Return-Path: <{sender}>",
        *(
            f"Received: from relay{hop}.{rng.choice(_WORDS)}.example (relay{hop} [192.0.2.{hop}])\n\tby mx{hop}.saltmere.example"
            f" with ESMTPS id {rng.randrange(1 << 40):x}\n\tfor <records@saltmere.example>; {format_datetime(moment)}"
            for hop in range(3)
        ),
        f"DKIM-Signature: v=1; a=rsa-sha256; c=relaxed/relaxed; d=x.example;\n\tb={base64.b64encode(rng.randbytes(180)).decode()}",
        f"From: {rng.choice(_WORDS).title()} {rng.choice(_WORDS).title()} <{sender}>",
        "To: Records <records@saltmere.example>",
        f"Subject: {subject}",
        f"Date: {format_datetime(moment)}",
        f"Message-ID: <{number}.{rng.randrange(1 << 30)}@saltmere.example>",
        "MIME-Version: 1.0",
        "X-Mailer: harbour",
    ]
    part = f"Content-Type: text/{kind}; charset=utf-8\n\n{body}"
    if attachment:
        content = base64.encodebytes(rng.randbytes(attachment)).decode()
        part = (
            f'Content-Type: multipart/mixed; boundary="b{number}"\n\n--b{number}\n{part}\n--b{number}\n'
            f'Content-Type: application/pdf; name="plan {number}.pdf"\nContent-Transfer-Encoding: base64\n'
            f'Content-Disposition: attachment; filename="plan {number}.pdf"\n\n{content}--b{number}--\n'
        )
    return ("\n".join(lines) + "\n" + part).encode()


def mailbox(count: int, mean: int) -> Path:
    """An mbox of `count` messages of about `mean` bytes: letters, HTML mail, a third with an attachment.

    With a mean below 2,000, short letters only.
    """
    path = DATA / f"mailbox-{count}-{mean}.mbox"
    if not path.exists():
        DATA.mkdir(exist_ok=True)
        with open(path.with_suffix(".part"), "wb") as file:
            for data in _messages(count, mean):
                file.write(
                    b"From bench@saltmere.example Thu Jan  1 00:00:00 2026\n"
                    + data.replace(b"\nFrom ", b"\n>From ")
                    + b"\n"
                )
        path.with_suffix(".part").rename(path)
    return path


def _messages(count: int, mean: int) -> Iterator[bytes]:
    rng = random.Random(count)
    if mean < 2000:
        for number in range(count):
            yield letter(rng, number, sentence(rng, 20) + "\n")
        return
    texts = [text_body(rng, rng.randrange(500, 6000)) for _ in range(60)]
    pages = [html_body(rng, rng.randrange(4000, 20_000)) for _ in range(40)]
    for number in range(count):
        attachment = int(rng.expovariate(1 / (mean * 1.35))) if number % 3 == 0 else 0
        if number % 2:
            yield letter(rng, number, rng.choice(pages), "html", attachment)
        else:
            yield letter(rng, number, rng.choice(texts), "plain", attachment)


def messages(kind: str, count: int) -> list[bytes]:
    """Single messages for page making: `html` of 15 to 120 KB, `text` of 1 to 12 KB."""
    rng = random.Random(kind)
    if kind == "html":
        # between 15 and 120 KB, as many below 42 KB as above: there are more short letters than long ones
        sizes = [int(15_000 * 8 ** rng.random()) for _ in range(count)]
        return [letter(rng, n, html_body(rng, size), "html") for n, size in enumerate(sizes)]
    return [letter(rng, n, text_body(rng, rng.randrange(1000, 12_000))) for n in range(count)]
