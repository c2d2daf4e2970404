"""What every place does that files are delivered to; a new kind is a line in KINDS."""

from __future__ import annotations

import hashlib
from collections.abc import Callable
from pathlib import Path

from tests.helpers import ProgramTest
from wexagraph.sending.places import FolderPlace, Place, part_of


def folder(root: Path) -> Place:
    (root / "share").mkdir(exist_ok=True)
    return FolderPlace(root / "share")


KINDS: dict[str, Callable[[Path], Place]] = {"folder": folder}


class Places(ProgramTest):
    def test_written_named_read_back_and_removed(self) -> None:
        for kind, opened in KINDS.items():
            with self.subTest(kind), opened(self.folder) as place:
                self.assertEqual(place.sizes("a"), {})
                part = part_of("a/b/Größe ☂.pdf")
                self.assertTrue(part.startswith("a/b/"))
                place.write(part, iter((b"sea", b"wall")))
                place.settle()
                self.assertEqual(place.digest(part), hashlib.sha256(b"seawall").hexdigest())
                place.put(part, "a/b/Größe ☂.pdf", replaces=False)
                self.assertEqual(place.sizes("a"), {"a/b/Größe ☂.pdf": 7})
                self.assertEqual(place.sizes("a/b/Größe ☂.pdf"), {"a/b/Größe ☂.pdf": 7})
                self.assertIn("%C3%B6", place.link("a/b/Größe ☂.pdf"))
                self.assertIsNone(place.digest("a/b"))
                place.remove("a/b/Größe ☂.pdf")
                place.remove("a/b/Größe ☂.pdf")
                self.assertEqual(place.sizes("a"), {})

    def test_no_name_is_taken_from_another(self) -> None:
        for kind, opened in KINDS.items():
            with self.subTest(kind), opened(self.folder) as place:
                for name, content in (("one", b"one"), ("two", b"two")):
                    place.write(name, iter((content,)))
                place.settle()
                with self.assertRaises(FileExistsError):
                    place.write("one", iter((b"three",)))
                with self.assertRaises(FileExistsError):
                    place.put("two", "one", replaces=False)
                self.assertEqual(place.digest("one"), hashlib.sha256(b"one").hexdigest())
                place.put("two", "one", replaces=True)
                self.assertEqual(place.digest("one"), hashlib.sha256(b"two").hexdigest())

    def test_nothing_leads_out(self) -> None:
        for kind, opened in KINDS.items():
            with self.subTest(kind), opened(self.folder) as place:
                for path in ("../x", "a/../../x", "/x", ""):
                    with self.assertRaises(OSError):
                        place.write(path, iter((b"x",)))
                    self.assertIsNone(place.digest(path))
        self.assertEqual([path.name for path in self.folder.iterdir()], ["share"])
