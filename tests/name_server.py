"""A name server on this machine that answers for TXT records, and counts what it was asked."""

from __future__ import annotations

import socket
import threading
from collections import Counter

import dns.message
import dns.rcode
import dns.rrset


class NameServer:
    """Answers from `records` (names without a point at their end) at `address`; `asked` counts the names."""

    def __init__(self, records: dict[str, str]) -> None:
        self.records, self.asked = records, Counter[str]()
        self._line = socket.socket(socket.AF_INET, socket.SOCK_DGRAM)
        self._line.bind(("127.0.0.1", 0))
        threading.Thread(target=self._serve, daemon=True).start()

    @property
    def address(self) -> str:
        return f"127.0.0.1:{self._line.getsockname()[1]}"

    def close(self) -> None:
        self._line.close()

    def _serve(self) -> None:
        while True:
            try:
                data, sender = self._line.recvfrom(4096)
            except OSError:
                return
            question = dns.message.from_wire(data)
            name = question.question[0].name
            self.asked[str(name).rstrip(".")] += 1
            answer = dns.message.make_response(question)
            record = self.records.get(str(name).rstrip("."))
            if record is None:
                answer.set_rcode(dns.rcode.NXDOMAIN)
            else:
                pieces = " ".join(f'"{record[at : at + 200]}"' for at in range(0, len(record), 200))
                answer.answer.append(dns.rrset.from_text(name, 300, "IN", "TXT", pieces))
            self._line.sendto(answer.to_wire(), sender)
