"""Mail of desktop programs beside libraries that read the same files: MSG, personal folder files, their memory.

Takes a folder of such files of others; without one, makes its own.
"""

from __future__ import annotations

import io
import random
from contextlib import suppress
from pathlib import Path

import olefile
import pypff

from benchmarks.inputs import DATA
from benchmarks.measure import PROGRAM, fresh, paired, ratio, run, table
from benchmarks.memory import peak_of
from tests.desktop_mail import letter, msg, pst
from wexagraph.messages.mapi.compound import Storage, in_memory
from wexagraph.messages.mapi.fields import LISTED
from wexagraph.sources import open_source

_WORDS = "berth tide pilot mooring ledger quay survey harbour buoy channel dredging slipway".split()
_MANY = 200_000


def main(*folders: Path) -> None:
    rows = []
    single = [path for folder in folders for path in sorted(folder.rglob("*.msg"))] or _made_messages()
    rows.append(_streams([path.read_bytes() for path in single], "of others" if folders else "made"))
    rows.append(_listing(single))
    files = [path for folder in folders for path in sorted(folder.rglob("*.[op]st"))]
    rows += [row for path in [*files, _made_file(3000)] for row in _personal(path)]
    table("Mail of desktop programs", ["what", "Wexagraph", "beside it", "found", "wanted"], rows)
    memory()


def memory() -> None:
    """Peak memory at a file of 2 GB."""
    many = _made_file(_MANY, gap=8_000)
    rows = []
    for arguments in (["list", str(many), "--csv"], ["export", str(many), "--as", "eml", "--into", "made"]):
        arguments[-1] = str(fresh(DATA / "desktop")) if arguments[-1] == "made" else arguments[-1]
        size = f"{many.stat().st_size / 1e9:.1f} GB"
        rows.append([f"`{arguments[0]}`", f"{_MANY:,}", size, f"{peak_of(arguments) / 1024:.0f} MB", "250 MB"])
    fresh(DATA / "desktop")
    table("Peak memory at a personal folder file", ["command", "messages", "file", "peak", "at most"], rows)


def _letter(rng: random.Random, number: int):  # type: ignore[no-untyped-def]
    words = " ".join(rng.choices(_WORDS, k=rng.randrange(40, 400)))
    html = f"<html><body><p>{words}</p></body></html>".encode()
    files = [(f"Plan {number}.pdf", rng.randbytes(rng.randrange(1000, 60_000)))] if number % 5 == 0 else []
    return letter(f"Letter {number} of the {rng.choice(_WORDS)}", words, html, files=files)


def _made_messages() -> list[Path]:
    folder, rng = DATA / "single", random.Random(21)
    folder.mkdir(parents=True, exist_ok=True)
    for number in range(40):
        (folder / f"{number:02}.msg").write_bytes(msg(_letter(rng, number)))
    return sorted(folder.iterdir())


def _made_file(count: int, gap: int = 0) -> Path:
    """A personal folder file of so many letters; many are short, and lie far apart."""
    path = DATA / f"folders-{count}.pst"
    if not path.exists():
        rng = random.Random(count)
        made = (_letter(rng, number) for number in range(count))
        short = (letter(f"Letter {number}", f"Text {number}", people=()) for number in range(count))
        letters = list(short if gap else made)
        part = path.with_suffix(".part")
        pst(part, {"Inbox": letters[: count // 2], "Sent": letters[count // 2 :]}, coding=1, gap=gap)
        part.rename(path)
    return path


def _streams(files: list[bytes], whose: str) -> list[str]:
    def judge() -> None:
        for data in files:
            with olefile.OleFileIO(io.BytesIO(data)) as file:
                for path in file.listdir():
                    file.openstream(path).read()

    def read(file, storage: Storage) -> None:  # type: ignore[no-untyped-def]
        for place in storage.streams.values():
            file.stream(place)
        for inner in storage.storages.values():
            read(file, inner)

    def ours() -> None:
        for data in files:
            file = in_memory(data)
            read(file, file.root)

    mine, theirs = paired(5, ours, judge)
    what = [f"all streams of {len(files)} MSG files {whose}", f"{min(mine):.3f} s", f"olefile {min(theirs):.3f} s"]
    return [*what, f"{ratio(theirs, mine):.1f} times its rate", "at least 3"]


def _listing(single: list[Path]) -> list[str]:
    """The headers of 2,000 files, beside olefile reading the streams that it takes."""
    single = [path for path in single if path.stat().st_size < 200_000]
    folder = fresh(DATA / "desk")
    folder.mkdir(parents=True)
    for number in range(2000):
        (folder / f"{number:04}.msg").write_bytes(single[number % len(single)].read_bytes())

    def ours() -> None:
        with open_source(folder) as source:
            assert sum(bool(each.header.block) for name in source.folders() for each in source.envelopes(name)) == 2000

    taken = {f"{number:04X}{kind:04X}" for number in LISTED for kind in (0x1E, 0x1F, 0x102)}

    def judge() -> None:
        for path in folder.iterdir():
            with olefile.OleFileIO(path) as file:
                for entry in file.listdir():
                    if len(entry) > 2 or entry[0].startswith("__attach"):
                        continue
                    if (
                        entry[-1].startswith("__properties")
                        or entry[0].startswith(("__recip", "__nameid"))
                        or entry[-1].removeprefix("__substg1.0_") in taken
                    ):
                        file.openstream(entry).read()

    mine, theirs = paired(3, ours, judge)
    what = ["2,000 MSG files listed", f"{min(mine):.2f} s", f"olefile {min(theirs):.2f} s"]
    return [*what, f"{ratio(theirs, mine):.1f} times its rate", "at least 3"]


def _personal(path: Path) -> list[list[str]]:
    size = f"{path.stat().st_size / 1e6:.0f} MB, {'made' if path.parent == DATA else 'of others'}"

    def listing() -> None:
        with open_source(path) as source:
            for name in source.folders():
                for each in source.envelopes(name):
                    _ = each.header.subject

    def subjects() -> None:
        for message in _messages(path):
            _ = message.subject

    def contents() -> None:
        for message in _messages(path):
            _ = (message.transport_headers, message.plain_text_body, message.html_body, message.rtf_body)
            for number in range(message.number_of_attachments):
                attachment = message.get_attachment(number)
                with suppress(OSError):  # an attached message has no bytes of its own
                    attachment.read_buffer(attachment.get_size())

    def export() -> None:
        run(PROGRAM, "export", str(path), "--as", "eml", "--into", str(fresh(DATA / "desktop")))

    def messages() -> None:
        with open_source(path) as source:
            for name in source.folders():
                for each in source.envelopes(name):
                    source.read(each)

    mine, theirs = paired(5, listing, subjects)
    rows = [[f"folders and subjects, {size}", f"{min(mine):.2f} s", f"libpff {min(theirs):.2f} s"]]
    rows[0] += [f"{ratio(mine, theirs):.2f} of its time", "at most 0.5"]
    mine, whole, theirs = paired(3, messages, export, contents)
    rows.append([f"all messages made, {size}", f"{min(mine):.2f} s", f"bodies and attachments {min(theirs):.2f} s"])
    rows[1] += [f"{ratio(theirs, mine):.1f} times its rate", "at least 1"]
    rows.append([f"`export --as eml`, {size}", f"{min(whole):.2f} s", f"bodies and attachments {min(theirs):.2f} s"])
    rows[2] += [f"{ratio(theirs, whole):.1f} times its rate", "at least 1"]
    return rows


def _messages(path: Path):  # type: ignore[no-untyped-def]
    file = pypff.file()
    file.open(str(path))

    def walk(folder):  # type: ignore[no-untyped-def]
        for number in range(folder.number_of_sub_messages):
            yield folder.get_sub_message(number)
        for number in range(folder.number_of_sub_folders):
            yield from walk(folder.get_sub_folder(number))

    yield from walk(file.root_folder)
    file.close()


if __name__ == "__main__":
    main()
