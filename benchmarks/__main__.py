"""Runs the benchmarks named, or all: `python -m benchmarks [pages mailbox memory]`. Each prints one table."""

from __future__ import annotations

import sys
from importlib import import_module

NAMES = "fidelity messages archival pages mailbox memory startup imap extract records backup".split()

if __name__ == "__main__":
    for name in sys.argv[1:] or NAMES:
        import_module(f"benchmarks.{name}").main()
