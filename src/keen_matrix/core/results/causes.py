"""What failures have in common: what the program did, not how the vectors look.

Derived vectors that fail with the same message, the vector's own words aside, the same end and the
same unmet aspects are one cause, whichever family and kind they are of. Those at which a program
says nothing that tells them apart, such as refusals that it accepts, are one cause a kind, and
those that end well and fail at the same lines of the spec are one cause."""

from __future__ import annotations

import re
from collections.abc import Iterable

from keen_matrix.core.expect.naming import is_named, without_usage
from keen_matrix.core.model.record import FROM_WORST, AspectRecord, Record, end_of

_NUMBERS = re.compile(r"\d+")
_QUOTED = re.compile(r"(['\"‘“`])[^'\"’”`]*(['\"’”`])")
#: Characters kept of what a program said.
ANSWER_LENGTH = 200
#: Characters of a text by which causes are told apart.
LONGEST_COMPARED = 500


def cause_key(fields: Record) -> tuple[object, ...]:
    """Return what two failures of one spec must share to count as one cause."""
    failed = [each for each in fields.aspects if not each.met]
    # By what its control said, without the vector's own words: all that stand on it are one cause.
    if fields.verdict == "blocked":
        return ("control", _masked(str(failed[0].actual), _words(fields.control), fields))
    if fields.verdict == "unchecked" and fields.hollow:
        return ("hollow", fields.hollow)
    plain = not fields.detail or fields.kind == "smallest"
    if fields.family == "accepted" and plain and fields.verdict == "failed":
        # what is blocked may stand on it: the same cause, of which this one was launched
        return ("control", _masked(answer_of(fields), _words(fields.argv), fields))
    # Of vectors that somebody wrote the texts count: a matrix is about one thing, and its cases may
    # fail in many ways.
    if not fields.family:
        ends = ((each.aspect, each.form, *_texts(each, _words(fields.argv))) for each in failed)
        return (fields.matrix, fields.verdict, *ends)
    if fields.detail and fields.family == "accepted":  # what clashes is told once already
        return (fields.verdict, fields.kind, fields.culprit)
    if is_other_exit(fields):
        # one status that a program has for its refusals is one thing, whatever it refuses
        return ("refused with", fields.exit)
    did = dict.fromkeys((each.aspect, each.form, *_end(each)) for each in failed)
    said = _masked(without_usage(fields.stderr or ""), _words(fields.argv), fields)
    if (
        not said
        and fields.verdict == "failed"
        and all(each.rule and each.aspect != "exit" for each in failed)
    ):
        # an expectation for all of the program's vectors says otherwise, whatever the vector is
        # about
        return ("expected", *dict.fromkeys((each.aspect, each.rule) for each in failed))
    # A program that says nothing gives no other clue than the kind of the vector.
    if not said or fields.family == "help":
        return (fields.verdict, fields.family, fields.kind, *did)
    # The message alone, across families: an option that a program does not know fails in all of
    # them.
    return (fields.verdict, said, *did)


def is_other_exit(fields: Record) -> bool:
    """Tell whether a call was refused as it should be, but for the exit status."""
    ended_badly = fields.exit is not None and fields.exit != 0
    only_exit = {each.aspect for each in fields.unmet} == {"exit"}
    return fields.family == "refusals" and fields.verdict == "failed" and ended_badly and only_exit


def statement_of(fields: Record) -> str:
    """Return what would state in the spec that a vector is refused which the signature accepts:
    what experiments found out before, or two options that the message names, or the value at an
    edge; an empty text where nothing tells."""
    if is_other_exit(fields):
        return f"refusal.exit = {fields.exit}, or refusal.{fields.kind}.exit for this kind alone"
    if fields.detail or fields.family != "accepted" or fields.verdict != "failed":
        return fields.detail
    # One that is accepted, and only prints something else, was not refused for its words.
    if fields.exit == 0 and not any(each.aspect == "exit" for each in fields.unmet):
        return ""
    said = without_usage(fields.stderr or "")
    spelt = dict.fromkeys(each.split("=")[0] for each in fields.argv if _OPTION.match(each))
    named = [each for each in spelt if is_named(each, said)]
    # A message that names three or more is most likely a usage text.
    if len(named) == 2:
        return f"synopsis: [{' | '.join(named)}]"
    if fields.kind == "edge":
        return f"values.{fields.culprit}: bounds, or examples, without the value that is refused"
    return ""


_OPTION = re.compile(r"-[A-Za-z?]$|-{1,2}[A-Za-z][\w-]+")


def answer_of(fields: Record) -> str:
    """Return how a launch ended and what it said, in a line; of a crash the words that name the
    error, and not that a traceback follows."""
    crash = next((each.actual for each in fields.unmet if each.aspect == "crash"), None)
    if crash:
        return f"crashed: {crash[:ANSWER_LENGTH]}"
    said = without_usage(fields.stderr or "") or fields.stderr or fields.stdout or ""
    line = next((each.strip() for each in said.splitlines() if each.strip()), "")
    end = end_of(fields)
    return f"{end}: {line[:ANSWER_LENGTH]}" if line else end


def telling(fields: Record) -> tuple[int, bool, int, int]:
    """Return by what the causes of a run are put in order, and which case stands for a cause: the
    worst first, what clashes before what may follow from it, the shortest vector."""
    clashes = bool(fields.detail) and fields.family == "accepted"
    words = len(fields.argv), sum(map(len, fields.argv))
    return (FROM_WORST.index(fields.verdict), not clashes, *words)


def _words(argv: Iterable[str]) -> list[str]:
    """Return the words of a vector that a message may repeat, the longest first; of an option with
    its value also both parts."""
    found = set()
    for word in argv:
        found |= {word, word.split("=", 1)[0], word.lstrip("-"), *word.lstrip("-").split("=", 1)}
    return sorted((each for each in found if len(each) > 1), key=lambda each: (-len(each), each))


_SPELLING = re.compile(r"(?<![\w-])--?[A-Za-z][\w-]*")


def _masked(message: str, words: list[str], fields: Record) -> str:
    """Return the first line of a message without what is particular to one vector: its words, the
    culprit, options, numbers, and what stands in quotes."""
    line = next((each.strip() for each in message.splitlines() if each.strip()), "")
    if "Traceback" in line:  # the last line of it says what went wrong
        line = next((each.strip() for each in reversed(message.splitlines()) if each.strip()), line)
    line = line[:LONGEST_COMPARED]
    # a value that is joined to its option is no word of the vector
    if fields.culprit and not _SPELLING.fullmatch(fields.culprit):
        line = line.replace(fields.culprit, "\x01")
    for word in words:
        line = re.sub(rf"(?<![\w-]){re.escape(word)}(?!\w)", "\x01", line)
    # An option may be named by another of its spellings than the vector has.
    line = _SPELLING.sub("\x01", _QUOTED.sub("\x01", line))
    return _NUMBERS.sub("\x02", line)


def _end(aspect: AspectRecord) -> tuple[str, ...]:
    """Return how a launch ended, or what error went unhandled, as far as it tells causes apart."""
    if aspect.aspect == "exit":
        return (str(aspect.actual),)
    if aspect.aspect == "crash":
        return tuple(str(aspect.actual).split(":")[:2])
    return ()


def _texts(aspect: AspectRecord, words: list[str]) -> tuple[str, str]:
    texts = []
    for text in (aspect.expected or "", aspect.actual or ""):
        text = text[:LONGEST_COMPARED]
        for word in words:
            text = text.replace(word, "\x01")
        texts.append(text if aspect.aspect == "exit" else _NUMBERS.sub("\x02", text))
    return texts[0], texts[1]
