"""Bytes to meaning: headers, character sets, structure, the text to show, pictures and attachments."""
