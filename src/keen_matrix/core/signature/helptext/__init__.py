"""Reading help texts: every layout that fits is tried, and the one that understands most is
taken."""

from __future__ import annotations

from keen_matrix.core.signature.helptext.heads import option_of, written_name
from keen_matrix.core.signature.helptext.layouts import LAYOUTS, HelpLayout
from keen_matrix.core.signature.helptext.page import HelpCommand, HelpOperand, HelpOption, HelpText
from keen_matrix.core.signature.helptext.reading import MOST_TEXT, read_help
from keen_matrix.core.signature.helptext.texts import bounds_in, choices_in, default_in, range_in, words_in

__all__ = [
    "LAYOUTS",
    "MOST_TEXT",
    "HelpCommand",
    "HelpLayout",
    "HelpOperand",
    "HelpOption",
    "HelpText",
    "bounds_in",
    "choices_in",
    "default_in",
    "option_of",
    "range_in",
    "read_help",
    "words_in",
    "written_name",
]
