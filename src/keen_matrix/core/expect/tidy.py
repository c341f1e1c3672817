"""What an accepted vector is not expected to leave or print: files that no word names, signs that
are for terminals. Remarked on; an expectation where the signature says `tidy`."""

from __future__ import annotations

import re
from collections.abc import Iterator

from keen_matrix.core.expect.context import CheckContext
from keen_matrix.core.expect.mismatch import Mismatch
from keen_matrix.core.model.outcome import Outcome
from keen_matrix.core.structs import Struct

#: Control characters except for white space: tab, newline, form feed, carriage return.
_CONTROLS = re.compile(rb"[\x00-\x08\x0b\x0e-\x1f\x7f]")
MOST_NAMED = 3


class TidyAspect(Struct, frozen=True):
    """Nothing is left that nothing names, and no control characters go to a pipe."""

    is_expected: bool

    def check(self, outcome: Outcome, context: CheckContext) -> Iterator[Mismatch]:
        """Yield what is untidy."""
        if strays := stray_files(outcome, context):
            yield Mismatch(form="stray", expected="", actual=", ".join(strays[:MOST_NAMED]))
        if sign := control_sign(outcome):
            yield Mismatch(form="controls", expected="", actual=sign)

    def remarks(self, outcome: Outcome, context: CheckContext) -> Iterator[str]:
        """Yield the same as remarks, where it is not expected otherwise."""
        if strays := stray_files(outcome, context):
            yield (
                f"it leaves {', '.join(strays[:MOST_NAMED])}, which no word of the call names; tidy = "
                f"true forbids it"
            )
        if sign := control_sign(outcome):
            yield f"it prints the control character {sign} to a pipe; tidy = true refuses it"


def stray_files(outcome: Outcome, context: CheckContext) -> list[str]:
    """Return the files that a launch made and no word of its vector names."""
    made = [name for name, change in outcome.files.items() if change.state == "created"]
    found = context.scope.names.get("words") if made else None
    words = [str(each) for each in found] if isinstance(found, list) else []
    texts = [part for word in words for part in (word, word.rpartition("=")[2]) if len(part) > 1]
    return [name for name in made if not any(each in name or name in each for each in texts)]


def control_sign(outcome: Outcome) -> str:
    """Return the first control sign in a text on standard output; none of what is no text."""
    try:
        outcome.stdout.decode("utf-8")
    except UnicodeDecodeError:
        return ""
    found = _CONTROLS.search(outcome.stdout)
    return f"\\x{found[0][0]:02x}" if found is not None else ""
