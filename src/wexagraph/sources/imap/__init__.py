"""An IMAP account as a source (RFC 9051, RFC 3501): read with EXAMINE and BODY.PEEK, so that nothing becomes seen."""

from wexagraph.sources.imap.source import ImapSource

__all__ = ["ImapSource"]
