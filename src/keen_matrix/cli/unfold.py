"""`keen-matrix unfold`: show the cases without running anything."""

from __future__ import annotations

import argparse
import csv
import itertools
import json
import os
import sys
import time
from collections.abc import Iterator, Sequence
from typing import TYPE_CHECKING, Any

from keen_matrix.cli.shared import (
    add_selection_options,
    add_spec_options,
    find_case,
    spec_paths,
    split_ids,
    tags_of,
)
from keen_matrix.core.errors import Misuse, RunFault
from keen_matrix.core.vectors.ids import SHOWN_ID
from keen_matrix.wording.counts import counted, duration

if TYPE_CHECKING:
    from keen_matrix.cli.console.screen import Screen
    from keen_matrix.core.model.case import Case
    from keen_matrix.core.model.spec import Matrix, Spec

EPILOG = """\
examples:
  keen-matrix unfold fare.matrix.toml              a table for each matrix
  keen-matrix unfold --format shell | head -3      lines to paste into a shell
  keen-matrix unfold --count                       how many cases, and how thoroughly they are combined
  keen-matrix unfold --why k3f9x2                  where a case comes from, and what it must satisfy

The program is not run. If cases depend on a function of the oracle file, that file is executed, and a note says so.
exit status: 0, 2 wrong usage or a wrong spec, 3 no such case
"""

#: Cells that one value gets in the table; longer ones are cut, with their length.
VALUE_WIDTH = 24
#: Lines that are written at a time: the first ones of a product of a billion come at once.
JSON_CHUNK = 500
#: Vectors that are looked at to settle the widths of a table's columns.
TABLE_SAMPLE = 200


def add_options(parser: argparse.ArgumentParser) -> None:
    """Add the options of the command."""
    add_spec_options(parser, ids="show only cases whose ids begin so")
    add_selection_options(parser)
    parser.add_argument(
        "--format",
        choices=["table", "shell", "json", "csv"],
        metavar="FORMAT",
        default="table",
        help="output format: table, shell, json or csv (default: table)",
    )
    parser.add_argument(
        "--why",
        action="store_true",
        help="explain the cases of the IDs: their values, what the signature says about them, their rules",
    )
    parser.add_argument(
        "--count", action="store_true", help="only count: cases, full product, strength, tuples covered"
    )


def main(options: argparse.Namespace) -> int:
    """Run the command and return the exit status."""
    from keen_matrix.cli.console.screen import Screen
    from keen_matrix.core.oracle import asking

    options.ids, names = split_ids(options.specs)
    paths = spec_paths(names)
    screen = Screen(sys.stdout, color=options.color)
    with asking(_tell_oracle):
        return _unfolded(screen, paths, options)


def _tell_oracle(path: str) -> None:
    """Say that an oracle is run: of all that is unfolded only its conditions and expressions need
    that."""
    print(
        f"keen-matrix: the cases depend on the oracle file {os.path.relpath(path)}, which is run",
        file=sys.stderr,
    )


def _unfolded(screen: Screen, paths: Sequence[str], options: argparse.Namespace) -> int:
    from keen_matrix.cli.specs import load_all
    from keen_matrix.core.runs.selecting.selection import nothing_matches

    if options.count:
        for spec in load_all(paths):
            write_counts(screen, spec)
        return 0
    if options.why:
        from keen_matrix.cli.console.why import write_why

        if not options.ids:
            raise Misuse(
                "--why needs the id of a case; keen-matrix unfold shows them. Example: unfold --why k3f9x2"
            )
        specs = load_all(paths)
        for number, found_case in enumerate([find_case(specs, id) for id in options.ids]):
            if number:
                screen.line()
            write_why(screen, *found_case)
        return 0
    found = False
    specs = load_all(paths)
    for spec in specs:
        found |= _FORMATS[options.format](screen, spec, options)
    if not found and options.ids:
        raise RunFault(
            f"no case has an id that begins with {' or '.join(options.ids)}; keen-matrix unfold shows the ids"
        )
    tags = tags_of(options)
    if not found and any(tags):
        from keen_matrix.core.runs.selecting.selection import unknown_tag

        wrong = unknown_tag(specs, tags)
        raise Misuse(wrong or f"no case matches {' '.join(tags.options())}")
    if not found and options.only:
        raise Misuse(nothing_matches(specs, [f"--only {each}" for each in options.only], options.only))
    return 0


def _matrices(spec: Spec, options: argparse.Namespace) -> Iterator[tuple[Matrix, Iterator[Case]]]:
    from keen_matrix.core.runs.selecting.selection import selector
    from keen_matrix.core.vectors.unfold import unfold_matrix

    selected = selector(options.only, tags_of(options), spec)
    ids = tuple(options.ids)
    for matrix in spec.matrices:
        cases: Iterator[Case] = iter(unfold_matrix(spec, matrix))
        if ids:
            # Lazily, as the selection below: of a matrix of millions the one that is looked for may
            # be the first.
            cases = (case for case in cases if case.id.startswith(ids))
        yield matrix, filter(selected, cases) if selected else cases


def _table(screen: Screen, spec: Spec, options: argparse.Namespace) -> bool:
    """Write a table for each matrix: id, the values of its axes and groups, the words."""
    found = False
    for matrix, cases in _matrices(spec, options):
        # The widths of columns are those of a sample, so that the table begins at once, however
        # long it is.
        sample = list(itertools.islice(cases, TABLE_SAMPLE))
        if not sample:
            continue
        if found:
            screen.line()
        found = True
        count = _write_table(screen, spec, matrix, sample, cases)
        screen.line(("  " + counted(count, "case"), "dim"))
    return found


def _write_table(
    screen: Screen, spec: Spec, matrix: Matrix, sample: Sequence[Case], rest: Iterator[Case]
) -> int:
    from keen_matrix.core.width import cells
    from keen_matrix.wording.safe import cut, pad

    if matrix.family:
        return _write_family(screen, spec, matrix, [*sample, *rest])
    names = list(sample[0].values)
    rows = [[_shown(screen, case.values.get(name)) for name in names] for case in sample]
    widths = [
        max(cells(cut(name, VALUE_WIDTH)), *(cells(row[index]) for row in rows))
        for index, name in enumerate(names)
    ]
    screen.line((spec.path, "dim"), "   ", (matrix.name, "strong"), "   ", (matrix.line_text, "dim"))
    head = "  ".join(pad(cut(name, VALUE_WIDTH), width) for name, width in zip(names, widths, strict=True))
    screen.line(("  " + pad("id", SHOWN_ID) + "  " + head + ("  " if names else "") + "words", "dim"))
    count = 0
    for case in itertools.chain(sample, rest):
        shown = [
            pad(_shown(screen, case.values.get(name)), width)
            for name, width in zip(names, widths, strict=True)
        ]
        screen.line("  ", (case.id[:SHOWN_ID], "place"), "  ", "  ".join([*shown, ""]), *_words(case))
        count += 1
    return count


def _write_family(screen: Screen, spec: Spec, matrix: Matrix, cases: Sequence[Case]) -> int:
    """Write a derived family: kind and culprit of each vector, and what was left out."""
    from keen_matrix.core.vectors.derived import family_for
    from keen_matrix.core.width import cells
    from keen_matrix.wording.safe import cut, escape, pad

    screen.line(
        (spec.path, "dim"), "   ", (matrix.name, "strong"), "   ", ("derived from the signature", "dim")
    )
    if spec.grounds is None and matrix.family != "help":
        plan = (
            "only a plan: the base calls of these cases were not tried yet; keen-matrix run tries "
            "them first, and may change the cases"
        )
        screen.line("  ", (plan, "dim"))
    shown = [(case.kind, cut(escape(case.culprit), VALUE_WIDTH)) for case in cases]
    widths = [
        max(cells(head), *(cells(row[at]) for row in shown)) for at, head in enumerate(("kind", "culprit"))
    ]
    screen.line(
        (
            "  "
            + "  ".join((pad("id", SHOWN_ID), pad("kind", widths[0]), pad("culprit", widths[1]), "words")),
            "dim",
        )
    )
    for case, (kind, culprit) in zip(cases, shown, strict=True):
        screen.line(
            "  ",
            (case.id[:SHOWN_ID], "place"),
            "  ",
            pad(kind, widths[0]),
            "  ",
            pad(culprit, widths[1]),
            "  ",
            *_words(case),
            *_others(screen, case),
        )
    for text in family_for(spec, matrix).left_out:
        screen.line(("  left out: ", "dim"), (text, "dim"))
    return len(cases)


def _others(screen: Screen, case: Case) -> list[Any]:
    """Return what else a case launches, to be compared."""
    from keen_matrix.wording.safe import cut, shell_line

    if case.relation is None or not case.more:
        return []
    if case.relation.name == "differs":
        return [(f"  {screen.sign('to')} {len(case.more) // 2 + 1} pairs, one must differ", "dim")]
    others = list(dict.fromkeys(shell_line(words) for words in case.more if words != case.argv))
    text = (
        " ; ".join(others) if others else "once more" if not case.relation.launchers else "by every launcher"
    )
    return [(f"  {screen.sign('to')} {cut(text, 120)}", "dim")]


def _shown(screen: Screen, value: object) -> str:
    from keen_matrix.core.expressions import as_text
    from keen_matrix.wording.safe import cut, escape

    if value is None:
        return screen.sign("dash")
    if isinstance(value, (list, tuple)):
        return cut("[" + ", ".join(as_text(each) or '""' for each in value) + "]", VALUE_WIDTH)
    text = as_text(value)
    return (
        cut(escape(text[:1000]), VALUE_WIDTH)
        if text and text == text.strip()
        else f"'{cut(escape(text[:1000]), VALUE_WIDTH - 2)}'"
    )


def _words(case: Case) -> list[Any]:
    from keen_matrix.wording.safe import cut, shell_line

    if case.fault:
        return [(case.fault, "bad")]
    return [
        cut(
            shell_line(word if len(word) <= 200 else word[:200] + f"…({len(word):,})" for word in case.argv),
            200,
        )
    ]


def _shell(screen: Screen, spec: Spec, options: argparse.Namespace) -> bool:
    """Write one line per vector that can be pasted into a shell."""
    from keen_matrix.cli.shown import shown_launch, surroundings_shown
    from keen_matrix.core.model.case import case_fields
    from keen_matrix.wording.repeating import repeat_line
    from keen_matrix.wording.safe import exact_line, is_written_whole

    found = False
    screen.flush()
    write = sys.stdout.buffer.write
    launch = shown_launch(spec)
    head = exact_line(launch) + " "
    for matrix, cases in _matrices(spec, options):
        around = matrix.steps[0].surroundings
        more = around.terminal or around.dialogue or around.stop or around.meanwhile
        plain = not (around.env or around.files or around.stdin or more or len(matrix.steps) > 1)
        for case in cases:
            found = True
            if plain and (not screen.is_terminal or all(map(is_written_whole, case.argv))):
                write((head + exact_line(case.argv) + "\n").encode("utf-8", "surrogateescape"))
            else:
                fields = case_fields(case, matrix.name)
                line = repeat_line(launch, fields, surroundings_shown(spec, matrix, fields))
                write(f"{line}\n".encode("utf-8", "surrogateescape"))
    return found


def _json(screen: Screen, spec: Spec, options: argparse.Namespace) -> bool:
    """Write one JSON object per vector: the journal's, without an outcome."""
    from keen_matrix.core.model.case import case_fields
    from keen_matrix.core.model.lines import encode
    from keen_matrix.core.oracle import named_functions
    from keen_matrix.core.vectors.derived import family_cases
    from keen_matrix.core.vectors.marking import has_marks
    from keen_matrix.core.vectors.unfold import CaseMaker

    found = False
    write = sys.stdout.buffer.write
    sys.stdout.flush()
    plain = not any(has_marks(spec, matrix) for matrix in spec.matrices)
    if plain and not (options.only or options.tag or options.not_tag or options.ids):
        functions = named_functions(spec.program.oracle)
        for matrix in spec.matrices:
            lines = (
                (encode(case_fields(case, matrix.name)).decode() for case in family_cases(spec, matrix))
                if matrix.family
                else CaseMaker(spec, matrix, functions).json_lines()
            )
            while chunk := "".join(itertools.islice(lines, JSON_CHUNK)):
                found = True
                write(chunk.encode("utf-8", "backslashreplace"))
        return found
    for matrix, cases in _matrices(spec, options):
        for case in cases:
            found = True
            write(encode(case_fields(case, matrix.name)))
    return found


def _csv(screen: Screen, spec: Spec, options: argparse.Namespace) -> bool:
    """Write one CSV row per vector; the columns are the names of all matrices."""
    from keen_matrix.core.expressions import as_text
    from keen_matrix.core.vectors.factors import layout_of

    written = [matrix for matrix in spec.matrices if not matrix.family]
    names = list(dict.fromkeys(name for matrix in written for name in layout_of(matrix).names))
    writer = csv.writer(screen.stream, lineterminator="\n")
    found = False
    for matrix, cases in _matrices(spec, options):
        for case in cases:
            if not found:
                writer.writerow(["id", "matrix", *names, "argv"])
            found = True
            values = (case.values.get(name) for name in names)
            shown = [
                json.dumps(v, ensure_ascii=False) if isinstance(v, (list, tuple)) else as_text(v)
                for v in values
            ]
            writer.writerow([case.id, matrix.name, *shown, json.dumps(case.argv, ensure_ascii=False)])
    return found


_FORMATS = {"table": _table, "shell": _shell, "json": _json, "csv": _csv}


def write_counts(screen: Screen, spec: Spec) -> None:
    """Write how many vectors each matrix has, against the full product, and what they cover."""
    from keen_matrix.core.vectors.counting import counts_of
    from keen_matrix.wording.safe import cut, pad

    width = min(40, max((len(matrix.name) for matrix in spec.matrices), default=0))
    screen.line((spec.path, "strong"))
    total = 0
    exact = True
    for matrix in spec.matrices:
        started = time.perf_counter()
        counts = counts_of(spec, matrix)
        seconds = time.perf_counter() - started
        name = pad(cut(matrix.name, width), width)
        if counts.vectors is None:
            exact = False
            screen.line(
                "  ",
                (name, "strong"),
                "  not counted: its conditions join too many axes; keen-matrix unfold lists the cases",
            )
            continue
        total += counts.vectors
        whole = f" of {counts.product:,} in the full product" if counts.product is not None else ""
        text = f"  {counts.vectors:>12,}{' derived from the signature' if matrix.family else whole}"
        if counts.strength:
            noun = {1: "values", 2: "pairs", 3: "triples"}.get(
                counts.strength, f"sets of {counts.strength} values"
            )
            text += f"; all {counts.tuples:,} {noun} covered"
            text += f", {counts.impossible:,} impossible" if counts.impossible else ""
        if counts.merged:
            text += f"; {counts.merged:,} identical ones merged"
        elif counts.may_merge:
            text += "; identical ones not yet merged"
        screen.line("  ", (name, "strong"), text, (f"  {duration(seconds)}", "dim"))
    screen.line(f"  {pad('in all', width)}  {total:>12,}{'' if exact else ' and those not counted'}")
