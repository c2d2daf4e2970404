"""Attacks on what people look at: terminals, tables, JSON, and HTML in a real browser."""

from __future__ import annotations

import csv
import io
import json
import re
import shutil
import socket
import subprocess
import threading
import unittest
from pathlib import Path

from tests.helpers import ProgramTest, letter, mbox
from wexagraph.demo.build import file, html, message, multipart, when
from wexagraph.text import one_line, to_json

# values that steer a terminal, turn text round, or run in a table
STEERING = [
    "\x1b[31mred\x1b[0m",
    "\x1b]0;title\x07",
    "\x1b]8;;http://x\x07link\x1b]8;;\x07",
    "\x9b31m",
    "\x07bell",
    "\x08\x08\x08back",
    "a\rb",
    "\u202egnp.exe",
    "\u2066isolated\u2069",
    "\u200fmark",
    "\x00nul",
    "\x1bPdcs\x1b\\",
    "\x1b[2J",
    "\x1b[6n",
    "\u2028line",
    "\x85next",
    "\ufeffbom",
    "\x7fdel",
]
FORMULAS = [
    "=1+1",
    "+1+1",
    "-1+1",
    "@SUM(1)",
    "=cmd|' /C calc'!A0",
    '=HYPERLINK("http://x")',
    "\t=1",
    "\uff1d1+1",
    "\uff20x",
    "=IMPORTXML(1)",
]
_BAD = re.compile(
    "[\x00-\x08\x0b\x0c\x0e-\x1f\x7f-\x9f\u061c\u200b\u200e\u200f\u2028-\u202e\u2060-\u2069\ufeff\ud800-\udfff]"
)


def named(value: str) -> bytes:
    """A message that has a value everywhere that a sender can put one."""
    word = "=?utf-8?b?" + __import__("base64").b64encode(value.encode("utf-8", "surrogatepass")).decode() + "?="
    part = file("plan.pdf", "application/pdf", b"x")
    parts = multipart("mixed", html("<p>words</p>"), part)
    made = message(f"{word} <a@b.example>", f"{word} <r@s.example>", "SUBJECT", when("2026-03-14", 15, 3), parts)
    raw = value.replace("\r", " ").replace("\n", " ").encode("utf-8", "surrogatepass")
    made = made.replace(b"SUBJECT", word.encode()).replace(b'"plan.pdf"', b'"' + raw.replace(b'"', b"") + b'"')
    return b"X-Keywords: " + raw.replace(b" ", b"_") + b"\n" + made


class Shown(ProgramTest):
    run_program = ProgramTest.call_program

    def test_no_value_steers_what_shows_it(self) -> None:
        for number, value in enumerate([*STEERING, *FORMULAS]):
            with self.subTest(repr(value)):
                self.write("in/box.mbox", mbox(named(value)))
                (id,) = [row["id"] for row in self.listed("in")]
                outputs = [
                    ("list", "in"),
                    ("list", "in", "--csv"),
                    ("list", "in", "--json"),
                    ("folders", "in"),
                    ("folders", "in", "--csv"),
                    ("folders", "in", "--json"),
                    ("show", "in", id, "--headers"),
                    ("export", "in", "--into", f"out{number}", "--as", "eml,text"),
                    ("attachments", "in", "--into", f"att{number}"),
                    ("attachments", "in", "--into", f"att{number}", "--json"),
                    ("export", "in", "--into", f"out{number}", "--as", "eml", "--json"),
                    ("list", "in", "--folder", value.replace("\0", "")),
                    ("list", value.replace("\0", "")),
                ]
                for command in outputs:
                    done = self.call_program(*command, code=None)
                    text = (done.stdout + done.stderr).removeprefix("\ufeff").replace("\r\n", "\n")
                    self.assertIsNone(_BAD.search(text), command)
                    self.assertNotIn("fault in Wexagraph", text)
                for table in (self.folder / f"out{number}/register.csv", self.folder / f"att{number}/attachments.csv"):
                    self.assert_still(table.read_text("utf-8-sig"))
                self.assert_still(self.call_program("list", "in", "--csv").stdout)
                json.loads(self.call_program("list", "in", "--json").stdout)

    def assert_still(self, table: str) -> None:
        for row in csv.reader(io.StringIO(table, newline="")):
            for cell in row:
                self.assertNotRegex(cell, r"^[=+\-@\t\r\uff1d\uff0b\uff0d\uff20]", row)

    def test_folders_and_errors(self) -> None:
        for value in STEERING:
            name = value.replace("/", "_").replace("\0", "_")
            with self.subTest(repr(value)):
                self.write(f"in/{name}.mbox", mbox(letter("One")))
                for command in (
                    ("folders", "in"),
                    ("list", "in"),
                    ("folders", "in", "--json"),
                    ("list", "in", "--id", name),
                    ("show", "in", name),
                    ("export", "in", "--into", f"out/{name}", "--as", "eml"),
                    ("verify", f"out/{name}"),
                    (name,),
                    ("list", "in", f"--{name}"),
                    ("list", "in", "--zone", name),
                    ("list", "in", "--since", name),
                    ("list", "in", "--except", name),
                ):
                    done = self.call_program(*command, code=None)
                    self.assertIsNone(_BAD.search(done.stdout + done.stderr), command)
                shutil.rmtree(self.folder / "in")

    def test_json_of_whatever_there_is(self) -> None:
        for value in (
            "\ud800",
            "\udce9",
            "a\ud800\udc00b",
            "\x9b",
            "\u202e",
            "\u2028",
            "\\",
            '"',
            "\U0001f6a2",
            "\ufffe",
        ):
            text = to_json({"a": [value], value: 1})
            json.loads(text.encode("utf-8").decode("utf-8"))
            self.assertIsNone(_BAD.search(text))
        self.assertEqual(one_line("caf\udce9"), "caf\\xe9")


def ways(port: int) -> list[str]:
    """Known ways to run something in a page, or to ask a network for something; each runs `document.title='ran'`."""
    run, at = "document.title='ran'", f"http://127.0.0.1:{port}/asked"
    events = "load error click focus mouseover animationstart toggle pageshow begin start scroll wheel input beforeinput transitionend".split()
    tags = "img body svg video audio iframe object embed input details select textarea marquee style link div table td".split()
    attacks = [
        f'<{tag} src="{at}" data="{at}" href="{at}" open autofocus tabindex=0 style="animation:x 1s" on{event}="{run}">'
        for tag in tags
        for event in events
    ]
    attacks += [
        f"<script>{run}</script>",
        f"<SCRIPT SRC={at}></SCRIPT>",
        f"<script/x>{run}</script>",
        f"<scr<script>ipt>{run}</scr</script>ipt>",
        f"<svg><script>{run}</script></svg>",
        f"<svg><animate onbegin={run} attributeName=x dur=1s>",
        f'<svg><a xlink:href="javascript:{run}"><text>x',
        f"<math><mtext></mtext><script>{run}</script>",
        f'<a href="javascript:{run}">x</a>',
        f'<a href="&#106;avascript:{run}">x</a>',
        f'<a href="java\tscript:{run}">x</a>',
        f'<a href=" javascript:{run}">x</a>',
        f'<form action="javascript:{run}"><button>',
        f'<iframe srcdoc="<script>parent.{run}</script>">',
        f'<iframe src="javascript:parent.{run}">',
        f'<object data="javascript:{run}">',
        f'<embed src="javascript:{run}">',
        f'<meta http-equiv=refresh content="0;url=javascript:{run}">',
        f'<meta http-equiv=refresh content="0;url={at}">',
        f'<base href="{at}/"><img src=x>',
        f'<link rel=stylesheet href="{at}">',
        f'<link rel=preload as=image href="{at}">',
        f'<link rel=dns-prefetch href="{at}">',
        f'<style>@import "{at}";</style>',
        f"<style>@import url({at});</style>",
        f"<style>body{{background:url({at})}}</style>",
        f'<style>@font-face{{font-family:x;src:url("{at}")}}*{{font-family:x}}</style>',
        f"<style>*{{background:\\75rl({at})}}</style>",
        f"<style>*{{background:image-set('{at}' 1x)}}</style>",
        f"<style>a{{content:url({at})}}</style><a>x</a>",
        f"<style>*{{cursor:url({at}),auto}}</style>",
        f"<style>*{{list-style:url({at})}}</style><li>x",
        f"<style>*{{mask:url({at})}}</style>",
        f"<style>*{{filter:url({at}#x)}}</style>",
        f"<style>*{{--x:url({at});background:var(--x)}}</style>",
        f"<style>@page{{background:url({at})}}</style>",
        f"<style></style><style>}}body{{background:url({at})</style>",
        f"<style>*{{background:u\\rl({at})}}</style>",
        f"<style>*{{background:/**/url({at})}}</style>",
        f"<style>/*</style>*/*{{background:url({at})}}</style>",
        f'<div style="background:url({at})">x',
        f'<div style="background-image:url(&quot;{at}&quot;)">x',
        f'<div style="width:expression({run})">x',
        f'<div style="-moz-binding:url({at})">x',
        f'<div style="behavior:url({at})">x',
        f'<table background="{at}"><tr><td background="{at}">x',
        f'<body background="{at}">',
        f'<img srcset="{at} 1x">',
        f'<picture><source srcset="{at}"><img src=x></picture>',
        f'<video poster="{at}">',
        f'<video><source src="{at}"></video>',
        f'<audio src="{at}" autoplay>',
        f'<track src="{at}">',
        f'<input type=image src="{at}">',
        f'<svg><image href="{at}">',
        f'<svg><use href="{at}#x">',
        f'<svg><feImage href="{at}">',
        f'<svg><style>@import "{at}"</style>',
        f'<svg style="background:url({at})">',
        f"<frameset><frame src={at}>",
        f'<applet code="{at}">',
        f'<bgsound src="{at}">',
        f'<layer src="{at}">',
        f'<xml src="{at}">',
        f'<?xml-stylesheet href="{at}"?>',
        f"<!--[if gte IE 4]><script>{run}</script><![endif]-->",
        f"<!--><script>{run}</script>-->",
        f"<!--x--!><script>{run}</script>",
        f'<noscript><p title="</noscript><script>{run}</script>">',
        f"<textarea></textarea><script>{run}</script>",
        f"<title></title><script>{run}</script>",
        f"<xmp></xmp><script>{run}</script>",
        f"<template><script>{run}</script></template>",
        f"<math><style><img src=x onerror={run}></style></math>",
        f'<svg></p><style><a id="</style><img src=1 onerror={run}>">',
        f"<form><math><mtext></form><form><mglyph><style></math><img src onerror={run}>",
        f'<a href="data:text/html,<script>{run}</script>">x',
        f'<iframe src="data:text/html,<script>{run}</script>">',
        f'<object data="data:text/html,<script>{run}</script>">',
        f'<embed src="data:image/svg+xml,<svg onload={run}>">',
        f'<img src="data:image/svg+xml,<svg xmlns=%22http://www.w3.org/2000/svg%22 onload=%22{run}%22/>">',
        f'<img src="x:{at}" onerror={run}//>',
        f'<img """><script>{run}</script>">',
        f"<img src=`x`onerror={run}>",
        f"<x onclick={run} autofocus tabindex=1 onfocus={run}>",
        f"<a ping={at} href=#x>x",
        f'<button formaction="javascript:{run}">',
        f"<isindex action=javascript:{run} type=image>",
        f"<dialog open onclose={run}>",
        f"<p style=\"font-family:'x\\27;background:url({at});'\">x",
        f'<font face="x;background:url({at})">',
        f'<td width="1;background:url({at})">',
        f'<p class="x" style="color:red;}} body{{background:url({at})">',
        f'<link rel=icon href="{at}">',
        f'<link rel=manifest href="{at}">',
        f'<script type=module src="{at}"></script>',
        f'<script type=speculationrules>{{"prefetch":[{{"source":"list","urls":["{at}"]}}]}}</script>',
        f"<script type=importmap>{{}}</script><script>{run}</script>",
        f"<portal src={at}>",
        f"<fencedframe src={at}>",
    ]
    return attacks


@unittest.skipUnless(shutil.which("chromium"), "Chromium is not installed here")
class InABrowser(ProgramTest):
    def test_nothing_runs_and_nothing_asks(self) -> None:
        asked: list[bytes] = []
        listener = socket.create_server(("127.0.0.1", 0))
        self.addCleanup(listener.close)

        def listen() -> None:
            while True:
                try:
                    client = listener.accept()[0]
                except OSError:
                    return
                asked.append(client.recv(4096))
                client.close()

        threading.Thread(target=listen, daemon=True).start()
        rows = ways(listener.getsockname()[1])
        self.assertGreater(len(rows), 330)
        pages = []
        for at in range(0, len(rows), 12):  # several in a message, each behind a closed block of its own
            body = "".join(f"<div><p>{number}</p>{row}</div>" for number, row in enumerate(rows[at : at + 12], at))
            pages.append(
                message("A <a@b.example>", "r@s.example", f"Ways from {at}", when("2026-03-14", 15, 3), html(body))
            )
        pages += [
            message("A <a@b.example>", "r@s.example", f"Alone {n}", when("2026-03-14", 15, 3), html(row))
            for n, row in enumerate(rows[-100:])
        ]
        self.write("in.mbox", mbox(*pages))
        self.run_program("export", "in.mbox", "--into", "out", "--as", "html", "--flat", "--name", "{subject}")
        made = sorted((self.folder / "out").glob("*.html"))
        self.assertEqual(len(made), len(pages))
        self.assertEqual(
            self.opened_in_chromium(
                self.write(
                    "trap.html",
                    f"<img src=x onerror=\"document.title='ran'\"><img src='http://127.0.0.1:{listener.getsockname()[1]}/trap'>",
                )
            ),
            "ran",
        )
        self.assertEqual(len(asked), 1, "the trap itself works")
        frames = "".join(f'<iframe src="{path.as_uri()}"></iframe>' for path in made)
        for path in made[::9]:
            self.assertNotEqual(self.opened_in_chromium(path), "ran", path)
        self.opened_in_chromium(self.write("all.html", f"<title>all</title>{frames}"))
        self.assertEqual(asked[1:], [])
        for path in made:
            text = path.read_text("utf-8")
            self.assertNotRegex(
                text, r"(?i)<script|javascript:|<iframe|<object|<embed|<svg|<base|<form|@import|<[^>]*\son\w+\s*=", path
            )

    def opened_in_chromium(self, path: Path) -> str:
        """The title that a page has after a while."""
        done = subprocess.run(
            [
                "chromium",
                "--headless",
                "--no-sandbox",
                "--disable-gpu",
                "--no-first-run",
                "--disable-background-networking",
                "--disable-component-update",
                "--disable-sync",
                f"--user-data-dir={self.folder}/profile",
                "--virtual-time-budget=3000",
                "--dump-dom",
                path.as_uri(),
            ],
            capture_output=True,
            timeout=120,
            check=False,
        )
        title = re.search(rb"<title>([^<]*)", done.stdout)
        return title[1].decode() if title else ""
