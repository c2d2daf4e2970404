"""A place in a bucket of an S3-compatible storage: keys like paths, below a prefix of the bucket."""

from __future__ import annotations

import errno
import hashlib
import re
from collections.abc import Callable, Iterable
from datetime import UTC, datetime, timedelta
from pathlib import Path
from typing import Any, TypeVar
from urllib.parse import quote

from wexagraph.errors import CallError, SourceError
from wexagraph.sending.places import Place
from wexagraph.sources.accounts import Account, Login, refused
from wexagraph.text import one_line

try:
    import obstore
    from obstore import exceptions
    from obstore.store import S3Store
except ImportError as error:  # an extra
    raise CallError("s3:// needs the extra `s3`: pip install 'wexagraph[s3]'.") from error

_PART = 6 * 1024 * 1024
_AT_ONCE = 1
_REGION = re.compile(r"\bs3[.-](?:dualstack\.)?([a-z]{2}(?:-[a-z]+)+-\d)\.")
_KEYS = ("SignatureDoesNotMatch", "InvalidAccessKeyId", "ExpiredToken", "InvalidToken")
_FULL = re.compile("StorageFull|QuotaExceeded|507 Insufficient")
_LONGEST = timedelta(days=7)
"""How long an address may hold that is signed in the storage's own way (Signature Version 4)."""
_Answer = TypeVar("_Answer")


class S3Place(Place):
    """A prefix in a bucket: `s3://KEY@host/bucket/prefix`; the secret key is found as a password is. `until` is when
    the addresses of files cease to hold.

    A name is given by a copy that the storage makes only where nothing bears it (If-None-Match on completing an upload
    in parts). Raises SourceError where there is no line to the storage, or it refuses the keys.
    """

    lines = 8

    def __init__(self, account: Account, login: Login, until: datetime | None = None) -> None:
        left = until - datetime.now(UTC) if until is not None else _LONGEST
        if not timedelta() < left <= _LONGEST:
            raise CallError("an address for who has no keys holds for a week at most: --until has to be within it.")
        bucket, _, prefix = account.folder.partition("/")
        if not bucket:
            raise CallError(f"{account.url} names no bucket. Write it as s3://KEY@host/bucket/folder.")
        self._account, self._until = account, until
        self._prefix = f"{prefix.strip('/')}/" if prefix.strip("/") else ""
        self.name = account.url.rstrip("/")
        host = f"[{account.host}]" if ":" in account.host else account.host
        region = _REGION.search(account.host)
        options: Any = {"timeout": f"{account.timeout:g}s", "connect_timeout": "20s"}
        if account.authority:
            account.tls()  # says what is wrong with it
            options["root_certificate"] = Path(account.authority).read_text("ascii")
        self._store = S3Store(
            bucket,
            endpoint=f"https://{host}:{account.port}",
            region=region[1] if region else "us-east-1",
            access_key_id=account.user,
            secret_access_key=login(account, False).value,
            virtual_hosted_style_request=False,
            copy_if_not_exists="multipart",
            client_options=options,
            retry_config={"max_retries": 2},
        )
        self._ask("", lambda: next(iter(obstore.list(self._store, self._prefix or None, chunk_size=1)), None))

    def _key(self, path: str) -> str:
        if not path or any(level in ("", ".", "..") for level in path.split("/")):
            raise OSError(errno.EINVAL, "it leads out of its folder", path)
        try:
            path.encode()
        except UnicodeEncodeError:
            raise OSError(errno.EINVAL, "its name is no Unicode", path) from None
        return self._prefix + path

    def _ask(self, path: str, do: Callable[[], _Answer]) -> _Answer:
        """Ask the storage. Raises SourceError where it refuses the keys or does not answer, OSError."""
        try:
            return do()
        except (FileNotFoundError, exceptions.NotFoundError) as error:
            raise FileNotFoundError(errno.ENOENT, "it is not there", path) from error
        except (exceptions.AlreadyExistsError, exceptions.PreconditionError) as error:
            raise FileExistsError(errno.EEXIST, "something bears this name", path) from error
        except exceptions.BaseError as error:
            said = _said(error)
            if said.startswith("NoSuchBucket"):
                raise CallError(f"{self.name} is not there. A place has to be there: make the bucket first.") from error
            if said.startswith(_KEYS):
                raise refused(self._account, said) from error
            if "AccessDenied" in said:
                raise OSError(errno.EACCES, f"the storage does not allow it: {said}", path) from error
            if "error sending request" in str(error) or "error trying to connect" in str(error):
                raise SourceError(
                    f"{self._account.host}, port {self._account.port}: no answer. Check host, port, line and "
                    f"certificate, and run it again. ({said})"
                ) from error
            number = errno.ENOSPC if _FULL.search(str(error)) else errno.EIO
            raise OSError(number, f"the storage says: {said}", path) from error

    def sizes(self, path: str) -> dict[str, int]:
        key, sizes = self._key(path), dict[str, int]()

        def look() -> None:
            for batch in obstore.list(self._store, f"{key}/"):
                for each in batch:
                    sizes[each["path"].removeprefix(self._prefix)] = each["size"]

        try:
            about = self._ask(path, lambda: obstore.head(self._store, key))
            return {path: about["size"]}
        except FileNotFoundError:
            self._ask(path, look)
            return sizes

    def digest(self, path: str) -> str | None:
        def read() -> str:
            digest = hashlib.sha256()
            for chunk in obstore.get(self._store, key).stream(min_chunk_size=1 << 20):
                digest.update(chunk)
            return digest.hexdigest()

        try:
            key = self._key(path)
            return self._ask(path, read)
        except OSError as error:
            if error.errno in (errno.ENOENT, errno.EINVAL):
                return None
            raise

    def write(self, path: str, chunks: Iterable[bytes], size: int, start: int = 0) -> None:
        key = self._key(path)
        failure: list[Exception] = []

        def given() -> Iterable[bytes]:
            try:
                yield from chunks
            except Exception as error:
                failure.append(error)
                raise

        def put() -> None:
            obstore.put(self._store, key, given(), chunk_size=_PART, max_concurrency=_AT_ONCE)

        try:
            self._ask(path, put)
        except OSError:
            if failure:
                raise failure[0] from None
            raise

    def settle(self) -> None:
        """What a storage has taken is its own to keep."""

    def put(self, part: str, path: str, replaces: bool) -> None:
        source, key = self._key(part), self._key(path)
        if not replaces and self.sizes(path):  # also where a storage heeds no If-None-Match
            raise FileExistsError(errno.EEXIST, "something bears this name", path)
        self._ask(path, lambda: obstore.copy(self._store, source, key, overwrite=replaces))
        self.remove(part)

    def remove(self, path: str) -> None:
        try:
            key = self._key(path)
            self._ask(path, lambda: obstore.delete(self._store, key))
        except FileNotFoundError:
            return

    def link(self, path: str) -> str:
        """The address of a file; one that holds `until` then, for whoever has no keys."""
        key = self._key(path)
        if self._until is not None:
            left = self._until - datetime.now(UTC)
            return obstore.sign(self._store, "GET", key, left)
        bucket = self._account.folder.partition("/")[0]
        host = f"[{self._account.host}]" if ":" in self._account.host else self._account.host
        port = "" if self._account.port == 443 else f":{self._account.port}"
        return f"https://{host}{port}/{quote(bucket)}/{quote(key)}"


def _said(error: Exception) -> str:
    """What the storage says, in one line without the addresses of what was asked."""
    text = str(error)
    code = re.search(r"<Code>([^<]{1,80})</Code>", text)
    message = re.search(r"<Message>([^<]{1,200})</Message>", text)
    if code:
        return one_line(f"{code[1]}{': ' + message[1] if message else ''}")
    return one_line(text.splitlines()[0])[:200]
