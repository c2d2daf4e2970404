"""Runs the benchmarks named, or all: `python -m benchmarks [pages mailbox memory] [FOLDER]`. Each prints one table.

`pages`, `fidelity`, `messages`, `desktop` and `tagging` take a folder of mail of others.
"""

from __future__ import annotations

import sys
from importlib import import_module
from pathlib import Path

NAMES = "fidelity messages archival pages cluster mailbox memory startup imap extract records backup orders tables cases placing soundness desktop scans browse deliver seals protected tagging".split()

if __name__ == "__main__":
    chosen = [word for word in sys.argv[1:] if word in NAMES] or NAMES
    folders = [Path(word) for word in sys.argv[1:] if word not in NAMES]  # mail of others, for those that take it
    for name in chosen:
        import_module(f"benchmarks.{name}").main(*folders)
