"""`keen-matrix draft`: a first spec from a program's own help text."""

from __future__ import annotations

import argparse
import os
import shlex
import sys
from dataclasses import replace
from typing import TYPE_CHECKING, Any

from keen_matrix.core.errors import KeenMatrixError, Misuse, RunFault

if TYPE_CHECKING:
    from keen_matrix.core.signature.drafting import Draft
    from keen_matrix.core.signature.helptext import HelpText
    from keen_matrix.core.signature.signature import Signature

EPILOG = """\
examples:
  keen-matrix draft -- python3 fare.py              a first spec on standard output
  keen-matrix draft -o fare.matrix.toml -- ./fare   the same in a file, never over one that is there

The program is only asked for help: it is started with --help, -h, help, and with no words, in an empty directory and
with nothing on standard input, until one answer has a usage line or a list of options.
exit status: 0 a spec was drafted, 2 wrong usage, or a file that cannot be written,
3 the program cannot be launched or prints no help text
"""

HELP_WORDS: tuple[tuple[str, ...], ...] = (("--help",), ("-h",), ("-help",), ("help",), ())
"""What is tried, in this order. No other word is ever given to the program."""
HELP_SECONDS = 5.0


def add_options(parser: argparse.ArgumentParser) -> None:
    """Add the options of the command."""
    parser.add_argument(
        "-o", "--output", metavar="FILE", help="write the spec to FILE instead of standard output"
    )
    parser.add_argument(
        "program", nargs="+", metavar="WORD", help="the words that start the program, after --"
    )


def main(options: argparse.Namespace) -> int:
    """Run the command and return the exit status."""
    from keen_matrix.core.signature.drafting import draft_signature

    options.program = _apart(options.program)
    words = [_absolute(word) for word in options.program]
    asked, page = help_of(words)
    draft = draft_signature(page, options.program)
    draft.help = draft.help or [each for each in asked if each]
    text = spec_text(draft, options.program, asked, os.path.dirname(options.output or "") or ".")
    if options.output is None:
        sys.stdout.write(text)
        return 0
    try:
        with open(options.output, "x", encoding="utf-8") as file:
            file.write(text)
    except OSError as error:
        raise Misuse(f"{options.output} cannot be written: {error.strerror}") from None
    print(f"{options.output} written; next: keen-matrix run {options.output}")
    return 0


def _apart(program: list[str]) -> list[str]:
    """Return the words of a program that was given as one quoted text, as `run --program` takes
    it."""
    if (
        len(program) != 1
        or not any(each.isspace() for each in program[0])
        or os.path.exists(program[0])
    ):
        return program
    try:
        return shlex.split(program[0])
    except ValueError as error:
        raise Misuse(f"the program cannot be read as words: {error}") from None


def _absolute(word: str) -> str:
    return os.path.abspath(word) if os.sep in word or os.path.isfile(word) else word


def help_of(words: list[str]) -> tuple[tuple[str, ...], HelpText]:
    """Ask a program for help; return the words that got it and what was read. Raises RunFault when
    nothing came."""
    from keen_matrix.core.launch.engine import run
    from keen_matrix.core.model.case import Case
    from keen_matrix.core.signature.helptext import read_help

    spec = _asking_spec(words)
    best: tuple[tuple[str, ...], HelpText] | None = None
    sure = False
    for asked in HELP_WORDS:
        record = next(iter(run([Case(id="draft00000", matrix=0, argv=asked)], spec, jobs=1)))
        for stream in ("stdout", "stderr"):
            page = read_help(record.stdout or "" if stream == "stdout" else record.stderr or "")
            full = bool(page.usages and (page.options or page.operands))
            if full and stream == "stdout" and record.exit == 0:
                return asked, page
            if (full and not sure) or (best is None and (page.usages or len(page.options) > 1)):
                best, sure = (("",) if record.exit else asked, page), full
    if best is None:
        raise RunFault(
            "the program printed no usage line and no list of options when it was asked for help"
        )
    return best


def _asking_spec(words: list[str]) -> Any:
    """Return a spec with the program and nothing else."""
    from keen_matrix.core.expressions import Template
    from keen_matrix.core.model.spec import Matrix, Program, Spec, Step, Surroundings
    from keen_matrix.core.notation.nodes import Sequence

    step = Step(line=Sequence(()), surroundings=Surroundings(timeout=HELP_SECONDS))
    matrix = Matrix(index=0, name="help", line=Sequence(()), line_text="", axes={}, steps=(step,))
    program = Program(launch=tuple(Template(word, literal=True) for word in words))
    return Spec(
        path="draft",
        here=os.getcwd(),
        name="draft",
        digest="",
        program=program,
        rules=(),
        matrices=(matrix,),
    )


# --- the text ---


def spec_text(draft: Draft, program: list[str], asked: tuple[str, ...], folder: str) -> str:
    """Return a commented spec. It lints clean: what does not fit together stands in a comment."""
    from keen_matrix.core.signature.drafting import checked
    from keen_matrix.core.signature.requests import builders

    question = " ".join(asked) or "a word that it does not know"
    lines = [
        f"# Drafted from what the program prints for {question}. Guesses are marked; look at each before you trust a run.",
        "[program]",
        f"launch = {_launch(program, folder)}",
        "",
    ]
    example: list[str] | None = None
    try:
        signature = with_sample(checked(draft))
        request = next((made for each in builders(signature) if (made := each.smallest())), None)
        example = list(request.words()) if request else None
    except KeenMatrixError as error:
        draft.doubts.append(f"the signature did not fit together and is left out: {error}")
        lines += ["# " + line for line in _signature_lines(draft)]
    else:
        lines += _signature_lines(draft)
    lines += [f"# doubt: {each}" for each in dict.fromkeys(draft.doubts)]
    if example is not None and any(each.get("type") == "file" for each in draft.values.values()):
        lines += [
            "",
            "[files]",
            f'"{SAMPLE_FILE}" = "{SAMPLE_TEXT}"   # guess: a file that it can read',
        ]
    if example is None:  # with a signature a run tries the smallest vectors by itself
        lines += ["", "[[matrix]]", 'name = "first try"', f"line = {_array(draft.help[:1])}"]
        lines += [f"expect.exit = {0 if draft.help else '[0, 1, 2]'}     # guess"]
    return "\n".join(lines) + "\n"


SAMPLE_FILE, SAMPLE_TEXT = "sample.txt", "1 one\\n2 two\\n3 three\\n"
"""What a draft puts in place for a program that reads files."""


def with_sample(signature: Signature) -> Signature:
    """Return a signature whose files stand in the case's directory, as the draft puts one there."""
    from keen_matrix.core.signature.values import ExistingFile

    values = {
        name: replace(kind, known=frozenset({SAMPLE_FILE}))
        if isinstance(kind, ExistingFile)
        else kind
        for name, kind in signature.values.items()
    }
    return replace(signature, values=values)


def _signature_lines(draft: Draft) -> list[str]:
    lines = [
        "[signature]",
        f"synopsis = {_synopsis(draft.synopsis)}",
        f'style = "{draft.style}"                       # guess',
    ]
    lines.append(f"help = {_array(draft.help)}")
    lines.append(
        '# derive = ["help", "accepted", "refusals", "rephrasings", "effects", "again", "elsewhere"]'
    )
    names = [name for name in draft.notes if name in draft.values or draft.notes[name]]
    if any(name in draft.values for name in names):
        lines += ["", "[signature.values]"]
    for name in names:
        note = " ".join(draft.notes[name].split())
        comment = f"# {note[:100]}{'…' if len(note) > 100 else ''}" if note else ""
        if name in draft.values:
            table = ", ".join(
                f"{key} = {_value(value)}" for key, value in draft.values[name].items()
            )
            lines.append(
                f"{_key(name)} = {{ {table} }}   # guess{'; ' + comment[2:] if comment else ''}"
            )
        elif comment:
            lines.append(f"# {name}: a text? {note[:100]}")
    return lines


def _synopsis(lines: list[str]) -> str:
    if len(lines) == 1:
        return _text(lines[0])
    return "[\n" + "".join(f"  {_text(line)},\n" for line in lines) + "]"


def _launch(program: list[str], folder: str) -> str:
    words = []
    for word in program:
        if os.path.isfile(word) and (os.sep in word or word not in _path_programs()):
            words.append("{here}/" + os.path.relpath(word, folder))
        else:
            words.append(word.replace("{", "{{").replace("}", "}}"))
    plain = all(word and not set(word) & set(" \t'\"\\") for word in words)
    return _text(" ".join(words)) if plain else _array(words)


def _path_programs() -> set[str]:
    import shutil

    return {word for word in ("python3", "node", "sh") if shutil.which(word)}


def _text(text: str) -> str:
    import json

    return json.dumps(text, ensure_ascii=False).replace("\x7f", "\\u007f")


def _array(words: list[str]) -> str:
    return "[" + ", ".join(map(_text, words)) + "]"


def _key(name: str) -> str:
    return (
        name if name.replace("_", "").replace("-", "").isalnum() and name.isascii() else _text(name)
    )


def _value(value: object) -> str:
    if isinstance(value, list):
        return _array([str(each) for each in value])
    return _text(value) if isinstance(value, str) else str(value)
