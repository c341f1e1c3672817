"""Lines of a journal: records, headers and closing lines as JSON, written and read with their
shape checked."""

from __future__ import annotations

import json

from keen_matrix.core import structs
from keen_matrix.core.model.record import Finished, Header, Line, Record
from keen_matrix.core.model.signals import signal_number

_RECORD = structs.json.Decoder(Record)
_ENCODER = structs.json.Encoder()


def encode(value: object) -> bytes:
    """Return a record, header or closing line as one line of JSON, its newline included."""
    try:
        return _ENCODER.encode(value) + b"\n"
    except UnicodeEncodeError:  # half a surrogate: a byte of a path or a word that is no UTF-8
        plain = structs.to_builtins(value)
        text = json.dumps(plain, ensure_ascii=False, separators=(",", ":"), check_circular=False)
        return (text + "\n").encode("utf-8", "backslashreplace")


def decode(line: bytes) -> Line | None:
    """Return what a line of a journal says; None of an object that is none of its kinds, which a
    later edition may write.

    Raises ValueError with what is wrong with it, or with nothing more to say where it is no JSON.
    """
    if line.startswith(b'{"id"'):
        try:
            return _checked(_RECORD.decode(line))
        except structs.ValidationError as error:
            raise ValueError(_in_words(str(error))) from None
        except (structs.DecodeError, RecursionError):
            pass  # perhaps half a surrogate, which the slower reader takes
    return _typed(_parsed(line))


def decode_record(line: bytes) -> Record:
    """Return the record that a line of our own making is."""
    found = decode(line)
    if not isinstance(found, Record):
        raise ValueError("this is not the record of a case")
    return found


def _parsed(line: bytes) -> object:
    try:
        return json.loads(line)
    except RecursionError:
        raise ValueError("values are nested too deep") from None
    except ValueError:
        raise ValueError("") from None


def _typed(value: object) -> Line | None:
    if not isinstance(value, dict):
        raise ValueError("expected an object")
    try:
        if "id" in value:
            return _checked(structs.convert(value, Record))
        if "journal" in value:
            return structs.convert(value, Header)
        return structs.convert(value, Finished) if "finished" in value else None
    except structs.ValidationError as error:
        raise ValueError(_in_words(str(error))) from None


def _checked(record: Record) -> Record:
    """Return a record in which also that is right which types do not tell. Raises ValueError."""
    ends = [
        record.signal,
        record.stopped,
        *(name for step in record.steps for name in (step.signal, step.stopped)),
    ]
    for name in ends:
        if name is not None:
            signal_number(name)
    for aspect in record.aspects:
        if not aspect.met and (not aspect.form or aspect.expected is None or aspect.actual is None):
            raise ValueError(
                f'the aspect "{aspect.aspect}" is not met; expected its "form", "expected" and "actual"'
            )
    return record


_KINDS = {
    "str": "a text",
    "int": "a whole number",
    "float": "a number",
    "object": "an object",
    "array": "an array",
    "bool": "true or false",
    "null": "null",
}


def _in_words(message: str) -> str:
    """Return a message of the decoder in our words: `Expected `str`, got `int` - at
    `$.argv[1]``."""
    import re

    text, _, path = message.partition(" - at ")
    where = re.sub(r"^\$\.?", "", path.strip("`")).replace("[...]", ", one of its values")
    missing = re.match(r"Object missing required field `(.*)`", text)
    if missing:
        return f'"{where}.{missing[1]}" is missing' if where else f'"{missing[1]}" is missing'
    wrong = re.match(r"Expected `(.*)`, got `(.*)`", text)
    if wrong:
        wanted = " or ".join(_KINDS.get(each, each) for each in wrong[1].split(" | "))
        what = f'"{where}" is' if where else "this is"
        return f"{what} {_KINDS.get(wrong[2], wrong[2])}; expected {wanted}"
    unknown = re.match(r"Invalid enum value '?(.*?)'?$", text)
    if unknown:
        return f'"{where}" is {unknown[1]!r}, which is not one of its values'
    return f'"{where}": {text}' if where else text
