"""Forty-odd HTML messages in the styles of the trade, for the fidelity benchmark. Each has a name and a body."""

from __future__ import annotations

import random
from collections.abc import Iterator

from benchmarks.inputs import sentence

_STRICT = "<!DOCTYPE html>"
_LOOSE = '<!DOCTYPE html PUBLIC "-//W3C//DTD XHTML 1.0 Transitional//EN" "http://www.w3.org/TR/xhtml1/DTD/xhtml1-transitional.dtd">'
_SANS = "font-family:Arial,Helvetica,sans-serif"
_HEBREW = "שלום לכולם הרציף המזרחי ייסגר ביום שני לצורך עבודות תחזוקה אנא תאמו מועד חדש עם משרד הנמל"
_ARABIC = "السلام عليكم سيغلق الرصيف الشرقي يوم الاثنين لأعمال الصيانة يرجى تنسيق موعد جديد مع مكتب الميناء"
_JAPANESE = "東側岸壁は月曜日に保守作業のため閉鎖されます。新しい時間については港湾事務所にご連絡ください。"


def _paragraphs(rng: random.Random, count: int, words: int = 40) -> str:
    return "".join(f"<p>{' '.join(sentence(rng, words // 3) for _ in range(3))}</p>" for _ in range(count))


def _text(rng: random.Random, words: int) -> str:
    return " ".join(sentence(rng, 12) for _ in range(max(1, words // 12)))


def designs() -> Iterator[tuple[str, str]]:
    """Name and HTML of each message, the same at every call."""
    for name, make in sorted(_MAKERS.items()):
        for variant in range(_VARIANTS.get(name, 2)):
            rng = random.Random(f"{name}{variant}")
            yield f"{name}-{variant + 1}", make(rng, variant)


def _letter(rng: random.Random, v: int) -> str:
    style = f"{_SANS};font-size:11pt;color:#1f2a33" if v else ""
    return f'<html><body><div style="{style}">{_paragraphs(rng, 7)}<p>Regards,<br>{sentence(rng, 2)}<br><b>Port office</b></p></div></body></html>'


def _word_letter(rng: random.Random, v: int) -> str:
    css = "p.MsoNormal,li.MsoNormal{margin:0in;margin-bottom:.0001pt;font-size:11.0pt;font-family:'Calibri',sans-serif}a:link{color:#0563C1;text-decoration:underline}"
    body = "".join(
        f'<p class="MsoNormal"><span style="font-size:{10 + v}.5pt;color:#1F497D">{_text(rng, 40)}<o:p></o:p></span></p><p class=MsoNormal><o:p>&nbsp;</o:p></p>'
        for _ in range(6)
    )
    table = "".join(
        "<tr>"
        + "".join(
            f'<td width=150 valign=top style="width:112.5pt;border:solid windowtext 1.0pt;padding:0in 5.4pt 0in 5.4pt"><p class=MsoNormal>{sentence(rng, 3)}</p></td>'
            for _ in range(4)
        )
        + "</tr>"
        for _ in range(5)
    )
    return f'<html xmlns:o="urn:schemas-microsoft-com:office:office"><head><style><!-- {css} --></style></head><body lang=EN-GB><div class=WordSection1>{body}<table class=MsoNormalTable border=1 cellspacing=0 cellpadding=0 style="border-collapse:collapse;border:none">{table}</table></div></body></html>'


def _newsletter(rng: random.Random, v: int) -> str:
    width = (600, 640, 580, 620)[v]
    rows = []
    for _ in range(6):
        kind = rng.randrange(4)
        if kind == 0:
            rows.append(
                f'<tr><td style="padding:24px 30px 8px;font-size:24px;line-height:30px;font-weight:bold;color:#0d3b52;{_SANS}">{sentence(rng, 5)}</td></tr>'
            )
        elif kind == 1:
            rows.append(
                f'<tr><td style="padding:0 30px 16px;font-size:15px;line-height:23px;color:#333333;{_SANS}">{_text(rng, 50)}</td></tr>'
            )
        elif kind == 2:
            cells = "".join(
                f'<td width="50%" valign="top" style="padding:10px;font-size:13px;line-height:19px;{_SANS}"><strong>{sentence(rng, 3)}</strong><br>{_text(rng, 24)}</td>'
                for _ in range(2)
            )
            rows.append(
                f'<tr><td style="padding:0 20px"><table width="100%" cellpadding="0" cellspacing="0" border="0"><tr>{cells}</tr></table></td></tr>'
            )
        else:
            rows.append(
                f'<tr><td align="center" style="padding:12px 30px 26px"><table cellpadding="0" cellspacing="0" border="0"><tr><td bgcolor="#0b5c8a" style="padding:12px 26px;border-radius:4px"><a href="https://saltmere.example/x" style="color:#ffffff;text-decoration:none;font-size:15px;{_SANS}">{sentence(rng, 2)}</a></td></tr></table></td></tr>'
            )
    foot = f'<tr><td align="center" bgcolor="#f0f3f5" style="padding:20px;font-size:11px;line-height:16px;color:#778088;{_SANS}">{_text(rng, 24)}<br><a href="https://saltmere.example/u" style="color:#778088">{sentence(rng, 2)}</a></td></tr>'
    hidden = f'<div style="display:none;max-height:0;overflow:hidden">{sentence(rng, 8)}</div>'
    return f'{_LOOSE}<html><head><style>body{{margin:0;padding:0}}@media only screen and (max-width:480px){{.c{{width:100%!important}}}}</style></head><body bgcolor="#e6ebee">{hidden}<table width="100%" cellpadding="0" cellspacing="0" border="0"><tr><td align="center" style="padding:20px 0"><table class="c" width="{width}" cellpadding="0" cellspacing="0" border="0" bgcolor="#ffffff">{"".join(rows)}{foot}</table></td></tr></table></body></html>'


def _attributes(rng: random.Random, v: int) -> str:
    """Presentational attributes of the nineties."""
    rows = "".join(
        f'<tr bgcolor="{"#ffffcc" if n % 2 else "#ccffff"}"><td align="right" width="20%">{n}</td><td nowrap><font face="Arial" size="2" color="navy">{sentence(rng, 4)}</font></td><td valign="top"><font size="-1">{_text(rng, 14)}</font></td></tr>'
        for n in range(1, 8)
    )
    doctype = _LOOSE if v else ""
    return f'{doctype}<html><body bgcolor="#ffffff" text="#222222" link="#aa0000"><center><font size="+2"><b>{sentence(rng, 4)}</b></font></center><hr size="3" width="60%" noshade><table border="1" cellpadding="6" cellspacing="2" width="90%" align="center">{rows}</table><div align="right"><i>{sentence(rng, 5)}</i></div><p align="center"><a href="https://saltmere.example/">{sentence(rng, 3)}</a></p>{_paragraphs(rng, 2)}<table align="right" border="0" width="200" cellpadding="4"><tr><td bgcolor="#dddddd"><font size="2">{_text(rng, 24)}</font></td></tr></table>{_paragraphs(rng, 3)}</body></html>'


def _invoice(rng: random.Random, v: int) -> str:
    rows = "".join(
        f'<tr><td style="border-bottom:1px solid #ddd;padding:7px 6px">{sentence(rng, 4)}</td><td style="border-bottom:1px solid #ddd;padding:7px 6px;text-align:right">{rng.randrange(1, 20)}</td><td style="border-bottom:1px solid #ddd;padding:7px 6px;text-align:right">{rng.randrange(9000) / 100:.2f}</td></tr>'
        for _ in range(9 + 20 * v)
    )
    return f'{_STRICT}<html><body style="{_SANS};font-size:13px;color:#222"><table style="width:100%"><tr><td style="vertical-align:top"><b>Port office of Saltmere</b><br>1 Quay Road<br>Saltmere</td><td style="text-align:right;vertical-align:top"><span style="font-size:22px">Invoice</span><br>No. {rng.randrange(9999)}<br>2026-03-14</td></tr></table><p>{_text(rng, 24)}</p><table style="width:100%;border-collapse:collapse"><thead><tr style="background:#0d3b52;color:#fff"><th style="text-align:left;padding:8px 6px">Item</th><th style="text-align:right;padding:8px 6px">Number</th><th style="text-align:right;padding:8px 6px">Crowns</th></tr></thead><tbody>{rows}</tbody><tfoot><tr><td colspan="2" style="text-align:right;padding:9px 6px"><b>Sum</b></td><td style="text-align:right;padding:9px 6px"><b>{rng.randrange(99999) / 100:.2f}</b></td></tr></tfoot></table><p style="font-size:11px;color:#777">{_text(rng, 36)}</p></body></html>'


def _columns(rng: random.Random, v: int) -> str:
    if v == 0:
        cells = "".join(
            f'<div style="display:inline-block;width:200px;vertical-align:top;font-size:13px;{_SANS}"><div style="padding:8px"><b>{sentence(rng, 2)}</b><br>{_text(rng, 24)}</div></div>'
            for _ in range(3)
        )
        return f'{_STRICT}<html><body><div style="width:620px;margin:0 auto;font-size:0">{cells}</div><p>{_text(rng, 24)}</p></body></html>'
    if v == 1:
        cells = "".join(
            f'<table align="left" width="196" cellpadding="0" cellspacing="0" border="0"><tr><td style="padding:8px;font:13px/18px Arial">{_text(rng, 30)}</td></tr></table>'
            for _ in range(3)
        )
        return f'{_LOOSE}<html><body><table width="600" align="center" cellpadding="0" cellspacing="0"><tr><td>{cells}</td></tr><tr><td style="font:14px/20px Arial">{_text(rng, 40)}</td></tr></table></body></html>'
    cells = "".join(
        f'<div style="flex:1;padding:10px;background:#eef3f6;font-size:13px">{_text(rng, 24)}</div>' for _ in range(3)
    )
    return f'{_STRICT}<html><body style="{_SANS}"><h2>{sentence(rng, 4)}</h2><div style="display:flex;gap:12px">{cells}</div>{_paragraphs(rng, 2)}</body></html>'


def _lists(rng: random.Random, v: int) -> str:
    inner = "".join(f"<li>{sentence(rng, 7)}</li>" for _ in range(3))
    items = "".join(f"<li>{_text(rng, 20)}{'<ul>' + inner + '</ul>' if n == 1 else ''}</li>" for n in range(5))
    kind = ' type="a" start="3"' if v else ""
    return f"{_STRICT if v else ''}<html><body><h3>{sentence(rng, 4)}</h3><ol{kind}>{items}</ol><ul>{items}</ul><dl><dt>{sentence(rng, 2)}</dt><dd>{_text(rng, 20)}</dd><dt>{sentence(rng, 2)}</dt><dd>{_text(rng, 20)}</dd></dl></body></html>"


def _quotes(rng: random.Random, v: int) -> str:
    style = 'style="margin:0 0 0 .8ex;border-left:1px #ccc solid;padding-left:1ex"' if v else 'type="cite"'
    text = f'<div dir="ltr">{_text(rng, 30)}</div>'
    for level in range(4):
        text = f'<div dir="ltr">{_text(rng, 30)}<br></div><br><div class="quote"><div dir="ltr">On Sat, 14 Mar 2026 at 15:0{level}, {sentence(rng, 2)} wrote:<br></div><blockquote {style}>{text}</blockquote></div>'
    return f"<html><body>{text}</body></html>"


def _wide(rng: random.Random, v: int) -> str:
    width = (700, 800, 760)[v]
    rows = "".join(
        f'<tr><td width="{width // 3}" bgcolor="#e9eff3" valign="top" style="padding:14px;{_SANS};font-size:14px">{_text(rng, 24)}</td><td valign="top" style="padding:14px;{_SANS};font-size:14px">{_text(rng, 60)}</td></tr>'
        for _ in range(5)
    )
    return f'{_LOOSE}<html><body><table width="{width}" align="center" cellpadding="0" cellspacing="0" border="0"><tr><td colspan="2" bgcolor="#0d3b52" style="padding:22px;color:#ffffff;font-size:26px;{_SANS}">{sentence(rng, 4)}</td></tr>{rows}</table></body></html>'


def _long(rng: random.Random, v: int) -> str:
    parts = "".join(f"<h2>{n}. {sentence(rng, 4)}</h2>{_paragraphs(rng, 4, 60)}" for n in range(1, 9))
    style = (
        f"{_SANS};font-size:14px;line-height:21px"
        if v
        else "font-family:Georgia,'Times New Roman',serif;font-size:16px"
    )
    return f'{_STRICT}<html><body style="{style}"><h1>{sentence(rng, 4)}</h1>{parts}</body></html>'


def _rtl(rng: random.Random, v: int) -> str:
    words = (_HEBREW if v % 2 else _ARABIC).split()
    text = [" ".join(rng.choices(words, k=rng.randrange(10, 30))) + "." for _ in range(6)]
    rows = "".join(
        f"<tr><td>{n}</td><td>{' '.join(rng.choices(words, k=4))}</td><td>{rng.randrange(999)}</td></tr>"
        for n in range(1, 5)
    )
    return f'{_STRICT}<html dir="rtl"><body dir="rtl" style="{_SANS};font-size:15px"><h2>{" ".join(words[:4])}</h2>{"".join(f"<p>{t}</p>" for t in text)}<table border="1" cellpadding="5" cellspacing="0" width="100%">{rows}</table><p>{" ".join(words[:5])} Berth 14 ({rng.randrange(99)}) {" ".join(words[5:9])}</p></body></html>'


def _eastern(rng: random.Random, v: int) -> str:
    return f'{_STRICT}<html><body style="font-size:15px;{_SANS}"><h3>Notice 岸壁</h3><p>{_JAPANESE * 3}</p><table width="100%" cellpadding="6" border="1" cellspacing="0"><tr><td>岸壁 3</td><td>{sentence(rng, 4)}</td></tr><tr><td>岸壁 4</td><td>{sentence(rng, 6)}</td></tr></table><p>{_text(rng, 30)}</p></body></html>'


def _notice(rng: random.Random, v: int) -> str:
    colour = ("#7a1f1f", "#1f5a3a")[v]
    return f'{_STRICT}<html><head><style>body{{background:#f4f4f4;{_SANS};font-size:14px;color:#333}}.box{{background:#fff;border:1px solid #ddd;border-top:4px solid {colour};padding:20px 24px;margin:16px auto;max-width:560px}}.box h2{{margin:0 0 10px;color:{colour};font-size:20px}}.small{{font-size:12px;color:#888}}.btn{{display:inline-block;padding:9px 18px;background:{colour};color:#fff;text-decoration:none;border-radius:3px}}.row:after{{content:"";display:table;clear:both}}.l{{float:left;width:40%}}.r{{float:right;width:55%}}</style></head><body><div class="box"><h2>{sentence(rng, 4)}</h2><p>{_text(rng, 36)}</p><div class="row"><div class="l">{_text(rng, 24)}</div><div class="r">{_text(rng, 36)}</div></div><p><a class="btn" href="https://saltmere.example/">{sentence(rng, 2)}</a></p><p class="small">{_text(rng, 24)}</p></div><div class="box">{_paragraphs(rng, 2)}</div></body></html>'


def _ticket(rng: random.Random, v: int) -> str:
    rows = "".join(
        f'<tr><th align="left" valign="top" style="padding:4px 12px 4px 0;font-weight:normal;color:#666">{sentence(rng, 1)}</th><td style="padding:4px 0">{sentence(rng, 6)}</td></tr>'
        for _ in range(7)
    )
    log = "".join(
        f'<div style="border-left:3px solid #9ab;padding:6px 12px;margin:10px 0"><div style="color:#789;font-size:12px">{sentence(rng, 4)}</div><pre style="white-space:pre-wrap;font-family:monospace;font-size:12px;margin:4px 0">{sentence(rng, 9)}\n  {sentence(rng, 8)}</pre></div>'
        for _ in range(4)
    )
    return f'{_STRICT if v else ""}<html><body style="margin:0;{_SANS};font-size:14px;line-height:1.5"><div style="background:#22313c;color:#fff;padding:14px 20px">Ticket {rng.randrange(9999)}</div><div style="padding:16px 20px"><table cellspacing="0" cellpadding="0">{rows}</table>{log}</div></body></html>'


def _nested(rng: random.Random, v: int) -> str:
    inner = f'<td style="padding:6px;border:1px solid #c8d4da;font-size:13px;{_SANS}">{_text(rng, 30)}</td>'
    for level in range(5):
        align = ("center", "left", "right", "center", "center")[level]
        inner = f'<td align="{align}" style="padding:6px;border:1px solid #c8d4da;font-size:13px;{_SANS}">{sentence(rng, 5)}<table cellpadding="0" cellspacing="4" width="{92 - v * 8}%"><tr>{inner}</tr></table>{sentence(rng, 4)}</td>'
    return f'{_LOOSE if v else ""}<html><body><table width="100%" cellspacing="0" cellpadding="0"><tr>{inner}</tr></table></body></html>'


def _timetable(rng: random.Random, v: int) -> str:
    heads = "".join(f"<th>{d}</th>" for d in ("Day", "High", "Metres", "Low", "Metres", "Pilot"))
    rows = "".join(
        f"<tr{' bgcolor=#f2f6f8' if n % 2 else ''}><td>{n} March</td><td>{rng.randrange(24):02}:{rng.randrange(60):02}</td><td align=right>{rng.randrange(40) / 10}</td><td>{rng.randrange(24):02}:{rng.randrange(60):02}</td><td align=right>{rng.randrange(10) / 10}</td><td>{sentence(rng, 2)}</td></tr>"
        for n in range(1, 32)
    )
    return f'{_STRICT if v else ""}<html><body><h3>{sentence(rng, 3)}</h3><table border={v} cellpadding=3 cellspacing={1 - v} {"width=100%" if v else ""} style="{_SANS};font-size:12px">{heads}{rows}</table></body></html>'


def _signature(rng: random.Random, v: int) -> str:
    block = f'<table cellpadding="0" cellspacing="0" border="0" style="{_SANS};font-size:12px;color:#445"><tr><td style="padding-right:14px;border-right:2px solid #0b5c8a;vertical-align:top"><div style="width:70px;height:70px;background:#0b5c8a"></div></td><td style="padding-left:14px"><b style="font-size:14px">{sentence(rng, 2)}</b><br>{sentence(rng, 3)}<br><span style="color:#888">T 555 0114 &nbsp;|&nbsp; M 555 0199</span><br><a href="https://saltmere.example/" style="color:#0b5c8a">saltmere.example</a></td></tr></table>'
    return f'<html><body><div style="{_SANS};font-size:10pt"><div>{sentence(rng, 2)}</div><div><br></div><div>{_text(rng, 60)}</div><div><br></div><div>{_text(rng, 36)}</div><div><br></div>{block}<p style="font-size:8pt;color:gray">{_text(rng, 70)}</p></div>{"<hr>" + _paragraphs(rng, 3) if v else ""}</body></html>'


def _receipt(rng: random.Random, v: int) -> str:
    lines = "".join(
        f'<tr><td style="padding:6px 0;border-top:1px dashed #bbb">{sentence(rng, 3)}</td><td style="padding:6px 0;border-top:1px dashed #bbb" align="right">{rng.randrange(9999) / 100:.2f}</td></tr>'
        for _ in range(6)
    )
    return f'{_STRICT}<html><head><style>.w{{width:100%;max-width:{420 + 80 * v}px;margin:0 auto}}h1{{font-size:28px;font-weight:300;text-align:center;margin:30px 0 6px}}.s{{text-align:center;text-transform:uppercase;letter-spacing:2px;font-size:11px;color:#789}}</style></head><body style="{_SANS};font-size:14px;color:#2b3a44"><div class="w"><h1>{sentence(rng, 3)}</h1><p class="s">{sentence(rng, 4)}</p><table width="100%" cellspacing="0">{lines}</table><p>{_text(rng, 36)}</p></div></body></html>'


def _spans(rng: random.Random, v: int) -> str:
    """Cells that span rows and columns, fixed layout, percentages that do not add up."""
    rows = "".join(
        f'<tr>{f"<th rowspan=3 valign=middle>{sentence(rng, 1)}</th>" if n % 3 == 0 else ""}<td>{sentence(rng, 2)}</td><td colspan="{1 + n % 2}" align="center">{sentence(rng, 3)}</td>{"" if n % 2 else f"<td>{rng.randrange(99)}</td>"}</tr>'
        for n in range(9)
    )
    layout = "table-layout:fixed;" if v else ""
    return f'{_STRICT}<html><body style="{_SANS};font-size:13px"><table border="1" style="{layout}width:100%;border-collapse:collapse" cellpadding="5"><caption>{sentence(rng, 3)}</caption><colgroup><col width="25%"><col width="40%"><col width="40%"><col></colgroup>{rows}</table><p>{_text(rng, 30)}</p></body></html>'


def _boxes(rng: random.Random, v: int) -> str:
    """Sizes in every unit, minimum and maximum widths, boxes in boxes."""
    return f'{_STRICT}<html><head><style>*{{box-sizing:{"border-box" if v else "content-box"}}}body{{font:16px/1.5 Arial,sans-serif;margin:0}}.a{{max-width:36em;margin:0 auto;padding:1.5em;background:#f7f7f2}}.b{{min-width:50%;width:20rem;padding:1em;border:2pt solid #885;margin-bottom:1cm}}.c{{margin:0 2em 1em 10%;padding:.5em 1ex;border-left:6px double #088;text-indent:2em}}.d{{text-transform:uppercase;letter-spacing:.12em;font-size:.75em;word-spacing:.3em}}h1{{font-size:1.9em;line-height:1.15;margin:.67em 0}}</style></head><body><div class="a"><h1>{sentence(rng, 5)}</h1><p class="d">{sentence(rng, 6)}</p><div class="b">{_text(rng, 36)}<div class="c">{_text(rng, 24)}</div></div><p>{_text(rng, 48)}</p><div class="b" style="float:right;width:40%;margin-left:1em">{_text(rng, 20)}</div><p>{_text(rng, 60)}</p></div></body></html>'


def _cells(rng: random.Random, v: int) -> str:
    """Divisions laid out as tables, lists laid out as menus, things beside and above a line."""
    menu = "".join(
        f'<li style="display:inline;padding:0 12px;border-right:1px solid #999"><a href="https://saltmere.example/{n}">{sentence(rng, 1)}</a></li>'
        for n in range(5)
    )
    cells = "".join(
        f'<div style="display:table-cell;width:{w}%;padding:8px;vertical-align:{a}">{_text(rng, 18)}</div>'
        for w, a in ((20, "bottom"), (50, "top"), (30, "middle"))
    )
    return f'{_STRICT if v else ""}<html><body style="{_SANS};font-size:14px"><ul style="list-style:none;margin:0;padding:10px 0;text-align:center">{menu}</ul><div style="display:table;width:100%;border-spacing:6px">{cells}</div><p>{sentence(rng, 4)} H<sub>2</sub>O, m<sup>3</sup>, <small>{sentence(rng, 3)}</small> <big>{sentence(rng, 2)}</big> <span style="vertical-align:6px">{sentence(rng, 2)}</span> <code>{sentence(rng, 2)}</code> <kbd>F5</kbd> <q>{sentence(rng, 3)}</q></p><div style="text-align:center"><table><tr><td>{sentence(rng, 6)}</td></tr></table></div><div style="white-space:nowrap">{sentence(rng, 6)}</div><address>{_text(rng, 12)}</address></body></html>'


def _pictures(rng: random.Random, v: int) -> str:
    """Pictures in the line, beside text, as spacers and behind it."""
    dot = "data:image/gif;base64,R0lGODlhAQABAIAAAAAAAP///yH5BAEAAAAALAAAAAABAAEAAAIBRAA7"
    return f'{_LOOSE if v else ""}<html><body background="{dot}" style="{_SANS};font-size:14px;background:#fff"><table width="600" cellpadding="0" cellspacing="0" align="center"><tr><td><img src="{dot}" width="600" height="90" alt="" style="display:block"></td></tr><tr><td><img src="{dot}" width="1" height="24"></td></tr><tr><td><img src="{dot}" align="left" width="140" height="100" hspace="12" vspace="4">{_text(rng, 60)}<br clear="all">{_text(rng, 24)}</td></tr><tr><td height="60" valign="middle" align="center" background="{dot}"><img src="{dot}" width="32" height="32" align="absmiddle"> {sentence(rng, 4)}</td></tr><tr><td align="right"><img src="{dot}" width="50%" height="20"><br>{sentence(rng, 3)}</td></tr></table></body></html>'


def _card(rng: random.Random, v: int) -> str:
    """A dark design, with things shifted, raised and laid over each other."""
    dark = ("#101820", "#ffffff")[v]
    light = ("#f5f5f5", "#101820")[v]
    return f'{_STRICT}<html><body style="margin:0;background:{dark};color:{light};font-family:Verdana,Geneva,sans-serif;font-size:13px"><div style="position:relative;width:560px;margin:24px auto;padding:24px;border:1px solid #456"><div style="position:absolute;top:8px;right:12px;font-size:10px">{sentence(rng, 2)}</div><h2 style="margin-top:0;font-weight:normal">{sentence(rng, 4)}</h2><p style="position:relative;left:12px">{_text(rng, 30)}</p><blockquote style="margin:16px 40px;font-style:italic">{_text(rng, 24)}</blockquote><table width="100%"><tr><td style="width:1%;white-space:nowrap">{sentence(rng, 2)}</td><td>{_text(rng, 20)}</td></tr><tr><td style="width:1%;white-space:nowrap">{sentence(rng, 1)}</td><td>{_text(rng, 12)}</td></tr></table><p style="text-align:justify">{_text(rng, 80)}</p><p style="font-family:\'Courier New\',monospace">{sentence(rng, 10)}</p></div></body></html>'


def _mixed(rng: random.Random, v: int) -> str:
    """Right-to-left words in left-to-right lines and the reverse."""
    hebrew = _HEBREW.split()
    rows = "".join(
        f'<tr><td>{sentence(rng, 3)}</td><td dir="rtl">{" ".join(rng.choices(hebrew, k=4))} {rng.randrange(99)}</td></tr>'
        for _ in range(5)
    )
    return f'{_STRICT}<html><body style="{_SANS};font-size:14px"><p>{sentence(rng, 6)} {" ".join(hebrew[:3])} {sentence(rng, 6)}</p><table border="1" width="80%" cellpadding="4">{rows}</table><div dir="rtl" style="text-align:right">{" ".join(hebrew)} (berth 14) {" ".join(hebrew[:6])}<ul><li>{" ".join(hebrew[3:8])}</li><li>{" ".join(hebrew[6:12])}</li></ul></div></body></html>'


_MAKERS = {
    "boxes": _boxes,
    "card": _card,
    "cells": _cells,
    "mixed": _mixed,
    "pictures": _pictures,
    "spans": _spans,
    "attributes": _attributes,
    "columns": _columns,
    "eastern": _eastern,
    "invoice": _invoice,
    "letter": _letter,
    "lists": _lists,
    "long": _long,
    "nested": _nested,
    "newsletter": _newsletter,
    "notice": _notice,
    "quotes": _quotes,
    "receipt": _receipt,
    "rtl": _rtl,
    "signature": _signature,
    "ticket": _ticket,
    "timetable": _timetable,
    "wide": _wide,
    "word": _word_letter,
}
_VARIANTS = {"newsletter": 4, "columns": 3, "wide": 3, "rtl": 4}
