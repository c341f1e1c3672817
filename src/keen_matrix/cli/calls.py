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
from keen_matrix.core import interruption
from keen_matrix.core.errors import Misuse, nearest
from keen_matrix.core.launch.launchers import resolved_launch
from keen_matrix.core.model.record import BROKEN
from keen_matrix.core.runs.keeping.call_rows import around_lines
from keen_matrix.core.runs.keeping.calls import Call, read_calls
from keen_matrix.core.spec.editing import literal, toml_text, toml_words
from keen_matrix.core.spec.load import load_spec
from keen_matrix.core.structs import replace
from keen_matrix.core.vectors.unfold import unfold_matrix
from keen_matrix.wording.repeating import answering
from keen_matrix.wording.safe import shell_line

if TYPE_CHECKING:
    from keen_matrix.cli.console.screen import Screen
    from keen_matrix.core.launch.runners import FoundProgram
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
        words=(),
        env=tuple(env),
        files=tuple(files),
        stdin=options.input,
        stdin_file=options.input_file,
        terminal=options.terminal,
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
    #: The beginning of the new spec, where one is begun.
    beginning: str
    #: The program, as it is named to others.
    program: str


def asked_of(options: argparse.Namespace, paths: Sequence[str], words: Sequence[str] | None) -> Asked:
    """Return what the calls of a command line are made of. Raises Misuse."""
    listed = are_many(options)
    if paths:
        text = text_of_spec(paths[0])
        single = None if listed else Call(words=tuple(words or ()))
        head = head_of(text) if options.new is not None else ""
        return Asked(paths[0], text, tuple(words or ()) if listed else (), single, head, paths[0])
    if not words:
        raise Misuse(
            "try needs the words that start a program after --: keen-matrix try --calls calls.txt -- python3 fare.py"
        )
    if options.write is not None:
        raise Misuse("--write needs the spec to write into; --new FILE begins one")
    from keen_matrix.core.runs.keeping.trying import bare_call, typed_program

    started = typed_program(words)
    calls = calls_of(options) or []
    more = [word for call in calls for word in call.words]
    bare = bare_call(started, started.given, in_place=options.in_place, named=more)
    tell_runner(started)
    beginning = beginning_of(started.words, bare.copied, options.new or "new.toml", in_place=options.in_place)
    single = None if listed else Call(words=started.given)
    leading = started.given if listed else ()
    return Asked("try.matrix.toml", bare.head, leading, single, beginning, shlex.join(started.words))


def tell_runner(started: FoundProgram) -> None:
    """Say how a program is started that was typed through a runner."""
    if started.runner and not started.is_through:
        built = "built once, then started" if started.build else "started"
        remark(f"{started.runner}: {built} directly as {shell_line(started.launch)}")
    elif started.is_through:
        remark(
            f"{started.runner}: started for each call, in {started.root}; it may print and exit for itself"
        )


def beginning_of(
    program: Sequence[str], copied: Sequence[str], target: str, *, in_place: bool = False
) -> str:
    """Return the beginning of a new spec of a program: how it is launched, and the files that are
    put into the directory of each case, or that it runs in the directory of the spec."""
    from keen_matrix.core.spec.program_text import program_lines, started_for

    directory = os.path.dirname(os.path.abspath(target))
    lines = ["[program]", *program_lines(started_for(program, directory), directory)]
    lines += ['directory = "spec"'] if in_place else []
    lines += ["[files]"] if copied else []
    for each in copied:
        beside = "{here}/" + literal(os.path.relpath(os.path.abspath(each), directory))
        lines.append(f"{toml_text(literal(each))} = {{ copy = {toml_text(beside)} }}")
    return "\n".join(lines) + "\n"


def head_of(text: str) -> str:
    """Return a spec without its matrices, with which another one begins."""
    import tomlkit

    document = tomlkit.parse(text)
    document.pop("matrix", None)
    return tomlkit.dumps(document)


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


def run_calls(spec: Spec, cases: Sequence[Case], pool: WorkerPool) -> dict[int, Record]:
    """Run cases and return their records by the numbers of the cases, in order: of those that had
    finished, where an interruption ended it."""
    from keen_matrix.core.runs.starting.directly import made_ready
    from keen_matrix.core.runs.starting.once import used_by

    numbered = [replace(case, sequence=number) for number, case in enumerate(cases)]
    found: dict[int, Record] = {}
    try:
        spec = made_ready(spec, remark)
        with used_by(spec, pool, remark):
            pool.plan(spec, resolved_launch(spec))
            for result in pool.results(numbered):
                found[result.sequence] = result.record
    except KeyboardInterrupt:
        if not found:
            raise
        interruption.begin_ending()
    return dict(sorted(found.items()))


def typed_lines(cases: Sequence[Case], calls: Sequence[Call] | None, leading: int) -> list[str]:
    """Return the calls as they are shown: their words, and what is put around them."""
    bare = Call(words=())
    return [
        call_line(replace(calls[number] if calls is not None else bare, words=case.argv[leading:]))
        for number, case in enumerate(cases)
    ]


def call_line(call: Call) -> str:
    """Return a call as it would be typed in a shell."""
    parts = [f"{name}={shell_line([value])}" for name, value in call.env]
    parts += [shell_line(call.words)] if call.words else []
    if call.stdin is not None:
        parts.append(f"< {shell_line([call.stdin])}")
    elif call.stdin_file is not None:
        parts.append(f"< {call.stdin_file}")
    if call.replies:
        parts.append(f"  # {answering([reply for _, reply in call.replies])}")
    elif call.terminal:
        parts.append("  # on a terminal")
    return " ".join(parts)


def call_results(
    spec: Spec,
    cases: Sequence[Case],
    calls: Sequence[Call],
    records: Sequence[Record],
    again: Sequence[Record],
) -> list[CallResult]:
    """Return calls with their results, and those of a second launch; of equal calls the last one
    counts."""
    from keen_matrix.core.runs.keeping.call_rows import CallResult

    around = {each.index: each.steps[0].surroundings for each in spec.matrices if not each.family}
    made = [
        CallResult(replace(call, words=case.argv), record, other, around[case.matrix])
        for case, call, record, other in zip(cases, calls, records, again, strict=True)
    ]
    return list({each.call: each for each in made}.values())


def write_results(
    screen: Screen, options: argparse.Namespace, results: Sequence[CallResult], asked: Asked
) -> None:
    """Write calls and their results into a spec (--write), or begin one (--new). Raises Misuse."""
    from keen_matrix.cli.kept import begin_spec, write_kept
    from keen_matrix.core.runs.keeping.call_rows import lines_around, matrices_of
    from keen_matrix.core.runs.keeping.trying import KeptText

    spec = load_spec(asked.path, asked.text) if options.specs else None
    own = next((each for each in spec.matrices if each.name == options.matrix), None) if spec else None
    around = lines_around(asked.text, own) if own is not None else []
    kept = list(_saved(results, spec if own is None and options.new is None else None, broken=options.broken))
    if not kept:
        raise Misuse("no call is left to save")
    if options.new is not None:
        here = os.path.dirname(os.path.abspath(options.new))
        more, files, _ = matrices_of(kept, here, (), around=around)
        begin_spec(screen, options.new, f"{asked.beginning}\n{more}", files)
        return
    assert spec is not None  # --write is refused without one
    whole, left, joined = _joined(spec, asked.text, kept) if not options.write else (asked.text, kept, [])
    taken = [each.name for each in spec.matrices]
    more, files, names = matrices_of(left, spec.here, taken, options.write, around)
    where = [*(f'rows of "{each}"' for each in joined), *(f'the matrix "{each}"' for each in names)]
    if more:
        whole = whole.rstrip("\n") + f"\n\n{more}"
    write_kept(screen, asked.path, asked.text, KeptText(whole, ", ".join(where), files))


def _saved(results: Sequence[CallResult], spec: Spec | None, *, broken: bool) -> Iterator[CallResult]:
    """Yield the results that are saved, and say why others are not: they are none to go by, or a
    spec has the call."""
    from keen_matrix.core.runs.keeping.trying import single_calls

    there = {case.argv: (matrix, case) for matrix, case in single_calls(spec)} if spec else {}
    for each in results:
        line = call_line(each.call) or "(no words)"
        is_crash = each.record.verdict == "crashed"
        if each.record.verdict in BROKEN and not (broken and is_crash):
            more = " (--broken saves it)" if is_crash else ""
            remark(f"not saved, since it {BROKEN[each.record.verdict]}: {line}{more}")
        elif each.call.is_bare and each.call.words in there:
            matrix, case = there[each.call.words]
            remark(f"not saved, since the spec has it already: {line}: {case.id[:6]} of {matrix.name}")
        else:
            yield each


def _joined(spec: Spec, text: str, results: Sequence[CallResult]) -> tuple[str, list[CallResult], list[str]]:
    """Return the text of a spec with those calls that fit a matrix of it as rows, the other calls,
    and the names of these matrices."""
    from keen_matrix.core.runs.keeping.call_rows import is_short
    from keen_matrix.core.runs.keeping.trying import row_for, with_rows

    left: list[CallResult] = []
    rows: dict[str, list[list[object]]] = {}
    matrices = {each.name: each for each in spec.matrices}
    for each in results:
        is_whole = each.record.verdict not in BROKEN and is_short(each.record, spec.here)
        fits = each.is_steady and not each.record.files and is_whole
        found = row_for(spec, each.record, each.around) if fits and each.around is not None else None
        if found is None:
            left.append(each)
        else:
            rows.setdefault(found.matrix.name, []).append(found.cells)
    for name, cells in rows.items():
        text = with_rows(text, matrices[name], cells)
    return text, left, list(rows)
