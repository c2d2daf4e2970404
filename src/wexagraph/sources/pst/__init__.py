"""Personal folder files ([MS-PST]), in three layers: nodes, tables, and the messages in them."""

from wexagraph.sources.pst.store import PST

__all__ = ["PST"]
