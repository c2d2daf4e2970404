"""Folders that results go to: written whole or not at all, and nowhere but below them."""
