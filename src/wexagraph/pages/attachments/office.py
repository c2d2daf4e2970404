"""Documents: DOCX by mammoth; what only an office suite reads by LibreOffice, where it is installed."""

from __future__ import annotations

import base64
import io
import os
import shutil
import signal
import subprocess
import sys
from functools import cache
from pathlib import Path
from typing import Any

from wexagraph.pages.attachments.sheets import bounded_zip
from wexagraph.pages.attachments.unlinked import without_references
from wexagraph.temporary import TemporaryFolder

PATIENCE = 19.0
_SUFFIXES = {
    "application/vnd.oasis.opendocument.text": ".odt",
    "application/vnd.oasis.opendocument.spreadsheet": ".ods",
    "application/vnd.oasis.opendocument.presentation": ".odp",
    "application/msword": ".doc",
    "application/vnd.ms-excel": ".xls",
    "application/vnd.ms-powerpoint": ".ppt",
    "application/rtf": ".rtf",
    "application/vnd.openxmlformats-officedocument.presentationml.presentation": ".pptx",
}
SUITE_TYPES = frozenset(_SUFFIXES)


def document_html(content: bytes) -> str:
    """A DOCX as HTML, pictures inside it: not clean. Raises ValueError."""
    import mammoth

    def picture(image: Any) -> dict[str, str]:
        try:
            with image.open() as file:
                packed = base64.b64encode(file.read()).decode("ascii")
        except (KeyError, ValueError, OSError):  # it lies elsewhere, or nowhere: a frame stands for it
            return {"src": ""}
        return {"src": f"data:{image.content_type};base64,{packed}"}

    bounded_zip(content)
    try:
        made = mammoth.convert_to_html(io.BytesIO(content), convert_image=mammoth.images.img_element(picture))
        return str(made.value)
    except Exception as error:  # the library's errors on broken documents are of every kind
        raise ValueError(f"the document can't be read: {type(error).__name__}") from error


def suite() -> str | None:
    """The program of the office suite, where it is installed."""
    return shutil.which("soffice") or shutil.which("libreoffice")


def _environment() -> dict[str, str]:
    """What another program needs of the environment: no password that stands in ours."""
    kept = ("PATH", "LANG", "LC_ALL", "LC_CTYPE", "TMPDIR", "SYSTEMROOT", "TEMP")
    return {name: os.environ[name] for name in kept if name in os.environ}


_APART = r"""set -e
folder=$1 home=$2 root=$1/root; shift 2
mkdir "$root"
mount -t tmpfs -o mode=755 tmpfs "$root"
for name in usr lib lib32 lib64 bin sbin etc opt; do
    if [ -L "/$name" ]; then cp -P "/$name" "$root/$name"
    elif [ -d "/$name" ]; then mkdir "$root/$name"; mount --rbind "/$name" "$root/$name"; fi
done
mkdir -p "$root/proc" "$root/dev" "$root/tmp" "$root$folder"
mount -t proc proc "$root/proc"
for name in null zero random urandom; do : >"$root/dev/$name"; mount --bind "/dev/$name" "$root/dev/$name"; done
mount --bind "$folder" "$root$folder"
[ -e "$root$home" ] || { mkdir -p "$root$home"; mount --bind "$home" "$root$home"; }
exec chroot "$root" "$@"
"""
"""Runs a program where there are only the system's own files, one folder, and the program's own home."""
_NAMESPACES = ("--user", "--map-root-user", "--net", "--mount", "--pid", "--ipc", "--fork", "--kill-child")


@cache
def _runs_apart() -> bool:
    """Whether this system lets a program have its own network and files (Linux namespaces)."""
    if sys.platform != "linux" or not (shutil.which("unshare") and shutil.which("setpriv")):
        return False
    with TemporaryFolder() as place:
        tried = subprocess.run(_apart(["/bin/true"], place), capture_output=True, check=False, env=_environment())
    return tried.returncode == 0


def _apart(command: list[str], place: Path) -> list[str]:
    """The command that runs another with the system's files and one folder alone, and that ends with this process."""
    ending = ["setpriv", "--pdeathsig", "KILL", "unshare", *_NAMESPACES]
    home = Path(command[0]).resolve().parent
    home = home.parent if home.name == "program" else home  # as an office suite is laid out
    return [*ending, "sh", "-c", _APART, "sh", str(place.resolve()), str(home), *command]


def suite_pdf(content: bytes, kind: str) -> bytes:
    """A document as PDF by LibreOffice: headless, with a profile of its own, for a limited time, without network and
    other files where the system allows that. Raises ValueError."""
    program = suite()
    if program is None:
        raise ValueError("LibreOffice is not installed here")
    content = without_references(content, _SUFFIXES[kind])
    with TemporaryFolder() as place:
        folder = str(place := place.resolve())
        given = place / f"attachment{_SUFFIXES[kind]}"
        given.write_bytes(content)
        command = [
            program,
            "--headless",
            "--norestore",
            "--nolockcheck",
            f"-env:UserInstallation={(place / 'profile').as_uri()}",
            "--convert-to",
            "pdf",
            "--outdir",
            folder,
            str(given),
        ]
        # macros stay off by the profile's default for documents without a trusted place
        process = subprocess.Popen(
            _apart(command, place) if _runs_apart() else command,
            stdin=subprocess.DEVNULL,
            stdout=subprocess.DEVNULL,
            stderr=subprocess.DEVNULL,
            cwd=folder,
            start_new_session=True,
            env={
                **_environment(),
                "HOME": folder,
                "TMPDIR": folder,
                **dict.fromkeys(("http_proxy", "https_proxy", "ftp_proxy", "all_proxy"), "http://127.0.0.1:9"),
            },
        )
        try:
            process.wait(PATIENCE)
        except subprocess.TimeoutExpired as error:
            raise ValueError(f"LibreOffice took more than {PATIENCE:.0f} seconds") from error
        finally:
            if process.poll() is None:
                os.killpg(process.pid, signal.SIGKILL)
                process.wait()
        made = given.with_suffix(".pdf")
        if not made.is_file():
            if process.returncode:
                raise ValueError(f"LibreOffice made nothing of it (exit code {process.returncode})")
            raise ValueError(
                "the LibreOffice of this machine can't open it. Is the part for such files installed (Writer, Calc, "
                "Impress)?"
            )
        return made.read_bytes()
