"""What every place does that files are delivered to; a new kind is a line in KINDS."""

from __future__ import annotations

import hashlib
import os
import shutil
from collections.abc import Callable
from dataclasses import replace
from unittest.mock import patch

from tests.helpers import ProgramTest
from tests.s3 import SECRET, Storage
from tests.sshd import Sshd
from tests.webdav import PASSWORD, Apache, Nginx, WebDavServer
from wexagraph.sending.places import FolderPlace, Place, part_of
from wexagraph.sending.s3 import S3Place
from wexagraph.sending.sftp import SftpPlace
from wexagraph.sending.webdav import WebDavPlace
from wexagraph.sources.accounts import PLACES, Secret, parse_url


def folder(test: Places) -> Place:
    (test.folder / "share").mkdir(exist_ok=True)
    return FolderPlace(test.folder / "share")


def apache(test: Places) -> Place:
    return webdav(test.apache)


def nginx(test: Places) -> Place:
    return webdav(test.nginx)


def webdav(server: WebDavServer) -> Place:
    account = replace(parse_url(f"{server.url}share", PLACES), authority=str(server.authority))
    (server.root / "share").mkdir(exist_ok=True)
    if os.getuid() == 0:
        shutil.chown(server.root / "share", "www-data", "www-data")
    return WebDavPlace(account, lambda account, again: Secret(PASSWORD))


def s3(test: Places) -> Place:
    account = replace(parse_url(f"{test.storage.url}share", PLACES), authority=str(test.storage.authority))
    return S3Place(account, lambda account, again: Secret(SECRET))


def sftp(test: Places) -> Place:
    (test.sshd.root / "share").mkdir(exist_ok=True)
    account = replace(parse_url(f"{test.sshd.url}share", PLACES), authority=str(test.sshd.known))
    return SftpPlace(account, lambda account, again: Secret("none"))


class Places(ProgramTest):
    apache: Apache
    nginx: Nginx
    sshd: Sshd
    storage: Storage

    @classmethod
    def setUpClass(cls) -> None:
        cls.apache, cls.sshd, cls.storage = Apache(), Sshd(), Storage()
        cls.addClassCleanup(cls.storage.close)
        if Nginx.installed:
            cls.nginx = Nginx()
            cls.addClassCleanup(cls.nginx.close)
        cls.addClassCleanup(cls.apache.close)
        cls.addClassCleanup(cls.sshd.close)
        cls.enterClassContext(patch.dict(os.environ, cls.sshd.environment))

    def test_written_named_read_back_and_removed(self) -> None:
        for kind, opened in KINDS.items():
            with self.subTest(kind), opened(self) as place:
                self.assertEqual(place.sizes("a"), {})
                part = part_of("a/b/Größe ☂.pdf")
                self.assertTrue(part.startswith("a/b/"))
                place.write(part, iter((b"sea", b"wall")), 7)
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
            with self.subTest(kind), opened(self) as place:
                for name, content in (("one", b"one"), ("two", b"two")):
                    place.write(name, iter((content,)), 3)
                place.settle()
                with self.assertRaises(FileExistsError):
                    place.put("two", "one", replaces=False)
                self.assertEqual(place.digest("one"), hashlib.sha256(b"one").hexdigest())
                place.put("two", "one", replaces=True)
                self.assertEqual(place.digest("one"), hashlib.sha256(b"two").hexdigest())

    def test_nothing_leads_out(self) -> None:
        for kind, opened in KINDS.items():
            with self.subTest(kind), opened(self) as place:
                for path in ("../x", "a/../../x", "/x", ""):
                    with self.assertRaises(OSError):
                        place.write(path, iter((b"x",)), 1)
                    self.assertIsNone(place.digest(path))
        for root in (self.folder, self.apache.root, self.nginx.root, self.sshd.root):
            self.assertEqual([path.name for path in root.iterdir() if not path.name.startswith(".")], ["share"])


KINDS: dict[str, Callable[[Places], Place]] = {
    "folder": folder,
    "WebDAV at Apache": apache,
    **({"WebDAV at nginx": nginx} if Nginx.installed else {}),
    "SFTP at OpenSSH": sftp,
    "S3": s3,
}
