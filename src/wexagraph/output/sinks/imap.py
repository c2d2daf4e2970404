"""An IMAP account."""

from __future__ import annotations

from wexagraph.output.sinks.base import Delivery, Sink
from wexagraph.sources.imap import ImapSource
from wexagraph.sources.imap.filling import Filling, identity


class ImapSink(Sink):
    """An IMAP account, or one `folder` of it for all. A message of the same identity and size in the same folder is
    there already."""

    def __init__(self, source: ImapSource, folder: str = "") -> None:
        self._filling, self._folder = Filling(source), source.all_folders.named(folder).name if folder else ""

    def where(self, delivery: Delivery) -> str:
        return self._folder or delivery.envelope.folder

    def has(self, delivery: Delivery) -> bool:
        return self._filling.has(self.where(delivery), identity(delivery.header), delivery.data)

    def put(self, delivery: Delivery) -> None:
        envelope = delivery.envelope
        self._filling.append(
            self.where(delivery), identity(delivery.header), delivery.data, envelope.flags, delivery.moment
        )
