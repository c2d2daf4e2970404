"""Mails that carry what was made: built, split to what a server takes, handed over once."""
