"""Value types: what texts a value may be, which lie at the edge of that, which are plainly wrong,
and which are doubtful. One class a type.
"""

from __future__ import annotations

from collections.abc import Mapping

from keen_matrix.core.signature.values.base import LEGAL, Status, TypeName, ValueReading, ValueType
from keen_matrix.core.signature.values.choices import Boolean, OneOf
from keen_matrix.core.signature.values.days import Day
from keen_matrix.core.signature.values.durations import Duration
from keen_matrix.core.signature.values.lists import Listed, listed
from keen_matrix.core.signature.values.numbers import Fraction, Whole
from keen_matrix.core.signature.values.paths import (
    ABSENT_FILE,
    Existing,
    ExistingDirectory,
    ExistingFile,
    Path,
)
from keen_matrix.core.signature.values.text import Text

#: The word in specs -> the class.
TYPES: Mapping[str, type[ValueType]] = {
    each.type: each
    for each in (Text, Whole, Fraction, Boolean, OneOf, Day, Duration, ExistingFile, ExistingDirectory, Path)
}

__all__ = [
    "ABSENT_FILE",
    "LEGAL",
    "TYPES",
    "Boolean",
    "Day",
    "Duration",
    "Existing",
    "ExistingDirectory",
    "ExistingFile",
    "Fraction",
    "Listed",
    "OneOf",
    "Path",
    "Status",
    "Text",
    "TypeName",
    "ValueReading",
    "ValueType",
    "Whole",
    "listed",
]
