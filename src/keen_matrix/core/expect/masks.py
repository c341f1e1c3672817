"""Masks: what varies from run to run is replaced in both sides before they are compared."""

from __future__ import annotations

from collections.abc import Sequence
from typing import NamedTuple

from keen_matrix.core.structs import Struct

MASK_SECONDS = 2.0
#: What stands for what varies on its own.
VARIES = "<varies>"


class Mask(NamedTuple):
    """A regular expression, what is put in its place, and where."""

    pattern: str
    text: str
    where: tuple[str, ...] = ("stdout", "stderr", "files")
    origin: str = ""


class Masked(Struct, frozen=True):
    """A masked text, and the numbers of the masks that found something in it."""

    text: bytes
    used: frozenset[int]


def mask(raw: bytes, masks: Sequence[Mask], where: str) -> Masked:
    """Return a text with everything masked that may be masked there. Raises ValueError when a
    pattern takes too long."""
    import regex

    text = raw.decode("utf-8", "surrogateescape")
    used = set()
    for number, each in enumerate(masks):
        if where not in each.where:
            continue
        try:
            text, count = regex.compile(each.pattern).subn(each.text, text, timeout=MASK_SECONDS)
        except TimeoutError:
            raise ValueError(f"the mask {each.pattern} took longer than {MASK_SECONDS:g} s") from None
        if count:
            used.add(number)
    return Masked(text.encode("utf-8", "surrogateescape"), frozenset(used))


def masked_expectation(text: str, masks: Sequence[Mask]) -> str:
    """Return an expected text with the masks of its case applied, wherever they are meant for."""
    if not masks:
        return text
    import regex

    for each in masks:
        text = regex.sub(each.pattern, each.text, text)
    return text
