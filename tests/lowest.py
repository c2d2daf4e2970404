"""Prints the lowest version of each part that `pyproject.toml` allows, as constraints for pip: what `make oldest` tests
with. Tools of development are not among them."""

from __future__ import annotations

import re
import tomllib
from pathlib import Path

_BOUND = re.compile(r"([\w.-]+)(?:\[[^\]]*\])?>=([\w.]+)")


def main() -> None:
    project = tomllib.loads((Path(__file__).parent.parent / "pyproject.toml").read_text("utf-8"))["project"]
    extras = [part for extra, parts in project["optional-dependencies"].items() if extra != "dev" for part in parts]
    for part in [*project["dependencies"], *extras]:
        match = _BOUND.match(part)
        if match:
            print(f"{match[1]}=={match[2]}")


if __name__ == "__main__":
    main()
