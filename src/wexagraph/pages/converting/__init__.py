"""Attachments turned into pages."""

from wexagraph.pages.converting.convert import Converter, Piece

__all__ = ["Converter", "Piece"]
