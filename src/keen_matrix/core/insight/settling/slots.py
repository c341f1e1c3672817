"""Where values are in a request, and the words that are tried there."""

from __future__ import annotations

from typing import NamedTuple

from keen_matrix.core.spec.drafted import SAMPLE_FILE

#: Type → a word of it.
USUAL = {
    "int": "2",
    "float": "1.5",
    "file": SAMPLE_FILE,
    "dir": ".",
    "date": "2025-06-01",
    "bool": "true",
    "duration": "5s",
}


#: Words that are of no type and that programs ask for.
OTHER_WORDS = (",", "1-2", "a=b", "%f", "10", "0", "a:b", "12:30")


PLAIN_WORD = "word"


#: Launches that each value of a refused vector gets for finding words that it is accepted with.
MOST_TRIES = 18


#: Choices of a message that are tried.
MOST_CHOICES = 12


FAR = "1000000000"


class ValueSlot(NamedTuple):
    """Where a value is in a request."""

    place: int | str
    number: int
    name: str
