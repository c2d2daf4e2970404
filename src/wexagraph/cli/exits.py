"""Exit codes, for all commands."""

OK, SOME_FAILED, WRONG_CALL, UNUSABLE, INTERRUPTED = 0, 1, 2, 3, 130
