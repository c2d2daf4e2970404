"""Messages as desktop programs keep them, made of one plain description: MSG, TNEF, personal folder files."""

from __future__ import annotations

import base64
import struct
import uuid
from collections.abc import Sequence
from dataclasses import dataclass, field
from datetime import UTC, datetime
from pathlib import Path

import compressed_rtf

from tests.pst_writer import Properties, PstWriter
from wexagraph.messages.mapi.compound import Tree, written

TEXT, TEXT8, BINARY, NUMBER, TIME, BOOLEAN, OBJECT = 0x1F, 0x1E, 0x102, 0x03, 0x40, 0x0B, 0x0D

CATEGORIES, START, END, PLACE, IDENTITY, REPEATS, EMAIL, DUE = range(0x8000, 0x8008)
_PUBLIC = uuid.UUID("00020329-0000-0000-c000-000000000046").bytes_le
_APPOINTMENT, _TASK, _ADDRESS = (uuid.UUID(f"0006200{n}-0000-0000-c000-000000000046").bytes_le for n in (2, 3, 4))
_MEETING = uuid.UUID("6ed8da90-450b-101b-98da-00aa003f1305").bytes_le
_OWNERS = (_APPOINTMENT, _TASK, _ADDRESS, _MEETING)
_NAMED = {START: (_APPOINTMENT, 0x820D), END: (_APPOINTMENT, 0x820E), PLACE: (_APPOINTMENT, 0x8208)}
_NAMED |= {IDENTITY: (_MEETING, 0x23), REPEATS: (_APPOINTMENT, 0x8216), EMAIL: (_ADDRESS, 0x8083), DUE: (_TASK, 0x8105)}
_WORD = "Keywords".encode("utf-16-le")
SETS = b"".join(_OWNERS)
ENTRIES = struct.pack("<IHH", 0, 2 << 1 | 1, 0) + b"".join(
    struct.pack("<IHH", id, 3 + _OWNERS.index(owner) << 1, place)
    for place, (owner, id) in enumerate(_NAMED.values(), 1)
)
TEXTS = struct.pack("<I", len(_WORD)) + _WORD
"""What a file says of the names of its named properties: sets, entries, texts."""


def wide(text: str) -> tuple[int, bytes]:
    return TEXT, text.encode("utf-16-le", "surrogatepass")


def number(value: int) -> tuple[int, bytes]:
    return NUMBER, struct.pack("<i", value)


def moment(value: datetime) -> tuple[int, bytes]:
    ticks = int((value - datetime(1601, 1, 1, tzinfo=UTC)).total_seconds()) * 10_000_000
    return TIME, struct.pack("<Q", ticks)


def packed(content: bytes) -> bytes:
    """Rich text as it is packed."""
    return bytes(compressed_rtf.compress(content, True))


@dataclass
class Letter:
    """A message: its properties, those of each recipient and attachment, and the letters that are attached."""

    properties: Properties
    recipients: Sequence[Properties] = ()
    attachments: Sequence[Properties] = ()
    inside: Sequence[Letter] = field(default_factory=tuple)


def letter(
    subject: str = "Berth 4 until Friday",
    text: str = "The barge leaves berth 4 on Friday.",
    html: bytes = b"",
    header: str = "",
    files: Sequence[tuple[str, bytes]] = (),
    inside: Sequence[Letter] = (),
    people: Sequence[tuple[str, str, int]] = (("Harbour Master", "master@saltmere.example", 1),),
    sent: datetime = datetime(2025, 3, 4, 9, 15, tzinfo=UTC),
    sender: tuple[str, str] = ("Mara Quill", "mara@quillfreight.example"),
    more: Properties | None = None,
) -> Letter:
    """A letter of the usual kind; addresses without @ are names of a directory."""
    smtp = "@" in sender[1]
    properties: Properties = {
        0x001A: wide("IPM.Note"),
        0x0037: wide(subject),
        0x0039: moment(sent),
        0x0E06: moment(sent),
        0x0E07: number(1),
        0x0C1A: wide(sender[0]),
        0x0042: wide(sender[0]),
        0x0064: wide("SMTP" if smtp else "EX"),
        0x0065: wide(sender[1]),
        0x1000: wide(text),
        0x3007: moment(sent),
        0x3FDE: number(65001),
        **({0x1013: (BINARY, html)} if html else {}),
        **({0x007D: wide(header)} if header else {}),
        **(more or {}),
    }
    recipients = [
        {
            0x0C15: number(role),
            0x3001: wide(name),
            0x3002: wide("SMTP" if "@" in address else "EX"),
            0x3003: wide(address),
        }
        for name, address, role in people
    ]
    attachments: list[Properties] = [
        {0x3705: number(1), 0x3707: wide(name), 0x3701: (BINARY, content)} for name, content in files
    ]
    return Letter(properties, recipients, attachments, tuple(inside))


def meeting(kind: str = "IPM.Schedule.Meeting.Request") -> Letter:
    """An invitation."""
    return letter(
        "Survey of buoy 14",
        "Bring the chart.",
        more={
            0x001A: wide(kind),
            START: moment(datetime(2025, 3, 12, 8, 30, tzinfo=UTC)),
            END: moment(datetime(2025, 3, 12, 10, 0, tzinfo=UTC)),
            PLACE: wide("East quay"),
            IDENTITY: (0x102, bytes(16) + b"buoy14"),
        },
    )


def msg(each: Letter) -> bytes:
    """A single-message file ([MS-OXMSG])."""
    tags = {"0002": SETS, "0003": ENTRIES, "0004": TEXTS}
    names: Tree = {f"__substg1.0_{tag}0102": content for tag, content in tags.items()}
    return written({**_storage(each, 32), "__nameid_version1.0": names})


def _storage(each: Letter, head: int) -> Tree:
    tree = _properties(each.properties, head)
    for place, recipient in enumerate(each.recipients):
        tree[f"__recip_version1.0_#{place:08X}"] = _properties(recipient, 8)
    for place, attachment in enumerate(each.attachments):
        tree[f"__attach_version1.0_#{place:08X}"] = _properties(attachment, 8)
    for place, inner in enumerate(each.inside, len(each.attachments)):
        attached = _properties({0x3705: number(5), 0x3001: inner.properties[0x0037]}, 8)
        attached["__substg1.0_3701000D"] = _storage(inner, 24)
        tree[f"__attach_version1.0_#{place:08X}"] = attached
    return tree


def _properties(properties: Properties, head: int) -> Tree:
    tree, fixed = Tree(), bytes(head)
    for id, (kind, raw) in properties.items():
        if kind in (NUMBER, TIME, BOOLEAN):
            value = raw.ljust(8, b"\0")
        else:
            tree[f"__substg1.0_{id:04X}{kind:04X}"] = raw
            value = struct.pack("<II", len(raw), 0)
        fixed += struct.pack("<HHI", kind, id, 6) + value
    tree["__properties_version1.0"] = fixed
    return tree


def tnef(each: Letter) -> bytes:
    """A TNEF stream ([MS-OXTNEF])."""
    out = b"\x78\x9f\x3e\x22\x01\x00" + _attribute(1, 0x69007, struct.pack("<II", 65001, 0))
    out += _attribute(1, 0x69003, _tnef_properties(each.properties))
    rows = struct.pack("<I", len(each.recipients)) + b"".join(map(_tnef_properties, each.recipients))
    out += _attribute(1, 0x69004, rows)
    for attachment in each.attachments:
        out += _attribute(2, 0x69002, bytes(14)) + _attribute(2, 0x6800F, attachment[0x3701][1])
        out += _attribute(2, 0x69005, _tnef_properties({k: v for k, v in attachment.items() if k != 0x3701}))
    for inner in each.inside:
        content = bytes.fromhex("0703020000000000c000000000000046") + tnef(inner)
        properties = {0x3705: number(5), 0x3001: inner.properties[0x0037], 0x3701: (OBJECT, content)}
        out += _attribute(2, 0x69002, bytes(14)) + _attribute(2, 0x69005, _tnef_properties(properties))
    return out


def _attribute(level: int, id: int, data: bytes) -> bytes:
    return struct.pack("<BII", level, id, len(data)) + data + struct.pack("<H", sum(data) & 0xFFFF)


def _tnef_properties(properties: Properties) -> bytes:
    out = struct.pack("<I", len(properties))
    for id, (kind, raw) in properties.items():
        out += struct.pack("<HH", kind, id)
        if id == CATEGORIES:
            out += _PUBLIC + struct.pack("<II", 1, len(_WORD) + 2) + _WORD + bytes(2) + bytes(-(len(_WORD) + 2) % 4)
        elif id in _NAMED:
            out += _NAMED[id][0] + struct.pack("<II", 0, _NAMED[id][1])
        if kind in (NUMBER, BOOLEAN, TIME):
            out += raw.ljust(8 if kind == TIME else 4, b"\0")
        else:
            raw += bytes(2) if kind == TEXT else b""
            out += struct.pack("<II", 1, len(raw)) + raw + bytes(-len(raw) % 4)
    return out


def wrapped(each: Letter, text: str) -> bytes:
    """A message with a text, and a letter in a winmail.dat."""
    wrapper = base64.encodebytes(tnef(each)).decode()
    subject = each.properties[0x0037][1].decode("utf-16-le")
    return (
        f"From: Mara Quill <mara@quillfreight.example>\nTo: master@saltmere.example\nSubject: {subject}\n"
        "Date: Tue, 4 Mar 2025 10:15:00 +0100\nMIME-Version: 1.0\nContent-Type: multipart/mixed; boundary=QUAY\n\n"
        f"--QUAY\nContent-Type: text/plain; charset=utf-8\n\n{text}\n--QUAY\nContent-Type: application/ms-tnef;\n"
        f' name="winmail.dat"\nContent-Transfer-Encoding: base64\n\n{wrapper}\n--QUAY--\n'
    ).encode()


Folders = dict[str, Sequence[Letter]]
"""Letters by the paths of their folders."""


def pst(
    path: Path,
    folders: Folders,
    layout: str = "unicode",
    coding: int = 0,
    gap: int = 0,
    password: int = 0,
    room: int = 0,
    lost: Sequence[Letter] = (),
    shared: bool = False,
) -> dict[int, Letter]:
    """A personal folder file. Returns its letters by the numbers of their nodes; no folder lists those that are `lost`.
    With `shared`, a letter that stands twice is written once."""
    _written.clear()
    writer = PstWriter(path, layout, coding, gap, room)
    top = 0x8022
    entry = bytes(4) + bytes(16) + struct.pack("<I", top)
    writer.node(0x21, *writer.properties({0x3001: wide("Saltmere"), 0x35E0: (BINARY, entry), 0x67FF: number(password)}))
    nids = {"": top}
    levels = {"/".join(name.split("/")[:depth]) for name in folders for depth in range(1, name.count("/") + 2)}
    for place, name in enumerate(sorted(levels)):
        nids[name] = 0x8042 + place * 0x20
    children: dict[int, list[tuple[int, str]]] = {0x122: [(top, "Top of Saltmere")]}
    for name, nid in nids.items():
        if name:
            above, _, own = name.rpartition("/")
            children.setdefault(nids[above], []).append((nid, own))
    parents = {child: nid for nid, its in children.items() for child, _ in its}
    titles = {nid: title for its in children.values() for nid, title in its}
    letters: dict[int, Letter] = {}
    by_nid = {nid: folders.get(name, ()) for name, nid in nids.items()}
    for nid in (0x122, *nids.values()):
        its = children.get(nid, [])
        writer.node(nid, *writer.properties({0x3001: wide(titles.get(nid, ""))}), parent=parents.get(nid, 0x122))
        writer.node(nid & ~0x1F | 0x0D, *writer.table([(0x3001, TEXT)], [(c, {0x3001: wide(t)}) for c, t in its]))
        rows = []
        for each in by_nid.get(nid, ()):
            message = 0x200004 + len(letters) * 0x20
            letters[message] = each
            data, sub = _message(writer, each, shared)
            writer.node(message, data, sub, nid)
            size = sum(len(raw) for _, raw in each.properties.values())
            rows.append((message, {0x0E08: number(size), 0x0037: each.properties[0x0037]}))
        writer.node(nid & ~0x1F | 0x0E, *writer.table([(0x0E08, NUMBER), (0x0037, TEXT)], rows))
        writer.node(nid & ~0x1F | 0x0F, *writer.table([(0x0E08, NUMBER)], []))
    for each in lost:
        message = 0x200004 + len(letters) * 0x20
        letters[message] = each
        writer.node(message, *_message(writer, each), top)
    writer.node(0x61, *writer.properties({1: number(251), 2: (BINARY, SETS), 3: (BINARY, ENTRIES), 4: (BINARY, TEXTS)}))
    writer.finish()
    return letters


_RECIPIENT = [(0x0C15, NUMBER), (0x3001, TEXT), (0x3002, TEXT), (0x3003, TEXT)]


_written: dict[int, tuple[int, int]] = {}


def _message(writer: PstWriter, each: Letter, shared: bool = False) -> tuple[int, int]:
    if shared and id(each) in _written:
        return _written[id(each)]
    _written[id(each)] = blocks = _parts(writer, each, shared)
    return blocks


def _parts(writer: PstWriter, each: Letter, shared: bool) -> tuple[int, int]:
    rows = [(place, dict(recipient)) for place, recipient in enumerate(each.recipients)]
    nodes = {0x692: writer.table(_RECIPIENT, rows)}
    attached = []
    for attachment in each.attachments:
        nid = 0x8025 + len(attached) * 0x20
        nodes[nid] = writer.properties(attachment)
        attached.append(nid)
    for inner in each.inside:
        nid, own = 0x8025 + len(attached) * 0x20, 0x200024
        sub = {own: _message(writer, inner, shared)}
        properties = {
            0x3705: number(5),
            0x3001: inner.properties[0x0037],
            0x3701: (OBJECT, struct.pack("<II", own, 4096)),
        }
        nodes[nid] = writer.properties(properties, sub)
        attached.append(nid)
    if attached:
        nodes[0x671] = writer.table([(0x0E20, NUMBER)], [(nid, {0x0E20: number(1)}) for nid in attached])
    return writer.properties(each.properties, nodes)
