"""The bag: what lies where in a backup, and the checksums that prove it (BagIt, RFC 8493)."""

from __future__ import annotations

import hashlib
import re
from collections.abc import Iterable
from dataclasses import dataclass
from datetime import datetime
from importlib.resources import files
from pathlib import Path

import wexagraph
from wexagraph.files import open_regular
from wexagraph.naming.paths import signs_of_seals
from wexagraph.output.folder import OutputFolder

BAGIT = "bagit.txt"
INFO = "bag-info.txt"
README = "README.txt"
MANIFEST = "manifest-sha256.txt"
TAG_MANIFESTS = {"tagmanifest-sha256.txt": "sha256", "tagmanifest-sha512.txt": "sha512"}
"""Two, so that a damaged one is told from a damaged file."""
CATALOGUE = "catalogue.sqlite"
VOLUMES = "data/volumes"
RUNS = "data/runs"
OWN = ".wexagraph"
SEALED_CATALOGUE = "catalogue.sqlite.age"
KEY = "key.age"
TAG_FILES = (BAGIT, INFO, README, MANIFEST, CATALOGUE, SEALED_CATALOGUE, KEY)
PERHAPS = (CATALOGUE, SEALED_CATALOGUE, KEY)
"""Tag files that a backup may do without."""
DECLARATION = b"BagIt-Version: 1.0\nTag-File-Character-Encoding: UTF-8\n"
_MOST_SUMS = 256 * 1024 * 1024
_LINE = re.compile(r"([0-9a-f]{64,128}) [ *](.+)")
_OURS = re.compile(rf"{VOLUMES}/\d{{6}}\.zip(\.age)?|{RUNS}/\d{{4}}-\d{{2}}-\d{{2}}T\d{{6}}Z\.jsonl(\.age)?")
_RUN = re.compile(r"\d{4}-\d{2}-\d{2}T\d{6}(-\d+)?Z")


def is_backup(path: Path) -> bool:
    """Whether a backup lies here, whole or not."""
    return path.is_dir() and (path / BAGIT).is_file() and (path / VOLUMES).is_dir()


def is_sealed(root: OutputFolder) -> bool:
    """Whether anything shows that a backup was sealed, by the list that proves its list."""
    return any(map(root.taken, signs_of_seals(next(iter(TAG_MANIFESTS)))))


def seals_in(root: OutputFolder) -> set[str]:
    """The files of seals in a backup."""
    if not is_sealed(root):
        return set()
    from wexagraph.seals.sealing import seal_files

    return seal_files(root)


def keep_seals(root: OutputFolder) -> None:
    """The lists of a backup become others: where they were sealed, they are kept with their seals. Raises OSError."""
    if is_sealed(root):
        from wexagraph.seals.sealing import keep_earlier

        keep_earlier(root)


def volume_path(number: int, suffix: str = "") -> str:
    """Where a volume lies; `suffix` is that of sealed files."""
    return f"{VOLUMES}/{number:06d}.zip{suffix}"


def volume_number(path: str) -> int:
    """The number of the volume at a path."""
    return int(path.rpartition("/")[2].partition(".")[0])


def run_of(path: str) -> str:
    """The name of the run whose list lies at a path."""
    return path.rpartition("/")[2].partition(".")[0]


def run_name(moment: datetime) -> str:
    """A run's name, from its instant in UTC."""
    return f"{moment:%Y-%m-%dT%H%M%SZ}"


def run_path(name: str, suffix: str = "") -> str:
    """Where the list of a run lies; `suffix` is that of sealed files."""
    return f"{RUNS}/{name}.jsonl{suffix}"


def is_ours(path: str) -> bool:
    """Whether a path below data/ is named as a volume or a run list of ours."""
    return _OURS.fullmatch(path) is not None


def volumes_of(manifest: Iterable[str]) -> list[str]:
    """The volumes among the paths of a manifest, in their order."""
    return sorted(path for path in manifest if path.startswith(VOLUMES) and is_ours(path))


def runs_of(manifest: Iterable[str]) -> list[str]:
    """The run lists among the paths of a manifest, first to last."""
    return sorted(path for path in manifest if path.startswith(RUNS) and is_ours(path))


def is_run(name: str) -> bool:
    """Whether a text is the name of a run."""
    return _RUN.fullmatch(name) is not None


def run_moment(name: str) -> datetime:
    """The instant that a run's name tells. Raises ValueError."""
    if not _RUN.fullmatch(name):
        raise ValueError(name)
    return datetime.strptime(name[:17] + "+0000", "%Y-%m-%dT%H%M%S%z")


@dataclass(frozen=True)
class Sums:
    """The lines of a manifest: digest by path, and lines that can't be read."""

    digests: dict[str, str]
    unreadable: tuple[str, ...] = ()


def read_sums(path: Path) -> Sums | None:
    """The lines of a manifest; None where there is none. Raises OSError."""
    try:
        with open_regular(path) as file:
            text = file.read(_MOST_SUMS + 1).decode("utf-8", "surrogateescape")
    except FileNotFoundError:
        return None
    digests, unreadable = {}, []
    for line in text.split("\n"):
        match = _LINE.fullmatch(line)
        if match and not any(level in ("", ".", "..") for level in match[2].split("/")):
            digests[match[2]] = match[1]
        elif line:
            unreadable.append(line[:200])
    if len(text) > _MOST_SUMS:
        unreadable.append("it is too long")
    return Sums(digests, tuple(unreadable))


def sums_text(digests: dict[str, str]) -> bytes:
    """The lines of a manifest, sorted by path."""
    lines = (f"{digest}  {path}\n" for path, digest in sorted(digests.items()))
    return "".join(lines).encode("utf-8", "surrogateescape")


def digest_of(path: Path, kind: str = "sha256") -> str | None:
    """The digest of a regular file; None where there is none or it can't be read. Links are not followed."""
    try:
        with open_regular(path) as file:
            return hashlib.file_digest(file, kind).hexdigest()
    except OSError:
        return None


def info_text(sources: Iterable[str], bytes: int, count: int, last: str) -> bytes:
    """`bag-info.txt`: what the bag is, for people and for archives (RFC 8493, section 2.2.2)."""
    lines = [
        f"Bag-Software-Agent: Wexagraph {wexagraph.__version__}",
        *([f"Bagging-Date: {last[:10]}"] if last else []),
        f"Payload-Oxum: {bytes}.{count}",
        "External-Description: A backup of mail: messages in data/volumes, what lay where in data/runs",
        *(f"External-Identifier: {_one_line(source)}" for source in sources),
    ]
    return ("\n".join(lines) + "\n").encode("utf-8", "replace")


def _one_line(text: str) -> str:
    return " ".join(text.split())


def readme_text() -> bytes:
    """How to open this without the program."""
    return (files("wexagraph.backups") / "README.txt").read_bytes()
