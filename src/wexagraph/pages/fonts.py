"""The fonts that come with the installation, offered to the engines after the machine's own."""

from __future__ import annotations

import os
from pathlib import Path

FOLDER = Path(__file__).parent.parent / "fonts"


def provide() -> None:
    """Name our font configuration to fontconfig, which reads it when an engine first asks for a font.

    A configuration that the machine's owner names in FONTCONFIG_FILE wins.
    """
    os.environ.setdefault("FONTCONFIG_FILE", str(FOLDER / "fonts.conf"))
