"""Mail as desktop programs keep it, in a folder: for a picture of the documents."""

from __future__ import annotations

import sys
from datetime import UTC, datetime
from pathlib import Path

from tests.desktop_mail import BINARY, letter, meeting, msg, packed, pst, wrapped
from tests.helpers import png

_RICH = (
    r"{\rtf1\ansi\ansicpg1252{\fonttbl{\f0\fswiss Arial;}}{\colortbl;\red160\green40\blue20;}\pard Dear harbour master,\par\par "
    r"the barge leaves {\b berth 4} on {\cf1\b Friday at nine}. What is left on the quay:\par\par"
    r"\trowd\pard\intbl\b Goods\b0\cell\b Pieces\b0\cell\b Place\b0\cell\row"
    r"\trowd\pard\intbl steel sheet piles\cell 42\cell shed 2\cell\row"
    r"\trowd\pard\intbl fenders, second hand\cell 16\cell quay wall\cell\row\pard\par "
    r"{\i Please have the crane ready.}\par\par Mara Quill\par}"
).encode("ascii")


def main() -> None:
    folder = Path(sys.argv[1])
    folder.mkdir()
    goods = letter(
        "What is left on berth 4",
        "",
        files=[("Loading list.csv", b"goods,pieces\nsheet piles,42\n")],
        people=[("Harbour Master", "master@saltmere.example", 1), ("Quay Office", "/o=SALTMERE/cn=quay", 2)],
        more={0x1009: (BINARY, packed(_RICH))},
    )
    (folder / "What is left.msg").write_bytes(msg(goods))
    plan = letter(
        "\u6f6e\u4f4d\u8868 (tide table)",
        "\u7b2c4\u30d0\u30fc\u30b9",
        "<p>\u7b2c4\u30d0\u30fc\u30b9\u306e\u6f6e\u4f4d\u8868\u3092\u9001\u308a\u307e\u3059\u3002</p>"
        '<p>The plan of the berth:</p><img src="cid:plan">'.encode(),
        files=[("plan.png", png(300, 90)), ("Tides 2025.pdf", b"%PDF-1.4")],
    )
    plan.attachments[0][0x3712] = (0x1F, "plan".encode("utf-16-le"))
    (folder / "wrapper.eml").write_bytes(wrapped(plan, "\u7b2c4\u30d0\u30fc\u30b9"))
    sent = datetime(2025, 3, 5, 16, 40, tzinfo=UTC)
    pst(folder / "Former clerk.pst", {"Inbox/Buoy 14": [meeting(), letter("Fog over the inner basin", sent=sent)]})


if __name__ == "__main__":
    main()
