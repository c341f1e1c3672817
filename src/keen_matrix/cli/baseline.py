"""`keen-matrix baseline`: baselines: what is new, changed, unused; showing and accepting them."""

from __future__ import annotations

import argparse
import os
import sys
from collections.abc import Iterator
from typing import TYPE_CHECKING

from keen_matrix.cli.shared import add_selection_options, add_spec_options, spec_paths, tags_of, tell_run
from keen_matrix.core.errors import Misuse
from keen_matrix.core.expect.forms.baseline import BaselineForm
from keen_matrix.core.model.record import BROKEN, AspectRecord, Record
from keen_matrix.core.results.journal import DEFAULT_JOURNAL
from keen_matrix.core.results.reading import cases_of
from keen_matrix.core.runs.selecting.selection import selector
from keen_matrix.core.structs import Struct
from keen_matrix.wording.counts import counted

if TYPE_CHECKING:
    from keen_matrix.cli.console.screen import Screen
    from keen_matrix.core.model.case import Case
    from keen_matrix.core.model.spec import Matrix, Spec
    from keen_matrix.wording.signs import Segment

EPILOG = f"""\
examples:
  keen-matrix run                      runs and compares with the accepted outputs; records nothing
  keen-matrix baseline                 lists outputs of the last run that are new or changed, and unused ones
  keen-matrix baseline --show          shows the differences too
  keen-matrix baseline --accept        accepts all of it
  keen-matrix baseline --ask           asks one by one
  keen-matrix baseline --accept --only fares

The outputs are read from the journal of the last run ({DEFAULT_JOURNAL}). Accepted outputs are in the directory
NAME.baselines beside the spec, one text file for each matrix. The output of a case that crashed or timed out is
only accepted with --broken.
exit status: 0 nothing is new, changed or unused, 1 something is, 2 wrong usage or a wrong spec.
"""


def add_options(parser: argparse.ArgumentParser) -> None:
    """Add the options of the command."""
    add_spec_options(parser)
    add_selection_options(parser)
    parser.add_argument(
        "--journal",
        metavar="FILE",
        default=DEFAULT_JOURNAL,
        help="the journal to read (default: that of the last run)",
    )
    how = parser.add_mutually_exclusive_group()
    how.add_argument(
        "--accept", action="store_true", help="accept what is new or changed, and drop what is unused"
    )
    how.add_argument("--ask", action="store_true", help="show each difference and ask")
    parser.add_argument("--show", action="store_true", help="show the differences")
    parser.add_argument(
        "--broken", action="store_true", help="also record the output of cases that crashed or timed out"
    )


class OutputChange(Struct):
    """An output that differs from what is recorded, or that is recorded and no longer used."""

    state: str
    matrix: Matrix
    id: str
    aspect: str
    old: bytes = b""
    new: bytes = b""
    words: str = ""
    verdict: str = ""


def main(options: argparse.Namespace) -> int:
    """Run the command and return the exit status."""
    from keen_matrix.cli.console.screen import Screen
    from keen_matrix.cli.specs import load_all

    screen = Screen(sys.stdout, color=options.color)
    left, found = 0, False
    tell_run(screen, [options.journal])
    for spec in load_all(spec_paths(options.specs), options.journal):
        book = Book(spec, options)
        changes = list(book.changes())
        if not book.came and not options.specs:
            continue
        found = True
        if not book.came:
            raise Misuse(f"{options.journal} has no run of {spec.path}; run it first")
        screen.line(
            (spec.path, "strong"), f"   {_counted(changes) if changes or book.records else NOTHING_RECORDED}"
        )
        accepted = [change for change in changes if decide(screen, change, options)]
        book.accept(accepted)
        left += len(changes) - len(accepted)
        if accepted:
            screen.line("  ", (f"{counted(len(accepted), 'output')} accepted", "good"))
    if not found:
        raise Misuse(f"{options.journal} has no run of the specs below this directory; run them first")
    if left and not (options.accept or options.ask):
        look: list[Segment] = (
            [] if options.show else ["look: ", ("keen-matrix baseline --show", "strong"), "   "]
        )
        screen.line(*look, "accept: ", ("keen-matrix baseline --accept", "strong"))
    return 1 if left else 0


NOTHING_RECORDED = (
    "no expectation records outputs; expect.stdout.baseline = true does, for a stream of a matrix"
)


def _counted(changes: list[OutputChange]) -> str:
    counts = {
        state: sum(change.state == state for change in changes) for state in ("new", "changed", "unused")
    }
    shown = [f"{count} {state}" for state, count in counts.items() if count]
    return ", ".join(shown) or "the baselines are as found"


def decide(screen: Screen, change: OutputChange, options: argparse.Namespace) -> bool:
    """Show a change as asked, and tell whether it is accepted."""
    style = {"new": "good", "changed": "warn", "unused": "dim"}[change.state]
    screen.line(
        "  ",
        (f"{change.state:8}", style),
        (change.id[:6], "place"),
        f"  {change.matrix.name}  {change.aspect}  ",
        (change.words, "dim"),
    )
    if options.show or options.ask:
        write_change(screen, change)
    wanted = bool(options.accept)
    if options.ask:
        screen.flush()
        wanted = ask()
    if wanted and change.verdict in BROKEN and not options.broken:
        screen.line("    ", (f"not accepted: it {BROKEN[change.verdict]}; --broken accepts it anyway", "bad"))
        return False
    return wanted


def write_change(screen: Screen, change: OutputChange) -> None:
    """Write the difference between the recorded output and the new one."""
    from keen_matrix.core.expect.differences import MOST_SHOWN, split_lines
    from keen_matrix.wording.differences import difference_rows
    from keen_matrix.wording.safe import cut, visible_line

    old, new = (raw.decode("utf-8", "surrogateescape") for raw in (change.old, change.new))
    if change.state == "changed":
        for row in difference_rows(screen, old, new):
            screen.line("    ", *row)
        return
    lines = split_lines(new if change.state == "new" else old)
    for line in lines[:MOST_SHOWN]:
        screen.line("    ", (f"{screen.sign('bar')} ", "dim"), cut(visible_line(line), 200))
    if len(lines) > MOST_SHOWN:
        screen.line("    ", (f"and {len(lines) - MOST_SHOWN:,} more lines", "dim"))
    if not lines:
        screen.line("    ", ("nothing", "dim"))


def ask() -> bool:
    """Ask on the terminal; anything but yes is no. End of input is no as well."""
    print("    accept? [y/n] ", end="", flush=True)
    answer = sys.stdin.readline()
    if not answer.endswith("\n"):
        print()
    return answer.strip().lower() in ("y", "yes")


def _case_of(matrix: Matrix, fields: Record) -> Case:
    """Return the case of a record, as far as accepting its outputs needs it."""
    from keen_matrix.core.model.case import Case

    return Case(id=fields.id, matrix=matrix.index, argv=fields.argv, values=fields.values)


class Book:
    """The baselines of a spec, beside what a run came to."""

    def __init__(self, spec: Spec, options: argparse.Namespace) -> None:
        from keen_matrix.core.expect.baselines import baseline_path, read_baselines

        self.spec = spec
        self.selected = selector(options.only, tags_of(options), spec)
        self.paths = {matrix.index: baseline_path(spec.path, matrix.name) for matrix in spec.matrices}
        try:
            self.recorded = {
                index: read_baselines(path) if os.path.exists(path) else {}
                for index, path in self.paths.items()
            }
        except ValueError as error:
            raise Misuse(str(error)) from None
        self.words: dict[int, dict[str, str]] = {}
        self.came = {fields.id: fields for fields in self._of_this_spec(options.journal)}

    def _of_this_spec(self, journal: str) -> Iterator[Record]:
        path = os.path.abspath(self.spec.path)
        return (record for header, record in cases_of([journal]) if os.path.abspath(header.spec) == path)

    @property
    def records(self) -> bool:
        """Whether there are baselines, or expectations of the spec that look at them."""
        rules = [
            rule
            for matrix in self.spec.matrices
            for rule in (*matrix.rules, *(r for s in matrix.steps for r in s.rules))
        ]
        aspects = [aspect for rule in (*self.spec.rules, *rules) for aspect in rule.aspects.values()]
        return any(self.recorded.values()) or any(
            isinstance(form, BaselineForm) for aspect in aspects for form in getattr(aspect, "forms", ())
        )

    def changes(self) -> Iterator[OutputChange]:
        """Yield what is new and changed, case by case, and what is unused."""
        from keen_matrix.core.oracle import OracleNotRun, asking, forbidden
        from keen_matrix.core.vectors.unfold import unfold_matrix
        from keen_matrix.wording.safe import shell_line

        for matrix in self.spec.matrices:
            known: set[str] = set()
            words = self.words[matrix.index] = {}
            recorded = self.recorded[matrix.index]
            ours = (fields for fields in self.came.values() if fields.matrix == matrix.name)
            if not recorded and not any(map(self._aspects, ours)):
                continue
            try:
                with asking(forbidden):
                    cases: list[Case] = list(unfold_matrix(self.spec, matrix))
            except OracleNotRun:  # the run's own vectors do, but for telling what is no longer used
                cases = [
                    _case_of(matrix, fields) for fields in self.came.values() if fields.matrix == matrix.name
                ]
                known |= set(recorded)
            for case in cases:
                known.add(case.id)
                words[case.id] = shell_line(case.argv)
                if self._wanted(case):
                    yield from self._changed(matrix, case, words[case.id])
            for id in recorded if self.selected is None else ():
                if id not in known:
                    for aspect, old in recorded[id].items():
                        yield OutputChange("unused", matrix, id, aspect, old=old)

    def _wanted(self, case: Case) -> bool:
        return case.id in self.came and (self.selected is None or self.selected(case))

    @staticmethod
    def _aspects(fields: Record) -> list[AspectRecord]:
        return [
            each for each in fields.aspects if each.recorded is not None or each.recorded_base64 is not None
        ]

    def _changed(self, matrix: Matrix, case: Case, words: str) -> Iterator[OutputChange]:
        from keen_matrix.core.model.record import kept_bytes

        fields = self.came[case.id]
        for aspect in self._aspects(fields):
            new = kept_bytes(aspect, "recorded")
            old = self.recorded[matrix.index].get(case.id, {}).get(aspect.aspect)
            if old != new:
                state = "new" if old is None else "changed"
                yield OutputChange(
                    state, matrix, case.id, aspect.aspect, old or b"", new, words, fields.verdict
                )

    def accept(self, changes: list[OutputChange]) -> None:
        """Write what was accepted. Raises RunFault when a file cannot be written."""
        from keen_matrix.core.errors import RunFault
        from keen_matrix.core.expect.baselines import write_baselines, written_baselines

        touched = {change.matrix.index: change.matrix for change in changes}
        for change in changes:
            section = self.recorded[change.matrix.index].setdefault(change.id, {})
            if change.state == "unused":
                section.pop(change.aspect, None)
            else:
                section[change.aspect] = change.new
        for index, matrix in touched.items():
            entries = {id: each for id, each in self.recorded[index].items() if each}
            try:
                if entries:
                    name = os.path.basename(self.spec.path)
                    write_baselines(
                        self.paths[index], written_baselines(matrix.name, name, entries, self.words[index])
                    )
                else:
                    os.unlink(self.paths[index])
            except OSError as error:
                raise RunFault(f"{self.paths[index]} cannot be written: {error.strerror}") from None
