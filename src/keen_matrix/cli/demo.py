"""`keen-matrix demo`: put the sample ferry office in a directory and run it, sound and faulty."""

from __future__ import annotations

import argparse
import os
import shutil
import sys
from collections import Counter
from collections.abc import Iterator, Sequence
from importlib.resources import as_file, files
from typing import TYPE_CHECKING

from keen_matrix.cli.launching import early_pool
from keen_matrix.cli.shared import add_color, whole_number
from keen_matrix.core.errors import Misuse
from keen_matrix.core.launch.launchers import resolved_launch
from keen_matrix.core.launch.warm.warmcheck import Launched
from keen_matrix.core.launch.workers.links import default_jobs
from keen_matrix.core.model.record import Record
from keen_matrix.core.results.journal import Journal, header
from keen_matrix.core.runs.selecting.selection import Selection
from keen_matrix.core.runs.starting.warmth import trusted_warm_plan
from keen_matrix.core.structs import Struct, field, replace
from keen_matrix.wording.counts import counted

if TYPE_CHECKING:
    from keen_matrix.cli.console.screen import Screen
    from keen_matrix.core.expressions import Expression, Scope
    from keen_matrix.core.launch.workers.engine import WorkerPool
    from keen_matrix.core.model.spec import Spec

EPILOG = """\
example:
  keen-matrix demo            writes and runs ./ferry-office
  keen-matrix demo somewhere  the same in another directory

Each program of the ferry office has a sound and a faulty edition. The demo runs the same specs on both and shows
which of the planted bugs the specs found.
exit status: 0 they found exactly those, 1 they did not, 2 wrong usage, or the directory cannot be written
"""

PROGRAMS = ("fare", "tide", "manifest")


def add_options(parser: argparse.ArgumentParser) -> None:
    """Add the options of the command."""
    parser.add_argument(
        "directory",
        nargs="?",
        default="ferry-office",
        metavar="DIRECTORY",
        help="where to put it (default: ./ferry-office); existing files are kept",
    )
    parser.add_argument(
        "--jobs", type=whole_number, metavar="N", help="launches at a time (default: the processors)"
    )
    add_color(parser)


def main(options: argparse.Namespace) -> int:
    """Run the command and return the exit status."""
    jobs = options.jobs or default_jobs()
    with early_pool(jobs) as pool:
        from keen_matrix.cli.console.screen import Screen

        screen = Screen(sys.stdout, color=options.color)
        written, kept = write_office(options.directory)
        screen.line(
            "The ferry office is in ",
            (options.directory, "place"),
            f": {counted(written, 'file')} written",
            f", {counted(kept, 'file')} kept as they were." if kept else ".",
        )
        demo = Demo(pool, screen, options.directory, jobs)
        return demo.run()


def write_office(directory: str) -> tuple[int, int]:
    """Copy the ferry office into a directory, never over a file; return how many were written and
    how many kept."""
    written = kept = 0
    try:
        with as_file(files("keen_matrix.demo") / "office") as office:
            for source in sorted(office.rglob("*")):
                if not source.is_file() or "__pycache__" in source.parts or source.parts[-1] == "__init__.py":
                    continue
                target = os.path.join(directory, source.relative_to(office))
                if os.path.lexists(target):
                    kept += 1
                    continue
                os.makedirs(os.path.dirname(target), exist_ok=True)
                shutil.copyfile(source, target)
                written += 1
    except OSError as error:
        raise Misuse(f"the ferry office cannot be put in {directory}: {error.strerror}") from None
    return written, kept


class PlantedFault(Struct):
    """A fault planted in a faulty edition, and the vectors in which it shows."""

    program: str
    name: str
    #: Matrices or families, and the vectors of each in which it shows (None: all).
    shows: tuple[tuple[str, Expression | None], ...]
    shown: int = 0


class Edition(Struct):
    """The result of running one spec on one edition of its program."""

    counts: Counter[str] = field(default_factory=Counter)
    failed: list[tuple[str, Record]] = field(default_factory=list)


class Demo:
    """Runs every spec on both editions and compares the failures with the planted faults."""

    def __init__(self, pool: WorkerPool, screen: Screen, directory: str, jobs: int) -> None:
        self.pool, self.screen, self.directory, self.jobs = pool, screen, directory, jobs

    def run(self) -> int:
        """Run everything; return 0 when the sound editions passed and exactly the planted faults
        were found."""
        from keen_matrix.core.spec.load import load_spec

        faults = list(read_faults(os.path.join(self.directory, "faults.toml")))
        unexplained: list[tuple[str, Record]] = []
        sound_failed = 0
        for program in PROGRAMS:
            spec = load_spec(os.path.join(self.directory, f"{program}.matrix.toml"))
            self.screen.line()
            sound = self._edition(spec, "sound")
            faulty = self._edition(faulty_edition(spec), "faulty")
            sound_failed += len(sound.failed)
            unexplained += explain_failures(
                [fault for fault in faults if fault.program == program], faulty.failed, spec
            )
        return self._report(faults, unexplained, sound_failed)

    def _edition(self, spec: Spec, edition: str) -> Edition:
        from keen_matrix.cli.console.progress import Progress
        from keen_matrix.core.launch.workers.engine import Manner
        from keen_matrix.core.results.tally import Tally
        from keen_matrix.core.vectors.unfold import unfold
        from keen_matrix.wording.safe import pad
        from keen_matrix.wording.signs import STYLE_OF, verdict_text

        came, tally = Edition(), Tally(spec)
        launch = resolved_launch(spec)
        warm = None
        if spec.program.warm:
            warm = trusted_warm_plan(Launched(self.pool, spec, launch), Selection(spec, ()), 1.0).plan
        self.pool.plan(spec, launch, Manner(warm=warm))
        names = {matrix.index: matrix.name for matrix in spec.matrices}
        path = os.path.join(self.directory, ".keen-matrix", f"{spec.name}-{edition}.jsonl")
        with Journal(path) as journal, Progress(None, enabled=True, color=self.screen.choice) as progress:
            journal.write_line(header(spec, self.jobs))
            for result in self.pool.results(unfold(spec)):
                fields = tally.add(result, journal.write(result.line))
                progress.step(passed=fields is None)
                if fields is not None:
                    came.failed.append((names[result.matrix], fields))
        came.counts = tally.counts
        total, passed = came.counts.total(), came.counts["passed"]
        worst = "passed" if passed == total else "failed"
        self.screen.line(
            (self.screen.sign(worst), STYLE_OF[worst]),
            f" {pad(spec.name, 9)} {pad(edition, 7)} ",
            (f"{passed:>3} of {total} cases passed", STYLE_OF[worst]),
            *[
                segment
                for verdict in ("failed", "crashed", "timed-out", "not-started")
                if came.counts[verdict]
                for segment in ("   ", (f"{came.counts[verdict]} {verdict_text(verdict)}", STYLE_OF[verdict]))
            ],
        )
        return came

    def _report(
        self, faults: Sequence[PlantedFault], unexplained: Sequence[tuple[str, Record]], sound_failed: int
    ) -> int:
        from keen_matrix.wording.safe import pad, shell_line
        from keen_matrix.wording.signs import legend

        self.screen.line(*legend(self.screen, ("passed", "failed")))
        self.screen.line()
        self.screen.line(("Bugs planted in the faulty editions, and how many cases show each:", "strong"))
        for fault in faults:
            style = "good" if fault.shown else "bad"
            count = f"{fault.shown:>4}" if fault.shown else " not found"
            self.screen.line("  ", (count, style), f"  {pad(fault.program, 9)} {fault.name}")
        for matrix, fields in unexplained:
            self.screen.line("  ", ("not planted", "bad"), f"  {matrix}: {shell_line(fields.argv)}")
        found = sum(1 for fault in faults if fault.shown)
        exactly = found == len(faults) and not unexplained and not sound_failed
        self.screen.line()
        self.screen.line(
            (f"{found} of {len(faults)} planted bugs found, ", "good" if exactly else "bad"),
            (
                f"{counted(len(unexplained), 'other finding')}, the sound editions "
                f"{'passed' if not sound_failed else f'failed {sound_failed} times'}.",
                "good" if exactly else "bad",
            ),
        )
        self.screen.line(
            "Look closer: ",
            (shell_line(["keen-matrix", "run", self.directory]), "strong"),
            "   or break a check in a spec",
        )
        there = f"cd {shell_line([self.directory])}"
        subtle = 'keen-matrix run fare.matrix.toml --program "python3 subtle/fare.py"'
        self.screen.line("A bug that needs three things at once:")
        self.screen.line("  ", (f"{there}; {subtle}; keen-matrix suspects", "strong"))
        self.screen.line("A first spec that says too little, and the edits that complete it:")
        first = "keen-matrix run crossing.toml"
        self.screen.line("  ", (f"{there}; {first}", "strong"))
        return 0 if exactly else 1


def faulty_edition(spec: Spec) -> Spec:
    """Return the spec with the faulty edition of its program instead of the sound one."""
    from keen_matrix.core.expressions import Template
    from keen_matrix.core.notation.nodes import Characters

    launch = tuple(
        Template(
            "",
            parts=tuple(
                Characters(part.text.replace("/sound/", "/faulty/")) if isinstance(part, Characters) else part
                for part in word.parts
            ),
        )
        for word in spec.program.launch
    )
    return replace(spec, program=replace(spec.program, launch=launch))


def read_faults(path: str) -> Iterator[PlantedFault]:
    """Yield the planted faults. Raises Misuse when the list cannot be read."""
    import tomllib

    from keen_matrix.core.expressions import Expression

    try:
        with open(path, "rb") as file:
            for each in tomllib.load(file)["fault"]:
                shows = [
                    (one["matrix"], Expression(one["when"]) if "when" in one else None)
                    for one in each["shows"]
                ]
                yield PlantedFault(each["program"], each["name"], tuple(shows))
    except (OSError, KeyError, TypeError, tomllib.TOMLDecodeError) as error:
        raise Misuse(f"{path} is not a list of planted faults: {error}") from None


def explain_failures(
    faults: Sequence[PlantedFault], failed: Sequence[tuple[str, Record]], spec: Spec
) -> list[tuple[str, Record]]:
    """Count each failing case towards the fault that explains it; return those that none
    explains."""
    from keen_matrix.core.expressions import Scope
    from keen_matrix.core.model.case import case_scope
    from keen_matrix.core.vectors.derived import standing_of

    unexplained = []
    for matrix, fields in failed:
        words = fields.argv
        standing = standing_of(spec.signature, words) if spec.signature else None
        scope = case_scope(fields.values, words, fields.id, spec.here, {}, standing)
        about = {"kind": fields.kind or "", "culprit": fields.culprit or ""}
        scope = Scope({**scope.names, **about}, scope.functions)
        fault = next((each for each in faults if explains(each, matrix, scope)), None)
        if fault is None:
            unexplained.append((matrix, fields))
        else:
            fault.shown += 1
    return unexplained


def explains(fault: PlantedFault, matrix: str, scope: Scope) -> bool:
    """Tell whether a fault shows in a vector of a matrix."""
    return any(name == matrix and (when is None or bool(when.evaluate(scope))) for name, when in fault.shows)
