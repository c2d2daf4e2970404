"""The errors that a caller can meet. Each carries a sentence for a person: what, where, what next."""


class WexagraphError(Exception):
    """Base of all errors that Wexagraph raises on purpose; `str(error)` is meant to be shown as it is."""


class CallError(WexagraphError):
    """The call was wrong: an option, a pattern, a criterion or a configuration file says something impossible."""


class Refused(WexagraphError):
    """The call was right, and what it asks for is not done as things are: a case is on hold."""


class SourceError(WexagraphError):
    """A source can't be used: it is not there, can't be read, or is no mailbox of a known kind."""


class FolderError(SourceError):
    """One folder of a source can't be read; the others can."""

    def __init__(self, folder: str, reason: str) -> None:
        super().__init__(f"{folder}: {reason}")
        self.folder, self.reason = folder, reason


class TargetError(WexagraphError):
    """A target can't be used: it can't be written to, is full, or is in use by another export."""


class InUse(TargetError):
    """Another run is at a target; after a while it may be free."""


class MessageError(WexagraphError):
    """One message can't be read; the others of its source can."""


class PageError(WexagraphError):
    """An engine could not make a PDF of a message."""
