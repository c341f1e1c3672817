"""The line that repeats a case by hand."""

from __future__ import annotations

import shlex
from collections.abc import Sequence

from keen_matrix.core.model.record import CaseFields
from keen_matrix.core.structs import Struct, field
from keen_matrix.core.vectors.ids import SHOWN_ID
from keen_matrix.wording.safe import exact_line, is_written_whole, quoted
from keen_matrix.wording.safe import shell_line as visible_words
from keen_matrix.wording.safe import shell_word as visible_word

#: Characters of standard input that are in a line which repeats a case.
MOST_STDIN = 200
#: Replies that such a line names.
MOST_REPLIES = 6
INEXACT = "not exact, it has invisible characters: keen-matrix replay {id} --script FILE"


def answering(replies: Sequence[str]) -> str:
    """Return how a line says what is typed at prompts."""
    shown = ", ".join(quoted(each, 30) for each in replies[:MOST_REPLIES])
    more = f" and {len(replies) - MOST_REPLIES} more" if len(replies) > MOST_REPLIES else ""
    return f"answering {shown}{more}" if replies else "answering nothing"


class AroundShown(Struct):
    """What stood around the words of a case, as far as it could be worked out again."""

    #: Variables that the spec sets, and (None) those that it takes away.
    env: dict[str, str | None] = field(default_factory=dict)
    #: The names of files that were put in place.
    files: list[str] = field(default_factory=list)
    #: What a line of a shell cannot say.
    notes: list[str] = field(default_factory=list)
    #: The text of standard input; a file, a command or nothing may be in its place.
    stdin: str = ""
    file: str = ""
    #: A line of the shell whose output is read.
    command: str = ""
    closed: bool = False
    #: Whether the command cannot be written out as it is.
    inexact: bool = False


def repeat_line(launch: Sequence[str], fields: CaseFields, around: AroundShown) -> str:
    """Return the line that repeats a case by hand in POSIX sh: environment and standard input
    before the words.

    Newlines are in it as they are, inside quotes. What contains other invisible characters is
    not repeated exactly, which a comment at the end says, with the way to do it.
    """
    compared = bool(fields.relation)  # what it is compared with stands beside the difference
    own = [fields.argv, *(() if compared else fields.more_argv)]
    others = {number + len(fields.before) for number in fields.others}
    steps = [*fields.before, *own]
    stdin = around.stdin
    texts = [
        *launch,
        *(word for words in steps for word in words),
        *filter(None, around.env.values()),
        stdin if len(stdin) <= MOST_STDIN else "",
        around.file,
    ]
    exact = not around.inexact and all(map(is_written_whole, texts))
    shell_line, shell_word = (exact_line, shlex.quote) if exact else (visible_words, visible_word)
    line = " ; ".join(
        shell_line(words if number in others else [*launch, *words]) for number, words in enumerate(steps)
    )
    env = "".join(f"{name}={shell_word(value)} " for name, value in around.env.items() if value is not None)
    unset = [name for name, value in around.env.items() if value is None]
    if unset:
        env = f"env {' '.join(f'-u {shell_word(name)}' for name in unset)} {env}"
    line = env + line
    if stdin:
        line = f"printf %s {shell_word(stdin)} | {line}" if len(stdin) <= MOST_STDIN else f"{line} < STDIN"
    elif around.file:
        line += f" < {shell_word(around.file)}"
    elif around.command:
        line = f"{around.command} | {line}"
    elif around.closed:
        line += " <&-"
    notes = [
        *([f"with {', '.join(around.files)} in place"] if around.files else []),
        *around.notes,
        *([] if exact else [INEXACT.format(id=fields.id[:SHOWN_ID])]),
    ]
    return f"{line}   # {', '.join(notes)}" if notes else line
