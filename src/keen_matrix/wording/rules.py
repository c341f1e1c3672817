"""Ids of what can be wrong in a spec, for systems that collect and mute results by id (SARIF
2.1.0, section 3.27.5). An id stays when a sentence is reworded: it is interface."""

from __future__ import annotations

import re

#: Id → what its messages say. The first that fits counts.
_RULES: tuple[tuple[str, str], ...] = (
    (
        "invalid-toml",
        r"not valid TOML|not UTF-8|TOML|nested too deep|is here and (also|again)|closed at the end",
    ),
    (
        "unreadable-file",
        r"cannot be read|does not exist|is not a file|not valid CSV|header|more than [\d,]+ bytes"
        r"|has no lines|fields; expected|more than a spec may have",
    ),
    ("unknown-key", r"^unknown key|is not a key|unknown key"),
    (
        "missing-key",
        r"is missing|expected exactly one of|expected either|is given without|needs \"|needs a \[",
    ),
    ("excluded-key", r"does not go with|do not go together"),
    (
        "duplicate-name",
        r"are named|is an axis and a column|occurs twice|two different options|derived family",
    ),
    (
        "never-used",
        r"is not used anywhere|can never be|always true|always false|a single value|twice$|never arrives",
    ),
    (
        "nothing-checked",
        r"nothing is checked|would be checked|never checked|what the rule asks|met by every output",
    ),
    ("no-cases", r"no call can be made|no case is left|has no cases|gives no value|no values"),
    ("runner", r"is a runner"),
    ("too-many-cases", r"\bcases$|has more than|are more than|cannot draw|needs at least as many axes"),
    (
        "unknown-name",
        r"is neither|has no (value|option|column|group)|unknown (function|kind)|not defined|is not a value",
    ),
    ("wrong-expression", r"expression|brace|no value here yet|in every case that was tried"),
    (
        "wrong-notation",
        r"synopsis|spelling|closes nothing|never closed|outside a group|no space before|alternative is"
        r"|escapes nothing|NAME in capitals|is not a range|nested more than|optional value|expected \"|repeated",
    ),
)
#: A value of the wrong type, outside its bounds, or not one of its choices.
USUAL_RULE = "wrong-value"
RULE_IDS = (*(name for name, _ in _RULES), USUAL_RULE)
_COMPILED = tuple((name, re.compile(pattern)) for name, pattern in _RULES)


def rule_id(message: str) -> str:
    """Return the id of what a message says is wrong."""
    return next((name for name, pattern in _COMPILED if pattern.search(message)), USUAL_RULE)
