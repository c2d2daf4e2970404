"""Documents: DOCX by mammoth; what only an office suite reads by LibreOffice, where it is installed."""

from __future__ import annotations

import base64
import io
import os
import shutil
import signal
import subprocess
from typing import Any

from wexagraph.pages.attachments.sheets import bounded_zip
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


def suite_pdf(content: bytes, kind: str) -> bytes:
    """A document as PDF by LibreOffice: headless, with a profile of its own, for a limited time. Raises ValueError."""
    program = suite()
    if program is None:
        raise ValueError("LibreOffice is not installed here")
    with TemporaryFolder() as place:
        folder = str(place)
        given = place / f"attachment{_SUFFIXES[kind]}"
        given.write_bytes(content)
        # macros stay off by the profile's default for documents without a trusted place
        process = subprocess.Popen(
            [
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
            ],
            stdin=subprocess.DEVNULL,
            stdout=subprocess.DEVNULL,
            stderr=subprocess.DEVNULL,
            cwd=folder,
            start_new_session=True,
            env={
                **_environment(),
                "HOME": folder,
                "http_proxy": "http://127.0.0.1:9",
                "https_proxy": "http://127.0.0.1:9",
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
