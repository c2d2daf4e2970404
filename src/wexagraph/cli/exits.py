"""Exit codes, for all commands, and what the same command does after it was stopped."""

OK, SOME_FAILED, WRONG_CALL, UNUSABLE, INTERRUPTED = 0, 1, 2, 3, 130

GOING_ON = frozenset({"export", "attachments", "file", "backup", "restore", "copy", "join", "order"})
"""The commands that know what they have done already."""

GOES_ON = "The same command goes on where it was."
ANEW = "The same command begins anew."
