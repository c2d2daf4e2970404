"""An IMAP account."""

from __future__ import annotations

from wexagraph.output.sinks.base import Delivery, Sink
from wexagraph.sources.imap import ImapSource
from wexagraph.sources.imap.filling import Filling, identity


class ImapSink(Sink):
    """An IMAP account. A message of the same identity and size in the same folder is there already."""

    def __init__(self, source: ImapSource) -> None:
        self._filling = Filling(source)

    def where(self, delivery: Delivery) -> str:
        return delivery.envelope.folder

    def has(self, delivery: Delivery) -> bool:
        return self._filling.has(delivery.envelope.folder, identity(delivery.header), delivery.data)

    def put(self, delivery: Delivery) -> None:
        envelope = delivery.envelope
        self._filling.append(envelope.folder, identity(delivery.header), delivery.data, envelope.flags, delivery.moment)
