"""The text of a first spec: what a draft knows, with comments on what it guessed."""

from __future__ import annotations

import json
from collections.abc import Mapping, Sequence

from keen_matrix.core.errors import KeenMatrixError, Misuse
from keen_matrix.core.notation.synopsis import parse_synopsis
from keen_matrix.core.signature.drafting import Draft, checked
from keen_matrix.core.signature.requests import builders
from keen_matrix.core.signature.signature import Signature
from keen_matrix.core.signature.values import ExistingFile
from keen_matrix.core.structs import replace

#: What a draft puts in place for a program that reads files: sorted by each column, for what asks
#: for that.
SAMPLE_FILE, SAMPLE_LINES = "sample.txt", "1 anchor\n2 bow\n3 cabin\n"
#: Characters of a synopsis that are in one line of the spec; a longer one has an item a line.
LONGEST_LINE = 90
LONGEST_NOTE = 100
FAMILIES = "help, accepted, refusals, rephrasings, effects, again, elsewhere"


def spec_text(draft: Draft, program: Sequence[str], source: str) -> str:
    """Return a commented spec. It lints clean: what does not fit together is in a comment.

    `program` are the lines of its table, `source` says what the draft was made of."""
    lines = [
        f"# Drafted from {source}. Guesses are marked; look at each before you trust a run.",
        "[program]",
        *program,
        "",
    ]
    fits = True
    try:
        signature = with_sample_file(checked(draft))
        if all(each.smallest() is None for each in builders(signature)):
            raise Misuse("no call can be made that it accepts")
    except KeenMatrixError as error:
        draft.doubts.append(f"the signature did not fit together and is left out: {error}")
        lines += ["# " + line for text in _signature_lines(draft) for line in text.split("\n")]
        fits = False
    else:
        lines += _signature_lines(draft)
    lines += [f"# doubt: {' '.join(each.split())}" for each in dict.fromkeys(draft.doubts)]
    if fits and any(each.get("type") == "file" for each in draft.values.values()):
        sample = f"{_text(SAMPLE_FILE)} = {_text(SAMPLE_LINES)}   # guess: a file that it can read"
        lines += ["", "[files]", sample]
    if not fits:  # with a signature a run tries the smallest calls by itself
        lines += ["", "[[matrix]]", 'name = "first try"', f"line = {_array(draft.help[:1])}"]
        lines += [f"expect.exit = {0 if draft.help else '[0, 1, 2]'}     # guess"]
    return "\n".join(lines) + "\n"


def with_sample_file(signature: Signature) -> Signature:
    """Return a signature whose files are in the case's directory, as the draft puts one there."""
    values = {
        name: replace(kind, known=frozenset({SAMPLE_FILE})) if isinstance(kind, ExistingFile) else kind
        for name, kind in signature.values.items()
    }
    return replace(signature, values=values)


def _signature_lines(draft: Draft) -> list[str]:
    """Return the table of the signature, and those of its values."""
    lines = ["[signature]", f"synopsis = {synopsis_text(draft.synopsis)}"]
    if draft.reader:
        guess = f"   # guess: {draft.reader_told_by}" if draft.reader_told_by else ""
        lines.append(f'reader = "{draft.reader}"{guess}')
    else:
        lines.append(f'style = "{draft.style}"                       # guess')
    lines.append(f"help = {_array(draft.help)}")
    if draft.actions:
        lines.append(f"actions = {_array(draft.actions)}")
    lines += [f"{key} = {value_text(value)}" for key, value in draft.switches.items()]
    words = ", ".join(f'"{each}"' for each in FAMILIES.split(", "))
    lines.append(f"# derive = [{words}]")
    names = [name for name in draft.notes if name in draft.values or draft.notes[name]]
    if any(name in draft.values for name in names):
        lines += ["", "[signature.values]"]
    lines += [_value_line(draft, name) for name in names]
    return lines


def _value_line(draft: Draft, name: str) -> str:
    """Return the line of a NAME: its type, or a comment on what is not known."""
    note = " ".join(draft.notes[name].split())
    note = note[:LONGEST_NOTE] + ("…" if len(note) > LONGEST_NOTE else "")
    if name not in draft.values:
        return f"# {name}: a text? {note}"
    table = value_text(draft.values[name])
    told = "; ".join(filter(None, ("" if name in draft.sure else "guess", note)))
    return f"{_key(name)} = {table}" + (f"   # {told}" if told else "")


def synopsis_text(lines: Sequence[str]) -> str:
    """Return the synopsis: one line, or an item a line where it is long."""
    broken = max(map(len, lines)) > LONGEST_LINE
    if len(lines) == 1:
        return _form(lines[0], "", broken=broken)
    return "[\n" + "".join(f"  {_form(line, '  ', broken=broken)},\n" for line in lines) + "]"


def _form(line: str, indent: str, *, broken: bool) -> str:
    if not broken:
        return _text(line)
    items = [str(item) for item in parse_synopsis(line).items]
    inner = "\n".join(f"{indent}  {_text(each)[1:-1]}" for each in items)
    return f'"""\n{inner}\n{indent}"""'


def _text(text: str) -> str:
    return json.dumps(text, ensure_ascii=False).replace("\x7f", "\\u007f")


def _array(words: Sequence[object]) -> str:
    return "[" + ", ".join(map(value_text, words)) + "]"


def _key(name: str) -> str:
    bare = name.replace("_", "").replace("-", "")
    return name if bare.isalnum() and name.isascii() else _text(name)


def value_text(value: object) -> str:
    """Return a value as a spec writes it."""
    if isinstance(value, (list, tuple)):
        return _array(value)
    if isinstance(value, Mapping):
        inner = ", ".join(f"{_key(key)} = {value_text(each)}" for key, each in value.items())
        return f"{{ {inner} }}"
    if isinstance(value, bool):
        return str(value).lower()
    return _text(value) if isinstance(value, str) else str(value)
