"""How wide a text is on a terminal."""

from __future__ import annotations

import unicodedata


def cells(text: str) -> int:
    """Return the width of a text in terminal cells: wide characters count two, combining ones none
    (UAX #11)."""
    if text.isascii():
        return len(text)
    return sum(
        0 if unicodedata.combining(each) else 2 if unicodedata.east_asian_width(each) in "WF" else 1
        for each in text
    )
