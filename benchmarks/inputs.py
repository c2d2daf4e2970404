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


def html_body(rng: random.Random, size: int) -> str:
    """A mail in the layout of the trade, `size` characters or a little more: tables in tables, inline style."""
    colour = rng.choice(["#0d3b52", "#8a5a2b", "#3d7a5a", "#5b4a7a"])
    out = [
        "<html><head><style>body{margin:0}.h{font-size:22px;color:%s}@media(max-width:480px){.w{width:100%%}}</style></head>"
        '<body bgcolor="#eef2f4"><table width="100%%" cellspacing="0" cellpadding="0" border="0"><tr><td align="center">'
        '<table class="w" width="600" cellspacing="0" cellpadding="0" border="0" bgcolor="#ffffff">' % (colour,)
    ]
    length = len(out[0])
    while length < size:
        row = _row(rng, colour)
        out.append(row)
        length += len(row)
    out.append("</table></td></tr></table></body></html>\n")
    return "".join(out)


def _row(rng: random.Random, colour: str) -> str:
    style = "font-family:Arial,Helvetica,sans-serif;font-size:14px;line-height:20px;color:#333333"
    kind = rng.randrange(4)
    if kind == 0:
        return f'<tr><td class="h" style="padding:16px 20px 4px">{sentence(rng, 6)}</td></tr>'
    if kind == 1:
        return f'<tr><td style="padding:8px 20px;{style}">{" ".join(sentence(rng, 14) for _ in range(4))}</td></tr>'
    if kind == 2:
        cells = "".join(
            f'<td width="33%" valign="top" style="padding:8px;background-color:#f4f7f9;{style}"><b>{sentence(rng, 2)}</b><br>'
            f"{sentence(rng, 16)}</td>"
            for _ in range(3)
        )
        return (
            f'<tr><td style="padding:8px 20px"><table width="100%" cellspacing="4"><tr>{cells}</tr></table></td></tr>'
        )
    rows = "".join(
        f'<tr><td style="border-bottom:1px solid #dddddd;padding:4px;{style}">{sentence(rng, 4)}</td>'
        f'<td align="right" style="border-bottom:1px solid #dddddd;padding:4px;{style}">{rng.randrange(9999)}.00</td></tr>'
        for _ in range(6)
    )
    button = (
        f'<table cellspacing="0"><tr><td bgcolor="{colour}" style="padding:9px 18px;border-radius:4px">'
        f'<a href="https://www.saltmere.example/{rng.randrange(999)}" style="color:#ffffff;text-decoration:none">'
        f"{sentence(rng, 2)}</a></td></tr></table>"
    )
    return f'<tr><td style="padding:8px 20px"><table width="100%" cellspacing="0">{rows}</table>{button}</td></tr>'


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
    """An mbox of `count` messages of `mean` bytes on average: letters, HTML mail, a third with an attachment."""
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
        return [letter(rng, n, html_body(rng, rng.randrange(15_000, 120_000)), "html") for n in range(count)]
    return [letter(rng, n, text_body(rng, rng.randrange(1000, 12_000))) for n in range(count)]
