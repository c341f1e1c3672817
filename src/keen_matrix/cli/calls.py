"""Many calls of `keen-matrix try`: read, run and shown side by side, and written as rows of a
spec."""

from __future__ import annotations

import argparse
import os
import shlex
import sys
from collections.abc import Iterator, Sequence
from functools import lru_cache
from typing import TYPE_CHECKING, NamedTuple

from keen_matrix.cli.call_options import are_many
from keen_matrix.cli.shared import remark, text_of_spec
from keen_matrix.core.errors import Misuse, nearest
from keen_matrix.core.launch.launchers import resolved_launch
from keen_matrix.core.runs.keeping.call_rows import around_lines
from keen_matrix.core.runs.keeping.calls import Call, read_calls
from keen_matrix.core.runs.keeping.kept_texts import literal, toml_words
from keen_matrix.core.spec.editing import toml_text
from keen_matrix.core.spec.load import load_spec
from keen_matrix.core.structs import replace
from keen_matrix.core.vectors.unfold import unfold_matrix
from keen_matrix.wording.safe import shell_line
from keen_matrix.wording.signs import verdict_text

if TYPE_CHECKING:
    from keen_matrix.cli.console.screen import Screen
    from keen_matrix.core.launch.workers.engine import WorkerPool
    from keen_matrix.core.model.case import Case
    from keen_matrix.core.model.record import Record
    from keen_matrix.core.model.spec import Spec
    from keen_matrix.core.runs.keeping.call_rows import CallResult

#: Calls of one command at most: what is looked at side by side.
MOST_CALLS = 10_000
#: The names of the matrices in which calls stand while they run.
NAME = "call {}"


def calls_of(options: argparse.Namespace) -> list[Call] | None:
    """Return the calls that a command line lists one by one; None for a pattern or a matrix."""
    if options.calls is None:
        return None
    name = "standard input" if options.calls == "-" else options.calls
    text = _text_of(options.calls)
    found = read_calls(text, name)
    if not found:
        raise Misuse(f"{name} has no calls; write the words of one on each line")
    if len(found) > MOST_CALLS:
        raise Misuse(f"{name} has {len(found):,} calls; at most {MOST_CALLS:,} are looked at side by side")
    return found


@lru_cache(maxsize=1)
def _text_of(name: str) -> str:
    """Return the text of a file of calls; it is asked for twice, and a pipe only gives it once."""
    try:
        if name == "-":
            return sys.stdin.buffer.read().decode("utf-8", "surrogateescape")
        with open(name, encoding="utf-8", errors="surrogateescape") as file:
            return file.read()
    except OSError as error:
        raise Misuse(f"{name} cannot be read: {error.strerror}") from None


def common_of(options: argparse.Namespace) -> Call:
    """Return what every call gets, as a call without words. Raises Misuse."""
    env, files = [], []
    for each in options.env:
        name, equals, value = each.partition("=")
        if not equals or not name:
            raise Misuse(f"--env {each}: expected NAME=VALUE")
        env.append((name, value))
    for each in options.file:
        name, equals, source = each.partition("=")
        if not equals or not name or not os.path.exists(source):
            raise Misuse(f"--file {each}: expected NAME=SOURCE, a file that exists")
        files.append((name, source))
    if options.input_file is not None and not os.path.isfile(options.input_file):
        raise Misuse(f"--input-file {options.input_file}: there is no such file")
    return Call(
        words=(), env=tuple(env), files=tuple(files), stdin=options.input, stdin_file=options.input_file
    )


def call_matrices(calls: Sequence[Call], here: str, leading: Sequence[str] = ()) -> str:
    """Return a matrix for each call; `leading` are words in front of its own."""
    parts = []
    for number, call in enumerate(calls, 1):
        words = (*leading, *call.words)
        lines = ["[[matrix]]", f"name = {toml_text(NAME.format(number))}"]
        lines.append(f"line = {toml_words(words)}" if words else 'line = ""')
        parts.append("\n".join([*lines, *given_lines(call, here)]))
    return "\n".join(parts) + "\n"


def given_lines(call: Call, here: str) -> list[str]:
    """Return all that is put around a call, as lines of a matrix."""
    typed = [f"stdin = {toml_text(literal(call.stdin))}"] if call.stdin is not None else []
    return [*around_lines(call, here), *typed]


def pattern_matrix(options: argparse.Namespace, leading: Sequence[str], common: Call, here: str) -> str:
    """Return the matrix of a pattern with its axes. Raises Misuse."""
    lead = " ".join(shell_line([literal(each)]) for each in leading)
    lines = ["[[matrix]]", f"name = {toml_text(NAME.format(1))}"]
    lines.append(f"line = {toml_text(f'{lead} {options.line}'.strip())}")
    for each in options.axis:
        name, equals, values = each.partition("=")
        if not equals or not name.isidentifier():
            raise Misuse(f"--axis {each}: expected NAME=VALUE,VALUE")
        lines.append(f"axes.{name} = [{', '.join(map(toml_text, values.split(',')))}]")
    return "\n".join([*lines, *given_lines(common, here)]) + "\n"


class Asked(NamedTuple):
    """What calls are made of: a spec, or the program of one that could be written."""

    path: str
    text: str
    #: Words in front of each call's own.
    leading: tuple[str, ...]
    #: The call itself, where only one was typed.
    single: Call | None
    #: The beginning of a new spec of the program.
    beginning: str
    #: The program, as it is named to others.
    program: str


def asked_of(options: argparse.Namespace, paths: Sequence[str], words: Sequence[str] | None) -> Asked:
    """Return what the calls of a command line are made of. Raises Misuse."""
    listed = are_many(options)
    if paths:
        text = text_of_spec(paths[0])
        single = None if listed else Call(words=tuple(words or ()))
        return Asked(paths[0], text, tuple(words or ()) if listed else (), single, _head_of(text), paths[0])
    if not words:
        raise Misuse(
            "try needs the words that start a program after --: keen-matrix try --calls calls.txt -- python3 fare.py"
        )
    if options.write is not None:
        raise Misuse("--write needs the spec to write into; --new FILE begins one")
    from keen_matrix.core.runs.keeping.trying import bare_call, program_of

    program = tuple(program_of(words) or words)
    leading = tuple(words[len(program) :])
    calls = calls_of(options) or []
    more = [word for call in calls for word in call.words]
    bare = bare_call([*words, *more], in_place=options.in_place)
    head = bare.text.partition("[[matrix]]")[0]
    beginning = beginning_of(program, bare.copied, options.new or "new.toml")
    single = None if listed else Call(words=leading)
    return Asked("try.matrix.toml", head, leading if listed else (), single, beginning, shlex.join(program))


def beginning_of(program: Sequence[str], copied: Sequence[str], target: str) -> str:
    """Return the beginning of a new spec of a program: how it is launched, and the files that are
    put into the directory of each case."""
    from keen_matrix.core.spec.drafted import launch_text

    directory = os.path.dirname(os.path.abspath(target))
    lines = ["[program]", f"launch = {launch_text(program, directory)}"]
    lines += ["[files]"] if copied else []
    for each in copied:
        beside = "{here}/" + literal(os.path.relpath(os.path.abspath(each), directory))
        lines.append(f"{toml_text(literal(each))} = {{ copy = {toml_text(beside)} }}")
    return "\n".join(lines) + "\n"


def _head_of(text: str) -> str:
    """Return the tables of a spec before its first matrix, with which another one begins."""
    return text.partition("[[matrix]]")[0]


def with_calls(asked: Asked, options: argparse.Namespace) -> tuple[Spec, list[Case], list[Call] | None]:
    """Return a spec with the calls that a command line asks for, their cases in order, and the
    calls where they were listed."""
    if options.matrix:
        return (*_of_matrix(asked, options.matrix), None)
    common, here = common_of(options), os.path.dirname(os.path.abspath(asked.path))
    calls = [asked.single] if asked.single is not None else calls_of(options)
    if calls is None:
        more = pattern_matrix(options, asked.leading, common, here)
    else:
        calls = [each.with_common(common) for each in calls]
        more = call_matrices(calls, here, asked.leading)
    spec = load_spec(asked.path, f"{asked.text}\n{more}")
    count = len(calls) if calls is not None else 1
    own = [each for each in spec.matrices if not each.family][-count:]
    cases = [case for matrix in own for case in _few(unfold_matrix(spec, matrix))]
    return spec, cases, calls


def _of_matrix(asked: Asked, name: str) -> tuple[Spec, list[Case]]:
    spec = load_spec(asked.path, asked.text)
    named = [each for each in spec.matrices if each.name == name]
    if not named:
        hint = nearest(name, [each.name for each in spec.matrices])
        near = f'; did you mean "{hint}"?' if hint else ""
        raise Misuse(f'{asked.path} has no matrix "{name}"{near}')
    return spec, list(_few(unfold_matrix(spec, named[0])))


def _few(cases: Iterator[Case]) -> Iterator[Case]:
    for number, case in enumerate(cases):
        if number >= MOST_CALLS:
            raise Misuse(f"more than {MOST_CALLS:,} calls are too many to look at side by side")
        yield case


def run_calls(spec: Spec, cases: Sequence[Case], pool: WorkerPool) -> list[Record]:
    """Run cases and return their records, in the order of the cases."""
    from keen_matrix.core.runs.starting.once import used_by

    numbered = [_numbered(case, number) for number, case in enumerate(cases)]
    found: dict[int, Record] = {}
    with used_by(spec, pool, remark):
        pool.plan(spec, resolved_launch(spec))
        for result in pool.results(numbered):
            found[result.sequence] = result.record
    return [found[number] for number in range(len(cases))]


def _numbered(case: Case, number: int) -> Case:
    return replace(case, sequence=number)


def typed_lines(cases: Sequence[Case], calls: Sequence[Call] | None, leading: int) -> list[str]:
    """Return the calls as they are shown: their words, and what is put around them."""
    bare = Call(words=())
    return [
        call_line(replace(calls[number] if calls is not None else bare, words=case.argv[leading:]))
        for number, case in enumerate(cases)
    ]


def call_line(call: Call) -> str:
    """Return a call as a shell would be reported of it."""
    parts = [f"{name}={shell_line([value])}" for name, value in call.env]
    parts += [shell_line(call.words)] if call.words else []
    if call.stdin is not None:
        parts.append(f"< {shell_line([call.stdin])}")
    elif call.stdin_file is not None:
        parts.append(f"< {call.stdin_file}")
    return " ".join(parts)


def write_results(
    screen: Screen, options: argparse.Namespace, results: Sequence[CallResult], asked: Asked
) -> None:
    """Write calls and their results into a spec (--write), or begin one (--new). Raises Misuse."""
    from keen_matrix.cli.kept import write_kept
    from keen_matrix.core.runs.keeping.call_rows import BROKEN, matrices_of
    from keen_matrix.core.runs.keeping.trying import KeptText

    kept = [each for each in results if options.broken or each.record.verdict not in BROKEN]
    for each in results:
        if each.record.verdict in BROKEN and not options.broken:
            what = verdict_text(each.record.verdict)
            line = shell_line(each.call.words) or "(no words)"
            remark(f"not saved, because it {what}: {line} (--broken saves it)")
    if not kept:
        raise Misuse("no call is left to save")
    here = os.path.dirname(os.path.abspath(options.new or asked.path))
    if options.new is not None:
        more, files, _ = matrices_of(kept, here, ())
        begin_spec(screen, options.new, f"{asked.beginning}\n{more}", files)
        return
    whole, left, joined = _joined(asked, kept) if not options.write else (asked.text, kept, [])
    taken = [each.name for each in load_spec(asked.path, asked.text).matrices]
    more, files, names = matrices_of(left, here, taken, options.write)
    where = ", ".join(
        [
            *(f'rows of "{each}"' for each in dict.fromkeys(joined)),
            *(f'the matrix "{each}"' for each in names),
        ]
    )
    if more:
        whole = whole.rstrip("\n") + f"\n\n{more}"
    write_kept(screen, asked.path, asked.text, KeptText(whole, where, files))


def _joined(asked: Asked, results: Sequence[CallResult]) -> tuple[str, list[CallResult], list[str]]:
    """Return the text of a spec with those calls that fit a matrix of it as rows, the other calls,
    and the names of these matrices."""
    from keen_matrix.core.runs.keeping.call_rows import is_short
    from keen_matrix.core.runs.keeping.trying import joined_to

    text = asked.text
    left: list[CallResult] = []
    names: list[str] = []
    for each in results:
        call, is_steady = each.call, each.again is None or _same_streams(each.record, each.again)
        spec = load_spec(asked.path, text)
        fits = is_steady and call.is_bare and not each.record.files and is_short(each.record, spec.here)
        found = joined_to(text, spec, each.record) if fits else None
        if found is None:
            left.append(each)
            continue
        text = found[0]
        names.append(found[1])
    return text, left, names


def _same_streams(one: Record, other: Record) -> bool:
    return all(one.compared_stream(name) == other.compared_stream(name) for name in ("stdout", "stderr"))


def begin_spec(screen: Screen, target: str, text: str, files: dict[str, str]) -> None:
    """Write a new spec and the files that it needs, over none that is there."""
    from keen_matrix.core.files import replacing

    directory = os.path.dirname(target)
    for name in (target, *(os.path.join(directory, each) for each in files)):
        if os.path.lexists(name):
            raise Misuse(f"{name} cannot be written: it exists already")
    try:
        for name, content in files.items():
            place = os.path.join(directory, name)
            os.makedirs(os.path.dirname(place), exist_ok=True)
            with replacing(place) as file:
                file.write(content.encode("utf-8", "surrogateescape"))
        with replacing(target) as file:
            file.write(text.encode())
    except OSError as error:
        raise Misuse(f"{target} cannot be written: {error.strerror}") from None
    load_spec(target)  # what we write must be right
    screen.line()
    screen.line(
        (target, "place"), " written; run it: ", (shell_line(["keen-matrix", "run", target]), "strong")
    )
