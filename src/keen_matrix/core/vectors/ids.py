"""The ids of cases: short texts that stay the same as long as a case is what it is."""

from __future__ import annotations

from collections.abc import Iterable
from hashlib import blake2b

#: Digits and letters of ids: no i, l, o, u, which are taken for others.
ALPHABET = "0123456789abcdefghjkmnpqrstvwxyz"
#: Characters of an id: 50 bits, so that a million cases share none but once in two thousand
#: specs.
ID_LENGTH = 10
#: Characters of an id that people are shown; every command takes any beginning of an id.
SHOWN_ID = 6
SHORTEST_ID = 4

_PAIRS = tuple(first + second for first in ALPHABET for second in ALPHABET)


def case_id(key: Iterable[str]) -> str:
    """Return the id of a case from the texts that make it what it is, in order."""
    return case_id_of("\0".join(key))


def case_id_of(key: str) -> str:
    """Return the id of a case from its texts joined by NUL."""
    number = int.from_bytes(blake2b(key.encode("utf-8", "surrogateescape"), digest_size=8).digest(), "big")
    pairs = _PAIRS
    return "".join(
        (
            pairs[number & 1023],
            pairs[number >> 10 & 1023],
            pairs[number >> 20 & 1023],
            pairs[number >> 30 & 1023],
            pairs[number >> 40 & 1023],
        )
    )


def shard_of(id: str, parts: int) -> int:
    """Return the part, counted from 1, that a case belongs to: by its id alone, so that cases
    added later move no other."""
    number = 0
    for character in id:
        number = number * len(ALPHABET) + ALPHABET.index(character)
    return number % parts + 1
