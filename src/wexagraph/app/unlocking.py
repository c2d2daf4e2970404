"""The keys of a call: read from their files, with their passwords, and tried before hours of work."""

from __future__ import annotations

import atexit
from collections.abc import Mapping
from functools import lru_cache
from pathlib import Path
from typing import Any

from wexagraph.app.secrets import OWN_KEYRING, PROMPT, NamedKey, Prompt, secret
from wexagraph.errors import CallError
from wexagraph.protection.certificates import known_in, read_file
from wexagraph.protection.keys import KeyFile, Keys, opener
from wexagraph.protection.openpgp import check_program, is_public, is_secret
from wexagraph.protection.sender_keys import check_server, read_sender_keys
from wexagraph.temporary import TemporaryFolder


def keys_in(values: Mapping[str, Any], prompt: Prompt | None) -> Keys:
    """What the options `key` (named as NamedKey), `key-password` and `known` say. Raises CallError, SourceError."""
    where = values.get("key-password")
    named: list[NamedKey] = list(values.get("key") or ())
    if values.get("cluster") and named:
        raise CallError("--key goes not with --cluster: keys do not leave this machine.")
    files = [_file(key, where, prompt) for key in named if key.file != OWN_KEYRING]
    known = [(Path(each).name, read_file(Path(each).expanduser(), "--known")) for each in values.get("known") or ()]
    for name, content in known:
        if not (is_public(content) or known_in([(name, content)]) != known_in([])):
            raise CallError(f"--known {name}: it holds no certificate, withdrawal list or public key of OpenPGP.")
    gpg, home = any(key.file == OWN_KEYRING for key in named), ""
    if gpg or any(is_secret(file.content) for file in files) or any(is_public(content) for _, content in known):
        check_program()
        home = _home()
    senders, ask = values.get("sender-keys"), values.get("ask-dns") or ""
    records = read_sender_keys(Path(senders).expanduser()) if senders else {}
    if ask:
        check_server(ask)
    keys = Keys(
        *(tuple(files), tuple(known), gpg, home),
        marks=bool(senders or ask or values.get("our-server") or values.get("evidence")),
        senders=tuple(records.items()),
        ask=ask,
        server=values.get("our-server") or "",
    )
    opener(keys)
    return keys


@lru_cache
def _home() -> str:
    """A private folder for keyrings, which goes with this process; that of one that was killed, with the next."""
    folder = TemporaryFolder()
    atexit.register(folder.close)
    return str(folder.path)


def _file(key: NamedKey, where: str | None, prompt: Prompt | None) -> KeyFile:
    path = Path(key.file).expanduser()
    content, said = read_file(path, "--key"), key.password or where
    if said is None and not is_secret(content):
        said = PROMPT if not _opens(content) else None  # a key without a password needs none
    ask = (lambda what, new: prompt(f"Password of {path.name}", False)) if prompt is not None else None
    return KeyFile(path.name, content, secret(said, "--key-password", ask) if said is not None else "")


def _opens(content: bytes) -> bool:
    try:
        opener(Keys((KeyFile("", content),)))
    except CallError:
        return False
    return True
