"""Values in DER, written (X.690)."""

from __future__ import annotations

OCTETS, SEQUENCE, SET = 0x04, 0x30, 0x31


def der(tag: int, *contents: bytes) -> bytes:
    """A value with its tag and length (section 8.1)."""
    content = b"".join(contents)
    length = len(content)
    if length < 128:
        return bytes([tag, length]) + content
    size = (length.bit_length() + 7) // 8
    return bytes([tag, 0x80 | size]) + length.to_bytes(size, "big") + content
