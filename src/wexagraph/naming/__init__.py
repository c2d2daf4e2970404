"""Names of files and lines of text, made from messages."""
