"""The Saltmere demo mailbox: an invented port office's mail, the same at every making."""

from wexagraph.demo.mailbox import make_mailbox

__all__ = ["make_mailbox"]
