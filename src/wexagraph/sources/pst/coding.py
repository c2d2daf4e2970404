"""The two published encodings of personal folder files, which hide nothing from anybody ([MS-PST] section 5)."""

from __future__ import annotations

from functools import lru_cache

_FIRST = bytes.fromhex(
    "41361362a8216ebbf416cc047f64e85d1ef2cb2a74c55e35d295479e962d9a884c7d843fdbac31b6485ff6c4d8398be7"
    "233b388ec8c1df25b120a546604e9cfbaad35651457c550007c92b9d859b09a08fadb30f63ab894bd7a7155a716642bf"
    "264a6b98faea7753b270052cfd593a867ece06eb827857c78d43afb41cd45bcde2e9274fc3087280cfb0eff5286dbe30"
    "4d3492d50e3c2232e5e4f99fc2d10a8112e1ee918376e397e6618a1779a4b7dc907a5c8c02a6ca69de501a1193b95287"
    "58fced1d37491b6ae0293399bd6cd994f340546ff0c673b8d63e6518441fdd6710f10c19ecae03a1147ba90bfff8a3c0"
    "a201f72ebc2468750dfeba2fb5d0da3d"
)
"""The first table of the section; the third is its inverse."""
_SECOND = bytes.fromhex(
    "14530f56b3c87a9ceb65481716159f02cc547c83000d0c0ba262a876dbd9edc7c5a4dcac8574d6d0a79bae9a967166c3"
    "6399b8dd73928e847da55ed15d93b1575150808952944f4e0a6bbc8d7f6e47464140440111cb033ff7f4e1a98f3c3af9"
    "fbf0193082092ec99da08649ee6f4d6dc42d813425871b88aafc06a11238fd4c4272641337246a757743ffe6b44b365c"
    "e4d8353d45b92cecb7312b290768a30e697b189e2139be281a5b78f523ca2ab0af3efe048ce7e5983295d3f64ae8a6ea"
    "e9f3d52f7020f21f0567ad5510cecde3273bdabad7c226d4911dd21c2233f8faf15aefcf90b68bb5bdc0bf08971e6ce2"
    "61e0c6c159abbb58de5fdf60797eb28a"
)
"""The second table, its own inverse."""
PERMUTED = bytes(_FIRST.index(value) for value in range(256))
"""Reads what was permuted: `data.translate(PERMUTED)`."""
_ADDED = [bytes((value + number) % 256 for value in range(256)) for number in range(256)]


@lru_cache(maxsize=256)
def _middle(high: int) -> bytes:
    """What happens to each byte between the two steps that depend on its place."""
    return bytes(PERMUTED[(_SECOND[(_FIRST[value] + high) % 256] - high) % 256] for value in range(256))


def cyclic(data: bytes, key: int) -> bytes:
    """Data encoded with a key, read; or encoded, since it is its own inverse."""
    counter = (key ^ key >> 16) & 0xFFFF
    low = counter & 255
    shifted = bytearray(len(data))
    places = range(min(256, len(data)))
    for place in places:
        shifted[place::256] = data[place::256].translate(_ADDED[(low + place) & 255])
    at, high = 0, counter >> 8
    while at < len(data):
        end = at + 256 - (low + at) % 256
        shifted[at:end] = shifted[at:end].translate(_middle(high & 255))
        at, high = end, high + 1
    out = bytearray(len(data))
    for place in places:
        out[place::256] = shifted[place::256].translate(_ADDED[-(low + place) & 255])
    return bytes(out)
